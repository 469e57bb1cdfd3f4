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

func networkOutsideBlock(f *facts, n *site.Network, report func(Finding)) {
	if len(f.Block) == 0 {
		return
	}
	inside := slices.ContainsFunc(f.Block,
		func(b netip.Prefix) bool { return b.Bits() <= n.Prefix.Bits() && b.Contains(n.Prefix.Addr()) })
	if !inside {
		report(Finding{
			Title: n.Name + " is outside the site's block", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
			Addresses: []address.Range{address.Of(n.Prefix)},
			Says: fmt.Sprintf("%s is not in %s. Another site may own it, and routes between the sites will not "+
				"reach it.", n.Prefix, join(f.Block)),
		})
	}
}

// networksOverlap sweeps the networks in address order: each is compared with
// the one before it that reaches farthest.
func networksOverlap(f *facts, report func(Finding)) {
	order := make([]*site.Network, len(f.Networks))
	for i := range f.Networks {
		order[i] = &f.Networks[i]
	}
	slices.SortStableFunc(order,
		func(a, b *site.Network) int { return a.Prefix.Masked().Addr().Compare(b.Prefix.Masked().Addr()) })
	var far *site.Network
	for _, n := range order {
		if far != nil && far.Prefix.Overlaps(n.Prefix) {
			part, _ := address.Of(far.Prefix).Intersect(address.Of(n.Prefix))
			report(Finding{
				Title: fmt.Sprintf("%s and %s overlap", far.Name, n.Name), Network: n.ID,
				Parts: []site.Ref{networkRef(far.ID), networkRef(n.ID)}, Addresses: []address.Range{part},
				Says: fmt.Sprintf("%s lies in both %s and %s. The device refuses the second interface, or sends its "+
					"clients' packets to the first.", part, far.Prefix, n.Prefix),
			})
		}
		if far == nil || address.Of(far.Prefix).To.Less(address.Of(n.Prefix).To) {
			far = n
		}
	}
}

func prefixHasHostBits(f *facts, n *site.Network, report func(Finding)) {
	if n.Prefix == n.Prefix.Masked() {
		return
	}
	now := *n
	now.Prefix = n.Prefix.Masked()
	report(Finding{
		Title: n.Name + " does not start at its first address", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
		Addresses: []address.Range{address.Single(n.Prefix.Addr())},
		Says: fmt.Sprintf("%s has host bits set; devices refuse it or silently take %s.", n.Prefix,
			n.Prefix.Masked()),
		Fix: change("Make it "+now.Prefix.String(), site.KindNetwork, n.ID, site.Ref{}, *n, now),
	})
}

func gatewayOutsideNetwork(f *facts, n *site.Network, report func(Finding)) {
	if n.Gateway.IsValid() && !n.Prefix.Contains(n.Gateway) {
		report(Finding{
			Title: "The gateway of " + n.Name + " is outside it", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
			Addresses: []address.Range{address.Single(n.Gateway)}, Fix: f.setGateway(n),
			Says: fmt.Sprintf("%s is not in %s. Clients cannot reach it and stay cut off from every other network.",
				n.Gateway, n.Prefix),
		})
	}
}

func gatewayUnusable(f *facts, n *site.Network, report func(Finding)) {
	if n.Gateway.IsValid() && n.Prefix.Contains(n.Gateway) && !address.Usable(n.Prefix).Contains(n.Gateway) {
		report(Finding{
			Title: "The gateway of " + n.Name + " is an address no host can hold", Network: n.ID,
			Parts:     []site.Ref{networkRef(n.ID)},
			Addresses: []address.Range{address.Single(n.Gateway)}, Fix: f.setGateway(n),
			Says: fmt.Sprintf("%s is the network or broadcast address of %s. The device refuses it and clients have "+
				"no way out.", n.Gateway, n.Prefix),
		})
	}
}

func gatewayOnNoInterface(f *facts, n *site.Network, report func(Finding)) {
	held := slices.ContainsFunc(f.ownersIn(address.Single(n.Gateway)),
		func(o owner) bool { return o.part.Kind != site.KindReservation })
	if !n.Gateway.IsValid() || held {
		return
	}
	fix := f.setGateway(n)
	if fix == nil {
		fix = f.addInterface(n)
	}
	report(Finding{
		Title: "No interface holds the gateway of " + n.Name, Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
		Addresses: []address.Range{address.Single(n.Gateway)}, Fix: fix,
		Says: fmt.Sprintf("Clients of %s are sent to %s and nobody answers there.", n.Name, n.Gateway),
	})
}

// setGateway is the fix that makes the address of the network's interface its
// gateway, where there is one that can be.
func (f *facts) setGateway(n *site.Network) *Fix {
	_, _, at, ok := f.InterfaceOn(n)
	if !ok || !address.Usable(n.Prefix).Contains(at.Addr()) {
		return nil
	}
	now := *n
	now.Gateway = at.Addr()
	return change("Make "+at.Addr().String()+" the gateway", site.KindNetwork, n.ID, site.Ref{}, *n, now)
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

func networkWithoutInterface(f *facts, n *site.Network, report func(Finding)) {
	if n.Gateway.IsValid() || len(f.homes(n)) > 0 {
		return // gateway-on-no-interface speaks of those with a gateway
	}
	report(Finding{
		Title: n.Name + " has no interface", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
		Says: fmt.Sprintf("No device has an address in %s, so nothing can be served or reached there.", n.Prefix),
	})
}

// Addresses for private use (RFC 1918), for shared use behind a provider's
// translation (RFC 6598), and for links (RFC 3927).
var private = []netip.Prefix{
	netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"),
	netip.MustParsePrefix("192.168.0.0/16"),
	netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("169.254.0.0/16"),
}

// isPrivate reports whether an address is not one of the internet's.
func isPrivate(a netip.Addr) bool {
	return slices.ContainsFunc(private, func(p netip.Prefix) bool { return p.Contains(a) })
}

func publicPrefixInside(f *facts, n *site.Network, report func(Finding)) {
	if isPrivate(n.Prefix.Addr()) || slices.ContainsFunc(f.uplinks, func(u *site.Interface) bool {
		return slices.ContainsFunc(u.Addresses, func(a netip.Prefix) bool { return a.Masked() == n.Prefix.Masked() })
	}) {
		return
	}
	report(Finding{
		Title: n.Name + " uses addresses of the internet", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
		Addresses: []address.Range{address.Of(n.Prefix.Masked())},
		Says: fmt.Sprintf("%s belongs to somebody. Unless that is this site, clients here never reach its "+
			"owner, and its answers go astray.", n.Prefix),
	})
}

func addressTwoOwners(f *facts, n *site.Network, held []owner, report func(Finding)) {
	for from := 0; from < len(held); {
		to := from + 1
		for to < len(held) && held[to].at == held[from].at {
			to++
		}
		if to-from > 1 {
			f.twoOwners(n, held[from:to], report)
		}
		from = to
	}
}

func (f *facts) twoOwners(n *site.Network, owners []owner, report func(Finding)) {
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
		found.Says += fmt.Sprintf(
			" are both recorded at %s, with one MAC: it is most likely one machine recorded twice.", at)
	} else {
		found.Says += fmt.Sprintf(" are both recorded at %s. Whichever starts second loses its connection.", at)
	}
	short := at.String()
	if n != nil {
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

func addressUnusable(f *facts, n *site.Network, held []owner, report func(Finding)) {
	for _, o := range held {
		if n == nil || address.Usable(n.Prefix).Contains(o.at) || o.part.Kind == site.KindReservation ||
			o.at == n.Gateway {
			continue // reservation-outside-network and gateway-unusable say so
		}
		found := Finding{
			Title: o.what() + " is on an address no host can hold", Network: n.ID, Parts: []site.Ref{o.part},
			Addresses: []address.Range{address.Single(o.at)},
			Says: fmt.Sprintf("%s is the network or broadcast address of %s. Others do not answer it.", o.at,
				n.Prefix),
		}
		if d, ok := f.FixedDevice(o.part.ID); ok && o.part.Kind == site.KindFixedDevice {
			if free, ok := site.NextFree(f.Site, n); ok {
				now := *d
				now.Address = free
				found.Fix = change("Record it at "+address.Short(free, n.Prefix), site.KindFixedDevice, d.ID,
					site.Ref{}, *d, now)
			}
		}
		report(found)
	}
}
