package check

import (
	"cmp"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/site"
)

// Scene is a document with what the rules made of it. It never changes and may be
// read by several goroutines; After makes the next one.
type Scene struct {
	*facts
	Findings []Finding // gravest first, then by address
	renewed  touched
}

// scope is what of a site a rule looked at.
type scope struct {
	of string // "network", "outside", "device" with the rule, or "site"
	id string // of a network or device, or the rule's for the site
}

// Of runs every rule that needs only the document, which is in normal form.
func Of(s *site.Site) *Scene {
	sc := &Scene{facts: learn(s), renewed: everything(s)}
	sc.look(sc.renewed)
	return sc
}

// After is the scene of doc, which is the scene's own document with the edits
// applied. Only what the edits touched is looked at again; the result is that of Of.
func (sc *Scene) After(doc *site.Site, edits []edit.Edit) *Scene {
	t := sc.touched(doc, edits)
	if t.wide {
		return Of(doc)
	}
	f := *sc.facts
	f.Site = doc
	f.toldResolvers = sync.OnceValue(f.toldResolversOf)
	f.index()
	if t.names || t.holders {
		f.book = bookOf(doc)
	}
	if len(t.networks) > 0 {
		f.options = maps.Clone(f.options)
		for id := range t.networks {
			for _, p := range f.pools[id] {
				f.tell(p)
			}
		}
		for _, id := range t.gonePools {
			delete(f.options, id)
		}
	}
	for _, list := range f.picked() {
		*list = slices.DeleteFunc(slices.Clone(*list), func(r *site.Reservation) bool { return t.reservations[r.ID] })
	}
	for id := range t.reservations {
		if r, ok := doc.Reservation(id); ok {
			f.pick(r)
		}
	}
	for _, list := range f.picked() {
		slices.SortFunc(*list, func(a, b *site.Reservation) int {
			return cmp.Or(a.Address.Compare(b.Address), strings.Compare(a.ID, b.ID))
		})
	}
	next := &Scene{facts: &f, Findings: sc.Findings, renewed: t}
	next.look(t)
	return next
}

// Renewal is what After looked at again, which may look different from the scene before.
type Renewal struct {
	Networks []string // ids
	All      bool     // every network, and everything else
	Names    bool     // the names
}

// Renewed is what After looked at again.
func (sc *Scene) Renewed() Renewal {
	return Renewal{slices.Sorted(maps.Keys(sc.renewed.networks)), sc.renewed.wide,
		sc.renewed.names || sc.renewed.holders}
}

// Book is every name of the site.
func (sc *Scene) Book() *compile.Book { return sc.book() }

// touched is what edits make the rules look at again.
type touched struct {
	wide         bool // everything
	networks     map[string]bool
	devices      map[string]bool // that serve those networks
	outside      bool            // what holds an address of no network
	pools        bool
	holders      bool
	names        bool
	reservations map[string]bool
	gonePools    []string
}

func everything(s *site.Site) touched {
	t := touched{wide: true, networks: map[string]bool{}, devices: map[string]bool{}, outside: true, pools: true,
		holders: true, names: true}
	for _, n := range s.Networks {
		t.networks[n.ID] = true
	}
	for _, d := range s.Devices {
		t.devices[d.ID] = true
	}
	return t
}

func (sc *Scene) touched(doc *site.Site, edits []edit.Edit) touched {
	t := touched{networks: map[string]bool{}, devices: map[string]bool{}, reservations: map[string]bool{}}
	for _, e := range edits {
		part := e.Part
		if part.Kind == site.KindExclusion || part.Kind == site.KindOption || part.Kind == site.KindRecord {
			part = e.In
		}
		for _, s := range []*site.Site{sc.Site, doc} {
			sc.touch(&t, s, part, e.Part.Kind == site.KindOption)
		}
		if t.wide {
			return t
		}
		if _, stays := doc.Pool(part.ID); part.Kind == site.KindPool && !stays {
			t.gonePools = append(t.gonePools, part.ID)
		}
	}
	for _, s := range []*site.Site{sc.Site, doc} {
		for i := range s.Pools {
			if p := &s.Pools[i]; t.networks[p.Network] {
				t.devices[p.Server] = true
			}
		}
	}
	// A device outside its network is reported where its address lies, with a free address of its network.
	home := maps.Clone(t.networks)
	for i := range doc.FixedDevices {
		d := &doc.FixedDevices[i]
		if n, ok := doc.Network(d.Network); ok && home[n.ID] && !n.Prefix.Contains(d.Address) {
			sc.touchAddress(&t, d.Address)
		}
	}
	return t
}

// touch notes what a part of a document has to do with, before an edit or after it.
func (sc *Scene) touch(t *touched, s *site.Site, part site.Ref, option bool) {
	switch {
	case part.Kind == site.KindPool:
		t.pools = true
		if p, ok := s.Pool(part.ID); ok {
			t.networks[p.Network] = true
		}
	case part.Kind == site.KindNetwork && option:
		t.pools = true
		t.networks[part.ID] = true
	case part.Kind == site.KindReservation:
		t.holders, t.reservations[part.ID] = true, true
		if r, ok := s.Reservation(part.ID); ok {
			t.networks[r.Network] = true
			sc.touchAddress(t, r.Address)
		}
	case part.Kind == site.KindFixedDevice:
		t.holders = true
		if f, ok := s.FixedDevice(part.ID); ok {
			t.networks[f.Network] = true
			sc.touchAddress(t, f.Address)
		}
	case part.Kind == site.KindResolver, part.Kind == site.KindZone, part.Kind == site.KindService,
		part.Kind == site.KindCertificate, part.Kind == site.KindFollowing:
		t.names = true
	case part.Kind == site.KindKnownClient:
		// Known clients matter to sightings alone; no rule of the document reads them.
	default:
		t.wide = true
	}
}

// touchAddress notes the networks that an address, which gained or lost a holder, has
// to do with: those it lies in, those whose gateway it is and those of whose pools
// it is.
func (sc *Scene) touchAddress(t *touched, a netip.Addr) {
	inside := false
	for i := range sc.Networks {
		n := &sc.Networks[i]
		if in := n.Prefix.Contains(a); in || n.Gateway == a {
			t.networks[n.ID] = true
			inside = inside || in
		}
	}
	t.outside = t.outside || !inside
	for i := range sc.Pools {
		p := &sc.Pools[i]
		holds := func(r address.Range) bool { return r.Contains(a) }
		if slices.ContainsFunc(p.Ranges, holds) ||
			slices.ContainsFunc(p.Exclusions, func(x site.Exclusion) bool { return holds(x.Range) }) {
			t.networks[p.Network] = true
		}
	}
}

// look runs the rules about what was touched, in place of what they found before.
func (sc *Scene) look(t touched) {
	l := looking{facts: sc.facts, seen: map[scope]bool{}}
	for i := range sc.Networks {
		if n := &sc.Networks[i]; t.networks[n.ID] {
			l.network(n)
		}
	}
	if t.outside {
		l.outside()
	}
	for i := range sc.Devices {
		if d := &sc.Devices[i]; t.devices[d.ID] {
			l.device(d, t.wide)
		}
	}
	for r := range rules {
		if rules[r].site != nil && t.again(rules[r].finder) {
			l.site(&rules[r])
		}
	}
	for _, f := range sc.Findings {
		if !l.seen[f.scope] {
			l.out = append(l.out, f)
		}
	}
	Sort(l.out)
	sc.Findings = l.out
}

// looking is the rules at work: what they look at, by which rule, and what was found.
type looking struct {
	*facts
	seen map[scope]bool
	at   scope
	rule *Rule
	out  []Finding
}

func (l *looking) begin(of, id string) {
	l.at = scope{of, id}
	l.seen[l.at] = true
}

func (l *looking) report(found Finding) {
	found = l.rule.signed(found)
	found.scope = l.at
	l.out = append(l.out, found)
}

// network runs the rules about a network and about what holds its addresses.
func (l *looking) network(n *site.Network) {
	held := l.heldIn(n)
	l.begin("network", n.ID)
	for r := range rules {
		if l.rule = &rules[r]; l.rule.network != nil && !l.rule.afterHolders {
			l.rule.network(l.facts, n, l.report)
		}
		if l.rule.holders != nil {
			l.rule.holders(l.facts, n, held, l.report)
		}
	}
}

// outside runs the rules about what holds addresses of no network.
func (l *looking) outside() {
	l.begin("outside", "")
	held := l.heldOutside()
	for r := range rules {
		if l.rule = &rules[r]; l.rule.holders != nil {
			l.rule.holders(l.facts, nil, held, l.report)
		}
	}
}

// device runs the rules about a device: all of them where wide, else those that look at pools.
func (l *looking) device(d *site.Device, wide bool) {
	for r := range rules {
		if l.rule = &rules[r]; l.rule.device != nil && (wide || l.rule.afterPools) {
			l.begin("device "+l.rule.Slug, d.ID)
			l.rule.device(l.facts, d, l.report)
		}
	}
}

// site runs a rule about the whole site.
func (l *looking) site(rule *Rule) {
	l.rule = rule
	l.begin("site", rule.Slug)
	rule.site(l.facts, l.report)
	if !rule.afterHolders || rule.network == nil {
		return
	}
	for i := range l.Networks {
		rule.network(l.facts, &l.Networks[i], l.report)
	}
}

// again reports whether a rule about the site looks again.
func (t touched) again(f finder) bool {
	return t.wide || f.afterPools && t.pools || f.afterHolders && t.holders || f.afterNames && t.names
}

// On visits the reservations of a network, by address; those outside it come last.
func (sc *Scene) On(n *site.Network) iter.Seq[*site.Reservation] { return sc.reservedOn(n) }

// PoolsOn lists the pools of a network.
func (sc *Scene) PoolsOn(n *site.Network) []*site.Pool { return sc.pools[n.ID] }

// HomeOf is the name of a device's interface whose subnet is a network's; the device's
// last such where it has several. ok is false where it has none.
func (sc *Scene) HomeOf(n *site.Network, device string) (name string, ok bool) {
	for _, h := range sc.homes(n) {
		if h.device.ID == device {
			name, ok = h.iface.Name, true
		}
	}
	return name, ok
}

// InterfacesIn visits the interfaces that hold an address of a network, with that
// address.
func (sc *Scene) InterfacesIn(n *site.Network, visit func(d *site.Device, i *site.Interface, at netip.Addr)) {
	for _, o := range site.Within(sc.ifaces, address.Of(n.Prefix), func(o *owner) netip.Addr { return o.at }) {
		visit(o.home.device, o.home.iface, o.at)
	}
}

// Effective lists the options in effect for clients of a pool.
func (sc *Scene) Effective(p *site.Pool) []option.Effective { return sc.toldIn(p) }

// Owned lists the addresses of a range that something has for itself, in order: a
// gateway, interface, fixed device or reservation.
func (sc *Scene) Owned(r address.Range) []netip.Addr {
	var out []netip.Addr
	for _, o := range sc.ownersIn(r) {
		out = append(out, o.at)
	}
	for i := range sc.Networks {
		if g := sc.Networks[i].Gateway; g.IsValid() && r.Contains(g) {
			out = append(out, g)
		}
	}
	slices.SortFunc(out, netip.Addr.Compare)
	return slices.Compact(out)
}
