package check_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/site"
)

// of gives the findings of a rule at the clean site after some changes.
func of(rule string, changes ...func(*site.Site)) (out []check.Finding) {
	s := clean()
	for _, change := range changes {
		change(s)
	}
	for _, f := range check.Site(site.Normal(s)) {
		if f.Rule == rule {
			out = append(out, f)
		}
	}
	return out
}

// What lies just on a bound, and what lies just beyond it.
func TestBoundsOfRules(t *testing.T) {
	defines := func(code uint8) func(*site.Site) {
		return func(s *site.Site) {
			s.OptionDefinitions = []site.OptionDefinition{{ID: "d", Code: code, Name: "phones", Type: "text"}}
		}
	}
	windows := func(from, to int) func(*site.Site) {
		return func(s *site.Site) { s.Standard.Windows = []site.Window{{Use: "dynamic", From: from, To: to}} }
	}
	// A site of one network whose uplink translates some other one, or none.
	uplink := func(bits int, translates ...string) func(*site.Site) {
		return func(s *site.Site) {
			n := network(s, "net-imaging")
			n.Prefix = netip.PrefixFrom(n.Prefix.Addr(), bits)
			s.Networks = []site.Network{*n}
			iface(s, "if-gw-1-wan").Uplink.Translates = translates
		}
	}
	for name, c := range map[string]struct {
		rule     string
		found    bool
		document func(*site.Site)
	}{
		"code 223 is registered by IANA":         {"option-defined-registered", true, defines(223)},
		"code 224 is the site's (RFC 3942)":      {"option-defined-registered", false, defines(224)},
		"code 254 is the site's":                 {"option-defined-registered", false, defines(254)},
		"code 255 ends a message (RFC 2132)":     {"option-defined-registered", true, defines(255)},
		"a window that ends where it begins":     {"windows-wrong", false, windows(5, 5)},
		"a window from 5 back to 0":              {"windows-wrong", true, windows(5, 0)},
		"a window from 5 to one before the last": {"windows-wrong", false, windows(5, -2)},
		"a window from the end to the start":     {"windows-wrong", true, windows(-2, 5)},
		"a /29 that nobody translates":           {"translates-nobody", true, uplink(29)},
		"a /30 is a link between two":            {"translates-nobody", false, uplink(30)},
		"a /29 left out":                         {"network-untranslated", true, uplink(29, "net-bench")},
		"a /30 left out":                         {"network-untranslated", false, uplink(30, "net-bench")},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.found, len(of(c.rule, c.document)) > 0) })
	}
}

// What a finding says in figures and names can be worked out by head.
func TestWhatFindingsSay(t *testing.T) {
	cache := of("cache-above-memory", func(s *site.Site) {
		s.Devices[0].Memory, resolver(s).CacheEntries = 64, 100<<10
	})
	require.Len(t, cache, 1)
	assert.Contains(t, cache[0].Says, "102400 answers take about 100 MiB, and the device has 64.")
	assert.Equal(t, "Keep 16384", cache[0].Fix.Title, "16 MiB, a quarter")

	twice := of("address-two-owners", func(s *site.Site) { s.Reservations[0].Address = s.Reservations[1].Address })
	require.Len(t, twice, 1)
	assert.Equal(t, 1, strings.Count(twice[0].Says, " and "), twice[0].Says)
	assert.False(t, strings.HasPrefix(twice[0].Says, " "), twice[0].Says)
}

// An interface that lists nothing is offered what most others of its device list, also where another list comes first.
func TestTheUsualPermits(t *testing.T) {
	lists := map[string]string{"if-gw-1-lan-24": "ping", "if-gw-1-lan-31": "dhcp, dns", "if-gw-1-lan-66": "dhcp, dns"}
	found := of("permits-missing", func(s *site.Site) {
		for i := range s.Devices[0].Interfaces {
			f := &s.Devices[0].Interfaces[i]
			if f.Permits = nil; lists[f.ID] != "" {
				f.Permits = strings.Split(lists[f.ID], ", ")
			}
		}
	})
	require.NotEmpty(t, found)
	for _, f := range found {
		assert.Equal(t, "Let it accept dhcp, dns, as most of them do", f.Fix.Title)
		assert.Contains(t, f.Says, fmt.Sprintf("%d other interfaces", len(lists)))
	}
}

// The next VLAN is above those in use; where the highest is taken, the lowest that is free, and never 1.
func TestFreeVLAN(t *testing.T) {
	using := func(ids ...int) *site.Site {
		s := &site.Site{}
		for _, id := range ids {
			s.Networks = append(s.Networks, site.Network{VLAN: id})
		}
		return s
	}
	var all []int
	for id := 1; id <= 4094; id++ {
		all = append(all, id)
	}
	assert.Equal(t, 2, check.FreeVLAN(using()))
	assert.Equal(t, 21, check.FreeVLAN(using(20, 10)))
	assert.Equal(t, 4094, check.FreeVLAN(using(4093)))
	assert.Equal(t, 4093, check.FreeVLAN(using(slices.DeleteFunc(slices.Clone(all),
		func(id int) bool { return id == 4093 })...)))
	assert.Equal(t, 4094, check.FreeVLAN(using(all[:4093]...)))
	assert.Zero(t, check.FreeVLAN(using(all...)))
}

// Of many sites on a network's addresses three are named, in their order, and the others counted.
func TestNetworksOfManySites(t *testing.T) {
	s := site.Normal(clean())
	around := func(sites int) check.Finding {
		w := check.Surroundings{Now: moment}
		for i := range sites {
			w.Neighbors = append(w.Neighbors, check.Neighbor{ID: fmt.Sprint(i), Name: string(rune('A' + i)),
				Networks: []site.Network{{ID: "n", Name: "Net",
					Prefix: netip.PrefixFrom(addr("10.84.20.0").Prev().Next(), 26+i%3)}}})
		}
		found := check.Around(check.Of(s), w)
		i := slices.IndexFunc(found, func(f check.Finding) bool { return f.Rule == "networks-overlap-across-sites" })
		require.GreaterOrEqual(t, i, 0)
		return found[i]
	}
	assert.Equal(t, "Imaging is also Net at A, Net at B, Net at C", around(3).Title)
	assert.Equal(t, "Imaging is also Net at A, Net at B, Net at C, 2 more", around(5).Title)
}

// What is kept for all sites takes the place of a site's own only where it is the same standard, or customer.
func TestSharedLevels(t *testing.T) {
	s := site.Normal(clean())
	other := site.Level{ID: s.Customer.ID, Name: "Another name"}
	assert.Equal(t, other.Name, check.SharedLevels{Customer: &other}.In(s).Customer.Name)
	other.ID = "cust-other"
	assert.Equal(t, s.Customer, check.SharedLevels{Customer: &other}.In(s).Customer)
	standard := site.Standard{Level: site.Level{ID: "std-other"}}
	assert.False(t, check.SharedLevels{Customer: &other, Standard: &standard}.Differs(s))
}

// A pool that is too small is given free addresses of its network: beside it where there are some, else at the end of
// what is free. Nothing that somebody has is given.
func TestAPoolIsWidened(t *testing.T) {
	s := clean()
	w := check.Surroundings{Now: moment, Seen: leases(900, 0)}
	found := check.Around(check.Of(site.Normal(s)), w)
	i := slices.IndexFunc(found, func(f check.Finding) bool { return f.Rule == "pool-too-small" })
	require.GreaterOrEqual(t, i, 0)
	fix := found[i].Fix
	require.NotNil(t, fix)
	after, err := edit.Apply(site.Normal(s), fix.Edits...)
	require.NoError(t, err)
	for _, p := range after.Pools {
		was := pool(s, p.ID)
		more := address.Count(p.Ranges) - address.Count(was.Ranges)
		assert.GreaterOrEqual(t, more, 0)
		if more > 0 {
			assert.Equal(t, fmt.Sprintf("Give it %d more", more), fix.Title)
		}
	}
	assert.Empty(t, check.Added(check.Site(site.Normal(s)), check.Site(after)), "no address has two owners by it")
}
