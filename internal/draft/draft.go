// Package draft is the work orders of technicians: open one, edit its draft, take a
// step back, paste, move it to a newer revision, drop it. It keeps the scenes of
// what is being worked on.
package draft

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/jackc/pgx/v5"

	"lithos/core/check"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Sealer encrypts the passwords that are typed into drafts.
type Sealer interface {
	Seal(secret string) ([]byte, error)
}

// Service is the use cases of work orders. It is safe for concurrent use, and any
// number of processes may run one on the same database.
type Service struct {
	store  *store.Store
	sealer Sealer

	// The scenes of the sites and orders being worked on; what was used the longest ago
	// makes way. Revisions never change, so that what is worked out of one may be kept.
	heads  *lru.Cache[revision, *check.Scene]
	drafts *lru.Cache[int64, *order.Draft]
}

type revision struct {
	site   string
	number int32
}

// maxKept is how many scenes of sites, and how many drafts, are kept.
const maxKept = 128

// New makes the use cases on a migrated database.
func New(s *store.Store, sealer Sealer) *Service {
	heads, err1 := lru.New[revision, *check.Scene](maxKept)
	drafts, err2 := lru.New[int64, *order.Draft](maxKept)
	if err := errors.Join(err1, err2); err != nil {
		panic("a cache keeps at least one: " + err.Error())
	}
	return &Service{store: s, sealer: sealer, heads: heads, drafts: drafts}
}

// Head is the scene of one revision of a site.
func (s *Service) Head(ctx context.Context, siteID string, number int32) (*check.Scene, error) {
	key := revision{siteID, number}
	if kept, ok := s.heads.Get(key); ok {
		return kept, nil
	}
	doc, err := s.store.Revision(ctx, siteID, number)
	if err != nil {
		return nil, err
	}
	sc := check.Of(doc)
	s.heads.Add(key, sc)
	return sc, nil
}

// SceneOf is a site as it is, or as an order proposes it: its scene, the draft, which is nil
// without an order, and the revision it stands on.
func (s *Service) SceneOf(
	ctx context.Context, code string, orderID int64,
) (sc *check.Scene, d *order.Draft, number int32, err error) {
	if orderID != 0 {
		if d, err = s.Draft(ctx, orderID); err != nil {
			return nil, nil, 0, err
		}
		if d.Order.Code != code {
			return nil, nil, 0, actor.Refuse(actor.Missing, "%s is not an order of this site.", order.Name(orderID))
		}
		return d.Scene, d, d.Order.BaseRevision, nil
	}
	row, err := s.store.Site(ctx, code)
	if err != nil {
		return nil, nil, 0, err
	}
	sc, err = s.Head(ctx, row.ID, row.Head)
	return sc, nil, row.Head, err
}

const maxTitle = 120

// OpenOrder opens a work order on a site's newest revision.
func (s *Service) OpenOrder(ctx context.Context, by actor.Technician, code, title, ticket string) (int64, error) {
	title, ticket = strings.TrimSpace(title), strings.TrimSpace(ticket)
	if fields := checkOrder(title, ticket); len(fields) > 0 {
		return 0, &actor.Refusal{Kind: actor.Invalid, Says: "The work order was not opened.", Fields: fields}
	}
	row, err := s.store.Site(ctx, code)
	if err != nil {
		return 0, err
	}
	if row.Away {
		return 0, actor.Refuse(actor.Conflict, "%s is archived; bring it back first.", row.Name)
	}
	var id int64
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if id, err = q.OpenOrder(ctx,
			gen.OpenOrderParams{Title: title, Ticket: ticket, OpenedBy: by.ID, SiteID: row.ID}); err != nil {
			return fmt.Errorf("open a work order: %w", err)
		}
		return errors.Join(actor.Record(ctx, q, by, "order-opened", order.Name(id), title+", at "+row.Name),
			actor.Publish(ctx, q, actor.OrderEvent(id, 0)))
	})
	return id, err
}

func checkOrder(title, ticket string) site.FieldErrors {
	var fields site.FieldErrors
	fail := func(field, says string) { fields = append(fields, site.FieldError{Field: field, Says: says}) }
	if n := utf8.RuneCountInString(title); n == 0 || n > maxTitle {
		fail("title",
			fmt.Sprintf("A work order needs a title of 1 to %d characters; type what it is for, for example "+
				"Recovery ward.", maxTitle))
	} else if err := site.CheckText(title); err != nil {
		fail("title", "The title "+err.Error()+".")
	}
	if n := utf8.RuneCountInString(ticket); n > maxTitle {
		fail("ticket", fmt.Sprintf("The ticket has %d characters; use at most %d.", n, maxTitle))
	} else if err := site.CheckText(ticket); err != nil {
		fail("ticket", "The ticket "+err.Error()+".")
	}
	return fields
}

// Draft reads a work order with the site it proposes.
func (s *Service) Draft(ctx context.Context, id int64) (*order.Draft, error) {
	o, err := s.store.Order(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, actor.Refuse(actor.Missing, "There is no work order %s.", order.Name(id))
	}
	if err != nil {
		return nil, err
	}
	if kept, ok := s.drafts.Get(id); ok && kept.Order.Version == o.Version &&
		kept.Order.BaseRevision == o.BaseRevision {
		now := *kept
		now.Order = o
		return &now, nil
	}
	rows, err := s.store.OrderSteps(ctx, id)
	if err != nil {
		return nil, err
	}
	switch now, err := s.store.Order(ctx, id); {
	case err != nil:
		return nil, err
	case now.Version != o.Version: // the steps may be of a later version: each change makes one
		return s.Draft(ctx, id)
	}
	var steps []order.Step
	for _, r := range rows {
		step := order.Step{Seq: r.Seq, Says: r.Says, Undone: r.Undone, Version: r.Version, By: r.MadeBy, ByID: r.ByID,
			At: r.MadeAt, UndoneBy: r.UndoneBy}
		if err := errors.Join(json.Unmarshal(r.Edits, &step.Edits), json.Unmarshal(r.PutBack,
			&step.PutBack)); err != nil {
			return nil, fmt.Errorf("step %d of order %d: %w", r.Seq, id, err)
		}
		steps = append(steps, step)
	}
	base, err := s.Head(ctx, o.SiteID, o.BaseRevision)
	if err != nil {
		return nil, err
	}
	d, err := order.New(o, steps, base)
	if err != nil {
		return nil, err
	}
	s.drafts.Add(id, d)
	return d, nil
}

// Editable reads a draft that may be changed and is at the version the caller saw.
func (s *Service) Editable(ctx context.Context, id int64, version int32) (*order.Draft, error) {
	d, err := s.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := d.Order.Open(); err != nil {
		return nil, err
	}
	if d.Order.Version != version {
		return nil, d.MovedOn()
	}
	return d, nil
}

// touch stores a change to a draft, in one transaction that fails when another
// change came first, and remembers the draft after it.
func (s *Service) touch(ctx context.Context, d *order.Draft, do func(q *gen.Queries) error) error {
	err := s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		n, err := q.TouchOrder(ctx, gen.TouchOrderParams{ID: d.Order.ID, Version: d.Order.Version})
		if err != nil {
			return err
		}
		if n == 0 {
			return store.ErrMoved
		}
		if err := do(q); err != nil {
			return err
		}
		return actor.Publish(ctx, q, actor.OrderEvent(d.Order.ID, d.Order.Version+1))
	})
	if err == nil {
		d.Order.Version++
		s.drafts.Add(d.Order.ID, d)
	}
	return s.unlessMoved(ctx, d, err)
}

// unlessMoved says of a change that came second what came first.
func (s *Service) unlessMoved(ctx context.Context, d *order.Draft, err error) error {
	if errors.Is(err, store.ErrMoved) {
		if _, err := s.Editable(ctx, d.Order.ID, d.Order.Version); err != nil {
			return err
		}
	}
	if err != nil {
		return fmt.Errorf("change %s: %w", order.Name(d.Order.ID), err)
	}
	return nil
}

// Drop closes a work order without pushing it. Its edits stay on record, and
// TakeUp opens it again.
func (s *Service) Drop(ctx context.Context, by actor.Technician, id int64, version int32) error {
	d, err := s.Editable(ctx, id, version)
	if err != nil {
		return err
	}
	next := *d
	return s.touch(ctx, &next, func(q *gen.Queries) error { return dropped(ctx, q, by, id, d.Order.Title) })
}

func dropped(ctx context.Context, q *gen.Queries, by actor.Technician, id int64, title string) error {
	n, err := q.SetOrderState(ctx, gen.SetOrderStateParams{ID: id, State: "dropped", By: by.ID, Expected: "open"})
	if err == nil && n == 0 {
		err = store.ErrMoved
	}
	return errors.Join(err, actor.Record(ctx, q, by, "order-dropped", order.Name(id), title))
}

// DropIn is Drop as part of a transaction of somebody else, which fails when another change came first.
func (s *Service) DropIn(
	ctx context.Context, q *gen.Queries, by actor.Technician, id int64, version int32, title string,
) error {
	n, err := q.TouchOrder(ctx, gen.TouchOrderParams{ID: id, Version: version})
	if err == nil && n > 0 {
		err = dropped(ctx, q, by, id, title)
	}
	if errors.Is(err, store.ErrMoved) || err == nil && n == 0 {
		return actor.Refuse(actor.Conflict, "%s was changed meanwhile. Look at it again; nothing was done.",
			order.Name(id))
	}
	return errors.Join(err, actor.Publish(ctx, q, actor.OrderEvent(id, version+1)))
}

// TakeUp opens a dropped work order again, with its edits.
func (s *Service) TakeUp(ctx context.Context, by actor.Technician, id int64, version int32) error {
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		n, err := q.ReopenOrder(ctx, gen.ReopenOrderParams{ID: id, Version: version})
		if err == nil && n == 0 {
			err = actor.Refuse(actor.Conflict, "%s is not dropped, or was changed meanwhile. Look at it again.",
				order.Name(id))
		}
		if err != nil {
			return err
		}
		return errors.Join(actor.Record(ctx, q, by, "order-taken-up", order.Name(id),
			"Opened again after it was dropped"), actor.Publish(ctx, q, actor.OrderEvent(id, 0)))
	})
}
