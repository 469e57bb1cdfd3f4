package check

import (
	"fmt"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/site"
)

// eachPool visits the pools of a network.
func (f *facts) eachPool(n *site.Network, do func(p *site.Pool)) {
	for _, p := range f.pools[n.ID] {
		do(p)
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

func poolOutsideNetwork(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
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
				Title: fmt.Sprintf("Pool %s leaves %s", p.Name, n.Name), Network: n.ID,
				Parts: []site.Ref{poolRef(p.ID)}, Addresses: outside,
				Says: fmt.Sprintf("%s is not in %s. A client given one of these reaches nothing, and devices refuse "+
					"the pool.", join(outside), n.Prefix),
				Fix: withRanges("Keep the part inside "+n.Prefix.String(), p, inside),
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
	for i := range f.Pools {
		p := &f.Pools[i]
		for _, r := range p.Ranges {
			if n := f.networks[p.Network]; n != nil {
				runs = append(runs, run{r, p, n})
			}
		}
	}
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
		title, fix := fmt.Sprintf("Pools %s and %s overlap", a.p.Name, b.p.Name),
			withRanges("Take "+part.Short(b.n.Prefix)+" out of "+b.p.Name, b.p,
				address.Ranges(b.p.Ranges, []address.Range{part}))
		if a.p == b.p {
			title, fix = fmt.Sprintf("Two ranges of pool %s overlap", a.p.Name),
				withRanges("Merge the ranges", b.p, address.Ranges(b.p.Ranges, nil))
		}
		report(Finding{
			Title: title, Network: b.n.ID, Parts: []site.Ref{poolRef(a.p.ID), poolRef(b.p.ID)},
			Addresses: []address.Range{part}, Fix: fix,
			Says: fmt.Sprintf("%s is in both. Two servers, or one that loses count, give it to two clients.", part),
		})
	}
}

func poolHoldsGateway(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		if at := address.Single(n.Gateway); n.Gateway.IsValid() && p.Offers(at.From) {
			report(Finding{
				Title: fmt.Sprintf("Pool %s holds the gateway", p.Name), Network: n.ID,
				Parts: []site.Ref{poolRef(p.ID), networkRef(n.ID)}, Addresses: []address.Range{at},
				Says: fmt.Sprintf("A client given %s takes the gateway's place, and all of %s loses its way out.",
					n.Gateway, n.Name),
				Fix: excluding("Exclude "+address.Short(n.Gateway, n.Prefix), p, at, "Gateway"),
			})
		}
	})
}

func poolHoldsInterface(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		for _, run := range p.Ranges {
			for _, o := range f.ownersIn(run) {
				at := address.Single(o.at)
				if o.part.Kind != site.KindInterface || o.at == n.Gateway || !p.Offers(at.From) {
					continue // pool-holds-gateway says so
				}
				short := address.Short(o.at, n.Prefix)
				report(Finding{
					Title: fmt.Sprintf("Pool %s holds an interface's address", p.Name), Network: n.ID,
					Parts: []site.Ref{poolRef(p.ID), o.part}, Addresses: []address.Range{at},
					Says: fmt.Sprintf("%s holds %s, and pool %s may hand it to a client. Both lose their connection.",
						o.what(), o.at, p.Name),
					Fix: excluding("Exclude "+short+" from the pool", p, at, o.what()),
				})
			}
		}
	})
}

func poolHoldsUnusable(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		usable := address.Usable(n.Prefix)
		var bad []address.Range
		for _, a := range []address.Range{address.Single(address.Of(n.Prefix).From),
			address.Single(address.Of(n.Prefix).To)} {
			if !usable.Covers(a) && p.Offers(a.From) {
				bad = append(bad, a)
			}
		}
		if len(bad) > 0 {
			report(Finding{
				Title: fmt.Sprintf("Pool %s holds an address no host can have", p.Name), Network: n.ID,
				Parts: []site.Ref{poolRef(p.ID)}, Addresses: bad,
				Says: fmt.Sprintf("%s is the network or broadcast address of %s. A client given it cannot talk.",
					join(bad), n.Prefix),
				Fix: withRanges("Leave it out of the range", p, address.Ranges(p.Ranges, bad)),
			})
		}
	})
}

func poolHoldsFixedDevice(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		for _, run := range p.Ranges {
			for _, o := range f.ownersIn(run) {
				at := address.Single(o.at)
				if o.part.Kind != site.KindFixedDevice || !p.Offers(at.From) {
					continue
				}
				short := address.Short(o.at, n.Prefix)
				report(Finding{
					Title: fmt.Sprintf("%s is inside pool %s", o.at, p.Name), Network: n.ID,
					Parts: []site.Ref{o.part, poolRef(p.ID)}, Addresses: []address.Range{at},
					Says: fmt.Sprintf("%s holds %s itself, and pool %s may hand it to a client. Whichever starts "+
						"second loses its connection.", o.what(), o.at, p.Name),
					Fix: excluding("Exclude "+short+" from the pool", p, at, o.what()),
				})
			}
		}
	})
}

func poolOff(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		if p.Enabled {
			return
		}
		now := *p
		now.Enabled = true
		report(Finding{
			Title: fmt.Sprintf("Pool %s is switched off", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
			Addresses: p.Ranges,
			Says:      fmt.Sprintf("No client of %s gets an address from it.", n.Name),
			Fix:       change("Switch it on", site.KindPool, p.ID, site.Ref{}, *p, now),
		})
	})
}

func classMissing(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		if _, ok := f.VendorClass(p.ForClass); ok || p.ForClass == "" {
			return
		}
		now := *p
		now.ForClass = ""
		report(Finding{
			Title: fmt.Sprintf("Pool %s is for a class that is not there", p.Name), Network: n.ID,
			Parts: []site.Ref{poolRef(p.ID)},
			Value: p.ForClass,
			Says:  fmt.Sprintf("No vendor class of the site is %q. Every client would be served from it.", p.ForClass),
			Fix:   change("Serve anyone from it", site.KindPool, p.ID, site.Ref{}, *p, now),
		})
	})
}

func exclusionOutsidePool(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		for _, x := range p.Exclusions {
			if slices.ContainsFunc(p.Ranges, x.Range.Overlaps) {
				continue
			}
			in := poolRef(p.ID)
			fix := &Fix{Title: "Remove the exclusion"}
			fix.Edits, _ = edit.Removing(f.Site, site.Ref{Kind: site.KindExclusion, ID: x.ID}, in)
			report(Finding{
				Title: "An exclusion is outside pool " + p.Name, Network: n.ID,
				Parts: []site.Ref{{Kind: site.KindExclusion, ID: x.ID}, in}, Addresses: []address.Range{x.Range},
				Says: fmt.Sprintf("%s (%s) keeps nothing back: pool %s never hands it out.", x.Range, x.Reason, p.Name),
				Fix:  fix,
			})
		}
	})
}

func exclusionEmptiesPool(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		var cut []address.Range
		parts := []site.Ref{poolRef(p.ID)}
		for _, x := range p.Exclusions {
			cut = append(cut, x.Range)
			parts = append(parts, site.Ref{Kind: site.KindExclusion, ID: x.ID})
		}
		if len(cut) > 0 && len(address.Ranges(p.Ranges, cut)) == 0 {
			report(Finding{
				Title: fmt.Sprintf("Pool %s has nothing left to hand out", p.Name), Network: n.ID, Parts: parts,
				Addresses: p.Ranges,
				Says: fmt.Sprintf("Its exclusions cover all of %s. Clients of %s get no address.",
					join(p.Ranges), n.Name),
			})
		}
	})
}
