package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/zone"
)

// Rules about what zones and their records say together.

// zoneTwice is about zones of one side that have the same name: the first is answered from, and what the other holds is
// not there.
func zoneTwice(f *facts, report func(Finding)) {
	key := func(z *site.Zone) string { return z.Side + " " + zone.Tidy(z.Name) }
	twice(f.Zones, key, func(first, again *site.Zone) {
		found := Finding{
			Title: fmt.Sprintf("%s is there twice, %s", zone.Tidy(again.Name), again.Side),
			Parts: []site.Ref{zoneRef(first.ID), zoneRef(again.ID)}, Value: again.Side + again.Name,
			Says: fmt.Sprintf("Answers come from one of the two. What the other holds, %s, is not there.",
				site.Counted(len(again.Records), "record")),
		}
		if len(again.Records) == 0 {
			found.Fix = &Fix{Title: "Remove the empty one"}
			found.Fix.Edits, _ = edit.Removing(f.Site, zoneRef(again.ID), site.Ref{})
		}
		report(found)
	})
}

// zoneTooHigh is about zones inside that take the place of a top-level domain, or of all names.
func zoneTooHigh(f *facts, report func(Finding)) {
	for i := range f.Zones {
		z := &f.Zones[i]
		name := zone.Tidy(z.Name)
		if z.Side != site.Inside || zone.Labels(name) > 1 || forHome(name) {
			continue
		}
		says := fmt.Sprintf("%s is a top-level domain. Every name below it that the zone does not have is not there "+
			"for the site.", name)
		if name == "" {
			says = "It is the root. Every name of the internet is not there for the site."
		}
		fix := &Fix{Title: "Remove the zone"}
		fix.Edits, _ = edit.Removing(f.Site, zoneRef(z.ID), site.Ref{})
		if len(z.Records) > 0 {
			fix = nil
		}
		report(Finding{Title: "A zone inside answers for all of " + rootOr(name), Parts: []site.Ref{zoneRef(z.ID)},
			Value: name, Says: says, Fix: fix})
	}
}

// forHome reports whether a name of one label is one that networks use for themselves (RFC 6761, RFC 6762, and the
// reserved internal).
func forHome(name string) bool {
	return slices.Contains([]string{"local", "localhost", "test", "internal", "lan", "home", "corp"}, name)
}

func rootOr(name string) string {
	if name == "" {
		return "the internet"
	}
	return name
}

// reverseOwnerInvalid is about owners in reverse zones that are the octet of no address.
func reverseOwnerInvalid(f *facts, report func(Finding)) {
	for i := range f.Zones {
		z := &f.Zones[i]
		if !strings.HasSuffix(zone.Tidy(z.Name), "in-addr.arpa") {
			continue
		}
		for _, r := range z.Records {
			wrong := ""
			for label := range strings.SplitSeq(r.Owner, ".") {
				if n, err := strconv.Atoi(label); err == nil && (n < 0 || n > 255) {
					wrong = label
				}
			}
			if wrong == "" {
				continue
			}
			in := zoneRef(z.ID)
			fix := &Fix{Title: "Remove it"}
			fix.Edits, _ = edit.Removing(f.Site, site.Ref{Kind: site.KindRecord, ID: r.ID}, in)
			report(Finding{
				Title: fmt.Sprintf("%s in %s is the reverse of no address", r.Owner, z.Name), Value: r.Owner,
				Parts: []site.Ref{{Kind: site.KindRecord, ID: r.ID}, in}, Fix: fix,
				Says: fmt.Sprintf("An octet is from 0 to 255, and this is %s. Nobody asks for it.", wrong),
			})
		}
	}
}

// reverseZoneWide is about reverse zones inside that are wider than it takes for the site's blocks: those of other
// sites and of the internet have no reverse name any more.
func reverseZoneWide(f *facts, report func(Finding)) {
	for i := range f.Zones {
		z := &f.Zones[i]
		p, reverse := zone.ReversePrefix(zone.Tidy(z.Name))
		if z.Side != site.Inside || !reverse || !p.Addr().Is4() || len(f.Block) == 0 {
			continue
		}
		wide := !slices.ContainsFunc(f.Block, func(b netip.Prefix) bool {
			return p.Overlaps(b) && p.Bits() >= b.Bits()/8*8
		})
		if !wide {
			continue
		}
		report(Finding{
			Title: fmt.Sprintf("%s is wider than the site", z.Name), Parts: []site.Ref{zoneRef(z.ID)}, Value: z.Name,
			Addresses: []address.Range{address.Of(p)},
			Says: fmt.Sprintf("It is the reverse of %s, and the site has %s. Addresses of others in it have no name "+
				"for whoever asks here.", p, join(f.Block)),
		})
	}
}

// servers visits the records that name a server: which types do, and the name.
func (f *facts) servers(do func(side []*compile.Pages, p *compile.Pages, e compile.Entry, target string)) {
	for _, side := range f.sides() {
		for _, p := range side {
			for _, e := range p.Entries {
				target, names := zone.TargetOf(e.Record, p.Name)
				if names && (e.Type == "NS" || e.Type == "MX" || e.Type == "SRV") {
					do(side, p, e, target)
				}
			}
		}
	}
}

// serverNameAddress is about records that should name a server and have an address in its place.
func serverNameAddress(f *facts, report func(Finding)) {
	f.servers(func(_ []*compile.Pages, p *compile.Pages, e compile.Entry, target string) {
		bare := strings.TrimSuffix(target, "."+p.Name)
		a, err := netip.ParseAddr(bare)
		if err != nil {
			return
		}
		found := Finding{
			Title: fmt.Sprintf("%s names an address", p.Whole(e)), Parts: refs(p, e), Value: p.Whole(e) + e.Type,
			Addresses: []address.Range{address.Single(a)},
			Says: fmt.Sprintf("An %s record names a server by its name, and this one has %s (RFC 1035 section 3.3). "+
				"Nobody finds it.", e.Type, a),
			Fix: f.removingEntry("Remove it", e),
		}
		report(found)
	})
}

// serverNameAlias is about servers that are named by an alias.
func serverNameAlias(f *facts, report func(Finding)) {
	f.servers(func(side []*compile.Pages, p *compile.Pages, e compile.Entry, target string) {
		at := compile.Find(side, target)
		if at == nil {
			return
		}
		found, ok := at.EntryOf(target)
		if !ok || found.Type != "CNAME" {
			return
		}
		end, there, _, _ := follows(side, target)
		one := Finding{
			Title: fmt.Sprintf("%s names an alias", p.Whole(e)), Parts: refs(p, e), Value: p.Whole(e) + e.Type + target,
			Says: fmt.Sprintf("An %s record has the name of the server itself (RFC 2181 section 10.3, RFC 2782), and "+
				"%s is an alias. Some who ask give up there.", e.Type, target),
		}
		if there {
			one.Fix = f.renaming(fmt.Sprintf("Name %s itself", end), e, target, end)
		}
		report(one)
	})
}

// renaming is the fix that has a record by hand name another server; nil for one that follows.
func (f *facts) renaming(title string, e compile.Entry, from, to string) *Fix {
	z, ok := f.Zone(e.In.ID)
	if !ok || e.From.Kind != site.KindRecord {
		return nil
	}
	for _, r := range z.Records {
		if r.ID != e.From.ID {
			continue
		}
		words := strings.Fields(r.Data)
		if len(words) == 0 {
			return nil
		}
		words[len(words)-1] = to + "."
		now := *r
		now.Data = strings.Join(words, " ")
		return change(title, site.KindRecord, r.ID, e.In, *r, now)
	}
	return nil
}

// delegations visits the names below a zone's own that name servers are recorded for.
func (f *facts) delegations(do func(p *compile.Pages, owner string, list []compile.Entry)) {
	for _, p := range f.pages() {
		owners(p, func(owner string, list []compile.Entry) {
			if servers := ofType(list, "NS"); len(servers) > 0 && owner != zone.Apex {
				do(p, owner, servers)
			}
		})
	}
}

// delegationHides is about names that are handed to other servers while machines of the zone have them, or names below.
func delegationHides(f *facts, report func(Finding)) {
	f.delegations(func(p *compile.Pages, owner string, servers []compile.Entry) {
		whole := zone.Absolute(owner, p.Name)
		var hidden []compile.Entry
		for _, e := range p.Entries {
			at := p.Whole(e)
			glue := slices.ContainsFunc(servers, func(s compile.Entry) bool {
				target, _ := zone.TargetOf(s.Record, p.Name)
				return target == at
			})
			if e.Type != "NS" && zone.Within(at, whole) && !glue {
				hidden = append(hidden, e)
			}
		}
		if len(hidden) == 0 {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("%s is handed to other name servers", whole), Parts: refs(p, append(servers,
				hidden...)...),
			Value: whole + p.Side,
			Says: fmt.Sprintf("Who asks for it, or for a name below, is sent to %s. %s of %s is not found any more.",
				servers[0].Data, p.Whole(hidden[0]), f.sayOf(hidden[0])),
			Fix: f.removingEntry("Remove the NS record", servers[0]),
		})
	})
}

// delegationWithoutGlue is about name servers of a delegated zone that are in it and have no address above it: who asks
// for them is sent to them.
func delegationWithoutGlue(f *facts, report func(Finding)) {
	f.delegations(func(p *compile.Pages, owner string, servers []compile.Entry) {
		whole := zone.Absolute(owner, p.Name)
		for _, s := range servers {
			target, ok := zone.TargetOf(s.Record, p.Name)
			has := slices.ContainsFunc(p.Entries, func(e compile.Entry) bool {
				return (e.Type == "A" || e.Type == "AAAA") && p.Whole(e) == target
			})
			if !ok || has || !zone.Within(target, whole) {
				continue
			}
			report(Finding{
				Title: fmt.Sprintf("%s has no address above its zone", target), Parts: refs(p, s), Value: target +
					p.Side,
				Says: fmt.Sprintf("It is a name server of %s and is in it. To find its address one has to ask it "+
					"(RFC 1034 section 4.2.1). Nobody gets an answer.", whole),
				Fix: f.removingEntry("Remove it", s),
			})
		}
	})
}

// mostAliases is how many aliases in a row a resolver follows.
const mostAliases = 16

func aliasChainLong(f *facts, report func(Finding)) {
	for _, side := range f.sides() {
		for _, p := range side {
			for _, e := range ofType(p.Entries, "CNAME") {
				if n := chainOf(side, p.Whole(e)); n > mostAliases {
					report(Finding{
						Title: fmt.Sprintf("%s leads on %d times", p.Whole(e), n), Parts: refs(p, e),
						Value: p.Whole(e) + p.Side,
						Says: fmt.Sprintf("A resolver follows %d aliases in a row and then gives up. Who asks is "+
							"told that the server failed.", mostAliases),
						Fix: f.removingEntry("Remove the alias", e),
					})
					return // those that it leads through are as long, but for one
				}
			}
		}
	}
}

// chainOf counts the aliases that lead on from a name; 0 for a circle.
func chainOf(side []*compile.Pages, name string) int {
	seen := map[string]bool{}
	for n := 0; ; n++ {
		p := compile.Find(side, name)
		if p == nil || seen[name] {
			return map[bool]int{true: 0, false: n}[seen[name]]
		}
		seen[name] = true
		e, ok := p.EntryOf(name)
		if !ok || e.Type != "CNAME" {
			return n
		}
		if name, ok = zone.TargetOf(e.Record, p.Name); !ok {
			return n + 1
		}
	}
}

// wildcardAtApex is about wildcards directly below a zone inside that clients complete names with: every mistyped name,
// and every name of the internet with the domain behind it, leads there.
func wildcardAtApex(f *facts, report func(Finding)) {
	for _, p := range f.book().Inside {
		for _, e := range p.Entries {
			if e.Owner != "*" || zone.Tidy(p.Name) != zone.Tidy(f.Domain) {
				continue
			}
			report(Finding{
				Title: "Every name of " + p.Name + " leads somewhere", Parts: refs(p, e), Value: p.Name + e.Type,
				Says: fmt.Sprintf("*.%s is answered with %s, and clients complete what they do not find with %s. A "+
					"mistyped name, and a name of the internet that is not there, leads to it.", p.Name, e.Data,
					p.Name),
				Fix: f.removingEntry("Remove it", e),
			})
		}
	}
}

// recordAddressUnusable is about addresses in records inside at which no machine is.
func recordAddressUnusable(f *facts, report func(Finding)) {
	f.eachAddress(f.book().Inside, func(p *compile.Pages, e compile.Entry, a netip.Addr) {
		why := f.unheld(a)
		if why == "" || e.From.Kind != site.KindRecord {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("%s is an address that nobody has", p.Whole(e)), Parts: refs(p, e), Value: p.Whole(e),
			Addresses: []address.Range{address.Single(a)},
			Says:      fmt.Sprintf("%s %s. Who asks for the name reaches nothing.", a, why),
			Fix:       f.removingEntry("Remove it", e),
		})
	})
}

// spfTwice is about names with two sender policies.
func spfTwice(f *facts, report func(Finding)) {
	for _, p := range f.book().Outside {
		owners(p, func(owner string, list []compile.Entry) {
			policies := slices.DeleteFunc(ofType(list, "TXT"), func(e compile.Entry) bool {
				return !strings.HasPrefix(strings.ToLower(strings.Trim(e.Data, `"`)), "v=spf1")
			})
			if len(policies) < 2 {
				return
			}
			last := policies[len(policies)-1]
			report(Finding{
				Title: fmt.Sprintf("%s has %d sender policies", zone.Absolute(owner, p.Name), len(policies)),
				Parts: refs(p, policies...), Value: zone.Absolute(owner, p.Name),
				Says: "A name has one (RFC 7208 section 3.2). With two, those who receive its mail take neither, and " +
					"refuse it.",
				Fix: f.removingEntry("Remove "+last.Data, last),
			})
		})
	}
}

// keyWithoutSecret is about keys that are named, and of which Lithos keeps nothing.
func keyWithoutSecret(f *facts, report func(Finding)) {
	found := func(ref site.Ref, what, key string) {
		report(Finding{
			Title: "The key of " + what + " is not kept", Parts: []site.Ref{ref}, Value: key,
			Says: fmt.Sprintf("%s is named, and what it is was never typed. Nothing can be read or written with it.",
				key),
		})
	}
	for i := range f.Zones {
		if z := &f.Zones[i]; z.Side == site.Outside && z.Key != "" && z.Secret == "" {
			found(zoneRef(z.ID), z.Name, z.Key)
		}
	}
	for i := range f.Following {
		if w := &f.Following[i]; w.Key != "" && w.Secret == "" {
			found(followingRef(w.ID), w.Name, w.Key)
		}
	}
	for i := range f.Certificates {
		if c := &f.Certificates[i]; c.Key != "" && c.Secret == "" {
			found(site.Ref{Kind: site.KindCertificate, ID: c.ID}, c.Name, c.Key)
		}
	}
}

// zoneServerPrivate is about outside zones whose server the internet does not reach.
func zoneServerPrivate(f *facts, report func(Finding)) {
	for i := range f.Zones {
		z := &f.Zones[i]
		at := z.Server.Address
		if z.Side != site.Outside || !at.IsValid() || !isPrivate(at) && f.unusableHost(at) == "" {
			continue
		}
		report(Finding{
			Title: fmt.Sprintf("The server of %s is at a private address", z.Name), Parts: []site.Ref{zoneRef(z.ID)},
			Addresses: []address.Range{address.Single(at)},
			Says: fmt.Sprintf("The world asks the servers of an outside zone, and %s is reached from inside alone. "+
				"What is written there is what nobody outside is told.", at),
		})
	}
}

// outsideNotOurs is about names that are at the site inside, and that the world is told another address of than any
// line of the site has.
func outsideNotOurs(f *facts, report func(Finding)) {
	var lines []netip.Addr
	for _, u := range f.uplinks {
		if u.Uplink == nil || u.Uplink.Method != site.ByFixed {
			return // a line whose address is not recorded
		}
		for _, a := range u.Addresses {
			lines = append(lines, a.Addr())
		}
	}
	if len(lines) == 0 {
		return
	}
	b := f.book()
	f.eachAddress(b.Outside, func(p *compile.Pages, e compile.Entry, a netip.Addr) {
		whole := p.Whole(e)
		if !a.Is4() || slices.Contains(lines, a) || isPrivate(a) || e.From.Kind != site.KindRecord {
			return
		}
		onLine := slices.ContainsFunc(f.uplinks, func(u *site.Interface) bool {
			return slices.ContainsFunc(u.Addresses, func(q netip.Prefix) bool { return q.Masked().Contains(a) })
		})
		in := compile.Find(b.Inside, whole)
		if in == nil || onLine {
			return
		}
		here, ok := in.EntryOf(whole)
		at, err := netip.ParseAddr(here.Data)
		if !ok || here.Type != "A" || err != nil || !isPrivate(at) {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("The world is told an address of %s that is not the site's", whole), Parts: refs(p, e),
			Addresses: []address.Range{address.Single(a)}, Value: whole,
			Says: fmt.Sprintf("Inside it is %s, and no line of the site has %s. Who comes from outside reaches "+
				"somebody else.", at, a),
			Fix: f.readdressing(fmt.Sprintf("Tell them %s", lines[0]), e, lines[0]),
		})
	})
}

// readdressing is the fix that gives a record by hand another address.
func (f *facts) readdressing(title string, e compile.Entry, to netip.Addr) *Fix {
	z, ok := f.Zone(e.In.ID)
	if !ok {
		return nil
	}
	for _, r := range z.Records {
		if r.ID == e.From.ID {
			now := *r
			now.Data = to.String()
			return change(title, site.KindRecord, r.ID, e.In, *r, now)
		}
	}
	return nil
}

func certificateWithoutKey(f *facts, report func(Finding)) {
	for i := range f.Certificates {
		c := &f.Certificates[i]
		if c.Key != "" {
			continue
		}
		report(Finding{
			Title: "The certificate of " + c.Name + " has no key",
			Parts: []site.Ref{{Kind: site.KindCertificate, ID: c.ID}}, Value: c.Name,
			Says: fmt.Sprintf("Whoever asks for it proves that the name is theirs by %s, and nothing may write that.",
				c.Challenge()),
		})
	}
}

// serviceBaseMissing is about services whose proxy has no name that leads anywhere.
func serviceBaseMissing(f *facts, report func(Finding)) {
	b := f.book()
	for i := range f.Services {
		v := &f.Services[i]
		base := zone.Absolute(zone.Tidy(v.Base), f.Domain)
		if strings.Contains(v.Base, ".") {
			base = zone.Tidy(v.Base)
		}
		for side, pages := range map[string][]*compile.Pages{site.Inside: b.Inside, site.Outside: b.Outside} {
			wanted := v.Inside && side == site.Inside || v.Outside && side == site.Outside
			end, there, circle, ours := follows(pages, base)
			if !wanted || there || circle || !ours || f.answeredElsewhere(end) || f.mayBeLease(end) ||
				f.followed(base) {
				continue
			}
			report(Finding{
				Title: fmt.Sprintf("%s is behind %s, which is nowhere %s", v.Name, v.Base, side),
				Parts: []site.Ref{serviceRef(v.ID)}, Value: base + side,
				Says: fmt.Sprintf("It is an alias of %s, and nobody has that name %s. Who asks gets no address.", base,
					side),
			})
		}
	}
}

// followed reports whether a name follows a line: its record is written by whoever keeps it.
func (f *facts) followed(name string) bool {
	return slices.ContainsFunc(f.Following, func(w site.Following) bool { return zone.Tidy(w.Name) == name })
}
