package work

import (
	"context"
	"log/slog"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"
)

// failures counts background jobs that failed, and logs why. It is safe for concurrent use: nothing of it changes after
// it was made but the counter, which is.
type failures struct {
	log   *slog.Logger
	count *prometheus.CounterVec
}

func newFailures(log *slog.Logger) *failures {
	return &failures{log, prometheus.NewCounterVec(prometheus.CounterOpts{
		Name: "lithos_job_failures_total", Help: "Background jobs that failed, by kind and how: error or panic.",
	}, []string{"kind", "how"})}
}

// HandleError implements river.ErrorHandler.
func (f *failures) HandleError(_ context.Context, job *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	f.count.WithLabelValues(job.Kind, "error").Inc()
	f.log.Error("a background job failed", "kind", job.Kind, "job", job.ID, "attempt", job.Attempt, "error", err)
	return nil
}

// HandlePanic implements river.ErrorHandler.
func (f *failures) HandlePanic(
	_ context.Context, job *rivertype.JobRow, cause any, trace string,
) *river.ErrorHandlerResult {
	f.count.WithLabelValues(job.Kind, "panic").Inc()
	f.log.Error("a background job panicked", "kind", job.Kind, "job", job.ID, "attempt", job.Attempt, "cause", cause,
		"trace", trace)
	return nil
}
