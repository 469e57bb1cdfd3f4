package check

import (
	"fmt"
	"net/netip"
	"slices"

	"lithos/core/address"
	"lithos/core/links"
	"lithos/core/site"
)

var linkRules = []Rule{
	{"address-unusable", "Addressing", Blocks, "No device holds a network or broadcast address.", addressUnusable},
	{"vlan-on-one-side-only", "Addressing", Blocks, "Both ends of a cable carry the same VLANs.", vlanOnOneSideOnly},
	{"untagged-vlan-differs", "Addressing", Blocks, "Both ends of a cable have the same untagged VLAN.", untaggedDiffers},
	{"network-without-interface", "Addressing", Warns, "A device has an address in each network.", networkWithoutInterface},
	{"public-prefix-inside", "Addressing", Warns, "Networks use addresses that are free for private use.", publicPrefixInside},
	{"beyond-device", "Addressing", Blocks, "A device is asked only for what its kind can do.", beyondDevice},
	{"network-untranslated", "Uplink", Warns, "An uplink translates every private network.", networkUntranslated},
	{"translation-unknown", "Uplink", Notes, "An uplink says which networks it translates.", translationUnknown},
	{"uplink-gateway-outside", "Uplink", Blocks, "An uplink's router is on its subnet.", uplinkGatewayOutside},
}

func interfaceRef(id string) site.Ref { return site.Ref{Kind: site.KindInterface, ID: id} }
func deviceRef(id string) site.Ref    { return site.Ref{Kind: site.KindDevice, ID: id} }

// changeInterface is the fix that turns one value of an interface into another.
func changeInterface(title string, d *site.Device, was, now site.Interface) *Fix {
	return change(title, site.KindInterface, was.ID, deviceRef(d.ID), was, now)
}

func addressUnusable(f *facts, report func(Finding)) {
	for _, o := range f.owners() {
		n, ok := f.NetworkOf(o.at)
		if !ok || address.Usable(n.Prefix).Contains(o.at) || o.part.Kind == site.KindReservation || o.at == n.Gateway {
			continue // reservation-outside-network and gateway-unusable say so
		}
		found := Finding{
			Title: o.what() + " is on an address no host can hold", Network: n.ID, Parts: []site.Ref{o.part}, Addresses: []address.Range{address.Single(o.at)},
			Says: fmt.Sprintf("%s is the network or broadcast address of %s. Others do not answer it.", o.at, n.Prefix),
		}
		if d, ok := f.FixedDevice(o.part.ID); ok && o.part.Kind == site.KindFixedDevice {
			if free, ok := site.NextFree(f.Site, n); ok {
				now := *d
				now.Address = free
				found.Fix = change("Record it at "+address.Short(free, n.Prefix), site.KindFixedDevice, d.ID, site.Ref{}, *d, now)
			}
		}
		report(found)
	}
}

// vlanOnOneSideOnly compares the two ends of every cable, for the VLANs of
// networks.
func vlanOnOneSideOnly(f *facts, report func(Finding)) {
	nets := map[int]*site.Network{}
	for i := range f.Networks {
		nets[f.Networks[i].VLAN] = &f.Networks[i]
	}
	for _, c := range f.links().Cables {
		for _, pair := range [][2]links.End{{c.A, c.B}, {c.B, c.A}} {
			from, to := pair[0], pair[1]
			for _, v := range links.Tagged(from.Device, from.Interface) {
				n := nets[v]
				if n == nil || slices.Contains(links.Tagged(to.Device, to.Interface), v) {
					continue
				}
				now := *to.Interface
				now.Tagged = append(slices.Clone(now.Tagged), v)
				slices.Sort(now.Tagged)
				says := fmt.Sprintf("%s sends %s with the tag %d, and %s does not take it. Clients beyond get no address.", from, n.Name, v, to)
				if now.Untagged == v {
					now.Untagged = 0
					says = fmt.Sprintf("%s sends %s with the tag %d, and %s takes it without one. Clients beyond get no address.", from, n.Name, v, to)
				}
				report(Finding{
					Title: fmt.Sprintf("VLAN %d is on one side only", v), Network: n.ID, Says: says,
					Value: fmt.Sprint(v),
					Parts: []site.Ref{interfaceRef(from.Interface.ID), interfaceRef(to.Interface.ID), networkRef(n.ID)},
					Fix:   changeInterface(fmt.Sprintf("Carry VLAN %d on %s too", v, to), to.Device, *to.Interface, now),
				})
			}
		}
	}
}

func untaggedDiffers(f *facts, report func(Finding)) {
	for _, c := range f.links().Cables {
		a, b := links.Untagged(c.A.Device, c.A.Interface), links.Untagged(c.B.Device, c.B.Interface)
		if a == 0 || b == 0 || a == b {
			continue
		}
		now := *c.B.Interface
		now.Untagged = a
		found := Finding{
			Title: fmt.Sprintf("VLANs %d and %d run together", a, b), Parts: []site.Ref{interfaceRef(c.A.Interface.ID), interfaceRef(c.B.Interface.ID)},
			Value: fmt.Sprint(a, b),
			Says:  fmt.Sprintf("Frames of VLAN %d leave %s without a tag and become VLAN %d at %s. Clients of one network get addresses of the other.", a, c.A, b, c.B),
			Fix:   changeInterface(fmt.Sprintf("Make VLAN %d the untagged one on %s", a, c.B), c.B.Device, *c.B.Interface, now),
		}
		for _, n := range f.Networks {
			if n.VLAN == a {
				found.Network = n.ID
			}
		}
		report(found)
	}
}

func networkWithoutInterface(f *facts, report func(Finding)) {
	for i := range f.Networks {
		n := &f.Networks[i]
		if n.Gateway.IsValid() || len(f.homes(n)) > 0 {
			continue // gateway-on-no-interface speaks of those with a gateway
		}
		report(Finding{
			Title: n.Name + " has no interface", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
			Says: fmt.Sprintf("No device has an address in %s, so nothing can be served or reached there.", n.Prefix),
		})
	}
}

// Addresses for private use (RFC 1918), for shared use behind a provider's
// translation (RFC 6598), and for links (RFC 3927).
var private = []netip.Prefix{
	netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"), netip.MustParsePrefix("192.168.0.0/16"),
	netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("169.254.0.0/16"),
}

// isPrivate reports whether an address is not one of the internet's.
func isPrivate(a netip.Addr) bool {
	return slices.ContainsFunc(private, func(p netip.Prefix) bool { return p.Contains(a) })
}

func publicPrefixInside(f *facts, report func(Finding)) {
	for _, n := range f.Networks {
		if isPrivate(n.Prefix.Addr()) || slices.ContainsFunc(f.uplinks, func(u *site.Interface) bool {
			return slices.ContainsFunc(u.Addresses, func(a netip.Prefix) bool { return a.Masked() == n.Prefix.Masked() })
		}) {
			continue
		}
		report(Finding{
			Title: n.Name + " uses addresses of the internet", Network: n.ID, Parts: []site.Ref{networkRef(n.ID)}, Addresses: []address.Range{address.Of(n.Prefix.Masked())},
			Says: fmt.Sprintf("%s belongs to somebody. Unless that is this site, clients here never reach its owner, and its answers go astray.", n.Prefix),
		})
	}
}

func beyondDevice(f *facts, report func(Finding)) {
	for i := range f.Devices {
		d := &f.Devices[i]
		if err := f.limits(d); err != nil {
			report(Finding{
				Title: d.Name + " cannot do what is asked", Parts: []site.Ref{deviceRef(d.ID)},
				Value: err.Error(),
				Says:  fmt.Sprintf("%s refuses it: %s.", d.Name, err),
			})
		}
	}
}

// networkUntranslated speaks only where some uplink says what it translates.
func networkUntranslated(f *facts, report func(Finding)) {
	translated := map[string]bool{}
	var out *site.Interface
	var on *site.Device
	for _, d := range f.Devices {
		for i := range d.Interfaces {
			u := d.Interfaces[i].Uplink
			if u == nil || len(u.Translates) == 0 {
				continue
			}
			for _, id := range u.Translates {
				translated[id] = true
			}
			if out == nil {
				dev, port, _ := f.Interface(d.Interfaces[i].ID)
				on, out = dev, port
			}
		}
	}
	if out == nil {
		return
	}
	for _, n := range f.Networks {
		if translated[n.ID] || !isPrivate(n.Prefix.Addr()) || n.Prefix.Bits() >= 30 || !n.Gateway.IsValid() {
			continue
		}
		now, facts := *out, *out.Uplink
		facts.Translates = append(slices.Clone(facts.Translates), n.ID)
		now.Uplink = &facts
		report(Finding{
			Title: n.Name + " is translated by no uplink", Network: n.ID, Parts: []site.Ref{networkRef(n.ID), interfaceRef(out.ID)},
			Says: fmt.Sprintf("Packets from %s leave with a private address and nobody answers them. Clients reach the site and not the internet.", n.Prefix),
			Fix:  changeInterface(fmt.Sprintf("Translate it on %s of %s", out.Name, on.Name), on, *out, now),
		})
	}
}

func translationUnknown(f *facts, report func(Finding)) {
	for _, d := range f.Devices {
		for _, i := range d.Interfaces {
			if i.Kind != site.Uplink {
				continue
			}
			if i.Uplink == nil {
				report(Finding{
					Title: fmt.Sprintf("Nothing says what %s translates", i.Name), Parts: []site.Ref{interfaceRef(i.ID)},
					Says: fmt.Sprintf("Whether clients reach the internet through %s of %s cannot be computed until its uplink facts are recorded.", i.Name, d.Name),
				})
				continue
			}
			for _, id := range i.Uplink.Translates {
				if f.networks[id] != nil {
					continue
				}
				now, facts := i, *i.Uplink
				facts.Translates = slices.DeleteFunc(slices.Clone(facts.Translates), func(t string) bool { return t == id })
				now.Uplink = &facts
				report(Finding{
					Title: fmt.Sprintf("%s translates a network that is not there", i.Name), Parts: []site.Ref{interfaceRef(i.ID), networkRef(id)},
					Says: fmt.Sprintf("%q is no network of this site.", id), Fix: changeInterface("Stop translating it", &d, i, now),
				})
			}
		}
	}
}

func uplinkGatewayOutside(f *facts, report func(Finding)) {
	for _, d := range f.Devices {
		for _, i := range d.Interfaces {
			if i.Uplink == nil || i.Uplink.Method != site.ByFixed || !i.Uplink.Gateway.IsValid() || len(i.Addresses) == 0 {
				continue
			}
			if !slices.ContainsFunc(i.Addresses, func(a netip.Prefix) bool { return a.Contains(i.Uplink.Gateway) }) {
				report(Finding{
					Title: fmt.Sprintf("The router of %s is not on its subnet", i.Name), Parts: []site.Ref{interfaceRef(i.ID)}, Addresses: []address.Range{address.Single(i.Uplink.Gateway)},
					Says: fmt.Sprintf("%s is not in %s. %s cannot reach it, and the site has no way to the internet.", i.Uplink.Gateway, join(i.Addresses), d.Name),
				})
			}
		}
	}
}

// home is an interface with an address in a network, and its device.
type home struct {
	device *site.Device
	iface  *site.Interface
	at     netip.Addr
}

// homes lists the interfaces whose subnet is a network's.
func (f *facts) homes(n *site.Network) []home { return f.homesOf[n.Prefix.Masked()] }
