package check_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/dynamicnames"
	"lithos/core/scenario"
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
}

// lineHas is a site with a dynamic name whose line has an address, and of which the world is told another.
func lineHas(line, told string) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, w *check.Surroundings) {
		follows(asItIs)(s)
		w.Lines = map[string]dynamicnames.Line{s.Following[0].Uplink: dynamicnames.Line{}.With(addr(line))}
		if told == "" {
			return
		}
		p := compile.Names(s).Outside[0]
		w.AtServer = map[string][]zone.Record{p.Zone.ID: append(compile.PublishedRecords(p), zone.Record{Owner: "away",
			Type: "A",
			Data: told, TTL: 120})}
	}
}

func nothingTold(line string) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, w *check.Surroundings) {
		lineHas(line, line)(s, w)
		p := compile.Names(s).Outside[0]
		w.AtServer = map[string][]zone.Record{p.Zone.ID: compile.PublishedRecords(p)}
	}
}

// kept is a site with a dynamic name, as changed, whose devices Lithos reaches.
func kept(change func(*site.Following)) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, w *check.Surroundings) {
		follows(change)(s)
		w.Reached = map[string]bool{}
		for _, d := range s.Devices {
			w.Reached[d.ID] = true
		}
	}
}

// keyEnds is a site whose key of a dynamic name ends so long after the day.
func keyEnds(after time.Duration) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, w *check.Surroundings) {
		kept(asItIs)(s, w)
		z, _ := s.ZoneOf("away.larkrise.example", site.Outside)
		w.Keys = map[string][]dynamicnames.Key{z.ID: {{Name: "away.larkrise",
			Limits: dynamicnames.Limits{Ends: w.Now.Add(after)}}}}
	}
}

// keysRead is a site with a dynamic name whose provider has told these keys.
func keysRead(names ...string) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, w *check.Surroundings) {
		kept(asItIs)(s, w)
		z, _ := s.ZoneOf("away.larkrise.example", site.Outside)
		z.KeysAt = "https://names.provider.example"
		w.Keys = map[string][]dynamicnames.Key{z.ID: {}}
		for _, name := range names {
			w.Keys[z.ID] = append(w.Keys[z.ID], dynamicnames.Key{Name: name})
		}
	}
}

// lineByHand is a site with a line of a method that has 9.9.9.9, and a record by hand of an address.
func lineByHand(method, address string) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, w *check.Surroundings) {
		w.Lines = map[string]dynamicnames.Line{}
		for d := range s.Devices {
			for k := range s.Devices[d].Interfaces {
				if i := &s.Devices[d].Interfaces[k]; i.Kind == site.Uplink {
					i.Uplink.Method = method
					w.Lines[i.ID] = dynamicnames.Line{}.With(addr("9.9.9.9"))
				}
			}
		}
		z, _ := s.ZoneOf("cloud.larkrise.example", site.Outside)
		z.Records = append(z.Records, &site.Record{ID: "rec-cloud", Owner: "cloud", Type: "A", Data: address})
	}
}

// hasBoth is a site whose dynamic name has both addresses of its line, and is told one of each.
func hasBoth(line6, told6 string) func(*site.Site, *check.Surroundings) {
	return func(s *site.Site, w *check.Surroundings) {
		lineHas("9.9.9.9", "9.9.9.9")(s, w)
		s.Following[0].Addresses = site.BothFamilies
		line := w.Lines[s.Following[0].Uplink]
		w.Lines[s.Following[0].Uplink] = line.With(addr(line6))
		for id := range w.AtServer {
			w.AtServer[id] = append(w.AtServer[id], zone.Record{Owner: "away", Type: "AAAA", Data: told6, TTL: 120})
		}
	}
}

var followingAroundCases = []aroundCase{
	{"ddns-private-address", lineHas("192.168.1.7", ""), lineHas("9.9.9.9", ""), true},
	{"ddns-private-address", lineHas("203.0.113.7", ""), func(s *site.Site, w *check.Surroundings) {
		lineHas("203.0.113.7", "")(s, w)
		w.Documents = true
	}, true},
	{"ddns-private-address", hasBoth("fd00::7", "fd00::7"), hasBoth("2606::7", "2606::7"), true},
	{"ddns-shared-address", lineHas("100.72.9.4", ""), lineHas("100.128.9.4", ""), true},
	{"ddns-record-missing", nothingTold("9.9.9.9"), lineHas("9.9.9.9", "9.9.9.9"), false},
	{"ddns-stale", lineHas("9.9.9.9", "9.9.9.8"), lineHas("9.9.9.9", "9.9.9.9"), false},
	{"ddns-stale", hasBoth("2606::7", "2606::8"), hasBoth("2606::7", "2606::7"), false},
	{"ddns-key-ending", keyEnds(13 * 24 * time.Hour), keyEnds(15 * 24 * time.Hour), false},
	{"ddns-key-ending", keyEnds(-time.Hour), kept(asItIs), false},
	{"ddns-key-gone", keysRead("other"), keysRead("away.larkrise"), false},
	{"ddns-key-gone", keysRead("other"), func(s *site.Site, w *check.Surroundings) {
		keysRead("other")(s, w)
		w.Keys = nil
	}, false},
	{"key-gone", keysRead("away.larkrise"), keysRead("away.larkrise", "lithos.larkrise", "challenge.kelder"), false},
	{"key-gone", func(s *site.Site, w *check.Surroundings) {
		keysRead("away.larkrise", "lithos.larkrise")(s, w)
		certificate("www.larkrise.example", "away.www")(s)
	}, func(s *site.Site, w *check.Surroundings) {
		keysRead("away.larkrise", "lithos.larkrise")(s, w)
		certificate("www.larkrise.example", "away.larkrise")(s)
	}, false},
	{"changing-line-by-hand", lineByHand(site.ByDHCP, "9.9.9.9"), lineByHand(site.ByDHCP, "9.9.9.8"), true},
	{"changing-line-by-hand", lineByHand(site.ByPPPoE, "9.9.9.9"), lineByHand(site.ByFixed, "9.9.9.9"), true},
	{"ddns-nobody-keeps", kept(func(w *site.Following) { w.Key = "" }), kept(asItIs), true},
	{"ddns-nobody-keeps", kept(func(w *site.Following) { w.Name = "away.nowhere.example" }),
		kept(func(w *site.Following) { w.Name, w.Enabled = "away.nowhere.example", false }), true},
	{"ddns-nobody-keeps", kept(func(w *site.Following) { w.How = site.ByRequest }),
		kept(func(w *site.Following) { w.How, w.RequestTo = site.ByRequest, "https://names.provider.example" }), true},
	{"ddns-nobody-keeps", kept(func(w *site.Following) {
		w.Keeper, w.Source = site.KeptByDevice, site.AskedOutside
	}), kept(func(w *site.Following) {
		w.Keeper, w.Source, w.Asks = site.KeptByDevice, site.AskedOutside, "https://names.provider.example/v1/address"
	}), true},
	{"ddns-nobody-keeps", func(s *site.Site, w *check.Surroundings) {
		kept(asItIs)(s, w)
		clear(w.Reached)
	}, func(s *site.Site, w *check.Surroundings) {
		kept(func(w *site.Following) { w.Keeper = site.KeptByDevice })(s, w)
		clear(w.Reached)
	}, true},
}

// Where a provider takes no update because a record was written by hand, what cures it is a key that may take it over.
func Test28WhatCuresARecordByHand(t *testing.T) {
	s := scenario.Site("quill-street")
	w := s.Following[0]
	z, _ := s.ZoneOf(w.Name, site.Outside)
	owner, _ := zone.Relative(w.Name, z.Name)
	line := dynamicnames.Line{IPv4: netip.MustParseAddr("203.0.113.91")}
	with := check.Surroundings{Documents: true, Lines: map[string]dynamicnames.Line{w.Line(): line},
		AtServer: map[string][]zone.Record{z.ID: {{Owner: owner, Type: "A", Data: "203.0.113.1"}}},
		Sets:     map[string][]dynamicnames.Set{}}
	remedy := func() *check.Remedy {
		for _, f := range check.Following(s, with) {
			if f.Rule == "ddns-stale" {
				return f.Remedy
			}
		}
		return nil
	}
	require.NotNil(t, remedy())
	assert.Equal(t, check.Remedy{Title: "Write it again", Do: check.RemedySend, On: site.Ref{Kind: site.KindFollowing,
		ID: w.ID}},
		*remedy())
	with.Sets[z.ID] = []dynamicnames.Set{{Name: w.Name, Type: "A", Origin: "hand"}}
	require.NotNil(t, remedy())
	assert.Equal(t, check.RemedyKey, remedy().Do)
}
