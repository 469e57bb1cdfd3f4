package check

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/seen"
	"lithos/core/site"
)

var servingRules = []Rule{
	{"pool-holds-interface", "DHCP", Blocks, "No pool counts on an address of a device's interface.", poolHoldsInterface},
	{"reservation-excluded", "DHCP", Notes, "A reservation is not inside an exclusion.", reservationExcluded},
	{"reservation-in-pool", "DHCP", Blocks, "A device that keeps reservations and ranges apart is given them apart.", reservationInPool},
	{"mac-randomised", "DHCP", Warns, "A pinned MAC is one its machine keeps.", macRandomised},
	{"relay-missing", "DHCP", Blocks, "A server elsewhere is reached through a relay.", relayMissing},
	{"relay-target-wrong", "DHCP", Blocks, "A relay passes requests to a server that serves the network.", relayTargetWrong},
	{"relay-beside-server", "DHCP", Warns, "A network has a server on it, or a relay, not both.", relayBesideServer},
	{"two-servers", "DHCP", Warns, "One server answers on a network.", twoServers},
	{"pool-unreachable", "DHCP", Blocks, "Requests of a pool's clients are heard by something.", poolUnreachable},
	{"dhcp-not-permitted", "DHCP", Blocks, "An interface lets its network's DHCP requests in.", dhcpNotPermitted},
	{"lease-too-long", "DHCP", Warns, "Addresses of clients that left come back in days.", leaseTooLong},
	{"lease-too-short", "DHCP", Warns, "Clients do not renew all the time.", leaseTooShort},
	{"class-missing", "DHCP", Blocks, "A pool's vendor class is one of the site's.", classMissing},
}

func poolHoldsInterface(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		for _, run := range p.Ranges {
			for _, o := range f.ownersIn(run) {
				at := address.Single(o.at)
				if o.part.Kind != site.KindInterface || o.at == n.Gateway || !p.Offers(at.From) {
					continue // pool-holds-gateway says so
				}
				short := address.Short(o.at, n.Prefix)
				report(Finding{
					Title: fmt.Sprintf("Pool %s holds an interface's address", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID), o.part}, Addresses: []address.Range{at},
					Says: fmt.Sprintf("%s holds %s, and pool %s may hand it to a client. Both lose their connection.", o.what(), o.at, p.Name),
					Fix:  excluding("Exclude "+short+" from the pool", p, at, o.what()),
				})
			}
		}
	})
}

func reservationExcluded(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		if f.keepsApart(p) {
			return // there an exclusion is how a reservation is kept out of the ranges
		}
		for _, x := range p.Exclusions {
			for _, o := range f.ownersIn(x.Range) {
				if o.part.Kind != site.KindReservation || o.at != x.Range.From && x.Range.Size() == 1 {
					continue
				}
				report(Finding{
					Title: o.what() + " is inside an exclusion", Network: n.ID, Parts: []site.Ref{o.part, {Kind: site.KindExclusion, ID: x.ID}, poolRef(p.ID)},
					Addresses: []address.Range{address.Single(o.at)},
					Says:      fmt.Sprintf("%s is both excluded (%s) and reserved; the reservation wins. %s is still given it, so the reason may no longer hold.", o.at, x.Reason, o.what()),
				})
			}
		}
	})
}

// keepsApart reports whether the pool's server refuses reservations inside ranges.
func (f *facts) keepsApart(p *site.Pool) bool {
	d, ok := f.Device(p.Server)
	return ok && d.Kind == site.L3Switch
}

func reservationInPool(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		if !f.keepsApart(p) {
			return
		}
		d, _ := f.Device(p.Server)
		for _, run := range p.Ranges {
			for _, o := range f.ownersIn(run) {
				at := address.Single(o.at)
				if o.part.Kind != site.KindReservation || !p.Offers(at.From) {
					continue
				}
				report(Finding{
					Title: fmt.Sprintf("%s is inside pool %s", o.what(), p.Name), Network: n.ID, Parts: []site.Ref{o.part, poolRef(p.ID)}, Addresses: []address.Range{at},
					Says: fmt.Sprintf("%s reserves only outside the ranges of its pools, and refuses %s.", d.Name, o.at),
					Fix:  excluding("Exclude "+address.Short(o.at, n.Prefix)+" from the pool", p, at, o.what()),
				})
			}
		}
	})
}

func macRandomised(f *facts, report func(Finding)) {
	for _, r := range f.Reservations {
		n := f.networks[r.Network]
		if n == nil || r.MAC.IsZero() || !seen.Randomised(r.MAC) {
			continue
		}
		report(Finding{
			Title: fmt.Sprintf("The MAC of %s was made up by its machine", orAddress(r)), Network: n.ID, Parts: []site.Ref{{Kind: site.KindReservation, ID: r.ID}},
			Addresses: []address.Range{address.Single(r.Address)},
			Says:      fmt.Sprintf("%s is locally administered. The machine takes another when it likes, and the reservation no longer holds. Switch private addresses off on the machine for this network.", r.MAC),
		})
	}
}

func orAddress(r site.Reservation) string {
	if r.Name != "" {
		return r.Name
	}
	return r.Address.String()
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

func relayMissing(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
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
			Title: fmt.Sprintf("Nothing relays %s to %s", n.Name, d.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID), interfaceRef(at.iface.ID)},
			Says: fmt.Sprintf("%s serves pool %s and has no interface in %s; %s of %s hears the clients and does not pass them on. They get no address.", d.Name, p.Name, n.Prefix, at.iface.Name, at.device.Name),
		}
		if to := serverAddress(d); to.IsValid() {
			now := *at.iface
			now.RelayTo = append(slices.Clone(now.RelayTo), to)
			found.Fix = changeInterface(fmt.Sprintf("Relay from %s to %s", at.iface.Name, to), at.device, *at.iface, now)
		}
		report(found)
	})
}

func relayTargetWrong(f *facts, report func(Finding)) {
	for i := range f.Networks {
		n := &f.Networks[i]
		for _, h := range f.homes(n) {
			for _, to := range h.iface.RelayTo {
				d, _, held := f.HolderOf(to)
				if held && slices.ContainsFunc(f.pools[n.ID], func(p *site.Pool) bool { return p.Server == d.ID }) {
					continue
				}
				says := fmt.Sprintf("%s of %s passes requests to %s, which no device of the site holds.", h.iface.Name, h.device.Name, to)
				if held {
					says = fmt.Sprintf("%s of %s passes requests to %s, and %s serves no pool of %s.", h.iface.Name, h.device.Name, to, d.Name, n.Name)
				}
				report(Finding{
					Title: "The relay of " + n.Name + " points elsewhere", Network: n.ID, Parts: []site.Ref{interfaceRef(h.iface.ID), networkRef(n.ID)},
					Addresses: []address.Range{address.Single(to)}, Says: says + " They are lost there.", Fix: f.retarget(n, h, to),
				})
			}
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

func relayBesideServer(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
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
				Title: fmt.Sprintf("%s is served and relayed", n.Name), Network: n.ID, Parts: []site.Ref{interfaceRef(h.iface.ID), poolRef(p.ID)},
				Says: fmt.Sprintf("%s answers on %s, and %s of %s passes the same requests to %s. Clients get two offers and take either.", d.Name, n.Name, h.iface.Name, h.device.Name, join(h.iface.RelayTo)),
				Fix:  changeInterface("Stop relaying from "+h.iface.Name, h.device, *h.iface, now),
			})
		}
	})
}

func twoServers(f *facts, report func(Finding)) {
	for i := range f.Networks {
		n := &f.Networks[i]
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
			now := *p
			now.Server = first.Server
			report(Finding{
				Title: fmt.Sprintf("%s and %s both serve %s", a.Name, b.Name, n.Name), Network: n.ID, Parts: []site.Ref{poolRef(first.ID), poolRef(p.ID)},
				Says: fmt.Sprintf("A client takes the address of whichever answers first, and reservations hold on one of them only. %s and %s know nothing of each other's leases.", a.Name, b.Name),
				Fix:  change("Let "+a.Name+" serve "+p.Name+" too", site.KindPool, p.ID, site.Ref{}, *p, now),
			})
		}
	}
}

func poolUnreachable(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		how, d := f.reachOf(p, n)
		if how != nobody || d == nil {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("Nobody hears the clients of pool %s", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID), networkRef(n.ID)}, Fix: f.addInterface(n),
			Says: fmt.Sprintf("%s serves it, and neither it nor a relay has an interface in %s. No request reaches a server.", d.Name, n.Prefix),
		})
	})
}

func dhcpNotPermitted(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		how, d := f.reachOf(p, n)
		for _, h := range f.homes(n) {
			hears := how == onNetwork && h.device == d || how == byRelay && len(h.iface.RelayTo) > 0
			if !hears || h.iface.Permitted(site.PermitDHCP) {
				continue
			}
			now := *h.iface
			now.Permits = append([]string{site.PermitDHCP}, now.Permits...)
			report(Finding{
				Title: fmt.Sprintf("%s lets no DHCP in", h.iface.Name), Network: n.ID, Parts: []site.Ref{interfaceRef(h.iface.ID), poolRef(p.ID)},
				Says: fmt.Sprintf("%s of %s drops the requests of %s. Its clients get no address from pool %s.", h.iface.Name, h.device.Name, n.Name, p.Name),
				Fix:  changeInterface("Permit DHCP on "+h.iface.Name, h.device, *h.iface, now),
			})
		}
	})
}

// The lease times between which nobody has to ask why.
const (
	longestLease  = 8 * 24 * time.Hour
	shortestLease = 5 * time.Minute
)

func leaseTooLong(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		lease := f.timers(p, n).Lease
		if lease <= longestLease {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("The lease time of %s is %s", p.Name, option.FormatDuration(lease)), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
			Says: "Addresses of machines that left stay taken for that long, and a changed name server or gateway takes up to half of it to reach everybody.",
			Fix:  setOption("Make it 1 day", p, option.LeaseTime, "1 day"),
		})
	})
}

func leaseTooShort(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		lease := f.timers(p, n).Lease
		if lease >= shortestLease {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("The lease time of %s is %s", p.Name, option.FormatDuration(lease)), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
			Says: "Every client renews several times a minute or two, and one that misses the server for a moment loses its address.",
			Fix:  setOption("Make it 15 minutes", p, option.LeaseTime, "15 minutes"),
		})
	})
}

// setOption is the fix that sets an option on a pool, in place of what it sets.
func setOption(title string, p *site.Pool, code uint8, value string) *Fix {
	now := site.Option{Code: code, Value: value}
	id, in := fmt.Sprint(code), poolRef(p.ID)
	if i := slices.IndexFunc(p.Options, func(o site.Option) bool { return o.Code == code }); i >= 0 {
		return change(title, site.KindOption, id, in, p.Options[i], now)
	}
	return &Fix{title, []edit.Edit{edit.Adding(site.KindOption, id, in, now)}}
}

func classMissing(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		if _, ok := f.VendorClass(p.ForClass); ok || p.ForClass == "" {
			return
		}
		now := *p
		now.ForClass = ""
		report(Finding{
			Title: fmt.Sprintf("Pool %s is for a class that is not there", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
			Value: p.ForClass,
			Says:  fmt.Sprintf("No vendor class of the site is %q. Every client would be served from it.", p.ForClass),
			Fix:   change("Serve anyone from it", site.KindPool, p.ID, site.Ref{}, *p, now),
		})
	})
}
