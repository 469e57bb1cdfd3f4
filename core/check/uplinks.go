package check

import (
	"fmt"
	"net/netip"
	"slices"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/site"
)

// networkUntranslated reports networks only where some uplink lists what it translates.
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
			Title: n.Name + " is translated by no uplink", Network: n.ID,
			Parts: []site.Ref{networkRef(n.ID), interfaceRef(out.ID)},
			Says: fmt.Sprintf("Packets from %s leave with a private address and nobody answers them. Clients reach "+
				"the site and not the internet.", n.Prefix),
			Fix: changeInterface(fmt.Sprintf("Translate it on %s of %s", out.Name, on.Name), on, *out, now),
		})
	}
}

func translationUnknown(f *facts, d *site.Device, report func(Finding)) {
	for _, i := range d.Interfaces {
		if i.Kind != site.Uplink {
			continue
		}
		if i.Uplink == nil {
			report(Finding{
				Title: fmt.Sprintf("Nothing says what %s translates", i.Name), Parts: []site.Ref{interfaceRef(i.ID)},
				Says: fmt.Sprintf("Whether clients reach the internet through %s of %s cannot be computed until its "+
					"uplink facts are recorded.", i.Name, d.Name),
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
				Title: fmt.Sprintf("%s translates a network that is not there", i.Name),
				Parts: []site.Ref{interfaceRef(i.ID), networkRef(id)},
				Says:  fmt.Sprintf("%q is no network of this site.", id),
				Fix:   changeInterface("Stop translating it", d, i, now),
			})
		}
	}
}

func uplinkGatewayOutside(_ *facts, d *site.Device, report func(Finding)) {
	for _, i := range d.Interfaces {
		if i.Uplink == nil || i.Uplink.Method != site.ByFixed || !i.Uplink.Gateway.IsValid() || len(i.Addresses) == 0 {
			continue
		}
		if !slices.ContainsFunc(i.Addresses, func(a netip.Prefix) bool { return a.Contains(i.Uplink.Gateway) }) {
			report(Finding{
				Title: fmt.Sprintf("The router of %s is not on its subnet", i.Name),
				Parts: []site.Ref{interfaceRef(i.ID)}, Addresses: []address.Range{address.Single(i.Uplink.Gateway)},
				Says: fmt.Sprintf("%s is not in %s. %s cannot reach it, and the site has no way to the internet.",
					i.Uplink.Gateway, join(i.Addresses), d.Name),
			})
		}
	}
}

func mtuAboveUplink(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		t, ok := compile.Value(f.toldIn(p), option.InterfaceMTU)
		if !ok {
			return
		}
		wire, err := option.Parse(t.Code, t.Value)
		if err != nil {
			return
		}
		mtu := int(wire[0])<<8 | int(wire[1])
		for _, u := range f.uplinks {
			if u.Uplink == nil || !slices.Contains(u.Uplink.Translates, n.ID) || mtu <= u.Uplink.Largest() {
				continue
			}
			report(Finding{
				Title: fmt.Sprintf("Clients of %s send packets too large for %s", p.Name, u.Name), Network: n.ID,
				Parts: []site.Ref{poolRef(p.ID), interfaceRef(u.ID)},
				Value: fmt.Sprint(mtu),
				Says: fmt.Sprintf("They are told an MTU of %d by %s, and %s carries %d. Large transfers stall "+
					"while small ones work.", mtu, t.From.Name, u.Name, u.Uplink.Largest()),
				Fix: f.retell(fmt.Sprintf("Tell them %d", u.Uplink.Largest()), t, fmt.Sprint(u.Uplink.Largest())),
			})
			return
		}
	})
}
