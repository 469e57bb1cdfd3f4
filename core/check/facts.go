package check

import (
	"iter"
	"net/netip"
	"slices"
	"sync"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/topology"
)

// facts is what the rules ask of a document, worked out once. They never change after
// that; the next document has its own, which share what an edit left alone.
type facts struct {
	*site.Site
	networks map[string]*site.Network
	pools    map[string][]*site.Pool       // by network id
	options  map[string][]option.Effective // what clients of a pool are told, by pool id
	strays   []*site.Reservation           // those that lie outside their network, or have none
	misnamed []*site.Reservation           // those with a name that no host can have
	tuned    []*site.Reservation           // those that set options
	common   compile.Everywhere
	book     func() *compile.Book // every name, worked out when it is first asked for
	own      option.Own
	// toldResolvers are worked out when they are first asked for.
	toldResolvers func() []toldResolver
	*wiring
}

// wiring is what lives where: what changes with networks and devices alone.
type wiring struct {
	byStart  []*site.Network                  // networks by first address
	reach    []netip.Addr                     // the last address of any network up to the same place in byStart
	overlaps bool                             // some networks share addresses
	subnets  map[string]map[netip.Prefix]bool // that a device, by id, has an interface in
	homesOf  map[netip.Prefix][]home          // interfaces by their subnet
	ifaces   []owner                          // interfaces by address
	uplinks  []*site.Interface
	joined   *topology.Map
}

// home is an interface with an address in a network, and its device.
type home struct {
	device *site.Device
	iface  *site.Interface
	at     netip.Addr
}

// homes lists the interfaces whose subnet is a network's.
func (f *facts) homes(n *site.Network) []home { return f.homesOf[n.Prefix.Masked()] }

func learn(s *site.Site) *facts {
	f := &facts{Site: s, common: compile.Common(s), own: s.Own(),
		options: make(map[string][]option.Effective, len(s.Pools)), wiring: wire(s), book: bookOf(s)}
	f.index()
	for i := range s.Pools {
		f.tell(&s.Pools[i])
	}
	for _, r := range s.Reservations {
		f.pick(r)
	}
	f.toldResolvers = sync.OnceValue(f.toldResolversOf)
	return f
}

func bookOf(s *site.Site) func() *compile.Book {
	return sync.OnceValue(func() *compile.Book { return compile.Names(s) })
}

// pick puts a reservation into the lists of the few that some rules are about, so that those rules
// need not go through tens of thousands.
func (f *facts) pick(r *site.Reservation) {
	if f.astray(r) {
		f.strays = append(f.strays, r)
	}
	if r.Name != "" && option.CheckLabel(r.Name) != nil {
		f.misnamed = append(f.misnamed, r)
	}
	if len(r.Options) > 0 {
		f.tuned = append(f.tuned, r)
	}
}

// picked are the lists that pick fills.
func (f *facts) picked() []*[]*site.Reservation {
	return []*[]*site.Reservation{&f.strays, &f.misnamed, &f.tuned}
}

// index finds the networks and pools by their ids.
func (f *facts) index() {
	f.networks = make(map[string]*site.Network, len(f.Networks))
	for i := range f.Networks {
		f.networks[f.Networks[i].ID] = &f.Networks[i]
	}
	f.pools = make(map[string][]*site.Pool, len(f.Networks))
	for i := range f.Pools {
		p := &f.Pools[i]
		f.pools[p.Network] = append(f.pools[p.Network], p)
	}
}

// tell works out the effective options of a pool's clients.
func (f *facts) tell(p *site.Pool) {
	if n := f.networks[p.Network]; n != nil {
		f.options[p.ID] = f.common.Effective(compile.For{Network: n, Pool: p})
	}
}

// astray reports whether a reservation lies outside its network, or has none.
func (f *facts) astray(r *site.Reservation) bool {
	n := f.networks[r.Network]
	return n == nil || !n.Prefix.Contains(r.Address)
}

func wire(s *site.Site) *wiring {
	w := &wiring{subnets: map[string]map[netip.Prefix]bool{}, homesOf: map[netip.Prefix][]home{},
		joined: topology.Learn(s)}
	for di := range s.Devices {
		d := &s.Devices[di]
		w.subnets[d.ID] = map[netip.Prefix]bool{}
		for ii := range d.Interfaces {
			i := &d.Interfaces[ii]
			for _, a := range i.Addresses {
				w.subnets[d.ID][a.Masked()] = true
				w.homesOf[a.Masked()] = append(w.homesOf[a.Masked()], home{d, i, a.Addr()})
				w.ifaces = append(w.ifaces,
					owner{at: a.Addr(), part: interfaceRef(i.ID), name: i.Name, on: d.Name,
						home: &home{d, i, a.Addr()}})
			}
			if i.Kind == site.Uplink {
				w.uplinks = append(w.uplinks, i)
			}
		}
	}
	slices.SortStableFunc(w.ifaces, func(a, b owner) int { return a.at.Compare(b.at) })
	w.line(s)
	return w
}

// line puts the networks in the order of their addresses.
func (w *wiring) line(s *site.Site) {
	w.byStart = make([]*site.Network, len(s.Networks))
	for i := range s.Networks {
		w.byStart[i] = &s.Networks[i]
	}
	slices.SortStableFunc(w.byStart,
		func(a, b *site.Network) int { return a.Prefix.Masked().Addr().Compare(b.Prefix.Masked().Addr()) })
	for i, n := range w.byStart {
		end := address.Of(n.Prefix).To
		if i > 0 {
			w.overlaps = w.overlaps || !w.reach[i-1].Less(n.Prefix.Masked().Addr())
			if end.Less(w.reach[i-1]) {
				end = w.reach[i-1]
			}
		}
		w.reach = append(w.reach, end)
	}
}

// NetworkOf is the most specific network that holds a, as site.Site's, without
// walking all of them.
func (f *facts) NetworkOf(a netip.Addr) (*site.Network, bool) {
	at, _ := slices.BinarySearchFunc(f.byStart, a, func(n *site.Network, a netip.Addr) int {
		if n.Prefix.Masked().Addr().Compare(a) <= 0 {
			return -1
		}
		return 1
	})
	var best *site.Network
	for i := at - 1; i >= 0 && !f.reach[i].Less(a); i-- {
		if n := f.byStart[i]; n.Prefix.Contains(a) && (best == nil || n.Prefix.Bits() > best.Prefix.Bits()) {
			best = n
		}
	}
	if best == nil {
		return nil, false
	}
	return f.networks[best.ID], true
}

// toldIn is the effective options of a pool's clients.
func (f *facts) toldIn(p *site.Pool) []option.Effective { return f.options[p.ID] }

// timers is how long clients of a pool hold their leases.
func (f *facts) timers(p *site.Pool) compile.Timers { return compile.TimersOf(f.toldIn(p)) }

// limits says what about a device's configuration its kind cannot do.
func (f *facts) limits(d *site.Device) error {
	if d.Kind == site.Router || d.Kind == site.Firewall {
		return nil
	}
	return compile.Limits(d.Kind, compile.Device(f.Site, d.ID))
}

// reservedOn visits the reservations of a network, by address.
func (f *facts) reservedOn(n *site.Network) iter.Seq[*site.Reservation] {
	return func(yield func(*site.Reservation) bool) {
		for _, r := range reservedIn(f.Site, address.Of(n.Prefix)) {
			if r.Network == n.ID && !yield(r) {
				return
			}
		}
		for _, r := range f.strays {
			if r.Network == n.ID && !yield(r) {
				return
			}
		}
	}
}

// reservedIn lists the reservations whose address lies in a range, by address.
func reservedIn(s *site.Site, in address.Range) []*site.Reservation {
	return site.Within(s.Reservations, in, func(r **site.Reservation) netip.Addr { return (*r).Address })
}

// owner is something that holds one address.
type owner struct {
	at    netip.Addr
	part  site.Ref
	name  string
	on    string // of an interface, its device
	mac   address.MAC
	named bool  // by a client identifier
	home  *home // of an interface
}

// what describes it in words, for example "Reservation xray-plate".
func (o owner) what() string {
	switch {
	case o.part.Kind == site.KindInterface:
		return "Interface " + o.name + " of " + o.on
	case o.part.Kind == site.KindFixedDevice:
		return "Fixed device " + o.name
	case o.name == "":
		return "Reservation"
	}
	return "Reservation " + o.name
}

// ownersIn lists what holds an address of a range, by address: interfaces, fixed
// devices and reservations.
func (f *facts) ownersIn(r address.Range) []owner {
	if !r.IsValid() {
		return nil
	}
	out := slices.Clone(site.Within(f.ifaces, r, func(o *owner) netip.Addr { return o.at }))
	ifaces := len(out)
	for _, v := range site.Within(f.FixedDevices, r, func(v *site.FixedDevice) netip.Addr { return v.Address }) {
		out = append(out, owner{at: v.Address, part: site.Ref{Kind: site.KindFixedDevice, ID: v.ID}, name: v.Name,
			mac: v.MAC})
	}
	fixed := len(out)
	reserved := reservedIn(f.Site, r)
	out = slices.Grow(out, len(reserved))
	for _, v := range reserved {
		out = append(out, owner{at: v.Address, part: reservationRef(v.ID), name: v.Name,
			mac: v.MAC, named: v.Client != ""})
	}
	if fixed > 0 && fixed < len(out) || ifaces > 0 && ifaces < fixed {
		slices.SortStableFunc(out, func(a, b owner) int { return a.at.Compare(b.at) })
	}
	return out
}

// heldIn lists what holds an address of a network and of no smaller one inside it.
func (f *facts) heldIn(n *site.Network) []owner {
	all := f.ownersIn(address.Of(n.Prefix))
	if !f.overlaps {
		return all
	}
	return slices.DeleteFunc(all, func(o owner) bool {
		in, _ := f.NetworkOf(o.at)
		return in == nil || in.ID != n.ID
	})
}

// heldOutside lists what holds an address of no network.
func (f *facts) heldOutside() []owner {
	var out []owner
	from := netip.AddrFrom4([4]byte{})
	last := netip.AddrFrom4([4]byte{255, 255, 255, 255})
	for i, n := range f.byStart {
		if start := n.Prefix.Masked().Addr(); from.Less(start) {
			out = append(out, f.ownersIn(address.Range{From: from, To: start.Prev()})...)
		}
		if f.reach[i] == last {
			return out
		}
		if next := f.reach[i].Next(); from.Less(next) {
			from = next
		}
	}
	return append(out, f.ownersIn(address.Range{From: from, To: last})...)
}
