package work

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// Meters count what the use cases do, for /metrics.
type Meters struct {
	pushes  *prometheus.CounterVec
	signIns *prometheus.CounterVec
	reads   *prometheus.CounterVec
	reading prometheus.Histogram
}

func newMeters() *Meters {
	return &Meters{
		pushes: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "lithos_pushes_total", Help: "Pushes that have ended, by outcome: landed or failed.",
		}, []string{"outcome"}),
		signIns: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "lithos_sign_ins_total", Help: "Attempts to sign in, by outcome: done, refused, throttled or busy.",
		}, []string{"outcome"}),
		reads: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "lithos_device_reads_total", Help: "Readings of devices, by outcome: answered or failed.",
		}, []string{"outcome"}),
		reading: prometheus.NewHistogram(prometheus.HistogramOpts{
			Name: "lithos_device_read_seconds", Help: "How long readings of devices took.", Buckets: prometheus.ExponentialBuckets(0.005, 2, 13),
		}),
	}
}

// Describe implements prometheus.Collector.
func (m *Meters) Describe(to chan<- *prometheus.Desc) {
	for _, c := range m.all() {
		c.Describe(to)
	}
}

// Collect implements prometheus.Collector.
func (m *Meters) Collect(to chan<- prometheus.Metric) {
	for _, c := range m.all() {
		c.Collect(to)
	}
}

func (m *Meters) all() []prometheus.Collector {
	return []prometheus.Collector{m.pushes, m.signIns, m.reads, m.reading}
}

// gauges are what is so at the moment it is asked for: the pool of connections and
// the jobs in the database.
type gauges struct{ *Service }

// Gauges collects the pool's use and the jobs by state.
func (s *Service) Gauges() prometheus.Collector { return gauges{s} }

var (
	connectionsDesc = prometheus.NewDesc("lithos_database_connections", "Pooled connections to PostgreSQL, by state: busy, idle or most.", []string{"state"}, nil)
	waitsDesc       = prometheus.NewDesc("lithos_database_waits_total", "How often somebody waited for a connection.", nil, nil)
	jobsDesc        = prometheus.NewDesc("lithos_jobs", "Background jobs, by kind and state.", []string{"kind", "state"}, nil)
	pushesDesc      = prometheus.NewDesc("lithos_pushes_under_way", "Pushes that have not ended, by state.", []string{"state"}, nil)
)

// Describe implements prometheus.Collector.
func (g gauges) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{connectionsDesc, waitsDesc, jobsDesc, pushesDesc} {
		to <- d
	}
}

// Collect implements prometheus.Collector.
func (g gauges) Collect(to chan<- prometheus.Metric) {
	pool := g.store.Pool.Stat()
	for state, n := range map[string]int32{"busy": pool.AcquiredConns(), "idle": pool.IdleConns(), "most": pool.MaxConns()} {
		to <- prometheus.MustNewConstMetric(connectionsDesc, prometheus.GaugeValue, float64(n), state)
	}
	to <- prometheus.MustNewConstMetric(waitsDesc, prometheus.CounterValue, float64(pool.EmptyAcquireCount()))
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	jobs, err := g.store.JobsByState(ctx)
	if err != nil {
		g.log.Warn("cannot count jobs for /metrics", "error", err)
		return
	}
	for _, j := range jobs {
		to <- prometheus.MustNewConstMetric(jobsDesc, prometheus.GaugeValue, float64(j.N), j.Kind, j.State)
	}
	pushes, err := g.store.PushesByState(ctx)
	if err != nil {
		g.log.Warn("cannot count pushes for /metrics", "error", err)
		return
	}
	for _, p := range pushes {
		to <- prometheus.MustNewConstMetric(pushesDesc, prometheus.GaugeValue, float64(p.N), p.State)
	}
}
