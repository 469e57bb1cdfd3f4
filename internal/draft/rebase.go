package draft

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/actor"
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
			gone[c.At] = true
			if edit.Made(base.Site, c.Edit) {
				continue // it was done there, too
			}
			if c.Edit.Op == edit.Change {
				c.Edit.Value = edit.PartOf(d.Doc(), c.Edit) // whoever takes it puts it back, should it be gone
			}
			raw, err := json.Marshal(c.Edit)
			if err != nil {
				return nil, err
			}
			lost = append(lost, gen.LoseEditParams{OrderID: id, Edit: raw, Says: edit.Describe(d.Doc(), c.Edit),
				Why: edit.Why(d.Doc(), base.Site, c), MadeBy: step.ByID, MadeOn: d.Order.BaseRevision})
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
		was := d.Base.Site
		if r.MadeOn > 0 {
			scene, err := s.Head(ctx, d.Order.SiteID, r.MadeOn)
			if err != nil {
				return nil, err
			}
			was = scene.Site
		}
		out = append(out, Lost{r.Seq, r.Says, r.Why, r.MadeBy, mine, edit.Threes(was, d.Doc(), e)})
	}
	return out, err
}

// What can be decided about an edit that no longer applies.
const (
	TakeMine    = "mine"    // the edit is made in place of what is there now
	TakeTheirs  = "theirs"  // the edit is left out
	TakeAnother = "another" // neither: another value is typed
)

// Decision is what somebody decides about an edit that no longer applied.
type Decision struct {
	Seq    int32             `json:"seq" doc:"of the edit"`
	Take   string            `json:"take" enum:"mine,theirs,another" doc:"this edit, what the site has, or another value"`
	Fields map[string]string `json:"fields,omitempty" doc:"the other value, by the names of its fields"`
}

// Decide ends the wait of an edit that no longer applied, as a step of by's where something is changed.
func (s *Service) Decide(
	ctx context.Context, by actor.Technician, id int64, version int32, decision Decision,
) (*order.Draft, error) {
	d, err := s.Editable(ctx, id, version)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.LostEdits(ctx, id)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(rows, func(r gen.LostEditsRow) bool { return r.Seq == decision.Seq })
	if at < 0 {
		return nil, actor.Refuse(actor.Conflict, "Somebody has decided about this edit already.")
	}
	next := *d
	next.Order.Lost--
	leave := func() (*order.Draft, error) {
		err := s.touch(ctx, &next, func(q *gen.Queries) error { return forgetLost(ctx, q, id, decision.Seq) })
		return &next, err
	}
	if decision.Take == TakeTheirs {
		return leave()
	}
	var e edit.Edit
	if err := json.Unmarshal(rows[at].Edit, &e); err != nil {
		return nil, err
	}
	edits, err := decided(d.Doc(), e, decision)
	if err != nil {
		return nil, err
	}
	if len(edits) == 0 {
		return leave() // the other value is the one that is there
	}
	doc, err := edit.Apply(d.Doc(), edits...)
	if err != nil {
		return nil, actor.Refuse(actor.Conflict, "%s.", err)
	}
	step := d.NextStep(by, doc, edits)
	raw, back, err := written(step)
	if err != nil {
		return nil, err
	}
	lost := next.Order.Lost
	next = *d.With(append(slices.Clone(d.Steps), step), doc, step.Edits)
	next.Order.Lost = lost
	err = s.touch(ctx, &next, func(q *gen.Queries) error {
		return errors.Join(
			forgetLost(ctx, q, id, decision.Seq),
			q.AddStep(ctx, gen.AddStepParams{OrderID: id, Seq: step.Seq, Says: step.Says, Edits: raw,
				PutBack: back, Version: step.Version, MadeBy: by.ID, MadeAt: step.At}),
		)
	})
	return &next, err
}

// decided is the edits that a decision makes of one that no longer applied.
func decided(doc *site.Site, e edit.Edit, decision Decision) ([]edit.Edit, error) {
	if decision.Take == TakeAnother {
		edits, err := edit.Another(doc, e, decision.Fields)
		if wrong := site.FieldErrors(nil); errors.As(err, &wrong) {
			return nil, actor.RefuseFields("Nothing was changed", wrong)
		}
		if err != nil {
			return nil, actor.Refuse(actor.Conflict, "This edit cannot be made any more: %s.", err)
		}
		return edits, nil
	}
	over, ok := edit.Over(doc, e)
	if !ok {
		return nil, actor.Refuse(actor.Conflict,
			"This edit cannot be made any more: what it needs is gone. Keep what the site has, or type another value.")
	}
	return []edit.Edit{over}, nil
}

func forgetLost(ctx context.Context, q *gen.Queries, order int64, seq int32) error {
	n, err := q.ForgetLost(ctx, gen.ForgetLostParams{OrderID: order, Seq: seq})
	if err == nil && n == 0 {
		err = store.ErrMoved
	}
	return err
}
