package api_test

import (
	"encoding/json"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/api"
	"lithos/internal/store/gen"
	"lithos/internal/view"
)

// stepsOfAnOrder is how long the work orders of BenchmarkEdit get.
const stepsOfAnOrder = 100

// editor edits the draft of a site, one work order after another.
type editor struct {
	*client
	b              *testing.B
	order, version int
	have           string // stamp of the network as it was last told
	last           string // what the last edit answered
}

func newEditor(b *testing.B, networks, each int) *editor {
	c := open(b)
	c.signIn()
	doc, err := site.Read(strings.NewReader(grown(networks, each)))
	require.NoError(b, err)
	require.Less(b, len(check.Site(doc)), 10, "a site with findings at every network measures those")
	_, err = c.work.Sites.Import(b.Context(), doc, 0, "")
	require.NoError(b, err)
	return &editor{client: c, b: b, version: stepsOfAnOrder}
}

// edit makes one edit of a pool or of a reservation and says how long that took.
func (e *editor) edit(kind string) time.Duration {
	if e.version == stepsOfAnOrder {
		status, _, raw := e.send("POST", "/api/orders", map[string]string{"site": "big", "title": "T", "ticket": ""})
		require.Equal(e.b, 200, status, raw)
		if e.order > 0 {
			status, _, raw = e.send("POST", fmt.Sprintf("/api/orders/%d/drop", e.order),
				map[string]int{"version": e.version})
			require.Equal(e.b, 200, status, raw)
		}
		e.order, e.version = e.order+1, 0
	}
	entry := map[string]any{"kind": "pool", "id": "pool-1",
		"fields": map[string]string{"ranges": fmt.Sprintf("100-%d", 150+e.version%50)}}
	if kind == "reservation" {
		entry = map[string]any{"kind": "reservation", "id": "res-110",
			"fields": map[string]string{"name": fmt.Sprintf("host-%d", e.version)}}
	}
	body := map[string]any{"version": e.version,
		"look": map[string]any{"network": "net-1", "select": "pool:pool-1", "have": e.have}, "entries": []any{entry}}
	start := time.Now()
	status, raw := e.exchange("POST", fmt.Sprintf("/api/orders/%d/edits", e.order), body)
	took := time.Since(start)
	require.Equal(e.b, 200, status, raw)
	var answer struct{ Network view.NetworkAnswer }
	require.NoError(e.b, json.Unmarshal([]byte(raw), &answer))
	e.version, e.have, e.last = e.version+1, answer.Network.Stamp, raw
	return took
}

// bare stores the same octets as an edit in a transaction of its own.
func (e *editor) bare(seq int) time.Duration {
	const edits = `[{"op":"change","part":"pool:pool-1","fields":[{"name":"ranges","from":[{"from":"10.0.1.100",` +
		`"to":"10.0.1.150"}],"to":[{"from":"10.0.1.100","to":"10.0.1.151"}]}]}]`
	ctx := e.b.Context()
	start := time.Now()
	err := pgx.BeginFunc(ctx, e.db.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE work_order SET version = version + 1 WHERE id = 1"); err != nil {
			return err
		}
		_, err := tx.Exec(ctx,
			"INSERT INTO work_order_step (order_id, seq, says, edits, made_by) VALUES (1, $1, 'Change pool Pool: "+
				"ranges', $2, 1)", seq, edits)
		return err
	})
	require.NoError(e.b, err)
	return time.Since(start)
}

// median of what was measured, in nanoseconds: what a busy machine does to some of
// them does not count.
func median(all []time.Duration) float64 {
	slices.Sort(all)
	return float64(all[len(all)/2])
}

// BenchmarkEdit times one edit through the API (apply, check, store, view) at sites of
// several sizes, in turn with the bare transaction that stores the same octets. The
// cluster of the tests does not wait for the disk, so that the bare transaction is as
// fast as it can be.
func BenchmarkEdit(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(api.GCPercent)) // as the server does
	small, middle, large := newEditor(b, 6, 100), newEditor(b, 50, 100), newEditor(b, 250, 100)
	bare := newEditor(b, 6, 100)
	bare.edit("pool")
	took := map[string][]time.Duration{}
	note := func(what string, d time.Duration) { took[what] = append(took[what], d) }
	seq := 1000
	for b.Loop() {
		seq++
		note("bare", bare.bare(seq))
		note("6", small.edit("pool"))
		note("50", middle.edit("pool"))
		note("250", large.edit("pool"))
		note("250r", large.edit("reservation"))
		note("6r", small.edit("reservation"))
	}
	b.ReportMetric(median(took["50"])/median(took["bare"]), "50-networks/bare")
	b.ReportMetric(median(took["250"])/median(took["6"]), "250-networks/6")
	b.ReportMetric(median(took["250r"])/median(took["6r"]), "reservation-250/6")
	b.ReportMetric(median(took["6"])/1e3, "µs-at-6")
	b.ReportMetric(median(took["bare"])/1e3, "µs-bare")
	b.ReportMetric(float64(len(large.last)), "octets-at-250")
}

// BenchmarkSelect asks for what a row that is selected needs, at a large site.
func BenchmarkSelect(b *testing.B) {
	e := newEditor(b, 250, 100)
	octets := 0
	for b.Loop() {
		status, raw := e.exchange("GET", "/api/sites/big/part?network=net-1&select=reservation:res-110", nil)
		require.Equal(b, 200, status, raw)
		octets = len(raw)
	}
	b.ReportMetric(float64(octets), "octets")
}

// BenchmarkRounds lists a fleet of 2,000 sites in a process that knows none of them yet,
// in turn with merely reading the rows of the list.
func BenchmarkRounds(b *testing.B) {
	c := open(b)
	c.signIn()
	doc, err := site.Read(strings.NewReader(grown(6, 1)))
	require.NoError(b, err)
	for i := range 2000 {
		one := *doc
		one.ID, one.Code, one.Name = fmt.Sprintf("site-%d", i), fmt.Sprintf("code-%d", i), fmt.Sprintf("Site %d", i)
		_, err := c.work.Sites.Import(b.Context(), &one, 0, "")
		require.NoError(b, err)
	}
	var lists, rows []time.Duration
	for b.Loop() {
		start := time.Now()
		_, err := c.db.ListSites(b.Context(), gen.ListSitesParams{})
		require.NoError(b, err)
		rows = append(rows, time.Since(start))
		start = time.Now()
		status, raw := c.exchange("GET", "/api/sites", nil)
		require.Equal(b, 200, status, raw)
		lists = append(lists, time.Since(start))
	}
	b.ReportMetric(median(lists)/median(rows), "list/rows")
	b.ReportMetric(float64(lists[0].Milliseconds()), "ms-first-time")
}

// BenchmarkFollowing checks 2,000 dynamic names at 200 sites in one pass, each with a day of what its line had and
// what was told, in turn with merely reading the rows of that, and with the page that draws them.
func BenchmarkFollowing(b *testing.B) {
	c := open(b)
	for i := range 200 {
		doc := scenario.Site("the-garret")
		doc.ID, doc.Code = fmt.Sprintf("site-%d", i), fmt.Sprintf("code-%d", i)
		one := doc.Following[0]
		doc.Following = nil
		for k := range 10 {
			one.ID, one.Name = fmt.Sprintf("following-%d", k), fmt.Sprintf("home-%d.garret.example", k)
			doc.Following = append(doc.Following, one)
		}
		_, err := c.work.Sites.Import(b.Context(), doc, 0, "")
		require.NoError(b, err)
	}
	for _, sql := range []string{
		`INSERT INTO device_access (site_id, device_id, url, account, secret, fingerprint, read_at)
		SELECT 'site-' || s, 'dev-garret-rt', 'https://127.0.0.1:1', 'lithos', '', '', now()
		FROM generate_series(0, 199) s`,
		`INSERT INTO line_address (site_id, interface_id, address, first, last)
		SELECT 'site-' || s, 'if-garret-wan', ('203.0.113.' || n)::inet, now() - (24 - n) * interval '1 hour', now()
		FROM generate_series(0, 199) s, generate_series(1, 4) n`,
		`INSERT INTO told_address (site_id, following_id, address, at, taken, says)
		SELECT 'site-' || s, 'following-' || k, ('203.0.113.' || n)::inet, now() - (24 - n) * interval '1 hour',
			true, 'Taken'
		FROM generate_series(0, 199) s, generate_series(0, 9) k, generate_series(1, 4) n`,
		`INSERT INTO zone_reading (site_id, zone_id, read_at, records)
		SELECT 'site-' || s, 'zone-garret-out', now(), (SELECT jsonb_agg(jsonb_build_object('Owner', 'home-' || k,
			'Type', 'A', 'Data', '203.0.113.4', 'TTL', 60)) FROM generate_series(0, 9) k)
		FROM generate_series(0, 199) s`,
	} {
		_, err := c.db.Pool.Exec(b.Context(), sql)
		require.NoError(b, err)
	}
	var pages, checks, rows []time.Duration
	for b.Loop() {
		start := time.Now()
		_, err := c.db.Followed(b.Context())
		require.NoError(b, err)
		rows = append(rows, time.Since(start))
		start = time.Now()
		read, err := c.db.Followed(b.Context())
		require.NoError(b, err)
		sites, err := read.Sites(true)
		require.NoError(b, err)
		names := 0
		for _, s := range sites {
			check.Following(s.Site, s.Beside.Around(s.Site))
			names += len(s.Site.Following)
		}
		checks = append(checks, time.Since(start))
		require.GreaterOrEqual(b, names, 2000)
		start = time.Now()
		_, err = c.work.Followings(b.Context())
		require.NoError(b, err)
		pages = append(pages, time.Since(start))
	}
	b.ReportMetric(median(checks)/median(rows), "check/rows")
	b.ReportMetric(median(pages)/median(rows), "page/rows")
}
