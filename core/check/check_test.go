package check_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/observed"
	"lithos/core/option"
	"lithos/core/scenario"
	"lithos/core/site"
)

func addr(s string) netip.Addr     { return netip.MustParseAddr(s) }
func prefix(s string) netip.Prefix { return netip.MustParsePrefix(s) }
func rng(a, b string) address.Range {
	return address.Range{From: addr(a), To: addr(b)}
}

// clean is Kelder Bridge without its planted mistake.
func clean() *site.Site {
	s := scenario.Site("kelder-bridge")
	s.FixedDevices = slices.DeleteFunc(s.FixedDevices, func(f site.FixedDevice) bool { return f.ID == "fix-label-prn" })
	return s
}

func network(s *site.Site, id string) *site.Network { n, _ := s.Network(id); return n }
func pool(s *site.Site, id string) *site.Pool       { p, _ := s.Pool(id); return p }
func iface(s *site.Site, id string) *site.Interface {
	for d := range s.Devices {
		for i := range s.Devices[d].Interfaces {
			if s.Devices[d].Interfaces[i].ID == id {
				return &s.Devices[d].Interfaces[i]
			}
		}
	}
	return nil
}

func rules(found []check.Finding) []string {
	var out []string
	for _, f := range found {
		if !slices.Contains(out, f.Rule) {
			out = append(out, f.Rule)
		}
	}
	return out
}

func fixed(s *site.Site, id string) *site.FixedDevice         { f, _ := s.FixedDevice(id); return f }
func reservationOf(s *site.Site, id string) *site.Reservation { r, _ := s.Reservation(id); return r }

func set(id string, code uint8, value string) func(*site.Site) {
	return func(s *site.Site) {
		p := pool(s, id)
		p.Options = append(p.Options, site.Option{Code: code, Value: value})
	}
}

func translates(s *site.Site, networks ...string) {
	iface(s, "if-gw-1-wan").Uplink.Translates = networks
}

// switchServes lets the layer 3 switch serve Imaging, with an interface there.
func switchServes(s *site.Site) {
	s.Devices[1].Interfaces = append(s.Devices[1].Interfaces,
		site.Interface{ID: "if-v48", Name: "vlan48", Kind: site.VLAN, VLAN: 48,
			Addresses: []netip.Prefix{prefix("10.84.20.2/26")}})
	pool(s, "pool-imaging").Server = "dev-sw-core"
}

// second gives Imaging a second pool.
func second(s *site.Site, server string) {
	s.Pools = append(s.Pools,
		site.Pool{ID: "pool-2", Name: "Second", Network: "net-imaging", Server: server, Enabled: true,
			Ranges: []address.Range{rng("10.84.20.56", "10.84.20.60")}})
}

var moment = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// leases are n leases of the waiting room's pool, first seen over two days, the
// first live of them standing.
func leases(n, live int) []observed.Sighting {
	var out []observed.Sighting
	for i := range n {
		out = append(out, observed.Sighting{
			Address: address.FromUint(address.Uint(addr("10.84.24.64")) + uint32(i%32)),
			MAC:     address.MAC{0, 0, 0x5e, 9, byte(i >> 8), byte(i)}, Source: observed.Lease, Device: "gw-1",
			First: moment.Add(-48*time.Hour + time.Duration(i)*48*time.Hour/time.Duration(n)), Last: moment,
			Live: i < live,
		})
	}
	return out
}

// twins are two sightings of one MAC, the second some time after the first ended.
func twins(apart time.Duration) []observed.Sighting {
	one := observed.Sighting{Address: addr("10.84.18.200"), MAC: address.MAC{0, 0, 0x5e, 0, 0x53, 0xc4},
		Source: observed.Neighbour, Device: "gw-1", First: moment.Add(-time.Hour), Last: moment.Add(-apart), Live: true}
	two := one
	two.Address, two.First, two.Last = addr("10.84.18.201"), moment.Add(-apart/2), moment
	return []observed.Sighting{one, two}
}

// whole fails where a sentence of a finding has a hole in it: something without a name.
func whole(t *testing.T, f check.Finding) {
	t.Helper()
	for _, says := range []string{f.Title, f.Says} {
		assert.NotRegexp(t, `  |^ | $| [.,:;]( |$)|\(\)|%!|invalid`, says, f.Rule)
	}
	for _, fix := range []*check.Fix{f.Fix, f.Other} {
		if fix != nil {
			assert.NotRegexp(t, `  |^ | $|%!|invalid`, fix.Title, f.Rule)
		}
	}
}

// What people may leave without a name is named otherwise, in every sentence.
func TestNoSentenceHasAHole(t *testing.T) {
	for _, c := range cases {
		s := clean()
		c.breaks(s)
		for _, r := range s.Reservations {
			r.Name = ""
		}
		for i := range s.FixedDevices {
			s.FixedDevices[i].Note = ""
		}
		for _, f := range check.Site(s) {
			whole(t, f)
		}
	}
}

func TestEveryRuleOfSurroundings(t *testing.T) {
	around := func(do func(*site.Site, *check.Surroundings)) (*site.Site, check.Surroundings, []check.Finding) {
		s, w := clean(), check.Surroundings{Now: moment}
		do(s, &w)
		return s, w, check.Around(check.Of(site.Normal(s)), w)
	}
	_, _, none := around(func(*site.Site, *check.Surroundings) {})
	require.Empty(t, none)
	for _, c := range aroundCases {
		t.Run(c.rule, func(t *testing.T) {
			s, w, found := around(c.breaks)
			i := slices.IndexFunc(found, func(f check.Finding) bool { return f.Rule == c.rule })
			require.GreaterOrEqual(t, i, 0, "found only %v", rules(found))
			_, _, silent := around(c.near)
			assert.NotContains(t, rules(silent), c.rule)
			if c.fixed {
				require.NotNil(t, found[i].Fix)
				after, err := edit.Apply(s, found[i].Fix.Edits...)
				require.NoError(t, err)
				assert.NotContains(t, rules(check.Around(check.Of(after), w)), c.rule, "the fix %q leaves it",
					found[i].Fix.Title)
			}
		})
	}
}

func TestEveryRuleFindsAndStaysSilent(t *testing.T) {
	require.Empty(t, check.Site(clean()))
	covered := map[string]bool{}
	for _, c := range cases {
		t.Run(c.rule, func(t *testing.T) {
			covered[c.rule] = true
			s := clean()
			c.breaks(s)
			s = site.Normal(s)
			found := check.Site(s)
			i := slices.IndexFunc(found, func(f check.Finding) bool { return f.Rule == c.rule })
			require.GreaterOrEqual(t, i, 0, "found only %v", rules(found))
			f := found[i]
			assert.NotEmpty(t, f.Title)
			assert.NotEmpty(t, f.Says)
			assert.NotEmpty(t, f.Parts)
			for _, f := range found {
				whole(t, f)
			}
			if c.near != nil {
				s := clean()
				c.near(s)
				assert.NotContains(t, rules(check.Site(s)), c.rule)
			}
			if c.fixed {
				require.NotNil(t, f.Fix)
				after, err := edit.Apply(s, f.Fix.Edits...)
				require.NoError(t, err)
				assert.NotContains(t, rules(check.Site(after)), c.rule, "the fix %q leaves it", f.Fix.Title)
				if f.Other != nil {
					after, err := edit.Apply(s, f.Other.Edits...)
					require.NoError(t, err)
					assert.NotContains(t, rules(check.Site(after)), c.rule, "the fix %q leaves it", f.Other.Title)
				}
			}
		})
	}
	for _, c := range aroundCases {
		covered[c.rule] = true
	}
	for _, r := range check.Rules() {
		assert.True(t, covered[r.Slug], "no test breaks %s", r.Slug)
		assert.NotEmpty(t, r.Promise)
	}
}

// A network moves away from its reservations: each is moved after it, to the same host of it.
func TestAReservationLeftOutsideKeepsItsHost(t *testing.T) {
	s := clean()
	n := network(s, "net-imaging")
	n.Prefix, n.Gateway = prefix("10.84.21.64/26"), addr("10.84.21.65")
	left := 0
	for _, f := range check.Site(site.Normal(s)) {
		if f.Rule != "reservation-outside-network" {
			continue
		}
		left++
		r := reservationOf(s, f.Parts[0].ID)
		after, err := edit.Apply(s, f.Fix.Edits...)
		require.NoError(t, err)
		host := r.Address.As4()[3] % 64
		assert.Equal(t, netip.AddrFrom4([4]byte{10, 84, 21, 64 + host}), reservationOf(after, r.ID).Address)
	}
	assert.Positive(t, left)
}

func TestFindingIDsSurviveOtherEdits(t *testing.T) {
	base := scenario.Site("kelder-bridge")
	s := scenario.Site("kelder-bridge")
	network(s, "net-imaging").Name = "Scans"
	pool(s, "pool-imaging").Enabled = false
	added := check.Added(check.Site(base), check.Site(s))
	assert.Equal(t, []string{"pool-off"}, rules(added), "what was there before is not counted against a draft")
}

func TestNextFreeRespectsEveryOwner(t *testing.T) {
	s := clean()
	a, ok := site.NextFree(s, network(s, "net-clinic"))
	require.True(t, ok)
	assert.Equal(t, "10.84.18.20", a.String(), "after the infrastructure window")
	n := network(s, "net-clinic")
	for _, r := range site.Taken(s, n) {
		assert.False(t, r.Contains(a))
	}
	assert.Equal(t, 91, check.FreeVLAN(s))
}

// learns makes the uplink pass on what it learns.
func learns(s *site.Site) {
	for d := range s.Devices {
		for i := range s.Devices[d].Interfaces {
			if u := s.Devices[d].Interfaces[i].Uplink; u != nil {
				u.PassesOn, u.LearntServers = true, []netip.Addr{addr("198.51.100.9")}
			}
		}
	}
}

// What an uplink learns is told where nothing is set, and what is set shows that it hides it.
func TestLearntIsTheFarthestLevel(t *testing.T) {
	s := clean()
	learns(s)
	p := pool(s, "pool-imaging")
	told := compile.Common(s).Effective(compile.For{Network: network(s, "net-imaging"), Pool: p})
	set, ok := compile.Value(told, option.NameServers)
	require.True(t, ok)
	require.NotEmpty(t, set.Hides)
	last := set.Hides[len(set.Hides)-1]
	assert.Equal(t, "198.51.100.9", last.Value)
	assert.Contains(t, last.Source.Name, "as it learns them")
	s.Options, s.Customer.Options, s.Standard.Options = nil, nil, nil
	network(s, "net-imaging").Options, p.Options = nil, nil
	alone, ok := compile.Value(compile.Common(s).Effective(compile.For{Network: network(s, "net-imaging"), Pool: p}),
		option.NameServers)
	require.True(t, ok)
	assert.Equal(t, "198.51.100.9", alone.Value)
	assert.Empty(t, alone.Hides)
}

// A gateway that no interface holds has a fix wherever something routes: on a layer 3 switch, on a router that has no
// VLAN yet, and where the network has none.
func Test44AGatewayIsHeldSomewhere(t *testing.T) {
	lan := site.Network{ID: "net-a", Name: "Office", Prefix: prefix("10.84.16.0/24"), Gateway: addr("10.84.16.1"),
		VLAN: 52}
	for _, c := range []struct {
		what   string
		device site.Device
		vlan   int
		want   string
	}{
		{"a layer 3 switch", site.Device{ID: "d", Name: "sw-1", Kind: site.L3Switch, Interfaces: []site.Interface{
			{ID: "i1", Name: "port1", Kind: site.Port}}}, 52, "Give sw-1 the interface vlan52 with 10.84.16.1"},
		{"a router without VLANs", site.Device{ID: "d", Name: "rt-1", Kind: site.Router, Interfaces: []site.Interface{
			{ID: "i1", Name: "lan", Kind: site.PortGroup}, {ID: "i2", Name: "wan", Kind: site.Uplink}}}, 52,
			"Give rt-1 the interface lan.52 with 10.84.16.1"},
		{"no VLAN", site.Device{ID: "d", Name: "rt-1", Kind: site.Router, Interfaces: []site.Interface{
			{ID: "i1", Name: "lan", Kind: site.PortGroup}}}, 0, "Give lan of rt-1 the address 10.84.16.1"},
	} {
		s := &site.Site{ID: "s", Name: "S", Block: []netip.Prefix{prefix("10.84.16.0/20")},
			Networks: []site.Network{lan},
			Devices:  []site.Device{c.device}}
		s.Networks[0].VLAN = c.vlan
		of := func(s *site.Site) *check.Finding {
			for _, f := range check.Site(s) {
				if f.Rule == "gateway-on-no-interface" {
					return &f
				}
			}
			return nil
		}
		f := of(s)
		require.NotNil(t, f, c.what)
		require.NotNil(t, f.Fix, c.what)
		assert.Equal(t, c.want, f.Fix.Title, c.what)
		after, err := edit.Apply(site.Normal(s), f.Fix.Edits...)
		require.NoError(t, err)
		assert.Nil(t, of(after), c.what)
	}
	// A network without a gateway or an interface is given both.
	s := &site.Site{ID: "s", Name: "S", Block: []netip.Prefix{prefix("10.84.16.0/20")}, Networks: []site.Network{lan},
		Devices: []site.Device{{ID: "d", Name: "sw-1", Kind: site.L3Switch, Interfaces: []site.Interface{
			{ID: "i1", Name: "port1", Kind: site.Port}}}}}
	s.Networks[0].Gateway = netip.Addr{}
	found := check.Site(s)
	i := slices.IndexFunc(found, func(f check.Finding) bool { return f.Rule == "network-without-interface" })
	require.GreaterOrEqual(t, i, 0)
	require.NotNil(t, found[i].Fix)
	after, err := edit.Apply(site.Normal(s), found[i].Fix.Edits...)
	require.NoError(t, err)
	n, _ := after.Network("net-a")
	_, held, _, ok := after.InterfaceOn(n)
	require.True(t, ok)
	assert.Equal(t, "vlan52 10.84.16.1", held.Name+" "+n.Gateway.String())
}

// The fix of a network that comes out at no port carries it along the way to its router, and to no other device.
func Test44AnAccessPortIsReached(t *testing.T) {
	s := clean()
	s.Networks = append(s.Networks, site.Network{ID: "net-ward", Name: "Recovery", Prefix: prefix("10.84.20.64/26"),
		Gateway: addr("10.84.20.65"), VLAN: 91})
	gw, has := s.Device("dev-gw-1")
	require.True(t, has)
	gw.Interfaces = append(gw.Interfaces, site.Interface{ID: "if-lan-91", Name: "lan.91", Kind: site.VLAN,
		Parent: "lan",
		VLAN:   91, Addresses: []netip.Prefix{prefix("10.84.20.65/26")}})
	_, trunk, has := s.Interface("if-sw-core-uplink1")
	require.True(t, has)
	trunk.Tagged = append(trunk.Tagged, 91)
	about := func(s *site.Site) (rules []string, fix *check.Fix) {
		for _, f := range check.Site(s) {
			if f.Rule == "network-at-no-port" {
				fix = f.Fix
			} else if f.Network == "net-ward" {
				rules = append(rules, f.Rule)
			}
		}
		return rules, fix
	}
	before, fix := about(s)
	require.NotNil(t, fix)
	after, err := edit.Apply(site.Normal(s), fix.Edits...)
	require.NoError(t, err)
	rules, again := about(after)
	assert.Nil(t, again)
	assert.Subset(t, before, rules, fix.Title)
}
