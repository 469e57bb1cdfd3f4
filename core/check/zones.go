package check

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/zone"
)

// Rules about zones and their names.

func zoneRef(id string) site.Ref { return site.Ref{Kind: site.KindZone, ID: id} }

// refs is the parts that a finding about an entry of a zone concerns.
func refs(p *compile.Pages, list ...compile.Entry) []site.Ref {
	var out []site.Ref
	for _, e := range list {
		if !slices.Contains(out, e.From) {
			out = append(out, e.From)
		}
	}
	if p.Zone != nil {
		out = append(out, zoneRef(p.Zone.ID))
	}
	return out
}

// removingEntry is the fix that takes an entry out that was written by hand; nil for one that follows.
func (f *facts) removingEntry(title string, e compile.Entry) *Fix {
	if e.From.Kind != site.KindRecord && e.From.Kind != site.KindService {
		return nil
	}
	fix := &Fix{Title: title}
	fix.Edits, _ = edit.Removing(f.Site, e.From, e.In)
	if len(fix.Edits) == 0 {
		return nil
	}
	return fix
}

// pages are the zones of both sides.
func (f *facts) pages() []*compile.Pages {
	b := f.book()
	return slices.Concat(b.Inside, b.Outside)
}

// owners visits the names of a zone with all that claims each, what does not count included.
func owners(p *compile.Pages, do func(owner string, list []compile.Entry)) {
	all := slices.Concat(p.Entries, p.Hidden)
	slices.SortStableFunc(all, func(a, b compile.Entry) int { return strings.Compare(a.Owner, b.Owner) })
	for i := 0; i < len(all); {
		j := i + 1
		for j < len(all) && all[j].Owner == all[i].Owner {
			j++
		}
		do(all[i].Owner, all[i:j])
		i = j
	}
}

func ofType(list []compile.Entry, typ string) []compile.Entry {
	var out []compile.Entry
	for _, e := range list {
		if e.Type == typ {
			out = append(out, e)
		}
	}
	return out
}

// recordInvalid is about records that cannot be sent, which only a file can bring.
func recordInvalid(f *facts, report func(Finding)) {
	for i := range f.Zones {
		z := &f.Zones[i]
		for _, r := range z.Records {
			in := zoneRef(z.ID)
			_, err := zone.ReadData(r.Type, r.Data, z.Name)
			if err == nil && r.Owner != zone.Apex {
				err = zone.CheckName(r.Owner)
			}
			if err == nil {
				continue
			}
			fix := &Fix{Title: "Remove it"}
			fix.Edits, _ = edit.Removing(f.Site, site.Ref{Kind: site.KindRecord, ID: r.ID}, in)
			report(Finding{
				Title: fmt.Sprintf("%s %s in %s cannot be answered", r.Owner, r.Type, z.Name), Value: r.Data,
				Parts: []site.Ref{{Kind: site.KindRecord, ID: r.ID}, in}, Fix: fix,
				Says: "It cannot be read: " + err.Error() + ".",
			})
		}
	}
}

func nameTooLong(f *facts, report func(Finding)) {
	for _, p := range f.pages() {
		for _, e := range p.Entries {
			if whole := p.Whole(e); len(whole) > 253 {
				report(Finding{
					Title: fmt.Sprintf("%s is too long with its zone", e.Owner), Parts: refs(p, e), Value: whole,
					Says: fmt.Sprintf("%d characters, and names end at 253 (RFC 1035 section 2.3.4). Nobody can ask "+
						"for it.",
						len(whole)),
					Fix: f.removingEntry("Remove it", e),
				})
			}
		}
	}
}

// nameTwoAddresses is about a name that several machines claim. A device with several interfaces, and
// a machine with an address on each of several networks, are one machine.
func nameTwoAddresses(f *facts, report func(Finding)) {
	for _, p := range f.book().Inside {
		owners(p, func(owner string, list []compile.Entry) {
			claims := ofType(list, "A")
			if len(claims) < 2 || owner == zone.Apex || strings.HasPrefix(owner, "*") {
				return
			}
			machines := map[string]bool{}
			for _, e := range claims {
				machines[f.machineOf(e)] = true
			}
			if len(machines) < 2 || slices.ContainsFunc(claims, func(e compile.Entry) bool { return f.lost(p, e) }) {
				return // a name that is lost is name-lost's
			}
			var at []address.Range
			var says []string
			for _, e := range claims {
				if a, err := netip.ParseAddr(e.Data); err == nil {
					at = append(at, address.Single(a))
				}
				says = append(says, fmt.Sprintf("%s of %s", e.Data, f.sayOf(e)))
			}
			found := Finding{
				Title: fmt.Sprintf("%s is the name of %d machines", owner, len(machines)), Parts: refs(p, claims...),
				Addresses: at, Value: p.Whole(claims[0]),
				Says: fmt.Sprintf("It is %s. %s", strings.Join(says, ", and "), whoWins(p, claims)),
			}
			for _, e := range claims {
				if e.From.Kind == site.KindRecord && len(ofKind(claims, site.KindRecord)) < len(claims) {
					found.Fix = f.removingEntry("Remove the record of "+e.Data, e)
				}
			}
			report(found)
		})
	}
}

// whoWins says which of several addresses of a name is answered: what is written by hand counts before what follows.
func whoWins(p *compile.Pages, claims []compile.Entry) string {
	var answered []string
	for _, e := range claims {
		if slices.Contains(p.Entries, e) {
			answered = append(answered, e.Data)
		}
	}
	if len(answered) == len(claims) {
		return "Who asks reaches one or the other."
	}
	return fmt.Sprintf("Who asks is told %s: what is written by hand counts first.", strings.Join(answered, " and "))
}

// lost reports whether an entry is the name of a machine that is answered with other addresses, and the only one that
// leads to its address.
func (f *facts) lost(p *compile.Pages, e compile.Entry) bool {
	if e.Type != "A" || e.From.Kind == site.KindRecord || !slices.Contains(p.Hidden, e) {
		return false
	}
	for _, in := range f.book().Inside {
		if slices.ContainsFunc(in.Entries, func(o compile.Entry) bool { return o.Type == "A" && o.Data == e.Data }) {
			return false
		}
	}
	return true
}

// nameLost is about machines whose only name is given to another address by a record.
func nameLost(f *facts, report func(Finding)) {
	for _, p := range f.book().Inside {
		owners(p, func(owner string, list []compile.Entry) {
			winners := slices.DeleteFunc(slices.Clone(list), func(e compile.Entry) bool {
				return !slices.Contains(p.Entries, e) || e.Type != "A" && e.Type != "CNAME"
			})
			for _, e := range list {
				if len(winners) == 0 || !f.lost(p, e) {
					continue
				}
				by := winners[0]
				found := Finding{
					Title: fmt.Sprintf("%s loses its name to %s", e.Data, f.sayOf(by)), Parts: refs(p, e, by),
					Value: p.Whole(e),
					Says: fmt.Sprintf("%s is answered with %s: what is written by hand counts first. %s has no name "+
						"any more, and its address none in reverse.", owner, by.Data, upper(f.sayOf(e))),
				}
				if a, err := netip.ParseAddr(e.Data); err == nil {
					found.Addresses = []address.Range{address.Single(a)}
				}
				if by.From.Kind == site.KindRecord {
					found.Fix = f.removingEntry("Remove the record of "+by.Data, by)
				}
				report(found)
			}
		})
	}
}

// upper begins a sentence.
func upper(text string) string {
	if text == "" {
		return ""
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

func ofKind(list []compile.Entry, kind string) []compile.Entry {
	return slices.DeleteFunc(slices.Clone(list), func(e compile.Entry) bool { return e.From.Kind != kind })
}

// machineOf tells the machines of entries apart: a device for its interfaces, the hardware address of
// what was pinned; records written by hand that share a name are one service.
func (f *facts) machineOf(e compile.Entry) string {
	switch e.From.Kind {
	case site.KindInterface:
		if d, _, ok := f.Interface(e.From.ID); ok {
			return d.ID
		}
	case site.KindFixedDevice:
		if v, ok := f.FixedDevice(e.From.ID); ok && !v.MAC.IsZero() {
			return v.MAC.String()
		}
	case site.KindReservation:
		if r, ok := f.Reservation(e.From.ID); ok && !r.MAC.IsZero() {
			return r.MAC.String()
		}
	case site.KindRecord:
		return "by hand"
	}
	return e.From.String()
}

// sayOf is what an entry is of, in words.
func (f *facts) sayOf(e compile.Entry) string {
	switch e.From.Kind {
	case site.KindRecord:
		return "a record"
	case site.KindService:
		return "a service"
	case site.KindInterface:
		if d, i, ok := f.Interface(e.From.ID); ok {
			return i.Name + " of " + d.Name
		}
	}
	name, _ := site.NameOf(f.Site, e.From)
	if k, ok := site.KindNamed(e.From.Kind); ok {
		return k.Noun + " " + name
	}
	return name
}

func aliasWithOtherData(f *facts, report func(Finding)) {
	for _, p := range f.pages() {
		owners(p, func(owner string, list []compile.Entry) {
			aliases := ofType(list, "CNAME")
			if len(aliases) == 0 || len(list) == 1 && owner != zone.Apex {
				return
			}
			whole := zone.Absolute(owner, p.Name)
			beside := fmt.Sprintf("%s of %s stands beside it", list[0].Type, f.sayOf(list[0]))
			for _, e := range list {
				if e != aliases[0] {
					beside = fmt.Sprintf("%s of %s stands beside it", e.Type, f.sayOf(e))
				}
			}
			if owner == zone.Apex {
				beside = "a zone itself has other data"
			}
			report(Finding{
				Title: fmt.Sprintf("%s is an alias and more", whole), Parts: refs(p, list...), Value: whole,
				Says: fmt.Sprintf("An alias has nothing beside it (RFC 1034 section 3.6.2), and %s. What clients "+
					"get depends on who answers.", beside),
				Fix: f.removingEntry("Remove the alias", aliases[0]),
			})
		})
	}
}

// follows leads along the aliases of a side from a name. It says where the chain ends, whether
// something is there, and whether it goes round in a circle.
func follows(side []*compile.Pages, name string) (end string, there, circle, ours bool) {
	seen := map[string]bool{}
	for {
		if seen[name] {
			return name, false, true, true
		}
		seen[name] = true
		p := compile.Find(side, name)
		if p == nil {
			return name, false, false, false
		}
		e, ok := p.At(name)
		if !ok {
			if e, ok = p.Wildcard(name); !ok || e.Type != "CNAME" {
				return name, ok, false, !p.Partial()
			}
		}
		if e.Type != "CNAME" {
			return name, true, false, true
		}
		next, ok := zone.TargetOf(e.Record, p.Name)
		if !ok {
			return name, false, false, true
		}
		name = next
	}
}

// sides are the zones of each side: aliases lead inside to what is inside first, then outside.
func (f *facts) sides() [][]*compile.Pages {
	b := f.book()
	return [][]*compile.Pages{slices.Concat(b.Inside, nil), b.Outside}
}

func aliasLoop(f *facts, report func(Finding)) {
	for _, side := range f.sides() {
		for _, p := range side {
			for _, e := range ofType(p.Entries, "CNAME") {
				if _, _, circle, _ := follows(side, p.Whole(e)); !circle {
					continue
				}
				report(Finding{
					Title: fmt.Sprintf("%s leads in a circle", p.Whole(e)), Parts: refs(p, e), Value: p.Whole(e) +
						p.Side,
					Says: fmt.Sprintf(
						"It is an alias of %s, which leads back. Who asks is told that the server failed.", e.Data),
					Fix: f.removingEntry("Remove the alias", e),
				})
			}
		}
	}
}

func aliasTargetMissing(f *facts, report func(Finding)) {
	for _, side := range f.sides() {
		for _, p := range side {
			for _, e := range p.Entries {
				target, names := zone.TargetOf(e.Record, p.Name)
				if !names || e.Type == "PTR" {
					continue
				}
				end, there, circle, ours := follows(side, target)
				if there || circle || !ours || f.answeredElsewhere(end) || f.mayBeLease(end) {
					continue
				}
				what := "an alias of"
				if e.Type != "CNAME" {
					what = "an " + e.Type + " record that names"
				}
				report(Finding{
					Title: fmt.Sprintf("%s leads to nothing", p.Whole(e)), Parts: refs(p, e), Value: p.Whole(e) +
						p.Side + target,
					Says: fmt.Sprintf("It is %s %s, and %s is not there. Who asks learns that there is such a name "+
						"and gets no address.", what, target, end),
					Fix: f.removingEntry("Remove it", e),
				})
			}
		}
	}
}

// mayBeLease reports whether a client may say a name when it takes a lease.
func (f *facts) mayBeLease(name string) bool {
	label, ok := zone.Relative(name, f.Domain)
	return ok && !strings.Contains(label, ".") && slices.ContainsFunc(f.Resolvers, func(r site.Resolver) bool {
		return r.Enabled && r.LeaseNames == site.LeaseNamesAll
	})
}

// answeredElsewhere reports whether a name is asked of a server for its domain.
func (f *facts) answeredElsewhere(name string) bool {
	return slices.ContainsFunc(f.Resolvers, func(r site.Resolver) bool {
		return slices.ContainsFunc(r.Domains, func(d site.DomainServer) bool { return zone.Within(name, d.Domain) })
	})
}

// reverseMissing is about addresses that carry names and whose reverse zone the site does not have.
func reverseMissing(f *facts, report func(Finding)) {
	if len(f.Zones) == 0 {
		return
	}
	missing := map[string][]netip.Addr{} // by the zone of the /24
	for _, p := range f.book().Inside {
		if _, reverse := zone.ReversePrefix(p.Name); reverse {
			continue
		}
		for _, e := range ofType(p.Entries, "A") {
			a, err := netip.ParseAddr(e.Data)
			if err != nil || !f.inside(a) || !f.givesReverse(e) || compile.Find(f.book().Inside,
				zone.Reverse(a)) != nil ||
				f.answeredElsewhere(zone.Reverse(a)) {
				continue
			}
			name := zone.ReverseParent(netip.PrefixFrom(a, 24))
			missing[name] = append(missing[name], a)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(missing)) {
		at := missing[name]
		slices.SortFunc(at, netip.Addr.Compare)
		fresh := site.Zone{ID: "zone-" + strings.ReplaceAll(name, ".", "-"), Name: name, Side: site.Inside}
		prefix, _ := zone.ReversePrefix(name)
		says := fmt.Sprintf("%d addresses of %s have names, and looked up the other way they have none", len(at),
			prefix)
		if len(at) == 1 {
			says = fmt.Sprintf("%s has a name, and looked up the other way it has none", at[0])
		}
		home, _ := f.HomeZone()
		part := zoneRef(f.Zones[0].ID)
		if home != nil {
			part = zoneRef(home.ID)
		}
		report(Finding{
			Title: fmt.Sprintf("Addresses of %s have no reverse names", prefix), Parts: []site.Ref{part}, Value: name,
			Says: says + ". Logs show numbers, and servers that look clients up wait.",
			Fix: &Fix{"Write " + name + " with the names",
				[]edit.Edit{edit.Adding(site.KindZone, fresh.ID, site.Ref{}, fresh)}},
		})
	}
}

// givesReverse reports whether an entry gives its address its name in reverse.
func (f *facts) givesReverse(e compile.Entry) bool {
	switch e.From.Kind {
	case site.KindRecord:
		z, ok := f.Zone(e.In.ID)
		if !ok || strings.HasPrefix(e.Owner, "*") {
			return false
		}
		i := slices.IndexFunc(z.Records, func(r *site.Record) bool { return r.ID == e.From.ID })
		return i >= 0 && !z.Records[i].NoReverse
	case site.KindFixedDevice:
		v, ok := f.FixedDevice(e.From.ID)
		return ok && !v.NoReverse
	case site.KindReservation:
		r, ok := f.Reservation(e.From.ID)
		return ok && !r.NoReverse
	}
	return e.From.Kind == site.KindInterface
}

// reverses visits the reverse names of the site's addresses, those in the zones of prefixes.
func (f *facts) reverses(do func(p *compile.Pages, a netip.Addr, list []compile.Entry)) {
	for _, p := range f.book().Inside {
		prefix, ok := zone.ReversePrefix(p.Name)
		if !ok {
			continue
		}
		at := map[string][]compile.Entry{}
		for _, e := range slices.Concat(p.Entries, p.Hidden) {
			if e.Type == "PTR" {
				at[e.Owner] = append(at[e.Owner], e)
			}
		}
		for _, owner := range slices.Sorted(maps.Keys(at)) {
			name := zone.Absolute(owner, p.Name)
			if prefix.Bits() > 24 {
				name = owner + "." + zone.ReverseParent(prefix)
			}
			if a, ok := zone.Reversed(name); ok {
				do(p, a, at[owner])
			}
		}
	}
}

func reverseDiffers(f *facts, report func(Finding)) {
	f.reverses(func(p *compile.Pages, a netip.Addr, list []compile.Entry) {
		for _, e := range list {
			if e.From.Kind != site.KindRecord || e.In.ID != zoneID(p) {
				continue // what follows always agrees
			}
			name := zone.Target(e.Data, p.Name)
			home := compile.Find(f.book().Inside, name)
			if home == nil || f.answeredElsewhere(name) || home.Has(name, "A", a.String()) {
				continue
			}
			says := name + " is not there"
			if at := home.Values(name, "A"); len(at) > 0 {
				says = name + " is " + strings.Join(at, ", ")
			}
			report(Finding{
				Title: fmt.Sprintf("%s has another name in reverse", a), Parts: refs(p, e),
				Addresses: []address.Range{address.Single(a)}, Value: name,
				Says: fmt.Sprintf("In reverse it is %s, and %s. Servers that check both ways refuse the machine, "+
					"and logs name another.", name, says),
				Fix: f.removingEntry("Let it follow the name", e),
			})
		}
	})
}

func zoneID(p *compile.Pages) string {
	if p.Zone == nil {
		return ""
	}
	return p.Zone.ID
}

func reverseTwoNames(f *facts, report func(Finding)) {
	f.reverses(func(p *compile.Pages, a netip.Addr, list []compile.Entry) {
		names := map[string]bool{}
		var byHand compile.Entry
		for _, e := range list {
			if slices.Contains(p.Hidden, e) {
				continue // not answered: one written by hand counts before it
			}
			names[zone.Target(e.Data, p.Name)] = true
			if e.In.ID == zoneID(p) {
				byHand = e
			}
		}
		if len(names) < 2 {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("%s has %d names in reverse", a, len(names)), Parts: refs(p, list...),
			Addresses: []address.Range{address.Single(a)},
			Says: fmt.Sprintf("It is %s. Most programs take the first they get, which is now one, now the other.",
				strings.Join(slices.Sorted(maps.Keys(names)), " and ")),
			Fix: f.removingEntry("Remove one of them", byHand),
		})
	})
}

// recordOutsideSite is about records by hand that name a private address of no network here.
func recordOutsideSite(f *facts, report func(Finding)) {
	f.eachAddress(f.book().Inside, func(p *compile.Pages, e compile.Entry, a netip.Addr) {
		if e.From.Kind != site.KindRecord || !isPrivate(a) || f.inside(a) || f.routedElsewhere(a) {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("%s is an address of no network here", p.Whole(e)), Parts: refs(p, e),
			Addresses: []address.Range{address.Single(a)}, Value: p.Whole(e),
			Says: fmt.Sprintf("%s is private and not this site's. It may have been typed from another site; nobody "+
				"is reached there.", a),
			Fix: f.removingEntry("Remove it", e),
		})
	})
}

// routedElsewhere reports whether an address is where the site asks another for names, and so knows.
func (f *facts) routedElsewhere(a netip.Addr) bool {
	return f.answeredElsewhere(zone.Reverse(a))
}

func (f *facts) eachAddress(side []*compile.Pages, do func(p *compile.Pages, e compile.Entry, a netip.Addr)) {
	for _, p := range side {
		for _, e := range slices.Concat(ofType(p.Entries, "A"), ofType(p.Entries, "AAAA")) {
			if a, err := netip.ParseAddr(e.Data); err == nil {
				do(p, e, a)
			}
		}
	}
}

// recordIntoPool is about records by hand that name an address which is handed out.
func recordIntoPool(f *facts, report func(Finding)) {
	f.eachAddress(f.book().Inside, func(p *compile.Pages, e compile.Entry, a netip.Addr) {
		if e.From.Kind != site.KindRecord || f.holds(a) {
			return
		}
		for i := range f.Pools {
			pool := &f.Pools[i]
			if !pool.Offers(a) || f.networks[pool.Network] == nil {
				continue
			}
			report(Finding{
				Title: fmt.Sprintf("%s names an address of pool %s", p.Whole(e), pool.Name), Network: pool.Network,
				Parts: append(refs(p, e), poolRef(pool.ID)), Addresses: []address.Range{address.Single(a)},
				Value: p.Whole(e),
				Says: fmt.Sprintf("%s is handed out to whoever asks next. The name leads to another machine every "+
					"few days; reserve the address for the one that is meant.", a),
			})
			return
		}
	})
}

func domainMulticast(f *facts, report func(Finding)) {
	local := func(name string) bool { return zone.Within(name, "local") }
	if local(f.Domain) {
		report(multicast(f.Domain, site.Ref{Kind: site.KindSite, ID: f.ID}))
	}
	for i := range f.Zones {
		if z := &f.Zones[i]; local(z.Name) && z.Name != f.Domain {
			report(multicast(z.Name, zoneRef(z.ID)))
		}
	}
}

func multicast(name string, part site.Ref) Finding {
	return Finding{
		Title: name + " is for multicast names", Parts: []site.Ref{part}, Value: name,
		Says: "Names under .local are what machines ask each other for on their own network (RFC 6762). Many " +
			"clients never send them to a name server. Use a domain of your own, or home.arpa.",
	}
}

// unregistered are last labels that are nobody's and that programs and people make up: they are asked
// for on the internet all the time.
var unregistered = []string{"lan", "home", "corp", "mail", "intranet", "private", "office", "router", "localdomain"}

func domainNotOurs(f *facts, report func(Finding)) {
	if f.Domain == "" || zone.Within(f.Domain, "local") {
		return
	}
	last := f.Domain[strings.LastIndexByte(f.Domain, '.')+1:]
	if !slices.Contains(unregistered, last) && strings.Contains(f.Domain, ".") {
		return
	}
	report(Finding{
		Title: f.Domain + " is nobody's domain", Parts: []site.Ref{{Kind: site.KindSite, ID: f.ID}}, Value: f.Domain,
		Says: fmt.Sprintf("%s is not registered and not kept for private use. The day it is given to somebody, "+
			"laptops away from the site ask them for its names. Use a domain of your own, or home.arpa (RFC 8375).",
			last),
	})
}

// hiddenBy is the inside zone that hides a name from those inside: it answers for the name and does not have it. It is
// nil where none does.
func (f *facts) hiddenBy(name string) *compile.Pages {
	home := compile.Find(f.book().Inside, name)
	if home == nil || home.Name == "" || home.Partial() || home.Covers(name) {
		return nil // a zone for the root is zone-too-high's
	}
	if _, there := home.At(name); there {
		return nil
	}
	return home
}

// splitInsideMissing is about names that the world is told and that an inside zone hides.
func splitInsideMissing(f *facts, report func(Finding)) {
	for _, p := range f.book().Outside {
		owners(p, func(owner string, list []compile.Entry) {
			name := zone.Absolute(owner, p.Name)
			home := f.hiddenBy(name)
			if home == nil || owner == zone.Apex || strings.HasPrefix(owner, "*") || f.answeredElsewhere(name) ||
				list[0].From.Kind == site.KindService {
				return
			}
			if list[0].Type != "A" && list[0].Type != "CNAME" {
				return
			}
			owner, _ = zone.Relative(name, home.Name)
			fresh := site.Record{ID: "rec-" + strings.NewReplacer(".", "-", "_", "").Replace(name), Owner: owner,
				Type: list[0].Type, Data: list[0].Data}
			if target, ok := zone.TargetOf(list[0].Record, p.Name); ok {
				fresh.Data = target
			}
			found := Finding{
				Title: fmt.Sprintf("%s is there outside and not inside", name), Parts: refs(p, list...), Value: name,
				Says: fmt.Sprintf("The world is told %s. Inside, %s is answered for by the site itself, which says "+
					"that there is no such name.", list[0].Data, home.Name),
			}
			if home.Zone != nil && site.ValidID(fresh.ID) {
				found.Fix = &Fix{"Give it the same answer inside",
					[]edit.Edit{edit.Adding(site.KindRecord, fresh.ID, zoneRef(home.Zone.ID), fresh)}}
			}
			report(found)
		})
	}
}

func splitOutsidePrivate(f *facts, report func(Finding)) {
	f.eachAddress(f.book().Outside, func(p *compile.Pages, e compile.Entry, a netip.Addr) {
		why := "cannot be reached from outside, and tells everybody how the site is laid out"
		switch {
		case f.unusableHost(a) != "":
			why = f.unusableHost(a) + ". Nobody outside reaches anything there"
		case !isPrivate(a) && !a.IsPrivate(): // the latter is fc00::/7, too (RFC 4193)
			return
		}
		report(Finding{
			Title: fmt.Sprintf("The world is told a private address of %s", p.Whole(e)), Parts: refs(p, e),
			Addresses: []address.Range{address.Single(a)}, Value: p.Whole(e),
			Says: fmt.Sprintf("%s %s.", a, why),
			Fix:  f.removingEntry("Remove it outside", e),
		})
	})
}

func serviceOutsideOnly(f *facts, report func(Finding)) {
	for i := range f.Services {
		v := &f.Services[i]
		name := v.Whole(f.Domain)
		home := f.hiddenBy(name)
		if v.Inside || !v.Outside || home == nil {
			continue
		}
		now := *v
		now.Inside = true
		report(Finding{
			Title: fmt.Sprintf("%s is there outside only", name), Parts: []site.Ref{serviceRef(v.ID)},
			Says: fmt.Sprintf("From the internet it leads to %s. Inside, %s is answered for by the site itself, "+
				"which says that there is no such name.", v.Base, home.Name),
			Fix: change("Let it be there inside too", site.KindService, v.ID, site.Ref{}, *v, now),
		})
	}
}

// serviceNowhere is about services that are to be on a side where no zone of the site has their name.
func serviceNowhere(f *facts, report func(Finding)) {
	for i := range f.Services {
		v := &f.Services[i]
		name := v.Whole(f.Domain)
		nowhere := func(side, says string, now site.Service) {
			if _, ok := f.ZoneOf(name, side); ok {
				return
			}
			report(Finding{
				Title: fmt.Sprintf("%s is in no %s zone", name, side), Parts: []site.Ref{serviceRef(v.ID)},
				Value: name + " " + side,
				Says: fmt.Sprintf("It is to be there %s, and no %s zone of the site holds it. ", side, side) + says +
					" Add the zone that does.",
				Fix: change("Leave it out "+side, site.KindService, v.ID, site.Ref{}, *v, now),
			})
		}
		inside, outside := *v, *v
		inside.Inside, outside.Outside = false, false
		if v.Outside {
			nowhere(site.Outside, "The world is told nothing of it.", outside)
		}
		if v.Inside {
			nowhere(site.Inside, "Resolvers here ask others for it.", inside)
		}
	}
}

func serviceRef(id string) site.Ref { return site.Ref{Kind: site.KindService, ID: id} }

// zoneShadowsDomain is about inside zones of a domain that is registered, of which the site does not know what the
// world is told: what they do not have is not there for those inside.
func zoneShadowsDomain(f *facts, report func(Finding)) {
	for i := range f.Zones {
		z := &f.Zones[i]
		if z.Side != site.Inside || z.Partial || zone.Tidy(z.Name) == "" || zone.Registrable(z.Name) != z.Name {
			continue
		}
		if _, known := f.ZoneOf(z.Name, site.Outside); known {
			continue // split-inside-missing compares them name by name
		}
		was, now := *z, *z
		now.Partial = true
		report(Finding{
			Title: "What else " + z.Name + " has is hidden inside", Parts: []site.Ref{zoneRef(z.ID)}, Value: z.Name,
			Says: fmt.Sprintf("The site answers for all of %s, and nothing here says what the world is told of it. A "+
				"name that is not in the zone, such as mail.%s, is not there for anybody inside.", z.Name, z.Name),
			Fix:   change("Ask the forwarders for what it does not have", site.KindZone, z.ID, site.Ref{}, was, now),
			Other: f.zonesOfOneName(z),
		})
	}
}

// zonesOfOneName is the fix that has a zone for each name of a zone in its place: nothing else of the domain is
// answered for then. A zone of one name is no alias, and only the zone of the site's domain has the names that follow.
func (f *facts) zonesOfOneName(z *site.Zone) *Fix {
	if z.Name == f.Domain || len(z.Records) == 0 || slices.ContainsFunc(z.Records, func(r *site.Record) bool {
		return r.Owner == zone.Apex || strings.HasPrefix(r.Owner, "*") || r.Type == "CNAME" || r.Type == "NS"
	}) || slices.ContainsFunc(f.Services, func(v site.Service) bool { return zone.Within(v.Whole(f.Domain), z.Name) }) {
		return nil
	}
	fix := &Fix{Title: "Have a zone for each of its names"}
	fix.Edits, _ = edit.Removing(f.Site, zoneRef(z.ID), site.Ref{})
	made := map[string]string{}
	for _, r := range z.Records {
		whole := zone.Absolute(r.Owner, z.Name)
		id := made[whole]
		if id == "" {
			id = "zone-" + strings.NewReplacer(".", "-", "_", "").Replace(whole)
			one := site.Zone{ID: id, Name: whole, Side: site.Inside, TTL: z.TTL, Negative: z.Negative}
			if _, taken := f.Zone(id); taken || !site.ValidID(id) {
				return nil
			}
			made[whole] = id
			fix.Edits = append(fix.Edits, edit.Adding(site.KindZone, id, site.Ref{}, one))
		}
		moved := *r
		moved.Owner = zone.Apex
		if target, names := zone.TargetOf(zone.Record{Owner: r.Owner, Type: r.Type, Data: r.Data}, z.Name); names {
			words := strings.Fields(r.Data) // of all types that name something it is the last
			words[len(words)-1] = target
			moved.Data = strings.Join(words, " ")
		}
		fix.Edits = append(fix.Edits, edit.Adding(site.KindRecord, r.ID, zoneRef(id), moved))
	}
	return fix
}

// claimed is a name that another site's document claims too.
type claimed struct{ name, by string }

// outsideNameTwice is about outside names that several sites of a customer claim.
func outsideNameTwice(a *around, report func(Finding)) {
	others := map[string]claimed{}
	for _, n := range a.Neighbors {
		for _, name := range n.Outside {
			others[name] = claimed{name, n.Name}
		}
	}
	if len(others) == 0 {
		return
	}
	for _, p := range a.book().Outside {
		owners(p, func(owner string, list []compile.Entry) {
			c, ok := others[zone.Absolute(owner, p.Name)]
			if !ok {
				return
			}
			report(Finding{
				Title: fmt.Sprintf("%s is claimed by %s too", c.name, c.by), Parts: refs(p, list...), Value: c.name,
				Says: "Both sites say what the world is told of it. Whichever is pushed last counts, and the other " +
					"is reached no more. Keep it at one of them.",
				Fix: a.removingEntry("Leave it to "+c.by, list[0]),
			})
		})
	}
}

// zoneElsewhere is about inside zones of a domain that is another site's.
func zoneElsewhere(a *around, report func(Finding)) {
	for i := range a.Zones {
		z := &a.Zones[i]
		if z.Side != site.Inside || z.Name == a.Domain {
			continue
		}
		for _, n := range a.Neighbors {
			if n.Domain == "" || z.Name != n.Domain {
				continue
			}
			fix := &Fix{Title: "Leave it to " + n.Name}
			fix.Edits, _ = edit.Removing(a.Site, zoneRef(z.ID), site.Ref{})
			report(Finding{
				Title: fmt.Sprintf("%s is the domain of %s", z.Name, n.Name), Parts: []site.Ref{zoneRef(z.ID)},
				Value: z.Name,
				Says: fmt.Sprintf("This site answers for it itself, from a copy. What %s adds or moves is not known "+
					"here; ask its own server, as a server for a single domain.", n.Name),
				Fix: fix,
			})
		}
	}
}

// portTaken is about programs of a device that hold the ports of its resolver, as they were last read.
func portTaken(a *around, report func(Finding)) {
	a.eachResolver(func(r *site.Resolver, d *site.Device) {
		needs := compile.Resolver(a.Site, d.ID, &compile.Book{}).Settings
		for _, p := range a.Programs[d.ID] {
			if !p.Holds(needs) || r.StopsOthers {
				continue
			}
			report(Finding{
				Title: fmt.Sprintf("Port %d of %s is taken", p.Port, d.Name), Parts: []site.Ref{resolverRef(r.ID)},
				Value: p.Name,
				Says: fmt.Sprintf("%s listens for names there, as it was last read. %s cannot listen beside it: %s "+
					"refuses it, and its clients get no answer.", p.Name, r.Name, d.Name),
				Fix: changeResolver("Stop it before the resolver listens", r,
					func(now *site.Resolver) { now.StopsOthers = true }),
			})
		}
	})
}

// mostDiffering is how many names of a zone are reported that the world is told something else of; of a
// zone that another tool writes all may.
const mostDiffering = 20

// outsideDiffers is about what the world is told that is not what the document says, as it was last read
// from the servers of the zones. Names that the document does not have are their servers' own.
func outsideDiffers(a *around, report func(Finding)) {
	for _, p := range a.book().Outside {
		told, read := a.Told[p.Zone.ID]
		if !read {
			continue
		}
		changes := zone.Changes(told, zone.Merged(told, nil, compile.Held(p)))
		for i, c := range changes {
			if i == mostDiffering {
				break
			}
			name := zone.Absolute(c.Owner, p.Name)
			found := Finding{
				Title: "The world is told something else of " + name, Parts: []site.Ref{zoneRef(p.Zone.ID)},
				Value: name + "/" + c.Type,
				Says: fmt.Sprintf("%s is %s where %s was read, and %s here. The next push that changes the zone "+
					"writes what is here.", c.Type, data(c.Was), p.Zone.Server.Address, data(c.Now)),
			}
			at := slices.IndexFunc(p.Zone.Records, func(r *site.Record) bool {
				return strings.EqualFold(r.Owner, c.Owner) && r.Type == c.Type
			})
			if at >= 0 && len(c.Was) == 1 && len(c.Now) == 1 {
				was := p.Zone.Records[at]
				now := *was
				now.Data, now.TTL = c.Was[0].Data, c.Was[0].TTL
				found.Parts = append([]site.Ref{{Kind: site.KindRecord, ID: was.ID}}, found.Parts...)
				found.Fix = change("Write down what the world is told", site.KindRecord, was.ID,
					zoneRef(p.Zone.ID), *was, now)
			}
			report(found)
		}
	}
}

// data is what records say, in words.
func data(list []zone.Record) string {
	var out []string
	for _, r := range list {
		out = append(out, r.Data)
	}
	return cmp.Or(strings.Join(out, ", "), "not there")
}

// challengeKeyWide is about certificates whose key is one that writes a zone.
func challengeKeyWide(f *facts, report func(Finding)) {
	for i := range f.Certificates {
		c := &f.Certificates[i]
		at := slices.IndexFunc(f.Zones, func(z site.Zone) bool { return c.Key != "" && z.Key == c.Key })
		if at < 0 {
			continue
		}
		now := *c
		now.Key, now.Secret = "", ""
		report(Finding{
			Title: fmt.Sprintf("The key for %s can rewrite %s", c.Name, f.Zones[at].Name),
			Parts: []site.Ref{{Kind: site.KindCertificate, ID: c.ID}}, Value: c.Key,
			Says: fmt.Sprintf("%s lies on the machine that asks for the certificate. Whoever breaks into that can "+
				"point every name of %s elsewhere. Have a key made that may write %s alone.", c.Key, f.Zones[at].Name,
				c.Challenge()),
			Fix: change("Take the key away", site.KindCertificate, c.ID, site.Ref{}, *c, now),
		})
	}
}

// challengeNowhere is about certificates for names that no outside zone of the site has.
func challengeNowhere(f *facts, report func(Finding)) {
	for i := range f.Certificates {
		c := &f.Certificates[i]
		if _, ok := f.ZoneOf(strings.TrimPrefix(c.Name, "*."), site.Outside); ok {
			continue
		}
		report(Finding{
			Title: "Nobody can prove " + c.Name, Value: c.Name,
			Parts: []site.Ref{{Kind: site.KindCertificate, ID: c.ID}},
			Says: fmt.Sprintf("No outside zone of the site holds it, and an authority looks for %s from outside. It "+
				"issues nothing.", c.Challenge()),
		})
	}
}
