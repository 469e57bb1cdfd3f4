package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/topology"
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

// ProposeInterface is the VLAN interface that would hold a network's gateway, on the device that routes most VLANs
// already: a router or firewall before a layer 3 switch, and where none has any the first that could. ok is false where
// the network has no gateway or VLAN id, or nothing routes.
func ProposeInterface(s *site.Site, n *site.Network) (on *site.Device, i site.Interface, ok bool) {
	best := -1
	for di := range s.Devices {
		d := &s.Devices[di]
		vlans, _ := carriesVLANs(d)
		weight := vlans * 2
		switch d.Kind {
		case site.Router, site.Firewall:
			weight++
		case site.L3Switch:
		default:
			continue
		}
		if weight > best {
			if proposed, can := ProposeInterfaceOn(d, n); can {
				best, on, i = weight, d, proposed
			}
		}
	}
	return on, i, on != nil
}

// carriesVLANs counts the VLAN interfaces of a device, and says what carries the last of them.
func carriesVLANs(d *site.Device) (count int, parent string) {
	for _, i := range d.Interfaces {
		if i.Kind == site.VLAN {
			count, parent = count+1, i.Parent
		}
	}
	return count, parent
}

// ProposeInterfaceOn is the VLAN interface that would hold a network's gateway on a device: carried by what carries the
// others there, else by its port group or first port, and named as the others are. ok is false where the network has no
// gateway or VLAN id, or the device nothing that carries it.
func ProposeInterfaceOn(d *site.Device, n *site.Network) (i site.Interface, ok bool) {
	if n.VLAN == 0 || !address.Usable(n.Prefix).Contains(n.Gateway) {
		return i, false
	}
	vlans, parent := carriesVLANs(d)
	if vlans == 0 && !d.IsSwitch() {
		lan, has := lanOf(d)
		if !has {
			return i, false
		}
		parent = lan.Name
	}
	i = site.Interface{Kind: site.VLAN, VLAN: n.VLAN, Parent: parent,
		Addresses: []netip.Prefix{netip.PrefixFrom(n.Gateway, n.Prefix.Bits())}}
	i.ID = fmt.Sprintf("if-%s-vlan-%d", d.ID, n.VLAN)
	i.ID = i.ID[:min(len(i.ID), 64)]
	if i.Name = fmt.Sprintf("%s.%d", parent, n.VLAN); parent == "" {
		i.Name = fmt.Sprintf("vlan%d", n.VLAN)
	}
	taken := slices.ContainsFunc(d.Interfaces, func(o site.Interface) bool { return o.ID == i.ID || o.Name == i.Name })
	return i, !taken
}

// lanOf is the interface of a device that carries its networks: a port group, else a port with a cable, else any that
// is in no group.
func lanOf(d *site.Device) (*site.Interface, bool) {
	var found *site.Interface
	weight := 0
	for k := range d.Interfaces {
		i := &d.Interfaces[k]
		member := slices.ContainsFunc(d.Interfaces, func(g site.Interface) bool {
			return slices.Contains(g.Members, i.Name)
		})
		w := 0
		switch {
		case i.Kind == site.PortGroup:
			w = 3
		case i.Kind == site.Port && !member && i.Peer != "":
			w = 2
		case i.Kind == site.Port && !member:
			w = 1
		}
		if w > weight {
			found, weight = i, w
		}
	}
	return found, found != nil
}

// addInterface is the fix that gives a device the interface a network lacks: a VLAN interface, and where the network
// has no VLAN the address for the interface that carries the device's networks.
func (f *facts) addInterface(n *site.Network) *Fix {
	if n.VLAN == 0 {
		return f.addressWithoutVLAN(n)
	}
	d, i, ok := ProposeInterface(f.Site, n)
	if !ok {
		return nil
	}
	return &Fix{
		fmt.Sprintf("Give %s the interface %s with %s", d.Name, i.Name, n.Gateway),
		[]edit.Edit{edit.Adding(site.KindInterface, i.ID, site.Ref{Kind: site.KindDevice, ID: d.ID}, i)},
	}
}

func (f *facts) addressWithoutVLAN(n *site.Network) *Fix {
	if !address.Usable(n.Prefix).Contains(n.Gateway) {
		return nil
	}
	for k := range f.Devices {
		d := &f.Devices[k]
		if d.Kind != site.Router && d.Kind != site.Firewall && d.Kind != site.L3Switch {
			continue
		}
		if i, ok := lanOf(d); ok && len(i.Addresses) == 0 {
			now := *i
			now.Addresses = []netip.Prefix{netip.PrefixFrom(n.Gateway, n.Prefix.Bits())}
			return changeInterface(fmt.Sprintf("Give %s of %s the address %s", i.Name, d.Name, n.Gateway), d, *i, now)
		}
	}
	return nil
}

// networkAtNoPort is about networks that a device of the site holds, and that come out at no port of its switches: a
// client can be plugged in nowhere. A port that carries it with a tag may have an access point.
func networkAtNoPort(f *facts, n *site.Network, report func(Finding)) {
	path := f.joined.Path(n)
	if !path.Drawn || len(path.Homes) == 0 || len(path.Plugs)+len(path.Trunks)+len(path.Breaks) > 0 {
		return
	}
	alone := !slices.ContainsFunc(path.Homes,
		func(e topology.End) bool { return e.Device.ID != path.Homes[0].Device.ID })
	switched := slices.ContainsFunc(f.Devices, func(d site.Device) bool {
		return d.IsSwitch()
	})
	routed := slices.ContainsFunc(path.Homes, func(e topology.End) bool {
		return e.Interface.Kind == site.VLAN && e.Interface.VLAN == n.VLAN // else another rule speaks of it
	})
	if !alone || !switched || !routed || n.VLAN == 0 {
		return // where several devices are in it, it is theirs
	}
	report(Finding{
		Title: n.Name + " comes out at no port", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
		Value: fmt.Sprint(n.VLAN), Fix: f.putAtPort(n, path.Homes[0].Device),
		Says: fmt.Sprintf("Apart from cables between devices, no port has VLAN %d, which ends at %s, with a tag or "+
			"without. Whoever is plugged in anywhere is on another network.", n.VLAN, path.Homes[0]),
	})
}

// putAtPort is the fix that puts a network on a free port of a switch, and on the trunk that leads there. Where no port
// is free, one that clients have carries it with a tag as well, for an access point.
func (f *facts) putAtPort(n *site.Network, home *site.Device) *Fix {
	var tagged *Fix
	for k := range f.Devices {
		d := &f.Devices[k]
		if !d.IsSwitch() {
			continue
		}
		open := func(i site.Interface) bool {
			return i.Kind == site.Port && len(i.Addresses) == 0 && !f.joined.Cabled(i.ID)
		}
		if free := slices.IndexFunc(d.Interfaces, func(i site.Interface) bool {
			return open(i) && i.Untagged == 0 && len(i.Tagged) == 0
		}); free >= 0 {
			was := d.Interfaces[free]
			now := was
			now.Untagged = n.VLAN
			return f.upTo(d, home, n, changeInterface(fmt.Sprintf("Put %s of %s into VLAN %d", was.Name, d.Name,
				n.VLAN), d, was,
				now))
		}
		if last := slices.IndexFunc(d.Interfaces, open); last >= 0 && tagged == nil {
			was := d.Interfaces[last]
			now := was
			now.Tagged = append(slices.Clone(was.Tagged), n.VLAN)
			slices.Sort(now.Tagged)
			tagged = f.upTo(d, home, n, changeInterface(fmt.Sprintf("Carry VLAN %d with a tag on %s of %s, for an "+
				"access point",
				n.VLAN, was.Name, d.Name), d, was, now))
		}
	}
	return tagged
}

// upTo is a fix at a switch, with the ports of switches on the way to the network's interface carrying it where they do
// not yet.
func (f *facts) upTo(d *site.Device, home *site.Device, n *site.Network, fix *Fix) *Fix {
	for _, e := range f.joined.Way(d.ID, home.ID) {
		if !e.Device.IsSwitch() || topology.Untagged(e.Device, e.Interface) == n.VLAN ||
			slices.Contains(topology.Tagged(e.Device, e.Interface), n.VLAN) {
			continue
		}
		wide := *e.Interface
		wide.Tagged = append(slices.Clone(wide.Tagged), n.VLAN)
		slices.Sort(wide.Tagged)
		fix.Edits = append(fix.Edits, changeInterface("", e.Device, *e.Interface, wide).Edits...)
	}
	return fix
}

// giveGateway is the fix that gives a network its first address as the gateway, held by a new interface.
func (f *facts) giveGateway(n *site.Network) *Fix {
	now := *n
	now.Gateway = address.Usable(n.Prefix).From
	if len(f.ownersIn(address.Single(now.Gateway))) > 0 {
		return nil
	}
	fix := f.addInterface(&now)
	if fix == nil {
		return nil
	}
	fix.Edits = append(change("", site.KindNetwork, n.ID, site.Ref{}, *n, now).Edits, fix.Edits...)
	return fix
}

func networkWithoutInterface(f *facts, n *site.Network, report func(Finding)) {
	if n.Gateway.IsValid() || len(f.homes(n)) > 0 {
		return // gateway-on-no-interface speaks of those with a gateway
	}
	report(Finding{
		Title: n.Name + " has no interface", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
		Says: fmt.Sprintf("No device has an address in %s, so nothing can be served or reached there.", n.Prefix),
		Fix:  f.giveGateway(n),
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
		Title: n.Name + " uses public addresses", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
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
	if n != nil {
		found.Network = n.ID
		if last := owners[len(owners)-1]; last.part.Kind == site.KindReservation {
			found.Fix = f.moveReservation(n, last.part.ID)
		}
	}
	found.Title = "Two owners of " + at.String()
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
