package check

import (
	"fmt"
	"slices"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/observed"
	"lithos/core/site"
)

func reservationOutsideNetwork(f *facts, n *site.Network, report func(Finding)) {
	for r := range f.reservedOn(n) {
		if address.Usable(n.Prefix).Contains(r.Address) {
			continue
		}
		report(Finding{
			Title: fmt.Sprintf("Reservation %s is outside %s", r.NameOrAddress(), n.Name), Network: n.ID,
			Addresses: []address.Range{address.Single(r.Address)},
			Parts:     []site.Ref{reservationRef(r.ID)},
			Says: fmt.Sprintf("No host in %s can hold %s. Its client is refused or cut off.", n.Prefix,
				r.Address),
			Fix: f.moveReservation(n, r.ID),
		})
	}
}

func (f *facts) moveReservation(n *site.Network, id string) *Fix {
	r, ok := f.Reservation(id)
	if !ok {
		return nil
	}
	// One that is outside keeps its host number where that is free.
	free, ok := site.SameHost(f.Site, n, r.Address)
	if n.Prefix.Contains(r.Address) || !ok {
		if free, ok = site.NextFree(f.Site, n); !ok {
			return nil
		}
	}
	now := *r
	now.Address = free
	return change("Move the reservation to "+address.Short(free, n.Prefix), site.KindReservation, id,
		site.Ref{}, *r, now)
}

func reservationMACTwice(f *facts, n *site.Network, report func(Finding)) {
	all := slices.Collect(f.reservedOn(n))
	twice(all, func(r **site.Reservation) string { return (*r).MAC.String() }, func(first, again **site.Reservation) {
		other, r := *first, *again
		ref := reservationRef(r.ID)
		fix := &Fix{Title: "Remove the reservation of " + r.Address.String()}
		fix.Edits, _ = edit.Removing(f.Site, ref, site.Ref{})
		report(Finding{
			Title: r.MAC.String() + " is reserved twice", Network: r.Network,
			Parts:     []site.Ref{reservationRef(other.ID), ref},
			Addresses: []address.Range{address.Single(other.Address), address.Single(r.Address)}, Fix: fix,
			Says: fmt.Sprintf("The client is given %s or %s, whichever the server finds first.", other.Address,
				r.Address),
		})
	})
}

func macMalformed(_ *facts, n *site.Network, held []owner, report func(Finding)) {
	bad := func(o owner, says string) {
		found := Finding{
			Title: o.what() + " has no usable MAC", Parts: []site.Ref{o.part},
			Addresses: []address.Range{address.Single(o.at)}, Says: says,
			Value: o.mac.String(),
		}
		if n != nil {
			found.Network = n.ID
		}
		report(found)
	}
	for _, o := range held {
		switch {
		case o.mac.IsGroup():
			bad(o, fmt.Sprintf("%s is a group address; no single client sends it, so this is never matched.", o.mac))
		case o.mac.IsZero() && o.part.Kind == site.KindReservation && !o.named:
			bad(o, "A reservation without a MAC or a client identifier matches no client.")
		}
	}
}

func macRandomised(f *facts, n *site.Network, report func(Finding)) {
	for r := range f.reservedOn(n) {
		if r.MAC.IsZero() || !observed.Randomised(r.MAC) {
			continue
		}
		report(Finding{
			Title: fmt.Sprintf("%s has a randomised MAC", r.NameOrAddress()), Network: n.ID,
			Parts:     []site.Ref{reservationRef(r.ID)},
			Addresses: []address.Range{address.Single(r.Address)},
			Says: fmt.Sprintf("%s is locally administered. The machine takes another when it likes, and the "+
				"reservation no longer holds. Switch private addresses off on the machine for this network.", r.MAC),
		})
	}
}

func reservationExcluded(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		if f.keepsApart(p) {
			return // there an exclusion is how a reservation is kept out of the ranges
		}
		for _, x := range p.Exclusions {
			for _, o := range f.ownersIn(x.Range) {
				if o.part.Kind != site.KindReservation || o.at != x.Range.From && x.Range.Size() == 1 {
					continue
				}
				report(Finding{
					Title: o.what() + " is inside an exclusion", Network: n.ID,
					Parts:     []site.Ref{o.part, {Kind: site.KindExclusion, ID: x.ID}, poolRef(p.ID)},
					Addresses: []address.Range{address.Single(o.at)},
					Says: fmt.Sprintf("%s is both excluded (%s) and reserved; the reservation wins. %s is "+
						"still given it, so the reason may no longer hold.", o.at, x.Reason, o.what()),
				})
			}
		}
	})
}

// keepsApart reports whether the pool's server refuses reservations inside ranges.
func (f *facts) keepsApart(p *site.Pool) bool {
	d, ok := f.Device(p.Server)
	return ok && d.Kind == site.L3Switch
}

func reservationInPool(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		if !f.keepsApart(p) {
			return
		}
		d, _ := f.Device(p.Server)
		for _, run := range p.Ranges {
			for _, o := range f.ownersIn(run) {
				at := address.Single(o.at)
				if o.part.Kind != site.KindReservation || !p.Offers(at.From) {
					continue
				}
				report(Finding{
					Title: fmt.Sprintf("%s is inside pool %s", o.what(), p.Name), Network: n.ID,
					Parts: []site.Ref{o.part, poolRef(p.ID)}, Addresses: []address.Range{at},
					Says: fmt.Sprintf("%s reserves only outside the ranges of its pools, and refuses %s.",
						d.Name, o.at),
					Fix: excluding("Exclude "+address.Short(o.at, n.Prefix)+" from the pool", p, at, o.what()),
				})
			}
		}
	})
}
