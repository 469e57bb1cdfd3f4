package move

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/forecast"
	"lithos/core/option"
	"lithos/core/sequence"
	"lithos/core/site"
)

// The phases of a move.
const (
	Shorten = "shorten" // the leases are made short
	Beside  = "beside"  // the new networks are brought up beside the old
	Swap    = "swap"
	Follow  = "follow" // the leases are made long again, and what is left of the old is cleared
)

// Phase is one step of a move, which is a work order of its own.
type Phase struct {
	Kind      string      `json:"kind" enum:"shorten,beside,swap,follow"`
	Title     string      `json:"title"`
	Says      string      `json:"says"`
	Edits     []edit.Edit `json:"edits"`
	NotBefore time.Time   `json:"notBefore"`
	NotAfter  time.Time   `json:"notAfter"`

	Was *site.Site `json:"-"`
	Doc *site.Site `json:"-"`
}

// Phases cuts a plan into phases. Each begins with what the one before it leaves; the last leaves the site as it is
// intended.
func (p *Plan) Phases() []Phase {
	night := p.Request.Night
	if p.Request.OneNight {
		return p.linked(Phase{Kind: Swap, Title: "One night", Doc: p.Will, NotBefore: night,
			NotAfter: night.Add(nightLength),
			Says:     "A straight swap: clients learn of it when they renew, by the leases they have."})
	}
	moves := p.renumbered()
	retold := p.retold(moves)
	short, longest := p.shortened(moves, retold)
	ahead := forecast.Prepare(p.lease()/2, longest, 0)
	var out []Phase
	if ahead.Needed {
		out = append(out, Phase{Kind: Shorten, Title: "Shorten the leases", Doc: short,
			NotBefore: night.Add(-ahead.Sleepers - ahead.Before), NotAfter: night.Add(-ahead.Before),
			Says: fmt.Sprintf("Leases become %[2]s, of %[1]s. Everybody who is awake knows within %[3]s, so that "+
				"they follow within %[4]s of the swap and not %[5]s.", p.shortens(moves, retold),
				option.FormatDuration(p.lease()),
				option.FormatDuration(ahead.Before), inMinutes(p.lease()*7/8), inMinutes(longest*7/8))})
	} else {
		short = p.Was
	}
	if doc, ok := p.beside(short); ok {
		both := "Both gateways answer"
		if len(doc.Networks) > len(short.Networks) {
			both += ", and trunks carry both VLANs"
		}
		out = append(out, Phase{Kind: Beside, Title: "Bring the new up beside the old", Doc: doc,
			NotBefore: night.Add(-24 * time.Hour), NotAfter: night.Add(-time.Hour),
			Says: both + ". Nobody is in the new ones yet."})
	}
	swapped := p.swapped(short)
	out = append(out, Phase{Kind: Swap, Title: "Swap", Doc: swapped, NotBefore: night, NotAfter: night.Add(nightLength),
		Says: "Addresses, VLANs, pools, names and everything that points at them, in one push under one timed return."})
	if len(edit.Between(swapped, p.Will)) > 0 {
		out = append(out, Phase{Kind: Follow, Title: "Lengthen the leases, clear the old", Doc: p.Will,
			NotBefore: night.Add(18 * time.Hour), NotAfter: night.Add(7 * 24 * time.Hour),
			Says: "Leases are as they were."})
	}
	return p.linked(out...)
}

func inMinutes(d time.Duration) string { return option.FormatDuration(d.Round(time.Minute)) }

// nightLength is how long the window of a swap is open.
const nightLength = 5 * time.Hour

// linked gives each phase what the one before leaves, and its edits.
func (p *Plan) linked(phases ...Phase) []Phase {
	before := p.Was
	for i := range phases {
		phases[i].Was = before
		phases[i].Edits = edit.Between(before, phases[i].Doc)
		phases[i].Says += takenAway(before, phases[i].Doc, phases[i].Edits)
		before = phases[i].Doc
	}
	return phases
}

// Back is the edits that take a move back from where a phase leaves the site.
func (p *Plan) Back(ph Phase) []edit.Edit { return edit.Between(ph.Doc, p.Was) }

func (p *Plan) lease() time.Duration { return p.Request.leaseTime() }

// leaseTime is the lease time before the swap.
func (r Request) leaseTime() time.Duration {
	if r.Lease == 0 {
		return usualLease * time.Second
	}
	return time.Duration(r.Lease) * time.Second
}

// takenAway says what a phase removes: the parts, and the VLANs that ports carry no more.
func takenAway(was, now *site.Site, edits []edit.Edit) string {
	names := namesOf(was)
	var out []string
	for _, e := range edits {
		if e.Op != edit.Remove {
			continue
		}
		what := called(was, e, names[e.Part])
		switch {
		case e.Part.Kind == site.KindInterface:
			what = called(was, e, "interface "+names[e.Part])
		case what == names[e.Part]:
			what = noun(e.Part.Kind) + " " + what
		}
		out = append(out, what)
	}
	ports := map[int]int{}
	for _, d := range was.Devices {
		for _, i := range d.Interfaces {
			_, after, there := now.Interface(i.ID)
			for _, id := range i.Tagged {
				if there && !slices.Contains(after.Tagged, id) {
					ports[id]++
				}
			}
		}
	}
	for _, id := range slices.Sorted(maps.Keys(ports)) {
		word := "ports"
		if ports[id] == 1 {
			word = "port"
		}
		out = append(out, fmt.Sprintf("VLAN %d on %d %s", id, ports[id], word))
	}
	if len(out) == 0 {
		return ""
	}
	return " It takes away " + strings.Join(out, ", ") + "."
}

// shortens names the networks whose leases are shortened, each with the lease that it had: those that move, and those
// that are told a server that moves.
func (p *Plan) shortens(moves map[string]bool, retold []string) string {
	var own, told []string
	for i := range p.Was.Pools {
		pool := &p.Was.Pools[i]
		n, ok := p.Was.Network(pool.Network)
		if !ok || !pool.Enabled || !moves[n.ID] && !slices.Contains(retold, n.ID) {
			continue
		}
		had := LeaseTime(p.Was, n, pool)
		if had <= p.lease() {
			continue
		}
		text := fmt.Sprintf("%s (now %s)", n.Name, option.FormatDuration(had))
		switch {
		case slices.Contains(own, text) || slices.Contains(told, text):
		case moves[n.ID]:
			own = append(own, text)
		default:
			told = append(told, text)
		}
	}
	switch {
	case len(told) == 1:
		own = append(own, told[0]+", which is told a server that moves")
	case len(told) > 1:
		own = append(own, strings.Join(told, ", ")+", which are told a server that moves")
	}
	return strings.Join(own, ", ")
}

// retold are the ids of the networks that stay and whose clients are told other addresses: a server of theirs moves.
func (p *Plan) retold(moves map[string]bool) []string {
	var out []string
	before, after := compile.Common(p.Was), compile.Common(p.Will)
	for i := range p.Was.Pools {
		was := &p.Was.Pools[i]
		n, had := p.Was.Network(was.Network)
		now, has := p.Will.Network(was.Network)
		is, serves := p.Will.Pool(was.ID)
		if !had || !has || !serves || !was.Enabled || moves[n.ID] || slices.Contains(out, n.ID) {
			continue
		}
		told := before.Effective(compile.For{Network: n, Pool: was})
		if !slices.EqualFunc(told, after.Effective(compile.For{Network: now, Pool: is}),
			func(a, b option.Effective) bool { return a.Code == b.Code && a.Value == b.Value }) {
			out = append(out, n.ID)
		}
	}
	return out
}

// renumbered are the ids of the networks whose clients get other addresses, or another gateway.
func (p *Plan) renumbered() map[string]bool {
	out := map[string]bool{}
	for _, f := range p.m.sources {
		if f.target.Prefix != f.was.Prefix || f.target.fresh || f.shift.Into != "" ||
			f.target.Gateway != f.was.Gateway ||
			!f.still() {
			out[f.was.ID] = true
		}
	}
	return out
}

// shortened is the site with short leases in the networks that move and those that are retold, and the longest lease
// that was there.
func (p *Plan) shortened(moves map[string]bool, retold []string) (*site.Site, time.Duration) {
	doc := *p.Was
	doc.Pools = slices.Clone(p.Was.Pools)
	longest := time.Duration(0)
	for i := range doc.Pools {
		pool := &doc.Pools[i]
		if n, ok := p.Was.Network(pool.Network); ok && (moves[n.ID] || slices.Contains(retold, n.ID)) && pool.Enabled {
			had := LeaseTime(p.Was, n, pool)
			longest = max(longest, had)
			if had > p.lease() {
				pool.Options = leased(pool.Options, p.lease())
			}
		}
	}
	return site.Normal(&doc), longest
}

// LeaseTime is how long clients of a pool are given their addresses for.
func LeaseTime(s *site.Site, n *site.Network, p *site.Pool) time.Duration {
	for _, o := range compile.Common(s).Effective(compile.For{Network: n, Pool: p}) {
		if o.Code != option.LeaseTime {
			continue
		}
		if d, err := option.ParseDuration(o.Value); err == nil {
			return d
		}
	}
	return option.DefaultLease
}

// leased is options with a lease time, and with none of the renewal times that belong to another one.
func leased(options []site.Option, lease time.Duration) []site.Option {
	out := slices.DeleteFunc(slices.Clone(options), func(o site.Option) bool {
		return o.Code == option.LeaseTime || o.Code == option.RenewalT1 || o.Code == option.RebindingT2
	})
	return append(out, site.Option{Code: option.LeaseTime, Value: option.FormatDuration(lease)})
}

// swapped is the site as it will be, with the leases still short and the old reverse zones still there.
func (p *Plan) swapped(short *site.Site) *site.Site {
	doc := *p.Will
	doc.Pools = slices.Clone(p.Will.Pools)
	for i := range doc.Pools {
		pool := &doc.Pools[i]
		if was, had := short.Pool(pool.ID); had {
			for _, o := range was.Options {
				if o.Code == option.LeaseTime {
					if d, err := option.ParseDuration(o.Value); err == nil && d == p.lease() {
						pool.Options = leased(pool.Options, d)
					}
				}
			}
		}
	}
	if short != p.Was {
		doc.Zones = slices.Clone(p.Will.Zones)
		for _, z := range p.Was.Zones {
			if _, stays := p.Will.Zone(z.ID); !stays {
				doc.Zones = append(doc.Zones, z)
			}
		}
	}
	return site.Normal(&doc)
}

// beside is a site with the new subnets up beside the old ones: in the same VLAN as a second address of the interface,
// in another one as a network of its own, on every trunk that carries the old. Nobody is in them. ok is false where no
// network can be brought up so.
func (p *Plan) beside(on *site.Site) (*site.Site, bool) {
	if !p.Request.Beside {
		return nil, false
	}
	doc := *on
	doc.Devices = slices.Clone(on.Devices)
	doc.Networks = slices.Clone(on.Networks)
	for i := range doc.Devices {
		doc.Devices[i].Interfaces = slices.Clone(doc.Devices[i].Interfaces)
	}
	any := false
	for _, f := range p.m.sources {
		to := f.target
		taken := slices.ContainsFunc(on.Networks, func(n site.Network) bool {
			return n.Prefix.Overlaps(to.Prefix) || n.VLAN == to.VLAN && to.VLAN != f.was.VLAN
		})
		if to.fresh || f.shift.Into != "" || f.shift.Device != "" || taken {
			continue
		}
		any = true
		if to.VLAN == f.was.VLAN {
			p.secondAddress(doc.Devices, f)
			continue
		}
		n := to.Network
		n.ID, n.Name, n.Options = n.ID+"-beside", n.Name+", new", nil
		doc.Networks = append(doc.Networks, n)
		for di := range doc.Devices {
			p.besideOn(&doc.Devices[di], f)
		}
	}
	return site.Normal(&doc), any
}

// secondAddress gives the interfaces of a network the new address beside the old: both gateways answer until the swap.
func (p *Plan) secondAddress(devices []site.Device, f *source) {
	for _, d := range devices {
		for ii := range d.Interfaces {
			i := &d.Interfaces[ii]
			for _, a := range slices.Clone(i.Addresses) {
				if to, ok := p.m.to[a.Addr()]; ok && f.was.Prefix.Contains(a.Addr()) {
					i.Addresses = append(slices.Clone(i.Addresses), netip.PrefixFrom(to, f.target.Prefix.Bits()))
				}
			}
		}
	}
}

func (p *Plan) besideOn(d *site.Device, f *source) {
	for ii := range len(d.Interfaces) {
		i := &d.Interfaces[ii]
		if slices.Contains(i.Tagged, f.was.VLAN) {
			i.Tagged = tidyIDs(append(i.Tagged, f.target.VLAN))
		}
		if i.VLAN != f.was.VLAN || i.Kind != site.VLAN {
			continue
		}
		up := *i
		up.ID += "-beside"
		up.VLAN, up.Addresses, up.RelayTo = f.target.VLAN, nil, nil
		for _, a := range i.Addresses {
			if to, ok := p.m.to[a.Addr()]; ok {
				up.Addresses = append(up.Addresses, netip.PrefixFrom(to, f.target.Prefix.Bits()))
			}
		}
		if len(up.Addresses) > 0 {
			up.Name = strings.TrimSuffix(i.Name, fmt.Sprint(i.VLAN)) + fmt.Sprint(f.target.VLAN)
			d.Interfaces = append(d.Interfaces, up)
		}
	}
}

// Proof is what is known of the order of a phase's steps.
type Proof struct {
	Devices int         `json:"devices"`
	Steps   int         `json:"steps"`
	First   string      `json:"first" doc:"the device that is changed first"`
	Last    string      `json:"last" doc:"the device that is changed last"`
	Gaps    []Meanwhile `json:"gaps"`
	// Console names the step that needs somebody at a device's console; empty where none does.
	Console string `json:"console,omitempty"`
}

// Meanwhile is something that is not so between two steps, though it is so before and after a phase (prove.Gap).
type Meanwhile struct {
	After int    `json:"after" doc:"the step, counted from 1, after which it begins"`
	Until int    `json:"until" doc:"the step that ends it"`
	Says  string `json:"says"`
	Kind  string `json:"kind" enum:"unserved,collides,lost"`
	// Network is the id of the network whose clients are not served.
	Network string `json:"network,omitempty"`
}

// Downs are the times in which the clients of networks are not served while the steps of a phase are taken, each of
// which takes as long.
func (p Proof) Downs(step time.Duration) []Down {
	var out []Down
	for _, g := range p.Gaps {
		if g.Network != "" {
			out = append(out, Down{g.Network, time.Duration(g.After) * step, time.Duration(g.Until) * step})
		}
	}
	return out
}

// Prove simulates every prefix of the steps of a phase, over all devices. reached says which devices Lithos changes
// itself; the others are changed by hand.
func (ph Phase) Prove(reached func(device string) bool) Proof {
	var devices []sequence.Device
	for _, d := range ph.Doc.Devices {
		held, goal := compile.Device(ph.Was, d.ID), compile.Device(ph.Doc, d.ID)
		if !held.Equal(goal) {
			devices = append(devices, sequence.Device{ID: d.ID, Name: d.Name, Kind: d.Kind, Running: held, Goal: goal,
				ByHand: !reached(d.ID)})
		}
	}
	o := sequence.Of(ph.Was, ph.Doc, devices)
	out := Proof{Devices: len(devices), Steps: len(o.Steps), Gaps: []Meanwhile{}}
	for _, g := range o.Gaps {
		out.Gaps = append(out.Gaps, Meanwhile(g))
	}
	if n := len(o.Steps); n > 0 {
		name := func(id string) string { d, _ := ph.Doc.Device(id); return d.Name }
		out.First, out.Last = name(o.Steps[0].Device), name(o.Steps[n-1].Device)
	}
	if g := o.Console(); g != nil {
		out.Console = fmt.Sprintf("After step %d: %s", g.After, g.Says)
	}
	return out
}

// Visit is a device that holds its address itself, so that somebody has to go there.
type Visit struct {
	Part site.Ref   `json:"part"`
	Name string     `json:"name"`
	MAC  string     `json:"mac,omitempty"`
	At   string     `json:"at" doc:"where it stands, as far as its note says"`
	Was  netip.Addr `json:"was"`
	Will netip.Addr `json:"will"`
	// Type is what is typed there: address with its length, gateway, name servers. Undo is the same as it was before.
	Type []Typed `json:"type"`
	Undo []Typed `json:"undo"`
}

// Typed is one value that is typed at a device.
type Typed struct {
	Label string `json:"label"`
	Value string `json:"value"`
}

// typed is what is typed at a device that holds an address of a network itself.
func typed(s *site.Site, n *site.Network, at netip.Addr) []Typed {
	out := []Typed{{"Address", netip.PrefixFrom(at, n.Prefix.Bits()).String()},
		{"Mask", address.Mask(n.Prefix.Bits()).String()}, {"Gateway", n.Gateway.String()}}
	for _, o := range compile.Common(s).Effective(compile.For{Network: n}) {
		if o.Code == option.NameServers {
			out = append(out, Typed{"Name servers", o.Value})
		}
	}
	return out
}

// Visits lists the devices to be visited by hand, in the order of their old addresses.
func (p *Plan) Visits() []Visit {
	out := []Visit{}
	for i := range p.Was.FixedDevices {
		was := &p.Was.FixedDevices[i]
		will, ok := p.Will.FixedDevice(was.ID)
		if !ok {
			continue
		}
		n, _ := p.Will.Network(will.Network)
		old, _ := p.Was.Network(was.Network)
		if will.Address == was.Address && n.Prefix == old.Prefix && n.Gateway == old.Gateway {
			continue
		}
		v := Visit{Part: site.Ref{Kind: site.KindFixedDevice, ID: was.ID}, Name: was.Name, At: was.Note,
			Was:  was.Address,
			Will: will.Address}
		if !was.MAC.IsZero() {
			v.MAC = was.MAC.String()
		}
		v.Type, v.Undo = typed(p.Will, n, will.Address), typed(p.Was, old, was.Address)
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b Visit) int { return a.Was.Compare(b.Was) })
	return out
}
