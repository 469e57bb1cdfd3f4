package plan_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/plan"
	"lithos/core/scenario"
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
	asked := plan.ReadBack(steps, goal)
	assert.Contains(t, asked, plan.Question{Says: "Which address does `lan.48` have?", Expect: "10.84.20.1/25"})
	assert.Contains(t, asked, plan.Question{Says: "Which addresses does the pool for `10.84.20.0/25` hand out?",
		Expect: "10.84.20.24 - 10.84.20.55"})

	one := plan.Together(steps[3:6], "At once")
	assert.Contains(t, plan.Values(nil, one), plan.Value{Name: "Address", Text: "10.84.20.1/25"})
	assert.NotEmpty(t, plan.ReadBack([]plan.Step{one}, goal))

	less := base
	less.DHCP.Pool, less.DHCP.Reservation = nil, nil
	left := plan.ReadBack(plan.Between(base, less), less)
	require.NotEmpty(t, left)
	assert.Contains(t, left, plan.Question{Says: "Is it still there: pool Imaging from `lan.48`?", Expect: "no"})
	assert.Empty(t, plan.ReadBack(nil, yang.Config{}))
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
