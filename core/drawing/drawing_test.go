package drawing_test

import (
	"encoding/json"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/drawing"
	"lithos/core/observed"
	"lithos/core/scenario"
	"lithos/core/site"
)

// draw is the ruler of a network of a document.
func draw(s *site.Site, n *site.Network, findings []check.Finding, sightings []observed.Sighting,
	from int) drawing.Ruler {
	sc := check.Of(site.Normal(s))
	return drawing.Draw(sc, n, drawing.Rows(sc, n, findings, sightings), findings, sightings, from)
}

func seenAt(addrs ...string) []observed.Sighting {
	var out []observed.Sighting
	for _, a := range addrs {
		out = append(out, observed.Sighting{Address: netip.MustParseAddr(a), Live: true, Last: time.Unix(1, 0),
			Name: "x"})
	}
	return out
}

func TestSectionIsTheBlockFromLowToHigh(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	layers := drawing.Section(check.Of(site.Normal(s)), check.Site(s), seenAt("10.84.18.100", "10.84.18.121"))
	var got []string
	total := 0
	for _, l := range layers {
		got = append(got, l.Kind+" "+l.Name+" "+l.Text)
		total += l.Size
	}
	assert.Equal(t, []string{
		"network Bench 10.84.16.0/26", "network Cameras 10.84.16.64/27", "free  10.84.16.96/27",
		"network Handsets 10.84.16.128/25",
		"free  10.84.17.0/24", "network Clinic floor 10.84.18.0/23", "network Imaging 10.84.20.0/26",
		"free  .20.64 – .23.255", "network Waiting room 10.84.24.0/22", "free  10.84.28.0/22",
	}, got)
	assert.Equal(t, 4096, total)
	clinic := layers[5]
	assert.Equal(t, check.Blocks, clinic.Severity)
	assert.Equal(t, 1, clinic.Used, "what is excluded is not used of the pool")
	assert.Equal(t, 312, clinic.Pool)
}

func TestOverlapsAreDrawn(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-imaging")
	n.Prefix = netip.MustParsePrefix("10.84.19.0/24")
	for _, l := range drawing.Section(check.Of(site.Normal(s)), nil, nil) {
		assert.Equal(t, l.ID == "net-imaging", l.Overlaps, l.Name)
	}
}

func TestRulerOfTheClinicFloor(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-clinic")
	r := draw(s, n, check.Site(s), seenAt("10.84.18.100", "10.84.19.231"), 0)
	require.Len(t, r.Courses, 2)
	first, second := r.Courses[0], r.Courses[1]
	assert.Equal(t, []string{"infrastructure", "pool", "exclusion"},
		[]string{first.Spans[0].Kind, first.Spans[1].Kind, first.Spans[2].Kind})
	assert.Equal(t, drawing.Span{Kind: "pool", Ref: "pool:pool-clinic", From: 96, To: 255, Starts: true,
		Label: "Clinic PCs", What: "pool Clinic PCs",
		Says: "Pool Clinic PCs, .18.96 to .19.159 of 10.84.18.0, 1 of 312 in use"}, first.Spans[1])
	assert.Equal(t, 415, second.Spans[0].To)
	assert.True(t, second.Spans[0].Ends)
	assert.Equal(t, "gateway", first.Pins[0].Kind)
	assert.Equal(t, 57, first.Conflicts[0].From)
	assert.Equal(t, []int{100}, first.Seen)
	assert.Equal(t, []int{256 + 231}, second.Seen)

	rows := drawing.Rows(check.Of(site.Normal(s)), n, check.Site(s), seenAt("10.84.19.231", "10.84.18.130"))
	var kinds []string
	for _, row := range rows {
		kinds = append(kinds, row.Kind+" "+row.Text)
	}
	assert.Contains(t, kinds, "pool .18.128 – .19.159")
	assert.Contains(t, kinds, "unrecorded 10.84.19.231")
	assert.NotContains(t, kinds, "unrecorded 10.84.18.130", "a lease of the pool is not unrecorded")
}

func TestLargeNetworksHaveAnOverview(t *testing.T) {
	s := &site.Site{Networks: []site.Network{{ID: "n", Prefix: netip.MustParsePrefix("10.0.0.0/16")}},
		Pools: []site.Pool{{ID: "p", Network: "n", Enabled: true,
			Ranges: []address.Range{{From: netip.MustParseAddr("10.0.100.0"),
				To: netip.MustParseAddr("10.0.101.15")}}}}}
	r := draw(s, &s.Networks[0], nil, nil, 100*256+7)
	assert.Len(t, r.Courses, drawing.MaxCourses)
	assert.Equal(t, 100*256, r.Courses[0].From)
	assert.Len(t, r.Bins, 256)
	assert.Equal(t, []int{256, 16, 0}, []int{r.Bins[100].Pool, r.Bins[101].Pool, r.Bins[102].Pool})
	last := draw(s, &s.Networks[0], nil, nil, 65535)
	assert.Equal(t, 65535, last.Courses[len(last.Courses)-1].To)
	small := &site.Network{ID: "l", Prefix: netip.MustParsePrefix("10.9.0.4/31")}
	assert.Equal(t, 2, draw(s, small, nil, nil, 0).Course)
}

func TestEverythingMarshals(t *testing.T) {
	s := scenario.Site("quill-street")
	for i := range s.Networks {
		raw, err := json.Marshal(draw(s, &s.Networks[i], nil, nil, 0))
		require.NoError(t, err)
		assert.NotContains(t, string(raw), "null")
	}
}

// What the drawing calls the pool is what the device's engine hands out, for
// every site the rules have nothing grave to say of.
func TestDrawingAndEngineAgree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := scenario.Site(rapid.SampledFrom(scenario.Names).Draw(t, "site"))
		p := &s.Pools[rapid.IntRange(0, len(s.Pools)-1).Draw(t, "pool")]
		p.Enabled = true
		n, _ := s.Network(p.Network)
		base := address.Uint(n.Prefix.Addr())
		for i := range rapid.IntRange(0, 3).Draw(t, "n") {
			from := rapid.Uint32Range(0, uint32(address.Of(n.Prefix).Size())-1).Draw(t, "from")
			to := rapid.Uint32Range(from, uint32(address.Of(n.Prefix).Size())-1).Draw(t, "to")
			p.Exclusions = append(p.Exclusions,
				site.Exclusion{ID: string(rune('a' + i)),
					Range: address.Range{From: address.FromUint(base + from), To: address.FromUint(base + to)}})
		}
		for _, f := range check.Site(s) {
			if f.Severity == check.Blocks && f.Network == n.ID {
				return
			}
		}
		server := dhcp.NewServer(compile.Device(s, p.Server), dhcp.NewLeaseDB())
		want, got := drawing.Offered(check.Of(site.Normal(s)), p), server.Offered(p.ID)
		if address.Count(want) != address.Count(got) || len(address.Ranges(want, got)) > 0 {
			t.Fatalf("drawn %v, handed out %v", want, got)
		}
	})
}

// The overview of the largest network has no more parts than a screen has columns.
func TestAttackLargestNetworkIsDrawn(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, ok := s.Network("net-clinic")
	require.True(t, ok)
	n.Prefix = netip.MustParsePrefix("10.0.0.0/8")
	r := draw(s, n, nil, nil, 0)
	assert.Len(t, r.Bins, drawing.MaxBins)
	assert.Equal(t, r.Size, len(r.Bins)*r.Bin)
	pool := 0
	for _, b := range r.Bins {
		pool += b.Pool
	}
	assert.Positive(t, pool)
}
