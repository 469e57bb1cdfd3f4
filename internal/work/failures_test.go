package work

import (
	"bytes"
	"errors"
	"log/slog"
	"testing"

	"github.com/prometheus/client_golang/prometheus/testutil"
	"github.com/riverqueue/river/rivertype"
	"github.com/stretchr/testify/assert"
)

// A job that failed is counted by its kind, and the log says why.
func TestFailedJobsAreCounted(t *testing.T) {
	var out bytes.Buffer
	f := newFailures(slog.New(slog.NewTextHandler(&out, nil)))
	job := &rivertype.JobRow{ID: 7, Kind: "tidy", Attempt: 1}
	f.HandleError(t.Context(), job, errors.New("no room left"))
	f.HandleError(t.Context(), job, errors.New("no room left"))
	f.HandlePanic(t.Context(), job, "index out of range", "line 3")
	assert.InDelta(t, 2, testutil.ToFloat64(f.count.WithLabelValues("tidy", "error")), 0)
	assert.InDelta(t, 1, testutil.ToFloat64(f.count.WithLabelValues("tidy", "panic")), 0)
	for _, says := range []string{"no room left", "index out of range", "line 3", "kind=tidy", "job=7"} {
		assert.Contains(t, out.String(), says)
	}
}
