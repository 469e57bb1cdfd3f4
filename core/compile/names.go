package compile

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
)

// Book is every name of a site, zone by zone: what is written by hand, the services, and the names
// that follow addresses. Where two claim one name, what is written by hand counts, then services,
// then what follows.
type Book struct {
	Inside  []*Pages
	Outside []*Pages
}

// Pages is one zone with its entries, in the order of their names.
type Pages struct {
	Name string
	Side string
	// Zone is the zone of the document, nil for a parent of a classless reverse zone, which is made
	// with it (RFC 2317 section 4).
	Zone    *site.Zone
	Entries []Entry
	// Hidden are entries that do not count, because another claims their name.
	Hidden []Entry
}

// Entry is one record with the part it is of.
type Entry struct {
	zone.Record
	From site.Ref
	In   site.Ref // the zone of a record
}

// Partial reports whether the forwarders are asked for names that the zone does not have.
func (p *Pages) Partial() bool { return p.Zone != nil && p.Zone.Partial }

// idOf is what an entry is called in a device: by the part it is of, and counted where the part has
// several of its type. used is how many of each there were before.
func idOf(e Entry, used map[string]int) string {
	id := e.From.String() + "/" + e.Type
	if used[id]++; used[id] > 1 {
		return fmt.Sprintf("%s/%d", id, used[id])
	}
	return id
}

// Whole is the whole name of an entry of a zone.
func (p *Pages) Whole(e Entry) string { return zone.Absolute(e.Owner, p.Name) }

// TTL is how long others may keep an entry, in seconds.
func (p *Pages) TTL(e Entry) int {
	if e.Record.TTL != 0 {
		return e.Record.TTL
	}
	if p.Zone != nil && p.Zone.TTL != 0 {
		return p.Zone.TTL
	}
	return site.DefaultTTL
}

// Names works out every name of a site.
func Names(s *site.Site) *Book {
	b := &Book{}
	for i := range s.Zones {
		z := &s.Zones[i]
		p := &Pages{Name: z.Name, Side: z.Side, Zone: z}
		for _, r := range z.Records {
			p.Entries = append(p.Entries, Entry{zone.Record{Owner: r.Owner, Type: r.Type, Data: r.Data, TTL: r.TTL},
				site.Ref{Kind: site.KindRecord, ID: r.ID}, site.Ref{Kind: site.KindZone, ID: z.ID}})
		}
		if z.Side == site.Outside {
			b.Outside = append(b.Outside, p)
		} else {
			b.Inside = append(b.Inside, p)
		}
	}
	b.serve(s)
	followers := b.follow(s)
	b.reverse(s, followers)
	for _, p := range slices.Concat(b.Inside, b.Outside) {
		p.sort()
	}
	return b
}

func (p *Pages) sort() {
	slices.SortStableFunc(p.Entries, func(a, b Entry) int {
		return cmp.Or(cmp.Compare(a.Owner, b.Owner), cmp.Compare(a.Type, b.Type), cmp.Compare(a.Data, b.Data))
	})
}

// NameKey is what a name of a side and type is known by over the revisions of a site.
func NameKey(side, whole, typ string) string { return side + " " + whole + " " + typ }

// List is every name by its NameKey, in no order.
func (b *Book) List() []string {
	seen := map[string]bool{}
	out := []string{}
	for _, p := range slices.Concat(b.Inside, b.Outside) {
		for _, e := range p.Entries {
			if key := NameKey(p.Side, p.Whole(e), e.Type); !seen[key] {
				seen[key] = true
				out = append(out, key)
			}
		}
	}
	return out
}

// Find is the zone of a side that a whole name lies in: the longest.
func Find(list []*Pages, name string) *Pages {
	var best *Pages
	for _, p := range list {
		if zone.Within(name, p.Name) && (best == nil || len(p.Name) > len(best.Name)) {
			best = p
		}
	}
	return best
}

// claims is which names of a zone are taken, and by what type.
type claims map[string][]string

func (p *Pages) claims() claims {
	out := claims{}
	for _, e := range p.Entries {
		out[e.Owner] = append(out[e.Owner], e.Type)
	}
	return out
}

// bars reports whether an entry cannot stand beside what has its name already: an alias beside
// anything, and an address beside addresses.
func (c claims) bars(e Entry) bool {
	return slices.ContainsFunc(c[e.Owner], func(typ string) bool {
		return typ == "CNAME" || e.Type == "CNAME" || typ == e.Type
	})
}

// serve writes the aliases of the services.
func (b *Book) serve(s *site.Site) {
	for _, side := range [][]*Pages{b.Inside, b.Outside} {
		taken := map[*Pages]claims{}
		for i := range s.Services {
			v := &s.Services[i]
			name := v.Whole(s.Domain)
			p := Find(side, name)
			if p == nil || p.Side == site.Inside && !v.Inside || p.Side == site.Outside && !v.Outside {
				continue
			}
			if taken[p] == nil {
				taken[p] = p.claims()
			}
			owner, _ := zone.Relative(name, p.Name)
			target := zone.Target(v.Base, s.Domain)
			if short, ok := zone.Relative(target, p.Name); ok && !strings.Contains(short, ".") {
				target = short
			}
			e := Entry{zone.Record{Owner: owner, Type: "CNAME", Data: target, TTL: v.TTL},
				site.Ref{Kind: site.KindService, ID: v.ID}, site.Ref{}}
			p.put(e, taken[p].bars(e))
			taken[p][owner] = append(taken[p][owner], "CNAME")
		}
	}
}

func (p *Pages) put(e Entry, hidden bool) {
	if hidden {
		p.Hidden = append(p.Hidden, e)
		return
	}
	p.Entries = append(p.Entries, e)
}

// Named is an address that a part carries a name with.
type Named struct {
	Name    string
	Address netip.Addr
	From    site.Ref
	reverse bool // that the address is given the name in reverse
	forward bool // that the name is in the zone; false where another claims it
}

// follow writes the names of interfaces, fixed devices and reservations into the zone of the site's
// domain.
func (b *Book) follow(s *site.Site) []Named {
	i := slices.IndexFunc(b.Inside, func(p *Pages) bool { return p.Name == s.Domain && s.Domain != "" })
	if i < 0 {
		return nil
	}
	p := b.Inside[i]
	taken := p.claims()
	out := Followers(s)
	for i := range out {
		f := &out[i]
		e := Entry{zone.Record{Owner: f.Name, Type: "A", Data: f.Address.String()}, f.From, site.Ref{}}
		f.forward = !taken.bars(e)
		p.put(e, !f.forward)
	}
	return out
}

// Followers lists the addresses that parts of a site carry their names with: of devices' interfaces
// but for uplinks, of fixed devices and of reservations.
func Followers(s *site.Site) []Named {
	var out []Named
	add := func(name string, a netip.Addr, from site.Ref, reverse bool) {
		if name = strings.ToLower(name); a.IsValid() && zone.CheckName(name) == nil &&
			!strings.ContainsAny(name, ".*") {
			out = append(out, Named{Name: name, Address: a, From: from, reverse: reverse})
		}
	}
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			if i.Kind == site.Uplink {
				continue
			}
			for _, a := range i.Addresses {
				add(d.Name, a.Addr(), site.Ref{Kind: site.KindInterface, ID: i.ID}, true)
			}
		}
	}
	for i := range s.FixedDevices {
		f := &s.FixedDevices[i]
		add(f.Name, f.Address, site.Ref{Kind: site.KindFixedDevice, ID: f.ID}, !f.NoReverse)
	}
	for _, r := range s.Reservations {
		add(r.Name, r.Address, site.Ref{Kind: site.KindReservation, ID: r.ID}, !r.NoReverse)
	}
	return out
}

// reverse writes the names of addresses into the reverse zones: of what follows, and of records
// written by hand whose address nothing else names. A PTR written by hand counts before them.
func (b *Book) reverse(s *site.Site, followers []Named) {
	zones := map[string]*Pages{}
	classless := map[string][]netip.Prefix{} // classless zones by their parent's name
	for _, p := range b.Inside {
		prefix, ok := zone.ReversePrefix(p.Name)
		if !ok {
			continue
		}
		zones[p.Name] = p
		if prefix.Bits() > 24 {
			classless[zone.ReverseParent(prefix)] = append(classless[zone.ReverseParent(prefix)], prefix)
		}
	}
	if len(zones) == 0 {
		return
	}
	r := reverser{zones: zones, classless: classless, taken: map[*Pages]claims{}}
	for _, p := range zones {
		r.taken[p] = p.claims()
	}
	has := map[netip.Addr]bool{}
	for _, f := range followers {
		has[f.Address] = true
		if f.forward && f.reverse {
			r.write(f.Address, zone.Absolute(f.Name, s.Domain), f.From, site.Ref{})
		}
	}
	for i := range s.Zones {
		z := &s.Zones[i]
		for _, rec := range z.Records {
			a, err := netip.ParseAddr(rec.Data)
			if z.Side != site.Inside || rec.Type != "A" || rec.NoReverse || err != nil || has[a] ||
				strings.HasPrefix(rec.Owner, "*") {
				continue
			}
			r.write(a, zone.Absolute(rec.Owner, z.Name), site.Ref{Kind: site.KindRecord, ID: rec.ID},
				site.Ref{Kind: site.KindZone, ID: z.ID})
		}
	}
	r.parents(b)
}

type reverser struct {
	zones     map[string]*Pages
	classless map[string][]netip.Prefix
	taken     map[*Pages]claims
}

// write gives an address a name, in the classless zone that holds it or in the longest other.
func (r *reverser) write(a netip.Addr, name string, from, in site.Ref) {
	p, owner := r.home(a)
	if p == nil {
		return
	}
	e := Entry{zone.Record{Owner: owner, Type: "PTR", Data: name}, from, in}
	// Two parts that share an address are two names of it; one written by hand is the only one.
	p.put(e, slices.Contains(r.taken[p][owner], "PTR") || slices.Contains(r.taken[p][owner], "CNAME"))
}

func (r *reverser) home(a netip.Addr) (p *Pages, owner string) {
	name := zone.Reverse(a)
	_, parent, _ := strings.Cut(name, ".")
	for _, c := range r.classless[parent] {
		if c.Contains(a) {
			_, in := zone.ReverseOwner(a, c)
			owner, _, _ = strings.Cut(name, ".")
			return r.zones[in], owner
		}
	}
	for at := name; at != ""; {
		if p := r.zones[at]; p != nil {
			owner, _ = zone.Relative(name, at)
			return p, owner
		}
		_, at, _ = strings.Cut(at, ".")
	}
	return nil, ""
}

// parents makes each address of a classless zone an alias in the zone of the /24, which it makes
// where the site has none (RFC 2317 section 4).
func (r *reverser) parents(b *Book) {
	for _, p := range slices.Clone(b.Inside) {
		prefix, ok := zone.ReversePrefix(p.Name)
		if !ok || prefix.Bits() <= 24 {
			continue
		}
		name := zone.ReverseParent(prefix)
		parent := r.zones[name]
		if parent == nil {
			parent = &Pages{Name: name, Side: site.Inside}
			r.zones[name], r.taken[parent] = parent, claims{}
			b.Inside = append(b.Inside, parent)
		}
		done := map[string]bool{}
		for _, e := range p.Entries {
			if e.Type != "PTR" || done[e.Owner] {
				continue
			}
			done[e.Owner] = true
			alias := Entry{zone.Record{Owner: e.Owner, Type: "CNAME", Data: p.Whole(e)}, e.From, e.In}
			parent.put(alias, r.taken[parent].bars(alias))
		}
	}
}

// Resolver is the name server that a device must have, with the zones it answers for; none where the
// site has it have none.
func Resolver(s *site.Site, id string, b *Book) yang.Resolver {
	i := slices.IndexFunc(s.Resolvers, func(r site.Resolver) bool { return r.Device == id })
	d, ok := s.Device(id)
	if i < 0 || !ok {
		return yang.Resolver{}
	}
	out := yang.Resolver{Settings: settings(s, d, &s.Resolvers[i])}
	primary := zone.Absolute(strings.ToLower(d.Name), s.Domain)
	for _, p := range b.Inside {
		out.Zone = append(out.Zone, Zone(p, primary))
	}
	return out
}

// Zone is a zone as devices hold it. primary is the server that its SOA names where it says nothing.
func Zone(p *Pages, primary string) yang.Zone {
	z := site.Zone{}
	if p.Zone != nil {
		z = *p.Zone
	}
	out := yang.Zone{
		Name: p.Name, TTL: cmp.Or(z.TTL, site.DefaultTTL), Primary: cmp.Or(z.Primary, primary),
		Contact: cmp.Or(
			z.Contact,
			"hostmaster."+p.Name,
		), Refresh: cmp.Or(z.Refresh, 3600), Retry: cmp.Or(z.Retry, 600),
		Expire: cmp.Or(z.Expire, 604800), Negative: cmp.Or(z.Negative, 300),
		Partial: z.Partial,
	}
	used := make(map[string]int, len(p.Entries))
	for _, e := range p.Entries {
		if e.Type == "CNAME" && e.Owner == zone.Apex || p.besideAlias(e) {
			continue // rule alias-with-other-data says so
		}
		out.Record = append(out.Record,
			yang.Record{ID: idOf(e, used), Owner: e.Owner, Type: e.Type, Data: e.Data, TTL: e.Record.TTL})
	}
	return out
}

// PublishedRecords is what an outside zone must have at the server that holds it.
func PublishedRecords(p *Pages) []zone.Record {
	z := Zone(p, "")
	var out []zone.Record
	for _, r := range z.Record {
		rr, err := r.Text().RR(z.Name, z.TTL)
		if err != nil {
			continue // a rule says so
		}
		if same, ok := zone.Of(rr, z.Name); ok {
			out = append(out, same)
		}
	}
	return out
}

// besideAlias reports whether an entry shares its name with an alias: of those the first alias counts.
func (p *Pages) besideAlias(e Entry) bool {
	from, ok := slices.BinarySearchFunc(p.Entries, e.Owner, func(o Entry, owner string) int {
		return cmp.Compare(o.Owner, owner)
	})
	for i := from; ok && i < len(p.Entries) && p.Entries[i].Owner == e.Owner; i++ {
		if p.Entries[i].Type == "CNAME" {
			return p.Entries[i] != e
		}
	}
	return false
}

func settings(s *site.Site, d *site.Device, r *site.Resolver) *yang.ResolverSettings {
	out := &yang.ResolverSettings{
		Enabled: r.Enabled, Port: cmp.Or(r.Port, 53), TLSPort: r.TLSPort, TLSName: r.TLSName,
		KeepShort: r.KeepsShort, KeepPrivate: r.KeepsPrivate, LeaseNames: cmp.Or(r.LeaseNames, site.LeaseNamesOff),
		CacheEntries: cmp.Or(r.CacheEntries, 10_000), LeastTTL: r.LeastTTL, GreatestTTL: cmp.Or(r.GreatestTTL, 86400),
		NegativeTTL: cmp.Or(
			r.NegativeTTL,
			3600,
		), LocalTTL: cmp.Or(r.LocalTTL, 60), Log: cmp.Or(r.LogLevel, site.LogErrors),
		HideIdentity: r.Hides, StopOthers: r.StopsOthers, Validate: r.Validates, Silenced: r.Silenced,
		Forwarder: servers(r.Forwarders),
	}
	if out.TLSName == "" {
		out.TLSPort = 0 // rule tls-name-missing says so
	}
	if r.Completes {
		out.Completion = s.Domain
	}
	if out.LeaseNames != site.LeaseNamesOff {
		out.LeaseDomain = s.Domain
	}
	if _, i, ok := s.Interface(r.ForwardFrom); ok {
		out.ForwardFrom = i.Name
	}
	for _, dom := range r.Domains {
		out.Domain = append(out.Domain, yang.DomainServer{Name: dom.Domain, Server: servers(dom.Servers)})
	}
	for _, i := range ListensOn(s, d, r) {
		out.Interface = append(out.Interface, i.Name)
	}
	out.Asker = slices.Clone(r.Askers)
	for i := range s.Networks {
		if len(r.Askers) == 0 {
			out.Asker = append(out.Asker, s.Networks[i].Prefix.Masked())
		}
	}
	return out
}

func servers(list []site.Forwarder) []yang.NameServer {
	var out []yang.NameServer
	for _, f := range list {
		at := f.AddrPort()
		out = append(out, yang.NameServer{Address: at.Addr(), Port: int(at.Port()), TLSName: f.TLSName})
	}
	return out
}

// ListensOn lists the interfaces of its device that a resolver listens on: those with an address on
// its networks; every one but uplinks where it names none.
func ListensOn(s *site.Site, d *site.Device, r *site.Resolver) []*site.Interface {
	var out []*site.Interface
	for k := range d.Interfaces {
		i := &d.Interfaces[k]
		on := slices.ContainsFunc(i.Addresses, func(a netip.Prefix) bool {
			if len(r.Networks) == 0 {
				return i.Kind != site.Uplink
			}
			return slices.ContainsFunc(r.Networks, func(id string) bool {
				n, ok := s.Network(id)
				return ok && n.Prefix.Contains(a.Addr())
			})
		})
		if on {
			out = append(out, i)
		}
	}
	return out
}

// EntryOf is the first entry of a whole name: its alias where it has one. Entries are in the order of their
// owners.
func (p *Pages) EntryOf(name string) (Entry, bool) {
	list := p.named(name)
	if len(list) == 0 {
		return Entry{}, false
	}
	if i := slices.IndexFunc(list, func(e Entry) bool { return e.Type == "CNAME" }); i >= 0 {
		return list[i], true
	}
	return list[0], true
}

func (p *Pages) named(name string) []Entry {
	owner, ok := zone.Relative(name, p.Name)
	if !ok {
		return nil
	}
	from, found := slices.BinarySearchFunc(p.Entries, owner, func(e Entry, owner string) int {
		return cmp.Compare(e.Owner, owner)
	})
	to := from
	for found && to < len(p.Entries) && p.Entries[to].Owner == owner {
		to++
	}
	return p.Entries[from:to]
}

// Values lists the data of a whole name's entries of a type.
func (p *Pages) Values(name, typ string) []string {
	var out []string
	for _, e := range p.named(name) {
		if e.Type == typ {
			out = append(out, e.Data)
		}
	}
	return out
}

// Has reports whether a whole name has an entry of a type with that data.
func (p *Pages) Has(name, typ, data string) bool { return slices.Contains(p.Values(name, typ), data) }

// Covers reports whether a wildcard of the zone stands for a whole name that is not there itself (RFC
// 4592).
func (p *Pages) Covers(name string) bool {
	_, ok := p.Wildcard(name)
	return ok
}

// Wildcard is the first entry of the wildcard that stands for a whole name which is not there itself (RFC 4592), an
// alias before others.
func (p *Pages) Wildcard(name string) (Entry, bool) {
	for at := name; at != p.Name; {
		_, above, ok := strings.Cut(at, ".")
		if !ok {
			return Entry{}, false
		}
		if e, ok := p.EntryOf("*." + above); ok {
			return e, true
		}
		at = above
	}
	return Entry{}, false
}
