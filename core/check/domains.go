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
	if _, there := home.EntryOf(name); there {
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
