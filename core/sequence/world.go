package sequence

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/topology"
	"lithos/core/yang"
)

// world is a site in which some devices are on their way to what they shall hold.
type world struct {
	base, goal *site.Site
	chains     []chain
	fixed      map[string]yang.Config // what the other devices hold all the time, by id
	edges      []string               // devices by which the site is entered: those with an uplink
	start      map[string]yang.Config // what the devices of the push hold before it
	before     picture
	after      picture
	ties       map[string][]string // by network: what holds it together before and after
	leases     map[string]bool     // networks that have DHCP, before or after
	known      map[string]verdict  // by the places of all chains
}

// picture is what is so in one state.
type picture struct {
	served   map[string]bool     // networks whose clients get an answer, and have their gateway
	ties     map[string][]string // what holds each network together
	ways     map[string][]string // to the devices that can be reached: the addresses at which they are
	collides map[string]bool     // sentences
}

// trouble is something that is so in a state and neither before nor after the push.
type trouble struct {
	kind, says string
	network    string // whose clients are not served; its id
}

// verdict is what is wrong in a state, and whether a device is reached by another way than before already while another
// device has steps to come.
type verdict struct {
	troubles []trouble
	early    bool
}

func newWorld(base, goal *site.Site, devices []Device) *world {
	w := &world{base: base, goal: goal, fixed: map[string]yang.Config{}, known: map[string]verdict{},
		start: map[string]yang.Config{}, ties: map[string][]string{}, leases: map[string]bool{}}
	for _, p := range slices.Concat(base.Pools, goal.Pools) {
		w.leases[p.Network] = w.leases[p.Network] || p.Enabled
	}
	for _, d := range goal.Devices {
		w.fixed[d.ID] = compile.Device(goal, d.ID)
		if slices.ContainsFunc(d.Interfaces, func(i site.Interface) bool { return i.Kind == site.Uplink }) {
			w.edges = append(w.edges, d.ID)
		}
	}
	end := map[string]yang.Config{}
	for _, d := range devices {
		w.start[d.ID], end[d.ID] = d.Running, d.Goal
	}
	was, is := w.look(w.start), w.look(end)
	for id, ties := range was.ties {
		w.ties[id] = slices.DeleteFunc(ties, func(t string) bool { return !slices.Contains(is.ties[id], t) })
	}
	w.before, w.after = w.look(w.start), w.look(end)
	return w
}

// waysWith is the addresses at which a device is reached that holds c, all others being as they were.
func (w *world) waysWith(device string, c yang.Config) []string {
	on := maps.Clone(w.start)
	on[device] = c
	return w.look(on).ways[device]
}

// cutsOff reports whether a change of a device takes away every address at which it is reached.
func (w *world) cutsOff(device string, was, now yang.Config) bool {
	had, left := w.waysWith(device, was), w.waysWith(device, now)
	return len(had) > 0 && !slices.ContainsFunc(had, func(a string) bool { return slices.Contains(left, a) })
}

// losesWay reports whether a device is not reached any more after a change of it.
func (w *world) losesWay(device string, was, now yang.Config) bool {
	return len(w.waysWith(device, was)) > 0 && len(w.waysWith(device, now)) == 0
}

// holding is what each device holds where the chains are at some places.
func (w *world) holding(at []int) map[string]yang.Config {
	out := map[string]yang.Config{}
	for i, c := range w.chains {
		out[c.ID] = c.states[at[i]]
	}
	return out
}

// judge lists what is wrong where the chains are at some places.
func (w *world) judge(at []int) verdict {
	key := fmt.Sprint(at)
	if found, ok := w.known[key]; ok {
		return found
	}
	p := w.look(w.holding(at))
	var v verdict
	out := &v.troubles
	for _, n := range w.goal.Networks {
		if w.before.served[n.ID] && w.after.served[n.ID] && !p.served[n.ID] {
			*out = append(*out, trouble{Unserved, w.unserved(&n), n.ID})
		}
	}
	for i, c := range w.chains {
		if had := w.before.ways[c.ID]; len(had) > 0 && !slices.ContainsFunc(had,
			func(a string) bool { return slices.Contains(p.ways[c.ID], a) }) {
			v.early = v.early || w.left(at, i)
		}
		if !c.ByHand && at[i] < len(c.steps) && len(w.before.ways[c.ID]) > 0 && len(p.ways[c.ID]) == 0 {
			*out = append(*out, trouble{kind: Lost, says: c.Name + " cannot be reached, and has steps to come"})
		}
	}
	for says := range p.collides {
		if !w.before.collides[says] && !w.after.collides[says] {
			*out = append(*out, trouble{kind: Collides, says: says})
		}
	}
	w.known[key] = v
	return v
}

// unserved says that a network is not served.
func (w *world) unserved(n *site.Network) string {
	switch {
	case w.leases[n.ID]:
		return "Clients of " + n.Name + " get no answer, or have no gateway"
	case n.Gateway.IsValid():
		return "Devices in " + n.Name + " are cut off from its gateway"
	}
	return "Devices in " + n.Name + " are cut off from each other"
}

// left reports whether a chain other than i has steps to come.
func (w *world) left(at []int, i int) bool {
	for k, c := range w.chains {
		if k != i && at[k] < len(c.steps) {
			return true
		}
	}
	return false
}

// look works out what is so where some devices hold something else than what they always do.
func (w *world) look(on map[string]yang.Config) picture {
	s := *w.goal
	s.Devices = slices.Clone(s.Devices)
	held := map[string]yang.Config{}
	for i := range s.Devices {
		d := &s.Devices[i]
		c, moves := on[d.ID]
		if !moves {
			c = w.fixed[d.ID]
		}
		held[d.ID] = c
		d.Interfaces = w.interfaces(d, c)
	}
	m := topology.Learn(&s)
	v := view{world: w, Site: &s, running: held, paths: map[netip.Prefix]topology.Path{}, links: m}
	p := picture{served: map[string]bool{}, ties: map[string][]string{}, ways: v.reach(), collides: v.collisions()}
	for i := range w.goal.Networks {
		n := &w.goal.Networks[i]
		was, had := w.base.Network(n.ID)
		p.ties[n.ID] = v.tied(n)
		p.served[n.ID] = v.serves(n, p.ties[n.ID])
		if had && (was.Prefix != n.Prefix || was.Gateway != n.Gateway) {
			tied := v.tied(was)
			p.served[n.ID] = p.served[n.ID] || v.serves(was, tied)
			p.ties[n.ID] = append(p.ties[n.ID], tied...)
		}
	}
	return p
}

// interfaces is a device's interfaces as its configuration has them, with the cables of the site's.
func (w *world) interfaces(d *site.Device, c yang.Config) []site.Interface {
	out := topology.ConfiguredInterfaces(d.ID, c)
	for i := range out {
		f := &out[i]
		known, ok := d.Interface(f.Name)
		if !ok {
			if was, had := w.base.Device(d.ID); had {
				known, ok = was.Interface(f.Name)
			}
		}
		if ok {
			f.ID, f.Peer = known.ID, known.Peer
		}
	}
	return out
}

// view is the site in one state.
type view struct {
	*world
	*site.Site
	running map[string]yang.Config
	links   *topology.Map
	paths   map[netip.Prefix]topology.Path
}

func (v view) path(n *site.Network) topology.Path {
	p, ok := v.paths[n.Prefix]
	if !ok {
		p = v.links.Path(n)
		v.paths[n.Prefix] = p
	}
	return p
}

// serves reports whether a network, as its subnet is in n, is held together by all that must, has its gateway, and its
// clients are answered where it has any.
func (v view) serves(n *site.Network, tied []string) bool {
	homes := v.path(n).Homes
	if len(homes) == 0 || n.Gateway.IsValid() && !v.holds(n.Gateway) {
		return false
	}
	if v.leases[n.ID] && !slices.ContainsFunc(homes, func(home topology.End) bool { return v.answersAt(home, n) }) {
		return false
	}
	return !slices.ContainsFunc(v.ties[n.ID], func(t string) bool { return !slices.Contains(tied, t) })
}

// holds reports whether some device has an address.
func (v view) holds(a netip.Addr) bool {
	_, ok := v.holder(a)
	return ok
}

func (v view) holder(a netip.Addr) (*site.Device, bool) { return holderOf(v.Devices, a) }

func holderOf(devices []site.Device, a netip.Addr) (*site.Device, bool) {
	for i := range devices {
		for _, f := range devices[i].Interfaces {
			if slices.ContainsFunc(f.Addresses, func(p netip.Prefix) bool { return p.Addr() == a }) {
				return &devices[i], true
			}
		}
	}
	return nil, false
}

// tied lists what holds a network together: the ports that its gateway is joined to, and those where clients are
// answered; whether the gateway is where they are answered; and, where it has no DHCP, whose addresses are on it.
func (v view) tied(n *site.Network) []string {
	var out []string
	leases := v.leases[n.ID]
	for i, s := range v.path(n).Segments {
		gate := slices.ContainsFunc(s.Homes, func(e topology.End) bool {
			return slices.ContainsFunc(e.Interface.Addresses,
				func(p netip.Prefix) bool { return p.Addr() == n.Gateway })
		})
		gate = gate || !n.Gateway.IsValid() && i == 0
		answers := leases && slices.ContainsFunc(s.Homes, func(e topology.End) bool { return v.answersAt(e, n) })
		if gate && answers {
			out = append(out, "answered beside the gateway")
		}
		for _, e := range s.Plugs {
			if gate {
				out = append(out, "gateway at "+e.Interface.ID)
			}
			if answers {
				out = append(out, "answered at "+e.Interface.ID)
			}
		}
		for _, e := range s.Homes {
			if gate && !leases {
				out = append(out, fmt.Sprint("gateway for ", e, e.Interface.Addresses))
			}
		}
	}
	return out
}

// answersAt reports whether requests heard on an interface are answered: by a pool there, or through a relay.
func (v view) answersAt(home topology.End, n *site.Network) bool {
	subnet := n.Prefix.Masked()
	here := v.running[home.Device.ID]
	if !home.Interface.Permitted(site.PermitDHCP) {
		return false
	}
	if slices.ContainsFunc(here.DHCP.Pool, func(p yang.Pool) bool {
		return p.Enabled && p.Subnet == subnet && p.Interface == home.Interface.Name
	}) {
		return true
	}
	for _, r := range here.Relays.Relay {
		if r.Interface != home.Interface.Name {
			continue
		}
		for _, to := range r.Server {
			if server, ok := v.holder(to); ok && v.anyPool(server, subnet) {
				return true
			}
		}
	}
	return false
}

// anyPool reports whether a server has a pool for relayed clients of a subnet that it also has an interface in.
func (v view) anyPool(server *site.Device, subnet netip.Prefix) bool {
	return slices.ContainsFunc(v.running[server.ID].DHCP.Pool,
		func(p yang.Pool) bool { return p.Enabled && p.Subnet == subnet })
}

// reach is the devices that can be reached, with the addresses at which they are: from where the site is entered, over
// networks that are joined, through what routes between them.
func (v view) reach() map[string][]string {
	out := map[string][]string{}
	for i := range v.Devices {
		d := &v.Devices[i]
		switch uplinks := uplinksOf(d); {
		case len(v.edges) == 0 || len(v.links.Cables) == 0:
			out[d.ID] = []string{"?"} // nothing is recorded by which it could be told
		case slices.Contains(v.edges, d.ID) && len(uplinks) > 0:
			out[d.ID] = uplinks
		}
	}
	for again := true; again; {
		again = false
		for i := range v.Devices {
			d := &v.Devices[i]
			if len(out[d.ID]) > 0 {
				continue
			}
			if ways := v.waysTo(d, out); len(ways) > 0 {
				out[d.ID], again = ways, true
			}
		}
	}
	return out
}

// uplinksOf is the ways into a site by a device, as words that differ when a way does.
func uplinksOf(d *site.Device) []string {
	var out []string
	for _, f := range d.Interfaces {
		if f.Kind == site.Uplink {
			out = append(out, fmt.Sprint(f.Name, f.Addresses))
		}
	}
	return out
}

// waysTo is the addresses of a device in networks over which a device that is reached and routes sends it frames.
func (v view) waysTo(d *site.Device, reached map[string][]string) []string {
	var out []string
	for _, f := range d.Interfaces {
		for _, a := range f.Addresses {
			p := v.path(&site.Network{Prefix: a.Masked()})
			if slices.ContainsFunc(p.Segments, func(s topology.Segment) bool {
				return s.Has(d.ID, f.Name) && slices.ContainsFunc(s.Homes, func(home topology.End) bool {
					h := home.Device
					return h.ID != d.ID && len(reached[h.ID]) > 0 && h.Kind != site.L2Switch
				})
			}) {
				out = append(out, a.Addr().String())
			}
		}
	}
	return out
}

// collisions lists what two devices hold though only one may: an address, overlapping subnets that are not the same,
// addresses of the same subnet that two servers hand out.
func (v view) collisions() map[string]bool {
	out := map[string]bool{}
	type held struct {
		device string
		name   string
		prefix netip.Prefix
	}
	var all []held
	for i := range v.Devices {
		d := &v.Devices[i]
		for _, f := range d.Interfaces {
			for _, a := range f.Addresses {
				if a.Addr().IsLoopback() || f.Kind == site.Uplink {
					continue
				}
				for _, o := range all {
					switch {
					case o.device == d.ID:
					case o.prefix.Addr() == a.Addr():
						out[fmt.Sprintf("%s and %s both have `%s`", o.name, d.Name, a.Addr())] = true
					case o.prefix.Masked() != a.Masked() && o.prefix.Overlaps(a):
						out[fmt.Sprintf("`%s` of %s overlaps `%s` of %s", o.prefix.Masked(), o.name, a.Masked(),
							d.Name)] = true
					}
				}
				all = append(all, held{d.ID, d.Name, a})
			}
		}
	}
	v.twice(out)
	return out
}

// twice adds the pools of two servers that hand out the same addresses.
func (v view) twice(out map[string]bool) {
	for i := range v.Devices {
		for j := range i {
			a, b := &v.Devices[j], &v.Devices[i]
			for _, p := range v.running[a.ID].DHCP.Pool {
				for _, q := range v.running[b.ID].DHCP.Pool {
					if p.Enabled && q.Enabled && p.Subnet.Overlaps(q.Subnet) && share(p, q) {
						out[fmt.Sprintf("%s and %s both hand out addresses of `%s`", a.Name, b.Name, p.Subnet)] = true
					}
				}
			}
		}
	}
}

func share(p, q yang.Pool) bool {
	return slices.ContainsFunc(p.Range, func(r yang.Span) bool {
		return slices.ContainsFunc(q.Range,
			func(o yang.Span) bool { return r.AddressRange().Overlaps(o.AddressRange()) })
	})
}
