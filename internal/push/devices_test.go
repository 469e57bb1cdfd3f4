package push_test

import (
	"context"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
	"lithos/internal/draft"
	"lithos/internal/push"
	"lithos/internal/standin"
	"lithos/internal/store"
	"lithos/internal/store/gen"
	"lithos/internal/work"
)

var moss = []string{"dev-moss-srv", "dev-moss-sw", "dev-moss-gw"}

// three is an order at Moss End that changes its server, its switch and its firewall, and what these hold.
func three(d *demotest.Desk) (id int64, before map[string]yang.Config) {
	d.Helper()
	id = d.Order()
	of := func(device, id string, fields ...string) draft.Change {
		c := demotest.Entry("interface", id, fields...)
		c.Entries[0].In = "device:" + device
		return c
	}
	d.Edit(id, demotest.Entry("pool", "pool-moss-kennels", "ranges", "60-170"))
	d.Edit(id, of("dev-moss-sw", "if-moss-sw-v70", "relayTo", "10.84.48.10"))
	d.Edit(id, of("dev-moss-gw", "if-moss-in", "permits", "dns, ping"))
	before = map[string]yang.Config{}
	for _, name := range moss {
		before[name] = d.Devices[name].Running()
	}
	return id, before
}

// begin rehearses and pushes an order, and does not wait.
func begin(d *demotest.Desk, id int64) {
	d.Helper()
	d.Rehearse(id)
	_, err := d.Pushes.Push(d.Context(), d.MK, id, d.Version(id))
	require.NoError(d, err)
}

// unchanged asserts that every device holds, and would start with, what it held.
func unchanged(d *demotest.Desk, before map[string]yang.Config) {
	d.Helper()
	for name, held := range before {
		assert.True(d, d.Devices[name].Running().Equal(held), "%s runs what it held", name)
		assert.True(d, d.Devices[name].Startup().Equal(held), "%s starts with what it held", name)
	}
}

// last is the newest line of a push's journal.
func last(v *push.PushView) push.JournalEntry {
	if len(v.Journal) == 0 {
		return push.JournalEntry{}
	}
	return v.Journal[len(v.Journal)-1]
}

// lands waits for a push that lands, and asserts that each device holds something new and saved it.
func lands(d *demotest.Desk, id int64, before map[string]yang.Config) *push.PushView {
	d.Helper()
	v := d.Ended(id)
	require.Equal(d, "landed", v.State, v.Problem)
	for name, held := range before {
		now := d.Devices[name]
		assert.True(d, now.Startup().Equal(now.Running()), name)
		assert.False(d, now.Running().Equal(held), name)
	}
	return v
}

// mossEnd is a desk at Moss End with background jobs.
func mossEnd(t *testing.T) *demotest.Desk {
	t.Helper()
	d := demotest.NewDesk(t, "moss-end")
	d.RunJobs()
	return d
}

// A confirm, or the answer to it, is lost on the way: it is asked after.
func TestAttackConfirmOrItsAnswerIsLost(t *testing.T) {
	t.Parallel()
	for name, f := range map[string]standin.Faults{
		"the confirm": {SettlesLost: 2}, "its answer": {SettleAnswersLost: 1},
		"all of its answers": {SettleAnswersLost: 3},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := mossEnd(t)
			id, before := three(d)
			d.Devices["dev-moss-sw"].Inject(f)
			begin(d, id)
			lands(d, id, before)
		})
	}
}

// One device will not confirm: the others, which have, are put back, and what is said of each is its own answer.
func TestAttackOneDeviceFailsItsConfirm(t *testing.T) {
	t.Parallel()
	d := mossEnd(t)
	id, before := three(d)
	d.Devices["dev-moss-gw"].Inject(standin.Faults{ConfirmsFull: 100})
	begin(d, id)
	v := d.Ended(id)
	assert.Equal(t, "failed", v.State)
	assert.Contains(t, v.Problem, "gw-moss: Confirm, and save as startup configuration: The startup storage is full.")
	assert.Contains(t, v.Problem, "Holds what it held before, by its own answer:")
	unchanged(d, before)
	d.Devices["dev-moss-gw"].Inject(standin.Faults{})
	begin(d, id)
	lands(d, id, before)
}

// Devices are changed one after another. The first refusal stops a push, and every device is as it was.
func TestTheFirstRefusalStopsAPush(t *testing.T) {
	t.Parallel()
	d := mossEnd(t)
	id, before := three(d)
	d.Devices["dev-moss-sw"].Inject(standin.Faults{RefuseWrite: 1})
	begin(d, id)
	v := d.Ended(id)
	assert.Equal(t, "failed", v.State)
	assert.Contains(t, v.Problem, "sw-moss: Relay DHCP from `vlan70`")
	assert.Contains(t, v.Problem, "Holds what it held before, by its own answer: srv-moss, sw-moss")
	unchanged(d, before)
	begin(d, id)
	lands(d, id, before)
}

// A device goes silent between the last comparison and its confirm: that it is not known is said, and holds the site
// until the device answers.
func TestAttackDeviceGoesSilentAtItsConfirm(t *testing.T) {
	t.Parallel()
	d := mossEnd(t)
	id, before := three(d)
	sw := d.Devices["dev-moss-sw"]
	sw.Inject(standin.Faults{SilentAt: "confirm"})
	begin(d, id)
	confirm := func(v *push.PushView) int {
		return slices.IndexFunc(v.Journal,
			func(l push.JournalEntry) bool { return l.Stage == "confirm" && l.Device == "sw-moss" })
	}
	// Its line is written after the silence is.
	v := until(d, id, "the silence", func(v *push.PushView) bool {
		at := confirm(v)
		return len(v.Silent) > 0 && at >= 0 && v.Journal[at].State != "running"
	})
	assert.Equal(t, []string{"sw-moss"}, v.Silent)
	assert.Nil(t, v.Finished)
	assert.Equal(t, "unknown", v.Journal[confirm(v)].State, "what is not known is not called done")
	other := d.Order()
	d.Edit(other, demotest.Entry("network", "net-moss-ward", "purpose", "x"))
	d.Rehearse(other)
	_, err := d.Pushes.Push(t.Context(), d.MK, other, d.Version(other))
	demotest.Refused(t, err, actor.Conflict, "Another push to this site is under way")
	sw.Inject(standin.Faults{})
	lands(d, id, before)
}

// A device that never answers again: a technician ends the push, and what is not known is said to be.
func TestAttackDeviceStaysSilent(t *testing.T) {
	t.Parallel()
	d := mossEnd(t)
	id, before := three(d)
	sw := d.Devices["dev-moss-sw"]
	sw.Inject(standin.Faults{HoldWrite: 1})
	begin(d, id)
	until(d, id, "the switch's first step", func(v *push.PushView) bool {
		return last(v).Device == "sw-moss" && last(v).Stage == "step"
	})
	demotest.Refused(t, d.Pushes.EndPush(t.Context(), d.Jo, id), actor.Conflict, "No device is waited for")
	sw.Inject(standin.Faults{Unreachable: true})
	until(d, id, "the silence", func(v *push.PushView) bool {
		return len(v.Silent) > 0 && slices.ContainsFunc(v.Journal, func(l push.JournalEntry) bool {
			return l.Device == "gw-moss" && l.Stage == "return" && l.State == "done"
		})
	})
	require.NoError(t, d.Pushes.EndPush(t.Context(), d.Jo, id))
	v := d.Ended(id)
	assert.Equal(t, "failed", v.State)
	assert.Contains(t, v.Problem, "Ended by Jo Arden while it waited for sw-moss")
	assert.Contains(t, v.Problem, "Holds what it held before, by its own answer: srv-moss")
	assert.Contains(t, v.Problem, "Not known: sw-moss.")
	delete(before, "dev-moss-sw")
	unchanged(d, before)
}

// process works on jobs in one more process, until it is killed or the test ends.
func process(d *demotest.Desk, w *work.Service) (kill func()) {
	ctx, cancel := context.WithCancel(context.Background())
	require.NoError(d, w.Run(ctx, time.Hour))
	var once sync.Once
	kill = func() {
		once.Do(func() {
			cancel()
			w.Stopped()
		})
	}
	d.Cleanup(kill)
	return kill
}

// A process told to end amid the confirms finishes them and lands.
func TestAttackToldToEndAmidConfirms(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "moss-end")
	end := process(d, d.Service)
	id, before := three(d)
	gate := make(chan struct{})
	d.Devices["dev-moss-sw"].Inject(standin.Faults{HoldConfirm: gate})
	begin(d, id)
	until(d, id, "the switch's confirm", func(v *push.PushView) bool {
		return last(v).Device == "sw-moss" && last(v).Stage == "confirm"
	})
	time.AfterFunc(50*time.Millisecond, func() { close(gate) }) // while the process is ending
	end()
	lands(d, id, before)
}

// A process that is killed amid a push: another takes it up from what is stored and what the devices hold. Where that
// was long ago, it is not carried on, and the devices are put back.
func TestAnInterruptedPush(t *testing.T) {
	t.Parallel()
	for state, within := range map[string]time.Duration{"landed": time.Hour, "failed": time.Nanosecond} {
		t.Run(state, func(t *testing.T) {
			t.Parallel()
			d := demotest.NewDesk(t, "moss-end")
			kill := process(d, d.Service)
			id, before := three(d)
			sw := d.Devices["dev-moss-sw"]
			sw.Inject(standin.Faults{HoldWrite: 1})
			begin(d, id)
			v := until(d, id, "the switch's first step", func(v *push.PushView) bool {
				return last(v).Device == "sw-moss" && last(v).Stage == "step" && last(v).State == "running"
			})
			lines, was := len(v.Journal), head(d)
			kill()
			v, err := d.Pushes.Latest(t.Context(), id)
			require.NoError(t, err)
			require.Equal(t, "running", v.State, "nobody has ended it")
			sw.Inject(standin.Faults{})
			second := d.Another()
			second.Pushes.Timing.ResumeWithin = within
			process(d, second)
			if state == "landed" {
				v = lands(d, id, before)
				assert.Contains(t, v.Journal[lines].Says, "was interrupted")
				assert.Equal(t, was+1, head(d), "the revision landed once")
				return
			}
			v = d.Ended(id)
			assert.Equal(t, "failed", v.State)
			assert.Contains(t, v.Problem, "It was interrupted, and is not carried on")
			unchanged(d, before)
		})
	}
}

// Somebody makes a revision in the database while a push waits for its turn: that is noticed before a device is
// touched.
func TestAttackRevisionLandsWhileAPushWaits(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "moss-end")
	process(d, d.Service)() // so that jobs are taken, and nobody works on them
	id, before := three(d)
	begin(d, id)
	newer := *d.Doc
	newer.Name = "Moss End annexe"
	require.NoError(t, d.Store.InTx(t.Context(), func(q *gen.Queries, _ pgx.Tx) error {
		return store.AddRevision(t.Context(), q, &newer, 1, store.Author{Note: "by hand"})
	}))
	process(d, d.Another())
	v := d.Ended(id)
	assert.Equal(t, "The push touched no device", v.Title)
	assert.Contains(t, v.Problem, "The site is at revision 2, and the draft was made on revision 1. Not touched: ")
	unchanged(d, before)
}

// The connection is lost at the very moment the revision is stored, five times.
func TestAttackLandingLosesItsConnection(t *testing.T) {
	t.Parallel()
	d := mossEnd(t)
	_, err := d.Store.Pool.Exec(t.Context(), `CREATE SEQUENCE attacks;
		CREATE FUNCTION attack() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
			IF nextval('attacks') <= 5 THEN PERFORM pg_terminate_backend(pg_backend_pid()); END IF;
			RETURN NEW;
		END $$;
		CREATE TRIGGER attack BEFORE INSERT ON site_revision FOR EACH ROW EXECUTE FUNCTION attack()`)
	require.NoError(t, err)
	id, before := three(d)
	was := head(d)
	begin(d, id)
	assert.Equal(t, "Pushed, verified and landed", lands(d, id, before).Title)
	assert.Equal(t, was+1, head(d))
}

// Two technicians push the same order at once, from two processes: one does, the other is told.
func TestPushedTwiceAtOnce(t *testing.T) {
	t.Parallel()
	d := mossEnd(t)
	second := d.Another()
	process(d, second)
	id, before := three(d)
	d.Rehearse(id)
	version := d.Version(id)
	var both sync.WaitGroup
	errs := make([]error, 2)
	for i, w := range []*work.Service{d.Service, second} {
		both.Go(func() { _, errs[i] = w.Pushes.Push(t.Context(), d.MK, id, version) })
	}
	both.Wait()
	assert.True(t, (errs[0] == nil) != (errs[1] == nil), "%v", errs)
	confirms := 0
	for _, l := range lands(d, id, before).Journal {
		if l.Stage == "confirm" {
			confirms++
		}
	}
	assert.Equal(t, len(moss), confirms, "each device once")
}

// A network behind a relay is proved from where its clients are heard, though only the server was changed.
func TestARelayedNetworkIsProvedAtItsRelay(t *testing.T) {
	t.Parallel()
	d := mossEnd(t)
	id := d.Order()
	d.Edit(id, demotest.Entry("pool", "pool-moss-ward", "ranges", "60-190"))
	begin(d, id)
	var changed, climbed []string
	for _, l := range lands(d, id, nil).Journal {
		switch l.Stage {
		case "step":
			changed = append(changed, l.Device)
		case "ladder":
			climbed = append(climbed, l.Device+": "+l.Says)
		}
	}
	assert.Equal(t, []string{"srv-moss"}, slices.Compact(changed))
	assert.Contains(t, strings.Join(climbed, "\n"), "sw-moss: Lease on Ward: a new client gets")
}

// waitingOrder is an order whose window opens in an hour and that waits for it.
func waitingOrder(d *demotest.Desk) int64 {
	d.Helper()
	id := shorter(d)
	d.Rehearse(id)
	opens := time.Now().Add(time.Hour).In(d.Doc.Location())
	require.NoError(d, d.Pushes.SetWindow(d.Context(), d.MK, id,
		push.WindowEntry{NotBefore: opens.Format("2006-01-02T15:04")}))
	require.NoError(d, d.Pushes.Wait(d.Context(), d.MK, id, d.Version(id), true))
	return id
}

// opened has the window of an order have opened a minute ago.
func opened(d *demotest.Desk, id int64) {
	d.Helper()
	_, err := d.Store.Pool.Exec(d.Context(),
		"UPDATE work_order SET not_before = now() - interval '1 minute' WHERE id = $1", id)
	require.NoError(d, err)
}

// An order that a person pushes waits no more: where the push fails, it does not start again by itself.
func TestAWaitingOrderIsPushedByHand(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	d.RunJobs()
	id := waitingOrder(d)
	opened(d, id)
	d.Devices[router].Inject(standin.Faults{RefuseWrite: 1})
	_, err := d.Pushes.Push(t.Context(), d.MK, id, d.Version(id))
	require.NoError(t, err)
	v := d.Ended(id)
	require.Equal(t, "failed", v.State)
	require.NoError(t, d.Pushes.StartWaiting(t.Context()))
	o, err := d.Store.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "open", o.State)
	assert.Empty(t, o.Waits)
}

// What cannot be pushed when its window opens says why, and is not tried again.
func TestAWaitingOrderThatCannotStart(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := waitingOrder(d)
	d.Edit(id, demotest.Entry("pool", "pool-quill-lab", "ranges", "100-138"))
	opened(d, id)
	require.NoError(t, d.Pushes.StartWaiting(t.Context()))
	o, err := d.Store.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "open", o.State)
	assert.Empty(t, o.Waits)
	assert.Contains(t, o.Waited, "was not rehearsed since its last change")
}
