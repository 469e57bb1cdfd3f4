package rehearse

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/topology"
	"lithos/core/yang"
)

// Ladder computes the rungs of one network for a client nobody knows yet.
func Ladder(now time.Time, s *site.Site, n *site.Network, leases Leases) []Rung {
	return NewStage(now, s, leases).ladder(n)
}

// LadderOf computes the rungs of one network for the client that exchanged messages last:
// where it was given an address, its lease, its router and its name servers are what it was told. beside are the
// programs that listen for names beside the resolvers, by device id, as they were last read.
func LadderOf(
	now time.Time, s *site.Site, n *site.Network, leases Leases, passed []dhcp.Message,
	beside map[string][]yang.Program,
) []Rung {
	if len(passed) > 0 {
		last := passed[len(passed)-1]
		given, err := netip.ParseAddr(last.Your)
		st := NewStage(now, s, leases.with(s, given, passed, now))
		st.given, st.beside = given, beside
		if link := linkRung(s, n); err == nil && last.Type == "ack" && link.State == Pass {
			return append([]Rung{link, {Name: "lease", State: Pass, Value: address.Short(given, n.Prefix)}},
				st.outward(n, last.Router(), &last)...)
		}
	}
	st := NewStage(now, s, leases)
	st.beside = beside
	return st.ladder(n)
}

// with is the leases with the one that a client was just given.
func (l Leases) with(s *site.Site, given netip.Addr, passed []dhcp.Message, now time.Time) Leases {
	server, _ := netip.ParseAddr(passed[len(passed)-1].Option(option.ServerID))
	d, _, ok := s.HolderOf(server)
	if !ok || !given.IsValid() {
		return l
	}
	host := ""
	for _, m := range passed {
		host = cmp.Or(m.Option(option.HostName), host)
	}
	out := maps.Clone(l)
	if out == nil {
		out = Leases{}
	}
	out[d.ID] = append(slices.Clone(out[d.ID]), dhcp.Lease{Address: given, HostName: host, State: dhcp.Bound,
		Since:   now,
		Expires: now.Add(time.Hour)})
	return out
}

func (st *Stage) ladder(n *site.Network) []Rung {
	s := st.site
	link := linkRung(s, n)
	if link.State != Pass {
		return append([]Rung{link}, skipped("needs the link", slices.Concat([]string{"lease", "gateway", "internet"},
			nameRungs)...)...)
	}
	if !slices.ContainsFunc(s.Pools, func(p site.Pool) bool { return p.Network == n.ID }) {
		if d, _, tunnel := s.TunnelOf(n); tunnel {
			given := Rung{Name: "lease", State: Pass, Value: "given by " + d.Name}
			return append([]Rung{link, given}, st.outward(n, n.Gateway, nil)...)
		}
		lease := Rung{Name: "lease", State: Skip, Value: "no pool; fixed devices only", Rule: "network-unserved"}
		return append([]Rung{link, lease}, st.outward(n, n.Gateway, nil)...)
	}
	probe := &dhcp.Client{MAC: ProbeMAC, HostName: "lithos-probe"}
	passed, err := probe.Exchange(st.Wire(n))
	if err != nil || !probe.Address.IsValid() {
		return append([]Rung{link, st.failedLease(n, passed, err)}, skipped("needs a lease",
			slices.Concat([]string{"gateway", "internet"}, nameRungs)...)...)
	}
	last := passed[len(passed)-1]
	return append([]Rung{link, {Name: "lease", State: Pass, Value: address.Short(probe.Address, n.Prefix)}},
		st.outward(n, last.Router(), &last)...)
}

// outward is the rungs of a client that has an address and is told a router. told is the reply that
// gave it the address; nil for one that holds its own, which is told what the network's clients are.
func (st *Stage) outward(n *site.Network, router netip.Addr, told *dhcp.Message) []Rung {
	gateway := gatewayRung(st.site, n, router)
	if gateway.State != Pass {
		return append([]Rung{gateway}, skipped("needs the gateway", slices.Concat([]string{"internet"},
			nameRungs)...)...)
	}
	internet := InternetRung(st.site, n)
	return append([]Rung{gateway, internet}, st.names(n, router, told, internet.State != Fail)...)
}

// names is the rungs about names of a client that is told a router. internet says whether what is outside may answer.
func (st *Stage) names(n *site.Network, router netip.Addr, told *dhcp.Message, internet bool) []Rung {
	by, err := st.World().Asker(site.Ref{Kind: site.KindNetwork, ID: n.ID}.String())
	if told != nil && err == nil {
		servers, search := toldBy(*told)
		by = st.World().With(n, by.From, servers, search)
	}
	// A client asks for its router by its name of one word, and who its router is, or it itself where it
	// was tried.
	local := router
	if st.given.IsValid() {
		by.From, local = st.given, st.given
	}
	return st.resolve(by, local, labelAt(st.site, router), internet)
}

// ProbeMAC is the hardware address of the client that walks the ladder, locally
// administered so that no real machine has it.
var ProbeMAC = address.MAC{0x02, 0x00, 0x5e, 0x4c, 0x49, 0x54}

func linkRung(s *site.Site, n *site.Network) Rung {
	d, i, _, ok := s.InterfaceOn(n)
	if !ok {
		return Rung{"link", Fail, fmt.Sprintf("No device has an interface in %s", n.Prefix), "gateway-on-no-interface"}
	}
	if i.Kind == site.Tunnel {
		return Rung{Name: "link", State: Pass, Value: "tunnel " + i.Name}
	}
	carried := i.VLAN
	if i.Kind != site.VLAN {
		carried = topology.Untagged(d, i)
	}
	path := topology.Learn(s).Path(n)
	switch {
	case carried != n.VLAN && carried != 0:
		return Rung{"link", Fail,
			fmt.Sprintf("%s of %s carries VLAN %d, the network is VLAN %d", i.Name, d.Name, carried, n.VLAN),
			"vlan-differs"}
	case len(path.Breaks) > 0:
		return Rung{"link", Fail, path.Breaks[0].Says, path.Breaks[0].Rule}
	case n.VLAN == 0:
		return Rung{Name: "link", State: Pass, Value: "untagged on " + i.Name}
	default:
		return Rung{Name: "link", State: Pass, Value: fmt.Sprintf("VLAN %d", n.VLAN)}
	}
}

func (st *Stage) failedLease(n *site.Network, passed []dhcp.Message, err error) Rung {
	rung := Rung{Name: "lease", State: Fail, Value: "No answer", Rule: "network-unserved"}
	if err != nil {
		rung.Value = err.Error()
	} else if len(passed) > 0 && passed[len(passed)-1].Why != "" {
		rung.Value = passed[len(passed)-1].Why
	}
	if st.findings == nil {
		st.findings = check.Site(st.site)
	}
	causes := []string{"pool-off", "exclusion-empties-pool", "network-unserved", "relay-missing", "relay-target-wrong",
		"dhcp-not-permitted", "pool-unreachable"}
	for _, f := range st.findings {
		if f.Network == n.ID && slices.Contains(causes, f.Rule) {
			return Rung{"lease", Fail, f.Title, f.Rule}
		}
	}
	return rung
}

func gatewayRung(s *site.Site, n *site.Network, router netip.Addr) Rung {
	if !router.IsValid() {
		return Rung{"gateway", Fail, "The client is told no router", "router-missing"}
	}
	if !n.Prefix.Contains(router) {
		return Rung{"gateway", Fail, fmt.Sprintf("%s is not in %s", router, n.Prefix), "router-outside-network"}
	}
	if _, _, ok := s.HolderOf(router); ok {
		return Rung{Name: "gateway", State: Pass, Value: router.String()}
	}
	return Rung{"gateway", Fail, fmt.Sprintf("Nobody holds %s", router), "gateway-on-no-interface"}
}

// InternetRung says whether packets of a network come back from outside: an
// uplink of the site must translate its addresses.
func InternetRung(s *site.Site, n *site.Network) Rung {
	var unknown *site.Interface
	uplinks := 0
	for d := range s.Devices {
		for i := range s.Devices[d].Interfaces {
			f := &s.Devices[d].Interfaces[i]
			if f.Kind != site.Uplink {
				continue
			}
			uplinks++
			switch {
			case f.Uplink == nil:
				unknown = f
			case slices.Contains(f.Uplink.Translates, n.ID):
				return Rung{Name: "internet", State: Pass, Value: fmt.Sprintf("translated on %s", f.Name)}
			}
		}
	}
	switch {
	case uplinks == 0:
		return Rung{Name: "internet", State: Skip, Value: "no uplink is recorded"}
	case unknown != nil:
		return Rung{"internet", Skip, fmt.Sprintf("nothing says what %s translates", unknown.Name),
			"translation-unknown"}
	default:
		return Rung{"internet", Fail, fmt.Sprintf("No uplink translates %s", n.Prefix), "network-untranslated"}
	}
}
