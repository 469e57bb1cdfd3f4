package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/dynamicnames"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/zone"
)

// Rules about outside names kept at the changing address of a line.

// Following runs the rules about dynamic names alone, of a document of which no more than those, the outside zones
// and the uplinks need to be there. The findings come in no order.
func Following(s *site.Site, with Surroundings) []Finding {
	var out []Finding
	f := &facts{Site: s}
	keep := func(r Rule) func(Finding) {
		return func(found Finding) { out = append(out, r.signed(found)) }
	}
	for _, r := range rules {
		if aboutFollowing(r.Slug) {
			r.site(f, keep(r))
		}
	}
	a := &around{facts: f, Surroundings: with}
	for _, r := range surroundings {
		if aboutFollowing(r.Slug) {
			r.find(a, keep(r.Rule))
		}
	}
	return out
}

func aboutFollowing(slug string) bool { return strings.HasPrefix(slug, "ddns-") }

func followingRef(id string) site.Ref { return site.Ref{Kind: site.KindFollowing, ID: id} }

// eachFollowing visits the names that are switched on.
func (f *facts) eachFollowing(do func(w *site.Following)) {
	for i := range f.Following {
		if w := &f.Following[i]; w.Enabled {
			do(w)
		}
	}
}

func changeFollowing(title string, w *site.Following, change1 func(now *site.Following)) *Fix {
	now := *w
	change1(&now)
	return change(title, site.KindFollowing, w.ID, site.Ref{}, *w, now)
}

func followingKeyWide(f *facts, report func(Finding)) {
	f.eachFollowing(func(w *site.Following) {
		at := slices.IndexFunc(f.Zones, func(z site.Zone) bool { return w.Key != "" && z.Key == w.Key })
		if at < 0 {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("The key of %s can rewrite %s", w.Name, f.Zones[at].Name),
			Parts: []site.Ref{followingRef(w.ID)}, Value: w.Key,
			Says: fmt.Sprintf("Whoever reads %s where the name is kept can point every name of %s elsewhere. Have "+
				"a key made that may write %s alone.", w.Key, f.Zones[at].Name, w.Name),
			Fix:    changeFollowing("Take the key away", w, func(now *site.Following) { now.Key, now.Secret = "", "" }),
			Remedy: f.newKey("Have a narrow key made", w),
		})
	})
}

// newKey is having a key made for a name, where its zone has a provider that makes them.
func (f *facts) newKey(title string, w *site.Following) *Remedy {
	if z, ok := f.ZoneOf(w.Name, site.Outside); !ok || z.KeysAt == "" {
		return nil
	}
	return &Remedy{title, RemedyKey, followingRef(w.ID)}
}

func followingKeyEnding(a *around, report func(Finding)) {
	a.eachFollowing(func(w *site.Following) {
		z, ok := a.ZoneOf(w.Name, site.Outside)
		if !ok {
			return
		}
		at := slices.IndexFunc(a.Keys[z.ID], func(k dynamicnames.Key) bool {
			return k.Name == w.Key &&
				k.Ending(a.Now)
		})
		if at < 0 {
			return
		}
		ends := a.Keys[z.ID][at].Ends
		says := fmt.Sprintf("From %s its server takes no more updates with %s, and the name stays where it is then.",
			ends.In(a.Now.Location()).Format("2 January 2006"), w.Key)
		title := "The key of " + w.Name + " is about to end"
		if !ends.After(a.Now) {
			title = "The key of " + w.Name + " has ended"
		}
		report(Finding{Title: title, Parts: []site.Ref{followingRef(w.ID)}, Value: w.Key, Says: says,
			Remedy: a.newKey("Have a new key made", w)})
	})
}

// longestFollowed is how long others may keep a dynamic name, in seconds, before that is too long.
const longestFollowed = 900

func followingTTLLong(f *facts, report func(Finding)) {
	f.eachFollowing(func(w *site.Following) {
		if w.TTL <= longestFollowed {
			return
		}
		report(Finding{
			Title: "Others keep " + w.Name + " for long", Parts: []site.Ref{followingRef(w.ID)},
			Value: fmt.Sprint(w.TTL),
			Says: fmt.Sprintf("When the line gets another address, those who have asked go to the old one for up to "+
				"%d minutes more.", w.TTL/60),
			Fix: changeFollowing("Let them keep it for 2 minutes", w, func(now *site.Following) { now.TTL = 0 }),
		})
	})
}

// shortestLeast is the shortest time between two updates, in seconds, that providers bear.
const shortestLeast = 30

func followingTooOften(f *facts, report func(Finding)) {
	f.eachFollowing(func(w *site.Following) {
		if w.Least == 0 || w.Least >= shortestLeast {
			return
		}
		report(Finding{
			Title: w.Name + " may be told every few seconds", Parts: []site.Ref{followingRef(w.ID)},
			Value: fmt.Sprint(w.Least),
			Says: fmt.Sprintf("A line that flaps has it told every %d s. Many providers then take no more updates for "+
				"hours.", w.Least),
			Fix: changeFollowing("Once a minute at most", w, func(now *site.Following) { now.Least = 0 }),
		})
	})
}

// recordsOf are the records by hand of a whole name in the outside zones, of some types, with their zone.
func (f *facts) recordsOf(name string, types ...string) (z *site.Zone, out []*site.Record) {
	z, ok := f.ZoneOf(name, site.Outside)
	if !ok {
		return nil, nil
	}
	for _, r := range z.Records {
		if zone.Absolute(r.Owner, z.Name) == name && slices.Contains(types, r.Type) {
			out = append(out, r)
		}
	}
	return z, out
}

func followingTwoWriters(f *facts, report func(Finding)) {
	seen := map[string]bool{}
	f.eachFollowing(func(w *site.Following) {
		again := seen[w.Name]
		seen[w.Name] = true
		z, records := f.recordsOf(w.Name, "A")
		switch {
		case again:
			fix := &Fix{Title: "Remove this one"}
			fix.Edits, _ = edit.Removing(f.Site, followingRef(w.ID), site.Ref{})
			report(Finding{
				Title: w.Name + " follows two lines", Parts: []site.Ref{followingRef(w.ID)},
				Says: "Each writes over the other, and the world is told now one address and now the other.", Fix: fix,
			})
		case len(records) > 0:
			fix := &Fix{Title: "Leave it to the line"}
			fix.Edits, _ = edit.Removing(f.Site, site.Ref{Kind: site.KindRecord, ID: records[0].ID}, zoneRef(z.ID))
			report(Finding{
				Title: w.Name + " is written by hand, too",
				Parts: []site.Ref{followingRef(w.ID), {Kind: site.KindRecord, ID: records[0].ID}},
				Says: fmt.Sprintf("A push tells the world %s, and the line its own address. Whichever wrote last "+
					"counts.", records[0].Data),
				Fix: fix,
			})
		}
	})
}

func followingAlias(f *facts, report func(Finding)) {
	f.eachFollowing(func(w *site.Following) {
		z, records := f.recordsOf(w.Name, "CNAME")
		if len(records) == 0 {
			return
		}
		fix := &Fix{Title: "Remove the alias"}
		fix.Edits, _ = edit.Removing(f.Site, site.Ref{Kind: site.KindRecord, ID: records[0].ID}, zoneRef(z.ID))
		report(Finding{
			Title: w.Name + " is an alias and cannot follow",
			Parts: []site.Ref{followingRef(w.ID), {Kind: site.KindRecord, ID: records[0].ID}},
			Says:  "An alias has no address beside it (RFC 1034). The update is passed over without a word.", Fix: fix,
		})
	})
}

func followingNobody(a *around, report func(Finding)) {
	a.eachFollowing(func(w *site.Following) {
		says := a.unkept(w)
		if says == "" {
			return
		}
		report(Finding{
			Title: "Nothing updates " + w.Name, Parts: []site.Ref{followingRef(w.ID)}, Value: says,
			Says: says + " When the line gets another address, the name stays where it was.",
			Fix:  changeFollowing("Switch it off", w, func(now *site.Following) { now.Enabled = false }),
		})
	})
}

// unkept is why nobody keeps a name; empty where somebody does.
func (a *around) unkept(w *site.Following) string {
	z, ok := a.ZoneOf(w.Name, site.Outside)
	d, i, there := a.Interface(w.Uplink)
	switch {
	case !there || i.Kind != site.Uplink:
		return "The uplink that it follows is not there."
	case !ok:
		return "No outside zone of the site holds it."
	case w.How == "" && !z.Server.Address.IsValid():
		return fmt.Sprintf("Nothing says which server holds %s.", z.Name)
	case w.How == site.ByRequest && w.RequestTo == "":
		return "Nothing says where its request goes."
	case w.Key == "":
		return "It names no key, and its server takes none without."
	case w.Keeper == site.KeptByDevice && !compile.KeepsNames(d.Kind):
		return fmt.Sprintf("%s keeps no names; Lithos can, when it reads the device.", d.Name)
	case w.Keeper == site.KeptByDevice && w.Source == site.AskedOutside && w.Asks == "":
		return "Nothing says which service is asked for the address."
	case w.Keeper == "" && a.Reached != nil && !a.Reached[d.ID]:
		return fmt.Sprintf("Lithos keeps it when it reads %s, and does not reach that.", d.Name)
	}
	return ""
}

// followed is an address that a dynamic name is to have.
type followed struct {
	*site.Following
	typ     string
	address netip.Addr
	reach   dynamicnames.Reach
}

// eachLine visits the addresses of dynamic names whose line was read.
func (a *around) eachLine(do func(w followed)) {
	a.eachFollowing(func(w *site.Following) {
		for _, typ := range w.Types() {
			line := a.Lines[w.Line()].Of(typ)
			if !line.IsValid() {
				continue
			}
			reach := dynamicnames.ReachOf(line)
			if reach == dynamicnames.Documentation && a.Documents {
				reach = dynamicnames.Public
			}
			do(followed{w, typ, line, reach})
		}
	})
}

func followingPrivate(a *around, report func(Finding)) {
	a.eachLine(func(w followed) {
		if w.reach != dynamicnames.Public && w.reach != dynamicnames.Shared {
			report(unreached(w, "Another router translates before it, or the line is not the internet's."))
		}
	})
}

func followingShared(a *around, report func(Finding)) {
	a.eachLine(func(w followed) {
		if w.reach == dynamicnames.Shared {
			report(unreached(w, "Ask the provider for an address of its own."))
		}
	})
}

func unreached(w followed, do string) Finding {
	return Finding{
		Title: w.Name + " is not reachable from the internet", Parts: []site.Ref{followingRef(w.ID)},
		Addresses: single(w.address),
		Says:      fmt.Sprintf("The line has %s. %s %s", w.address, w.reach.Says(), do), Value: w.address.String(),
		Fix: changeFollowing("Switch it off", w.Following, func(now *site.Following) { now.Enabled = false }),
	}
}

// single is an address as a finding shows it; the ruler has no IPv6.
func single(a netip.Addr) []address.Range {
	if !a.Is4() {
		return nil
	}
	return []address.Range{address.Single(a)}
}

// toldOf is what the server of a dynamic name had when it was read last; read is false where it was not.
func (a *around) toldOf(w followed) (told []string, read bool) {
	z, ok := a.ZoneOf(w.Name, site.Outside)
	if !ok {
		return nil, false
	}
	list, read := a.AtServer[z.ID]
	owner, _ := zone.Relative(w.Name, z.Name)
	return zone.DataAt(list, owner, w.typ), read
}

// sendNow is telling a name its address at once; nil where nobody reaches that.
func sendNow(w followed) *Remedy {
	if w.reach != dynamicnames.Public {
		return nil
	}
	return &Remedy{"Send it now", RemedySend, followingRef(w.ID)}
}

func followingMissing(a *around, report func(Finding)) {
	a.eachLine(func(w followed) {
		if told, read := a.toldOf(w); read && len(told) == 0 {
			report(Finding{
				Title: "The world knows no " + w.Name, Parts: []site.Ref{followingRef(w.ID)}, Value: w.typ,
				Says:   fmt.Sprintf("Its server has no %s for it, and the line has %s.", w.typ, w.address),
				Remedy: sendNow(w),
			})
		}
	})
}

func followingStale(a *around, report func(Finding)) {
	a.eachLine(func(w followed) {
		told, read := a.toldOf(w)
		if !read || len(told) == 0 || len(told) == 1 && told[0] == w.address.String() {
			return
		}
		report(Finding{
			Title: "The world is told the wrong address of " + w.Name, Parts: []site.Ref{followingRef(w.ID)},
			Addresses: single(w.address), Value: w.typ,
			Says: fmt.Sprintf("It is told %s, and the line has %s. Who comes by that name reaches nobody, or a "+
				"stranger.", strings.Join(told, ", "), w.address),
			Remedy: a.takeBack(w),
		})
	})
}

// takeBack is writing a name again that somebody else has written over. Where the provider takes no update because the
// record was written by hand, it is a key that may have it follow.
func (a *around) takeBack(w followed) *Remedy {
	z, ok := a.ZoneOf(w.Name, site.Outside)
	byHand := ok && slices.ContainsFunc(a.Sets[z.ID], func(s dynamicnames.Set) bool {
		return s.Name == w.Name && s.Type == w.typ && s.Origin == "hand"
	})
	if byHand {
		if key := a.newKey("Have a key made that may take it over", w.Following); key != nil {
			return key
		}
	}
	send := sendNow(w)
	if send != nil {
		send.Title = "Write it again"
	}
	return send
}

// followingHidden is about names that the world is told and that an inside zone of the same domain hides.
func followingHidden(f *facts, report func(Finding)) {
	f.eachFollowing(func(w *site.Following) {
		home := f.hiddenBy(w.Name)
		if home == nil || home.Zone == nil || f.answeredElsewhere(w.Name) || w.Name == home.Name {
			return
		}
		was, now := *home.Zone, *home.Zone
		now.Partial = true
		found := Finding{
			Title: w.Name + " is there outside and not inside", Parts: []site.Ref{followingRef(w.ID)}, Value: w.Name,
			Says: fmt.Sprintf("Inside, %s is answered for by the site itself, which says that there is no such "+
				"name. A laptop that uses it away from the site does not get through here.", home.Name),
			Fix: change("Ask the forwarders for what "+home.Name+" does not have", site.KindZone, was.ID, site.Ref{},
				was, now),
		}
		if d, i, ok := f.Interface(w.Uplink); ok {
			if at := insideOf(d, i); at.IsValid() {
				owner, _ := zone.Relative(w.Name, home.Name)
				fresh := site.Record{ID: "rec-" + w.ID, Owner: owner, Type: "A", Data: at.String(), NoReverse: true}
				found.Other = &Fix{fmt.Sprintf("Let it be %s of %s inside", at, d.Name),
					[]edit.Edit{edit.Adding(site.KindRecord, fresh.ID, zoneRef(was.ID), fresh)}}
			}
		}
		report(found)
	})
}

// insideOf is the first address of a device that is none of its uplinks; invalid where it has none.
func insideOf(d *site.Device, uplink *site.Interface) netip.Addr {
	for _, i := range d.Interfaces {
		if i.ID != uplink.ID && i.Kind != site.Uplink && len(i.Addresses) > 0 {
			return i.Addresses[0].Addr()
		}
	}
	return netip.Addr{}
}

// followingByHand is about records by hand that hold the address of a line which changes.
func followingByHand(a *around, report func(Finding)) {
	lines := a.changing()
	for _, p := range a.book().Outside {
		for _, e := range p.Entries {
			at, err := netip.ParseAddr(e.Data)
			uplink, ok := lines[at]
			if err != nil || !ok || e.From.Kind != site.KindRecord || strings.HasPrefix(e.Owner, "*") {
				continue
			}
			name := p.Whole(e)
			if slices.ContainsFunc(a.Following, func(w site.Following) bool { return w.Name == name }) {
				continue // ddns-two-writers says so
			}
			w := site.Following{ID: "following-" + e.From.ID, Name: name, Uplink: uplink.ID, Enabled: true}
			if e.Type == "AAAA" {
				w.Addresses = site.OnlyIPv6
			}
			fix := &Fix{Title: "Let it follow"}
			fix.Edits, _ = edit.Removing(a.Site, e.From, e.In)
			fix.Edits = append(fix.Edits, edit.Adding(site.KindFollowing, w.ID, site.Ref{}, w))
			if !site.ValidID(w.ID) {
				fix = nil
			}
			report(Finding{
				Title: name + " is by hand the address of a line that changes", Parts: refs(p, e),
				Addresses: single(at), Value: name + "/" + e.Type,
				Says: fmt.Sprintf("%s had %s when it was last read, from its provider. When it gets another, the "+
					"world is still told this one.", uplink.Name, at),
				Fix: fix,
			})
		}
	}
}

// changing is the uplinks whose provider gives them their addresses, by the addresses that they were last read with.
func (a *around) changing() map[netip.Addr]*site.Interface {
	out := map[netip.Addr]*site.Interface{}
	for _, i := range a.uplinks {
		if i.Uplink == nil || i.Uplink.Method == site.ByFixed {
			continue
		}
		for _, at := range []netip.Addr{a.Lines[i.ID].IPv4, a.Lines[i.ID].IPv6} {
			if at.IsValid() {
				out[at] = i
			}
		}
	}
	return out
}

// keyIsGone reports whether the provider of a name's zone has no such key, as its keys were last read.
func (a *around) keyIsGone(name, key string) bool {
	z, ok := a.ZoneOf(name, site.Outside)
	if !ok || key == "" || z.KeysAt == "" {
		return false
	}
	keys, read := a.Keys[z.ID]
	return read && !slices.ContainsFunc(keys, func(k dynamicnames.Key) bool { return k.Name == key })
}

func followingKeyGone(a *around, report func(Finding)) {
	a.eachFollowing(func(w *site.Following) {
		if !a.keyIsGone(w.Name, w.Key) {
			return
		}
		report(Finding{
			Title: "The key of " + w.Name + " is gone", Parts: []site.Ref{followingRef(w.ID)}, Value: w.Key,
			Says: fmt.Sprintf("Its provider had no %s when its keys were read last: it was revoked. No update is "+
				"taken with it, and the name stays where it is.", w.Key),
			Remedy: a.newKey("Have a new key made", w),
		})
	})
}

// keyGone is about keys of zones and of certificates that their provider does not have.
func keyGone(a *around, report func(Finding)) {
	for i := range a.Zones {
		z := &a.Zones[i]
		if z.Side != site.Outside || !a.keyIsGone(z.Name, z.Key) {
			continue
		}
		report(Finding{
			Title: "The key of " + z.Name + " is gone", Parts: []site.Ref{zoneRef(z.ID)}, Value: z.Key,
			Says: fmt.Sprintf("Its provider had no %s when its keys were read last. The zone is neither read nor "+
				"written until it has another.", z.Key),
		})
	}
	for i := range a.Certificates {
		c := &a.Certificates[i]
		if !a.keyIsGone(strings.TrimPrefix(c.Name, "*."), c.Key) {
			continue
		}
		report(Finding{
			Title: "The key for " + c.Name + " is gone", Parts: []site.Ref{{Kind: site.KindCertificate, ID: c.ID}},
			Value: c.Key,
			Says: fmt.Sprintf("Its provider had no %s when its keys were read last. The certificate cannot be "+
				"had again when it ends.", c.Key),
		})
	}
}
