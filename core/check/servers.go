package check

import (
	"fmt"
	"net/netip"
	"slices"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/site"
)

func networkUnserved(f *facts, n *site.Network, report func(Finding)) {
	if n.Prefix.Bits() >= 30 {
		return // a link between two routers has no clients
	}
	if _, _, tunnel := f.TunnelOf(n); tunnel {
		return // the device gives its clients their addresses itself
	}
	// How a pool's server hears its clients is for relay-missing and
	// pool-unreachable.
	says := fmt.Sprintf("No pool hands out addresses on %s. Only devices with a fixed address work there.", n.Name)
	served := false
	var fix *Fix
	parts := []site.Ref{networkRef(n.ID)}
	for _, p := range f.pools[n.ID] {
		if _, ok := f.Device(p.Server); !ok {
			says = fmt.Sprintf("Pool %s names no device to serve it.", p.Name)
			if homes := f.homes(n); fix == nil && len(homes) > 0 {
				at := max(0, slices.IndexFunc(homes, func(h home) bool { return h.at == n.Gateway }))
				now := *p
				now.Server = homes[at].device.ID
				fix = change(fmt.Sprintf("Serve %s from %s", p.Name, homes[at].device.Name), site.KindPool, p.ID,
					site.Ref{}, *p, now)
			}
		} else {
			served = true
		}
		parts = append(parts, poolRef(p.ID))
	}
	if !served {
		report(Finding{Title: n.Name + " is not served", Network: n.ID, Parts: parts, Says: says, Fix: fix})
	}
}

// reach is how a pool's server hears the clients of its network.
type reach int

const (
	onNetwork reach = iota // it has an interface there
	byRelay
	unheard // another device is there, and does not relay
	nobody  // no device is there at all
)

func (f *facts) reachOf(p *site.Pool, n *site.Network) (reach, *site.Device) {
	d, ok := f.Device(p.Server)
	switch {
	case !ok:
		return nobody, nil
	case f.subnets[d.ID][n.Prefix.Masked()]:
		return onNetwork, d
	case len(compile.RelaysTo(f.Site, n, d)) > 0:
		return byRelay, d
	case len(f.homes(n)) > 0:
		return unheard, d
	default:
		return nobody, d
	}
}

// serverAddress is where a relay reaches a server: its lowest address.
func serverAddress(d *site.Device) netip.Addr {
	var lowest netip.Addr
	for _, i := range d.Interfaces {
		for _, a := range i.Addresses {
			if i.Kind != site.Uplink && (!lowest.IsValid() || a.Addr().Less(lowest)) {
				lowest = a.Addr()
			}
		}
	}
	return lowest
}

func relayMissing(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		how, d := f.reachOf(p, n)
		if how != unheard {
			return
		}
		// The gateway's interface relays, else the first of the network.
		homes := f.homes(n)
		at := homes[0]
		for _, h := range homes {
			if h.at == n.Gateway {
				at = h
			}
		}
		found := Finding{
			Title: fmt.Sprintf("Nothing relays %s to %s", n.Name, d.Name), Network: n.ID,
			Parts: []site.Ref{poolRef(p.ID), interfaceRef(at.iface.ID)},
			Says: fmt.Sprintf("%s serves pool %s and has no interface in %s; %s of %s hears the clients and does "+
				"not pass them on. They get no address.", d.Name, p.Name, n.Prefix, at.iface.Name, at.device.Name),
		}
		if to := serverAddress(d); to.IsValid() {
			now := *at.iface
			now.RelayTo = append(slices.Clone(now.RelayTo), to)
			found.Fix = changeInterface(fmt.Sprintf("Relay from %s to %s", at.iface.Name, to), at.device,
				*at.iface, now)
		}
		report(found)
	})
}

func relayTargetWrong(f *facts, n *site.Network, report func(Finding)) {
	for _, h := range f.homes(n) {
		for _, to := range h.iface.RelayTo {
			d, at, held := f.HolderOf(to)
			serves := held && slices.ContainsFunc(f.pools[n.ID], func(p *site.Pool) bool { return p.Server == d.ID })
			if serves && at.Kind != site.Uplink {
				continue
			}
			says := fmt.Sprintf("%s of %s passes requests to %s, which no device of the site holds.", h.iface.Name,
				h.device.Name, to)
			switch {
			case serves:
				says = fmt.Sprintf("%s of %s passes requests to %s, and %s answers no requests at its uplink %s.",
					h.iface.Name, h.device.Name, to, d.Name, at.Name)
			case held:
				says = fmt.Sprintf("%s of %s passes requests to %s, and %s serves no pool of %s.", h.iface.Name,
					h.device.Name, to, d.Name, n.Name)
			}
			report(Finding{
				Title: "The relay of " + n.Name + " points elsewhere", Network: n.ID,
				Parts:     []site.Ref{interfaceRef(h.iface.ID), networkRef(n.ID)},
				Addresses: []address.Range{address.Single(to)}, Says: says + " They are lost there.",
				Fix: f.retarget(n, h, to),
			})
		}
	}
}

// retarget is the fix that points a relay at the server of the network's pool,
// or stops it where the server is on the network itself.
func (f *facts) retarget(n *site.Network, h home, wrong netip.Addr) *Fix {
	now := *h.iface
	now.RelayTo = slices.DeleteFunc(slices.Clone(now.RelayTo), func(a netip.Addr) bool { return a == wrong })
	for _, p := range f.pools[n.ID] {
		d, ok := f.Device(p.Server)
		if !ok || f.subnets[d.ID][n.Prefix.Masked()] {
			continue
		}
		if to := serverAddress(d); to.IsValid() && !slices.Contains(now.RelayTo, to) {
			now.RelayTo = append(now.RelayTo, to)
			return changeInterface(fmt.Sprintf("Relay to %s, %s", to, d.Name), h.device, *h.iface, now)
		}
	}
	return changeInterface("Stop relaying to "+wrong.String(), h.device, *h.iface, now)
}

func relayBesideServer(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		how, d := f.reachOf(p, n)
		if how != onNetwork || !p.Enabled {
			return
		}
		for _, h := range f.homes(n) {
			if len(h.iface.RelayTo) == 0 {
				continue
			}
			now := *h.iface
			now.RelayTo = nil
			report(Finding{
				Title: fmt.Sprintf("%s is served and relayed", n.Name), Network: n.ID,
				Parts: []site.Ref{interfaceRef(h.iface.ID), poolRef(p.ID)},
				Says: fmt.Sprintf("%s answers on %s, and %s of %s passes the same requests to %s. Clients get two "+
					"offers and take either.", d.Name, n.Name, h.iface.Name, h.device.Name, join(h.iface.RelayTo)),
				Fix: changeInterface("Stop relaying from "+h.iface.Name, h.device, *h.iface, now),
			})
		}
	})
}

func twoServers(f *facts, n *site.Network, report func(Finding)) {
	var first *site.Pool
	for _, p := range f.pools[n.ID] {
		if !p.Enabled {
			continue
		}
		if first == nil {
			first = p
			continue
		}
		if p.Server == first.Server {
			continue
		}
		a, okA := f.Device(first.Server)
		b, okB := f.Device(p.Server)
		if !okA || !okB {
			continue
		}
		now, other := *p, *first
		now.Server, other.Server = first.Server, p.Server
		report(Finding{
			Title: fmt.Sprintf("%s and %s both serve %s", a.Name, b.Name, n.Name), Network: n.ID,
			Parts: []site.Ref{poolRef(first.ID), poolRef(p.ID)},
			Says: fmt.Sprintf("A client takes the address of whichever answers first, and reservations hold on one "+
				"of them only. %s and %s know nothing of each other's leases.", a.Name, b.Name),
			Fix:   change("Let "+a.Name+" serve "+p.Name+" too", site.KindPool, p.ID, site.Ref{}, *p, now),
			Other: change("Move pool "+first.Name+" to "+b.Name, site.KindPool, first.ID, site.Ref{}, *first, other),
		})
	}
}

func poolUnreachable(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		how, d := f.reachOf(p, n)
		if how != nobody || d == nil {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("Nobody hears the clients of pool %s", p.Name), Network: n.ID,
			Parts: []site.Ref{poolRef(p.ID), networkRef(n.ID)}, Fix: f.addInterface(n),
			Says: fmt.Sprintf("%s serves it, and neither it nor a relay has an interface in %s. No request reaches "+
				"a server.", d.Name, n.Prefix),
		})
	})
}

func dhcpNotPermitted(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		how, d := f.reachOf(p, n)
		for _, h := range f.homes(n) {
			hears := how == onNetwork && h.device == d || how == byRelay && len(h.iface.RelayTo) > 0
			if !hears || h.iface.Permitted(site.PermitDHCP) {
				continue
			}
			now := *h.iface
			now.Permits = append([]string{site.PermitDHCP}, now.Permits...)
			report(Finding{
				Title: fmt.Sprintf("%s blocks DHCP", h.iface.Name), Network: n.ID,
				Parts: []site.Ref{interfaceRef(h.iface.ID), poolRef(p.ID)},
				Says: fmt.Sprintf("%s of %s drops the requests of %s. Its clients get no address from pool %s.",
					h.iface.Name, h.device.Name, n.Name, p.Name),
				Fix: changeInterface("Permit DHCP on "+h.iface.Name, h.device, *h.iface, now),
			})
		}
	})
}
