package check_test

import (
	"fmt"
	"net/netip"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/scenario"
	"lithos/core/site"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

// asks has the resolver ask an address in place of its first forwarder.
func asks(at string) func(*site.Site) {
	return onResolver(func(r *site.Resolver) { r.Forwarders[0].Address = addr(at) })
}

// domains gives the resolver servers for domains.
func domains(list ...site.DomainServer) func(*site.Site) {
	return onResolver(func(r *site.Resolver) { r.Domains = append(r.Domains, list...) })
}

func forDomain(name string, servers ...string) site.DomainServer {
	d := site.DomainServer{Domain: name}
	for _, s := range servers {
		d.Servers = append(d.Servers, site.Forwarder{Address: addr(s)})
	}
	return d
}

func silences(names ...string) func(*site.Site) {
	return onResolver(func(r *site.Resolver) { r.Silenced = names })
}

func zoneNamed(name, side string, records ...*site.Record) func(*site.Site) {
	return func(s *site.Site) {
		s.Zones = append(s.Zones, site.Zone{ID: "zone-x", Name: name, Side: side, Records: records})
	}
}

// line changes the uplink.
func line(change func(i *site.Interface)) func(*site.Site) {
	return func(s *site.Site) { change(iface(s, "if-gw-1-wan")) }
}

// pppoe makes the uplink a PPPoE line.
func pppoe(mtu int) func(*site.Site) {
	return line(func(i *site.Interface) {
		i.Addresses = nil
		i.Uplink.Method, i.Uplink.Account, i.Uplink.Secret, i.Uplink.MTU = site.ByPPPoE, "a", "b", mtu
		i.Uplink.Gateway = netip.Addr{}
	})
}

// secondLine is another uplink, which translates networks.
func secondLine(networks ...string) func(*site.Site) {
	return func(s *site.Site) {
		s.Devices[0].Interfaces = append(s.Devices[0].Interfaces, site.Interface{ID: "if-wan2", Name: "wan2",
			Kind: site.Uplink, Addresses: []netip.Prefix{prefix("198.51.100.9/29")}, Uplink: &site.UplinkFacts{
				Method: site.ByFixed, Gateway: addr("198.51.100.14"), Translates: networks}})
	}
}

// chain is so many aliases in a row.
func chain(n int) func(*site.Site) {
	return func(s *site.Site) {
		for i := range n {
			record(home, fmt.Sprintf("c%d", i), "CNAME", fmt.Sprintf("c%d", i+1))(s)
		}
		record(home, fmt.Sprintf("c%d", n), "A", "10.84.16.20")(s)
	}
}

func knows(macs ...byte) func(*site.Site) {
	return func(s *site.Site) {
		for i, m := range macs {
			s.KnownClients = append(s.KnownClients, site.KnownClient{ID: fmt.Sprint("known-", i), Name: fmt.Sprint("k",
				i),
				MAC: address.MAC{0, 0, 94, 0, 83, m}})
		}
	}
}

func certified(key string) func(*site.Site) {
	return func(s *site.Site) {
		s.Certificates = append(s.Certificates, site.Certificate{ID: "cert-x", Name: "edge.kelder.larkrise.example",
			Key: key, Secret: key})
	}
}

// insideAndOut is a machine with a name on both sides.
func insideAndOut(outside string) func(*site.Site) {
	return both(record(home, "edge-2", "A", "10.84.16.21"), record(world, "edge-2.kelder", "A", outside))
}

// missingCases are what a file of mistakes held that no rule found.
var missingCases = []ruleCase{
	{"forwarder-unusable", asks("127.0.0.1"), asks("192.0.2.53"), true},
	{"forwarder-unusable", asks("0.0.0.0"), asks("203.0.113.53"), true},
	{"forwarder-unusable", domains(forDomain("far.example", "224.0.0.1")), domains(forDomain("far.example",
		"192.0.2.1")),
		true},
	{"forwarder-no-server", asks("10.84.20.30"), asks("192.0.2.53"), true}, // of a pool
	{"forwarder-no-server", asks("10.84.16.70"), asks("10.84.16.10"), true},
	{"forwarder-no-server", asks("10.84.20.9"), asks("10.84.16.10"), true},
	{"forwarder-no-server", asks("10.84.30.9"), asks("10.84.32.9"), true}, // in no network; of another site
	{"forwarder-port-tls", onResolver(func(r *site.Resolver) {
		r.Forwarders[0].Port, r.Forwarders[0].TLSName = 53, "dns.example"
	}), onResolver(func(r *site.Resolver) { r.Forwarders[0].Port, r.Forwarders[0].TLSName = 853, "dns.example" }),
		true},
	{"domain-servers-wrong", domains(forDomain("far.example")), domains(forDomain("far.example", "192.0.2.1")), true},
	{"domain-servers-wrong", domains(forDomain("far.example", "192.0.2.1"), forDomain("far.example", "192.0.2.2")),
		domains(forDomain("far.example", "192.0.2.1"), forDomain("a.far.example", "192.0.2.2")), true},
	{"domain-servers-wrong", domains(forDomain("kelder.larkrise.example", "192.0.2.1")),
		domains(forDomain("yard.example", "192.0.2.1")), true},
	{"domain-servers-wrong", domains(forDomain("far.example", "10.84.16.1")),
		domains(forDomain("far.example", "10.84.16.10")), true},
	{"silenced-own-domain", silences("kelder.larkrise.example"), silences("ads.larkrise.example"), true},
	{"silenced-own-domain", silences("larkrise.example"), silences("lark.example"), true},
	{"silenced-own-domain", silences("org"), silences("ads.org"), true},
	{"zone-twice", zoneNamed("kelder.larkrise.example", site.Inside),
		zoneNamed("kelder.larkrise.example", site.Outside), true},
	{"zone-too-high", zoneNamed("org", site.Inside), zoneNamed("ours.org", site.Inside), true},
	{"zone-too-high", zoneNamed("", site.Inside), zoneNamed("lan", site.Inside), true},
	{"reverse-owner-invalid", record(reverse, "300", "PTR", "x.kelder.larkrise.example"),
		record(reverse, "255", "PTR", "x.kelder.larkrise.example"), true},
	{"reverse-zone-wide", zoneNamed("10.in-addr.arpa", site.Inside), zoneNamed("84.10.in-addr.arpa", site.Inside),
		false},
	{"delegation-hides", record(home, "pbx", "NS", "edge"), record(home, "branch", "NS", "edge"), true},
	{"server-name-alias", both(record(home, "al", "CNAME", "edge"), record(home, "sub", "NS", "al")),
		record(home, "sub", "NS", "edge"), true},
	{"server-name-alias", both(record(home, "al", "CNAME", "edge"), record(home, "m", "MX", "10 al")),
		record(home, "m", "MX", "10 edge"), true},
	{"server-name-alias", both(record(home, "al", "CNAME", "edge"), record(home, "_sip._tcp", "SRV", "1 1 5060 al")),
		record(home, "_sip._tcp", "SRV", "1 1 5060 edge"), true},
	{"server-name-address", record(home, "sub", "NS", "10.84.16.20"), record(home, "sub", "NS", "edge"), true},
	{"server-name-address", record(home, "m", "MX", "10 10.84.16.20"), record(home, "m", "MX", "10 edge"), true},
	{"server-name-address", record(home, "_sip._tcp", "SRV", "1 1 5060 10.84.16.20"),
		record(home, "_sip._tcp", "SRV", "1 1 5060 pbx"), true},
	{"alias-target-missing", record(home, "sub", "NS", "ns.gone.kelder.larkrise.example"), record(home, "sub", "NS",
		"edge"), true},
	{"alias-target-missing", record(home, "m", "MX", "10 mail.gone.kelder.larkrise.example"), record(home, "m", "MX",
		"10 edge"), true},
	{"alias-target-missing", record(home, "_sip._tcp", "SRV", "1 1 5060 pbx.gone.kelder.larkrise.example"),
		record(home, "_sip._tcp", "SRV", "1 1 5060 pbx"), true},
	{"delegation-without-glue", record(home, "sub", "NS", "ns.sub.kelder.larkrise.example"),
		both(record(home, "sub", "NS", "ns.sub.kelder.larkrise.example"), record(home, "ns.sub", "A", "10.84.16.20")),
		true},
	{"alias-chain-long", chain(17), chain(16), true},
	{"alias-loop", record(home, "*.lab2", "CNAME", "x.lab2.kelder.larkrise.example"),
		both(record(home, "*.lab2", "CNAME", "x.lab2.kelder.larkrise.example"), record(home, "x.lab2", "A",
			"10.84.16.20")), true},
	{"wildcard-at-apex", record(home, "*", "A", "10.84.16.20"), record(home, "*.app", "A", "10.84.16.20"), true},
	{"record-address-unusable", record(home, "x", "A", "0.0.0.0"), record(home, "x", "A", "10.84.20.14"), true},
	{"record-address-unusable", record(home, "x", "A", "224.0.0.5"), record(home, "x", "A", "10.84.16.20"), true},
	{"record-address-unusable", record(home, "x", "A", "10.84.20.63"), record(home, "x", "A", "10.84.20.62"), true},
	{"record-address-unusable", record(home, "x", "A", "127.0.0.1"), record(home, "x", "A", "192.0.2.7"), true},
	{"resolver-port-odd", onResolver(func(r *site.Resolver) { r.Port = 5353 }),
		onResolver(func(r *site.Resolver) { r.Port = 53 }), true},
	{"ports-equal", onResolver(func(r *site.Resolver) { r.TLSPort, r.TLSName = 53, "x.example" }),
		onResolver(func(r *site.Resolver) { r.TLSPort, r.TLSName = 853, "x.example" }), true},
	{"ttl-order", onResolver(func(r *site.Resolver) { r.LeastTTL, r.GreatestTTL = 600, 300 }),
		onResolver(func(r *site.Resolver) { r.LeastTTL, r.GreatestTTL = 300, 300 }), true},
	{"cache-above-memory", func(s *site.Site) { s.Devices[0].Memory, s.Resolvers[0].CacheEntries = 512, 9_000_000 },
		func(s *site.Site) { s.Devices[0].Memory, s.Resolvers[0].CacheEntries = 512, 9_000 }, true},
	{"uplink-address-unusable", line(func(i *site.Interface) { i.Uplink.Gateway = addr("203.0.113.44") }),
		line(func(i *site.Interface) { i.Uplink.Gateway = addr("203.0.113.46") }), false},
	{"uplink-address-unusable", line(func(i *site.Interface) { i.Uplink.Gateway = addr("203.0.113.47") }),
		line(func(i *site.Interface) { i.Uplink.Gateway = addr("203.0.113.41") }), false},
	{"uplink-address-unusable", line(func(i *site.Interface) { i.Addresses[0] = prefix("203.0.113.40/29") }),
		line(func(i *site.Interface) { i.Addresses[0] = prefix("203.0.113.40/31") }), false},
	{"mtu-above-line", pppoe(1500), pppoe(1492), true},
	{"mtu-above-line", line(func(i *site.Interface) { i.Uplink.MTU = 9000 }),
		line(func(i *site.Interface) { i.Uplink.MTU = 1500 }), true},
	{"translated-twice", secondLine("net-clinic"), secondLine("net-none"), false},
	{"translates-nobody", line(func(i *site.Interface) { i.Uplink.Translates = nil }),
		line(func(i *site.Interface) { i.Uplink.Translates = []string{"net-clinic"} }), true},
	{"admin-from-outside", line(func(i *site.Interface) { i.Permits = []string{"ping", "administration"} }),
		line(func(i *site.Interface) { i.Permits = []string{"ping"} }), true},
	{"admin-from-outside", func(s *site.Site) {
		iface(s, "if-gw-1-lan-90").Permits = append(iface(s, "if-gw-1-lan-90").Permits, "administration")
	}, func(s *site.Site) {
		iface(s, "if-gw-1-lan-24").Permits = append(iface(s, "if-gw-1-lan-24").Permits, "administration")
	}, true},
	{"ntp-not-permitted", func(s *site.Site) { iface(s, "if-gw-1-lan-90").Permits = []string{"dhcp", "dns"} },
		both(func(s *site.Site) { iface(s, "if-gw-1-lan-90").Permits = []string{"dhcp", "dns"} },
			set("pool-waiting", 42, "192.0.2.123")), true},
	{"split-outside-private", record(world, "x", "A", "127.0.0.1"), record(world, "x", "A", "203.0.113.45"), true},
	{"split-outside-private", record(world, "x", "AAAA", "fd00::1"), record(world, "x", "AAAA", "2001:db8::1"), true},
	{"split-outside-private", record(world, "x", "AAAA", "fe80::1"), record(world, "x", "AAAA", "2001:db8::2"), true},
	{"spf-twice", both(record(world, "mail2", "TXT", `"v=spf1 -all"`), record(world, "*.x", "TXT", `"v=spf1 -all"`),
		func(s *site.Site) {
			z := zoneOf(s, world)
			z.Records = append(z.Records, &site.Record{ID: "rec-spf", Owner: "mail2", Type: "TXT",
				Data: `"v=spf1 mx -all"`})
		}), both(record(world, "mail2", "TXT", `"v=spf1 -all"`), record(world, "*.x", "TXT", `"v=spf1 -all"`)), true},
	{"key-without-secret", func(s *site.Site) { zoneOf(s, world).Key, zoneOf(s, world).Secret = "k.larkrise", "" },
		func(s *site.Site) { zoneOf(s, world).Key, zoneOf(s, world).Secret = "k.larkrise", "k" }, false},
	{"zone-server-private", func(s *site.Site) { zoneOf(s, world).Server.Address = addr("10.84.16.9") },
		func(s *site.Site) { zoneOf(s, world).Server.Address = addr("192.0.2.9") }, false},
	{"outside-not-ours", insideAndOut("198.51.100.77"), insideAndOut("203.0.113.45"), true},
	{"certificate-without-key", certified(""), certified("challenge.kelder"), false},
	{"service-base-missing", func(s *site.Site) { s.Services[0].Base = "nobody.deep.kelder.larkrise.example" },
		func(s *site.Site) { s.Services[0].Base = "edge" }, false},
	{"route-through-client", set("pool-imaging", 121, "0.0.0.0/0 via 10.84.20.30"),
		set("pool-imaging", 121, "0.0.0.0/0 via 10.84.20.1"), true},
	{"route-through-client", set("pool-imaging", 121, "10.84.20.0/26 via 10.84.20.1, 0.0.0.0/0 via 10.84.20.1"),
		set("pool-imaging", 121, "10.84.20.0/26 via 0.0.0.0, 0.0.0.0/0 via 10.84.20.1"), true},
	{"hostname-for-many", set("pool-imaging", 12, "scanner"), func(s *site.Site) {
		r := reservationOf(s, "res-xray-plate")
		r.Options = append(r.Options, site.Option{Code: 12, Value: "scanner"})
	}, true},
	{"option-names-unusable", set("pool-imaging", 6, "127.0.0.1"), set("pool-imaging", 6, "10.84.20.1"), true},
	{"option-names-unusable", set("pool-imaging", 6, "0.0.0.0"), set("pool-imaging", 6, "192.0.2.53"), true},
	{"dns-only-outside", set("pool-imaging", 6, "192.0.2.53, 198.51.100.53"),
		set("pool-imaging", 6, "10.84.16.10, 192.0.2.53"), true},
	{"fixed-mac-twice", func(s *site.Site) {
		s.FixedDevices[1].MAC, s.FixedDevices[1].Network = s.FixedDevices[0].MAC, s.FixedDevices[0].Network
	}, func(s *site.Site) {
		s.FixedDevices[1].MAC = address.MAC{0, 0, 94, 0, 83, 0xfe}
	}, false},
	{"known-twice", knows(0xee, 0xee), knows(0xee, 0xef), true},
}

// A dynamic name that uses the key of its whole zone is found by the rule on keys that are too wide.
func Test47AFollowingNameDoesNotUseTheZonesKey(t *testing.T) {
	s := scenario.Site("the-garret")
	z, ok := s.ZoneOf(s.Following[0].Name, site.Outside)
	assert.True(t, ok)
	of := func(key string) bool {
		s.Following[0].Key = key
		return slices.ContainsFunc(check.Site(s), func(f check.Finding) bool { return f.Rule == "ddns-key-too-wide" })
	}
	assert.False(t, of(s.Following[0].Key))
	assert.True(t, of(z.Key), "%s", z.Key)
}
