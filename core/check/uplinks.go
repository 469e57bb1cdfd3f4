package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

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

// uplinkAddressUnusable is about addresses of a line that nobody can have, and a router that is the uplink itself.
func uplinkAddressUnusable(_ *facts, d *site.Device, report func(Finding)) {
	for _, i := range d.Interfaces {
		if i.Kind != site.Uplink || i.Uplink == nil || i.Uplink.Method != site.ByFixed {
			continue
		}
		bad := func(a netip.Addr, what, says string) {
			report(Finding{
				Title:     fmt.Sprintf("%s of %s is no address of a machine", what, i.Name),
				Parts:     []site.Ref{interfaceRef(i.ID)},
				Addresses: []address.Range{address.Single(a)}, Value: what,
				Says: fmt.Sprintf("%s %s. The site has no way to the internet by %s.", a, says, i.Name),
			})
		}
		for _, p := range i.Addresses {
			usable := address.Usable(p.Masked())
			if !usable.Contains(p.Addr()) {
				bad(p.Addr(), "The address", "is the network or broadcast address of "+p.Masked().String())
			}
			switch gw := i.Uplink.Gateway; {
			case gw == p.Addr():
				bad(gw, "The router", "is the uplink itself")
			case p.Contains(gw) && !usable.Contains(gw):
				bad(gw, "The router", "is the network or broadcast address of "+p.Masked().String())
			}
		}
	}
}

// Largest packets of lines, in octets.
const (
	mtuEthernet = 1500
	mtuPPPoE    = 1492 // RFC 2516 section 7; 1500 where both ends do RFC 4638
)

// mtuAboveLine is about packets that the line itself does not carry.
func mtuAboveLine(_ *facts, d *site.Device, report func(Finding)) {
	for _, i := range d.Interfaces {
		if i.Kind != site.Uplink || i.Uplink == nil {
			continue
		}
		most, says := mtuEthernet, "Ethernet carries 1500 octets, and lines of providers no more"
		if i.Uplink.Method == site.ByPPPoE {
			most = mtuPPPoE
			says = "PPPoE takes 8 octets of each frame (RFC 2516 section 7); more goes only where the line and what " +
				"is before it do RFC 4638"
		}
		if i.Uplink.MTU <= most {
			continue
		}
		now, facts := i, *i.Uplink
		facts.MTU = most
		now.Uplink = &facts
		report(Finding{
			Title: fmt.Sprintf("The MTU of %s is above its line's", i.Name), Parts: []site.Ref{interfaceRef(i.ID)},
			Value: fmt.Sprint(i.Uplink.MTU),
			Says: fmt.Sprintf("It is %d. %s. Larger packets are lost: large transfers stall while small ones work.",
				i.Uplink.MTU, says),
			Fix: changeInterface(fmt.Sprintf("Make it %d", most), d, i, now),
		})
	}
}

// translatedTwice is about networks that several uplinks translate.
func translatedTwice(f *facts, report func(Finding)) {
	by := map[string]*site.Interface{}
	for _, u := range f.uplinks {
		if u.Uplink == nil {
			continue
		}
		for _, id := range u.Uplink.Translates {
			first := by[id]
			if n := f.networks[id]; first != nil && n != nil {
				report(Finding{
					Title: fmt.Sprintf("%s leaves by %s and by %s", n.Name, first.Name, u.Name), Network: n.ID,
					Parts: []site.Ref{networkRef(n.ID), interfaceRef(first.ID), interfaceRef(u.ID)},
					Says: "Both translate it. Which one a connection takes is not recorded here; from outside its " +
						"clients have two addresses.",
				})
			}
			if first == nil {
				by[id] = u
			}
		}
	}
}

// translatesNobody is about uplinks that say which networks they translate, none, at a site whose private networks have
// no other way out.
func translatesNobody(f *facts, report func(Finding)) {
	var private []string
	for _, n := range f.Networks {
		if isPrivate(n.Prefix.Addr()) && n.Prefix.Bits() < 30 && n.Gateway.IsValid() {
			private = append(private, n.ID)
		}
	}
	some := slices.ContainsFunc(f.uplinks, func(u *site.Interface) bool {
		return u.Uplink == nil || len(u.Uplink.Translates) > 0
	})
	if len(f.uplinks) == 0 || len(private) == 0 || some {
		return
	}
	d, u, _ := f.Interface(f.uplinks[0].ID)
	now, facts := *u, *u.Uplink
	facts.Translates = private
	now.Uplink = &facts
	report(Finding{
		Title: fmt.Sprintf("%s translates nobody", u.Name), Parts: []site.Ref{interfaceRef(u.ID)},
		Says: "The networks of the site have private addresses, and no uplink translates any. Their packets leave " +
			"and nobody answers them: clients reach the site and not the internet.",
		Fix: changeInterface(fmt.Sprintf("Translate all on %s of %s", u.Name, d.Name), d, *u, now),
	})
}

// visitors are words by which a network is for people who are not of the site.
var visitors = []string{"guest", "visitor", "waiting", "public", "hotspot"}

// forVisitors reports whether a network is for visitors, by its name or purpose.
func forVisitors(n *site.Network) bool {
	text := strings.ToLower(n.Name + " " + n.Purpose)
	return slices.ContainsFunc(visitors, func(w string) bool { return strings.Contains(text, w) })
}

// adminFromOutside is about devices that strangers may administer: from the internet, or from a network of visitors.
func adminFromOutside(f *facts, d *site.Device, report func(Finding)) {
	for _, i := range d.Interfaces {
		from, network := "", ""
		switch {
		case i.Kind == site.Uplink && slices.Contains(i.Permits, site.PermitAdministration):
			from = "the internet"
		case i.Kind != site.Uplink && len(i.Permits) > 0 && i.Permitted(site.PermitAdministration):
			for _, a := range i.Addresses {
				if n, ok := f.NetworkOf(a.Addr()); ok && forVisitors(n) {
					from, network = n.Name, n.ID
				}
			}
		}
		if from == "" {
			continue
		}
		now := i
		now.Permits = slices.DeleteFunc(slices.Clone(i.Permits), func(p string) bool {
			return p == site.PermitAdministration
		})
		found := Finding{
			Title: fmt.Sprintf("%s can be administered from %s", d.Name, from), Network: network,
			Parts: []site.Ref{interfaceRef(i.ID), deviceRef(d.ID)},
			Says:  fmt.Sprintf("%s lets administration in. Strangers may try passwords there, day and night.", i.Name),
		}
		if len(now.Permits) > 0 {
			found.Fix = changeInterface("Do not permit it there", d, i, now)
		}
		report(found)
	}
}

// ntpNotPermitted is about clients that are told a device as a time server, whose interface does not let their
// questions in.
func ntpNotPermitted(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		t, ok := compile.Value(f.toldIn(p), option.NTPServers)
		if !ok {
			return
		}
		for _, a := range effectiveAddresses(t) {
			d, in, held := f.HolderOf(a)
			if !held {
				continue
			}
			for _, h := range f.homes(n) {
				if h.device.ID == d.ID {
					in = h.iface // questions come in where the clients are
				}
			}
			if in.Permitted(site.PermitNTP) {
				continue
			}
			now := *in
			now.Permits = append(slices.Clone(in.Permits), site.PermitNTP)
			report(Finding{
				Title: fmt.Sprintf("%s of %s does not permit NTP", in.Name, d.Name), Network: n.ID,
				Parts:     []site.Ref{interfaceRef(in.ID), poolRef(p.ID)},
				Addresses: []address.Range{address.Single(a)},
				Says: fmt.Sprintf("Clients of %s are told %s as a time server (option 42), and their questions are "+
					"dropped on the way in. Their clocks drift.", p.Name, a),
				Fix: changeInterface("Permit NTP there", d, *in, now),
			})
			return
		}
	})
}
