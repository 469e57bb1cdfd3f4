package moves

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/move"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// keep stores a move with its phases and opens their orders, all of it or nothing.
func (s *Service) keep(ctx context.Context, by actor.Technician, p *planned, revision int32) (id int64, err error) {
	request, err1 := json.Marshal(p.Request)
	facts, err2 := json.Marshal(p.facts)
	if err := errors.Join(err1, err2); err != nil {
		return 0, err
	}
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if err := alone(ctx, q, p, revision); err != nil {
			return err
		}
		id, err = q.OpenMove(ctx, gen.OpenMoveParams{SiteID: p.Was.ID, Title: p.Request.Title, Ticket: p.Request.Ticket,
			Request: request, BaseRevision: revision, Facts: facts, OpenedBy: by.ID})
		if err != nil {
			return err
		}
		k := keeper{q, by, id, p.Request, 0}
		for i, ph := range p.phases {
			if _, err := k.phase(ctx, p.Was, ph, p.proofs[i]); err != nil {
				return err
			}
			if ph.Kind != move.Swap {
				continue
			}
			for _, o := range p.others {
				there := move.Phase{Kind: kindElsewhere, Title: o.was.Name, Edits: edit.Between(o.was, o.will),
					Says:      "What points at the old addresses points at the new ones. Push it after the swap.",
					NotBefore: ph.NotBefore, NotAfter: ph.NotAfter.Add(24 * time.Hour)}
				if _, err := k.phase(ctx, o.was, there, move.Proof{}); err != nil {
					return err
				}
			}
		}
		for i, v := range p.Visits() {
			raw, err := json.Marshal(v)
			if err != nil {
				return err
			}
			if err := q.PutVisit(ctx, gen.PutVisitParams{MoveID: id, Seq: int32(i + 1), Visit: raw}); err != nil {
				return err
			}
		}
		return errors.Join(actor.Record(ctx, q, by, "move-begun", p.Was.Code, p.Request.Title),
			actor.Publish(ctx, q, actor.Event{Topic: "site", ID: p.Was.Code}))
	})
	return id, err
}

// alone refuses a move of a site that has a newer revision by now, and of networks that another move is about.
func alone(ctx context.Context, q *gen.Queries, p *planned, revision int32) error {
	head, err1 := q.LockSite(ctx, p.Was.ID)
	moves, err2 := q.MovesUnderWay(ctx, p.Was.ID)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	if head != revision {
		return actor.Refuse(actor.Conflict,
			"%s has a newer revision by now. Look at the plan again, and begin it then.",
			p.Was.Name)
	}
	return apart(moves, 0, p.facts.Networks, p.Was)
}

// apart refuses networks that a move under way, other than one, is about.
func apart(moves []gen.MovesUnderWayRow, but int64, networks []string, s *site.Site) error {
	for _, m := range moves {
		var facts check.Moving
		if err := json.Unmarshal(m.Facts, &facts); err != nil {
			return err
		}
		for _, id := range networks {
			if n, ok := s.Network(id); ok && m.ID != but && slices.Contains(facts.Networks, id) {
				return actor.Refuse(actor.Conflict, "%s moves with %q already. Finish that, or undo it.", n.Name,
					m.Title)
			}
		}
	}
	return nil
}

type keeper struct {
	q       *gen.Queries
	by      actor.Technician
	move    int64
	request move.Request
	seq     int32
}

// phase keeps a phase and opens its order, which it gives.
func (k *keeper) phase(ctx context.Context, at *site.Site, ph move.Phase, proof move.Proof) (int64, error) {
	title := clipped(k.request.Title + ": " + ph.Title)
	id, err := k.q.OpenOrder(ctx, gen.OpenOrderParams{Title: title, Ticket: k.request.Ticket, OpenedBy: k.by.ID,
		SiteID: at.ID})
	if err != nil {
		return 0, fmt.Errorf("open the order of a phase: %w", err)
	}
	edits, err1 := json.Marshal(ph.Edits)
	raw, err2 := json.Marshal(proof)
	if err := errors.Join(err1, err2); err != nil {
		return 0, err
	}
	k.seq++
	_, err3 := k.q.SetWindow(ctx, gen.SetWindowParams{ID: id, Note: ph.Says, NotBefore: &ph.NotBefore,
		NotAfter: &ph.NotAfter})
	return id, errors.Join(err3,
		k.q.PutPhase(ctx, gen.PutPhaseParams{MoveID: k.move, Seq: k.seq, Kind: ph.Kind, Title: ph.Title, Says: ph.Says,
			Edits: edits, Proof: raw, NotBefore: ph.NotBefore, NotAfter: ph.NotAfter, SiteID: at.ID, OrderID: id}),
		actor.Record(ctx, k.q, k.by, "order-opened", order.Name(id), title+", at "+at.Name),
		actor.Publish(ctx, k.q, actor.OrderEvent(id, 0)))
}

// mostTitle is how long the title of an order may be.
const mostTitle = 120

func clipped(title string) string {
	if r := []rune(title); len(r) > mostTitle {
		return string(r[:mostTitle-1]) + "…"
	}
	return title
}

// TakeMoveBack drops the phases that have not landed, and opens an order at each site that a phase has landed at, which
// makes it what it was before. It gives the order at the site itself, 0 where nothing had landed. A move that is done
// is under way again by that.
func (s *Service) TakeMoveBack(ctx context.Context, by actor.Technician, id int64) (int64, error) {
	m, err := s.found(ctx, id)
	if err != nil {
		return 0, err
	}
	if m.State != "open" && m.State != "done" {
		return 0, actor.Refuse(actor.Conflict, "The move %s was undone, or dropped: there is nothing to undo.",
			m.Title)
	}
	phases, err := s.store.PhasesOf(ctx, id)
	if err != nil {
		return 0, err
	}
	if err := mayGoBack(phases); err != nil {
		return 0, err
	}
	first, err := s.openBack(ctx, by, m, phases)
	if err != nil {
		return 0, err
	}
	return first, s.fill(ctx, id)
}

// mayGoBack refuses to take back a move of which a phase is being pushed, or that is taken back already.
func mayGoBack(phases []gen.PhasesOfRow) error {
	for _, p := range phases {
		switch {
		case p.State == "pushing":
			return actor.Refuse(actor.Conflict, "%s is being pushed. Stop that first, or wait until it has ended.",
				order.Name(p.OrderID))
		case p.Kind == kindBack && p.State == "open":
			return actor.Refuse(actor.Conflict, "%s takes the move back already.", order.Name(p.OrderID))
		}
	}
	return nil
}

// unchanged refuses where phases are not any more what the way back was worked out from.
func unchanged(was, now []gen.PhasesOfRow) error {
	if err := mayGoBack(now); err != nil {
		return err
	}
	if slices.EqualFunc(was, now, func(a, b gen.PhasesOfRow) bool {
		return a.OrderID == b.OrderID && a.State == b.State && a.Version == b.Version
	}) {
		return nil
	}
	return actor.Refuse(actor.Conflict, "The move has changed meanwhile. Look at it again; nothing was done.")
}

// openBack opens an order at each site that a phase has landed at, and drops the phases that have not landed: all of
// it or nothing. It gives the order at the move's own site.
func (s *Service) openBack(
	ctx context.Context, by actor.Technician, m gen.MoveByIDRow, phases []gen.PhasesOfRow,
) (first int64, err error) {
	landed := map[string][]gen.PhasesOfRow{} // by site
	var sites []string
	for _, p := range phases {
		if p.State != "landed" {
			continue
		}
		if landed[p.SiteID] == nil {
			sites = append(sites, p.SiteID)
		}
		landed[p.SiteID] = append(landed[p.SiteID], p)
	}
	now := time.Now()
	var docs []*site.Site
	var backs []move.Phase
	for _, at := range sites {
		edits, doc, err := s.back(ctx, landed[at])
		if err != nil {
			return 0, err
		}
		docs = append(docs, doc)
		backs = append(backs, move.Phase{Kind: kindBack, Title: "Undo the move", Edits: edits, NotBefore: now,
			NotAfter: now.Add(24 * time.Hour), Says: "The site as it was before the move."})
	}
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if err := reopen(ctx, q, m, docs); err != nil {
			return err
		}
		now, err := q.PhasesOf(ctx, m.ID)
		if err == nil {
			err = unchanged(phases, now)
		}
		if err != nil {
			return err
		}
		k := keeper{q, by, m.ID, move.Request{Title: m.Title, Ticket: m.Ticket}, int32(len(phases))}
		for i, doc := range docs {
			id, err := k.phase(ctx, doc, backs[i], move.Proof{})
			if err != nil {
				return err
			}
			if doc.ID == m.SiteID {
				first = id
			}
		}
		for _, p := range phases {
			if p.State != "open" {
				continue
			}
			if err := s.drafts.DropIn(ctx, q, by, p.OrderID, p.Version, p.Title); err != nil {
				return err
			}
		}
		return nil
	})
	return first, err
}

// reopen has a move under way again. It is refused where another move has begun with one of its networks.
func reopen(ctx context.Context, q *gen.Queries, m gen.MoveByIDRow, docs []*site.Site) error {
	_, err1 := q.LockSite(ctx, m.SiteID)
	moves, err2 := q.MovesUnderWay(ctx, m.SiteID)
	var facts check.Moving
	if err := errors.Join(err1, err2, json.Unmarshal(m.Facts, &facts)); err != nil {
		return err
	}
	for _, doc := range docs {
		if doc.ID != m.SiteID {
			continue
		}
		if err := apart(moves, m.ID, facts.Networks, doc); err != nil {
			return err
		}
	}
	n, err := q.ReopenMove(ctx, m.ID)
	if err == nil && n == 0 {
		err = actor.Refuse(actor.Conflict, "The move %s has been undone meanwhile.", m.Title)
	}
	return err
}

// back is the edits that undo phases that have landed at a site, and the site as it was before them.
func (s *Service) back(ctx context.Context, landed []gen.PhasesOfRow) ([]edit.Edit, *site.Site, error) {
	was, err := s.drafts.Head(ctx, landed[0].SiteID, landed[0].BaseRevision)
	if err != nil {
		return nil, nil, err
	}
	doc := was.Site
	for _, p := range landed {
		d, err := s.drafts.Draft(ctx, p.OrderID)
		if err != nil {
			return nil, nil, err
		}
		doc, _ = edit.Replay(doc, order.Live(d.Steps))
	}
	return edit.Between(doc, was.Site), was.Site, nil
}
