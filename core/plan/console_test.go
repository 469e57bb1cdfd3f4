package plan_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/plan"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
)

// What somebody types at a console is all that a step sets, and what is asked afterwards is what should be there.
func TestConsole(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	base := compile.Device(s, "dev-gw-1")
	n, _ := s.Network("net-imaging")
	n.Prefix = netip.MustParsePrefix("10.84.20.0/25")
	for i, v := range s.Devices[0].Interfaces {
		if v.ID == "if-gw-1-lan-48" {
			s.Devices[0].Interfaces[i].Addresses = []netip.Prefix{netip.MustParsePrefix("10.84.20.1/25")}
		}
	}
	goal := compile.Device(s, "dev-gw-1")
	steps := plan.Between(base, goal)
	var typed []plan.Value
	for _, st := range steps {
		typed = append(typed, plan.Values(nil, st)...)
	}
	assert.Contains(t, typed, plan.Value{Name: "Mask", Text: "255.255.255.128"})
	assert.Contains(t, typed, plan.Value{Name: "First address", Text: "10.84.20.24"})
	assert.Contains(t, typed, plan.Value{Name: "Option 51 (Lease time)", Text: "1 day"})
	asked := plan.ReadBack(nil, steps, base, goal)
	assert.Contains(t, asked, plan.Question{Says: "Which address does `lan.48` have?", Expect: "10.84.20.1/25"})
	assert.Contains(t, asked, plan.Question{Says: "Which subnet does pool `Imaging` serve?", Expect: "10.84.20.0/25"})

	one := plan.Together(steps[3:6], "At once")
	assert.Contains(t, plan.Values(nil, one), plan.Value{Name: "Address", Text: "10.84.20.1/25"})
	assert.NotEmpty(t, plan.ReadBack(nil, []plan.Step{one}, base, goal))

	less := base
	less.DHCP.Pool, less.DHCP.Reservation = nil, nil
	left := plan.ReadBack(nil, plan.Between(base, less), base, less)
	require.NotEmpty(t, left)
	assert.Contains(t, left, plan.Question{Says: "Is the pool for `10.84.20.0/26` still there?", Expect: "no"})
	assert.Empty(t, plan.ReadBack(nil, nil, yang.Config{}, yang.Config{}))
}

func TestSameAnswer(t *testing.T) {
	for seen, expect := range map[string]string{
		"10.84.20.24 – 10.84.20.55": "10.84.20.24 - 10.84.20.55", "NO": "no", " 10.84.20.1 /25": "10.84.20.1/25",
		"10.84.20.24 to 10.84.20.55": "10.84.20.24 - 10.84.20.55",
	} {
		assert.True(t, plan.SameAnswer(seen, expect), seen)
	}
	assert.False(t, plan.SameAnswer("10.84.20.1/26", "10.84.20.1/25"))
}

// What is asked at a console is what changes: the option's value, the address, the record. Somebody who has done
// nothing sees something else than what is expected, at every question.
func Test40AQuestionAsksForWhatChanges(t *testing.T) {
	base := scenario.Site("kelder-bridge")
	resolver := base.Resolvers[0].Device
	for _, c := range []struct {
		what, device string
		change       func(s *site.Site)
		want         plan.Question
		step         string // of what is done, in words
	}{
		{"an option", "dev-gw-1", func(s *site.Site) {
			n, _ := s.Network("net-imaging")
			n.Options = append(n.Options, site.Option{Code: 42, Value: "10.84.16.99"})
		}, plan.Question{Says: "What does the pool for `10.84.20.0/26` tell as option 42 (NTP servers)?",
			Expect: "10.84.16.99"}, ""},
		{"an address", "dev-gw-1", func(s *site.Site) {
			s.Reservations[0].Address = s.Reservations[0].Address.Next()
		}, plan.Question{Says: "Which address is reserved for `" + base.Reservations[0].MAC.String() + "`?",
			Expect: base.Reservations[0].Address.Next().String()}, ""},
		{"an exclusion", "dev-gw-1", func(s *site.Site) {
			p, _ := s.Pool("pool-imaging")
			p.Exclusions = append(p.Exclusions, site.Exclusion{ID: "x-new", Range: address.Range{
				From: netip.MustParseAddr("10.84.20.30"), To: netip.MustParseAddr("10.84.20.31")}, Reason: "a test"})
		}, plan.Question{Says: "Which addresses does the pool for `10.84.20.0/26` leave out?",
			Expect: "10.84.20.30 - 10.84.20.31"}, ""},
		{"a record", resolver, func(s *site.Site) {
			for i := range s.Zones {
				if z := &s.Zones[i]; z.Name == s.Domain && z.Side == site.Inside {
					z.Records = append(z.Records, &site.Record{ID: "rec-new", Owner: "bench-2", Type: "A",
						Data: "10.84.16.40"})
				}
			}
		}, plan.Question{Says: "What does `" + base.Domain + "` answer for `bench-2`, type A?",
			Expect: "10.84.16.40"}, "`bench-2` A `10.84.16.40` is added"},
		{"a forwarder", resolver, func(s *site.Site) { s.Resolvers[0].CacheEntries = 777 },
			plan.Question{Says: "What is the resolver's setting `cache-entries`?", Expect: "777"}, ""},
	} {
		s := scenario.Site("kelder-bridge")
		c.change(s)
		before, goal := compile.Device(base, c.device), compile.Device(site.Normal(s), c.device)
		steps := plan.Between(before, goal)
		asked := plan.ReadBack(nil, steps, before, goal)
		assert.Contains(t, asked, c.want, c.what)
		if c.step != "" {
			assert.True(t, slices.ContainsFunc(steps, func(st plan.Step) bool {
				return strings.Contains(st.Why,
					c.step)
			}),
				"%s: %v", c.what, steps)
		}
		undone := map[string]string{}
		for _, q := range plan.ReadBack(nil, plan.Between(goal, before), goal, before) {
			undone[q.Says] = q.Expect
		}
		for _, q := range asked {
			if was, known := undone[q.Says]; known {
				assert.False(t, plan.SameAnswer(was, q.Expect), "%s: %s shows %s before and after", c.what, q.Says, was)
			}
		}
		assert.Empty(t, plan.ReadBack(nil, steps, goal, goal), "%s: what shows no change is not asked", c.what)
	}
}
