package api

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"lithos/internal/work"
)

// alive says that the process answers.
func alive(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") }

// ready says whether the process can work: its database answers, and holds this
// version's layout.
func (s *server) ready(c *echo.Context) error {
	ctx, cancel := context.WithTimeout(c.Request().Context(), 2*time.Second)
	defer cancel()
	held, err := s.work.Accounts.Holding(ctx)
	switch {
	case err != nil:
		s.log.Warn("not ready", "error", err)
		return c.String(http.StatusServiceUnavailable, "the database does not answer\n")
	case held != nil:
		return c.String(http.StatusOK, "ok, but pushes and readings are held: "+held.Because+"\n")
	}
	return c.String(http.StatusOK, "ok\n")
}

// metrics are what Prometheus reads.
type metrics struct{ took *prometheus.HistogramVec }

// newMetrics registers what is counted where it is read from, which is not where the API is served.
func newMetrics(w *work.Service, all prometheus.Registerer) *metrics {
	took := prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "lithos_request_seconds", Help: "How long requests took, by route and status.",
		Buckets: prometheus.ExponentialBuckets(0.001, 2, 15),
	}, []string{"method", "route", "status"})
	if all == nil {
		all = prometheus.NewRegistry()
	}
	all.MustRegister(took, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	all.MustRegister(w.Meters()...)
	return &metrics{took}
}

// count notes how long each request took. A stream takes as long as its browser stays.
func (m *metrics) count(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if isStream(c) {
			return next(c)
		}
		began := time.Now()
		err := next(c)
		if err != nil {
			c.Echo().HTTPErrorHandler(c, err)
		}
		status, _ := answered(c)
		m.took.WithLabelValues(c.Request().Method, c.Path(), strconv.Itoa(status)).Observe(time.Since(began).Seconds())
		return nil
	}
}
