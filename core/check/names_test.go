package check_test

import (
	"net/netip"
	"slices"
	"strings"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
)

func resolver(s *site.Site) *site.Resolver { return &s.Resolvers[0] }
func zoneOf(s *site.Site, id string) *site.Zone {
	z, _ := s.Zone(id)
	return z
}

// record writes one by hand into a zone.
func record(zone, owner, typ, data string) func(*site.Site) {
	return func(s *site.Site) {
		z := zoneOf(s, zone)
		z.Records = append(z.Records, &site.Record{ID: "rec-x-" + strings.NewReplacer("*", "star", ".",
			"-").Replace(owner),
			Owner: owner, Type: typ, Data: data})
	}
}

func both(acts ...func(*site.Site)) func(*site.Site) {
	return func(s *site.Site) {
		for _, act := range acts {
			act(s)
		}
	}
}

func onResolver(change func(*site.Resolver)) func(*site.Site) {
	return func(s *site.Site) { change(resolver(s)) }
}

func told(code uint8, value string) func(*site.Site) {
	return func(s *site.Site) {
		s.Options = slices.DeleteFunc(s.Options, func(o site.Option) bool { return o.Code == code })
		s.Options = append(s.Options, site.Option{Code: code, Value: value})
	}
}

func without(id string) func(*site.Site) {
	return func(s *site.Site) {
		s.Zones = slices.DeleteFunc(s.Zones, func(z site.Zone) bool { return z.ID == id })
	}
}

const (
	home    = "zone-kelder"
	world   = "zone-larkrise"
	reverse = "zone-kelder-20"
)

// nameCases are the rules about names, each with what breaks it and a near miss.
var nameCases = []ruleCase{
	{"challenge-key-wide", certificate("edge.kelder.larkrise.example", "lithos.larkrise"),
		certificate("edge.kelder.larkrise.example", "challenge.kelder"), true},
	{"challenge-nowhere", certificate("edge.elsewhere.example", ""), certificate("*.kelder.larkrise.example", ""),
		false},
	{"record-invalid", record(home, "x", "A", "nowhere"), record(home, "x", "A", "10.84.20.14"), true},
	{"name-too-long", record(home, strings.Repeat("a23456789.", 23)+"x", "A", "10.84.20.14"),
		record(home, strings.Repeat("a23456789.", 22)+"x", "A", "10.84.20.14"), true},
	{"name-lost", record(home, "pbx", "A", "10.84.16.131"), record(home, "pbx", "AAAA", "2001:db8::1"), true},
	{"name-two-addresses", func(s *site.Site) { s.Reservations[1].Name = s.Reservations[0].Name },
		record(home, "pbx", "AAAA", "2001:db8::1"), false},
	{"alias-with-other-data", both(record(home, "x", "CNAME", "edge"), record(home, "x", "TXT", `"y"`)),
		record(home, "x", "CNAME", "edge"), true},
	{"alias-loop", both(record(home, "x", "CNAME", "y"), record(home, "y", "CNAME", "x")),
		both(record(home, "x", "CNAME", "y"), record(home, "y", "CNAME", "edge")), true},
	{"alias-target-missing", record(home, "x", "CNAME", "gone.deep.kelder.larkrise.example"),
		record(home, "x", "CNAME", "any.lab.kelder.larkrise.example"), true},
	{"reverse-missing", without(reverse), func(s *site.Site) { zoneOf(s, reverse).Name = "84.10.in-addr.arpa" }, true},
	{"reverse-differs", record(reverse, "14", "PTR", "old-reader.kelder.larkrise.example"),
		record(reverse, "14", "PTR", "plate-reader.kelder.larkrise.example"), true},
	{"reverse-two-names", both(record(reverse, "14", "PTR", "plate-reader.kelder.larkrise.example"),
		func(s *site.Site) {
			z := zoneOf(s, reverse)
			z.Records = append(z.Records, &site.Record{ID: "rec-x-2", Owner: "14", Type: "PTR",
				Data: "dns.kelder.larkrise.example"})
		}), record(reverse, "14", "PTR", "plate-reader.kelder.larkrise.example"), true},
	{"record-outside-site", record(home, "x", "A", "10.97.0.9"), record(home, "x", "A", "192.0.2.9"), true},
	{"record-into-pool", record(home, "x", "A", "10.84.20.30"), record(home, "x", "A", "10.84.20.14"), false},
	{"domain-multicast", func(s *site.Site) { s.Domain = "kelder.local" },
		func(s *site.Site) { s.Domain = "local.larkrise.example" }, false},
	{"domain-not-ours", func(s *site.Site) { s.Domain = "kelder.lan" },
		func(s *site.Site) { s.Domain = "lan.larkrise.example" }, false},
	{"search-domain-misses-zone", told(119, "kelder.larkrise.example, elsewhere.example"),
		told(119, "kelder.larkrise.example, moss.larkrise.example"), false},
	{"short-names-leak", onResolver(func(r *site.Resolver) { r.KeepsShort = false }),
		onResolver(func(r *site.Resolver) { r.KeepsShort, r.Forwarders = false, nil }), true},
	{"private-reverse-leaks", onResolver(func(r *site.Resolver) { r.KeepsPrivate = false }),
		onResolver(func(r *site.Resolver) { r.KeepsPrivate, r.Enabled = false, false }), true},
	{"no-forwarder", onResolver(func(r *site.Resolver) { r.Forwarders = nil }),
		onResolver(func(r *site.Resolver) { r.Forwarders = r.Forwarders[:1] }), false},
	{"forwarder-loops", onResolver(func(r *site.Resolver) { r.Forwarders[0].Address = addr("10.84.20.1") }),
		onResolver(func(r *site.Resolver) { r.Forwarders[0].Address = addr("10.84.16.2") }), true},
	{"resolver-not-listening", onResolver(func(r *site.Resolver) {
		r.Networks = []string{"net-clinic",
			"net-waiting"}
	}),
		onResolver(func(r *site.Resolver) { r.Networks = []string{"net-bench", "net-waiting"} }), true},
	{"resolver-not-permitted", func(s *site.Site) { iface(s, "if-gw-1-lan-66").Permits = []string{"dhcp"} },
		func(s *site.Site) { iface(s, "if-gw-1-lan-66").Permits = nil }, true},
	{"asker-not-allowed", onResolver(func(r *site.Resolver) {
		r.Askers = []netip.Prefix{prefix("10.84.16.0/22"), prefix("10.84.24.0/22")}
	}), onResolver(func(r *site.Resolver) { r.Askers = []netip.Prefix{prefix("10.84.16.0/20")} }), true},
	{"resolver-address-moves", told(6, "10.84.20.30"), told(6, "10.84.20.14"), false},
	{"split-inside-missing", record(world, "portal.kelder", "A", "203.0.113.45"),
		record(world, "portal", "A", "203.0.113.45"), true},
	{"split-outside-private", record(world, "portal", "A", "10.84.16.20"), record(world, "portal", "A",
		"203.0.113.45"), true},
	{"service-outside-only", func(s *site.Site) { s.Services[0].Inside = false },
		both(record(home, "records", "A", "10.84.16.20"), func(s *site.Site) { s.Services[0].Inside = false }), true},
	{"service-nowhere", func(s *site.Site) { s.Services[0].Name, s.Services[0].Outside = "jelly.other.example.", true },
		func(s *site.Site) {
			s.Services[0].Name, s.Services[0].Outside = "jelly.other.example.", true
			s.Zones = append(s.Zones, site.Zone{ID: "zone-o", Name: "other.example", Side: site.Inside},
				site.Zone{ID: "zone-w", Name: "other.example", Side: site.Outside})
		}, false},
	{"zone-shadows-domain", zoneInside("other.example"), zoneInside("nas.other.example"), true},
	{"zone-shadows-domain", zoneInside("other.example"), func(s *site.Site) {
		zoneInside("other.example")(s)
		s.Zones[len(s.Zones)-1].Partial = true
	}, true},
	{"zone-shadows-domain", zoneInside("other.example"), func(s *site.Site) {
		zoneInside("other.example")(s)
		s.Zones = append(s.Zones, site.Zone{ID: "zone-y", Name: "other.example", Side: site.Outside})
	}, true},
	{"zone-shadows-domain", zoneInside("other.example"), zoneInside("other.home.arpa"), true},
	{"following-hidden-inside", func(s *site.Site) {
		follows(func(w *site.Following) { w.Name = "away.kelder.larkrise.example" })(s)
	}, func(s *site.Site) {
		follows(func(w *site.Following) { w.Name = "away.kelder.larkrise.example" })(s)
		record(home, "away", "A", "10.84.20.1")(s)
	}, true},
	{"following-hidden-inside", func(s *site.Site) {
		follows(func(w *site.Following) { w.Name = "away.kelder.larkrise.example" })(s)
	}, func(s *site.Site) {
		follows(func(w *site.Following) { w.Name = "away.kelder.larkrise.example" })(s)
		z, _ := s.Zone(home)
		z.Partial = true
	}, true},
	{"lease-names-off", onResolver(func(r *site.Resolver) { r.LeaseNames = "" }),
		onResolver(func(r *site.Resolver) { r.LeaseNames = site.LeaseNamesReserved }), true},
	{"cache-above-memory", func(s *site.Site) { s.Devices[0].Memory, resolver(s).CacheEntries = 64, 17_000 },
		func(s *site.Site) { s.Devices[0].Memory, resolver(s).CacheEntries = 64, 16_000 }, true},
	{"tls-name-missing", onResolver(func(r *site.Resolver) { r.TLSName = "" }),
		onResolver(func(r *site.Resolver) { r.TLSName, r.TLSPort = "", 0 }), true},
	{"ttl-beyond-lease", onResolver(func(r *site.Resolver) { r.LocalTTL = 7201 }),
		onResolver(func(r *site.Resolver) { r.LocalTTL = 7200 }), true},
	{"open-resolver", onResolver(func(r *site.Resolver) {
		r.Askers = []netip.Prefix{prefix("10.84.16.0/20"), prefix("0.0.0.0/0")}
	}), onResolver(func(r *site.Resolver) { r.Askers = []netip.Prefix{prefix("10.0.0.0/8")} }), true},
}

// tells is a site whose clients are told some name servers.
func tells(servers string) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, _ *check.Surroundings) { told(6, servers)(s) }
}

// zoneInside is a zone beside the site's own with a record.
func zoneInside(name string) func(*site.Site) {
	return func(s *site.Site) {
		s.Zones = append(s.Zones, site.Zone{ID: "zone-x", Name: name, Side: site.Inside, Records: []*site.Record{
			{ID: "rec-x", Owner: "nas", Type: "A", Data: "10.84.20.40"},
			{ID: "rec-y", Owner: "nas", Type: "MX", Data: "10 nas"}}})
	}
}

// certificate is a certificate of a site with a key.
func certificate(name, key string) func(*site.Site) {
	return func(s *site.Site) {
		s.Certificates = []site.Certificate{{ID: "cert-x", Name: name, Key: key}}
	}
}

// nameAroundCases are those that need the other sites.
var nameAroundCases = []aroundCase{
	{"outside-name-twice", func(_ *site.Site, w *check.Surroundings) {
		w.Neighbors = []check.Neighbor{{Name: "Hallin Road", Outside: []string{"www.larkrise.example"}}}
	}, func(_ *site.Site, w *check.Surroundings) {
		w.Neighbors = []check.Neighbor{{Name: "Hallin Road", Outside: []string{"hallin.larkrise.example"}}}
	}, true},
	{"dns-of-nobody", tells("10.84.20.1, 192.168.77.53"), tells("10.84.20.1, 203.0.113.53"), true},
	{"dns-of-nobody", tells("10.84.20.1, 192.168.77.53"), func(s *site.Site, w *check.Surroundings) {
		tells("10.84.20.1, 192.168.77.53")(s, w)
		w.Neighbors = []check.Neighbor{{Name: "Hallin Road", Networks: []site.Network{{Name: "Desk",
			Prefix: prefix("192.168.77.0/24")}}}}
	}, true},
	{"outside-differs", func(s *site.Site, w *check.Surroundings) {
		w.AtServer = toldOutside(s, "203.0.113.99")
	}, func(s *site.Site, w *check.Surroundings) {
		w.AtServer = toldOutside(s, "203.0.113.80")
	}, true},
	{"port-taken", func(s *site.Site, w *check.Surroundings) {
		w.Programs = map[string][]yang.Program{s.Resolvers[0].Device: {{Name: "hostname-cache", Port: 53, Runs: true}}}
	}, func(s *site.Site, w *check.Surroundings) {
		w.Programs = map[string][]yang.Program{s.Resolvers[0].Device: {{Name: "announcer", Port: 5353, Runs: true}}}
	}, true},
	{"zone-elsewhere", func(s *site.Site, w *check.Surroundings) {
		s.Zones = append(s.Zones, site.Zone{ID: "zone-x", Name: "hallin.larkrise.example", Side: site.Inside})
		w.Neighbors = []check.Neighbor{{Name: "Hallin Road", Domain: "hallin.larkrise.example"}}
	}, func(s *site.Site, w *check.Surroundings) {
		s.Zones = append(s.Zones, site.Zone{ID: "zone-x", Name: "lab.larkrise.example", Side: site.Inside})
		w.Neighbors = []check.Neighbor{{Name: "Hallin Road", Domain: "hallin.larkrise.example"}}
	}, true},
}

// toldOutside is what the world is told at a clean site, but for the address of www, and a name of the
// provider's own.
func toldOutside(s *site.Site, www string) map[string][]zone.Record {
	p := compile.Names(s).Outside[0]
	list := append(compile.PublishedRecords(p), zone.Record{Owner: "status", Type: "A", Data: "203.0.113.54", TTL: 60})
	for i := range list {
		if list[i].Owner == "www" {
			list[i].Data = www
		}
	}
	return map[string][]zone.Record{p.Zone.ID: list}
}
