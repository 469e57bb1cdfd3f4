package move_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/move"
	"lithos/core/scenario"
)

func handsets(s string) move.Request {
	return move.Request{Title: "Handsets to VLAN 131", Night: night, Shifts: []move.Shift{{Network: "net-handsets",
		Prefix: netip.MustParsePrefix(s), VLAN: 131, Grow: true}}}
}

var night = time.Date(2026, 11, 25, 23, 30, 0, 0, time.UTC)

// crowd is clients of a network whose leases were given at moments spread evenly over the last renewal time.
func crowd(network string, n int, t1 time.Duration, at time.Time) []move.Client {
	var out []move.Client
	for i := range n {
		out = append(out, move.Client{Name: fmt.Sprint("phone-", i), Network: network,
			MAC: address.MAC{0, 0, 0x5e, 0, 0x60, byte(i)}, Renewed: at.Add(-t1 * time.Duration(i) / time.Duration(n))})
	}
	return out
}

func acts(p *move.Plan) []move.Act {
	var out []move.Act
	for _, ph := range p.Phases() {
		at := ph.NotBefore
		out = append(out, move.Act{At: at, Doc: ph.Doc})
	}
	return out
}

func TestNightOfNoChange(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n := move.Simulate(s, crowd("net-handsets", 60, 12*time.Hour, night), []move.Act{{At: night, Doc: s}})
	assert.Zero(t, n.Minutes)
	assert.Zero(t, n.NameMinutes)
	assert.Equal(t, 60, n.Clients)
}

// After a straight swap a client's renewals go to a server that its address no longer reaches, until T2 (RFC 2131
// section 4.4.5): the mean wait is T2 less half of T1.
func TestNightOfAStraightSwap(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	r := handsets("10.84.22.0/24")
	r.OneNight = true
	p, err := move.Of(s, r)
	require.NoError(t, err)
	n := move.Simulate(s, crowd("net-handsets", 60, 12*time.Hour, night), acts(p))
	fmt.Printf("%+v %v %v\n", n.Mean, n.Longest, n.Stranded)
	assert.Zero(t, n.Stranded)
	assert.Equal(t, 60, n.Affected)
	assert.InDelta(t, (21*time.Hour - 6*time.Hour).Seconds(), n.Mean, 12*3600/60+60)
	for _, f := range n.Fates {
		assert.True(t, netip.MustParsePrefix("10.84.22.0/24").Contains(f.Will), f.Name)
	}
	r.OneNight = false
	p, err = move.Of(s, r)
	require.NoError(t, err)
	for _, ph := range p.Phases() {
		fmt.Println(ph.Kind, ph.Title, ph.Says, ph.NotBefore, ph.NotAfter, len(ph.Edits))
		fmt.Printf("%+v\n", ph.Prove(func(string) bool { return true }))
	}
	n = move.Simulate(s, crowd("net-handsets", 60, 12*time.Hour, night), acts(p))
	fmt.Printf("%+v %v %v %v\n", n.Mean, n.Longest, n.Stranded, n.Affected)
	assert.InDelta(t, (30*time.Minute*7/8 - 30*time.Minute/4).Seconds(), n.Mean, 60)
}
