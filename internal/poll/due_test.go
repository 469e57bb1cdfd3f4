package poll

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"lithos/internal/order"
)

// A device that answers is read with every poll. One that is silent is tried ever more rarely, and never given up.
func Test54SilentDevicesAreTriedEverMoreRarely(t *testing.T) {
	const every = 5 * time.Minute
	start := time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC)
	assert.True(t, due(order.Access{}, start), "never read")
	assert.True(t, due(order.Access{TriedAt: &start}, start.Add(every)))

	since, tried := start, start
	a := order.Access{ProblemAt: &since, TriedAt: &tried}
	var gaps []time.Duration
	for now := start.Add(every); now.Before(start.Add(24 * time.Hour)); now = now.Add(every) {
		if due(a, now) {
			gaps = append(gaps, now.Sub(tried))
			tried = now
		}
	}
	assert.Less(t, len(gaps), 32, "of 287 polls")
	assert.Equal(t, every, gaps[0])
	assert.IsNonDecreasing(t, gaps)
	assert.Equal(t, rarest, gaps[len(gaps)-1])
}
