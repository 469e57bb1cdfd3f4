package check

import (
	"fmt"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/site"
)

// Rules about what should be there once: names that people and devices tell parts apart
// by, VLANs and ports of a device, and what a client is known by.

// twice visits each element of a list that has the key of an earlier one.
func twice[T any](list []T, key func(*T) string, do func(first, again *T)) {
	first := map[string]*T{}
	for i := range list {
		k := strings.ToLower(key(&list[i]))
		if k == "" {
			continue
		}
		if other := first[k]; other != nil {
			do(other, &list[i])
			continue
		}
		first[k] = &list[i]
	}
}

func deviceNameTwice(f *facts, report func(Finding)) {
	twice(f.Devices, func(d *site.Device) string { return d.Name }, func(first, again *site.Device) {
		report(Finding{
			Title: "Two devices are called " + again.Name, Parts: []site.Ref{deviceRef(first.ID), deviceRef(again.ID)},
			Value: again.Name,
			Says:  "Findings, steps and the journal of a push name devices; nobody can tell which of the two is meant.",
		})
	})
}

func interfaceNameTwice(f *facts, d *site.Device, report func(Finding)) {
	twice(d.Interfaces, func(i *site.Interface) string { return i.Name }, func(first, again *site.Interface) {
		report(Finding{
			Title: fmt.Sprintf("%s has two interfaces called %s", d.Name, again.Name),
			Parts: []site.Ref{interfaceRef(first.ID), interfaceRef(again.ID)}, Value: again.Name,
			Says: "A device knows its interfaces by their names (RFC 8343); the second takes the place of the first.",
		})
	})
}

func vlanTwiceOnDevice(_ *facts, d *site.Device, report func(Finding)) {
	key := func(i *site.Interface) string {
		if i.Kind != site.VLAN || i.VLAN == 0 {
			return ""
		}
		return fmt.Sprint(i.VLAN)
	}
	twice(d.Interfaces, key, func(first, again *site.Interface) {
		report(Finding{
			Title: fmt.Sprintf("VLAN %d is twice on %s", again.VLAN, d.Name),
			Parts: []site.Ref{interfaceRef(first.ID), interfaceRef(again.ID)}, Value: fmt.Sprint(again.VLAN),
			Says: fmt.Sprintf("%s and %s both take the frames of VLAN %d. The device refuses the second, or answers "+
				"from either.", first.Name, again.Name, again.VLAN),
		})
	})
}

func portInTwoGroups(_ *facts, d *site.Device, report func(Finding)) {
	in := map[string]*site.Interface{}
	for k := range d.Interfaces {
		i := &d.Interfaces[k]
		for _, port := range i.Members {
			other := in[port]
			if other == nil {
				in[port] = i
				continue
			}
			now := *i
			now.Members = slices.DeleteFunc(slices.Clone(i.Members), func(m string) bool { return m == port })
			title := fmt.Sprintf("%s of %s is in two port groups", port, d.Name)
			if other == i {
				title = fmt.Sprintf("%s of %s is in %s twice", port, d.Name, i.Name)
			}
			report(Finding{
				Title: title, Parts: []site.Ref{interfaceRef(other.ID), interfaceRef(i.ID)}, Value: port,
				Says: fmt.Sprintf("A port belongs to one group; frames on %s would be of %s or of %s.", port,
					other.Name, i.Name),
				Fix: change(fmt.Sprintf("Take %s out of %s", port, i.Name), site.KindInterface, i.ID,
					deviceRef(d.ID), *i, now),
			})
		}
	}
}

func networkNameTwice(f *facts, report func(Finding)) {
	twice(f.Networks, func(n *site.Network) string { return n.Name }, func(first, again *site.Network) {
		report(Finding{
			Title: "Two networks are called " + again.Name, Network: again.ID, Value: again.Name,
			Parts: []site.Ref{networkRef(first.ID), networkRef(again.ID)},
			Says: fmt.Sprintf("%s and %s have one name. Whoever is told of %q cannot know which is meant.",
				first.Prefix, again.Prefix, again.Name),
		})
	})
}

func reservationNameTwice(f *facts, n *site.Network, report func(Finding)) {
	all := slices.Collect(f.reservedOn(n))
	twice(all, func(r **site.Reservation) string { return (*r).Name }, func(first, again **site.Reservation) {
		a, b := *first, *again
		report(Finding{
			Title: "Two reservations are called " + b.Name, Network: n.ID, Value: b.Name,
			Parts:     []site.Ref{reservationRef(a.ID), reservationRef(b.ID)},
			Addresses: []address.Range{address.Single(a.Address), address.Single(b.Address)},
			Says: fmt.Sprintf("%s and %s are given the host name %s. A host name is one machine's; a question for "+
				"it finds the other half the time.", a.Address, b.Address, b.Name),
		})
	})
}

func reservationKnownTwice(f *facts, n *site.Network, report func(Finding)) {
	for r := range f.reservedOn(n) {
		if r.Client == "" || r.MAC.IsZero() {
			continue
		}
		now := *r
		now.MAC = address.MAC{}
		report(Finding{
			Title:   fmt.Sprintf("Reservation %s has a MAC and a client identifier", r.NameOrAddress()),
			Network: n.ID, Parts: []site.Ref{reservationRef(r.ID)},
			Addresses: []address.Range{address.Single(r.Address)},
			Says: fmt.Sprintf("The client identifier counts (RFC 2131 section 4.2): a client that sends another "+
				"one, or none, is not given %s, whatever its MAC.", r.Address),
			Fix: change("Leave the MAC out", site.KindReservation, r.ID, site.Ref{}, *r, now),
		})
	}
}

// fixedMACTwice is about fixed devices that are said to be one machine, by their MAC.
func fixedMACTwice(f *facts, report func(Finding)) {
	key := func(x *site.FixedDevice) string {
		if x.MAC.IsZero() {
			return ""
		}
		return x.MAC.String() + x.Network
	}
	twice(f.FixedDevices, key, func(first, again *site.FixedDevice) {
		ref := func(x *site.FixedDevice) site.Ref { return site.Ref{Kind: site.KindFixedDevice, ID: x.ID} }
		report(Finding{
			Title: fmt.Sprintf("%s and %s have one MAC", first.Name, again.Name), Network: again.Network,
			Parts: []site.Ref{ref(first), ref(again)}, Value: again.MAC.String(),
			Addresses: []address.Range{address.Single(first.Address), address.Single(again.Address)},
			Says: fmt.Sprintf("%s is said to be at %s and at %s. Either is mistyped, or the switches see it in two "+
				"places.",
				again.MAC, first.Address, again.Address),
		})
	})
}

// knownTwice is about clients that are recorded twice.
func knownTwice(f *facts, report func(Finding)) {
	key := func(k *site.KnownClient) string {
		if k.MAC.IsZero() {
			return ""
		}
		return k.MAC.String()
	}
	twice(f.KnownClients, key, func(first, again *site.KnownClient) {
		ref := func(k *site.KnownClient) site.Ref { return site.Ref{Kind: site.KindKnownClient, ID: k.ID} }
		fix := &Fix{Title: "Remove " + again.Name}
		fix.Edits, _ = edit.Removing(f.Site, ref(again), site.Ref{})
		report(Finding{
			Title: fmt.Sprintf("%s is known as %s and as %s", again.MAC, first.Name, again.Name),
			Parts: []site.Ref{ref(first), ref(again)}, Value: again.MAC.String(), Fix: fix,
			Says: "One machine has two entries; which of the two is shown is left to chance.",
		})
	})
}
