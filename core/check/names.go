package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/site"
)

// inside reports whether an address is the site's own.
func (f *facts) inside(a netip.Addr) bool {
	if _, ok := f.NetworkOf(a); ok {
		return true
	}
	return slices.ContainsFunc(f.Block, func(b netip.Prefix) bool { return b.Contains(a) })
}

// holds reports whether something recorded has an address.
func (f *facts) holds(a netip.Addr) bool { return len(f.ownersIn(address.Single(a))) > 0 }

// eachTold visits an effective option of clients once for each level that sets it, so
// that one mistake is one finding: the levels of a network, or those above networks
// where n is nil.
func (f *facts) eachTold(n *site.Network, code uint8, do func(t option.Effective)) {
	if n == nil {
		if t, ok := compile.Value([]option.Effective(f.common), code); ok && f.toldAnywhere(t) {
			do(t)
		}
		return
	}
	done := map[option.Source]bool{}
	f.eachPool(n, func(p *site.Pool) {
		t, ok := compile.Value(f.toldIn(p), code)
		if own := t.From.Kind == site.KindNetwork || t.From.Kind == site.KindPool; ok && own && !done[t.From] {
			done[t.From] = true
			do(t)
		}
	})
}

// toldAnywhere reports whether an option that a level above networks sets takes effect
// for the clients of some pool.
func (f *facts) toldAnywhere(t option.Effective) bool {
	for i := range f.Pools {
		if told, ok := compile.Value(f.toldIn(&f.Pools[i]), t.Code); ok && told.From == t.From {
			return true
		}
	}
	return false
}

// level is the part that a told option is set on.
func level(t option.Effective) site.Ref { return site.Ref{Kind: t.From.Kind, ID: t.From.ID} }

// idOf is the id of a network, empty for none.
func idOf(n *site.Network) string {
	if n == nil {
		return ""
	}
	return n.ID
}

func words(list []netip.Addr) string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.String()
	}
	return strings.Join(out, ", ")
}

func effectiveAddresses(t option.Effective) []netip.Addr {
	return compile.Addresses([]option.Effective{t}, t.Code)
}

func dnsMissing(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		if _, ok := compile.Value(f.toldIn(p), option.NameServers); ok {
			return
		}
		found := Finding{
			Title: fmt.Sprintf("Clients of %s are told no name server", p.Name), Network: n.ID,
			Parts: []site.Ref{poolRef(p.ID)},
			Says:  "They reach addresses and no names; to their users nothing works.",
		}
		found.Fix = f.tellServer(n)
		report(found)
	})
}

// tellServer is the fix that tells clients of a network a name server which answers them: one that does, or the device
// at their gateway, which answers names from then on. It is nil where there is none.
func (f *facts) tellServer(n *site.Network) *Fix {
	tell := func(a netip.Addr) edit.Edit {
		o := site.Option{Code: option.NameServers, Value: a.String()}
		return edit.Adding(site.KindOption, fmt.Sprint(o.Code), networkRef(n.ID), o)
	}
	if a := f.answersAt(n); a.IsValid() {
		return &Fix{"Tell them " + a.String(), []edit.Edit{tell(a)}}
	}
	d, _, held := f.HolderOf(n.Gateway)
	if !held || f.resolverOn(d) != nil || d.Kind == site.L2Switch {
		return nil
	}
	return &Fix{fmt.Sprintf("Answer names on %s, and tell them %s", d.Name, n.Gateway),
		[]edit.Edit{f.freshResolver(d), tell(n.Gateway)}}
}

func dnsUnreachable(f *facts, n *site.Network, report func(Finding)) {
	f.eachTold(n, option.NameServers, func(t option.Effective) {
		servers := effectiveAddresses(t)
		for _, a := range servers {
			if !f.inside(a) || f.holds(a) {
				continue
			}
			found := Finding{
				Title: fmt.Sprintf("No device is at the name server %s", a), Network: idOf(n),
				Parts:     []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
				Addresses: []address.Range{address.Single(a)},
				Says: fmt.Sprintf("%s, set on %s, is inside the site and nothing recorded holds it. Clients "+
					"wait for an answer that does not come.", a, t.From.Name),
			}
			if rest := slices.DeleteFunc(slices.Clone(servers),
				func(o netip.Addr) bool { return o == a }); len(rest) > 0 {
				found.Fix = f.retell("Leave "+a.String()+" out", t, words(rest))
			}
			report(found)
		}
	})
}

// dnsOfNobody is about name servers with a private address that is of no site which is known.
func dnsOfNobody(a *around, report func(Finding)) {
	known := func(at netip.Addr) bool {
		return !isPrivate(at) || a.inside(at) || a.routedElsewhere(at) || a.beyondUplink(at) ||
			slices.ContainsFunc(a.Neighbors, func(n Neighbor) bool {
				return slices.ContainsFunc(n.Networks, func(o site.Network) bool { return o.Prefix.Contains(at) })
			})
	}
	look := func(n *site.Network) {
		a.eachTold(n, option.NameServers, func(t option.Effective) {
			servers := effectiveAddresses(t)
			at := slices.IndexFunc(servers, func(s netip.Addr) bool { return !known(s) })
			if at < 0 {
				return
			}
			found := Finding{
				Title: fmt.Sprintf("Nothing is known of the name server %s", servers[at]), Network: idOf(n),
				Parts:     []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
				Addresses: []address.Range{address.Single(servers[at])},
				Says: fmt.Sprintf("%s, set on %s, is private, and of no network of this site or of the customer's "+
					"others. Clients wait for an answer that may not come.", servers[at], t.From.Name),
			}
			if rest := slices.Delete(slices.Clone(servers), at, at+1); len(rest) > 0 {
				found.Fix = a.retell("Leave "+servers[at].String()+" out", t, words(rest))
			}
			report(found)
		})
	}
	look(nil)
	for i := range a.Networks {
		look(&a.Networks[i])
	}
}

// beyondUplink reports whether a private address may be of a router that an uplink is behind: one that it learnt, or
// any where what the line has is private, too.
func (a *around) beyondUplink(at netip.Addr) bool {
	return slices.ContainsFunc(a.uplinks, func(i *site.Interface) bool {
		line := a.Lines[i.ID].IPv4
		return i.Uplink != nil && slices.Contains(i.Uplink.LearntServers, at) || line.IsValid() && isPrivate(line) ||
			slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return isPrivate(p.Addr()) })
	})
}

func dnsOutsideFirst(f *facts, n *site.Network, report func(Finding)) {
	f.eachTold(n, option.NameServers, func(t option.Effective) {
		servers := effectiveAddresses(t)
		if len(servers) < 2 || f.inside(servers[0]) || !slices.ContainsFunc(servers, f.inside) {
			return
		}
		outside := func(a netip.Addr) bool { return !f.inside(a) }
		ordered := append(slices.DeleteFunc(slices.Clone(servers), outside),
			slices.DeleteFunc(slices.Clone(servers), f.inside)...)
		report(Finding{
			Title: "A name server outside is asked first", Network: idOf(n),
			Parts:     []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
			Addresses: []address.Range{address.Single(servers[0])},
			Says: fmt.Sprintf("%s, set first on %s, knows none of the site's own names. Local names are not "+
				"found while it answers.", servers[0], t.From.Name),
			Fix: f.retell("Put the site's own first", t, words(ordered)),
		})
	})
}

func dnsMixed(f *facts, n *site.Network, report func(Finding)) {
	f.eachTold(n, option.NameServers, func(t option.Effective) {
		servers := effectiveAddresses(t)
		outside := slices.IndexFunc(servers, func(a netip.Addr) bool { return !f.inside(a) && !isPrivate(a) })
		if outside <= 0 || !f.inside(servers[0]) {
			return // outside first is dns-outside-first's
		}
		kept := slices.DeleteFunc(slices.Clone(servers),
			func(a netip.Addr) bool { return !f.inside(a) && !isPrivate(a) })
		report(Finding{
			Title: "Name servers inside and outside are mixed", Network: idOf(n),
			Parts:     []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
			Addresses: []address.Range{address.Single(servers[outside])},
			Says: fmt.Sprintf("%s knows none of the site's own names. A client that turns to it once keeps "+
				"asking it, and local names come and go.", servers[outside]),
			Fix: f.retell("Tell only the site's own", t, words(kept)),
		})
	})
}

// dnsLearntMixed is about servers that an uplink learns and that are set together with others: the
// provider may teach others tomorrow.
func dnsLearntMixed(f *facts, n *site.Network, report func(Finding)) {
	learnt := func(a netip.Addr) bool {
		return slices.ContainsFunc(f.uplinks, func(i *site.Interface) bool {
			return i.Uplink != nil && slices.Contains(i.Uplink.LearntServers, a)
		})
	}
	f.eachTold(n, option.NameServers, func(t option.Effective) {
		servers := effectiveAddresses(t)
		own := slices.DeleteFunc(slices.Clone(servers), learnt)
		if t.From.Kind == site.KindInterface || len(own) == 0 || len(own) == len(servers) {
			return
		}
		at := servers[slices.IndexFunc(servers, learnt)]
		report(Finding{
			Title: "Learnt and own name servers are mixed", Network: idOf(n),
			Parts:     []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
			Addresses: []address.Range{address.Single(at)},
			Says: fmt.Sprintf("%s is the provider's, as the uplink learns it, and is written beside your own servers. "+
				"When the provider changes it, clients receive a server that is not there.", at),
			Fix: f.retell("Tell only what is your own", t, words(own)),
		})
	})
}

func domainDiffers(f *facts, n *site.Network, report func(Finding)) {
	if f.Domain == "" {
		return
	}
	f.eachTold(n, option.DomainName, func(t option.Effective) {
		if t.Value == f.Domain || strings.HasSuffix(t.Value, "."+f.Domain) {
			return
		}
		report(Finding{
			Title: "Clients receive another domain", Network: idOf(n),
			Parts: []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
			Value: t.Value,
			Says: fmt.Sprintf("%s sets %s where the site's domain is %s. Their short names are completed to names "+
				"that are not there.", t.From.Name, t.Value, f.Domain),
			Fix: f.unsetting("Tell them "+f.Domain, t),
		})
	})
}

// What older resolvers take of a search list.
const (
	mostSearched   = 6
	longestToWrite = 256
)

func searchListTooLong(f *facts, n *site.Network, report func(Finding)) {
	f.eachTold(n, option.SearchList, func(t option.Effective) {
		names := strings.Split(t.Value, ", ")
		if len(names) <= mostSearched && len(t.Value) <= longestToWrite {
			return
		}
		kept := names[:min(len(names), mostSearched)]
		for len(kept) > 1 && len(strings.Join(kept, ", ")) > longestToWrite {
			kept = kept[:len(kept)-1]
		}
		report(Finding{
			Title: fmt.Sprintf("The search list has %d domains", len(names)), Network: idOf(n),
			Parts: []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
			Value: t.Value,
			Says: fmt.Sprintf("Many clients take the first %d, or %d characters, and drop the rest without a word; "+
				"each name looked up tries every one.", mostSearched, longestToWrite),
			Fix: f.retell(fmt.Sprintf("Keep the first %d", len(kept)), t, strings.Join(kept, ", ")),
		})
	})
}
