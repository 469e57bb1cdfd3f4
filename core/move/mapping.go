package move

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/address"
	"lithos/core/site"
)

// Thread is one old address and the one that takes its place.
type Thread struct {
	Network string     `json:"network" doc:"id of the network it is in"`
	Target  string     `json:"target" doc:"id of the network it goes to"`
	From    netip.Addr `json:"from"`
	To      netip.Addr `json:"to"`
	What    string     `json:"what" doc:"whose address it is"`
	Kind    string     `json:"kind" enum:"gateway,interface,reservation,fixed,mentioned"`
	Typed   bool       `json:"typed,omitempty" doc:"somebody chose the new address"`
	Odd     string     `json:"odd,omitempty" doc:"why it does not have the address that the rule gives it"`
	At      int        `json:"at" doc:"offset of the old address from the first of its network"`
	Goes    int        `json:"goes" doc:"offset of the new address from the first of its network"`
}

// Band is a pool's ranges before and after.
type Band struct {
	Pool    string          `json:"pool" doc:"its id"`
	Name    string          `json:"name"`
	Network string          `json:"network" doc:"id of the network it is in"`
	Target  string          `json:"target" doc:"id of the network it goes to"`
	Was     []address.Range `json:"was"`
	Will    []address.Range `json:"will"`
	Odd     string          `json:"odd,omitempty" doc:"what became of it that the rule does not say"`
	At      []Offsets       `json:"at" doc:"offsets of the first and last address of each old range"`
	Goes    []Offsets       `json:"goes" doc:"offsets of the first and last address of each new range"`
}

// Offsets is a range counted from the first address of its network.
type Offsets struct {
	From int `json:"from"`
	To   int `json:"to"`
}

func offsets(ranges []address.Range, in netip.Prefix) []Offsets {
	out := []Offsets{}
	for _, r := range ranges {
		out = append(out, Offsets{address.Offset(in, r.From), address.Offset(in, r.To)})
	}
	return out
}

// mapping is what becomes of each address, VLAN id and pool.
type mapping struct {
	sources []*source
	to      map[netip.Addr]netip.Addr
	vlans   map[int]int
	pools   map[site.Ref][]address.Range // by pool, or by piece of a pool
	threads []Thread
	bands   []Band
	request Request
	stays   []netip.Prefix // of the networks that do not move
}

func mapped(s *site.Site, r Request) (*mapping, error) {
	all, err := targets(s, r)
	if err != nil {
		return nil, err
	}
	m := &mapping{sources: all, request: r, to: map[netip.Addr]netip.Addr{}, vlans: map[int]int{},
		pools: map[site.Ref][]address.Range{}, threads: []Thread{}, bands: []Band{}}
	for _, f := range all {
		if was := f.was.VLAN; was != 0 && !f.target.fresh && was != f.target.VLAN {
			m.vlans[was] = f.target.VLAN
		}
	}
	for _, n := range s.Networks { // an id that another network keeps stays what it is on trunks
		if _, moves := m.of(n.Prefix.Masked().Addr()); !moves {
			delete(m.vlans, n.VLAN)
			m.stays = append(m.stays, n.Prefix)
		}
	}
	m.spanned(s)
	m.served(s)
	if err := m.allot(s); err != nil {
		return nil, err
	}
	return m, nil
}

// of is where an old address goes; ok is false for one that is in no network that moves.
func (m *mapping) of(a netip.Addr) (*source, bool) {
	for _, f := range m.sources {
		if f.takes.Contains(a) {
			return f, true
		}
	}
	return nil, false
}

// still reports whether a network's addresses stay what they are unless somebody chooses others.
func (f *source) still() bool {
	return f.target.Prefix == f.was.Prefix && !f.target.fresh && (f.shift.Rule == "" || f.shift.Rule == SameNumber)
}

// spanned gives each pool its ranges.
func (m *mapping) spanned(s *site.Site) {
	for i := range s.Pools {
		p := &s.Pools[i]
		for _, f := range m.sources {
			if f.was.ID != p.Network {
				continue
			}
			b := Band{Pool: p.ID, Name: p.Name, Network: f.was.ID, Target: f.target.ID}
			for _, r := range p.Ranges {
				if part, ok := m.ownPart(f, r); ok {
					b.Was = append(b.Was, part)
					if will, ok := f.placeOf(s, part); ok {
						b.Will = append(b.Will, will)
					}
				}
			}
			if len(b.Was) == 0 {
				continue
			}
			b.Will = address.Ranges(b.Will, f.target.pools)
			switch size, had := address.Count(b.Will), address.Count(b.Was); {
			case size == 0:
				if r, ok := f.target.widest(); ok {
					b.Will, b.Odd = []address.Range{r}, "no room at its place, given the widest gap"
				}
			case size < had:
				b.Odd = "shrinks: the new network is smaller, or another pool is there"
			}
			f.target.pools = append(f.target.pools, b.Will...)
			for _, x := range p.Exclusions {
				if part, ok := m.ownPart(f, x.Range); ok {
					if at, ok := f.placeOf(s, part); ok {
						f.target.excluded = append(f.target.excluded, at)
					}
				}
			}
			m.pools[site.Ref{Kind: f.target.ID, ID: p.ID}] = b.Will
			b.At, b.Goes = offsets(b.Was, f.was.Prefix), offsets(b.Will, f.target.Prefix)
			m.bands = append(m.bands, b)
		}
	}
}

// served gives a piece that takes clients of a network with DHCP, and no range of a pool of that, one in the widest
// gap: its clients ask on.
func (m *mapping) served(s *site.Site) {
	for _, f := range m.sources {
		takes := func(r *site.Reservation) bool { return r.Network == f.was.ID && f.takes.Contains(r.Address) }
		at := slices.IndexFunc(s.Pools, func(p site.Pool) bool { return p.Network == f.was.ID && p.Enabled })
		if !f.target.fresh || len(f.target.pools) > 0 || at < 0 || !slices.ContainsFunc(s.Reservations, takes) {
			continue
		}
		if r, ok := f.target.widest(); ok {
			f.target.pools = []address.Range{r}
			m.pools[site.Ref{Kind: f.target.ID, ID: s.Pools[at].ID}] = f.target.pools
		}
	}
}

// ownPart is the part of a range that goes to a target, and not to a piece that takes it.
func (m *mapping) ownPart(f *source, r address.Range) (address.Range, bool) {
	part, ok := f.takes.Intersect(r)
	if !ok || f.target.fresh {
		return part, ok
	}
	rest := []address.Range{part}
	for _, o := range m.sources {
		if o.was == f.was && o.target.fresh {
			rest = address.Ranges(rest, []address.Range{o.takes})
		}
	}
	if len(rest) == 0 {
		return part, false
	}
	return rest[0], true
}

// placeOf is a range of a pool at its place in the target, cut to what is usable there.
func (f *source) placeOf(s *site.Site, r address.Range) (address.Range, bool) {
	if f.still() {
		return r, true
	}
	if f.shift.Rule == ByUse {
		for _, w := range s.Standard.Windows {
			if at, ok := site.WindowIn(f.target.Prefix, w); ok && w.Use == "dynamic" {
				return at, true
			}
		}
	}
	first := address.Uint(f.was.Prefix.Masked().Addr())
	if f.target.fresh {
		first = address.Uint(f.takes.From)
	}
	from, to := uint64(address.Uint(r.From)-first), uint64(address.Uint(r.To)-first)
	if f.shift.Grow && f.target.Prefix.Bits() < f.was.Prefix.Bits() {
		times := uint64(1) << (f.was.Prefix.Bits() - f.target.Prefix.Bits())
		from, to = from*times, (to+1)*times-1
	}
	all := address.Of(f.target.Prefix)
	size := uint64(all.Size())
	if from >= size {
		return address.Range{}, false
	}
	base := address.Uint(all.From)
	placed := address.Range{From: address.FromUint(base + uint32(from)), To: address.FromUint(base + uint32(min(to,
		size-1)))}
	return placed.Intersect(address.Usable(f.target.Prefix))
}

// widest is the widest run of usable addresses in no pool, without its first quarter, which is left to devices.
func (t *target) widest() (address.Range, bool) {
	var best address.Range
	for _, r := range address.Ranges([]address.Range{address.Usable(t.Prefix)}, t.pools) {
		if !best.IsValid() || r.Size() > best.Size() {
			best = r
		}
	}
	if !best.IsValid() || best.Size() < 4 {
		return best, false
	}
	best.From = address.FromUint(address.Uint(best.From) + uint32(best.Size()/4))
	return best, true
}

// holder is an old address with whose it is.
type holder struct {
	at         netip.Addr
	what, kind string
}

var firstKinds = map[string]int{"gateway": 0, "interface": 1, "fixed": 2, "reservation": 3, "mentioned": 4}

// allot gives each old address a new one: what was typed first, then the gateways and interfaces, then the rest in
// order.
func (m *mapping) allot(s *site.Site) error {
	all := m.holders(s)
	typed, err := m.typedAddresses(s)
	if err != nil {
		return err
	}
	for _, h := range all {
		f, _ := m.of(h.at)
		t := Thread{Network: f.was.ID, Target: f.target.ID, From: h.at, What: h.what, Kind: h.kind}
		if to, chosen := typed[h.at]; chosen {
			t.To, t.Typed = to, to != h.at
		} else {
			t.To, t.Odd = m.place(s, f, h)
			f.target.taken[t.To] = true
		}
		if !t.To.IsValid() {
			return wrong("shifts", "%s has no room for %s: %s is full. Give it a larger subnet", f.target.Name, h.what,
				f.target.Prefix)
		}
		m.to[h.at] = t.To
		if h.kind == "gateway" {
			f.target.Gateway = t.To
		}
		t.At, t.Goes = address.Offset(f.was.Prefix, t.From), address.Offset(f.target.Prefix, t.To)
		if t.From != t.To || !f.still() {
			m.threads = append(m.threads, t)
		}
	}
	for _, f := range m.sources {
		if f.target.fresh && !f.target.Gateway.IsValid() {
			f.target.Gateway, _ = f.target.free()
			f.target.taken[f.target.Gateway] = true
		}
	}
	slices.SortFunc(m.threads, func(a, b Thread) int { return a.From.Compare(b.From) })
	return nil
}

// typedAddresses are the addresses that the request itself gives, by those that they replace. They are taken.
func (m *mapping) typedAddresses(s *site.Site) (map[netip.Addr]netip.Addr, error) {
	typed := map[netip.Addr]netip.Addr{}
	for _, sh := range m.request.Shifts {
		for _, was := range slices.Sorted(maps.Keys(sh.To)) {
			will, field := sh.To[was], "to."+was
			a, err1 := netip.ParseAddr(was)
			f, moves := m.of(a)
			b, err2 := netip.Addr{}, err1
			if moves {
				b, err2 = f.target.typed(will)
			}
			switch {
			case err1 != nil || !moves:
				return nil, wrong(field, "%q is no address of a network that moves", was)
			case err2 != nil || !f.target.usable(b):
				return nil, wrong(field, "%s cannot become %q; type an address of %s", was, will,
					address.Usable(f.target.Prefix))
			case f.target.taken[b]:
				return nil, wrong(field, "%s is given twice; type another one for %s", b, was)
			}
			f.target.taken[b] = true
			typed[a] = b
		}
		n, _ := s.Network(sh.Network)
		f, moves := m.of(n.Gateway)
		if g := sh.Gateway; g.IsValid() && moves && !typed[n.Gateway].IsValid() {
			f.target.taken[g] = true
			typed[n.Gateway] = g
		}
	}
	return typed, nil
}

// typed reads an address of the network: the whole address, or +12 for the twelfth after its first.
func (t *target) typed(text string) (netip.Addr, error) {
	if offset, ok := strings.CutPrefix(text, "+"); ok {
		n, err := strconv.ParseUint(offset, 10, 24)
		return address.FromUint(address.Uint(t.Prefix.Masked().Addr()) + uint32(n)), err
	}
	return address.ParseAddr(text, t.Prefix)
}

// place is the address that the rule gives an old one, or the next free one and why.
func (m *mapping) place(s *site.Site, f *source, h holder) (a netip.Addr, odd string) {
	a, ok := f.byRule(s, h)
	pooled := slices.ContainsFunc(s.Pools, func(p site.Pool) bool { return p.Network == f.was.ID && p.Offers(h.at) })
	switch {
	case !ok || !f.target.usable(a):
		odd = "no room there, given the next free"
	case f.target.taken[a]:
		odd = "taken there, given the next free"
	case f.target.inPool(a) && h.kind != "reservation" && !pooled:
		odd = "inside the new pool, moved out"
	default:
		return a, ""
	}
	if f.shift.Rule == Packed && ok {
		odd = ""
	}
	a, _ = f.target.free()
	return a, odd
}

func (f *source) byRule(s *site.Site, h holder) (netip.Addr, bool) {
	if f.still() {
		return h.at, true
	}
	first := f.was.Prefix.Masked().Addr()
	if f.target.fresh {
		first = f.takes.From
	}
	same := func() (netip.Addr, bool) {
		offset := address.Uint(h.at) - address.Uint(first)
		return address.FromUint(address.Uint(f.target.Prefix.Addr()) + offset),
			int64(offset) < int64(address.Of(f.target.
				Prefix).Size())
	}
	switch f.shift.Rule {
	case Packed:
		return f.target.free()
	case InWindow:
		for _, w := range s.Standard.Windows {
			was, had := site.WindowIn(f.was.Prefix, w)
			will, has := site.WindowIn(f.target.Prefix, w)
			if had && has && was.Contains(h.at) {
				a := address.FromUint(address.Uint(will.From) + address.Uint(h.at) - address.Uint(was.From))
				return a, will.Contains(a)
			}
		}
	case ByUse:
		return f.byUse(s, h, same)
	}
	return same()
}

// uses are the windows that what holds an address belongs into.
var uses = map[string]string{"gateway": "infrastructure", "interface": "infrastructure", "fixed": "infrastructure",
	"reservation": "reserved"}

func (f *source) byUse(s *site.Site, h holder, same func() (netip.Addr, bool)) (netip.Addr, bool) {
	a, ok := same()
	for _, w := range s.Standard.Windows {
		at, has := site.WindowIn(f.target.Prefix, w)
		if !has || w.Use != uses[h.kind] {
			continue
		}
		if ok && at.Contains(a) && !f.target.taken[a] {
			return a, true
		}
		for n := address.Uint(at.From); n <= address.Uint(at.To); n++ {
			if b := address.FromUint(n); f.target.usable(b) && !f.target.taken[b] {
				return b, true
			}
		}
		return netip.Addr{}, false
	}
	return a, ok
}

// holders lists the old addresses that somebody has or something mentions, in the order they are told theirs.
func (m *mapping) holders(s *site.Site) []holder {
	found := map[netip.Addr]holder{}
	note := func(a netip.Addr, what, kind string) {
		if _, moves := m.of(a); !moves {
			return
		}
		if h, known := found[a]; !known || firstKinds[kind] < firstKinds[h.kind] {
			found[a] = holder{a, what, kind}
		}
	}
	for _, n := range s.Networks {
		note(n.Gateway, "gateway of "+n.Name, "gateway")
	}
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			for _, a := range i.Addresses {
				note(a.Addr(), d.Name+" "+i.Name, "interface")
			}
		}
	}
	for _, x := range s.FixedDevices {
		note(x.Address, x.Name, "fixed")
	}
	for _, r := range s.Reservations {
		note(r.Address, r.NameOrAddress(), "reservation")
	}
	for a, what := range m.mentioned(s) {
		if f, moves := m.of(a); moves && address.Usable(f.was.Prefix).Contains(a) {
			note(a, what, "mentioned")
		}
	}
	out := slices.Collect(maps.Values(found))
	slices.SortFunc(out, func(a, b holder) int {
		return cmp.Or(cmp.Compare(min(firstKinds[a.kind], 2), min(firstKinds[b.kind], 2)), a.at.Compare(b.at))
	})
	return out
}
