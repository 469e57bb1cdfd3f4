package check

import (
	"fmt"
	"net/netip"
	"slices"

	"lithos/core/address"
	"lithos/core/site"
)

// eachAddress visits the addresses of a device's interfaces.
func eachAddress(d *site.Device, do func(i *site.Interface, a netip.Prefix)) {
	for k := range d.Interfaces {
		i := &d.Interfaces[k]
		for _, a := range i.Addresses {
			do(i, a)
		}
	}
}

func interfaceOutsideNetwork(f *facts, d *site.Device, report func(Finding)) {
	eachAddress(d, func(i *site.Interface, a netip.Prefix) {
		if _, ok := f.NetworkOf(a.Addr()); ok || i.Kind == site.Uplink || i.Kind == site.Loopback {
			return
		}
		report(Finding{
			Title:     fmt.Sprintf("%s of %s is in no network", i.Name, d.Name),
			Addresses: []address.Range{address.Single(a.Addr())},
			Parts:     []site.Ref{{Kind: site.KindInterface, ID: i.ID}},
			Says: fmt.Sprintf("%s holds %s, which no network of this site contains. Nothing else here can be "+
				"checked against it.", i.Name, a),
		})
	})
}

func interfaceMaskDiffers(f *facts, d *site.Device, report func(Finding)) {
	eachAddress(d, func(i *site.Interface, a netip.Prefix) {
		n, ok := f.NetworkOf(a.Addr())
		if !ok || n.Prefix.Bits() == a.Bits() || i.Kind == site.Uplink || i.Kind == site.Loopback {
			return
		}
		now := *i
		now.Addresses = slices.Clone(i.Addresses)
		for k := range now.Addresses {
			if now.Addresses[k] == a {
				now.Addresses[k] = netip.PrefixFrom(a.Addr(), n.Prefix.Bits())
			}
		}
		report(Finding{
			Title: fmt.Sprintf("%s has another mask than %s", i.Name, n.Name), Network: n.ID,
			Addresses: []address.Range{address.Single(a.Addr())},
			Parts:     []site.Ref{{Kind: site.KindInterface, ID: i.ID}, networkRef(n.ID)},
			Says: fmt.Sprintf("%s of %s has /%d where %s is /%d. Clients outside the smaller of the two get no "+
				"answer from it.",
				i.Name, d.Name, a.Bits(), n.Name, n.Prefix.Bits()),
			Fix: change(fmt.Sprintf("Give %s the mask /%d", i.Name, n.Prefix.Bits()), site.KindInterface, i.ID,
				site.Ref{Kind: site.KindDevice, ID: d.ID}, *i, now),
		})
	})
}

// interfacesOverlap sweeps each device's addresses in order, as networksOverlap does.
func interfacesOverlap(_ *facts, d *site.Device, report func(Finding)) {
	type held struct {
		i *site.Interface
		a netip.Prefix
	}
	var all []held
	for k := range d.Interfaces {
		i := &d.Interfaces[k]
		for _, a := range i.Addresses {
			all = append(all, held{i, a})
		}
	}
	slices.SortStableFunc(all, func(x, y held) int { return x.a.Masked().Addr().Compare(y.a.Masked().Addr()) })
	far := 0
	for k := 1; k < len(all); k++ {
		if h := all[far]; h.a.Overlaps(all[k].a) {
			report(Finding{
				Title:     fmt.Sprintf("%s and %s of %s are on one subnet", h.i.Name, all[k].i.Name, d.Name),
				Addresses: []address.Range{address.Single(all[k].a.Addr())},
				Parts: []site.Ref{{Kind: site.KindInterface, ID: h.i.ID},
					{Kind: site.KindInterface, ID: all[k].i.ID}},
				Says: fmt.Sprintf("%s and %s overlap. %s refuses the second address.", h.a, all[k].a, d.Name),
			})
		}
		if address.Of(all[far].a).To.Less(address.Of(all[k].a).To) {
			far = k
		}
	}
}

func beyondDevice(f *facts, d *site.Device, report func(Finding)) {
	if err := f.limits(d); err != nil {
		report(Finding{
			Title: d.Name + " cannot do what is asked", Parts: []site.Ref{deviceRef(d.ID)},
			Value: err.Error(),
			Says:  fmt.Sprintf("%s refuses it: %s.", d.Name, err),
		})
	}
}

// changeInterface is the fix that turns one value of an interface into another.
func changeInterface(title string, d *site.Device, was, now site.Interface) *Fix {
	return change(title, site.KindInterface, was.ID, deviceRef(d.ID), was, now)
}
