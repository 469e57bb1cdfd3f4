package work

import (
	"context"
	"slices"
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// gauges are what is so at the moment it is asked for: the pool of connections and
// the jobs in the database.
type gauges struct{ *Service }

// Meters are what /metrics tells of the use cases, of the pool's use and of the jobs by
// state.
func (s *Service) Meters() []prometheus.Collector {
	return slices.Concat(s.Pushes.Meters(), s.Poll.Meters(), s.Accounts.Meters(),
		[]prometheus.Collector{gauges{s}, s.failures.count})
}

var (
	connectionsDesc = prometheus.NewDesc("lithos_database_connections",
		"Pooled connections to PostgreSQL, by state: busy, idle or most.", []string{"state"}, nil)
	waitsDesc = prometheus.NewDesc("lithos_database_waits_total",
		"How often somebody waited for a connection.", nil, nil)
	jobsDesc = prometheus.NewDesc("lithos_jobs", "Background jobs, by kind and state.",
		[]string{"kind", "state"}, nil)
	pushesDesc = prometheus.NewDesc("lithos_pushes_under_way", "Pushes that have not ended, by state.",
		[]string{"state"}, nil)
)

// Describe implements prometheus.Collector.
func (g gauges) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{connectionsDesc, waitsDesc, jobsDesc, pushesDesc} {
		to <- d
	}
}

// Collect implements prometheus.Collector.
func (g gauges) Collect(to chan<- prometheus.Metric) {
	pool := g.Store.Pool.Stat()
	for state, n := range map[string]int32{"busy": pool.AcquiredConns(), "idle": pool.IdleConns(),
		"most": pool.MaxConns()} {
		to <- prometheus.MustNewConstMetric(connectionsDesc, prometheus.GaugeValue, float64(n), state)
	}
	to <- prometheus.MustNewConstMetric(waitsDesc, prometheus.CounterValue, float64(pool.EmptyAcquireCount()))
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	jobs, err := g.Store.JobsByState(ctx)
	if err != nil {
		g.log.Warn("cannot count jobs for /metrics", "error", err)
		return
	}
	for _, j := range jobs {
		to <- prometheus.MustNewConstMetric(jobsDesc, prometheus.GaugeValue, float64(j.N), j.Kind, j.State)
	}
	pushes, err := g.Store.PushesByState(ctx)
	if err != nil {
		g.log.Warn("cannot count pushes for /metrics", "error", err)
		return
	}
	for _, p := range pushes {
		to <- prometheus.MustNewConstMetric(pushesDesc, prometheus.GaugeValue, float64(p.N), p.State)
	}
}
