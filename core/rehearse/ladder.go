package rehearse

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/dhcp"
	"lithos/core/links"
	"lithos/core/site"
)

// Ladder computes the rungs of one network for a client nobody knows yet.
func Ladder(now time.Time, s *site.Site, n *site.Network, leases Leases) []Rung {
	return NewStage(now, s, leases).ladder(n)
}

func (st *Stage) ladder(n *site.Network) []Rung {
	s := st.site
	link := linkRung(s, n)
	skip := func(why string, names ...string) (out []Rung) {
		for _, name := range names {
			out = append(out, Rung{Name: name, State: Skip, Value: why})
		}
		return out
	}
	if link.State != Pass {
		return append([]Rung{link}, skip("needs the link", "lease", "gateway", "internet")...)
	}
	if !slices.ContainsFunc(s.Pools, func(p site.Pool) bool { return p.Network == n.ID }) {
		lease := Rung{Name: "lease", State: Skip, Value: "no pool; fixed devices only", Rule: "network-unserved"}
		return append([]Rung{link, lease}, st.outward(n, n.Gateway)...)
	}
	probe := &dhcp.Client{MAC: ProbeMAC, HostName: "lithos-probe"}
	passed, err := probe.Exchange(st.Wire(n))
	if err != nil || !probe.Address.IsValid() {
		return append([]Rung{link, st.failedLease(n, passed, err)}, skip("needs a lease", "gateway", "internet")...)
	}
	router := passed[len(passed)-1].Router()
	return append([]Rung{link, {Name: "lease", State: Pass, Value: address.Short(probe.Address, n.Prefix)}},
		st.outward(n, router)...)
}

// outward is the rungs of a client that has an address and is told a router.
func (st *Stage) outward(n *site.Network, router netip.Addr) []Rung {
	gateway := gatewayRung(st.site, n, router)
	if gateway.State != Pass {
		return []Rung{gateway, {Name: "internet", State: Skip, Value: "needs the gateway"}}
	}
	return []Rung{gateway, InternetRung(st.site, n)}
}

// ProbeMAC is the hardware address of the client that walks the ladder, locally
// administered so that no real machine has it.
var ProbeMAC = address.MAC{0x02, 0x00, 0x5e, 0x4c, 0x49, 0x54}

func linkRung(s *site.Site, n *site.Network) Rung {
	d, i, _, ok := s.InterfaceOn(n)
	if !ok {
		return Rung{"link", Fail, fmt.Sprintf("No device has an interface in %s", n.Prefix), "gateway-on-no-interface"}
	}
	carried := i.VLAN
	if i.Kind != site.VLAN {
		carried = links.Untagged(d, i)
	}
	path := links.Learn(s).Path(n)
	switch {
	case carried != n.VLAN && carried != 0:
		return Rung{"link", Fail,
			fmt.Sprintf("%s of %s carries VLAN %d, the network is VLAN %d", i.Name, d.Name, carried, n.VLAN),
			"vlan-id-reused"}
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
