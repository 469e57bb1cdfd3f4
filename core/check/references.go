package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/topology"
)

// Rules about what a document refers to, what it defines, and what is half said.

// referenceMissing is about ids and names that lead nowhere. A pool's class and an uplink's
// translations have rules of their own.
func referenceMissing(f *facts, report func(Finding)) {
	inNetworks := func(from site.Ref, what, id string) {
		if f.networks[id] == nil {
			report(missing(from, what, "network", id))
		}
	}
	for i := range f.Pools {
		p := &f.Pools[i]
		inNetworks(poolRef(p.ID), "Pool "+p.Name, p.Network)
		if _, ok := f.Device(p.Server); !ok {
			report(missing(poolRef(p.ID), "Pool "+p.Name, "device", p.Server))
		}
	}
	for _, r := range f.strays { // one whose network is missing lies in no network of its own
		inNetworks(reservationRef(r.ID), "Reservation "+r.NameOrAddress(), r.Network)
	}
	for i := range f.FixedDevices {
		d := &f.FixedDevices[i]
		inNetworks(site.Ref{Kind: site.KindFixedDevice, ID: d.ID}, d.Name, d.Network)
	}
}

// portReferenceMissing is about what the interfaces of a device refer to.
func portReferenceMissing(f *facts, d *site.Device, report func(Finding)) {
	known := map[string]bool{} // many interfaces have one carrier
	has := func(name string) bool {
		if !known[name] {
			known[name] = slices.ContainsFunc(d.Interfaces, func(o site.Interface) bool { return o.Name == name })
		}
		return known[name]
	}
	for k := range d.Interfaces {
		i := &d.Interfaces[k]
		refer := func(kind, name string) {
			report(missing(interfaceRef(i.ID), fmt.Sprintf("%s of %s", i.Name, d.Name), kind, name))
		}
		if i.Parent != "" && !has(i.Parent) {
			refer("carrier", i.Parent)
		}
		for _, port := range i.Members {
			if !has(port) {
				refer("port", port)
			}
		}
		if i.Peer == "" {
			continue
		}
		if _, _, ok := f.Interface(i.Peer); !ok {
			refer("cable end", i.Peer)
		}
	}
}

func missing(from site.Ref, what, kind, id string) Finding {
	return Finding{
		Title: fmt.Sprintf("%s refers to a %s that does not exist", what, kind), Parts: []site.Ref{from},
		Value: kind + " " + id,
		Says: fmt.Sprintf("%s names the %s %q, and the site has none. What it says there takes no effect; write one "+
			"that exists, or remove it.", what, kind, id),
	}
}

func vlanDiffers(f *facts, n *site.Network, report func(Finding)) {
	for _, h := range f.homes(n) {
		carried := h.iface.VLAN
		switch h.iface.Kind {
		case site.Uplink, site.Loopback, site.Tunnel:
			continue
		case site.VLAN:
		default:
			carried = topology.Untagged(h.device, h.iface)
			if carried == 0 && (n.VLAN == 0 || h.iface.Kind != site.PortGroup || trunked(h, n.VLAN)) {
				continue // a plain port is on whatever VLAN the switch behind it says
			}
		}
		if carried == n.VLAN {
			continue
		}
		now := *n
		now.VLAN = carried
		says := fmt.Sprintf("%s of %s takes frames of VLAN %d.", h.iface.Name, h.device.Name, carried)
		title := fmt.Sprintf("Make it VLAN %d", carried)
		if carried == 0 {
			says, title = fmt.Sprintf(
				"%s of %s takes frames without a tag.",
				h.iface.Name,
				h.device.Name,
			), "Make it untagged"
		}
		report(Finding{
			Title: fmt.Sprintf("%s is VLAN %d and its interface is not", n.Name, n.VLAN), Network: n.ID,
			Parts: []site.Ref{networkRef(n.ID), interfaceRef(h.iface.ID)}, Value: fmt.Sprint(n.VLAN, carried),
			Says: says + " Clients on the VLAN of the network never reach it and get no address.",
			Fix:  change(title, site.KindNetwork, n.ID, site.Ref{}, *n, now),
		})
	}
}

// trunked reports whether ports of a port group carry a VLAN with its tag: a switch behind them
// takes the tag off.
func trunked(h home, vlan int) bool {
	return slices.Contains(topology.Tagged(h.device, h.iface), vlan)
}

func uplinkIncomplete(_ *facts, d *site.Device, report func(Finding)) {
	for k := range d.Interfaces {
		i := &d.Interfaces[k]
		if i.Uplink == nil {
			continue
		}
		says := ""
		switch {
		case i.Uplink.Method == site.ByFixed && len(i.Addresses) == 0:
			says = "It has a fixed address, and none is written. Give it the address the provider allots."
		case i.Uplink.Method == site.ByFixed && !i.Uplink.Gateway.IsValid():
			says = "It has a fixed address and no router: nothing tells the device where the internet is. Write the " +
				"provider's gateway."
		case i.Uplink.Method == site.ByPPPoE && i.Uplink.Account == "":
			says = "PPPoE signs in with an account, and none is written. The line stays down."
		default:
			continue
		}
		report(Finding{Title: fmt.Sprintf("Uplink %s of %s is half described", i.Name, d.Name),
			Parts: []site.Ref{interfaceRef(i.ID)}, Value: i.Uplink.Method, Says: says})
	}
}

func fixedOutsideNetwork(f *facts, n *site.Network, held []owner, report func(Finding)) {
	for _, o := range held {
		if o.part.Kind != site.KindFixedDevice {
			continue
		}
		d, ok := f.FixedDevice(o.part.ID)
		if !ok {
			continue
		}
		home := f.networks[d.Network]
		if home == nil || home.Prefix.Contains(d.Address) {
			continue
		}
		found := Finding{
			Title: fmt.Sprintf("%s holds an address outside %s", d.Name, home.Name), Network: home.ID,
			Parts: []site.Ref{o.part, networkRef(home.ID)}, Addresses: []address.Range{address.Single(d.Address)},
			Says: fmt.Sprintf(
				"%s is not in %s. It keeps the address until somebody changes it on the device itself; until "+
					"then nobody there reaches it.",
				d.Address,
				home.Prefix,
			),
		}
		if at, ok := site.SameHost(f.Site, home, d.Address); ok {
			now := *d
			now.Address = at
			found.Fix = change(
				"Record it at "+address.Short(at, home.Prefix),
				site.KindFixedDevice,
				d.ID,
				site.Ref{},
				*d,
				now,
			)
		}
		report(found)
	}
}

func optionDefinedTwice(f *facts, report func(Finding)) {
	twice(f.OptionDefinitions, func(d *site.OptionDefinition) string { return fmt.Sprint(d.Code) },
		func(first, again *site.OptionDefinition) {
			ref := site.Ref{Kind: site.KindDefinition, ID: again.ID}
			fix := &Fix{Title: "Remove the definition of " + again.Name}
			fix.Edits, _ = edit.Removing(f.Site, ref, site.Ref{})
			report(Finding{
				Title: fmt.Sprintf("Option %d is defined twice", again.Code), Value: fmt.Sprint(again.Code),
				Parts: []site.Ref{{Kind: site.KindDefinition, ID: first.ID}, ref}, Fix: fix,
				Says: fmt.Sprintf("It is %s of type %s, and %s of type %s. What is sent is of the first.", first.Name,
					first.Type, again.Name, again.Type),
			})
		})
}

func optionDefinedRegistered(f *facts, report func(Finding)) {
	for i := range f.OptionDefinitions {
		d := &f.OptionDefinitions[i]
		if d.Code >= option.FirstPrivate && d.Code <= option.LastPrivate {
			continue
		}
		ref := site.Ref{Kind: site.KindDefinition, ID: d.ID}
		fix := &Fix{Title: "Remove the definition of " + d.Name}
		fix.Edits, _ = edit.Removing(f.Site, ref, site.Ref{})
		says := "Codes a site may define for itself are 224 to 254 (RFC 3942); this one takes no effect."
		if def, ok := option.Lookup(d.Code); ok {
			says = fmt.Sprintf("Option %d is registered as %s. %s", d.Code, def.InSentence(), says)
		}
		report(Finding{
			Title: fmt.Sprintf("Option %d is not the site's to define", d.Code), Parts: []site.Ref{ref},
			Value: fmt.Sprint(d.Code), Says: says, Fix: fix,
		})
	}
}

func nameInvalid(f *facts, n *site.Network, report func(Finding)) {
	for _, r := range f.misnamed {
		if r.Network != n.ID {
			continue
		}
		now := *r
		report(misnamed(n, "The reservation of "+r.Address.String(), r.Name, reservationRef(r.ID), r.Address,
			func(lawful string) *Fix {
				now.Name = lawful
				return change("Call it "+lawful, site.KindReservation, r.ID, site.Ref{}, *r, now)
			}))
	}
	for _, d := range site.Within(f.FixedDevices, address.Of(n.Prefix),
		func(d *site.FixedDevice) netip.Addr { return d.Address }) {
		if d.Name == "" || option.CheckLabel(d.Name) == nil {
			continue
		}
		now := d
		report(misnamed(n, "The fixed device at "+d.Address.String(), d.Name,
			site.Ref{Kind: site.KindFixedDevice, ID: d.ID}, d.Address, func(lawful string) *Fix {
				now.Name = lawful
				return change("Call it "+lawful, site.KindFixedDevice, d.ID, site.Ref{}, d, now)
			}))
	}
}

func misnamed(
	n *site.Network, what, name string, ref site.Ref, at netip.Addr, fix func(lawful string) *Fix,
) Finding {
	found := Finding{
		Title: fmt.Sprintf("%q is not a name a host can have", name), Network: n.ID, Parts: []site.Ref{ref},
		Addresses: []address.Range{address.Single(at)}, Value: name,
		Says: fmt.Sprintf("%s: no resolver finds such a name, and some clients refuse it. Use letters, digits and "+
			"inner hyphens (RFC 1123 section 2.1).", what),
	}
	if lawful, ok := option.LawfulLabel(name); ok {
		found.Fix = fix(lawful)
	}
	return found
}

func deviceNameInvalid(_ *facts, d *site.Device, report func(Finding)) {
	if option.CheckLabel(d.Name) == nil {
		return
	}
	found := Finding{
		Title: fmt.Sprintf(
			"%q is not a name a host can have",
			d.Name,
		), Parts: []site.Ref{deviceRef(d.ID)}, Value: d.Name,
		Says: "The device cannot be found by it: no resolver answers for such a name. Use letters, digits and inner " +
			"hyphens (RFC 1123 section 2.1).",
	}
	if lawful, ok := option.LawfulLabel(d.Name); ok {
		now := *d
		now.Name = lawful
		found.Fix = change("Call it "+lawful, site.KindDevice, d.ID, site.Ref{}, *d, now)
	}
	report(found)
}

func macReservedAndFixed(f *facts, n *site.Network, held []owner, report func(Finding)) {
	if n == nil {
		return
	}
	fixed := map[address.MAC]owner{}
	for _, o := range held {
		if o.part.Kind == site.KindFixedDevice && !o.mac.IsZero() {
			fixed[o.mac] = o
		}
	}
	if len(fixed) == 0 {
		return
	}
	for _, r := range held {
		o, both := fixed[r.mac]
		if r.part.Kind != site.KindReservation || !both || o.at == r.at {
			continue // one address for both is address-two-owners
		}
		fix := &Fix{Title: "Remove the reservation of " + r.at.String()}
		fix.Edits, _ = edit.Removing(f.Site, r.part, site.Ref{})
		report(Finding{
			Title: fmt.Sprintf("%s is reserved and fixed", r.mac), Network: n.ID, Parts: []site.Ref{o.part, r.part},
			Addresses: []address.Range{address.Single(o.at), address.Single(r.at)},
			Says: fmt.Sprintf(
				"One machine is recorded as holding %s itself and as given %s by DHCP. It has the one or the "+
					"other.",
				o.at,
				r.at,
			),
			Fix: fix,
		})
	}
}

func reservationClientTwice(f *facts, n *site.Network, report func(Finding)) {
	var all []*site.Reservation
	for r := range f.reservedOn(n) {
		if r.Client != "" {
			all = append(all, r)
		}
	}
	twice(all, func(r **site.Reservation) string { return (*r).Client }, func(first, again **site.Reservation) {
		other, r := *first, *again
		fix := &Fix{Title: "Remove the reservation of " + r.Address.String()}
		fix.Edits, _ = edit.Removing(f.Site, reservationRef(r.ID), site.Ref{})
		report(Finding{
			Title: r.Client + " is reserved twice", Network: n.ID, Value: r.Client,
			Parts:     []site.Ref{reservationRef(other.ID), reservationRef(r.ID)},
			Addresses: []address.Range{address.Single(other.Address), address.Single(r.Address)}, Fix: fix,
			Says: fmt.Sprintf("The client with this identifier is given %s or %s, whichever the server finds first.",
				other.Address, r.Address),
		})
	})
}

func windowsWrong(f *facts, report func(Finding)) {
	ref := site.Ref{Kind: site.KindStandard, ID: f.Standard.ID}
	sameEnd := func(a, b int) bool { return (a < 0) == (b < 0) } // both counted from the start, or from the end
	for i, w := range f.Standard.Windows {
		if w.From > w.To && sameEnd(w.From, w.To) || w.From < 0 && w.To >= 0 {
			report(Finding{
				Title: fmt.Sprintf("The %s window runs backwards", w.Use), Parts: []site.Ref{ref},
				Value: fmt.Sprint(w.From, w.To),
				Says: fmt.Sprintf(
					"It begins at offset %d and ends at %d, so it holds no address. Swap the two, or count "+
						"from the other end.",
					w.From,
					w.To,
				),
			})
			continue
		}
		for _, o := range f.Standard.Windows[:i] {
			comparable := sameEnd(o.From, w.From) && sameEnd(o.To, w.To) && sameEnd(o.From, o.To)
			if comparable && o.From <= w.To && w.From <= o.To {
				report(Finding{
					Title: fmt.Sprintf("The %s and %s windows overlap", o.Use, w.Use), Parts: []site.Ref{ref},
					Value: fmt.Sprint(o.From, o.To, w.From, w.To),
					Says: fmt.Sprintf(
						"Offsets %d to %d and %d to %d share addresses; what stands there belongs to both.",
						o.From,
						o.To,
						w.From,
						w.To,
					),
				})
			}
		}
	}
}

func permitsMissing(_ *facts, d *site.Device, report func(Finding)) {
	carries := func(i *site.Interface) bool {
		return len(i.Addresses) > 0 && i.Kind != site.Uplink && i.Kind != site.Loopback
	}
	listed, usual := 0, []string(nil)
	times := map[string]int{}
	var open []*site.Interface
	for k := range d.Interfaces {
		switch i := &d.Interfaces[k]; {
		case !carries(i):
		case len(i.Permits) > 0:
			listed++
			list := strings.Join(i.Permits, ", ")
			if times[list]++; times[list] > times[strings.Join(usual, ", ")] || usual == nil {
				usual = i.Permits
			}
		default:
			open = append(open, i)
		}
	}
	if listed < 2 { // one list is most likely the exception
		return
	}
	for _, i := range open {
		now := *i
		now.Permits = slices.Clone(usual)
		report(Finding{
			Title: fmt.Sprintf("%s of %s accepts everything", i.Name, d.Name), Parts: []site.Ref{interfaceRef(i.ID)},
			Says: fmt.Sprintf(
				"%d other interfaces of %s list what they accept and this one lists nothing, so clients there "+
					"reach its administration too.",
				listed,
				d.Name,
			),
			Fix: changeInterface(
				fmt.Sprintf("Let it accept %s, as most of them do", strings.Join(usual, ", ")),
				d,
				*i,
				now,
			),
		})
	}
}

// rangeBackwards is about ranges and exclusions whose last address comes before the first, and
// pools that have none.
func rangeBackwards(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		now := *p
		now.Ranges, now.Exclusions = slices.Clone(p.Ranges), slices.Clone(p.Exclusions)
		var bad []string
		swap := func(r *address.Range) {
			if r.To.Less(r.From) {
				bad = append(bad, fmt.Sprintf("%s to %s", r.From, r.To))
				r.From, r.To = r.To, r.From
			}
		}
		for i := range now.Ranges {
			swap(&now.Ranges[i])
		}
		for i := range now.Exclusions {
			swap(&now.Exclusions[i].Range)
		}
		if len(bad) > 0 {
			report(Finding{
				Title: fmt.Sprintf(
					"A range of %s runs backwards",
					p.Name,
				), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
				Value: fmt.Sprint(bad),
				Says:  fmt.Sprintf("%s ends before it begins, so it holds no address.", bad[0]),
				Fix:   change("Swap first and last", site.KindPool, p.ID, site.Ref{}, *p, now),
			})
		}
		if len(p.Ranges) == 0 {
			report(Finding{
				Title: fmt.Sprintf("Pool %s has no range", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
				Value: "empty",
				Says: fmt.Sprintf(
					"It hands out nothing, and clients of %s get no address from it. Give it a range.",
					n.Name,
				),
			})
		}
	})
}
