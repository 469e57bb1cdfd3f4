package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/site"
)

// audience is some clients of a network with what they are told: those of a pool, of a
// vendor class in one, or of one reservation.
type audience struct {
	name    string
	ref     site.Ref
	options []option.Effective
	in      []site.Ref // of a class: the pool its clients are served from
}

// parts is what a finding about the audience concerns.
func (a audience) parts(more ...site.Ref) []site.Ref {
	return slices.Concat([]site.Ref{a.ref}, more, a.in)
}

// sets is an option that the audience is told, where it is a pool's or set for the audience
// itself: what a class or reservation takes over is reported with the pool.
func (a audience) sets(code uint8) (option.Effective, bool) {
	t, ok := compile.Value(a.options, code)
	return t, ok && (a.ref.Kind == site.KindPool || level(t) == a.ref)
}

// eachAudience visits the pools of a network, and the classes and reservations there that set some
// options.
func (f *facts) eachAudience(n *site.Network, codes []uint8, do func(a audience)) {
	sets := func(o site.Option) bool { return slices.Contains(codes, o.Code) }
	f.eachPool(n, func(p *site.Pool) {
		do(audience{name: p.Name, ref: poolRef(p.ID), options: f.toldIn(p)})
		for i := range f.VendorClasses {
			if k := &f.VendorClasses[i]; slices.ContainsFunc(k.Options, sets) &&
				(p.ForClass == "" || p.ForClass == k.ID) {
				do(audience{name: k.Name + " in " + p.Name, ref: site.Ref{Kind: site.KindVendorClass, ID: k.ID},
					options: f.common.Effective(
						compile.For{Network: n, Pool: p, Class: k},
					), in: []site.Ref{poolRef(p.ID)}})
			}
		}
	})
	for _, r := range f.tuned {
		if r.Network != n.ID || !slices.ContainsFunc(r.Options, sets) {
			continue
		}
		in, _ := compile.PoolAmong(f.pools[n.ID], r)
		do(audience{name: r.NameOrAddress(), ref: reservationRef(r.ID),
			options: f.common.Effective(compile.For{Network: n, Pool: in, Reservation: r})})
	}
}

func routerOutsideNetwork(f *facts, n *site.Network, report func(Finding)) {
	f.eachAudience(n, []uint8{option.Router}, func(c audience) {
		t, ok := c.sets(option.Router)
		if !ok {
			return
		}
		for _, a := range effectiveAddresses(t) {
			if n.Prefix.Contains(a) || t.From.Kind == site.KindNetwork && a == n.Gateway {
				continue // gateway-outside-network says so already
			}
			report(Finding{
				Title: fmt.Sprintf("The router told to %s is elsewhere", c.name), Network: n.ID,
				Parts: c.parts(), Addresses: []address.Range{address.Single(a)},
				Says: fmt.Sprintf("%s, set on %s, is not in %s. Clients cannot reach it and have no way out.", a,
					t.From.Name, n.Prefix),
				Fix: f.unsetting("Tell them the gateway of "+n.Name+" instead", t),
			})
		}
	})
}

func optionShadowsRouter(f *facts, n *site.Network, report func(Finding)) {
	f.eachAudience(n, []uint8{option.ClasslessRoutes}, func(c audience) {
		routes, ok := c.sets(option.ClasslessRoutes)
		if !ok || strings.Contains(routes.Value, "0.0.0.0/0 ") {
			return
		}
		routers := compile.Addresses(c.options, option.Router)
		if _, err := option.Parse(option.ClasslessRoutes, routes.Value); err != nil || len(routers) == 0 {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("Clients of %s lose their router", c.name), Network: n.ID,
			Parts: c.parts(level(routes)),
			Value: routes.Value,
			Says: fmt.Sprintf("A client that takes the classless static routes set on %s ignores option 3 (RFC "+
				"3442), and they have no default route. It reaches %s and nothing else.", routes.From.Name,
				routes.Value),
			Fix: f.retell(fmt.Sprintf("Add the default route via %s", routers[0]), routes,
				fmt.Sprintf("0.0.0.0/0 via %s, %s", routers[0], routes.Value)),
		})
	})
}

func leaseTimersOrder(f *facts, n *site.Network, report func(Finding)) {
	timers := []uint8{option.LeaseTime, option.RenewalT1, option.RebindingT2}
	f.eachAudience(n, timers, func(c audience) {
		own := slices.ContainsFunc(timers, func(code uint8) bool { _, sets := c.sets(code); return sets })
		t := compile.TimersOf(c.options)
		if t.T1 < t.T2 && t.T2 < t.Lease || !own && c.ref.Kind != site.KindPool {
			return
		}
		found := Finding{
			Title: fmt.Sprintf("The lease timers of %s are out of order", c.name), Network: n.ID,
			Parts: c.parts(),
			Value: fmt.Sprint(t.T1, t.T2, t.Lease),
			Says: fmt.Sprintf("Renewal (T1) is after %s, rebinding (T2) after %s and the lease ends after %s. "+
				"Clients ignore timers that are not in this order, or lose their address before they renew.",
				option.FormatDuration(t.T1), option.FormatDuration(t.T2), option.FormatDuration(t.Lease)),
		}
		fix := &Fix{Title: "Let T1 and T2 follow the lease time"}
		for _, code := range timers[1:] {
			if t, ok := compile.Value(c.options, code); ok {
				one := f.unsetting("", t)
				if one == nil {
					fix = nil
					break
				}
				fix.Edits = append(fix.Edits, one.Edits...)
			}
		}
		found.Fix = fix
		report(found)
	})
}

// routesOf reads the routes of options 121 and 249, and of 33: where to, and by which router.
func routesOf(t option.Effective) (to []netip.Prefix, via []netip.Addr) {
	for item := range strings.SplitSeq(t.Value, ",") {
		words := strings.Fields(strings.Replace(item, " via ", " ", 1))
		if len(words) != 2 {
			return nil, nil
		}
		if !strings.Contains(words[0], "/") {
			words[0] += map[bool]string{true: "/0", false: "/32"}[words[0] == "0.0.0.0"]
		}
		p, err := netip.ParsePrefix(words[0])
		router, err2 := netip.ParseAddr(words[1])
		if err != nil || err2 != nil {
			return nil, nil
		}
		to, via = append(to, p), append(via, router)
	}
	return to, via
}

// route is one that clients are told.
type route struct {
	to  netip.Prefix
	via netip.Addr
	by  option.Effective // the option that holds it
	at  int              // its place there
}

// eachRoute visits the routes that options with these codes tell the clients of a network.
func (f *facts) eachRoute(n *site.Network, codes []uint8, visit func(c audience, r route)) {
	f.eachAudience(n, codes, func(c audience) {
		for _, code := range codes {
			if t, ok := c.sets(code); ok {
				to, via := routesOf(t)
				for i := range to {
					visit(c, route{to[i], via[i], t, i})
				}
			}
		}
	})
}

func routeRouterOutside(f *facts, n *site.Network, report func(Finding)) {
	codes := []uint8{option.StaticRoutes, option.ClasslessRoutes, option.PrivateRoutes}
	f.eachRoute(n, codes, func(c audience, r route) {
		if n.Prefix.Contains(r.via) || r.via.IsUnspecified() { // RFC 3442: on the link itself
			return
		}
		report(Finding{
			Title: fmt.Sprintf("A route told to %s goes through a router elsewhere", c.name), Network: n.ID,
			Parts: c.parts(level(r.by)), Addresses: []address.Range{address.Single(r.via)},
			Value: fmt.Sprint(r.by.Code, r.to),
			Says: fmt.Sprintf("The way to %s is told as %s, which is not in %s. Clients cannot reach it and drop the "+
				"route.", r.to, r.via, n.Prefix),
		})
	})
}

func defaultAmongStaticRoutes(f *facts, n *site.Network, report func(Finding)) {
	f.eachAudience(n, []uint8{option.StaticRoutes}, func(c audience) {
		t, ok := c.sets(option.StaticRoutes)
		if !ok {
			return
		}
		to, _ := routesOf(t)
		if !slices.ContainsFunc(to, func(p netip.Prefix) bool { return p.Addr().IsUnspecified() }) {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("%s has a default route among its static routes", c.name), Network: n.ID,
			Parts: c.parts(level(t)), Value: t.Value,
			Says: "Option 33 holds routes to single hosts, and 0.0.0.0 is no legal destination there (RFC 2132 " +
				"section 5.8). Clients refuse it. The default router is option 3.",
			Fix: f.unsetting("Stop setting it", t),
		})
	})
}

// machines are the options whose addresses are machines that answer.
var machines = func() (is [256]bool) {
	for _, d := range option.Registry() {
		is[d.Code] = d.Type == option.Addresses && !d.ServerOnly
	}
	return is
}()

// optionNamesUnusable is about addresses that no machine can have: a network's first and last.
func optionNamesUnusable(f *facts, n *site.Network, report func(Finding)) {
	f.eachMachine(n, func(t option.Effective, a netip.Addr) {
		why := f.unheld(a)
		if why == "" {
			return
		}
		def, _ := f.own.Lookup(t.Code)
		report(Finding{
			Title: fmt.Sprintf("%s: %s is an address no host can hold", def.Name, a), Network: idOf(n),
			Parts:     []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
			Addresses: []address.Range{address.Single(a)},
			Says:      fmt.Sprintf("%s, set on %s, %s. Nothing answers there.", a, t.From.Name, why),
			Fix:       f.leavingOut(t, a),
		})
	})
}

// optionNamesNobody is about addresses inside the site at which nothing is recorded. Name servers
// have a rule of their own.
func optionNamesNobody(f *facts, n *site.Network, report func(Finding)) {
	f.eachMachine(n, func(t option.Effective, a netip.Addr) {
		if t.Code == option.NameServers {
			return
		}
		in, ok := f.NetworkOf(a)
		if !ok || f.holds(a) || !address.Usable(in.Prefix).Contains(a) || t.Code == option.Router && a == in.Gateway {
			return // gateway-on-no-interface is about the gateway
		}
		def, _ := f.own.Lookup(t.Code)
		report(Finding{
			Title: fmt.Sprintf("%s: no device is at %s", def.Name, a), Network: idOf(n),
			Parts:     []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
			Addresses: []address.Range{address.Single(a)},
			Says: fmt.Sprintf(
				"%s, set on %s, is in %s and nothing recorded holds it. Clients wait for an answer that "+
					"does not come.",
				a,
				t.From.Name,
				in.Name,
			),
			Fix: f.leavingOut(t, a),
		})
	})
}

// eachMachine visits the addresses that options tell of, once for each level that sets one: those
// of a network and its pools, or those above networks where n is nil.
func (f *facts) eachMachine(n *site.Network, do func(t option.Effective, a netip.Addr)) {
	visit := func(t option.Effective) {
		for _, a := range effectiveAddresses(t) {
			do(t, a)
		}
	}
	if n == nil {
		for _, t := range f.common {
			if machines[t.Code] && f.toldAnywhere(t) {
				visit(t)
			}
		}
		return
	}
	if len(n.Options) == 0 &&
		!slices.ContainsFunc(f.pools[n.ID], func(p *site.Pool) bool { return len(p.Options) > 0 }) {
		return // it tells of its gateway alone, which other rules are about
	}
	done := map[site.Ref]map[uint8]bool{}
	f.eachPool(n, func(p *site.Pool) {
		for _, t := range f.toldIn(p) {
			at := level(t)
			if !machines[t.Code] || at.Kind != site.KindNetwork && at.Kind != site.KindPool || done[at][t.Code] {
				continue
			}
			if done[at] == nil {
				done[at] = map[uint8]bool{}
			}
			done[at][t.Code] = true
			visit(t)
		}
	})
}

// leavingOut is the fix that tells clients of the other addresses of an option, or of none.
func (f *facts) leavingOut(t option.Effective, a netip.Addr) *Fix {
	rest := slices.DeleteFunc(effectiveAddresses(t), func(o netip.Addr) bool { return o == a })
	if len(rest) == 0 {
		return f.unsetting("Stop setting it", t)
	}
	return f.retell("Leave "+a.String()+" out", t, words(rest))
}

// routeThroughClient is about routes that clients are told by a router that is one of themselves, and about routes to
// their own subnet, which they are on.
func routeThroughClient(f *facts, n *site.Network, report func(Finding)) {
	f.eachRoute(n, []uint8{option.ClasslessRoutes, option.PrivateRoutes}, func(c audience, r route) {
		found := Finding{Network: n.ID, Parts: c.parts(level(r.by)), Value: fmt.Sprint(r.by.Code, r.to),
			Addresses: []address.Range{address.Single(r.via)}, Fix: f.withoutRoute(r.by, r.at)}
		switch {
		case !r.via.IsUnspecified() && r.to.Masked() == n.Prefix.Masked():
			found.Title = fmt.Sprintf("%s is told a route to its own subnet", c.name)
			found.Says = fmt.Sprintf("Clients are on %s, and are told to send there by %s. They talk to each other "+
				"through it, or not at all.", n.Prefix, r.via)
		case f.isClient(n, r.via):
			found.Title = fmt.Sprintf("%s is told a route through a client", c.name)
			found.Says = fmt.Sprintf("The way to %s is told as %s, which pool addresses and reservations are for "+
				"machines that route nothing. Packets end there.", r.to, r.via)
		default:
			return
		}
		report(found)
	})
}

// isClient reports whether an address of a network is handed out to clients.
func (f *facts) isClient(n *site.Network, at netip.Addr) bool {
	if _, _, device := f.HolderOf(at); device || at == n.Gateway {
		return false
	}
	return slices.ContainsFunc(f.pools[n.ID], func(p *site.Pool) bool { return p.Offers(at) })
}

// withoutRoute is the fix that tells the other routes of an option.
func (f *facts) withoutRoute(t option.Effective, at int) *Fix {
	var rest []string
	for i, item := range strings.Split(t.Value, ",") {
		if i != at {
			rest = append(rest, strings.TrimSpace(item))
		}
	}
	if len(rest) == 0 {
		return f.unsetting("Stop setting it", t)
	}
	return f.retell("Leave that route out", t, strings.Join(rest, ", "))
}
