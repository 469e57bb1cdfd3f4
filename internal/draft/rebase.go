package draft

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"lithos/core/edit"
	"lithos/internal/act"
	"lithos/internal/order"
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
	// Threes is what was there, what is there now, and what the edit makes of it.
	Threes []edit.Three `json:"threes"`
}

// Rebase moves a draft to the site's newest revision by replaying its edits
// there. What no longer applies is kept beside the draft until somebody decides.
func (s *Service) Rebase(ctx context.Context, id int64, version int32) (*order.Draft, error) {
	d, err := s.Editable(ctx, id, version)
	if err != nil {
		return nil, err
	}
	base, err := s.Head(ctx, d.Order.SiteID, d.Order.Head)
	if err != nil {
		return nil, err
	}
	o := d.Order
	o.BaseRevision = o.Head
	var steps []order.Step
	var lost []gen.LoseEditParams
	doc := base.Site
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
			lost = append(lost, gen.LoseEditParams{OrderID: id, Edit: raw, Says: edit.Describe(d.Doc(), c.Edit),
				Why: edit.Why(d.Doc(), base.Site, c), MadeBy: step.ByID})
		}
		var stay []edit.Edit
		for i, e := range step.Edits {
			if !gone[i] {
				stay = append(stay, e)
			}
		}
		doc = now
		if step.Edits = stay; len(stay)+len(step.PutBack) > 0 {
			step.Seq = int32(len(steps) + 1)
			step.Version = d.Order.Version + 1
			steps = append(steps, step)
		}
	}
	o.Lost += len(lost)
	next, err := order.New(o, steps, base)
	if err != nil {
		return nil, err
	}
	err = s.touch(ctx, next, func(q *gen.Queries) error {
		if err := errors.Join(q.SetOrderBase(ctx, gen.SetOrderBaseParams{ID: id, BaseRevision: d.Order.Head}),
			q.DropSteps(ctx, id)); err != nil {
			return err
		}
		for _, step := range next.Steps {
			if err := addStep(ctx, q, id, step); err != nil {
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

// Lost lists the edits of a draft that wait for a decision.
func (s *Service) Lost(ctx context.Context, d *order.Draft) ([]Lost, error) {
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
		_, mine := edit.Over(d.Doc(), e)
		out = append(out, Lost{r.Seq, r.Says, r.Why, r.MadeBy, mine, edit.Threes(d.Base.Site, d.Doc(), e)})
	}
	return out, err
}

// Decide ends the wait of an edit that no longer applied: it is left out, or with
// mine made in place of what is there now, as a step of by's.
func (s *Service) Decide(
	ctx context.Context, by act.Technician, id int64, version, seq int32, mine bool,
) (*order.Draft, error) {
	d, err := s.Editable(ctx, id, version)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.LostEdits(ctx, id)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(rows, func(r gen.LostEditsRow) bool { return r.Seq == seq })
	if at < 0 {
		return nil, act.Refuse(act.Conflict, "Somebody has decided about this edit already.")
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
	over, ok := edit.Over(d.Doc(), e)
	if !ok {
		return nil, act.Refuse(act.Conflict, "This edit cannot be made any more: %s. Leave it out.", rows[at].Why)
	}
	doc, err := edit.Apply(d.Doc(), over)
	if err != nil {
		return nil, act.Refuse(act.Conflict, "%s.", err)
	}
	step := d.NextStep(by, doc, []edit.Edit{over})
	raw, back, err := written(step)
	if err != nil {
		return nil, err
	}
	lost := next.Order.Lost
	next = *d.With(append(slices.Clone(d.Steps), step), doc, step.Edits)
	next.Order.Lost = lost
	err = s.touch(ctx, &next, func(q *gen.Queries) error {
		return errors.Join(
			forgetLost(ctx, q, id, seq),
			q.AddStep(ctx, gen.AddStepParams{OrderID: id, Seq: step.Seq, Says: step.Says, Edits: raw,
				PutBack: back, Version: step.Version, MadeBy: by.ID, MadeAt: step.At}),
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
