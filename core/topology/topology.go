// Package topology works out how a site's devices are joined: which port of what
// reaches which network through which VLAN, and where a path breaks. It is
// computed from the interfaces, their VLANs and the cables between them.
package topology

import (
	"fmt"
	"net/netip"
	"slices"

	"lithos/core/site"
)

// End is one end of a cable or one place on a path.
type End struct {
	Device    *site.Device
	Interface *site.Interface
}

func (e End) String() string { return e.Interface.Name + " of " + e.Device.Name }

// Cable joins two interfaces.
type Cable struct{ A, B End }

// Map is what is joined to what at a site. It refers to the document it was
// learnt from.
type Map struct {
	Cables []Cable

	site *site.Site
	peer map[string]End // by interface id
}

// Learn reads the cables of a site. One that names an interface which does not
// exist is left out.
func Learn(s *site.Site) *Map {
	m := &Map{site: s, peer: map[string]End{}}
	for d := range s.Devices {
		for i := range s.Devices[d].Interfaces {
			a := End{&s.Devices[d], &s.Devices[d].Interfaces[i]}
			od, oi, ok := s.Interface(a.Interface.Peer)
			if !ok || m.peer[a.Interface.ID].Interface != nil || m.peer[oi.ID].Interface != nil ||
				oi.ID == a.Interface.ID {
				continue
			}
			b := End{od, oi}
			m.peer[a.Interface.ID], m.peer[oi.ID] = b, a
			m.Cables = append(m.Cables, Cable{a, b})
		}
	}
	return m
}

// Cabled reports whether an interface has a cable to another, by its id.
func (m *Map) Cabled(id string) bool { return m.peer[id].Interface != nil }

// Way is the ends of the cables on the shortest way from one device to another, those of each cable after one another;
// empty where none leads there.
func (m *Map) Way(from, to string) []End {
	ways := map[string][]End{from: {}} // by device
	for next := []string{from}; len(next) > 0; next = next[1:] {
		for _, c := range m.Cables {
			for _, ends := range [][]End{{c.A, c.B}, {c.B, c.A}} {
				if _, seen := ways[ends[1].Device.ID]; seen || ends[0].Device.ID != next[0] {
					continue
				}
				ways[ends[1].Device.ID] = append(slices.Clone(ways[next[0]]), ends...)
				next = append(next, ends[1].Device.ID)
			}
		}
	}
	return ways[to]
}

// carrier is the port or port group that a port's frames belong to: the group it
// is a member of, else itself.
func carrier(d *site.Device, port *site.Interface) *site.Interface {
	for i := range d.Interfaces {
		if slices.Contains(d.Interfaces[i].Members, port.Name) {
			return &d.Interfaces[i]
		}
	}
	return port
}

// Tagged lists the VLAN ids whose frames pass a port with a tag: those listed on
// it, and those of VLAN interfaces it carries.
func Tagged(d *site.Device, port *site.Interface) []int {
	group := carrier(d, port)
	out := append(slices.Clone(port.Tagged), group.Tagged...)
	for _, i := range d.Interfaces {
		if i.Kind == site.VLAN && i.VLAN > 0 && i.Parent != "" && (i.Parent == port.Name || i.Parent == group.Name) {
			if port.Untagged != i.VLAN && group.Untagged != i.VLAN {
				out = append(out, i.VLAN)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Untagged is the VLAN id of a port's untagged frames, 0 where none is recorded.
func Untagged(d *site.Device, port *site.Interface) int {
	if port.Untagged != 0 {
		return port.Untagged
	}
	return carrier(d, port).Untagged
}

// ports lists the physical interfaces of a device that take cables.
func ports(d *site.Device) []*site.Interface {
	var out []*site.Interface
	for i := range d.Interfaces {
		switch f := &d.Interfaces[i]; {
		case f.Kind == site.Port, f.Kind == site.PortGroup && len(f.Members) == 0, f.Kind == site.Uplink &&
			f.Peer != "":
			out = append(out, f)
		}
	}
	return out
}

// Hop is a frame's way over one cable.
type Hop struct {
	From, To End
	Tag      int // 0 for a frame without a tag
}

// Break is where frames of a network are lost.
type Break struct {
	From, To End
	Rule     string
	Says     string
}

// Path is how far a network's frames go.
type Path struct {
	Homes  []End // the interfaces that have an address in the network
	Hops   []Hop
	Plugs  []End // ports where a client can be plugged in and be on the network
	Trunks []End // ports of switches without a cable that carry it with a tag: an access point may be there
	Breaks []Break
	// Drawn reports whether the site records any cable or access port, so that
	// the lack of a plug means something.
	Drawn bool
	// Segments are the parts of it between which no frame passes; one where it is whole.
	Segments []Segment
}

// Segment is what frames of a network pass between.
type Segment struct{ Homes, Plugs []End }

// Has reports whether an interface has its address in a segment.
func (s Segment) Has(device, iface string) bool {
	return slices.ContainsFunc(s.Homes, func(e End) bool { return e.Device.ID == device && e.Interface.Name == iface })
}

// Path follows the frames of a network from its interfaces outward.
func (m *Map) Path(n *site.Network) Path {
	w := newWalk(m, n)
	w.path.Drawn = len(m.Cables) > 0
	for d := range m.site.Devices {
		dev := &m.site.Devices[d]
		for i := range dev.Interfaces {
			if f := &dev.Interfaces[i]; holds(f, n) {
				w.path.Homes = append(w.path.Homes, End{dev, f})
			}
		}
	}
	for i, home := range w.path.Homes {
		w.part = i
		w.path.Segments = append(w.path.Segments, Segment{Homes: []End{home}})
		w.leaveHome(home)
	}
	w.path.Segments = slices.DeleteFunc(w.path.Segments, func(s Segment) bool { return len(s.Homes) == 0 })
	return w.path
}

func holds(f *site.Interface, n *site.Network) bool {
	return slices.ContainsFunc(f.Addresses, func(a netip.Prefix) bool { return n.Prefix.Masked().Contains(a.Addr()) })
}

// place is one VLAN of one device, 0 for frames of no VLAN.
type place struct {
	device string
	group  string // of a device that is no switch, the port or group
	vlan   int
}

type walk struct {
	*Map
	net    *site.Network
	path   Path
	seen   map[place]int // in which segment
	part   int           // the segment that is walked
	broken map[[2]string]bool
}

func newWalk(m *Map, n *site.Network) *walk {
	return &walk{Map: m, net: n, seen: map[place]int{}, broken: map[[2]string]bool{}}
}

// leaveHome sends a frame from an interface with an address.
func (w *walk) leaveHome(home End) {
	f := home.Interface
	vlan, on := f.VLAN, f
	if f.Kind == site.VLAN {
		if parent, ok := home.Device.Interface(f.Parent); ok {
			on = parent
		} else if !home.Device.IsSwitch() {
			return
		}
	} else {
		vlan = Untagged(home.Device, f)
	}
	w.spread(home.Device, carrier(home.Device, on), vlan, nil)
}

// spread sends frames of a VLAN out of every port of a device that carries it,
// but the one they came in by. group is what bounds it on a device that is no
// switch.
func (w *walk) spread(d *site.Device, group *site.Interface, vlan int, from *site.Interface) {
	p := place{d.ID, group.Name, vlan}
	if d.IsSwitch() {
		p.group = ""
	}
	if part, seen := w.seen[p]; seen {
		w.join(part)
		return
	}
	w.seen[p] = w.part
	for _, port := range ports(d) {
		if port == from || !d.IsSwitch() && port != group && carrier(d, port) != group {
			continue
		}
		tagged := vlan != 0 && slices.Contains(Tagged(d, port), vlan)
		plain := !tagged && Untagged(d, port) == vlan
		switch {
		case !tagged && !plain:
		case w.peer[port.ID].Interface == nil:
			if tagged && d.IsSwitch() {
				w.path.Trunks = append(w.path.Trunks, End{d, port})
			}
			if plain && port.Kind != site.Uplink && len(port.Addresses) == 0 {
				plug := End{d, port}
				w.path.Plugs = append(w.path.Plugs, plug)
				walked := &w.path.Segments[w.part]
				walked.Plugs = append(walked.Plugs, plug)
			}
		default:
			w.cross(End{d, port}, w.peer[port.ID], vlan, tagged)
		}
	}
}

// join makes one segment of another and the one that is walked.
func (w *walk) join(other int) {
	if other == w.part {
		return
	}
	from, to := &w.path.Segments[other], &w.path.Segments[w.part]
	to.Homes = append(from.Homes, to.Homes...)
	to.Plugs = append(from.Plugs, to.Plugs...)
	*from = Segment{}
	for p, part := range w.seen {
		if part == other {
			w.seen[p] = w.part
		}
	}
}

// cross takes a frame over a cable, and on when the far end takes it.
func (w *walk) cross(from, to End, vlan int, tagged bool) {
	theirs := Untagged(to.Device, to.Interface)
	taken := slices.Contains(Tagged(to.Device, to.Interface), vlan)
	lost := func(rule, says string) {
		key := [2]string{from.Interface.ID, to.Interface.ID}
		if !w.broken[key] {
			w.broken[key] = true
			w.path.Breaks = append(w.path.Breaks, Break{from, to, rule, says})
		}
	}
	switch {
	case tagged && !taken && theirs == vlan:
		lost("vlan-on-one-side-only",
			fmt.Sprintf("%s sends VLAN %d with a tag, and %s takes it without one", from, vlan, to))
	case tagged && !taken:
		lost("vlan-on-one-side-only", fmt.Sprintf("%s sends VLAN %d, and %s does not take it", from, vlan, to))
	case !tagged && taken && vlan != 0 && theirs != vlan:
		lost("vlan-on-one-side-only",
			fmt.Sprintf("%s sends VLAN %d without a tag, and %s takes it with one", from, vlan, to))
	case !tagged && vlan != 0 && theirs != 0 && theirs != vlan:
		lost("untagged-vlan-differs",
			fmt.Sprintf("frames of VLAN %d leave %s without a tag, and become VLAN %d at %s", vlan, from, theirs, to))
	default:
		hop := Hop{From: from, To: to}
		inside := vlan
		if tagged {
			hop.Tag = vlan
		} else if inside = theirs; inside == 0 {
			inside = vlan * boolInt(to.Device.IsSwitch()) // a port that says nothing takes plain frames as they are
		}
		w.path.Hops = append(w.path.Hops, hop)
		w.spread(to.Device, carrier(to.Device, to.Interface), inside, to.Interface)
	}
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}
