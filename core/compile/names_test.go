package compile_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/scenario"
	"lithos/core/site"
)

var ip = netip.MustParseAddr

func prefixes(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

// named is a site whose domain is a zone, with a machine of each kind, a reverse zone and an outside zone.
func named() *site.Site {
	return &site.Site{ID: "s", Name: "Named", Domain: "moss.example",
		Networks: []site.Network{{ID: "n", Name: "Desks", Prefix: netip.MustParsePrefix("10.0.7.0/24")}},
		Devices: []site.Device{{ID: "r", Name: "RT", Kind: site.Router, Interfaces: []site.Interface{
			{ID: "i1", Name: "lan", Kind: site.Port, Addresses: prefixes("10.0.7.1/24")},
			{ID: "i2", Name: "wan", Kind: site.Uplink, Addresses: prefixes("192.0.2.2/30")}}}},
		FixedDevices: []site.FixedDevice{{ID: "f", Name: "door", Network: "n", Address: ip("10.0.7.9")},
			{ID: "q", Name: "quiet", Network: "n", Address: ip("10.0.7.10"), NoReverse: true},
			{ID: "b", Name: "not a name", Network: "n", Address: ip("10.0.7.11")},
			{ID: "d", Name: "a.b", Network: "n", Address: ip("10.0.7.12")}},
		Reservations: []*site.Reservation{{ID: "v", Name: "till", Network: "n", Address: ip("10.0.7.20")}},
		Zones: []site.Zone{{ID: "z", Name: "moss.example", Side: site.Inside, TTL: 300, Records: []*site.Record{
			{ID: "1", Owner: "www", Type: "A", Data: "10.0.7.9"}, {ID: "2", Owner: "nas", Type: "A", Data: "10.0.7.30"},
			{ID: "3", Owner: "till", Type: "A", Data: "10.0.7.99"}, {ID: "4", Owner: "*.dyn", Type: "A",
				Data: "10.0.7.31"},
			{ID: "5", Owner: "hush", Type: "A", Data: "10.0.7.32", NoReverse: true, TTL: 60},
			{ID: "6", Owner: "old", Type: "CNAME", Data: "nas"}, {ID: "7", Owner: "six", Type: "AAAA",
				Data: "2001:db8::1"}}},
			{ID: "x", Name: "7.0.10.in-addr.arpa", Side: site.Inside},
			{ID: "o", Name: "moss.example", Side: site.Outside, Records: []*site.Record{
				{ID: "8", Owner: "@", Type: "A", Data: "192.0.2.2"}, {ID: "9", Owner: "out", Type: "A",
					Data: "10.0.7.40"}}}},
	}
}

// told is every entry of a side, as "name type data".
func told(side []*compile.Pages) []string {
	out := []string{}
	for _, p := range side {
		for _, e := range p.Entries {
			out = append(out, strings.Join([]string{p.Whole(e), e.Type, e.Data}, " "))
		}
	}
	slices.Sort(out)
	return out
}

func hidden(side []*compile.Pages) []string {
	out := []string{}
	for _, p := range side {
		for _, e := range p.Hidden {
			out = append(out, strings.Join([]string{p.Whole(e), e.Type, e.Data, e.From.String()}, " "))
		}
	}
	return out
}

// Machines carry their names with their addresses, forward and reverse, but where a record written by hand has the
// name. An address that only a record names is named by it. Uplinks, wildcards and what is outside have no reverse
// name.
func TestNamesFollowAddresses(t *testing.T) {
	b := compile.Names(named())
	assert.Equal(t, []string{
		"1.7.0.10.in-addr.arpa PTR rt.moss.example", "30.7.0.10.in-addr.arpa PTR nas.moss.example",
		"9.7.0.10.in-addr.arpa PTR door.moss.example", "99.7.0.10.in-addr.arpa PTR till.moss.example",
	}, slices.DeleteFunc(told(b.Inside), func(s string) bool { return !strings.Contains(s, "PTR") }))
	forward := slices.DeleteFunc(told(b.Inside), func(s string) bool { return strings.Contains(s, "PTR") })
	assert.Equal(t, []string{"*.dyn.moss.example A 10.0.7.31", "door.moss.example A 10.0.7.9",
		"hush.moss.example A 10.0.7.32", "nas.moss.example A 10.0.7.30", "old.moss.example CNAME nas",
		"quiet.moss.example A 10.0.7.10", "rt.moss.example A 10.0.7.1", "six.moss.example AAAA 2001:db8::1",
		"till.moss.example A 10.0.7.99", "www.moss.example A 10.0.7.9"}, forward)
	assert.Equal(t, []string{"till.moss.example A 10.0.7.20 reservation:v"}, hidden(b.Inside))
	assert.Equal(t, []string{"moss.example A 192.0.2.2", "out.moss.example A 10.0.7.40"}, told(b.Outside))

	s := named()
	s.Domain = "elsewhere.example"
	assert.NotContains(t, strings.Join(told(compile.Names(s).Inside), "\n"), "door", "its domain is no zone of "+
		"the site")
	s.Domain = ""
	s.Zones[0].Name = ""
	assert.NotContains(t, strings.Join(told(compile.Names(s).Inside), "\n"), "door")
	s = named()
	s.Zones = s.Zones[1:2]
	assert.Empty(t, told(compile.Names(s).Inside), "a reverse name needs the forward one")
	s.Zones = nil
	assert.Empty(t, compile.Names(s).Inside)
}

// A PTR or an alias written by hand is the only name of its address; two machines that share one give it two.
func TestOneReverseNameByHand(t *testing.T) {
	for _, typ := range []string{"PTR", "CNAME"} {
		s := named()
		s.Zones[1].Records = []*site.Record{{ID: "p", Owner: "9", Type: typ, Data: "front.moss.example"}}
		b := compile.Names(s)
		assert.Contains(t, told(b.Inside), "9.7.0.10.in-addr.arpa "+typ+" front.moss.example")
		assert.Contains(t, hidden(b.Inside), "9.7.0.10.in-addr.arpa PTR door.moss.example fixed:f")
	}
	s := named()
	s.FixedDevices[1] = site.FixedDevice{ID: "twin", Name: "gate", Network: "n", Address: ip("10.0.7.9")}
	got := told(compile.Names(s).Inside)
	assert.Contains(t, got, "9.7.0.10.in-addr.arpa PTR door.moss.example")
	assert.Contains(t, got, "9.7.0.10.in-addr.arpa PTR gate.moss.example")
}

// A network smaller than a /24 has a reverse zone of its own, and each of its addresses an alias in the zone of the
// /24, which is made with it (RFC 2317).
func TestClasslessReverse(t *testing.T) {
	s := named()
	s.Zones[1].Name = "0/27.7.0.10.in-addr.arpa"
	got := told(compile.Names(s).Inside)
	assert.Contains(t, got, "9.0/27.7.0.10.in-addr.arpa PTR door.moss.example")
	assert.Contains(t, got, "9.7.0.10.in-addr.arpa CNAME 9.0/27.7.0.10.in-addr.arpa")
	assert.NotContains(t, strings.Join(got, "\n"), "99.", "it is outside of the /27")
	s.FixedDevices[1] = site.FixedDevice{ID: "twin", Name: "gate", Network: "n", Address: ip("10.0.7.9")}
	s.Zones = append(s.Zones, site.Zone{ID: "w", Name: "7.0.10.in-addr.arpa", Side: site.Inside,
		Records: []*site.Record{
			{ID: "p", Owner: "1", Type: "PTR", Data: "gw.moss.example"}}})
	b := compile.Names(s)
	got = told(b.Inside)
	assert.Contains(t, got, "9.7.0.10.in-addr.arpa CNAME 9.0/27.7.0.10.in-addr.arpa")
	assert.Contains(t, got, "1.7.0.10.in-addr.arpa PTR gw.moss.example")
	assert.Contains(t, got, "99.7.0.10.in-addr.arpa PTR till.moss.example", "what the /27 has not, the /24 has")
	assert.Contains(t, hidden(b.Inside), "1.7.0.10.in-addr.arpa CNAME 1.0/27.7.0.10.in-addr.arpa interface:i1")
	aliases := slices.DeleteFunc(got, func(s string) bool { return !strings.HasPrefix(s, "9.7.0.10.in-addr.arpa") })
	assert.Len(t, aliases, 1, "two names of an address are one alias")
}

// Services stand in the zones of the sides that they are for, unless another has the name.
func TestServicesAreAliases(t *testing.T) {
	s := named()
	service := func(id, name string, inside, outside bool) site.Service {
		return site.Service{ID: id, Name: name, Base: "nas.moss.example", Inside: inside, Outside: outside}
	}
	s.Services = []site.Service{service("1", "files", true, false), service("2", "shop", false, true),
		service("3", "both", true, true), service("4", "www", true, false), service("5", "files", true, false),
		service("6", "none", false, false), service("7", "app.elsewhere.example", true, true)}
	b := compile.Names(s)
	inside, outside := strings.Join(told(b.Inside), "\n"), strings.Join(told(b.Outside), "\n")
	for name, on := range map[string][2]bool{"files": {true, false}, "shop": {false, true}, "both": {true, true},
		"none": {false, false}} {
		assert.Equal(t, on[0], strings.Contains(inside, name+".moss.example CNAME nas"), name)
		assert.Equal(t, on[1], strings.Contains(outside, name+".moss.example CNAME nas"), name)
	}
	assert.Contains(t, inside, "www.moss.example A")
	assert.Equal(t, []string{"www.moss.example CNAME nas service:4", "files.moss.example CNAME nas service:5",
		"till.moss.example A 10.0.7.20 reservation:v"}, hidden(b.Inside))
}

// The longest zone has a name, and a name leads over its aliases to addresses.
func TestFindAndLeads(t *testing.T) {
	s := named()
	s.Zones = append(s.Zones, site.Zone{ID: "l", Name: "lab.moss.example", Side: site.Inside, Partial: true,
		Records: []*site.Record{
			{ID: "a", Owner: "@", Type: "A", Data: "10.0.7.50"}, {ID: "b", Owner: "far", Type: "CNAME",
				Data: "a.nowhere.example"},
			{ID: "c", Owner: "x", Type: "CNAME", Data: "y"}, {ID: "d", Owner: "y", Type: "CNAME", Data: "x"},
			{ID: "e", Owner: "gone", Type: "CNAME", Data: "not-there"}, {ID: "f", Owner: "txt", Type: "TXT",
				Data: "a"}}})
	b := compile.Names(s)
	in := b.Side(site.Inside)
	assert.Equal(t, "lab.moss.example", compile.Find(in, "pc.lab.moss.example").Name)
	assert.Equal(t, "lab.moss.example", compile.Find(in, "lab.moss.example").Name)
	assert.Equal(t, "moss.example", compile.Find(in, "lab2.moss.example").Name)
	assert.Nil(t, compile.Find(in, "moss.example.org"))
	assert.True(t, compile.Find(in, "lab.moss.example").Partial())
	assert.False(t, compile.Find(in, "moss.example").Partial())
	assert.False(t, (&compile.Pages{}).Partial())
	for name, want := range map[string]string{
		"old.moss.example": "[nas.moss.example] [10.0.7.30] true", "lab.moss.example": "[] [10.0.7.50] true",
		"far.lab.moss.example": "[a.nowhere.example] [] true", "gone.lab.moss.example": "[not-there.lab.moss.examp" +
			"le] [] true",
		"x.lab.moss.example": "[y.lab.moss.example x.lab.moss.example] [] true", "no.moss.example": "[] [] false",
		"nowhere.example": "[] [] false", "six.moss.example": "[] [2001:db8::1] true",
		"txt.lab.moss.example": "[] [] true",
	} {
		aliases, addresses, ok := compile.Leads(in, name)
		assert.Equal(t, want, fmt.Sprint(aliases, addresses, ok), name)
	}
	out := b.Side(site.Outside)
	require.Len(t, out, 1)
	assert.Equal(t, 2, out[0].Rows())
	p := compile.Find(in, "moss.example")
	assert.Equal(t, len(p.Entries)+1, p.Rows(), "what does not count is shown as well")
	assert.True(t, p.Has("www.moss.example", "A", "10.0.7.9"))
	assert.False(t, p.Has("www.moss.example", "A", "10.0.7.8"))
	assert.False(t, p.Has("www.moss.example", "TXT", "10.0.7.9"))
	assert.True(t, p.Has("nas.moss.example", "A", "10.0.7.30"))
	assert.Empty(t, p.Values("www.other.example", "A"))
}

// A wildcard stands for what is below it and not there; the nearest first, an alias before others.
func TestWildcardStandsForNames(t *testing.T) {
	s := named()
	s.Zones[0].Records = []*site.Record{{ID: "1", Owner: "*", Type: "A", Data: "10.0.7.1"}, {ID: "2", Owner: "*.a",
		Type: "A",
		Data: "10.0.7.2"}, {ID: "3", Owner: "*.c", Type: "A", Data: "10.0.7.3"}, {ID: "4", Owner: "*.c",
		Type: "CNAME", Data: "nas"}}
	p := compile.Find(compile.Names(s).Inside, "moss.example")
	for name, data := range map[string]string{"x.moss.example": "10.0.7.1", "x.a.moss.example": "10.0.7.2",
		"y.x.a.moss.example": "10.0.7.2", "x.b.moss.example": "10.0.7.1", "x.c.moss.example": "nas", "moss.example": "",
		"x.example": ""} {
		e, ok := p.Wildcard(name)
		assert.Equal(t, data != "", ok, name)
		assert.Equal(t, data, e.Data, name)
		assert.Equal(t, ok, p.Covers(name), name)
	}
}

// A name is kept for its own time, for its zone's, or for the usual one.
func TestTTLOfEntries(t *testing.T) {
	b := compile.Names(named())
	for name, ttl := range map[string]int{"hush.moss.example": 60, "www.moss.example": 300, "door.moss.example": 300} {
		p := compile.Find(b.Inside, name)
		e, ok := p.EntryOf(name)
		require.True(t, ok, name)
		assert.Equal(t, ttl, p.TTL(e), name)
	}
	e, _ := b.Outside[0].EntryOf("out.moss.example")
	assert.Equal(t, site.DefaultTTL, b.Outside[0].TTL(e))
	assert.Equal(t, site.DefaultTTL, (&compile.Pages{}).TTL(e))
}

// What names answer otherwise is told once a name and type, in order; which part a record is of does not matter.
func TestChangesOfAnswers(t *testing.T) {
	was, now := named(), named()
	now.Zones[0].Records[0].Data = "10.0.7.77"
	now.FixedDevices[0].ID = "another"
	now.Reservations = nil
	now.Zones[2].Records = append(now.Zones[2].Records, &site.Record{ID: "n", Owner: "new", Type: "TXT", Data: "a"})
	now.Zones[0].Records = append(now.Zones[0].Records, &site.Record{ID: "n", Owner: "nas", Type: "A",
		Data: "10.0.7.2"})
	b, a := compile.Names(was), compile.Names(now)
	var got []string
	for _, c := range compile.Changes(b, a) {
		got = append(got, fmt.Sprintf("%s %s %s: %s > %s", c.Side, c.Name, c.Type, c.Was, c.Now))
	}
	assert.Equal(t, []string{"inside 2.7.0.10.in-addr.arpa PTR:  > nas.moss.example",
		"inside 77.7.0.10.in-addr.arpa PTR:  > www.moss.example",
		"inside nas.moss.example A: 10.0.7.30 > 10.0.7.2, 10.0.7.30",
		"inside www.moss.example A: 10.0.7.9 > 10.0.7.77", "outside new.moss.example TXT:  > a"}, got)
	assert.Empty(t, compile.Changes(b, b))
	keys := a.List()
	assert.Len(t, slices.Compact(slices.Sorted(slices.Values(keys))), len(keys), "each once")
	assert.Contains(t, keys, compile.NameKey(site.Inside, "nas.moss.example", "A"))
}

// A device is given neither what stands beside an alias nor an alias at the top of its zone; of two aliases it is given
// the first. Several records of one part and type are counted.
func TestZoneOfADevice(t *testing.T) {
	s := named()
	s.Zones[0].Records = append(s.Zones[0].Records, &site.Record{ID: "e", Owner: "@", Type: "CNAME", Data: "nas"},
		&site.Record{ID: "g", Owner: "old", Type: "TXT", Data: "beside"}, &site.Record{ID: "h", Owner: "old",
			Type: "CNAME", Data: "zzz"},
		&site.Record{ID: "i", Owner: "old", Type: "A", Data: "10.0.7.3"})
	s.Devices[0].Interfaces[0].Addresses = prefixes("10.0.7.1/24", "10.0.8.1/24", "10.0.9.1/24")
	s.Resolvers = []site.Resolver{{ID: "res", Device: "r", Enabled: true}}
	c := compile.Resolver(s, "r", compile.Names(s))
	var ids []string
	for _, r := range c.Zone[0].Record {
		if r.Owner == "old" || r.Owner == "@" {
			ids = append(ids, r.ID+" "+r.Data)
		}
		if r.Owner == "rt" {
			ids = append(ids, r.ID)
		}
	}
	assert.Equal(t, []string{"record:6/CNAME nas", "interface:i1/A", "interface:i1/A/2", "interface:i1/A/3"}, ids)
	assert.Equal(t, []any{"moss.example", 300, "rt.moss.example", "hostmaster.moss.example", 3600, 600, 604800, 300},
		[]any{c.Zone[0].Name, c.Zone[0].TTL, c.Zone[0].Primary, c.Zone[0].Contact, c.Zone[0].Refresh, c.Zone[0].Retry,
			c.Zone[0].Expire, c.Zone[0].Negative})
	assert.Zero(t, compile.Resolver(s, "x", compile.Names(s)))
	s.Resolvers[0].Device = "x"
	assert.Zero(t, compile.Resolver(s, "x", compile.Names(s)), "a device that is not there")
	assert.Zero(t, compile.Resolver(s, "r", compile.Names(s)))
}

// What is published outside is what the server there can hold: records that cannot be read are left to a rule.
func TestPublishedRecords(t *testing.T) {
	s := named()
	s.Zones[2].Records = append(s.Zones[2].Records, &site.Record{ID: "bad", Owner: "bad", Type: "A", Data: "10.0.7"})
	var got []string
	for _, r := range compile.PublishedRecords(compile.Names(s).Outside[0]) {
		got = append(got, fmt.Sprint(r.Owner, " ", r.Type, " ", r.Data, " ", r.TTL))
	}
	assert.Equal(t, []string{fmt.Sprintf("@ A 192.0.2.2 %d", site.DefaultTTL), fmt.Sprintf("out A 10.0.7.40 %d",
		site.DefaultTTL)}, got)
}

// A resolver listens where its networks are, or on every address that is no uplink's, and answers its networks.
func TestWhereAResolverListens(t *testing.T) {
	s := named()
	s.Networks = append(s.Networks, site.Network{ID: "m", Prefix: netip.MustParsePrefix("10.0.8.1/24")})
	s.Devices[0].Interfaces = append(s.Devices[0].Interfaces, site.Interface{ID: "i3", Name: "lab", Kind: site.Port,
		Addresses: prefixes("10.0.8.1/24")}, site.Interface{ID: "i4", Name: "bare", Kind: site.Port})
	r := site.Resolver{ID: "res", Device: "r", Enabled: true, TLSPort: 853, ForwardFrom: "i2",
		LeaseNames: site.LeaseNamesOff}
	set := func() *settingsView {
		s.Resolvers = []site.Resolver{r}
		got := compile.Resolver(s, "r", compile.Names(s)).Settings
		return &settingsView{got.Interface, got.Asker, got.TLSPort, got.TLSName, got.Completion, got.LeaseDomain,
			got.ForwardFrom}
	}
	assert.Equal(t, &settingsView{[]string{"lan", "lab"}, prefixes("10.0.7.0/24", "10.0.8.0/24"), 0, "", "", "",
		"wan"}, set())
	r.Networks, r.Askers, r.TLSName, r.Completes, r.LeaseNames = []string{"m", "gone"}, prefixes("10.0.0.0/8"),
		"ns.moss.example", true, "all"
	r.ForwardFrom = "gone"
	assert.Equal(t, &settingsView{[]string{"lab"}, prefixes("10.0.0.0/8"), 853, "ns.moss.example", "moss.example",
		"moss.example", ""}, set())
}

type settingsView struct {
	Interface   []string
	Asker       []netip.Prefix
	TLSPort     int
	TLSName     string
	Completion  string
	LeaseDomain string
	ForwardFrom string
}

// A name that follows is given to its device where the device can keep it and somebody can be told; nothing less.
func TestOutsideNamesOfADevice(t *testing.T) {
	s := named()
	s.Zones[2].Server.Address = ip("192.0.2.53")
	whole := site.Following{ID: "k", Name: "home.moss.example", Uplink: "i2", Keeper: site.KeptByDevice, Key: "key",
		Secret:  "s",
		Enabled: true}
	s.Following = []site.Following{whole}
	got := compile.Outside(s, "r")
	require.Len(t, got.Name, 1)
	n := got.Name[0]
	assert.Equal(t, []any{"wan", ip("192.0.2.53"), 53, site.Algorithms[0], "", "", site.FollowingTTL,
		site.FollowingEvery,
		site.FollowingLeast}, []any{n.Interface, n.Server, n.Port, n.Algorithm, n.RequestTo, n.Asks, n.TTL, n.Every,
		n.Least})
	for what, change := range map[string]func(f *site.Following, s *site.Site){
		"Lithos keeps it":         func(f *site.Following, _ *site.Site) { f.Keeper = "" },
		"its uplink is gone":      func(f *site.Following, _ *site.Site) { f.Uplink = "gone" },
		"its uplink is a port":    func(f *site.Following, _ *site.Site) { f.Uplink = "i1" },
		"it has no key":           func(f *site.Following, _ *site.Site) { f.Key = "" },
		"it has no secret":        func(f *site.Following, _ *site.Site) { f.Secret = "" },
		"nobody is to be asked":   func(f *site.Following, _ *site.Site) { f.Source = site.AskedOutside },
		"it is in no zone":        func(f *site.Following, _ *site.Site) { f.Name = "home.garret.example" },
		"no request is described": func(f *site.Following, _ *site.Site) { f.How = site.ByRequest },
		"nobody is to be told":    func(_ *site.Following, s *site.Site) { s.Zones[2].Server.Address = netip.Addr{} },
		"a switch keeps none":     func(_ *site.Following, s *site.Site) { s.Devices[0].Kind = site.L3Switch },
		"nor does another":        func(_ *site.Following, s *site.Site) { s.Devices[0].Kind = site.L2Switch },
	} {
		f := whole
		s := named()
		s.Zones[2].Server.Address = ip("192.0.2.53")
		change(&f, s)
		s.Following = []site.Following{f}
		assert.Empty(t, compile.Outside(s, "r").Name, what)
	}
	assert.Empty(t, compile.Outside(s, "x").Name, "another device")
	whole.Source, whole.Asks, whole.How, whole.RequestTo = site.AskedOutside, "https://192.0.2.1/", site.ByRequest,
		"https://192.0.2.2/"
	s.Following = []site.Following{whole}
	n = compile.Outside(s, "r").Name[0]
	assert.Equal(t, []any{netip.Addr{}, "https://192.0.2.2/", "https://192.0.2.1/"}, []any{n.Server, n.RequestTo,
		n.Asks})
}

// Every zone that a device of the made-up sites is given can be checked by the device.
func TestScenarioZonesAreTaken(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		for _, d := range s.Devices {
			assert.NoError(t, compile.Device(s, d.ID).Validate(), "%s %s", name, d.Name)
		}
	}
}
