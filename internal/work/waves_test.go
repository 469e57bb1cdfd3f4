package work_test

import (
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"lithos/internal/actor"
	"lithos/internal/draft"
	"lithos/internal/push"
)

// everywhere is an order at both practices and the garret that tells clients of a time server, rehearsed.
func (o *office) everywhere() (lead int64, orders map[string]int64) {
	o.t.Helper()
	lead = o.at("orchard-north")
	o.edit(lead, optionOf("network:net-north-bench", "42", "172.22.64.1"))
	copied, err := o.Drafts.CopyTo(o.t.Context(), o.mk, lead, []string{"orchard-south", "the-garret", "orchard-north"})
	require.NoError(o.t, err)
	require.Len(o.t, copied, 3)
	orders = map[string]int64{"orchard-north": lead}
	for _, c := range copied {
		if c.Order != 0 {
			orders[c.Site] = c.Order
		}
	}
	assert.Equal(o.t, 1, copied[0].Edits)
	assert.Equal(o.t, 1, copied[1].Left, "the garret has no network like Bench")
	assert.Contains(o.t, copied[2].Says, "is open there already")
	return lead, orders
}

func (o *office) waves(id int64) *push.Waves {
	o.t.Helper()
	v, err := o.Order(o.t.Context(), id)
	require.NoError(o.t, err)
	require.NotNil(o.t, v.Waves)
	return v.Waves
}

func (o *office) wavesEnd(id int64) *push.Waves {
	o.t.Helper()
	require.Eventually(o.t, func() bool { return o.waves(id).State != "running" }, 2*time.Minute, 50*time.Millisecond)
	return o.waves(id)
}

// An order over several sites: copied by role and name, what does not fit decided, and pushed in waves.
func TestWaves(t *testing.T) {
	t.Parallel()
	o := openAll(t)
	run(t, o.Service)
	ctx := t.Context()
	lead, orders := o.everywhere()
	refusal(t, o.Pushes.StartWaves(ctx, o.mk, lead, []int{1, 10}, false, nil), actor.Conflict, "was not rehearsed")
	require.NoError(t, o.Pushes.RehearseTogether(ctx, o.mk, lead))
	refusal(t, o.Pushes.StartWaves(ctx, o.mk, lead, []int{1, 10}, false, nil), actor.Conflict,
		"1 edit does not apply here")
	d, err := o.Drafts.Draft(ctx, orders["the-garret"])
	require.NoError(t, err)
	lost, err := o.Drafts.Lost(ctx, d)
	require.NoError(t, err)
	require.Len(t, lost, 1)
	assert.Contains(t, lost[0].Why, "has no network like Bench")
	require.NoError(t, o.Drafts.Drop(ctx, o.mk, orders["the-garret"], d.Order.Version))

	require.NoError(t, o.Pushes.StartWaves(ctx, o.mk, lead, []int{1, 10}, false, nil))
	w := o.wavesEnd(orders["orchard-south"])
	assert.Equal(t, "landed", w.State, w.Problem)
	assert.Equal(t, 2, w.Number)
	require.Len(t, w.Sites, 3)
	for i, site := range []string{"Orchard Lane north practice", "Orchard Lane south practice"} {
		assert.Equal(t, site, w.Sites[i].Site)
		assert.Equal(t, i+1, w.Sites[i].Wave)
		assert.Equal(t, "landed", w.Sites[i].State)
	}
	refusal(t, o.Pushes.StartWaves(ctx, o.mk, lead, []int{1}, false, nil), actor.Conflict, "None of them is open")
}

// A push that lands and the job that looks for waiting orders may bring the same waves on at once. Each order is begun
// once, and the one that comes second stops nothing.
func TestWavesBroughtOnAtOnce(t *testing.T) {
	t.Parallel()
	o := openAll(t)
	run(t, o.Service)
	lead, orders := o.everywhere()
	o.drop(orders["the-garret"])
	require.NoError(t, o.Pushes.RehearseTogether(t.Context(), o.mk, lead))
	var started atomic.Bool
	var others errgroup.Group
	for range 6 {
		others.Go(func() error {
			for !started.Load() {
				if err := o.Pushes.AdvanceWaves(t.Context()); err != nil {
					return err
				}
			}
			return nil
		})
	}
	err := o.Pushes.StartWaves(t.Context(), o.mk, lead, []int{2}, false, nil)
	started.Store(true)
	require.NoError(t, err)
	require.NoError(t, others.Wait())
	w := o.wavesEnd(lead)
	assert.Equal(t, "landed", w.State, w.Problem)
}

func (o *office) drop(id int64) {
	o.t.Helper()
	require.NoError(o.t, o.Drafts.Drop(o.t.Context(), o.mk, id, o.version(id)))
}

func optionOf(in, code, value string) draft.Change {
	c := entry("option", code, "value", value)
	c.Entries[0].In = in
	return c
}

// A site that is not ready can be left out: the others are pushed, its order stays open, and without it nothing is
// refused for its sake. What stopped a wave is named.
func Test45ASiteIsLeftOutOfAWave(t *testing.T) {
	t.Parallel()
	o := openAll(t)
	run(t, o.Service)
	lead, orders := o.everywhere()
	require.NoError(t, o.Pushes.RehearseTogether(t.Context(), o.mk, lead))
	refusal(t, o.Pushes.StartWaves(t.Context(), o.mk, lead, []int{1}, false, nil), actor.Conflict,
		"Leave that site out")
	refusal(t, o.Pushes.StartWaves(t.Context(), o.mk, lead, []int{1}, false, []int64{lead, orders["orchard-south"],
		orders["the-garret"]}), actor.Invalid, "Leave at least one in")
	require.NoError(t, o.Pushes.StartWaves(t.Context(), o.mk, lead, []int{1}, false, []int64{orders["the-garret"]}))
	w := o.wavesEnd(lead)
	assert.Equal(t, "landed", w.State, w.Problem)
	for _, s := range w.Sites {
		want := "landed"
		if s.Code == "the-garret" {
			want = "open"
		}
		assert.Equal(t, want, s.State, s.Site)
	}
}
