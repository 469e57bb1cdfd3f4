package names

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/zone"
)

// Asking is somebody who asks: where, and what it was told.
type Asking struct {
	Who         string // in words
	Network     *site.Network
	From        netip.Addr
	Own         *site.Device // the device itself, when it asks
	Servers     []netip.Addr
	ServersFrom string // how it knows its servers, in words
	Search      []string
	List        string // how it knows its search list, in words
}

// Asker finds who asks. The error says what to name instead.
func (w *World) Asker(who string) (Asking, error) {
	ref := site.ParseRef(who)
	var a Asking
	switch ref.Kind {
	case site.KindNetwork:
		n, ok := w.site.Network(ref.ID)
		if !ok {
			return a, fmt.Errorf("%q is not a network of this site; choose one of the list", ref.ID)
		}
		a = Asking{Who: "a client of " + n.Name, Network: n, From: strangerOn(n)}
		w.tell(&a, compile.For{Network: n, Pool: w.poolOf(n)})
	case site.KindReservation, site.KindFixedDevice:
		return w.pinned(ref)
	case site.KindDevice:
		d, ok := w.site.Device(ref.ID)
		if !ok {
			return a, fmt.Errorf("%q is not a device of this site; choose one of the list", ref.ID)
		}
		a = Asking{Who: d.Name, Own: d, From: addressOf(d, netip.Addr{}), Search: nonempty(w.site.Domain),
			List: "the site's domain"}
		if _, own := w.server(d); !own {
			w.tellDevice(&a, d)
		}
	default:
		return a, fmt.Errorf("%q does not ask; choose a client, a network, a device or the internet", who)
	}
	return a, nil
}

// tellDevice says which name servers a device without a resolver has: those of the whole site; else those that clients
// beside it are told; else those that its uplink learnt.
func (w *World) tellDevice(a *Asking, d *site.Device) {
	w.tell(a, compile.For{})
	for i := 0; i < len(w.site.Networks) && len(a.Servers) == 0; i++ {
		n := &w.site.Networks[i]
		if n.Prefix.Contains(a.From) {
			w.tell(a, compile.For{Network: n, Pool: w.poolOf(n)})
		}
	}
	for _, i := range d.Interfaces {
		if len(a.Servers) == 0 && i.Uplink != nil {
			a.Servers, a.ServersFrom = i.Uplink.LearntServers, "as its uplink learnt them, when they were written down"
		}
	}
}

func nonempty(s string) []string {
	if s == "" {
		return nil
	}
	return []string{s}
}

// pinned is a client with an address of its own: of a reservation, or one that holds it itself.
func (w *World) pinned(ref site.Ref) (Asking, error) {
	var a Asking
	var told compile.For
	network, noun := "", "reservation"
	if r, ok := w.site.Reservation(ref.ID); ok && ref.Kind == site.KindReservation {
		told.Pool, _ = compile.PoolOf(w.site, r)
		told.Reservation, network = r, r.Network
		a.Who, a.From = r.NameOrAddress(), r.Address
	}
	f, fixed := w.site.FixedDevice(ref.ID)
	if ref.Kind == site.KindFixedDevice {
		noun = "fixed device"
		if fixed {
			network, a.Who, a.From = f.Network, f.Name, f.Address
		}
	}
	n, ok := w.site.Network(network)
	if !ok {
		return a, fmt.Errorf("%q is not a %s of this site; choose one of the list", ref.ID, noun)
	}
	a.Network, told.Network = n, n
	if ref.Kind == site.KindFixedDevice {
		told.Pool = w.poolOf(n)
	}
	w.tell(&a, told)
	if d, i, tunnel := w.site.TunnelOf(n); tunnel && len(a.Servers) > 0 {
		a.ServersFrom = fmt.Sprintf("as %s tells who comes in by %s", d.Name, i.Name)
	} else if ref.Kind == site.KindFixedDevice {
		a.ServersFrom = "as clients of " + n.Name + " are told; what is typed on the device itself is not known"
	}
	return a, nil
}

func (w *World) poolOf(n *site.Network) *site.Pool {
	i := slices.IndexFunc(w.site.Pools, func(p site.Pool) bool { return p.Network == n.ID })
	if i < 0 {
		return nil
	}
	return &w.site.Pools[i]
}

// strangerOn is an address of a network for a client nobody knows.
func strangerOn(n *site.Network) netip.Addr {
	a := n.Prefix.Masked().Addr()
	for i := 0; i < 2 && n.Prefix.Contains(a.Next()); i++ {
		a = a.Next()
	}
	return a
}

// tell says which name servers and which search list a client has, with where that is set.
func (w *World) tell(a *Asking, c compile.For) {
	told := w.common.Effective(c)
	if t, ok := compile.Value(told, option.NameServers); ok {
		a.Servers, a.ServersFrom = compile.Addresses(told, option.NameServers), "option 6, set on "+t.From.Name
	}
	if t, ok := compile.Value(told, option.SearchList); ok {
		for name := range strings.SplitSeq(t.Value, ",") {
			a.Search = append(a.Search, zone.Tidy(name))
		}
		a.List = "its search list (option 119, set on " + t.From.Name + ")"
		return
	}
	if t, ok := compile.Value(told, option.DomainName); ok {
		a.Search, a.List = []string{zone.Tidy(t.Value)}, "its domain (option 15, set on "+t.From.Name+")"
	}
}

// With is a client with what it was really told, for an address it was given.
func (w *World) With(n *site.Network, from netip.Addr, servers []netip.Addr, search []string) Asking {
	return Asking{Who: "the client", Network: n, From: from, Servers: servers, ServersFrom: "as it was told",
		Search: search,
		List:   "what it was told"}
}
