package poll_test

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/observed"
	"lithos/core/site"
	"lithos/internal/demo/demotest"
	"lithos/internal/poll"
	"lithos/internal/standin"
	"lithos/internal/store/gen"
)

const router = "dev-quill-rt"

// wider gives the lab's pool of the router another beginning, as somebody at its console does.
func wider(d *demotest.Desk) {
	held := d.Devices[router].Running()
	held.DHCP.Pool = slices.Clone(held.DHCP.Pool)
	for i := range held.DHCP.Pool {
		if p := &held.DHCP.Pool[i]; p.Name == "Lab" {
			p.Range = slices.Clone(p.Range)
			p.Range[0].Start = p.Range[0].Start.Prev()
		}
	}
	require.NoError(d, d.Devices[router].Set(held))
}

// drifted is how many things the router holds otherwise than it was given, as it was last read.
func drifted(d *demotest.Desk) int {
	access, err := d.Store.Access(d.Context(), d.Doc.ID)
	require.NoError(d, err)
	for _, a := range access {
		if a.DeviceID == router {
			require.Empty(d, a.Problem)
			return a.Drifted
		}
	}
	d.Fatal("no such device")
	return 0
}

// written is what PostgreSQL counts of the writes to a table, by the newest transaction that wrote to it.
func written(d *demotest.Desk, table string) (newest string) {
	require.NoError(d, d.Store.Pool.QueryRow(d.Context(),
		"SELECT coalesce(string_agg(xmin::text, ' ' ORDER BY ctid), '') FROM "+table).Scan(&newest))
	return newest
}

// What is changed by hand is found at the next reading, also where it is changed back and forth, by any process.
func TestChangesByHandAreFound(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	ctx, other := t.Context(), d.Another()
	own := d.Devices[router].Running()
	d.Poll.Observe(ctx, d.Doc.ID)
	other.Poll.Observe(ctx, d.Doc.ID)
	assert.Zero(t, drifted(d))
	for _, reads := range []interface {
		Observe(context.Context, string)
	}{d.Poll, other.Poll, d.Poll} {
		wider(d)
		reads.Observe(ctx, d.Doc.ID)
		assert.Equal(t, 1, drifted(d))
		require.NoError(t, d.Devices[router].Set(own))
		reads.Observe(ctx, d.Doc.ID)
		assert.Zero(t, drifted(d))
	}
	events, err := d.Store.EventsOfSite(ctx, d.Doc.ID)
	require.NoError(t, err)
	kinds := map[string]int{}
	for _, e := range events {
		kinds[e.Kind]++
	}
	assert.Equal(t, 3, kinds[poll.EventDrifted])
	assert.Equal(t, 3, kinds[poll.EventHolds])
}

// A device is judged anew on each revision, though it holds the same.
func TestJudgedOnEachRevision(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	d.Poll.Observe(t.Context(), d.Doc.ID)
	require.Zero(t, drifted(d))
	d.Revise(func(doc *site.Site) {
		p, ok := doc.Pool("pool-quill-lab")
		require.True(t, ok)
		p.Ranges[0].From = p.Ranges[0].From.Next()
	})
	d.Poll.Observe(t.Context(), d.Doc.ID)
	assert.Equal(t, 1, drifted(d))
}

// A reading that finds nothing new writes nothing but that the device was read.
func TestNothingNewWritesNothing(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	_, err := d.Poll.Try(t.Context(), d.Doc.Code, poll.TryRequest{Network: "net-quill-lab", Against: "device",
		HostName: "kiln", MAC: "02005e0000aa"})
	require.NoError(t, err)
	d.Poll.Observe(t.Context(), d.Doc.ID)
	tables := []string{"sighting", "sighting_past", "device_config", "site_standing", "site_event"}
	var before []string
	for _, table := range tables {
		before = append(before, written(d, table))
	}
	require.NotEmpty(t, before[0], "the client was seen")
	read := written(d, "device_access")
	d.Poll.Observe(t.Context(), d.Doc.ID)
	for i, table := range tables {
		assert.Equal(t, before[i], written(d, table), table)
	}
	assert.NotEqual(t, read, written(d, "device_access"))
	// What was heard long ago is written again.
	_, err = d.Store.Pool.Exec(t.Context(), "UPDATE sighting SET last = last - interval '3 minutes'")
	require.NoError(t, err)
	old := written(d, "sighting")
	d.Poll.Observe(t.Context(), d.Doc.ID)
	assert.NotEqual(t, old, written(d, "sighting"))
}

// Two machines that are heard in turn on one address are both known to be there at once, without waiting.
func TestTwoMachinesOnOneAddress(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	row := func(mac byte, at time.Time) gen.PutSightingParams {
		return gen.PutSightingParams{SiteID: d.Doc.ID, DeviceID: router, Source: observed.Neighbour, State: "heard",
			Address: netip.MustParseAddr("10.7.8.9"), Mac: net.HardwareAddr{2, 0, 0x5e, 0, 0, mac}, ClientID: []byte{},
			Last: at}
	}
	at := time.Now().Truncate(time.Second)
	for i, mac := range []byte{1, 2, 1} {
		d.Store.PutSighting(t.Context(), []gen.PutSightingParams{row(mac, at.Add(time.Duration(i)*time.Second))}).
			Exec(func(_ int, err error) { require.NoError(t, err) })
	}
	heard, err := d.Store.Heard(t.Context(), d.Doc.ID)
	require.NoError(t, err)
	contested := 0
	for _, one := range observed.Look(d.Doc, observed.Sightings(d.Doc, heard, at.Add(2*time.Second))) {
		for _, r := range one.Remarks {
			if r.Kind == observed.Contested {
				contested++
			}
		}
	}
	assert.Equal(t, 2, contested)
}

// While somebody has a site in front of them it is read again and again; not before, and not afterwards.
func TestWatchedSitesAreReadOften(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	d.Poll.WatchedEvery = 5 * time.Millisecond
	d.Poll.Use(t.Context(), nil)
	read := func() string { return written(d, "device_access") }
	before := read()
	first, second := d.Poll.Watch(d.Doc.ID), d.Poll.Watch(d.Doc.ID)
	require.Eventually(t, func() bool { return read() != before }, 10*time.Second, time.Millisecond)
	wider(d)
	require.Eventually(t, func() bool { return drifted(d) == 1 }, 10*time.Second, 5*time.Millisecond)
	first()
	first() // twice is once
	at := read()
	require.Eventually(t, func() bool { return read() != at }, 10*time.Second, time.Millisecond, "another still looks")
	second()
	// The reading that is under way may still end.
	last := ""
	require.Eventually(t, func() bool {
		was := last
		last = read()
		return was == last
	}, 10*time.Second, 200*time.Millisecond)
}

// A device that is silent says so, keeps no other from being read, and is read again once it answers.
func TestSilentDevice(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	d.Devices[router].Inject(standin.Faults{Unreachable: true})
	d.Poll.Observe(t.Context(), d.Doc.ID)
	problems := func() map[string]string {
		access, err := d.Store.Access(t.Context(), d.Doc.ID)
		require.NoError(t, err)
		out := map[string]string{}
		for _, a := range access {
			out[a.DeviceID] = a.Problem
		}
		return out
	}
	assert.NotEmpty(t, problems()[router])
	assert.Empty(t, problems()["dev-quill-sw"])
	d.Devices[router].Inject(standin.Faults{})
	d.Poll.Observe(t.Context(), d.Doc.ID)
	assert.Empty(t, problems()[router])
	assert.Zero(t, drifted(d))
}
