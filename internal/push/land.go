package push

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// fail records why a push ended and opens its order again. Every device is back,
// or was never touched.
func (r *run) fail(ctx context.Context, problem string) error {
	r.log.Warn("push failed", "push", r.push.ID, "problem", problem)
	err := r.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if err := r.moveIn(ctx, q, stateFailed, problem); err != nil {
			return err
		}
		if _, err := q.SetOrderState(ctx,
			gen.SetOrderStateParams{ID: r.push.OrderID, State: "open", Expected: "pushing"}); err != nil {
			return err
		}
		return actor.Record(ctx, q, r.by, "push-failed", order.Name(r.push.OrderID), problem)
	})
	if err == nil {
		r.push.State = stateFailed
		r.pushes.WithLabelValues(stateFailed).Inc()
		r.wavesGoOn(ctx)
	}
	return stored(err)
}

// wavesGoOn begins the next wave where this push was the last of one. A process that is killed before it has leaves
// that to the job that looks for it.
func (r *run) wavesGoOn(ctx context.Context) {
	if err := r.AdvanceWaves(ctx); err != nil && ctx.Err() == nil {
		r.log.Warn("the next wave of an order could not be begun; trying again", "push", r.push.ID, "error", err)
	}
}

// land makes the draft the site's next revision and closes the order. Every device
// has confirmed, so that it is tried until it is done.
func (r *run) land(ctx context.Context) error {
	switch err := r.others(ctx, stateLanding); {
	case errors.Is(err, errOthersNotReady), ofStore(err):
		return err
	case err != nil: // it has confirmed, and another has not: it is put back under a timed confirm of its own
		return r.move(ctx, stateReturning, err.Error())
	}
	if err := r.proveNames(ctx); err != nil {
		return err
	}
	for wait := 100 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		err := r.landOnce(ctx)
		if err == nil {
			r.push.State = stateLanded
			r.pushes.WithLabelValues(stateLanded).Inc()
			r.wavesGoOn(ctx)
			r.watcher.Observe(ctx, r.push.SiteID)
			return nil
		}
		if ctx.Err() != nil || errors.Is(err, errHoldLost) {
			return stored(err)
		}
		r.log.Error("a push has changed its devices, and its revision is not stored yet; trying again", "push",
			r.push.ID, "error", err)
		select {
		case <-ctx.Done():
			return stored(ctx.Err())
		case <-time.After(wait):
		}
	}
}

func (r *run) landOnce(ctx context.Context) error {
	o := r.draft.Order
	return r.store.InTx(ctx, func(q *gen.Queries, tx pgx.Tx) error {
		// It is refused where an earlier try was done and only its answer got lost.
		if err := r.moveIn(ctx, q, stateLanded, ""); err != nil {
			return err
		}
		head, err := store.LockSite(ctx, tx, o.SiteID)
		if err != nil {
			return err
		}
		doc := r.draft.Doc()
		if head != o.BaseRevision {
			// Nothing changes the head while a push is under way but somebody who edits the
			// database. The devices hold the draft, so its edits land on what is there.
			newer, err := store.Revision(ctx, q, o.SiteID, head)
			if err != nil {
				return err
			}
			var lost []edit.Conflict
			doc, lost = edit.Replay(newer, order.Live(r.draft.Steps))
			for _, c := range lost {
				says := fmt.Sprintf("%s is on the devices and does not apply to revision %d: %s",
					edit.Describe(r.draft.Doc(), c.Edit), head, edit.Why(r.draft.Doc(), newer, c))
				if _, err := q.WriteJournal(ctx, gen.WriteJournalParams{PushID: r.push.ID, Run: r.id, Stage: "land",
					Says: says, State: "failed"}); err != nil {
					return err
				}
			}
		}
		note := strings.TrimSpace(o.Title + " " + o.Ticket)
		if err := store.AddRevision(ctx, q, doc, head,
			store.Author{Note: note, Order: o.ID, By: r.push.StartedBy}); err != nil {
			return err
		}
		if _, err := q.SetOrderState(ctx,
			gen.SetOrderStateParams{ID: o.ID, State: "landed", By: r.push.StartedBy, Expected: "pushing"}); err != nil {
			return err
		}
		says := fmt.Sprintf("Land revision %d of %s", head+1, doc.Name)
		if _, err := q.WriteJournal(ctx,
			gen.WriteJournalParams{PushID: r.push.ID, Run: r.id, Stage: "land", Says: says,
				State: "done"}); err != nil {
			return err
		}
		if err := errors.Join(r.noteHeld(ctx, q, doc), r.noteMoved(ctx, q)); err != nil {
			return err
		}
		return errors.Join(
			q.ForgetSecrets(ctx, gen.ForgetSecretsParams{OrderID: &o.ID, Used: doc.Secrets()}),
			actor.Record(ctx, q, r.by, "push-landed", order.Name(o.ID), says),
			actor.Publish(ctx, q, actor.Event{Topic: "site", ID: o.Code}),
		)
	})
}

// noteMoved keeps where devices are found that were given another address. It reads within the transaction: one that
// waited for another connection would wait for those that wait as it does.
func (r *run) noteMoved(ctx context.Context, q *gen.Queries) error {
	devices, err1 := q.PushDevices(ctx, r.push.ID)
	rows, err2 := q.AccessOfSite(ctx, r.push.SiteID)
	err := errors.Join(err1, err2)
	for _, d := range devices {
		for _, at := range rows {
			if at.DeviceID != d.DeviceID || d.ByHand {
				continue
			}
			if next, moves := r.moves(d, at.Url); moves {
				err = errors.Join(err, q.MoveAccess(ctx, gen.MoveAccessParams{Url: next, SiteID: r.push.SiteID,
					DeviceID: d.DeviceID}))
			}
		}
	}
	return err
}

// moves is where a device is found after the push that is found elsewhere before it.
func (r *run) moves(d gen.PushDevice, at string) (string, bool) {
	var before yang.Config
	if json.Unmarshal(d.Before, &before) != nil {
		return "", false
	}
	return movedTo(at, before, r.goalOf(d.DeviceID, before))
}

// noteHeld keeps what devices were read back to hold, with the revision that says so: nobody sees them differ in
// between.
func (r *run) noteHeld(ctx context.Context, q *gen.Queries, doc *site.Site) error {
	for device, goal := range r.goals {
		list, cuts := order.HeldBy(doc, device, goal)
		if _, err := store.NoteHeld(ctx, q, doc.ID, device,
			store.Holding{Config: goal, Differs: list, Cuts: cuts}); err != nil {
			return err
		}
	}
	return nil
}
