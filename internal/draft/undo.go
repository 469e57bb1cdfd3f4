package draft

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// *Undo* undoes the last step that stands. A step of another technician's is
// taken back only when others is set: the caller has been told whose it is.
func (s *Service) Undo(ctx context.Context, by actor.Technician, id int64, version int32, others bool) (*Edited,
	error) {
	return s.flip(ctx, by, id, version, true, others, func(steps []order.Step) int {
		for i := len(steps) - 1; i >= 0; i-- {
			if !steps[i].Undone {
				return i
			}
		}
		return -1
	})
}

// TakeBack takes back one step, wherever it stands, unless a later one needs it. A step of another technician's is
// taken back only when others is set.
func (s *Service) TakeBack(
	ctx context.Context, by actor.Technician, id int64, version, seq int32, others bool,
) (*Edited, error) {
	return s.flip(ctx, by, id, version, true, others, func(steps []order.Step) int {
		return slices.IndexFunc(steps, func(s order.Step) bool { return s.Seq == seq && !s.Undone })
	})
}

// Redo does the first step that was undone again.
func (s *Service) Redo(ctx context.Context, by actor.Technician, id int64, version int32) (*Edited, error) {
	return s.flip(ctx, by, id, version, false, true, func(steps []order.Step) int {
		return slices.IndexFunc(steps, func(s order.Step) bool { return s.Undone })
	})
}

// neededBy refuses to flip a step that another one needs as it is. at is the place, among all edits that stand, of
// the one that no longer applies.
func neededBy(steps []order.Step, at int, undone bool) error {
	for _, st := range steps {
		if st.Undone {
			continue
		}
		if at < len(st.Edits) {
			if !undone {
				return actor.Refuse(actor.Conflict, "It cannot be done again: %s (%s) came since. Make the edit anew.",
					st.Says, st.By)
			}
			return actor.Refuse(actor.Conflict, "A later step needs it: %s (%s). Undo that first.", st.Says, st.By)
		}
		at -= len(st.Edits)
	}
	return actor.Refuse(actor.Conflict, "A later step needs it. Undo that first.")
}

func (s *Service) flip(
	ctx context.Context, by actor.Technician, id int64, version int32, undone, others bool,
	which func([]order.Step) int,
) (*Edited, error) {
	d, err := s.Editable(ctx, id, version)
	if err != nil {
		return nil, err
	}
	i := which(d.Steps)
	if i < 0 {
		b, err := s.store.Beside(ctx, d.Order.SiteID, d.Doc().Customer.Name)
		return &Edited{Before: d, After: d, Beside: b}, err
	}
	if step := d.Steps[i]; step.ByID != by.ID && !others {
		which := "This step"
		if !slices.ContainsFunc(d.Steps[i+1:], func(s order.Step) bool { return !s.Undone }) {
			which = "The last step"
		}
		says := fmt.Sprintf("%s is %s's (%s). Undo it all the same?", which, step.By, step.Says)
		return nil, &actor.Refusal{Kind: actor.Conflict, Says: says,
			Fields: []site.FieldError{{Field: "others", Says: says}}}
	}
	steps := slices.Clone(d.Steps)
	steps[i].Undone, steps[i].UndoneBy = undone, ""
	if undone {
		steps[i].UndoneBy = by.FullName
	}
	doc, err := edit.Apply(d.Base.Site, order.Live(steps)...)
	if conflict := (*edit.Conflict)(nil); errors.As(err, &conflict) {
		return nil, neededBy(steps, conflict.At, undone)
	}
	if err != nil {
		return nil, fmt.Errorf("order %d: %w", id, err)
	}
	next := d.With(steps, doc, steps[i].Edits)
	err = s.touch(ctx, next, func(q *gen.Queries) error {
		return q.MarkUndone(ctx, gen.MarkUndoneParams{OrderID: id, Seq: steps[i].Seq, Undone: undone, By: by.ID})
	})
	if err != nil {
		return nil, err
	}
	b, err := s.store.Beside(ctx, doc.ID, doc.Customer.Name)
	return &Edited{Before: d, After: next, Edits: steps[i].Edits, Beside: b}, err
}
