package check_test

import (
	"net/netip"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/zone"
)

// follows lets a name of a clean site follow its line, with a key of its own, as changed.
func follows(change func(*site.Following)) func(*site.Site) {
	return func(s *site.Site) {
		w := site.Following{ID: "following-x", Name: "away.larkrise.example", Enabled: true, Key: "away.larkrise"}
		for _, d := range s.Devices {
			for _, i := range d.Interfaces {
				if i.Kind == site.Uplink {
					w.Uplink = i.ID
				}
			}
		}
		change(&w)
		s.Following = append(s.Following, w)
	}
}

func asItIs(*site.Following) {}

var followingCases = []ruleCase{
	{"ddns-key-too-wide", follows(func(w *site.Following) { w.Key = "lithos.larkrise" }), follows(asItIs), true},
	{"ddns-ttl-long", follows(func(w *site.Following) { w.TTL = 901 }),
		follows(func(w *site.Following) { w.TTL = 900 }), true},
	{"ddns-too-often", follows(func(w *site.Following) { w.Least = 29 }),
		follows(func(w *site.Following) { w.Least = 30 }), true},
	{"ddns-two-writers", follows(func(w *site.Following) { w.Name = "www.larkrise.example" }), follows(asItIs), true},
	{"ddns-two-writers", func(s *site.Site) {
		follows(asItIs)(s)
		follows(func(w *site.Following) { w.ID = "following-y" })(s)
	}, func(s *site.Site) {
		follows(asItIs)(s)
		follows(func(w *site.Following) { w.ID, w.Enabled = "following-y", false })(s)
	}, true},
	{"ddns-outside-alias", func(s *site.Site) {
		z, _ := s.Zone("zone-larkrise")
		z.Records = append(z.Records, &site.Record{ID: "rec-x", Owner: "away", Type: "CNAME", Data: "www"})
		follows(asItIs)(s)
	}, func(s *site.Site) {
		z, _ := s.Zone("zone-larkrise")
		z.Records = append(z.Records, &site.Record{ID: "rec-x", Owner: "away", Type: "TXT", Data: `"x"`})
		follows(asItIs)(s)
	}, true},
	{"ddns-nobody-keeps", follows(func(w *site.Following) { w.Key = "" }), follows(asItIs), true},
	{"ddns-nobody-keeps", follows(func(w *site.Following) { w.Name = "away.nowhere.example" }),
		follows(func(w *site.Following) { w.Name, w.Enabled = "away.nowhere.example", false }), true},
}

// lineHas is a site with a following name whose line has an address, and of which the world is told another.
func lineHas(line, told string) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, w *check.Surroundings) {
		follows(asItIs)(s)
		w.Lines = map[string]netip.Addr{s.Following[0].Uplink: addr(line)}
		if told == "" {
			return
		}
		p := compile.Names(s).Outside[0]
		w.Told = map[string][]zone.Record{p.Zone.ID: append(compile.Held(p), zone.Record{Owner: "away", Type: "A",
			Data: told, TTL: 120})}
	}
}

func nothingTold(line string) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, w *check.Surroundings) {
		lineHas(line, line)(s, w)
		p := compile.Names(s).Outside[0]
		w.Told = map[string][]zone.Record{p.Zone.ID: compile.Held(p)}
	}
}

var followingAroundCases = []aroundCase{
	{"ddns-private-address", lineHas("192.168.1.7", ""), lineHas("9.9.9.9", ""), true},
	{"ddns-private-address", lineHas("203.0.113.7", ""), func(s *site.Site, w *check.Surroundings) {
		lineHas("203.0.113.7", "")(s, w)
		w.Documents = true
	}, true},
	{"ddns-shared-address", lineHas("100.72.9.4", ""), lineHas("100.128.9.4", ""), true},
	{"ddns-record-missing", nothingTold("9.9.9.9"), lineHas("9.9.9.9", "9.9.9.9"), false},
	{"ddns-stale", lineHas("9.9.9.9", "9.9.9.8"), lineHas("9.9.9.9", "9.9.9.9"), false},
}
