package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"lithos/core/edit"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Lost is an edit that no longer applied when its draft moved to a newer revision.
// It is kept until somebody decides.
type Lost struct {
	Seq  int32  `json:"seq"`
	Says string `json:"says"` // the edit
	Why  string `json:"why"`  // what keeps it from applying
	By   string `json:"by"`
	// Mine says whether the edit can still be made in place of what is there now.
	Mine bool `json:"mine"`
}

// Rebase moves a draft to the site's newest revision by replaying its edits
// there. What no longer applies is kept beside the draft until somebody decides.
func (s *Service) Rebase(ctx context.Context, id int64, version int32) (*Draft, error) {
	d, err := s.editable(ctx, id, version)
	if err != nil {
		return nil, err
	}
	base, err := s.examine(ctx, d.Order.SiteID, d.Order.Head)
	if err != nil {
		return nil, err
	}
	next := &Draft{Order: d.Order}
	next.Order.BaseRevision = d.Order.Head
	var lost []gen.LoseEditParams
	doc := base.doc
	for _, step := range d.Steps {
		if step.Undone {
			continue
		}
		now, conflicts := edit.Replay(doc, step.Edits)
		gone := map[int]bool{}
		for _, c := range conflicts {
			raw, err := json.Marshal(c.Edit)
			if err != nil {
				return nil, err
			}
			gone[c.At] = true
			lost = append(lost, gen.LoseEditParams{OrderID: id, Edit: raw, Says: edit.Describe(d.Doc, c.Edit), Why: edit.Why(d.Doc, base.doc, c), MadeBy: step.ByID})
		}
		var stay []edit.Edit
		for i, e := range step.Edits {
			if !gone[i] {
				stay = append(stay, e)
			}
		}
		doc = now
		if step.Edits = stay; len(stay) > 0 {
			step.Seq = int32(len(next.Steps) + 1)
			step.Version = d.Order.Version + 1
			next.Steps = append(next.Steps, step)
		}
	}
	next.Order.Lost += int64(len(lost))
	next.Base, next.BaseFindings, next.baseConfigs = base.doc, base.findings, base.compiled
	next.Doc = doc
	next.judge()
	err = s.touch(ctx, next, func(q *gen.Queries) error {
		if err := errors.Join(q.SetOrderBase(ctx, gen.SetOrderBaseParams{ID: id, BaseRevision: d.Order.Head}), q.DropSteps(ctx, id)); err != nil {
			return err
		}
		for _, step := range next.Steps {
			raw, err := json.Marshal(step.Edits)
			if err != nil {
				return err
			}
			if err := q.AddStep(ctx, gen.AddStepParams{OrderID: id, Seq: step.Seq, Says: step.Says, Edits: raw, Version: step.Version, MadeBy: step.ByID, MadeAt: step.At}); err != nil {
				return err
			}
		}
		for _, l := range lost {
			if err := q.LoseEdit(ctx, l); err != nil {
				return err
			}
		}
		return nil
	})
	return next, err
}

// lost lists the edits of a draft that wait for a decision.
func (s *Service) lost(ctx context.Context, d *Draft) ([]Lost, error) {
	out := []Lost{}
	if d.Order.Lost == 0 {
		return out, nil
	}
	rows, err := s.store.LostEdits(ctx, d.Order.ID)
	for _, r := range rows {
		var e edit.Edit
		if err := json.Unmarshal(r.Edit, &e); err != nil {
			return nil, fmt.Errorf("an edit of order %d that no longer applies: %w", d.Order.ID, err)
		}
		_, mine := edit.Over(d.Doc, e)
		out = append(out, Lost{r.Seq, r.Says, r.Why, r.MadeBy, mine})
	}
	return out, err
}

// Decide ends the wait of an edit that no longer applied: it is left out, or with
// mine made in place of what is there now, as a step of by's.
func (s *Service) Decide(ctx context.Context, by Technician, id int64, version, seq int32, mine bool) (*Draft, error) {
	d, err := s.editable(ctx, id, version)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.LostEdits(ctx, id)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(rows, func(r gen.LostEditsRow) bool { return r.Seq == seq })
	if at < 0 {
		return nil, refuse(Conflict, "Somebody has decided about this edit already.")
	}
	next := *d
	next.Order.Lost--
	if !mine {
		err := s.touch(ctx, &next, func(q *gen.Queries) error { return forgetLost(ctx, q, id, seq) })
		return &next, err
	}
	var e edit.Edit
	if err := json.Unmarshal(rows[at].Edit, &e); err != nil {
		return nil, err
	}
	over, ok := edit.Over(d.Doc, e)
	if !ok {
		return nil, refuse(Conflict, "This edit cannot be made any more: %s. Leave it out.", rows[at].Why)
	}
	doc, err := edit.Apply(d.Doc, over)
	if err != nil {
		return nil, refuse(Conflict, "%s.", err)
	}
	raw, err := json.Marshal([]edit.Edit{over})
	if err != nil {
		return nil, err
	}
	step := d.nextStep(by, doc, []edit.Edit{over})
	next.Steps = append(slices.Clone(d.Steps), step)
	next.Doc = doc
	next.judge()
	err = s.touch(ctx, &next, func(q *gen.Queries) error {
		return errors.Join(
			forgetLost(ctx, q, id, seq),
			q.AddStep(ctx, gen.AddStepParams{OrderID: id, Seq: step.Seq, Says: step.Says, Edits: raw, Version: step.Version, MadeBy: by.ID, MadeAt: step.At}),
		)
	})
	return &next, err
}

func forgetLost(ctx context.Context, q *gen.Queries, order int64, seq int32) error {
	n, err := q.ForgetLost(ctx, gen.ForgetLostParams{OrderID: order, Seq: seq})
	if err == nil && n == 0 {
		err = store.ErrMoved
	}
	return err
}

// Drop closes a work order without pushing it. Its edits stay on record, and
// TakeUp opens it again.
func (s *Service) Drop(ctx context.Context, by Technician, id int64, version int32) error {
	d, err := s.editable(ctx, id, version)
	if err != nil {
		return err
	}
	return s.touch(ctx, d, func(q *gen.Queries) error {
		n, err := q.SetOrderState(ctx, gen.SetOrderStateParams{ID: id, State: "dropped", By: by.ID, Expected: "open"})
		if err == nil && n == 0 {
			err = store.ErrMoved
		}
		return errors.Join(err, audit(ctx, q, by, "order-dropped", OrderName(id), d.Order.Title))
	})
}

// TakeUp opens a dropped work order again, with its edits.
func (s *Service) TakeUp(ctx context.Context, by Technician, id int64, version int32) error {
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		n, err := q.ReopenOrder(ctx, gen.ReopenOrderParams{ID: id, Version: version})
		if err == nil && n == 0 {
			err = refuse(Conflict, "%s is not dropped, or was changed meanwhile. Look at it again.", OrderName(id))
		}
		if err != nil {
			return err
		}
		return errors.Join(audit(ctx, q, by, "order-taken-up", OrderName(id), "Opened again after it was dropped"), publish(ctx, q, orderEvent(id, 0)))
	})
}
