package drawing_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/drawing"
	"lithos/core/observed"
	"lithos/core/site"
)

var ip = netip.MustParseAddr

// office is a network with a pool of so many addresses from .100 on, and another network with machines of its own.
func office(prefix string, pool int) *site.Site {
	p := netip.MustParsePrefix(prefix)
	from := address.Uint(p.Addr()) + 100
	return &site.Site{Block: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")},
		Networks: []site.Network{{ID: "n", Name: "Desks", Prefix: p, Gateway: address.FromUint(from - 99)},
			{ID: "m", Name: "Other", Prefix: netip.MustParsePrefix("10.200.0.0/24")}},
		FixedDevices: []site.FixedDevice{{ID: "f", Name: "door", Network: "m", Address: ip("10.200.0.9")}},
		Pools: []site.Pool{{ID: "p", Name: "All", Network: "n", Enabled: true, Ranges: []address.Range{
			{From: address.FromUint(from), To: address.FromUint(from + uint32(pool) - 1)}}}}}
}

// The share of a pool in use is rounded to the nearest, and above 85 of 100 the layer says that it is crowded.
func TestShareInUse(t *testing.T) {
	for _, c := range []struct{ used, pool, percent int }{{1, 3, 33}, {2, 3, 67}, {1, 2, 50}, {1, 8, 13}, {0, 7, 0},
		{7, 7, 100},
		{17, 20, 85}, {43, 50, 86}} {
		s := office("10.0.0.0/24", c.pool)
		var seen []observed.Sighting
		for i := range c.used {
			seen = append(seen, seenAt(fmt.Sprintf("10.0.0.%d", 100+i))...)
		}
		l := drawing.Section(check.Of(site.Normal(s)), nil, seen)[0]
		if !assert.Equal(t, "n", l.ID) {
			return
		}
		assert.Equal(t, c.percent, l.Percent, "%d of %d", c.used, c.pool)
		assert.Equal(t, c.percent > 85, l.Crowded, "%d of %d", c.used, c.pool)
		assert.Equal(t, 8., l.Weight, "2^8 addresses")
	}
}

// The gaps of the block weigh as much as networks of their size.
func TestGapsWeighAsNetworks(t *testing.T) {
	for _, l := range drawing.Section(check.Of(site.Normal(office("10.0.0.0/24", 1))), nil, nil) {
		if p, err := netip.ParsePrefix(l.Prefix); err == nil {
			assert.Equal(t, float64(32-p.Bits()), l.Weight, l.Text)
			continue
		}
		assert.Less(t, float64(int(1)<<int(l.Weight)), float64(l.Size), "%s: the power of two below it", l.Text)
		assert.GreaterOrEqual(t, float64(int(2)<<int(l.Weight)), float64(l.Size), l.Text)
	}
}

func TestMarksByNetwork(t *testing.T) {
	m := drawing.ByNetwork([]check.Finding{{Network: "n", Severity: check.Blocks}, {Network: "m",
		Severity: check.Warns},
		{Network: "n", Severity: check.Notes}})
	assert.Equal(t, map[string]drawing.Marks{"n": {Findings: 2, Severity: check.Blocks}, "m": {Findings: 1,
		Severity: check.Warns}}, m)
}

// Two rows are equal where all of what they say is.
func TestRowsEqual(t *testing.T) {
	one, same, other := time.Unix(5, 0), time.Unix(5, 0).UTC(), time.Unix(6, 0)
	row := func(name string, seen *time.Time, findings ...string) drawing.Row {
		return drawing.Row{Line: drawing.Line{Name: name}, Seen: seen, Findings: findings}
	}
	a := row("a", &one, "f")
	assert.True(t, a.Equal(row("a", &one, "f")))
	assert.True(t, a.Equal(row("a", &same, "f")))
	for _, b := range []drawing.Row{row("b", &one, "f"), row("a", &other, "f"), row("a", nil, "f"), row("a", &one),
		row("a", &one, "g")} {
		assert.False(t, a.Equal(b), "%+v", b)
		assert.False(t, b.Equal(a), "%+v", b)
	}
	assert.True(t, row("a", nil).Equal(row("a", nil)))
}

// A part's findings stand in its row with the gravest, and what belongs to other networks is not listed.
func TestRowsOfOneNetwork(t *testing.T) {
	s := office("10.0.0.0/24", 10)
	s.Devices = []site.Device{{ID: "r", Name: "rt", Kind: site.Router, Interfaces: []site.Interface{
		{ID: "i", Name: "lan", Kind: site.Port, Addresses: []netip.Prefix{netip.MustParsePrefix("10.0.0.1/24"),
			netip.MustParsePrefix("10.0.0.2/24")}}, {ID: "w", Name: "wan", Kind: site.Uplink}}}}
	s.FixedDevices = append(s.FixedDevices, site.FixedDevice{ID: "g", Network: "n", Address: ip("10.0.0.50")})
	sc := check.Of(site.Normal(s))
	n, _ := sc.Network("n")
	part := site.Ref{Kind: site.KindFixedDevice, ID: "g"}
	findings := []check.Finding{{ID: "1", Network: "n", Severity: check.Blocks, Parts: []site.Ref{part}},
		{ID: "2", Network: "n", Severity: check.Warns, Parts: []site.Ref{part}}}
	rows := drawing.Rows(sc, n, findings, seenAt("10.0.0.77", "10.0.0.105", "10.200.0.30"))
	got := map[string]string{}
	for _, r := range rows {
		got[r.Ref+" "+r.Text] = fmt.Sprint(r.Kind, r.Findings, r.Severity)
	}
	assert.Equal(t, map[string]string{"interface:i 10.0.0.1": "gateway[]", "interface:i 10.0.0.2": "interface[]",
		"fixed:g 10.0.0.50": "fixed[1 2]blocks", "seen:10.0.0.77 10.0.0.77": "unrecorded[]",
		"pool:p .100 – .109": "pool[]"}, got)
	require.NotNil(t, rows[3].Seen)

	r := drawing.Draw(sc, n, rows, findings, nil, 0)
	var pins []string
	for _, p := range r.Courses[0].Pins {
		pins = append(pins, fmt.Sprint(p.At, " ", p.Kind, " ", p.What))
	}
	assert.Equal(t, []string{"1 gateway gateway rt", "2 interface interface lan of rt", "50 fixed fixed device " +
		"10.0.0.50"}, pins)
	assert.Equal(t, []int{1, 2}, r.Courses[0].Names, "what has no name has none drawn")
	assert.Empty(t, r.Courses[0].Conflicts, "no address is said")
	want, of := map[site.Ref]string{}, map[site.Ref]bool{{Kind: site.KindInterface, ID: "w"}: true}
	for ref, network := range map[string]string{"interface:i": "n", "fixed:f": "m", "pool:p": "n",
		"network:m": "m"} {
		want[site.ParseRef(ref)], of[site.ParseRef(ref)] = network, true
	}
	assert.Equal(t, want, drawing.Places(s, of))
}

// A conflict is drawn in the courses that its addresses are in, from end to end; one to note, and one of another
// network, is not.
func TestConflictsAreClipped(t *testing.T) {
	s := office("10.0.0.0/22", 10)
	sc := check.Of(site.Normal(s))
	n, _ := sc.Network("n")
	finding := func(id, network string, sev check.Severity, from, to string) check.Finding {
		return check.Finding{ID: id, Network: network, Severity: sev, Addresses: []address.Range{{From: ip(from),
			To: ip(to)}}}
	}
	r := drawing.Draw(sc, n, nil, []check.Finding{finding("a", "n", check.Warns, "10.0.0.255", "10.0.2.0"),
		finding("b", "n", check.Notes, "10.0.0.1", "10.0.0.2"), finding("c", "m", check.Blocks, "10.0.0.1",
			"10.0.0.2")}, nil, 0)
	var got []string
	for _, c := range r.Courses {
		for _, x := range c.Conflicts {
			got = append(got, fmt.Sprintf("%s to %s: %s %d-%d", c.First, c.Last, x.Finding, x.From, x.To))
		}
	}
	assert.Equal(t, []string{"10.0.0.0 to 10.0.0.255: a 255-255", "10.0.1.0 to 10.0.1.255: a 256-511",
		"10.0.2.0 to 10.0.2.255: a 512-512"}, got)
	assert.True(t, r.Ends)
	s.Networks[0].Prefix = netip.MustParsePrefix("10.0.0.0/31")
	sc = check.Of(site.Normal(s))
	n, _ = sc.Network("n")
	assert.False(t, drawing.Draw(sc, n, nil, nil, nil, 0).Ends, "both addresses of a /31 are hosts' (RFC 3021)")
}

// The overview of a large network counts what is in each of its parts; the largest that is drawn whole has none.
func TestOverviewCounts(t *testing.T) {
	s := office("10.0.0.0/20", 10)
	sc := check.Of(site.Normal(s))
	n, _ := sc.Network("n")
	assert.Empty(t, drawing.Draw(sc, n, nil, nil, nil, 0).Bins, "16 courses")
	s = office("10.0.0.0/19", 300)
	s.FixedDevices = append(s.FixedDevices, site.FixedDevice{ID: "g", Network: "n", Address: ip("10.0.2.1")},
		site.FixedDevice{ID: "h", Network: "n", Address: ip("10.0.2.255")})
	sc = check.Of(site.Normal(s))
	n, _ = sc.Network("n")
	seen := seenAt("10.0.1.7", "10.0.1.8", "10.0.31.255", "10.9.0.1")
	r := drawing.Draw(sc, n, drawing.Rows(sc, n, nil, seen), nil, seen, 0)
	require.Len(t, r.Bins, 32)
	want := make([]drawing.Bin, 32)
	want[0].Pool, want[1].Pool, want[1].Seen, want[2].Pins, want[31].Seen = 156, 144, 2, 2, 1
	assert.Equal(t, want, r.Bins)
}
