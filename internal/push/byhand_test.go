package push_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
	"lithos/internal/push"
	"lithos/internal/standin"
)

// until waits until the latest push of an order is so, and has not ended before.
func until(d *demotest.Desk, id int64, what string, is func(*push.PushView) bool) (v *push.PushView) {
	d.Helper()
	require.Eventually(d, func() bool {
		var err error
		v, err = d.Pushes.Latest(d.Context(), id)
		require.NoError(d, err)
		return v != nil && is(v)
	}, time.Minute, 5*time.Millisecond, what)
	return v
}

func waitsByHand(v *push.PushView) bool { return v.State == "byhand" }

// byHand is a desk whose router Lithos does not reach, and an order for it that is being pushed.
func byHand(t *testing.T) (d *demotest.Desk, id int64, v *push.PushView) {
	t.Helper()
	d = demotest.NewDesk(t, "quill-street")
	d.RunJobs()
	n, err := d.Store.DropAccess(t.Context(), d.Doc.ID, router)
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
	id = shorter(d)
	d.Rehearse(id)
	_, err = d.Pushes.Push(t.Context(), d.MK, id, d.Version(id))
	require.NoError(t, err)
	return d, id, until(d, id, "the runbook", waitsByHand)
}

// What Lithos cannot reach is changed at its console: line by line, each with what should be seen, and it counts as
// verified once somebody says so.
func TestStepsAreDoneByHand(t *testing.T) {
	t.Parallel()
	d, id, v := byHand(t)
	ctx := t.Context()
	require.NotEmpty(t, v.Hand)
	held := d.Devices[router].Running()
	first, last := v.Hand[0], v.Hand[len(v.Hand)-1]
	require.Greater(t, len(v.Hand), 1)
	demotest.Refused(t, d.Pushes.Tick(ctx, d.Jo, id, last.Seq, last.Expect), actor.Conflict, "Do “"+first.Says+
		"” first")
	require.NoError(t, d.Pushes.Tick(ctx, d.Jo, id, first.Seq, first.Expect))
	demotest.Refused(t, d.Pushes.Tick(ctx, d.MK, id, first.Seq, first.Expect), actor.Conflict, "ticked that already")
	require.NoError(t, d.Pushes.Untick(ctx, d.MK, id, first.Seq))
	demotest.Refused(t, d.Pushes.Untick(ctx, d.MK, id, first.Seq), actor.Conflict, "")
	demotest.Refused(t, d.Pushes.Tick(ctx, d.MK, id, 9999, ""), actor.Missing, "")
	for _, l := range v.Hand {
		if l.Expect != "" {
			demotest.Refused(t, d.Pushes.Tick(ctx, d.Jo, id, l.Seq, "something else"), actor.Invalid,
				"should show "+l.Expect)
		}
		require.NoError(t, d.Pushes.Tick(ctx, d.Jo, id, l.Seq, l.Expect))
	}
	v = d.Ended(id)
	require.Equal(t, "landed", v.State, v.Problem)
	assert.Equal(t, held, d.Devices[router].Running(), "Lithos has not touched it")
	demotest.Refused(t, d.Pushes.Untick(ctx, d.MK, id, last.Seq), actor.Conflict, "gone on")
	demotest.Refused(t, d.Pushes.Stop(ctx, d.MK, id), actor.Conflict, "cannot be stopped")
	require.Len(t, v.Unverified, 1)
	assert.Equal(t, "Lab", v.Unverified[0].Name)
	require.NoError(t, d.Pushes.Verify(ctx, d.Jo, id, 0))
	require.Error(t, d.Pushes.Verify(ctx, d.MK, id, 0), "once")
	v, err := d.Pushes.Latest(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, "Done and verified by hand, and landed", v.Title)
}

// A push that is stopped at the console says how what was done there is put back.
func TestStoppedAtTheConsole(t *testing.T) {
	t.Parallel()
	d, id, v := byHand(t)
	ctx := t.Context()
	demotest.Refused(t, d.Pushes.EndPush(ctx, d.MK, id), actor.Conflict, "No device is waited for")
	require.True(t, v.Stops)
	require.NoError(t, d.Pushes.Tick(ctx, d.Jo, id, v.Hand[0].Seq, v.Hand[0].Expect))
	require.NoError(t, d.Pushes.Stop(ctx, d.MK, id))
	v = d.Ended(id)
	assert.Equal(t, "failed", v.State)
	assert.Contains(t, v.Problem, "Stopped by Maren Kolb. To be put back by hand")
	back := 0
	for _, l := range v.Hand {
		if l.Part == "back" {
			back++
			require.NoError(t, d.Pushes.Tick(ctx, d.Jo, id, l.Seq, ""))
		}
	}
	assert.Positive(t, back)
	before := head(d)
	assert.EqualValues(t, 1, before, "nothing has landed")
}

// A device that falls silent amid a push is waited for, and holds its site. Somebody may end that; what is not known is
// said to be.
func TestASilentDeviceIsWaitedFor(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	d.Service.Pushes.Timing.ConfirmWithin = 3 * time.Second
	d.RunJobs()
	id := shorter(d)
	demotest.Refused(t, d.Pushes.EndPush(t.Context(), d.MK, id), actor.Missing, "has no push")
	d.Rehearse(id)
	d.Devices[router].Inject(standin.Faults{Slow: 200 * time.Millisecond})
	_, err := d.Pushes.Push(t.Context(), d.MK, id, d.Version(id))
	require.NoError(t, err)
	until(d, id, "a step", func(v *push.PushView) bool {
		n := len(v.Journal)
		return n > 0 && v.Journal[n-1].Stage == "step"
	})
	d.Devices[router].Inject(standin.Faults{Unreachable: true})
	v := until(d, id, "the silence", func(v *push.PushView) bool { return len(v.Silent) > 0 })
	assert.Equal(t, []string{"rt-quill"}, v.Silent)
	other := shorter(d)
	d.Rehearse(other)
	_, err = d.Pushes.Push(t.Context(), d.MK, other, d.Version(other))
	demotest.Refused(t, err, actor.Conflict, "Another push to this site is under way")
	require.NoError(t, d.Pushes.EndPush(t.Context(), d.Jo, id))
	v = d.Ended(id)
	assert.Equal(t, "failed", v.State)
	assert.Contains(t, v.Problem, "Ended by Jo Arden while it waited for rt-quill")
	assert.Contains(t, v.Problem, "Not known: rt-quill")
}

// together is the orders that belong together with one.
func together(d *demotest.Desk, lead int64) *push.Waves {
	o, err := d.Store.Order(d.Context(), lead)
	require.NoError(d, err)
	w, err := d.Pushes.TogetherWith(d.Context(), &o)
	require.NoError(d, err)
	require.NotNil(d, w)
	return w
}

// wavesEnd waits until the waves of orders go on no more.
func wavesEnd(d *demotest.Desk, lead int64) (w *push.Waves) {
	require.Eventually(d, func() bool {
		w = together(d, lead)
		return w.State != "running"
	}, time.Minute, 10*time.Millisecond)
	return w
}

// Orders for several sites are pushed in waves: one that fails stops the next, and they can be started anew.
func TestWavesOfSites(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	ctx, other := t.Context(), d.Twin()
	d.RunJobs()
	lead := shorter(d)
	copied, err := d.Drafts.CopyTo(ctx, d.MK, lead, []string{other.Code})
	require.NoError(t, err)
	require.Len(t, copied, 1)
	start := func(sizes []int, together bool) error {
		return d.Pushes.StartWaves(ctx, d.MK, lead, sizes, together, nil)
	}
	demotest.Refused(t, start([]int{1}, false), actor.Conflict, "was not rehearsed")
	require.NoError(t, d.Pushes.RehearseTogether(ctx, d.MK, lead))
	demotest.Refused(t, d.Pushes.StopWaves(ctx, d.MK, lead), actor.Conflict, "")
	d.Devices[router].Inject(standin.Faults{RefuseWrite: 1})
	require.NoError(t, start([]int{1}, false))
	w := wavesEnd(d, lead)
	assert.Equal(t, "stopped", w.State)
	assert.Contains(t, w.Problem, d.Doc.Name+" returned")
	assert.Equal(t, "open", w.Sites[1].State, "the next wave was not begun")
	require.NoError(t, d.Pushes.RehearseTogether(ctx, d.MK, lead))
	require.NoError(t, start([]int{1}, false))
	w = wavesEnd(d, lead)
	assert.Equal(t, "landed", w.State, w.Problem)
	assert.Equal(t, []int{1, 2}, []int{w.Sites[0].Wave, w.Sites[1].Wave})
	for _, s := range w.Sites {
		assert.Equal(t, "landed", s.State)
	}
	demotest.Refused(t, start([]int{1}, false), actor.Conflict, "None of them is open")
}

// All or none: where one site fails, the other returns as well.
func TestAllSitesOrNone(t *testing.T) {
	t.Parallel()
	for _, state := range []string{"stopped", "landed"} {
		t.Run(state, func(t *testing.T) {
			t.Parallel()
			d := demotest.NewDesk(t, "quill-street")
			ctx, other := t.Context(), d.Twin()
			d.RunJobs()
			lead := shorter(d)
			_, err := d.Drafts.CopyTo(ctx, d.MK, lead, []string{other.Code})
			require.NoError(t, err)
			require.NoError(t, d.Pushes.RehearseTogether(ctx, d.MK, lead))
			was := d.Devices[router].Running().DHCP
			if state == "stopped" {
				d.Devices["dev-thrush-rt"].Inject(standin.Faults{RefuseWrite: 1})
			}
			require.NoError(t, d.Pushes.StartWaves(ctx, d.MK, lead, nil, true, nil))
			w := wavesEnd(d, lead)
			assert.Equal(t, state, w.State, w.Problem)
			assert.Eventually(t, func() bool {
				return (state == "stopped") == assert.ObjectsAreEqual(was, d.Devices[router].Running().DHCP)
			}, 20*time.Second, 10*time.Millisecond)
		})
	}
}
