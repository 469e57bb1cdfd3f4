package check

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/site"
)

var tellingRules = []Rule{
	{"dns-unreachable", "Options", Warns, "A name server inside the site is a device that exists.", dnsUnreachable},
	{"dns-outside-first", "Options", Warns, "The site's own name server is asked first.", dnsOutsideFirst},
	{"dns-inside-outside-mixed", "Options", Warns, "Clients are not told internal and public name servers together.", dnsMixed},
	{"domain-differs", "Options", Warns, "Clients are told the site's own domain.", domainDiffers},
	{"search-list-too-long", "Options", Warns, "A search list is one every client takes whole.", searchListTooLong},
	{"option-server-only", "Options", Blocks, "Nobody sets what the server alone sets.", optionServerOnly},
	{"option-shadows-router", "Options", Blocks, "Static routes include the way out.", optionShadowsRouter},
	{"option-set-twice", "Options", Warns, "A level sets an option once.", optionSetTwice},
	{"boot-pair-incomplete", "Options", Warns, "A boot server and a boot file go together.", bootPairIncomplete},
	{"mtu-above-uplink", "Options", Warns, "Clients send no packet the uplink cannot carry.", mtuAboveUplink},
	{"option-over-size", "Options", Warns, "What clients are told fits what every client accepts.", optionOverSize},
	{"vendor-invalid", "Options", Blocks, "Sub-options of a vendor class can be sent.", vendorInvalid},
}

// inside reports whether an address is the site's own.
func (f *facts) inside(a netip.Addr) bool {
	if _, ok := f.NetworkOf(a); ok {
		return true
	}
	return slices.ContainsFunc(f.Block, func(b netip.Prefix) bool { return b.Contains(a) })
}

// eachTold visits a told option once for each level that sets it, with the
// first pool whose clients are told it, so that one mistake is one finding.
func (f *facts) eachTold(code uint8, do func(p *site.Pool, n *site.Network, t option.Told)) {
	done := map[option.Source]bool{}
	f.eachPool(func(p *site.Pool, n *site.Network) {
		t, ok := compile.Value(f.toldIn(p, n), code)
		if !ok || done[t.From] {
			return
		}
		done[t.From] = true
		do(p, n, t)
	})
}

// level is the part that a told option is set on.
func level(t option.Told) site.Ref { return site.Ref{Kind: t.From.Kind, ID: t.From.ID} }

func networkOfLevel(t option.Told, n *site.Network) string {
	if t.From.Kind == site.KindNetwork || t.From.Kind == site.KindPool {
		return n.ID
	}
	return ""
}

// retell is the fix that gives an option another value where it is set; none
// where a draft may not change that level.
func (f *facts) retell(title string, t option.Told, value string) *Fix {
	fix := f.unsetting(title, t)
	if fix == nil || len(fix.Edits) != 1 {
		return nil
	}
	was, now := site.Option{Code: t.Code, Value: t.Value}, site.Option{Code: t.Code, Value: value}
	return change(title, site.KindOption, fmt.Sprint(t.Code), level(t), was, now)
}

func words(list []netip.Addr) string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.String()
	}
	return strings.Join(out, ", ")
}

func dnsUnreachable(f *facts, report func(Finding)) {
	f.eachTold(option.NameServers, func(_ *site.Pool, n *site.Network, t option.Told) {
		servers := told(t)
		for _, a := range servers {
			if !f.inside(a) || f.holds(a) {
				continue
			}
			found := Finding{
				Title: fmt.Sprintf("No device is at the name server %s", a), Network: networkOfLevel(t, n), Parts: []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
				Addresses: []address.Range{address.Single(a)},
				Says:      fmt.Sprintf("%s, set on %s, is inside the site and nothing recorded holds it. Clients wait for an answer that does not come.", a, t.From.Name),
			}
			if rest := slices.DeleteFunc(slices.Clone(servers), func(o netip.Addr) bool { return o == a }); len(rest) > 0 {
				found.Fix = f.retell("Leave "+a.String()+" out", t, words(rest))
			}
			report(found)
		}
	})
}

// holds reports whether something recorded has an address.
func (f *facts) holds(a netip.Addr) bool { return len(f.ownersIn(address.Single(a))) > 0 }

func told(t option.Told) []netip.Addr { return compile.Addresses([]option.Told{t}, t.Code) }

func dnsOutsideFirst(f *facts, report func(Finding)) {
	f.eachTold(option.NameServers, func(_ *site.Pool, n *site.Network, t option.Told) {
		servers := told(t)
		if len(servers) < 2 || f.inside(servers[0]) || !slices.ContainsFunc(servers, f.inside) {
			return
		}
		ordered := slices.Clone(servers)
		slices.SortStableFunc(ordered, func(a, b netip.Addr) int { return order(f.inside(b)) - order(f.inside(a)) })
		report(Finding{
			Title: "A name server outside is asked first", Network: networkOfLevel(t, n), Parts: []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
			Addresses: []address.Range{address.Single(servers[0])},
			Says:      fmt.Sprintf("%s, set first on %s, knows none of the site's own names. Local names are not found while it answers.", servers[0], t.From.Name),
			Fix:       f.retell("Put the site's own first", t, words(ordered)),
		})
	})
}

func order(yes bool) int { return map[bool]int{true: 1}[yes] }

func dnsMixed(f *facts, report func(Finding)) {
	f.eachTold(option.NameServers, func(_ *site.Pool, n *site.Network, t option.Told) {
		servers := told(t)
		outside := slices.IndexFunc(servers, func(a netip.Addr) bool { return !f.inside(a) && !isPrivate(a) })
		if outside <= 0 || !f.inside(servers[0]) {
			return // outside first is dns-outside-first's
		}
		kept := slices.DeleteFunc(slices.Clone(servers), func(a netip.Addr) bool { return !f.inside(a) && !isPrivate(a) })
		report(Finding{
			Title: "Name servers inside and outside are mixed", Network: networkOfLevel(t, n), Parts: []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
			Addresses: []address.Range{address.Single(servers[outside])},
			Says:      fmt.Sprintf("%s knows none of the site's own names. A client that turns to it once keeps asking it, and local names come and go.", servers[outside]),
			Fix:       f.retell("Tell only the site's own", t, words(kept)),
		})
	})
}

func domainDiffers(f *facts, report func(Finding)) {
	if f.Domain == "" {
		return
	}
	f.eachTold(option.DomainName, func(_ *site.Pool, n *site.Network, t option.Told) {
		if t.Value == f.Domain || strings.HasSuffix(t.Value, "."+f.Domain) {
			return
		}
		report(Finding{
			Title: "Clients are told another domain", Network: networkOfLevel(t, n), Parts: []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
			Value: t.Value,
			Says:  fmt.Sprintf("%s sets %s where the site's domain is %s. Their short names are completed to names that are not there.", t.From.Name, t.Value, f.Domain),
			Fix:   f.unsetting("Tell them "+f.Domain, t),
		})
	})
}

// What older resolvers take of a search list.
const (
	mostSearched   = 6
	longestToWrite = 256
)

func searchListTooLong(f *facts, report func(Finding)) {
	f.eachTold(option.SearchList, func(_ *site.Pool, n *site.Network, t option.Told) {
		names := strings.Split(t.Value, ", ")
		if len(names) <= mostSearched && len(t.Value) <= longestToWrite {
			return
		}
		kept := names[:min(len(names), mostSearched)]
		for len(kept) > 1 && len(strings.Join(kept, ", ")) > longestToWrite {
			kept = kept[:len(kept)-1]
		}
		report(Finding{
			Title: fmt.Sprintf("The search list has %d domains", len(names)), Network: networkOfLevel(t, n), Parts: []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
			Value: t.Value,
			Says:  fmt.Sprintf("Many clients take the first %d, or %d characters, and drop the rest without a word; each name looked up tries every one.", mostSearched, longestToWrite),
			Fix:   f.retell(fmt.Sprintf("Keep the first %d", len(kept)), t, strings.Join(kept, ", ")),
		})
	})
}

func optionServerOnly(f *facts, report func(Finding)) {
	f.eachLevel(func(at site.Ref, network, name string, options []site.Option) {
		for _, o := range options {
			def, _ := option.Lookup(o.Code)
			if !def.ServerOnly {
				continue
			}
			report(Finding{
				Title: fmt.Sprintf("%s sets %s by hand", name, strings.ToLower(def.Name)), Network: network, Parts: []site.Ref{at, {Kind: site.KindOption, ID: fmt.Sprint(o.Code)}},
				Value: o.Value,
				Says:  fmt.Sprintf("Option %d is made by the server for each client; devices refuse it or send clients nonsense.", o.Code),
				Fix:   f.unsetting("Stop setting it", option.Told{Code: o.Code, From: option.Source{Kind: at.Kind, ID: at.ID}}),
			})
		}
	})
}

func optionShadowsRouter(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		list := f.toldIn(p, n)
		routes, ok := compile.Value(list, option.StaticRoutes)
		if !ok || strings.Contains(routes.Value, "0.0.0.0/0 ") {
			return
		}
		routers := compile.Addresses(list, option.Router)
		if _, err := option.Parse(option.StaticRoutes, routes.Value); err != nil || len(routers) == 0 {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("Clients of %s lose their router", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID), level(routes)},
			Value: routes.Value,
			Says:  fmt.Sprintf("A client that takes the static routes set on %s ignores option 3 (RFC 3442), and they have no default route. It reaches %s and nothing else.", routes.From.Name, routes.Value),
			Fix:   f.retell(fmt.Sprintf("Add the default route via %s", routers[0]), routes, fmt.Sprintf("0.0.0.0/0 via %s, %s", routers[0], routes.Value)),
		})
	})
}

func optionSetTwice(f *facts, report func(Finding)) {
	f.eachLevel(func(at site.Ref, network, name string, options []site.Option) {
		count, last := map[uint8]int{}, map[uint8]string{}
		for _, o := range options {
			count[o.Code]++
			last[o.Code] = o.Value
		}
		for _, code := range slices.Sorted(maps.Keys(count)) {
			if count[code] < 2 {
				continue
			}
			def, _ := f.own.Lookup(code)
			report(Finding{
				Title: fmt.Sprintf("%s sets %s twice", name, strings.ToLower(def.Name)), Network: network, Parts: []site.Ref{at, {Kind: site.KindOption, ID: fmt.Sprint(code)}},
				Value: last[code],
				Says:  fmt.Sprintf("Option %d is there %d times; clients are told the last, %s.", code, count[code], last[code]),
				Fix:   f.keepLast(at, code, count[code]),
			})
		}
	})
}

// keepLast is the fix that leaves one of several settings of a code.
func (f *facts) keepLast(at site.Ref, code uint8, times int) *Fix {
	all := f.unsetting("Keep the last", option.Told{Code: code, From: option.Source{Kind: at.Kind, ID: at.ID}})
	if all == nil || len(all.Edits) < times {
		return nil
	}
	all.Edits = all.Edits[:times-1]
	return all
}

func bootPairIncomplete(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		list := f.toldIn(p, n)
		_, file := compile.Value(list, option.BootFile)
		_, name := compile.Value(list, option.BootServer)
		_, server := compile.Value(list, option.BootServers)
		switch {
		case file && !name && !server:
			report(Finding{
				Title: fmt.Sprintf("Clients of %s are told a boot file and no server", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
				Says: "They look for the file on the DHCP server, which most likely has none. Set option 66 or 150 beside 67.",
			})
		case name && !file:
			report(Finding{
				Title: fmt.Sprintf("Clients of %s are told a boot server and no file", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
				Says: "A machine that boots from the network knows where to ask and not for what. Set option 67 beside 66.",
			})
		}
	})
}

func mtuAboveUplink(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		t, ok := compile.Value(f.toldIn(p, n), option.InterfaceMTU)
		if !ok {
			return
		}
		wire, err := option.Parse(t.Code, t.Value)
		if err != nil {
			return
		}
		mtu := int(wire[0])<<8 | int(wire[1])
		for _, u := range f.uplinks {
			if u.Uplink == nil || !slices.Contains(u.Uplink.Translates, n.ID) || mtu <= u.Uplink.Largest() {
				continue
			}
			report(Finding{
				Title: fmt.Sprintf("Clients of %s send packets too large for %s", p.Name, u.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID), interfaceRef(u.ID)},
				Value: fmt.Sprint(mtu),
				Says:  fmt.Sprintf("They are told an MTU of %d by %s, and %s carries %d. Large transfers stall while small ones work.", mtu, t.From.Name, u.Name, u.Uplink.Largest()),
				Fix:   f.retell(fmt.Sprintf("Tell them %d", u.Uplink.Largest()), t, fmt.Sprint(u.Uplink.Largest())),
			})
			return
		}
	})
}

// optionOverSize packs what a client that asks for everything would be told.
func optionOverSize(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		list := f.toldIn(p, n)
		size := 0
		for _, t := range list {
			size += 2 + len(t.Value)
		}
		if size < 150 {
			return // short texts are short octets
		}
		m := &dhcpv4.DHCPv4{Options: dhcpv4.Options{
			option.MessageType: {2}, option.ServerID: make([]byte, 4), option.SubnetMask: make([]byte, 4), option.Broadcast: make([]byte, 4), option.LeaseTime: make([]byte, 4),
		}}
		for _, t := range list {
			if wire, err := f.own.Parse(t.Code, t.Value); err == nil {
				m.Options[t.Code] = wire
			}
		}
		_, left := dhcp.Pack(m, nil, dhcp.MinAccepted-28)
		if len(left) == 0 {
			return
		}
		var names []string
		for _, code := range left {
			def, _ := f.own.Lookup(code)
			names = append(names, fmt.Sprintf("%d (%s)", code, strings.ToLower(def.Name)))
		}
		report(Finding{
			Title: fmt.Sprintf("What %s tells does not fit", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
			Says: fmt.Sprintf("A client that asks for everything and takes no more than %d octets is not told option %s.", dhcp.MinAccepted, strings.Join(names, ", ")),
		})
	})
}

func vendorInvalid(f *facts, report func(Finding)) {
	for i := range f.VendorClasses {
		k := &f.VendorClasses[i]
		_, err := compile.SubOptions(k)
		if k.Match == "" && err == nil {
			err = fmt.Errorf("it does not say how option 60 of its clients begins, so it is for nobody")
		}
		if err != nil {
			report(Finding{
				Title: fmt.Sprintf("Vendor class %s cannot be told", k.Name), Parts: []site.Ref{{Kind: site.KindVendorClass, ID: k.ID}}, Says: err.Error() + ".",
				Value: err.Error(),
			})
		}
	}
}
