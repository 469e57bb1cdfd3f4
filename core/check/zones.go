package check

import (
	"fmt"
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

func zoneID(p *compile.Pages) string {
	if p.Zone == nil {
		return ""
	}
	return p.Zone.ID
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
