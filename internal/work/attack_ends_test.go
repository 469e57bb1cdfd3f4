package work_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/actor"
	"lithos/internal/push"
	"lithos/internal/standin"
)

// A confirm, or the answer to it, is lost on the way: it is asked after.
func TestAttackConfirmOrItsAnswerIsLost(t *testing.T) {
	t.Parallel()
	for name, f := range map[string]standin.Faults{
		"the confirm": {SettlesLost: 2}, "its answer": {SettleAnswersLost: 1},
		"all of its answers": {SettleAnswersLost: 3},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o := open(t)
			run(t, o.Service)
			id, before := o.three()
			o.devices.ByID["dev-moss-sw"].Inject(f)
			require.NoError(t, o.pushAll(o.Service, id))
			v := o.waitPush(o.Service, id)
			require.Equal(t, "landed", v.Push.State, v.Push.Problem)
			for name, held := range before {
				d := o.devices.ByID[name]
				assert.True(t, d.Startup().Equal(d.Running()), name)
				assert.False(t, d.Running().Equal(held), name)
			}
		})
	}
}

// One device will not confirm: the others, which have, are put back, and what is
// said of each is its own answer.
func TestAttackOneDeviceFailsItsConfirm(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	id, before := o.three()
	o.devices.ByID["dev-moss-gw"].Inject(standin.Faults{ConfirmsFull: 100})
	require.NoError(t, o.pushAll(o.Service, id))
	v := o.waitPush(o.Service, id)
	assert.Equal(t, "failed", v.Push.State)
	assert.Contains(t, v.Push.Problem,
		"gw-moss: Confirm, and save as startup configuration: The startup storage is full.")
	assert.Contains(t, v.Push.Problem, "Holds what it held before, by its own answer:")
	assert.Equal(t, "open", v.Head.State)
	o.unchanged(before)

	// With room again the same draft lands.
	o.devices.ByID["dev-moss-gw"].Inject(standin.Faults{})
	require.NoError(t, o.pushAll(o.Service, id))
	assert.Equal(t, "landed", o.waitPush(o.Service, id).Push.State)
}

// A device goes silent between the last comparison and its confirm: that it is not
// known is said, and holds the site until the device answers.
func TestAttackDeviceGoesSilentAtItsConfirm(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	id, _ := o.three()
	sw := o.devices.ByID["dev-moss-sw"]
	sw.Inject(standin.Faults{SilentAt: "confirm"})
	require.NoError(t, o.pushAll(o.Service, id))
	confirm := func(p *push.PushView) int {
		return slices.IndexFunc(p.Journal,
			func(l push.JournalEntry) bool { return l.Stage == "confirm" && l.Device == "sw-moss" })
	}
	// Its line is told after the silence is.
	p := o.pushUntil(o.Service, id, "the silence", func(p *push.PushView) bool {
		at := confirm(p)
		return len(p.Silent) > 0 && at >= 0 && p.Journal[at].State != "running"
	})
	assert.Equal(t, []string{"sw-moss"}, p.Silent)
	assert.Nil(t, p.Finished)
	at := confirm(p)
	assert.Equal(t, "unknown", p.Journal[at].State, "what is not known is not called done")
	other := o.at("moss-end")
	o.edit(other, entry("network", "net-moss-ward", "purpose", "x"))
	_, err := o.Pushes.Rehearse(t.Context(), o.mk, other, o.version(other))
	require.NoError(t, err)
	_, err = o.Pushes.Push(t.Context(), o.mk, other, o.version(other))
	refusal(t, err, actor.Conflict, "Another push to this site is under way")
	sw.Inject(standin.Faults{})
	v := o.waitPush(o.Service, id)
	assert.Equal(t, "landed", v.Push.State, v.Push.Problem)
}

// A device that never answers again: a technician ends the push, and what is not
// known is said to be.
func TestAttackDeviceStaysSilent(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	id, before := o.three()
	require.ErrorContains(t, o.Pushes.EndPush(t.Context(), o.jo, id), "has no push")
	sw := o.devices.ByID["dev-moss-sw"]
	sw.Inject(standin.Faults{HoldWrite: 1})
	require.NoError(t, o.pushAll(o.Service, id))
	o.pushUntil(o.Service, id, "the switch's first step", func(p *push.PushView) bool {
		last := p.Journal[max(0, len(p.Journal)-1):]
		return len(last) > 0 && last[0].Device == "sw-moss" && last[0].Stage == "step"
	})
	require.ErrorContains(t, o.Pushes.EndPush(t.Context(), o.jo, id), "No device is waited for")
	sw.Inject(standin.Faults{Unreachable: true})
	o.pushUntil(o.Service, id, "the silence", func(p *push.PushView) bool {
		return len(p.Silent) > 0 && slices.ContainsFunc(p.Journal, func(l push.JournalEntry) bool {
			return l.Device == "gw-moss" && l.Stage == "return" && l.State == "done"
		})
	})
	require.NoError(t, o.Pushes.EndPush(t.Context(), o.jo, id))
	v := o.waitPush(o.Service, id)
	assert.Equal(t, "failed", v.Push.State)
	assert.Contains(t, v.Push.Problem, "Ended by Jo Arden while it waited for sw-moss")
	assert.Contains(
		t, v.Push.Problem, "Holds what it held before, by its own answer: srv-moss, gw-moss. Not known: sw-moss.")
	delete(before, "dev-moss-sw")
	o.unchanged(before)
}

// A run whose hold is taken away stops, writes nothing more, and the push lands once.
func TestAttackLostHoldRunsAPushTwice(t *testing.T) {
	t.Parallel()
	o := open(t)
	o.Pushes.Timing.HoldFor = 2 * time.Second
	run(t, o.Service)
	gw := o.devices.ByID["dev-gw-1"]
	id := o.order()
	o.bigger(id)
	gw.Inject(standin.Faults{HoldWrite: 2})
	require.NoError(t, o.pushAll(o.Service, id))
	o.pushUntil(o.Service, id, "the second step", func(p *push.PushView) bool { return len(p.Journal) == 4 })
	o.exec("UPDATE push SET held_by = 'somebody else', held_until = now() + interval '1 hour'")
	gw.Inject(standin.Faults{})
	require.Eventually(t, func() bool { return strings.Contains(o.log.String(), "the hold on a push is lost") },
		time.Minute, 10*time.Millisecond)
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "running", v.Push.State, "the run that lost it ended nothing")
	assert.Len(t, v.Push.Journal, 4, "and wrote nothing")
	o.exec("UPDATE push SET held_by = '', held_until = 'epoch'")
	v = o.waitPush(o.Service, id)
	assert.Equal(t, "landed", v.Push.State, v.Push.Problem)
	history, err := o.Sites.History(t.Context(), "kelder-bridge")
	require.NoError(t, err)
	assert.Len(t, history, 2, "the revision landed once")
}

// A process told to end amid the confirms finishes them and lands.
func TestAttackToldToEndAmidConfirms(t *testing.T) {
	t.Parallel()
	o := open(t)
	ctx, end := context.WithCancel(context.Background())
	require.NoError(t, o.Run(ctx, time.Hour))
	id, _ := o.three()
	gate := make(chan struct{})
	o.devices.ByID["dev-moss-sw"].Inject(standin.Faults{HoldConfirm: gate})
	require.NoError(t, o.pushAll(o.Service, id))
	o.pushUntil(o.Service, id, "the switch's confirm", func(p *push.PushView) bool {
		last := p.Journal[max(0, len(p.Journal)-1):]
		return len(last) > 0 && last[0].Device == "sw-moss" && last[0].Stage == "confirm"
	})
	end()
	close(gate)
	o.Stopped()
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "landed", v.Push.State, v.Push.Problem)
}
