package push

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/riverqueue/river"

	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// WindowEntry is when an order may be pushed and what is to be known of it, as typed. Times are in the site's zone, as
// 2026-11-27T22:30; empty for no bound.
type WindowEntry struct {
	Note      string `json:"note" maxLength:"4000"`
	NotBefore string `json:"notBefore" maxLength:"40"`
	NotAfter  string `json:"notAfter" maxLength:"40"`
}

const longestNote = 1000 // characters

// SetWindow sets the note and the change window of an open order. It does not start automatically from then on.
func (s *Service) SetWindow(ctx context.Context, by actor.Technician, id int64, e WindowEntry) error {
	d, err := s.drafts.Draft(ctx, id)
	if err != nil {
		return err
	}
	if err := d.Order.Open(); err != nil {
		return err
	}
	put := gen.SetWindowParams{ID: id, Note: strings.TrimSpace(e.Note)}
	var wrong site.FieldErrors
	fail := func(field, says string, args ...any) {
		wrong = append(wrong, site.FieldError{Field: field, Says: fmt.Sprintf(says, args...)})
	}
	zone := d.Doc().Location()
	put.NotBefore = readTime(e.NotBefore, "notBefore", zone, fail)
	put.NotAfter = readTime(e.NotAfter, "notAfter", zone, fail)
	if n := utf8.RuneCountInString(put.Note); n > longestNote {
		fail("note", "has %d characters; type at most %d", n, longestNote)
	}
	if err := site.CheckText(put.Note); err != nil {
		fail("note", "%s", err)
	}
	if put.NotBefore != nil && put.NotAfter != nil && !put.NotAfter.After(*put.NotBefore) {
		fail("notAfter", "the window ends before it opens; type a later time")
	}
	if len(wrong) > 0 {
		return actor.RefuseFields("The window was not set", wrong)
	}
	return s.setOrder(ctx, by, id, "window-set", windowSays(put, zone), func() (int64, error) {
		return s.store.SetWindow(ctx, put)
	})
}

// readTime reads one end of a window; nil where none was typed.
func readTime(text, field string, zone *time.Location, fail func(field, says string, args ...any)) *time.Time {
	t, err := site.ParseClock(text, zone, time.Now())
	if err != nil {
		fail(field, "%s", err)
	}
	if t.IsZero() {
		return nil
	}
	return &t
}

func windowSays(p gen.SetWindowParams, zone *time.Location) string {
	says := "No change window"
	at := func(t *time.Time) string { return t.In(zone).Format("2 January 2006 15:04 MST") }
	switch {
	case p.NotBefore != nil && p.NotAfter != nil:
		says = "From " + at(p.NotBefore) + " to " + at(p.NotAfter)
	case p.NotBefore != nil:
		says = "Not before " + at(p.NotBefore)
	case p.NotAfter != nil:
		says = "Not after " + at(p.NotAfter)
	}
	if p.Note != "" {
		says += "; note: " + p.Note
	}
	return says
}

// setOrder changes something of an open order that is no edit of its draft.
func (s *Service) setOrder(
	ctx context.Context, by actor.Technician, id int64, what, says string, do func() (int64, error),
) error {
	n, err := do()
	if err == nil && n == 0 {
		err = actor.Refuse(actor.Conflict, "%s has changed meanwhile, or is not open any more. Look at it again.",
			order.Name(id))
	}
	if err != nil {
		return err
	}
	return errors.Join(actor.Record(ctx, s.store.Queries, by, what, order.Name(id), says),
		actor.Publish(ctx, s.store.Queries, actor.OrderEvent(id, 0)))
}

// Wait leaves a rehearsed order to start automatically when its window opens, or not any more. It is refused where a
// push would be for any other reason than the window.
func (s *Service) Wait(ctx context.Context, by actor.Technician, id int64, version int32, on bool) error {
	if !on {
		return s.setOrder(ctx, by, id, "waits-no-more", "Does not start automatically any more", func() (int64, error) {
			return s.store.EndWaiting(ctx, gen.EndWaitingParams{ID: id})
		})
	}
	d, err := s.drafts.Editable(ctx, id, version)
	if err != nil {
		return err
	}
	if d.Order.NotBefore == nil {
		return actor.Refuse(actor.Conflict, "Say first when its change window opens.")
	}
	if late(*d.Order.NotBefore, d.Order.NotAfter) {
		return actor.Refuse(actor.Conflict, "Its change window opened more than an hour ago. Push it now, or give it "+
			"another window.")
	}
	b, err := s.store.Beside(ctx, d.Order.SiteID, d.Doc().Customer.Name)
	if err != nil {
		return err
	}
	head := d.Head(b.Access, d.Judge(b).Added)
	if d.Order.NotAfter == nil || time.Now().Before(*d.Order.NotAfter) {
		head.Window = ""
	}
	if err := head.RefusesPush(); err != nil {
		return err
	}
	says := "Left to start automatically on " + d.Order.NotBefore.In(d.Doc().Location()).Format(
		"2 January 2006 15:04 MST")
	return s.setOrder(ctx, by, id, "waits", says, func() (int64, error) {
		return s.store.SetWaiting(ctx, gen.SetWaitingParams{By: &by.ID, ID: id, Version: version})
	})
}

// startArgs is the job that starts the orders whose window has opened.
type startArgs struct{}

// Kind implements river.JobArgs.
func (startArgs) Kind() string { return "start-waiting" }

type startWorker struct {
	river.WorkerDefaults[startArgs]
	*Service
}

// Work implements river.Worker.
func (w startWorker) Work(ctx context.Context, _ *river.Job[startArgs]) error {
	return errors.Join(w.StartWaiting(ctx), w.AdvanceWaves(ctx))
}

// InsertOpts implements river.JobArgsWithInsertOpts: one is waiting or running at a time, over all processes.
func (startArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByState: store.Unfinished}}
}

// Due is the job of what there is to start now; nil for nothing.
func (s *Service) Due(ctx context.Context) (river.JobArgs, error) {
	orders, err := s.store.OrdersToStart(ctx)
	if err != nil {
		return nil, err
	}
	waves, err := s.store.WavesRunning(ctx)
	if err != nil || len(orders)+len(waves) == 0 {
		return nil, err
	}
	return startArgs{}, nil
}

// StartWaiting starts the orders whose window has opened, each in the name of who left it to start. One that cannot be
// pushed says why, and waits no more.
func (s *Service) StartWaiting(ctx context.Context) error {
	rows, err := s.store.OrdersToStart(ctx)
	if err != nil {
		return err
	}
	var failed []error
	for _, r := range rows {
		if err := s.startOne(ctx, r); err != nil { // it keeps no other from starting
			failed = append(failed, fmt.Errorf("start %s: %w", order.Name(r.ID), err))
		}
	}
	return errors.Join(failed...)
}

// LateAtMost is how much later than its window opens an order starts by itself, where nothing says when the window
// ends. One that was left to start tonight must not do so next Monday, when Lithos is switched on again.
const LateAtMost = time.Hour

// late reports whether a window opened too long ago for an order to start automatically.
func late(opens time.Time, ends *time.Time) bool {
	return ends == nil && time.Since(opens) > LateAtMost
}

func (s *Service) startOne(ctx context.Context, r gen.OrdersToStartRow) error {
	by, err := s.accounts.Acting(ctx, *r.WaitsFor)
	var off *actor.Refusal
	if errors.As(err, &off) {
		return s.waitsOn(ctx, r.ID, off.Says+" Leave the order to start automatically in your own name, or push it.")
	}
	if err != nil {
		return err
	}
	if late(*r.NotBefore, r.NotAfter) {
		err = actor.Refuse(actor.Conflict, "Its window opened more than an hour ago, nothing says when it ends, and "+
			"nobody was there to start it. Push it now, or give it another window.")
	} else {
		_, err = s.Push(ctx, by, r.ID, r.Version)
	}
	var refusal *actor.Refusal
	waited := ""
	switch {
	case errors.As(err, &refusal):
		waited = "It did not start automatically: " + refusal.Says
	case err != nil:
		return err
	}
	n, err := s.store.EndWaiting(ctx, gen.EndWaitingParams{ID: r.ID, Waited: waited})
	if err != nil || n == 0 || waited == "" {
		return err
	}
	return errors.Join(actor.Record(ctx, s.store.Queries, by, "did-not-start", order.Name(r.ID), waited),
		actor.Publish(ctx, s.store.Queries, actor.OrderEvent(r.ID, 0)))
}

// waitsOn says why an order whose window has opened goes on waiting.
func (s *Service) waitsOn(ctx context.Context, id int64, why string) error {
	n, err := s.store.NoteWaiting(ctx, gen.NoteWaitingParams{ID: id, Waited: why})
	if err != nil || n == 0 {
		return err // it is said already
	}
	return actor.Publish(ctx, s.store.Queries, actor.OrderEvent(id, 0))
}
