package push

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// The states of a push. Until confirming every device undoes the change unaided; from
// landing on every device has confirmed, and the push cannot fail any more.
const (
	stateQueued     = "queued"
	stateByHand     = "byhand"     // somebody does the steps for devices that are not reached
	stateRunning    = "running"    // devices are being changed, each under its timed confirm
	stateConfirming = "confirming" // every device is ready, and is told to keep the change
	stateReturning  = "returning"  // every device is put back, and asked whether it is
	stateLanding    = "landing"    // every device has confirmed; the revision is stored
	stateLanded     = "landed"
	stateFailed     = "failed"
)

// The states of a device in a push: what it last answered.
const (
	deviceBegun     = "begun"
	deviceConfirmed = "confirmed"
	deviceReturned  = "returned"
	deviceUnknown   = "unknown"
	deviceByHand    = "byhand" // it is to be put back by hand
)

// PushView is a push with its journal.
type PushView struct {
	ID         int64          `json:"id"`
	State      string         `json:"state" enum:"queued,byhand,running,confirming,returning,landing,landed,failed"`
	Title      string         `json:"title"` // how it stands, in words
	Problem    string         `json:"problem,omitempty"`
	By         string         `json:"by"`
	At         time.Time      `json:"at"`
	Finished   *time.Time     `json:"finished,omitempty"`
	Journal    []JournalEntry `json:"journal"`
	Unverified []Unverified   `json:"unverified"`
	// Silent are the devices that do not say what became of them: until they do,
	// or somebody ends the push, nothing else is pushed to the site.
	Silent []string `json:"silent"`
	// Hand is what somebody does at the consoles of devices that Lithos does not reach.
	Hand    []HandLine `json:"hand"`
	Stopped string     `json:"stopped,omitempty" doc:"who has told it to stop"`
	// Stops says that it can be told to stop.
	Stops bool `json:"stops"`
	// Lines is how many lines the journal is about to have, 0 where that is not known yet; Left is how long it is going
	// to take at the pace so far, in seconds.
	Lines     int        `json:"lines"`
	Left      int        `json:"left"`
	ReturnsAt *time.Time `json:"returnsAt,omitempty" doc:"when the devices undo the change unless they are told to keep it"`
}

// JournalEntry is one line of a push's journal.
type JournalEntry struct {
	At     time.Time `json:"at"`
	Device string    `json:"device"`
	Stage  string    `json:"stage"`
	Says   string    `json:"says"`
	State  string    `json:"state" enum:"running,done,failed,skipped,unknown"`
}

// Unverified is something a push landed without having proved it.
type Unverified struct {
	Seq  int32      `json:"seq"`
	Name string     `json:"name"` // of the device or network
	Why  string     `json:"why"`
	By   string     `json:"by,omitempty"` // who has seen to it
	At   *time.Time `json:"at,omitempty"`
}

// Latest is the newest push of an order; nil for none.
func (s *Service) Latest(ctx context.Context, id int64) (*PushView, error) {
	row, err := store.Found(s.store.LatestPush(ctx, id))
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	v := &PushView{
		ID: row.ID, State: row.State, Problem: row.Problem, By: row.Starter, At: row.StartedAt,
		Finished: row.FinishedAt,
		Journal:  []JournalEntry{}, Unverified: []Unverified{}, Silent: []string{},
	}
	lines, err1 := s.store.Journal(ctx, row.ID)
	for _, l := range lines {
		v.Journal = append(v.Journal, JournalEntry{l.At, l.Device, l.Stage, l.Says, l.State})
	}
	gaps, err2 := s.store.Unverified(ctx, row.ID)
	open := 0
	for _, u := range gaps {
		v.Unverified = append(v.Unverified, Unverified{u.Seq, u.Name, u.Why, u.Verifier, u.VerifiedAt})
		if u.VerifiedAt == nil {
			open++
		}
	}
	devices, err3 := s.store.PushDevices(ctx, row.ID)
	for _, d := range devices {
		if d.State == deviceUnknown && v.Finished == nil {
			v.Silent = append(v.Silent, d.Name)
		}
	}
	var err4, err5 error
	v.Hand, err4 = s.handLines(ctx, row.ID)
	v.Stopped, err5 = s.store.Stopper(ctx, row.ID)
	v.Stops = v.Stopped == "" && slices.Contains([]string{stateQueued, stateByHand, stateRunning, stateConfirming},
		row.State)
	if row.State == stateRunning || row.State == stateConfirming {
		v.Lines, v.ReturnsAt = int(row.Lines), row.ReturnsAt
		v.Left = left(v.Journal, v.Lines)
	}
	v.Title = pushTitle(row.State, devices, open)
	return v, errors.Join(err1, err2, err3, err4, err5)
}

// FailedAt is where a push failed: the device, and the sentence of the step or the rung; both are empty for one that
// did not.
func (v *PushView) FailedAt() (device, says string) {
	if v.State != stateFailed {
		return "", ""
	}
	for _, l := range v.Journal {
		if l.State == "failed" {
			return l.Device, l.Says
		}
	}
	return "", ""
}

// left is how many seconds the rest of a journal takes at the pace of what there is of it.
func left(journal []JournalEntry, lines int) int {
	n := len(journal)
	if n < 2 || lines <= n {
		return 0
	}
	return int(journal[n-1].At.Sub(journal[0].At).Seconds()/float64(n-1)*float64(lines-n) + 0.5)
}

// pushTitle is how a push stands, in words. unverified counts what nobody has
// proved or seen to yet.
func pushTitle(state string, devices []gen.PushDevice, unverified int) string {
	hand := slices.ContainsFunc(devices, func(d gen.PushDevice) bool { return d.ByHand })
	reached := slices.ContainsFunc(devices, func(d gen.PushDevice) bool { return !d.ByHand })
	back := named(devices, deviceByHand)
	switch {
	case state == stateLanded && unverified == 0 && hand && !reached:
		return "Done and verified by hand, and landed"
	case state == stateLanded && unverified == 0 && hand:
		return "Pushed, verified, in part by hand, and landed"
	case state == stateLanded && unverified == 0:
		return "Pushed, verified and landed"
	case state == stateLanded && hand && !reached:
		return "Done by hand and landed, not all of it verified"
	case state == stateLanded && !reached:
		return "Landed, not verified: Lithos has touched no device"
	case state == stateLanded:
		return "Pushed and landed, not all of it verified"
	case state == stateFailed && len(back) > 0:
		return "The push failed: " + strings.Join(back, ", ") + " is to be put back by hand"
	case state == stateFailed && !reached:
		return "The push touched no device"
	}
	return map[string]string{
		stateQueued: "Push is queued", stateByHand: "Waiting for the steps that are done by hand",
		stateRunning:    "Pushing",
		stateConfirming: "Every device is ready; confirming",
		stateReturning:  "Putting the devices back", stateLanding: "Every device has confirmed; landing",
		stateFailed: "The push failed",
	}[state]
}

// Push starts carrying a rehearsed draft to the devices, in the background. It
// refuses a draft that brings in blocking findings, has edits that no longer apply,
// was changed since its rehearsal, or is based on an older revision than the
// site's newest. From here until its end nothing else changes the site's head.
func (s *Service) Push(ctx context.Context, by actor.Technician, id int64, version int32) (int64, error) {
	return s.push(ctx, by, id, version, func(*gen.Queries, int64) error { return nil })
}

// push is Push; note is done with it in one transaction.
func (s *Service) push(
	ctx context.Context, by actor.Technician, id int64, version int32, note func(q *gen.Queries, push int64) error,
) (int64, error) {
	d, err := s.drafts.Editable(ctx, id, version)
	if err != nil {
		return 0, err
	}
	b, err := s.store.Beside(ctx, d.Order.SiteID, d.Doc().Customer.Name)
	if err != nil {
		return 0, err
	}
	head := d.Head(b.Access, d.Judge(b).Added)
	if err := head.RefusesPush(); err != nil {
		return 0, err
	}
	var push int64
	err = s.store.InTx(ctx, func(q *gen.Queries, tx pgx.Tx) error {
		if err := actor.RefuseWhileHeld(ctx, q); err != nil {
			return err
		}
		newest, err := store.LockSite(ctx, tx, d.Order.SiteID)
		if err != nil {
			return err
		}
		if newest != d.Order.BaseRevision {
			return order.Behind()
		}
		n, err := q.TouchOrder(ctx, gen.TouchOrderParams{ID: id, Version: version})
		if err == nil && n == 0 {
			err = d.MovedOn()
		}
		if err != nil {
			return err
		}
		// TouchOrder has the order's row, and found it open.
		if _, err := q.SetOrderState(ctx,
			gen.SetOrderStateParams{ID: id, State: "pushing", Expected: "open"}); err != nil {
			return err
		}
		if push, err = q.StartPush(ctx,
			gen.StartPushParams{OrderID: id, SiteID: d.Order.SiteID, Version: version, StartedBy: by.ID}); err != nil {
			return err
		}
		if err := note(q, push); err != nil {
			return err
		}
		if _, err := s.jobs.InsertTx(ctx, tx, PushArgs{push}, nil); err != nil {
			return err
		}
		says := fmt.Sprintf("%s to %s: %s", order.Name(id), d.Doc().Name, strings.Join(head.Devices, ", "))
		return errors.Join(actor.Record(ctx, q, by, "push-started", order.Name(id), says),
			actor.Publish(ctx, q, actor.OrderEvent(id, 0)))
	})
	if store.IsDuplicate(err, "push_one_a_site") {
		return 0, actor.Refuse(actor.Conflict, "Another push to this site is under way. Wait until it has ended.")
	}
	return push, err
}

// newest is the newest push of an order; it is refused where there is none.
func newest(ctx context.Context, q *gen.Queries, id int64) (gen.LatestPushRow, error) {
	row, err := store.Found(q.LatestPush(ctx, id))
	if errors.Is(err, store.ErrNotFound) {
		err = actor.Refuse(actor.Missing, "%s has no push.", order.Name(id))
	}
	return row, err
}

// EndPush ends a push that waits for devices that do not answer, at a technician's
// word. What became of those devices is then for somebody to find out.
func (s *Service) EndPush(ctx context.Context, by actor.Technician, id int64) error {
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		row, err := newest(ctx, q, id)
		if err != nil {
			return err
		}
		devices, err := q.PushDevices(ctx, row.ID)
		if err != nil {
			return err
		}
		silent := named(devices, deviceUnknown)
		if len(silent) == 0 {
			return actor.Refuse(actor.Conflict, "No device is waited for: the push goes on by itself, or has ended.")
		}
		says := fmt.Sprintf("Ended by %s while it waited for %s, which may hold the old configuration or the new "+
			"one: look at it. %s",
			by.FullName, strings.Join(silent, ", "), outcomes(devices, nil))
		if row.Problem != "" {
			says = row.Problem + ". " + says
		}
		n, err := q.EndPush(ctx, gen.EndPushParams{ID: row.ID, Problem: says})
		if err == nil && n == 0 {
			err = actor.Refuse(actor.Conflict, "The push has gone on meanwhile. Look at it again.")
		}
		if err != nil {
			return err
		}
		if _, err := q.SetOrderState(ctx,
			gen.SetOrderStateParams{ID: id, State: "open", Expected: "pushing"}); err != nil {
			return err
		}
		return errors.Join(actor.Record(ctx, q, by, "push-ended", order.Name(id), says),
			actor.Publish(ctx, q, actor.PushEvent(id)))
	})
}

// Verify records that a technician has seen to something a push landed without
// having proved it.
func (s *Service) Verify(ctx context.Context, by actor.Technician, id int64, seq int32) error {
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		n, err := q.Verify(ctx, gen.VerifyParams{By: by.ID, OrderID: id, Seq: seq})
		if err == nil && n == 0 {
			err = actor.Refuse(actor.Conflict, "Somebody has seen to that already, or the push has not landed.")
		}
		if err != nil {
			return err
		}
		says := fmt.Sprintf("%s has verified line %d of what the push did not", by.FullName, seq+1)
		return errors.Join(actor.Record(ctx, q, by, "verified-by-hand", order.Name(id), says),
			actor.Publish(ctx, q, actor.PushEvent(id)))
	})
}

// named lists the devices of a push in one of some states.
func named(devices []gen.PushDevice, states ...string) []string {
	var out []string
	for _, d := range devices {
		for _, state := range states {
			if d.State == state {
				out = append(out, d.Name)
			}
		}
	}
	return out
}

// outcomes says what became of each device of a push that failed, by what the
// device answered.
func outcomes(devices []gen.PushDevice, untouched []string) string {
	var reached []gen.PushDevice
	for _, d := range devices {
		switch {
		case !d.ByHand:
			reached = append(reached, d)
		case d.State != deviceByHand:
			untouched = append(untouched, d.Name)
		}
	}
	var says []string
	for _, part := range []struct {
		words string
		names []string
	}{
		{"Holds what it held before, by its own answer", named(reached, deviceReturned)},
		{"Has confirmed the change", named(reached, deviceConfirmed)},
		{"Not known", named(reached, deviceUnknown, deviceBegun)},
		{"To be put back by hand, by the steps below", named(devices, deviceByHand)},
		{"Not touched", untouched},
	} {
		if len(part.names) > 0 {
			says = append(says, part.words+": "+strings.Join(part.names, ", ")+".")
		}
	}
	return strings.Join(says, " ")
}

// PushArgs is the job that carries out a push.
type PushArgs struct {
	Push int64 `json:"push"`
}

// Kind implements river.JobArgs.
func (PushArgs) Kind() string { return "push" }

// InsertOpts implements river.JobArgsWithInsertOpts. A push is not given up after
// some attempts: it ends when it has landed or every device is back.
func (PushArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueuePush, MaxAttempts: 30_000}
}

type pushWorker struct {
	river.WorkerDefaults[PushArgs]
	*Service
}

// Timeout implements river.Worker.
func (pushWorker) Timeout(*river.Job[PushArgs]) time.Duration { return 30 * time.Minute }

// NextRetry implements river.Worker.
func (pushWorker) NextRetry(*river.Job[PushArgs]) time.Time { return time.Now().Add(2 * time.Second) }

// Work implements river.Worker. A push that was interrupted is taken up from
// what is stored and what the devices hold.
func (w pushWorker) Work(ctx context.Context, job *river.Job[PushArgs]) error {
	return w.carryOut(ctx, job.Args.Push)
}
