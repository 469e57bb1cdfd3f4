package draft

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"lithos/core/edit"
	"lithos/core/replicate"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// Copied is what became of an order at another site.
type Copied struct {
	Site  string `json:"site"` // code
	Name  string `json:"name"` // of the site
	Order int64  `json:"order" doc:"the one that was opened there; 0 where none was"`
	Edits int    `json:"edits" doc:"that found their place"`
	Left  int    `json:"left" doc:"that did not, and wait there for a decision"`
	Says  string `json:"says,omitempty" doc:"why none was opened"`
	// Hidden are options that change nothing there, because a nearer level sets them.
	Hidden []HiddenThere `json:"hidden"`
}

// HiddenThere is an option that was set at another site, and that nearer levels hide from every client there.
type HiddenThere struct {
	Code   uint8         `json:"code"`
	What   string        `json:"what" doc:"name of the option"`
	Value  string        `json:"value"`
	Levels []NearerLevel `json:"levels" doc:"that set it instead"`
}

// NearerLevel is a level that hides an option.
type NearerLevel struct {
	In   string `json:"in" doc:"kind:id"`
	Says string `json:"says" doc:"what it is called"`
}

func hiddenThere(was, now *site.Site, placed []edit.Edit) []HiddenThere {
	out := []HiddenThere{}
	for _, h := range replicate.HiddenIn(was, now, placed) {
		one := HiddenThere{Code: h.Code, What: h.Name, Value: h.Value}
		for _, l := range h.By {
			one.Levels = append(one.Levels, NearerLevel{site.Ref{Kind: l.Kind, ID: l.ID}.String(), l.Kind + " " +
				l.Name})
		}
		out = append(out, one)
	}
	return out
}

const mostCopies = 200

// CopyTo opens the order at other sites, each with the edits that find their place there by role and name; what does
// not fit waits there for a decision. The orders belong together from then on.
func (s *Service) CopyTo(ctx context.Context, by actor.Technician, id int64, codes []string) ([]Copied, error) {
	d, err := s.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	edits := order.Live(d.Steps)
	switch {
	case len(edits) == 0:
		return nil, actor.Refuse(actor.Conflict, "%s has no edits to copy yet.", order.Name(id))
	case len(codes) == 0:
		return nil, actor.Refuse(actor.Invalid, "Choose the sites it is copied to.")
	case len(codes) > mostCopies:
		return nil, actor.Refuse(actor.Invalid, "Choose at most %d sites at a time.", mostCopies)
	}
	lead := id
	if d.Order.Lead != 0 {
		lead = d.Order.Lead
	}
	there, err := s.store.OrdersTogether(ctx, lead)
	if err != nil {
		return nil, err
	}
	open := map[string]int64{}
	for _, o := range there {
		if o.State == "open" || o.State == "pushing" {
			open[o.Code] = o.ID
		}
	}
	out := []Copied{}
	for _, code := range codes {
		if has := open[code]; has != 0 {
			out = append(out, Copied{Site: code, Name: code, Says: order.Name(has) + " is open there already",
				Hidden: []HiddenThere{}})
			continue
		}
		c, err := s.copyOne(ctx, by, d, lead, code, edits)
		var refusal *actor.Refusal
		switch {
		case errors.As(err, &refusal):
			c = Copied{Site: code, Name: code, Says: refusal.Says, Hidden: []HiddenThere{}}
		case err != nil:
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

func (s *Service) copyOne(
	ctx context.Context, by actor.Technician, d *order.Draft, lead int64, code string, edits []edit.Edit,
) (Copied, error) {
	row, err := s.store.Site(ctx, code)
	if err != nil {
		return Copied{}, err
	}
	head, err := s.Head(ctx, row.ID, row.Head)
	if err != nil {
		return Copied{}, err
	}
	placed, left := replicate.Place(d.Base.Site, d.Doc(), head.Site, edits, newID)
	out := Copied{Site: code, Name: row.Name, Edits: len(placed), Left: len(left), Hidden: []HiddenThere{}}
	if len(placed)+len(left) == 0 {
		out.Says = "all of it is so there already"
		return out, nil
	}
	doc, err := edit.Apply(head.Site, placed...)
	if err != nil {
		return Copied{}, err
	}
	out.Hidden = hiddenThere(head.Site, doc, placed)
	out.Order, err = s.OpenOrder(ctx, by, code, d.Order.Title, d.Order.Ticket)
	if err != nil {
		return out, err
	}
	step := order.Step{Seq: 1, Says: order.Describe(head.Site, doc, placed), Edits: placed, Version: 1, ByID: by.ID,
		At: time.Now()}
	return out, s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if err := q.SetLead(ctx, gen.SetLeadParams{ID: out.Order, Lead: lead}); err != nil {
			return err
		}
		if _, err := q.TouchOrder(ctx, gen.TouchOrderParams{ID: out.Order}); err != nil {
			return err
		}
		if len(placed) > 0 {
			if err := addStep(ctx, q, out.Order, step); err != nil {
				return err
			}
		}
		for _, l := range left {
			if err := loseEdit(ctx, q, out.Order, by, l); err != nil {
				return err
			}
		}
		return errors.Join(actor.Publish(ctx, q, actor.OrderEvent(out.Order, 1)),
			actor.Publish(ctx, q, actor.OrderEvent(lead, 0)))
	})
}

// Fill puts edits into the draft of an open order, at the version that the caller saw, as one step on the site's newest
// revision. What does not apply there waits for a decision.
func (s *Service) Fill(ctx context.Context, by actor.Technician, id int64, version int32, edits []edit.Edit) error {
	d, err := s.Editable(ctx, id, version)
	if err == nil && d.Order.BaseRevision != d.Order.Head {
		d, err = s.Rebase(ctx, id, d.Order.Version)
	}
	if err != nil {
		return err
	}
	doc, conflicts := edit.Replay(d.Doc(), edits)
	lost := map[int]edit.Conflict{}
	for _, c := range conflicts {
		lost[c.At] = c
	}
	var placed []edit.Edit
	for i, e := range edits {
		if _, gone := lost[i]; !gone {
			placed = append(placed, e)
		}
	}
	next := *d
	if len(placed) > 0 {
		next = *d.With(append(d.Standing(), d.NextStep(by, doc, placed)), doc, placed)
	}
	next.Order.Lost += len(lost)
	return s.touch(ctx, &next, func(q *gen.Queries) error {
		if len(placed) > 0 {
			if err := addStep(ctx, q, id, next.Steps[len(next.Steps)-1]); err != nil {
				return err
			}
		}
		for _, c := range conflicts {
			left := replicate.Left{Edit: c.Edit, Says: edit.Describe(d.Doc(), c.Edit), Why: c.Says}
			if err := loseEdit(ctx, q, id, by, left); err != nil {
				return err
			}
		}
		return nil
	})
}

// addStep stores a step of a draft.
func addStep(ctx context.Context, q *gen.Queries, id int64, step order.Step) error {
	raw, back, err := written(step)
	if err != nil {
		return err
	}
	return q.AddStep(ctx, gen.AddStepParams{OrderID: id, Seq: step.Seq, Says: step.Says, Edits: raw, PutBack: back,
		Version: step.Version, MadeBy: step.ByID, MadeAt: step.At})
}

// loseEdit keeps an edit that has no place in a draft until somebody decides.
func loseEdit(ctx context.Context, q *gen.Queries, id int64, by actor.Technician, l replicate.Left) error {
	e, err := json.Marshal(l.Edit)
	if err != nil {
		return err
	}
	return q.LoseEdit(ctx, gen.LoseEditParams{OrderID: id, Edit: e, Says: l.Says, Why: sentence(l.Why), MadeBy: by.ID})
}

func sentence(says string) string { return strings.ToUpper(says[:1]) + says[1:] }
