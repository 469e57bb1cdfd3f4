package api_test

import (
	"fmt"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"lithos/core/site"
	"lithos/internal/api"
)

// stepsOfAnOrder is how long the work orders of BenchmarkEdit get.
const stepsOfAnOrder = 100

// BenchmarkEdit times one edit through the API (apply, check, store, view)
// against the bare transaction that stores the same bytes. The cluster of the
// tests does not wait for the disk, so that the bare transaction is as fast as
// it can be.
func BenchmarkEdit(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(api.GCPercent)) // as the server does
	for _, networks := range []int{6, 50, 250} {
		b.Run(fmt.Sprintf("api/networks=%d", networks), func(b *testing.B) {
			c := open(b)
			c.signIn()
			doc, err := site.Read(strings.NewReader(grown(networks)))
			require.NoError(b, err)
			_, err = c.work.Import(b.Context(), doc, 0, "")
			require.NoError(b, err)
			body := func(version int) map[string]any {
				return map[string]any{"version": version, "look": map[string]any{"network": "net-1", "select": "pool:pool-1"},
					"entries": []any{map[string]any{"kind": "pool", "id": "pool-1", "fields": map[string]string{"ranges": fmt.Sprintf("100-%d", 150+version%50)}}}}
			}
			order, version := 0, stepsOfAnOrder
			for b.Loop() {
				if version == stepsOfAnOrder {
					b.StopTimer()
					status, _, raw := c.send("POST", "/api/orders", map[string]string{"site": "big", "title": "T", "ticket": ""})
					require.Equal(b, 200, status, raw)
					if order > 0 {
						status, _, raw = c.send("POST", fmt.Sprintf("/api/orders/%d/drop", order), map[string]int{"version": version})
						require.Equal(b, 200, status, raw)
					}
					order, version = order+1, 0
					b.StartTimer()
				}
				if status, raw := c.exchange("POST", fmt.Sprintf("/api/orders/%d/edits", order), body(version)); status != 200 {
					b.Fatal(raw)
				}
				version++
			}
		})
	}
	b.Run("bare transaction", func(b *testing.B) {
		c := open(b)
		ctx := b.Context()
		c.signIn()
		c.send("POST", "/api/orders", map[string]string{"site": "kelder-bridge", "title": "T", "ticket": ""})
		edits := `[{"op":"change","part":"pool:pool-1","fields":[{"name":"ranges","from":[{"from":"10.0.1.100","to":"10.0.1.150"}],"to":[{"from":"10.0.1.100","to":"10.0.1.151"}]}]}]`
		seq := 0
		for b.Loop() {
			seq++
			err := pgx.BeginFunc(ctx, c.db.Pool, func(tx pgx.Tx) error {
				if _, err := tx.Exec(ctx, "UPDATE work_order SET version = version + 1 WHERE id = 1"); err != nil {
					return err
				}
				_, err := tx.Exec(ctx, "INSERT INTO work_order_step (order_id, seq, says, edits, made_by) VALUES (1, $1, 'Change pool Pool: ranges', $2, 1)", seq, edits)
				return err
			})
			if err != nil {
				b.Fatal(err)
			}
		}
	})
}

// BenchmarkRounds times the list of a fleet of 2,000 sites, once each site has
// been read and checked.
func BenchmarkRounds(b *testing.B) {
	c := open(b)
	c.signIn()
	doc, err := site.Read(strings.NewReader(grown(6)))
	require.NoError(b, err)
	for i := range 2000 {
		one := *doc
		one.ID, one.Code, one.Name = fmt.Sprintf("site-%d", i), fmt.Sprintf("code-%d", i), fmt.Sprintf("Site %d", i)
		_, err := c.work.Import(b.Context(), &one, 0, "")
		require.NoError(b, err)
	}
	start := time.Now()
	status, _ := c.exchange("GET", "/api/sites", nil)
	require.Equal(b, 200, status)
	first := time.Since(start)
	for b.Loop() {
		if status, raw := c.exchange("GET", "/api/sites", nil); status != 200 {
			b.Fatal(raw)
		}
	}
	b.ReportMetric(float64(first.Milliseconds()), "ms-first-time")
}
