package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/site"
)

var addressing = []Rule{
	{"network-outside-block", "Addressing", Warns, "Every network lies inside the site's block.", networkOutsideBlock},
	{"networks-overlap", "Addressing", Blocks, "No two networks share an address.", networksOverlap},
	{"prefix-has-host-bits", "Addressing", Blocks, "A network's prefix is its first address.", prefixHasHostBits},
	{"gateway-outside-network", "Addressing", Blocks, "A gateway lies in its network.", gatewayOutsideNetwork},
	{"gateway-unusable", "Addressing", Blocks, "A gateway is neither network nor broadcast address.", gatewayUnusable},
	{"gateway-on-no-interface", "Addressing", Warns, "A device holds each gateway address.", gatewayOnNoInterface},
	{"interface-outside-network", "Addressing", Warns, "An interface's address lies in a network.", interfaceOutsideNetwork},
	{"interface-mask-differs", "Addressing", Blocks, "An interface has its network's mask.", interfaceMaskDiffers},
	{"interfaces-overlap", "Addressing", Blocks, "A device's interfaces are on different subnets.", interfacesOverlap},
	{"address-two-owners", "Addressing", Blocks, "An address has one owner.", addressTwoOwners},
	{"vlan-id-out-of-range", "Addressing", Blocks, "A VLAN id is from 1 to 4094.", vlanOutOfRange},
	{"vlan-id-reused", "Addressing", Blocks, "A VLAN id belongs to one network.", vlanReused},
}

func networkRef(id string) site.Ref { return site.Ref{Kind: site.KindNetwork, ID: id} }

func networkOutsideBlock(f *facts, report func(Finding)) {
	if len(f.Block) == 0 {
		return
	}
	for _, n := range f.Networks {
		inside := slices.ContainsFunc(f.Block, func(b netip.Prefix) bool { return b.Bits() <= n.Prefix.Bits() && b.Contains(n.Prefix.Addr()) })
		if !inside {
			report(Finding{
				Title: n.Name + " is outside the site's block", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
				Addresses: []address.Range{address.Of(n.Prefix)},
				Says:      fmt.Sprintf("%s is not in %s. Another site may own it, and routes between the sites will not reach it.", n.Prefix, join(f.Block)),
			})
		}
	}
}

func join[T fmt.Stringer](list []T) string {
	out := ""
	for i, v := range list {
		if i > 0 {
			out += ", "
		}
		out += v.String()
	}
	return out
}

// networksOverlap sweeps the networks in address order: each is compared with
// the one before it that reaches farthest.
func networksOverlap(f *facts, report func(Finding)) {
	order := make([]*site.Network, len(f.Networks))
	for i := range f.Networks {
		order[i] = &f.Networks[i]
	}
	slices.SortStableFunc(order, func(a, b *site.Network) int { return a.Prefix.Masked().Addr().Compare(b.Prefix.Masked().Addr()) })
	var far *site.Network
	for _, n := range order {
		if far != nil && far.Prefix.Overlaps(n.Prefix) {
			part, _ := address.Of(far.Prefix).Intersect(address.Of(n.Prefix))
			report(Finding{
				Title: fmt.Sprintf("%s and %s overlap", far.Name, n.Name), Network: n.ID,
				Parts: []site.Ref{networkRef(far.ID), networkRef(n.ID)}, Addresses: []address.Range{part},
				Says: fmt.Sprintf("%s lies in both %s and %s. The device refuses the second interface, or sends its clients' packets to the first.", part, far.Prefix, n.Prefix),
			})
		}
		if far == nil || address.Of(far.Prefix).To.Less(address.Of(n.Prefix).To) {
			far = n
		}
	}
}

func prefixHasHostBits(f *facts, report func(Finding)) {
	for _, n := range f.Networks {
		if n.Prefix == n.Prefix.Masked() {
			continue
		}
		now := n
		now.Prefix = n.Prefix.Masked()
		report(Finding{
			Title: n.Name + " does not start at its first address", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
			Addresses: []address.Range{address.Single(n.Prefix.Addr())},
			Says:      fmt.Sprintf("%s has host bits set; devices refuse it or silently take %s.", n.Prefix, n.Prefix.Masked()),
			Fix:       change("Make it "+now.Prefix.String(), site.KindNetwork, n.ID, site.Ref{}, n, now),
		})
	}
}

// change is the fix that turns one value of a part into another.
func change(title, kind, id string, in site.Ref, was, now any) *Fix {
	e, ok := edit.Changing(kind, id, in, was, now)
	if !ok {
		return nil
	}
	return &Fix{title, []edit.Edit{e}}
}

// setGateway is the fix that makes the address of the network's interface its
// gateway, where there is one that can be.
func (f *facts) setGateway(n site.Network) *Fix {
	_, _, at, ok := f.InterfaceOn(&n)
	if !ok || !address.Usable(n.Prefix).Contains(at.Addr()) {
		return nil
	}
	now := n
	now.Gateway = at.Addr()
	return change("Make "+at.Addr().String()+" the gateway", site.KindNetwork, n.ID, site.Ref{}, n, now)
}

func gatewayOutsideNetwork(f *facts, report func(Finding)) {
	for _, n := range f.Networks {
		if n.Gateway.IsValid() && !n.Prefix.Contains(n.Gateway) {
			report(Finding{
				Title: "The gateway of " + n.Name + " is outside it", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
				Addresses: []address.Range{address.Single(n.Gateway)}, Fix: f.setGateway(n),
				Says: fmt.Sprintf("%s is not in %s. Clients cannot reach it and stay cut off from every other network.", n.Gateway, n.Prefix),
			})
		}
	}
}

func gatewayUnusable(f *facts, report func(Finding)) {
	for _, n := range f.Networks {
		if n.Gateway.IsValid() && n.Prefix.Contains(n.Gateway) && !address.Usable(n.Prefix).Contains(n.Gateway) {
			report(Finding{
				Title: "The gateway of " + n.Name + " is an address no host can hold", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
				Addresses: []address.Range{address.Single(n.Gateway)}, Fix: f.setGateway(n),
				Says: fmt.Sprintf("%s is the network or broadcast address of %s. The device refuses it and clients have no way out.", n.Gateway, n.Prefix),
			})
		}
	}
}

func gatewayOnNoInterface(f *facts, report func(Finding)) {
	held := map[netip.Addr]bool{}
	for _, o := range f.owners() {
		held[o.at] = held[o.at] || o.part.Kind == site.KindInterface || o.part.Kind == site.KindFixedDevice
	}
	for _, n := range f.Networks {
		if n.Gateway.IsValid() && !held[n.Gateway] {
			fix := f.setGateway(n)
			if fix == nil {
				fix = f.addInterface(&n)
			}
			report(Finding{
				Title: "No interface holds the gateway of " + n.Name, Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
				Addresses: []address.Range{address.Single(n.Gateway)}, Fix: fix,
				Says: fmt.Sprintf("Clients of %s are sent to %s and nobody answers there.", n.Name, n.Gateway),
			})
		}
	}
}

// ProposeInterface is the VLAN interface that would hold a network's gateway, on
// the router or firewall that carries most VLAN interfaces already; ok is false
// where the network has no gateway or VLAN id, or no device carries VLANs.
func ProposeInterface(s *site.Site, n *site.Network) (on *site.Device, i site.Interface, ok bool) {
	most := 0
	for di := range s.Devices {
		d := &s.Devices[di]
		vlans, parent := 0, ""
		for _, i := range d.Interfaces {
			if i.Kind == site.VLAN {
				vlans, parent = vlans+1, i.Parent
			}
		}
		if vlans > most && (d.Kind == site.Router || d.Kind == site.Firewall) {
			most, on, i.Parent = vlans, d, parent
		}
	}
	if on == nil || n.VLAN == 0 || !address.Usable(n.Prefix).Contains(n.Gateway) {
		return nil, site.Interface{}, false
	}
	i.ID = fmt.Sprintf("if-%s-vlan-%d", on.ID, n.VLAN)
	i.ID = i.ID[:min(len(i.ID), 64)]
	i.Name, i.Kind, i.VLAN = fmt.Sprintf("%s.%d", i.Parent, n.VLAN), site.VLAN, n.VLAN
	i.Addresses = []netip.Prefix{netip.PrefixFrom(n.Gateway, n.Prefix.Bits())}
	taken := slices.ContainsFunc(on.Interfaces, func(o site.Interface) bool { return o.ID == i.ID || o.Name == i.Name })
	return on, i, !taken
}

// addInterface is the fix that gives a device the interface a network lacks.
func (f *facts) addInterface(n *site.Network) *Fix {
	d, i, ok := ProposeInterface(f.Site, n)
	if !ok {
		return nil
	}
	return &Fix{
		fmt.Sprintf("Give %s the interface %s with %s", d.Name, i.Name, n.Gateway),
		[]edit.Edit{edit.Adding(site.KindInterface, i.ID, site.Ref{Kind: site.KindDevice, ID: d.ID}, i)},
	}
}

func (f *facts) eachInterface(do func(d *site.Device, i site.Interface, a netip.Prefix)) {
	for di := range f.Devices {
		for _, i := range f.Devices[di].Interfaces {
			for _, a := range i.Addresses {
				do(&f.Devices[di], i, a)
			}
		}
	}
}

func interfaceOutsideNetwork(f *facts, report func(Finding)) {
	f.eachInterface(func(d *site.Device, i site.Interface, a netip.Prefix) {
		if _, ok := f.NetworkOf(a.Addr()); ok || i.Kind == site.Uplink || i.Kind == site.Loopback {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("%s of %s is in no network", i.Name, d.Name), Addresses: []address.Range{address.Single(a.Addr())},
			Parts: []site.Ref{{Kind: site.KindInterface, ID: i.ID}},
			Says:  fmt.Sprintf("%s holds %s, which no network of this site contains. Nothing else here can be checked against it.", i.Name, a),
		})
	})
}

func interfaceMaskDiffers(f *facts, report func(Finding)) {
	f.eachInterface(func(d *site.Device, i site.Interface, a netip.Prefix) {
		n, ok := f.NetworkOf(a.Addr())
		if !ok || n.Prefix.Bits() == a.Bits() || i.Kind == site.Uplink || i.Kind == site.Loopback {
			return
		}
		now := i
		now.Addresses = slices.Clone(i.Addresses)
		for k := range now.Addresses {
			if now.Addresses[k] == a {
				now.Addresses[k] = netip.PrefixFrom(a.Addr(), n.Prefix.Bits())
			}
		}
		report(Finding{
			Title: fmt.Sprintf("%s has another mask than %s", i.Name, n.Name), Network: n.ID, Addresses: []address.Range{address.Single(a.Addr())},
			Parts: []site.Ref{{Kind: site.KindInterface, ID: i.ID}, networkRef(n.ID)},
			Says: fmt.Sprintf("%s of %s has /%d where %s is /%d. Clients outside the smaller of the two get no answer from it.",
				i.Name, d.Name, a.Bits(), n.Name, n.Prefix.Bits()),
			Fix: change(fmt.Sprintf("Give %s the mask /%d", i.Name, n.Prefix.Bits()), site.KindInterface, i.ID, site.Ref{Kind: site.KindDevice, ID: d.ID}, i, now),
		})
	})
}

// interfacesOverlap sweeps each device's addresses in order, as networksOverlap does.
func interfacesOverlap(f *facts, report func(Finding)) {
	type held struct {
		i *site.Interface
		a netip.Prefix
	}
	for _, d := range f.Devices {
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
					Title: fmt.Sprintf("%s and %s of %s are on one subnet", h.i.Name, all[k].i.Name, d.Name), Addresses: []address.Range{address.Single(all[k].a.Addr())},
					Parts: []site.Ref{{Kind: site.KindInterface, ID: h.i.ID}, {Kind: site.KindInterface, ID: all[k].i.ID}},
					Says:  fmt.Sprintf("%s and %s overlap. %s refuses the second address.", h.a, all[k].a, d.Name),
				})
			}
			if address.Of(all[far].a).To.Less(address.Of(all[k].a).To) {
				far = k
			}
		}
	}
}

func addressTwoOwners(f *facts, report func(Finding)) {
	all := f.owners()
	for from := 0; from < len(all); {
		to := from + 1
		for to < len(all) && all[to].at == all[from].at {
			to++
		}
		if to-from > 1 {
			f.twoOwners(all[from:to], report)
		}
		from = to
	}
}

func (f *facts) twoOwners(owners []owner, report func(Finding)) {
	at := owners[0].at
	found := Finding{
		Addresses: []address.Range{address.Single(at)},
		Says:      owners[0].what(),
	}
	for i, o := range owners {
		found.Parts = append(found.Parts, o.part)
		if i > 0 {
			found.Says += " and " + lower(o.what())
		}
	}
	if !owners[0].mac.IsZero() && owners[0].mac == owners[1].mac {
		found.Says += fmt.Sprintf(" are both recorded at %s, with one MAC: it is most likely one machine recorded twice.", at)
	} else {
		found.Says += fmt.Sprintf(" are both recorded at %s. Whichever starts second loses its connection.", at)
	}
	short := at.String()
	if n, ok := f.NetworkOf(at); ok {
		found.Network, short = n.ID, address.Short(at, n.Prefix)
		if last := owners[len(owners)-1]; last.part.Kind == site.KindReservation {
			found.Fix = f.moveReservation(n, last.part.ID)
		}
	}
	found.Title = "Two owners of " + short
	report(found)
}

// lower starts a sentence's words in small letters.
func lower(s string) string { return strings.ToLower(s[:1]) + s[1:] }

func (f *facts) moveReservation(n *site.Network, id string) *Fix {
	r, ok := f.Reservation(id)
	free, ok2 := site.NextFree(f.Site, n)
	if !ok || !ok2 {
		return nil
	}
	now := *r
	now.Address = free
	return change("Move the reservation to "+address.Short(free, n.Prefix), site.KindReservation, id, site.Ref{}, *r, now)
}

func vlanOutOfRange(f *facts, report func(Finding)) {
	for _, n := range f.Networks {
		if n.VLAN < 0 || n.VLAN > 4094 {
			report(Finding{
				Title: fmt.Sprintf("%s has VLAN id %d", n.Name, n.VLAN), Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
				Value: fmt.Sprint(n.VLAN),
				Says:  fmt.Sprintf("IEEE 802.1Q has room for ids 1 to 4094 only; every device refuses %d.", n.VLAN),
			})
		}
	}
	for _, d := range f.Devices {
		for _, i := range d.Interfaces {
			if i.VLAN < 0 || i.VLAN > 4094 || i.Kind == site.VLAN && i.VLAN == 0 {
				report(Finding{
					Title: fmt.Sprintf("%s of %s has VLAN id %d", i.Name, d.Name, i.VLAN), Parts: []site.Ref{{Kind: site.KindInterface, ID: i.ID}},
					Value: fmt.Sprint(i.VLAN),
					Says:  fmt.Sprintf("A VLAN interface needs an id from 1 to 4094; %s refuses %d.", d.Name, i.VLAN),
				})
			}
		}
	}
}

func vlanReused(f *facts, report func(Finding)) {
	first := map[int]*site.Network{}
	for i := range f.Networks {
		n := &f.Networks[i]
		if n.VLAN == 0 {
			continue
		}
		if other := first[n.VLAN]; other != nil {
			now := *n
			now.VLAN = FreeVLAN(f.Site)
			report(Finding{
				Title: fmt.Sprintf("%s and %s share VLAN %d", other.Name, n.Name, n.VLAN), Network: n.ID, Parts: []site.Ref{networkRef(other.ID), networkRef(n.ID)},
				Value: fmt.Sprint(n.VLAN),
				Says:  fmt.Sprintf("Clients of both networks hear each other's broadcasts, and a DHCP request on VLAN %d is answered from whichever pool is first.", n.VLAN),
				Fix:   change(fmt.Sprintf("Give %s VLAN %d", n.Name, now.VLAN), site.KindNetwork, n.ID, site.Ref{}, *n, now),
			})
			continue
		}
		first[n.VLAN] = n
	}
}

// FreeVLAN is the lowest VLAN id above those in use at the site, or the lowest
// unused one when there is none above. VLAN 1, every device's default, is left.
func FreeVLAN(s *site.Site) int {
	used := map[int]bool{}
	highest := 1
	note := func(id int) {
		used[id] = true
		if id < 4094 {
			highest = max(highest, id)
		}
	}
	for _, n := range s.Networks {
		note(n.VLAN)
	}
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			note(i.VLAN)
		}
	}
	if highest < 4094 && !used[highest+1] {
		return highest + 1
	}
	for id := 2; id <= 4094; id++ {
		if !used[id] {
			return id
		}
	}
	return 0
}
