package check_test

import (
	"net/netip"
	"time"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/observed"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
)

// reading is how gw-1 was read, without anything amiss.
func reading(change func(r *check.Reading)) func(*site.Site, *check.Surroundings) {
	return func(_ *site.Site, w *check.Surroundings) {
		r := check.Reading{ReadAt: &moment, At: addr("10.84.16.1")}
		change(&r)
		w.Readings = map[string]check.Reading{"dev-gw-1": r}
	}
}

// answering are two machines at one address.
func answering(second string) func(*site.Site, *check.Surroundings) {
	return func(_ *site.Site, w *check.Surroundings) {
		one := observed.Sighting{Address: addr("10.84.18.200"), MAC: address.MAC{0, 0, 0x5e, 0, 0x53, 0xc4},
			Source: observed.Neighbour, Device: "gw-1", First: moment.Add(-time.Hour), Last: moment, Live: true}
		two := one
		two.MAC, two.Address = address.MAC{0, 0, 0x5e, 0, 0x53, 0xc5}, addr(second)
		w.Seen = []observed.Sighting{one, two}
	}
}

// stray is a server that gw-1 heard on the clinic floor.
func stray(at string) func(*site.Site, *check.Surroundings) {
	return func(_ *site.Site, w *check.Surroundings) {
		w.Strays = []check.Stray{{Address: addr(at), MAC: address.MAC{0, 0, 0x5e, 0, 0x53, 0xde}, Device: "dev-gw-1",
			Interface: "lan.24", First: moment, Last: moment}}
	}
}

// underWay is a move of the clinic floor.
func underWay(change func(m *check.Moving)) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, w *check.Surroundings) {
		m := check.Moving{ID: 7, Site: s.ID, Title: "The floor", Networks: []string{"net-clinic"}}
		change(&m)
		w.Moves = []check.Moving{m}
	}
}

func prefixes(texts ...string) []netip.Prefix {
	var out []netip.Prefix
	for _, t := range texts {
		out = append(out, netip.MustParsePrefix(t))
	}
	return out
}

// namesOld has an option name a router that the clinic floor had before it moved.
func namesOld(swapped bool) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, w *check.Surroundings) {
		s.Options = append(s.Options, site.Option{Code: 42, Value: "10.84.30.1"})
		underWay(func(m *check.Moving) { m.Old, m.Swapped = prefixes("10.84.30.0/24"), swapped })(s, w)
	}
}

// worldRead is the outside zone as its server had it.
func worldRead(records ...zone.Record) func(*site.Site, *check.Surroundings) {
	return func(_ *site.Site, w *check.Surroundings) { w.AtServer = map[string][]zone.Record{world: records} }
}

var managementCases = []aroundCase{
	{"device-at-two-sites", func(_ *site.Site, w *check.Surroundings) {
		w.Elsewhere = map[string][]string{"dev-gw-1": {"gw-yard of The yard"}}
	}, func(_ *site.Site, w *check.Surroundings) {
		w.Elsewhere = map[string][]string{"dev-none": {"gw-yard of The yard"}}
	}, false},
	{"zone-without-server", worldRead(zone.Record{Owner: "www", Type: "A", Data: "203.0.113.80"}),
		worldRead(zone.Record{Owner: zone.Apex, Type: "NS", Data: "ns.example."}), false},
	{"drifted", reading(func(r *check.Reading) {
		r.Drifted, r.Cuts = 1, []check.Cut{{Network: "net-clinic", Rung: "lease", Says: "lan.24 blocks DHCP"}}
	}), reading(func(*check.Reading) {}), false},
	{"drifted", reading(func(r *check.Reading) {
		r.Cuts = []check.Cut{{Network: "net-clinic", Rung: "lease", Says: "lan.24 blocks DHCP"}}
	}), reading(func(*check.Reading) {}), false},
	{"move-overlap", func(s *site.Site, w *check.Surroundings) {
		underWay(func(m *check.Moving) { m.New = prefixes("10.84.33.0/24") })(s, w)
		w.Neighbors = []check.Neighbor{{Name: "Hallin Road", Networks: []site.Network{{Name: "Desk",
			Prefix: netip.MustParsePrefix("10.84.32.0/22")}}}}
	}, underWay(func(m *check.Moving) { m.New = prefixes("10.84.33.0/24") }), false},
	{"move-strands", underWay(func(m *check.Moving) { m.Stranded = 2 }),
		underWay(func(m *check.Moving) { m.Stranded, m.Swapped = 2, true }), false},
	{"move-path-late", underWay(func(m *check.Moving) { m.Console = "After step 3: sw-core cannot be reached" }),
		underWay(func(m *check.Moving) {}), false},
	{"move-left-behind", namesOld(true), namesOld(false), false},
	{"move-unfinished",
		underWay(func(m *check.Moving) { m.Overdue = "Swap should have been landed by 4 May 02:00 UTC" }),
		underWay(func(m *check.Moving) {}), false},
	{"address-answered-twice", answering("10.84.18.200"), answering("10.84.18.201"), false},
	{"domain-at-two-sites", func(s *site.Site, w *check.Surroundings) {
		w.Neighbors = []check.Neighbor{{Name: "Hallin Road", Domain: s.Domain}}
	}, func(s *site.Site, w *check.Surroundings) {
		w.Neighbors = []check.Neighbor{{Name: "Hallin Road", Domain: "hallin." + s.Domain}}
	}, false},
	{"device-unread", reading(func(r *check.Reading) { r.Problem = "the device does not answer" }),
		reading(func(*check.Reading) {}), false},
	{"drifted", reading(func(r *check.Reading) { r.Drifted, r.DriftedAt = 3, &moment }),
		reading(func(r *check.Reading) { r.Drifted = 0 }), false},
	{"management-path-moves", reading(func(r *check.Reading) { r.At = addr("10.84.16.9") }),
		reading(func(r *check.Reading) { r.At = addr("127.0.0.1") }), false},
	{"unknown-server", stray("10.84.18.250"), stray("10.84.18.1"), false},
	{"off-standard", func(s *site.Site, w *check.Surroundings) {
		kept := s.Standard
		kept.Options = []site.Option{{Code: 51, Value: "4 hours"}}
		w.Shared = check.SharedLevels{Standard: &kept}
	}, func(s *site.Site, w *check.Surroundings) {
		kept, customer := s.Standard, s.Customer
		w.Shared = check.SharedLevels{Standard: &kept, Customer: &customer}
	}, true},
	{"port-unknown", reading(func(r *check.Reading) {
		r.Interfaces = []yang.Interface{{Name: "p1", Type: yang.TypeEthernet, Enabled: true},
			{Name: "p9", Type: yang.TypeEthernet, Enabled: true}}
	}), reading(func(r *check.Reading) {
		r.Interfaces = []yang.Interface{{Name: "p1", Type: yang.TypeEthernet, Enabled: true}}
	}), true},
}
