package browser

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/internal/demo/demotest"
	"lithos/internal/draft"
	"lithos/web"
)

// An order's page that is open while it is pushed asks at most once for each line of the journal, and once it has
// landed it asks for nothing more.
func TestOneFetchAJournalLine(t *testing.T) {
	a := serve(t, demotest.Options{Files: web.Files(), Pace: 10 * time.Millisecond, Poll: time.Hour})
	who := a.technician(t)
	order, err := a.Work.OpenOrder(t.Context(), who, "kelder-bridge", "More for the clinic", "5121")
	require.NoError(t, err)
	_, err = a.Work.Edit(t.Context(), who, order, draft.Change{Entries: []edit.Entry{{Kind: "pool", ID: "pool-bench",
		Fields: map[string]string{"ranges": "10.84.16.40-58"}}}}, nil)
	require.NoError(t, err)
	_, err = a.Work.Rehearse(t.Context(), who, order, 1)
	require.NoError(t, err)

	b := a.at(t, 1280, 800, fmt.Sprintf("/orders/%d", order))
	b.see("known client")
	b.page.MustEval(`() => performance.clearResourceTimings()`)
	b.click("footer button", "^Push to")
	b.see("Pushed, verified and landed")
	asked := func() int {
		return b.page.MustEval(`() => performance.getEntriesByType('resource').filter(r =>
			r.initiatorType === 'fetch' && r.name.includes('/api/orders/')).length`).Int()
	}
	v, err := a.Work.Order(t.Context(), order)
	require.NoError(t, err)
	lines := len(v.Push.Journal)
	require.Greater(t, lines, 8)
	t.Logf("%d requests for %d lines of the journal", asked(), lines)
	assert.LessOrEqual(t, asked(), lines+1, "the push itself is one")
}
