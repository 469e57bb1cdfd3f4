package check_test

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/site"
)

// ruleCase is a rule with a document that breaks it and one, as close as can be, that does not.
type ruleCase struct {
	rule   string
	breaks func(*site.Site)
	near   func(*site.Site)
	fixed  bool // the finding carries a fix, and the fix silences it
}

// cases are of every rule that needs nothing but the document.
var cases = slices.Concat(plainCases, nameCases, followingCases, missingCases)

var plainCases = []ruleCase{
	{"network-outside-block", func(s *site.Site) { s.Block[0] = prefix("10.84.16.0/21") },
		func(s *site.Site) { s.Block = []netip.Prefix{prefix("10.84.16.0/21"), prefix("10.84.24.0/21")} }, false},
	{"networks-overlap", func(s *site.Site) { network(s, "net-imaging").Prefix = prefix("10.84.16.0/21") },
		func(s *site.Site) {
			s.Networks = append(s.Networks,
				site.Network{ID: "net-next", Name: "Next", Prefix: prefix("10.84.20.64/30")})
		}, false},
	{"prefix-has-host-bits", func(s *site.Site) { network(s, "net-imaging").Prefix = prefix("10.84.20.1/26") },
		func(s *site.Site) {
			// longer than the interface's, and still its first address
			network(s, "net-imaging").Prefix = prefix("10.84.20.0/25")
		}, true},
	{"gateway-outside-network", func(s *site.Site) { network(s, "net-imaging").Gateway = addr("10.84.21.1") },
		func(s *site.Site) { network(s, "net-imaging").Gateway = addr("10.84.20.62") }, true},
	{"gateway-unusable", func(s *site.Site) { network(s, "net-imaging").Gateway = addr("10.84.20.63") },
		func(s *site.Site) {
			// RFC 3021
			network(s, "net-imaging").Prefix, network(s, "net-imaging").Gateway = prefix("10.84.20.0/31"),
				addr("10.84.20.0")
		}, true},
	{"gateway-on-no-interface", func(s *site.Site) { network(s, "net-imaging").Gateway = addr("10.84.20.2") },
		func(s *site.Site) {
			network(s, "net-imaging").Gateway = addr("10.84.20.12") // a fixed device is the gateway
		}, true},
	{"interface-outside-network",
		func(s *site.Site) { iface(s, "if-gw-1-lan-48").Addresses[0] = prefix("10.84.21.1/26") },
		func(s *site.Site) { iface(s, "if-gw-1-wan").Addresses[0] = prefix("198.51.100.1/24") }, false},
	{"interface-mask-differs", func(s *site.Site) { iface(s, "if-gw-1-lan-48").Addresses[0] = prefix("10.84.20.1/25") },
		func(s *site.Site) {
			iface(s, "if-gw-1-lan-48").Addresses[0] = prefix("10.84.20.2/26") // another host, the same mask
		}, true},
	{"interfaces-overlap", func(s *site.Site) {
		iface(s, "if-gw-1-lan").Addresses = []netip.Prefix{prefix("10.84.20.3/26")}
	}, func(s *site.Site) { iface(s, "if-sw-core-uplink1").Addresses = []netip.Prefix{prefix("10.84.20.3/26")} },
		false},
	{"address-two-owners", func(s *site.Site) { s.Reservations[0].Address = s.Reservations[1].Address },
		func(s *site.Site) { s.Reservations[0].Address = addr("10.84.18.28") }, true},
	{"vlan-id-out-of-range", func(s *site.Site) { network(s, "net-imaging").VLAN = 4095 },
		func(s *site.Site) { network(s, "net-imaging").VLAN = 4094 }, false},
	{"vlan-id-reused", func(s *site.Site) { network(s, "net-imaging").VLAN = 24 }, func(s *site.Site) {
		network(s, "net-imaging").VLAN, network(s, "net-clinic").VLAN = 0, 0 // two untagged networks
	}, true},
	{"pool-outside-network", func(s *site.Site) {
		pool(s, "pool-imaging").Ranges = []address.Range{rng("10.84.20.40", "10.84.20.80")}
	},
		func(s *site.Site) {
			pool(s, "pool-imaging").Ranges = []address.Range{rng("10.84.20.40", "10.84.20.62")}
		}, true},
	{"vlan-differs", func(s *site.Site) { network(s, "net-imaging").VLAN = 49 },
		func(s *site.Site) {
			network(s, "net-imaging").VLAN, iface(s, "if-gw-1-lan-48").VLAN = 49, 49
		}, true},
	{"vlan-differs", func(s *site.Site) { // untagged on the group, and no port of it carries the tag
		i := iface(s, "if-gw-1-lan-48")
		i.Kind, i.VLAN, i.Parent = site.PortGroup, 0, ""
	}, func(s *site.Site) {
		i := iface(s, "if-gw-1-lan-48")
		i.Kind, i.VLAN, i.Parent, i.Untagged = site.PortGroup, 0, "", 48
	}, true},
	{"vlan-id-out-of-range", func(s *site.Site) { iface(s, "if-sw-core-uplink1").Tagged = []int{5000} },
		func(s *site.Site) { iface(s, "if-sw-core-uplink1").Tagged = []int{4094} }, false},
	{"reference-missing", func(s *site.Site) { pool(s, "pool-imaging").Server = "dev-none" },
		func(s *site.Site) { pool(s, "pool-imaging").Server = "dev-sw-core" }, false},
	{"reference-missing", func(s *site.Site) { s.Reservations[0].Network = "net-none" },
		func(s *site.Site) { s.Reservations[0].Network = "net-imaging" }, false},
	{"reference-missing", func(s *site.Site) { pool(s, "pool-imaging").Network = "net-none" },
		func(s *site.Site) { pool(s, "pool-imaging").Network = "net-bench" }, false},
	{"reference-missing", func(s *site.Site) { s.FixedDevices[0].Network = "net-none" },
		func(s *site.Site) { s.FixedDevices[0].Network = "net-bench" }, false},
	{"reference-missing", func(s *site.Site) { iface(s, "if-gw-1-lan-48").Parent = "nowhere" },
		func(s *site.Site) { iface(s, "if-gw-1-lan-48").Parent = "wan" }, false},
	{"reference-missing", func(s *site.Site) { iface(s, "if-gw-1-lan").Members = []string{"p9"} },
		func(s *site.Site) { iface(s, "if-gw-1-lan").Members = []string{"p1"} }, false},
	{"reference-missing", func(s *site.Site) { iface(s, "if-gw-1-wan").Peer = "if-none" },
		func(s *site.Site) { iface(s, "if-gw-1-wan").Peer = "if-sw-core-uplink1" }, false},
	{"fixed-outside-network", func(s *site.Site) { s.FixedDevices[0].Address = addr("10.99.0.5") },
		func(s *site.Site) { s.FixedDevices[0].Address = addr("10.84.16.11") }, true},
	{"permits-missing", func(s *site.Site) { iface(s, "if-gw-1-lan-48").Permits = nil },
		func(s *site.Site) { iface(s, "if-gw-1-wan").Permits = nil }, true},
	{"windows-wrong", func(s *site.Site) {
		s.Standard.Windows = []site.Window{{Use: "infrastructure", From: 1, To: 19}, {Use: "dynamic", From: 19, To: 30}}
	}, func(s *site.Site) {
		s.Standard.Windows = []site.Window{{Use: "infrastructure", From: 1, To: 19}, {Use: "dynamic", From: 20, To: -2},
			{Use: "reserved", From: -20, To: -2}}
	}, false},
	{"windows-wrong", func(s *site.Site) { s.Standard.Windows = []site.Window{{Use: "dynamic", From: 30, To: 20}} },
		func(s *site.Site) { s.Standard.Windows = []site.Window{{Use: "dynamic", From: 20, To: -1}} }, false},
	{"range-backwards", func(s *site.Site) {
		pool(s, "pool-imaging").Ranges = []address.Range{rng("10.84.20.40", "10.84.20.24")}
	}, func(s *site.Site) {
		pool(s, "pool-imaging").Ranges = []address.Range{rng("10.84.20.40", "10.84.20.40")}
	}, true},
	{"range-backwards", func(s *site.Site) { pool(s, "pool-imaging").Ranges = nil },
		func(s *site.Site) { pool(s, "pool-imaging").Exclusions = nil }, false},
	{"reservation-client-twice", func(s *site.Site) {
		a := *s.Reservations[0]
		a.ID, a.Name, a.Address, a.MAC, a.Client = "res-2", "cart-2", addr("10.84.16.145"), address.MAC{}, "cart"
		b := a
		b.ID, b.Name, b.Address, b.Client = "res-3", "cart-3", addr("10.84.16.146"), "CART"
		s.Reservations = append(s.Reservations, &a, &b)
	}, func(s *site.Site) {
		a := *s.Reservations[0]
		a.ID, a.Name, a.Address, a.MAC, a.Client = "res-2", "cart-2", addr("10.84.16.145"), address.MAC{}, "cart"
		b := a
		b.ID, b.Name, b.Address, b.Client = "res-3", "cart-3", addr("10.84.16.146"), "cart-3"
		s.Reservations = append(s.Reservations, &a, &b)
	}, true},
	{"mac-reserved-and-fixed", func(s *site.Site) {
		r := s.Reservations[0]
		s.FixedDevices = append(s.FixedDevices, site.FixedDevice{ID: "fix-2", Name: "pbx-2", Network: r.Network,
			Address: addr("10.84.16.145"), MAC: r.MAC})
	}, func(s *site.Site) { // the same machine on another network
		s.FixedDevices = append(s.FixedDevices, site.FixedDevice{ID: "fix-2", Name: "pbx-2", Network: "net-imaging",
			Address: addr("10.84.20.20"), MAC: s.Reservations[0].MAC})
	}, true},
	{"uplink-incomplete", func(s *site.Site) {
		u := iface(s, "if-gw-1-wan").Uplink
		u.Method, u.Gateway = site.ByFixed, netip.Addr{}
	}, func(s *site.Site) {
		u := iface(s, "if-gw-1-wan").Uplink
		u.Method, u.Gateway = site.ByDHCP, netip.Addr{}
	}, false},
	{"uplink-incomplete", func(s *site.Site) {
		u := iface(s, "if-gw-1-wan").Uplink
		u.Method, u.Account = site.ByPPPoE, ""
	}, func(s *site.Site) {
		u := iface(s, "if-gw-1-wan").Uplink
		u.Method, u.Account = site.ByPPPoE, "kelder@line.example"
	}, false},
	{"route-router-outside", set("pool-imaging", 121, "0.0.0.0/0 via 10.84.18.1"),
		set("pool-imaging", 121, "0.0.0.0/0 via 10.84.20.1, 10.84.18.0/23 via 0.0.0.0"), false},
	{"route-router-outside", set("pool-imaging", 33, "10.9.9.9 10.84.18.1"),
		set("pool-imaging", 33, "10.9.9.9 10.84.20.1"), false},
	{"default-among-static-routes", set("pool-imaging", 33, "0.0.0.0 10.84.20.1"),
		set("pool-imaging", 33, "10.9.9.9 10.84.20.1"), true},
	{"option-names-unusable", set("pool-imaging", 42, "10.84.20.63"), set("pool-imaging", 42, "192.0.2.255"), true},
	{"option-names-unusable", set("pool-imaging", 3, "10.84.20.0"), set("pool-imaging", 3, "10.84.20.1"), true},
	{"option-names-nobody", set("pool-imaging", 42, "10.84.20.61"), set("pool-imaging", 42, "10.84.16.10"), true},
	{"option-names-nobody", set("pool-imaging", 150, "10.84.20.61, 10.84.16.10"),
		set("pool-imaging", 150, "192.0.2.61"), true},
	{"option-defined-twice", func(s *site.Site) {
		s.OptionDefinitions = []site.OptionDefinition{{ID: "a", Code: 224, Name: "A", Type: "text"},
			{ID: "b", Code: 224, Name: "B", Type: "address"}}
	}, func(s *site.Site) {
		s.OptionDefinitions = []site.OptionDefinition{{ID: "a", Code: 224, Name: "A", Type: "text"},
			{ID: "b", Code: 225, Name: "B", Type: "address"}}
	}, true},
	{"option-defined-registered", func(s *site.Site) {
		s.OptionDefinitions = []site.OptionDefinition{{ID: "a", Code: 6, Name: "A", Type: "text"}}
	}, func(s *site.Site) { // a private code, though Lithos has a meaning for it
		s.OptionDefinitions = []site.OptionDefinition{{ID: "a", Code: 252, Name: "A", Type: "text"}}
	}, true},
	{"name-invalid", func(s *site.Site) { s.Reservations[0].Name = "Front desk" },
		func(s *site.Site) { s.Reservations[0].Name = "" }, true},
	{"name-invalid", func(s *site.Site) { s.FixedDevices[0].Name = "ns_1" },
		func(s *site.Site) { s.FixedDevices[0].Name = "NS-1" }, true},
	{"name-invalid", func(s *site.Site) { s.Devices[0].Name = "gw 1" },
		func(s *site.Site) { s.Devices[0].Name = "gw-01" }, true},
	{"router-outside-network", func(s *site.Site) {
		s.Reservations[0].Options = []site.Option{{Code: 3, Value: "10.84.99.1"}}
	}, func(s *site.Site) { s.Reservations[0].Options = []site.Option{{Code: 3, Value: "10.84.16.129"}} }, true},
	{"option-shadows-router", func(s *site.Site) {
		s.Reservations[0].Options = []site.Option{{Code: 121, Value: "10.0.0.0/8 via 10.84.16.129"}}
	}, func(s *site.Site) {
		s.Reservations[0].Options = []site.Option{{Code: 121,
			Value: "0.0.0.0/0 via 10.84.16.129, 10.0.0.0/8 via 10.84.16.129"}}
	}, true},
	{"lease-timers-order", func(s *site.Site) {
		s.VendorClasses[0].Options = []site.Option{{Code: 58, Value: "8 days"}}
	}, func(s *site.Site) {
		s.VendorClasses[0].Options = []site.Option{{Code: 58, Value: "1 minute"}}
	}, true},
	{"option-invalid", set("pool-imaging", 114, "portal"), set("pool-imaging", 114, "https://portal.example/"), true},
	{"device-name-twice", func(s *site.Site) { s.Devices[1].Name = "GW-1" },
		func(s *site.Site) { s.Devices[1].Name = "gw-2" }, false},
	{"interface-name-twice", func(s *site.Site) { iface(s, "if-gw-1-lan-48").Name = "lan.24" },
		func(s *site.Site) { s.Devices[1].Interfaces[0].Name = "lan.24" }, false}, // of another device
	{"vlan-twice-on-device", func(s *site.Site) {
		iface(s, "if-gw-1-lan-48").VLAN = 24
	}, func(s *site.Site) {
		iface(s, "if-gw-1-lan-48").VLAN, iface(s, "if-gw-1-lan-24").VLAN = 0, 0 // of no VLAN, both
	}, false},
	{"port-in-two-groups", func(s *site.Site) {
		d := &s.Devices[0]
		d.Interfaces = append(d.Interfaces,
			site.Interface{ID: "if-a", Name: "a", Kind: site.PortGroup, Members: []string{"q1", "q2"}},
			site.Interface{ID: "if-b", Name: "b", Kind: site.PortGroup, Members: []string{"q2", "q3"}})
	}, func(s *site.Site) {
		d := &s.Devices[0]
		d.Interfaces = append(d.Interfaces,
			site.Interface{ID: "if-a", Name: "a", Kind: site.PortGroup, Members: []string{"q1", "q2"}},
			site.Interface{ID: "if-b", Name: "b", Kind: site.PortGroup, Members: []string{"q3", "q4"}})
	}, true},
	{"network-name-twice", func(s *site.Site) { network(s, "net-imaging").Name = "clinic floor" },
		func(s *site.Site) { network(s, "net-imaging").Name = "Clinic floor 2" }, false},
	{"reservation-name-twice", func(s *site.Site) {
		a := s.Reservations[0]
		s.Reservations = append(s.Reservations,
			&site.Reservation{ID: "res-2", Name: a.Name, Network: a.Network, Address: addr("10.84.18.40"),
				MAC: address.MAC{0, 0, 0x5e, 0, 9, 1}})
	}, func(s *site.Site) {
		s.Reservations = append(s.Reservations, // one machine that is on two networks
			&site.Reservation{ID: "res-2", Name: s.Reservations[0].Name, Network: "net-imaging",
				Address: addr("10.84.20.20"), MAC: address.MAC{0, 0, 0x5e, 0, 9, 1}})
	}, false},
	{"reservation-known-twice", func(s *site.Site) { s.Reservations[1].Client = "01:00:00:5e:00:53:09" },
		func(s *site.Site) {
			s.Reservations[1].Client, s.Reservations[1].MAC = "01:00:00:5e:00:53:09", address.MAC{}
		}, true},
	{"pools-overlap", func(s *site.Site) {
		s.Pools = append(s.Pools, site.Pool{ID: "pool-2", Name: "Second", Network: "net-imaging", Server: "dev-gw-1",
			Enabled: true, Ranges: []address.Range{rng("10.84.20.50", "10.84.20.60")}})
	}, func(s *site.Site) {
		s.Pools = append(s.Pools, site.Pool{ID: "pool-2", Name: "Second", Network: "net-imaging", Server: "dev-gw-1",
			Enabled: true, Ranges: []address.Range{rng("10.84.20.56", "10.84.20.60")}})
	}, true},
	{"pool-holds-gateway", func(s *site.Site) { pool(s, "pool-imaging").Ranges[0].From = addr("10.84.20.1") },
		func(s *site.Site) {
			p := pool(s, "pool-imaging")
			p.Ranges[0].From = addr("10.84.20.1")
			p.Exclusions = []site.Exclusion{{ID: "x", Range: rng("10.84.20.1", "10.84.20.1")},
				{ID: "y", Range: rng("10.84.20.12", "10.84.20.14")}}
		}, true},
	{"pool-holds-unusable", func(s *site.Site) { pool(s, "pool-imaging").Ranges[0].To = addr("10.84.20.63") },
		func(s *site.Site) { pool(s, "pool-imaging").Ranges[0].To = addr("10.84.20.62") }, true},
	{"pool-holds-fixed-device", func(s *site.Site) { pool(s, "pool-imaging").Ranges[0].From = addr("10.84.20.12") },
		func(s *site.Site) { pool(s, "pool-imaging").Ranges[0].From = addr("10.84.20.13") }, true},
	{"exclusion-outside-pool", func(s *site.Site) {
		pool(s, "pool-imaging").Exclusions = []site.Exclusion{{ID: "x", Range: rng("10.84.20.20", "10.84.20.23"),
			Reason: "r"}}
	}, func(s *site.Site) {
		pool(s, "pool-imaging").Exclusions = []site.Exclusion{{ID: "x", Range: rng("10.84.20.20", "10.84.20.24"),
			Reason: "r"}}
	}, true},
	{"exclusion-empties-pool", func(s *site.Site) {
		pool(s, "pool-imaging").Exclusions = []site.Exclusion{{ID: "x", Range: rng("10.84.20.24", "10.84.20.55"),
			Reason: "r"}}
	}, func(s *site.Site) {
		pool(s, "pool-imaging").Exclusions = []site.Exclusion{{ID: "x", Range: rng("10.84.20.24", "10.84.20.54"),
			Reason: "r"}}
	}, false},
	{"reservation-outside-network", func(s *site.Site) { s.Reservations[0].Address = addr("10.84.16.255") },
		func(s *site.Site) { s.Reservations[0].Address = addr("10.84.16.254") }, true},
	{"reservation-mac-twice", func(s *site.Site) { s.Reservations[1].MAC = s.Reservations[2].MAC }, func(s *site.Site) {
		s.Reservations[len(s.Reservations)-1].MAC = s.Reservations[0].MAC // on two networks: one machine that moves
	}, true},
	{"mac-malformed", func(s *site.Site) { s.Reservations[1].MAC = address.MAC{1, 0, 0x5e, 0, 0, 1} },
		func(s *site.Site) { s.Reservations[1].MAC = address.MAC{2, 0, 0x5e, 0, 0, 1} }, false},
	{"pool-off", func(s *site.Site) { pool(s, "pool-imaging").Enabled = false }, func(s *site.Site) {
		// none is not one that is off
		s.Pools = slices.DeleteFunc(s.Pools, func(p site.Pool) bool { return p.ID == "pool-imaging" })
	}, true},
	{"network-unserved", func(s *site.Site) { pool(s, "pool-imaging").Server = "dev-none" }, func(s *site.Site) {
		s.Networks = append(s.Networks, site.Network{ID: "net-link", Name: "Link", Prefix: prefix("10.84.17.0/30")})
	}, true},
	{"router-missing", func(s *site.Site) { network(s, "net-imaging").Gateway = netip.Addr{} }, func(s *site.Site) {
		n := network(s, "net-imaging")
		n.Gateway, n.Options = netip.Addr{}, []site.Option{{Code: 3, Value: "10.84.20.1"}}
	}, true},
	{"router-outside-network",
		func(s *site.Site) { pool(s, "pool-imaging").Options = []site.Option{{Code: 3, Value: "10.84.18.1"}} },
		func(s *site.Site) { pool(s, "pool-imaging").Options = []site.Option{{Code: 3, Value: "10.84.20.1"}} }, true},
	{"dns-missing", func(s *site.Site) { s.Options = nil }, func(s *site.Site) {
		s.Options = nil
		s.Customer.Options = []site.Option{{Code: 6, Value: "10.84.16.10"}}
	}, false}, // several pools, one fix each
	{"option-invalid",
		func(s *site.Site) { network(s, "net-imaging").Options = []site.Option{{Code: 26, Value: "lots"}} },
		func(s *site.Site) { network(s, "net-imaging").Options = []site.Option{{Code: 26, Value: "1492"}} }, true},
	{"lease-timers-order",
		func(s *site.Site) { pool(s, "pool-imaging").Options = []site.Option{{Code: 58, Value: "22 hours"}} },
		func(s *site.Site) { pool(s, "pool-imaging").Options = []site.Option{{Code: 58, Value: "20 hours"}} }, true},
	{"address-unusable", func(s *site.Site) { fixed(s, "fix-dicom-store").Address = addr("10.84.20.63") },
		func(s *site.Site) { fixed(s, "fix-dicom-store").Address = addr("10.84.20.62") }, true},
	{"vlan-on-one-side-only", func(s *site.Site) { iface(s, "if-sw-core-uplink1").Tagged = []int{11, 24, 31, 66, 90} },
		func(s *site.Site) {
			iface(s, "if-sw-core-uplink1").Tagged = append(iface(s, "if-sw-core-uplink1").Tagged, 900) // no network's
		}, true},
	{"untagged-vlan-differs", func(s *site.Site) {
		iface(s, "if-sw-core-8").Untagged, iface(s, "if-sw-ward-uplink").Untagged = 66, 31
	}, func(s *site.Site) { iface(s, "if-sw-core-8").Untagged, iface(s, "if-sw-ward-uplink").Untagged = 66, 66 }, true},
	{"network-without-interface", func(s *site.Site) {
		s.Networks = append(s.Networks, site.Network{ID: "net-lost", Name: "Lost", Prefix: prefix("10.84.17.0/24")})
	}, func(s *site.Site) { network(s, "net-imaging").Gateway = netip.Addr{} }, false},
	{"network-at-no-port", func(s *site.Site) { iface(s, "if-sw-core-3").Untagged = 24 },
		func(s *site.Site) { iface(s, "if-sw-core-3").Untagged, iface(s, "if-sw-core-3").Tagged = 24, []int{31} },
		true},
	{"public-prefix-inside", func(s *site.Site) { network(s, "net-imaging").Prefix = prefix("203.0.113.64/26") },
		func(s *site.Site) { network(s, "net-imaging").Prefix = prefix("172.31.255.0/26") }, false},
	{"beyond-device", func(s *site.Site) {
		s.Devices[2].Interfaces = append(s.Devices[2].Interfaces,
			site.Interface{ID: "if-x", Name: "x", Kind: site.VLAN, VLAN: 24,
				Addresses: []netip.Prefix{prefix("10.84.18.3/23")}})
	}, func(s *site.Site) { // a layer 3 switch may have several
		s.Devices[1].Interfaces = append(s.Devices[1].Interfaces,
			site.Interface{ID: "if-x", Name: "x", Kind: site.VLAN, VLAN: 24,
				Addresses: []netip.Prefix{prefix("10.84.18.3/23")}})
	}, false},
	{"network-untranslated", func(s *site.Site) {
		translates(s, "net-bench", "net-clinic", "net-cameras", "net-handsets", "net-waiting")
	}, func(s *site.Site) {
		translates(s) // nothing is said of any network
	}, true},
	{"translation-unknown", func(s *site.Site) { iface(s, "if-gw-1-wan").Uplink = nil },
		func(s *site.Site) { iface(s, "if-gw-1-wan").Uplink = &site.UplinkFacts{Method: site.ByDHCP} }, false},
	{"uplink-gateway-outside", func(s *site.Site) { iface(s, "if-gw-1-wan").Uplink.Gateway = addr("203.0.113.49") },
		func(s *site.Site) { iface(s, "if-gw-1-wan").Uplink.Gateway = addr("203.0.113.47") }, false},
	{"pool-holds-interface", func(s *site.Site) {
		iface(s, "if-sw-core-mgmt").Addresses[0] = prefix("10.84.16.44/26")
	}, func(s *site.Site) { iface(s, "if-sw-core-mgmt").Addresses[0] = prefix("10.84.16.60/26") }, true},
	{"reservation-excluded", func(s *site.Site) { s.Reservations[1].Address = addr("10.84.18.121") },
		func(s *site.Site) { s.Reservations[1].Address = addr("10.84.18.128") }, false},
	{"reservation-in-pool", func(s *site.Site) {
		switchServes(s)
		reservationOf(s, "res-plate-reader").Address = addr("10.84.20.30")
	},
		func(s *site.Site) { reservationOf(s, "res-plate-reader").Address = addr("10.84.20.30") }, true},
	{"mac-randomised", func(s *site.Site) { s.Reservations[1].MAC = address.MAC{0x0a, 0, 0x5e, 0, 0, 1} },
		func(s *site.Site) { s.Reservations[1].MAC = address.MAC{0x08, 0, 0x5e, 0, 0, 1} }, false},
	{"relay-missing", func(s *site.Site) { pool(s, "pool-imaging").Server = "dev-sw-ward" }, func(s *site.Site) {
		pool(s, "pool-imaging").Server = "dev-sw-core"
		iface(s, "if-gw-1-lan-48").RelayTo = []netip.Addr{addr("10.84.16.2")}
	}, true},
	{"relay-target-wrong", func(s *site.Site) {
		pool(s, "pool-imaging").Server = "dev-sw-core"
		iface(s, "if-gw-1-lan-48").RelayTo = []netip.Addr{addr("10.84.16.9")}
	}, func(s *site.Site) {
		pool(s, "pool-imaging").Server = "dev-sw-core"
		iface(s, "if-gw-1-lan-48").RelayTo = []netip.Addr{addr("10.84.16.2")}
	}, true},
	{"relay-target-wrong", func(s *site.Site) { // the server's own uplink, where it hears no client
		pool(s, "pool-imaging").Server = "dev-sw-core"
		s.Devices[1].Interfaces = append(s.Devices[1].Interfaces, site.Interface{ID: "if-lte", Name: "lte",
			Kind: site.Uplink, Addresses: []netip.Prefix{prefix("192.0.2.6/30")}})
		iface(s, "if-gw-1-lan-48").RelayTo = []netip.Addr{addr("192.0.2.6")}
	}, nil, true},
	{"relay-beside-server",
		func(s *site.Site) { iface(s, "if-gw-1-lan-48").RelayTo = []netip.Addr{addr("10.84.16.2")} },
		func(s *site.Site) {
			iface(s, "if-gw-1-lan-48").RelayTo = []netip.Addr{addr("10.84.16.2")}
			pool(s, "pool-imaging").Enabled = false
		}, true},
	{"two-servers", func(s *site.Site) {
		switchServes(s)
		second(s, "dev-gw-1")
	}, func(s *site.Site) { second(s, "dev-gw-1") }, true},
	{"pool-unreachable", func(s *site.Site) {
		d := &s.Devices[0]
		d.Interfaces = slices.DeleteFunc(d.Interfaces, func(i site.Interface) bool { return i.ID == "if-gw-1-lan-48" })
	}, func(s *site.Site) {
		iface(s, "if-gw-1-lan-48").Addresses = append(iface(s, "if-gw-1-lan-48").Addresses, prefix("10.84.28.1/24"))
	}, true},
	{"dhcp-not-permitted", func(s *site.Site) { iface(s, "if-gw-1-lan-48").Permits = []string{site.PermitDNS} },
		func(s *site.Site) { iface(s, "if-gw-1-lan-48").Permits = nil }, true},
	{"lease-too-long", set("pool-imaging", 51, "9 days"), set("pool-imaging", 51, "8 days"), true},
	{"lease-too-short", set("pool-imaging", 51, "4 minutes"), set("pool-imaging", 51, "5 minutes"), true},
	{"class-missing", func(s *site.Site) { pool(s, "pool-imaging").ForClass = "class-none" },
		func(s *site.Site) { pool(s, "pool-imaging").ForClass = "class-handsets" }, true},
	{"dns-unreachable", set("pool-imaging", 6, "10.84.16.10, 10.84.16.9"),
		set("pool-imaging", 6, "10.84.16.10, 192.0.2.53"), true},
	{"dns-outside-first", set("pool-imaging", 6, "192.0.2.53, 10.84.16.10"),
		set("pool-imaging", 6, "192.0.2.53, 192.0.2.54"), true},
	{"dns-learnt-mixed", func(s *site.Site) {
		learns(s)
		set("pool-imaging", 6, "10.84.16.10, 198.51.100.9")(s)
	}, func(s *site.Site) {
		learns(s)
		set("pool-imaging", 6, "198.51.100.9")(s)
	}, true},
	{"dns-inside-outside-mixed", set("pool-imaging", 6, "10.84.16.10, 192.0.2.53"),
		set("pool-imaging", 6, "10.84.16.10, 10.84.16.1"), true},
	{"domain-differs", set("pool-imaging", 15, "hallin.larkrise.example"),
		set("pool-imaging", 15, "scans.kelder.larkrise.example"), true},
	{"search-list-too-long", set("pool-imaging", 119,
		"a.example, b.example, c.example, d.example, e.example, f.example, g.example"),
		set("pool-imaging", 119, "a.example, b.example, c.example, d.example, e.example, f.example"), true},
	{"option-server-only", set("pool-imaging", 54, "10.84.20.1"), set("pool-imaging", 42, "10.84.20.1"), true},
	{"option-shadows-router", set("pool-imaging", 121, "10.84.18.0/23 via 10.84.20.1"),
		set("pool-imaging", 121, "10.84.18.0/23 via 10.84.20.1, 0.0.0.0/0 via 10.84.20.1"), true},
	{"option-set-twice", func(s *site.Site) {
		set("pool-imaging", 42, "10.84.20.1")(s)
		set("pool-imaging", 42, "10.84.16.1")(s)
	},
		func(s *site.Site) { set("pool-imaging", 42, "10.84.20.1")(s); set("pool-bench", 42, "10.84.16.1")(s) }, true},
	{"boot-pair-incomplete", set("pool-imaging", 67, "pxe/start.efi"), func(s *site.Site) {
		set("pool-imaging", 67, "pxe/start.efi")(s)
		set("pool-imaging", 150, "10.84.16.10")(s)
	}, false},
	{"mtu-above-uplink", func(s *site.Site) {
		iface(s, "if-gw-1-wan").Uplink.MTU = 1492
		set("pool-imaging", 26, "1500")(s)
	},
		func(s *site.Site) { iface(s, "if-gw-1-wan").Uplink.MTU = 1492; set("pool-imaging", 26, "1492")(s) }, true},
	{"option-over-size", func(s *site.Site) {
		for code := uint8(17); code <= 18; code++ {
			set("pool-imaging", code, strings.Repeat("x", 250))(s)
		}
		set("pool-imaging", 114, "https://"+strings.Repeat("y", 200))(s)
	}, set("pool-imaging", 17, strings.Repeat("x", 250)), false},
	{"vendor-invalid", func(s *site.Site) { s.VendorClasses[0].SubOptions[0].Value = "the pbx" },
		func(s *site.Site) { s.VendorClasses[0].SubOptions = nil }, false},
}

// aroundCase is the same of a rule that needs surroundings.
type aroundCase struct {
	rule         string
	breaks, near func(*site.Site, *check.Surroundings)
	fixed        bool
}

var aroundCases = slices.Concat(seenCases, nameAroundCases, followingAroundCases, managementCases)

var seenCases = []aroundCase{
	{"networks-overlap-across-sites", func(_ *site.Site, w *check.Surroundings) {
		w.Neighbors = []check.Neighbor{{Name: "Hallin Road",
			Networks: []site.Network{{ID: "net-h", Name: "Bench", Prefix: prefix("10.84.20.32/27")}}}}
	}, func(_ *site.Site, w *check.Surroundings) {
		w.Neighbors = []check.Neighbor{{Name: "Hallin Road",
			Networks: []site.Network{{ID: "net-h", Name: "Bench", Prefix: prefix("10.84.20.64/27")}}}}
	}, false},
	{"mac-cloned", func(_ *site.Site, w *check.Surroundings) { w.Seen = twins(0) },
		func(_ *site.Site, w *check.Surroundings) {
			w.Seen = twins(time.Hour) // it moved
		}, false},
	{"pool-nearly-full", func(_ *site.Site, w *check.Surroundings) { w.Seen = leases(32, 29) },
		func(_ *site.Site, w *check.Surroundings) { w.Seen = leases(32, 28) }, true},
	{"pool-too-small", func(_ *site.Site, w *check.Surroundings) { w.Seen = leases(900, 0) },
		func(_ *site.Site, w *check.Surroundings) { w.Seen = leases(200, 0) }, true},
	{"exclusion-ended", func(s *site.Site, _ *check.Surroundings) {
		pool(s, "pool-clinic").Exclusions[0].Until = site.Date{Year: 2026, Month: 11, Day: 22}
	}, func(s *site.Site, _ *check.Surroundings) {
		pool(s, "pool-clinic").Exclusions[0].Until = site.Date{Year: 2026, Month: 11, Day: 23}
	}, true},
}
