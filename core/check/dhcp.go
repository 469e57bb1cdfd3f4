package check

import (
	"fmt"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/site"
)

var dhcpRules = []Rule{
	{"pool-outside-network", "DHCP", Blocks, "A pool's ranges lie in its network.", poolOutsideNetwork},
	{"pools-overlap", "DHCP", Blocks, "No address is in two pools.", poolsOverlap},
	{"pool-holds-gateway", "DHCP", Blocks, "No pool hands out the gateway.", poolHoldsGateway},
	{"pool-holds-unusable", "DHCP", Warns, "No pool counts on a network or broadcast address.", poolHoldsUnusable},
	{"pool-holds-fixed-device", "DHCP", Blocks, "No pool hands out a fixed device's address.", poolHoldsFixedDevice},
	{"exclusion-outside-pool", "DHCP", Notes, "An exclusion lies inside its pool.", exclusionOutsidePool},
	{"exclusion-empties-pool", "DHCP", Warns, "A pool has addresses left to hand out.", exclusionEmptiesPool},
	{"reservation-outside-network", "DHCP", Blocks, "A reservation lies in its network.", reservationOutsideNetwork},
	{"reservation-mac-twice", "DHCP", Blocks, "A MAC has one reservation a network.", reservationMACTwice},
	{"mac-malformed", "DHCP", Blocks, "A recorded MAC is one a client can have.", macMalformed},
	{"pool-off", "DHCP", Warns, "A pool is switched on.", poolOff},
	{"network-unserved", "DHCP", Warns, "A DHCP server answers on every network.", networkUnserved},
}

func poolRef(id string) site.Ref { return site.Ref{Kind: site.KindPool, ID: id} }

// eachPool visits the pools whose network exists.
func (f *facts) eachPool(do func(p *site.Pool, n *site.Network)) {
	for i := range f.Pools {
		if n := f.networks[f.Pools[i].Network]; n != nil {
			do(&f.Pools[i], n)
		}
	}
}

// withRanges is the fix that gives a pool other ranges, none when that leaves nothing.
func withRanges(title string, p *site.Pool, ranges []address.Range) *Fix {
	if len(ranges) == 0 {
		return nil
	}
	now := *p
	now.Ranges = ranges
	return change(title, site.KindPool, p.ID, site.Ref{}, *p, now)
}

// excluding is the fix that excludes a range from a pool with a reason.
func excluding(title string, p *site.Pool, r address.Range, reason string) *Fix {
	id := "excl-" + strings.ReplaceAll(r.From.String(), ".", "-") + "-" + p.ID
	id = id[:min(len(id), 64)]
	if slices.ContainsFunc(p.Exclusions, func(x site.Exclusion) bool { return x.ID == id }) {
		return nil
	}
	x := site.Exclusion{ID: id, Range: r, Reason: reason}
	return &Fix{title, []edit.Edit{edit.Adding(site.KindExclusion, id, poolRef(p.ID), x)}}
}

func poolOutsideNetwork(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		var outside, inside []address.Range
		for _, r := range p.Ranges {
			part, ok := r.Intersect(address.Usable(n.Prefix))
			if ok {
				inside = append(inside, part)
			}
			if !address.Of(n.Prefix).Covers(r) {
				outside = append(outside, r)
			}
		}
		if len(outside) > 0 {
			report(Finding{
				Title: fmt.Sprintf("Pool %s leaves %s", p.Name, n.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)}, Addresses: outside,
				Says: fmt.Sprintf("%s is not in %s. A client given one of these reaches nothing, and devices refuse the pool.", join(outside), n.Prefix),
				Fix:  withRanges("Keep the part inside "+n.Prefix.String(), p, inside),
			})
		}
	})
}

func poolsOverlap(f *facts, report func(Finding)) {
	type run struct {
		r address.Range
		p *site.Pool
		n *site.Network
	}
	var runs []run
	f.eachPool(func(p *site.Pool, n *site.Network) {
		for _, r := range p.Ranges {
			runs = append(runs, run{r, p, n})
		}
	})
	slices.SortStableFunc(runs, func(a, b run) int { return a.r.From.Compare(b.r.From) })
	far := 0 // the run before that reaches farthest
	for i := 1; i < len(runs); i++ {
		a, b := runs[far], runs[i]
		if a.r.To.Less(b.r.To) {
			far = i
		}
		part, ok := a.r.Intersect(b.r)
		if !ok {
			continue
		}
		title, fix := fmt.Sprintf("Pools %s and %s overlap", a.p.Name, b.p.Name), withRanges("Take "+part.Short(b.n.Prefix)+" out of "+b.p.Name, b.p, address.Ranges(b.p.Ranges, []address.Range{part}))
		if a.p == b.p {
			title, fix = fmt.Sprintf("Two ranges of pool %s overlap", a.p.Name), withRanges("Merge the ranges", b.p, address.Ranges(b.p.Ranges, nil))
		}
		report(Finding{
			Title: title, Network: b.n.ID, Parts: []site.Ref{poolRef(a.p.ID), poolRef(b.p.ID)}, Addresses: []address.Range{part}, Fix: fix,
			Says: fmt.Sprintf("%s is in both. Two servers, or one that loses count, give it to two clients.", part),
		})
	}
}

func poolHoldsGateway(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		if at := address.Single(n.Gateway); n.Gateway.IsValid() && p.Offers(at.From) {
			report(Finding{
				Title: fmt.Sprintf("Pool %s holds the gateway", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID), networkRef(n.ID)}, Addresses: []address.Range{at},
				Says: fmt.Sprintf("A client given %s takes the gateway's place, and all of %s loses its way out.", n.Gateway, n.Name),
				Fix:  excluding("Exclude "+address.Short(n.Gateway, n.Prefix), p, at, "Gateway"),
			})
		}
	})
}

func poolHoldsUnusable(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		usable := address.Usable(n.Prefix)
		var bad []address.Range
		for _, a := range []address.Range{address.Single(address.Of(n.Prefix).From), address.Single(address.Of(n.Prefix).To)} {
			if !usable.Covers(a) && p.Offers(a.From) {
				bad = append(bad, a)
			}
		}
		if len(bad) > 0 {
			report(Finding{
				Title: fmt.Sprintf("Pool %s holds an address no host can have", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)}, Addresses: bad,
				Says: fmt.Sprintf("%s is the network or broadcast address of %s. A client given it cannot talk.", join(bad), n.Prefix),
				Fix:  withRanges("Leave it out of the range", p, address.Ranges(p.Ranges, bad)),
			})
		}
	})
}

func poolHoldsFixedDevice(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		for _, run := range p.Ranges {
			for _, o := range f.ownersIn(run) {
				at := address.Single(o.at)
				if o.part.Kind != site.KindFixedDevice || !p.Offers(at.From) {
					continue
				}
				short := address.Short(o.at, n.Prefix)
				report(Finding{
					Title: fmt.Sprintf("%s is inside pool %s", short, p.Name), Network: n.ID, Parts: []site.Ref{o.part, poolRef(p.ID)}, Addresses: []address.Range{at},
					Says: fmt.Sprintf("%s holds %s itself, and pool %s may hand it to a client. Whichever starts second loses its connection.", o.what(), o.at, p.Name),
					Fix:  excluding("Exclude "+short+" from the pool", p, at, o.what()),
				})
			}
		}
	})
}

func exclusionOutsidePool(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		for _, x := range p.Exclusions {
			if slices.ContainsFunc(p.Ranges, x.Range.Overlaps) {
				continue
			}
			in := poolRef(p.ID)
			fix := &Fix{Title: "Remove the exclusion"}
			fix.Edits, _ = edit.Removing(f.Site, site.Ref{Kind: site.KindExclusion, ID: x.ID}, in)
			report(Finding{
				Title: "An exclusion is outside pool " + p.Name, Network: n.ID, Parts: []site.Ref{{Kind: site.KindExclusion, ID: x.ID}, in}, Addresses: []address.Range{x.Range},
				Says: fmt.Sprintf("%s (%s) keeps nothing back: pool %s never hands it out.", x.Range, x.Reason, p.Name), Fix: fix,
			})
		}
	})
}

func exclusionEmptiesPool(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		var cut []address.Range
		parts := []site.Ref{poolRef(p.ID)}
		for _, x := range p.Exclusions {
			cut = append(cut, x.Range)
			parts = append(parts, site.Ref{Kind: site.KindExclusion, ID: x.ID})
		}
		if len(cut) > 0 && len(address.Ranges(p.Ranges, cut)) == 0 {
			report(Finding{
				Title: fmt.Sprintf("Pool %s has nothing left to hand out", p.Name), Network: n.ID, Parts: parts, Addresses: p.Ranges,
				Says: fmt.Sprintf("Its exclusions cover all of %s. Clients of %s get no address.", join(p.Ranges), n.Name),
			})
		}
	})
}

func reservationOutsideNetwork(f *facts, report func(Finding)) {
	for _, r := range f.Reservations {
		n := f.networks[r.Network]
		if n == nil || address.Usable(n.Prefix).Contains(r.Address) {
			continue
		}
		report(Finding{
			Title: fmt.Sprintf("Reservation %s is outside %s", r.Name, n.Name), Network: n.ID, Addresses: []address.Range{address.Single(r.Address)},
			Parts: []site.Ref{{Kind: site.KindReservation, ID: r.ID}},
			Says:  fmt.Sprintf("No host in %s can hold %s. The client %s is refused or cut off.", n.Prefix, r.Address, r.MAC),
			Fix:   f.moveReservation(n, r.ID),
		})
	}
}

func reservationMACTwice(f *facts, report func(Finding)) {
	type key struct {
		network string
		mac     address.MAC
	}
	first := make(map[key]*site.Reservation, len(f.Reservations))
	for i := range f.Reservations {
		r := &f.Reservations[i]
		k := key{r.Network, r.MAC}
		other, dup := first[k]
		if !dup || r.MAC.IsZero() {
			first[k] = r
			continue
		}
		ref := site.Ref{Kind: site.KindReservation, ID: r.ID}
		fix := &Fix{Title: "Remove the reservation of " + r.Address.String()}
		fix.Edits, _ = edit.Removing(f.Site, ref, site.Ref{})
		report(Finding{
			Title: r.MAC.String() + " is reserved twice", Network: r.Network, Parts: []site.Ref{{Kind: site.KindReservation, ID: other.ID}, ref},
			Addresses: []address.Range{address.Single(other.Address), address.Single(r.Address)}, Fix: fix,
			Says: fmt.Sprintf("The client is given %s or %s, whichever the server finds first.", other.Address, r.Address),
		})
	}
}

func macMalformed(f *facts, report func(Finding)) {
	bad := func(o owner, says string) {
		found := Finding{
			Title: o.what() + " has no usable MAC", Parts: []site.Ref{o.part}, Addresses: []address.Range{address.Single(o.at)}, Says: says,
			Value: o.mac.String(),
		}
		if n, ok := f.NetworkOf(o.at); ok {
			found.Network = n.ID
		}
		report(found)
	}
	for _, o := range f.owners() {
		switch {
		case o.mac.IsGroup():
			bad(o, fmt.Sprintf("%s is a group address; no single client sends it, so this is never matched.", o.mac))
		case o.mac.IsZero() && o.part.Kind == site.KindReservation && !o.named:
			bad(o, "A reservation without a MAC or a client identifier matches no client.")
		}
	}
}

func poolOff(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		if p.Enabled {
			return
		}
		now := *p
		now.Enabled = true
		report(Finding{
			Title: fmt.Sprintf("Pool %s is switched off", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)}, Addresses: p.Ranges,
			Says: fmt.Sprintf("No client of %s gets an address from it.", n.Name),
			Fix:  change("Switch it on", site.KindPool, p.ID, site.Ref{}, *p, now),
		})
	})
}

func networkUnserved(f *facts, report func(Finding)) {
	for i := range f.Networks {
		n := &f.Networks[i]
		if n.Prefix.Bits() >= 30 {
			continue // a link between two routers has no clients
		}
		// How a pool's server hears its clients is for relay-missing and
		// pool-unreachable.
		says := fmt.Sprintf("No pool hands out addresses on %s. Only devices with a fixed address work there.", n.Name)
		served := false
		var fix *Fix
		parts := []site.Ref{networkRef(n.ID)}
		for _, p := range f.pools[n.ID] {
			if _, ok := f.Device(p.Server); !ok {
				says = fmt.Sprintf("Pool %s names no device to serve it.", p.Name)
				if homes := f.homes(n); fix == nil && len(homes) > 0 {
					at := max(0, slices.IndexFunc(homes, func(h home) bool { return h.at == n.Gateway }))
					now := *p
					now.Server = homes[at].device.ID
					fix = change(fmt.Sprintf("Serve %s from %s", p.Name, homes[at].device.Name), site.KindPool, p.ID, site.Ref{}, *p, now)
				}
			} else {
				served = true
			}
			parts = append(parts, poolRef(p.ID))
		}
		if !served {
			report(Finding{Title: n.Name + " is not served", Network: n.ID, Parts: parts, Says: says, Fix: fix})
		}
	}
}
