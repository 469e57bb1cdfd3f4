package moves

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"github.com/jackc/pgx/v5"

	"lithos/core/move"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// keptLevel is a standard or a customer's options as they are kept for all sites: before a move, in the version that
// the move made of it.
type keptLevel struct {
	Kind    string          `json:"kind"`
	ID      string          `json:"id"`
	Version int32           `json:"version"`
	Doc     json.RawMessage `json:"doc"`
}

// bare is a site that has nothing but a level.
func bare(kind string, doc []byte) (*site.Site, error) {
	out := &site.Site{}
	if kind == store.LevelStandard {
		return out, json.Unmarshal(doc, &out.Standard)
	}
	return out, json.Unmarshal(doc, &out.Customer)
}

// levelOf is the level of a site that has nothing else, with its name.
func levelOf(kind string, s *site.Site) (any, string) {
	if kind == store.LevelStandard {
		return s.Standard, s.Standard.Name
	}
	return s.Customer, s.Customer.Name
}

// above is what a move changes of what is kept for all sites, as it is or was before the move.
func above(p *move.Plan, levels []keptLevel) ([]Elsewhere, error) {
	var out []Elsewhere
	for _, l := range levels {
		was, err := bare(l.Kind, l.Doc)
		if err != nil {
			return nil, err
		}
		_, rows, err := p.Elsewhere(was)
		if err != nil {
			return nil, err
		}
		for i := range rows {
			rows[i].How, rows[i].When = "under Standards, once the swap has landed", "clients do not notice"
		}
		if _, name := levelOf(l.Kind, was); len(rows) > 0 {
			out = append(out, Elsewhere{Name: name, Rows: rows})
		}
	}
	return out, nil
}

// levelsAt are what is kept for all sites of what a site has. A standard that other customers have too is not among
// them: what names an address there may be theirs.
func levelsAt(ctx context.Context, q *gen.Queries, s *site.Site) ([]keptLevel, error) {
	rows, err1 := q.LevelsOfSite(ctx, s.ID)
	others, err2 := q.LevelIsOthers(ctx, gen.LevelIsOthersParams{StandardID: s.Standard.ID, CustomerID: s.Customer.ID})
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	var out []keptLevel
	for _, r := range rows {
		if r.Kind != store.LevelStandard || !others {
			out = append(out, keptLevel{r.Kind, r.ID, r.Version, r.Doc})
		}
	}
	return out, nil
}

// carryLevels gives what is kept for all sites the new addresses once the swap has landed, and the old ones back once
// the move is taken back, unless somebody has changed it since.
func (s *Service) carryLevels(
	ctx context.Context, by actor.Technician, m gen.MoveByIDRow, phases []gen.PhasesOfRow,
) error {
	landed := func(kind string) bool {
		return slices.ContainsFunc(phases, func(p gen.PhasesOfRow) bool {
			return p.Kind == kind && p.State == "landed" && p.SiteID == m.SiteID
		})
	}
	switch back := landed(kindBack); {
	case back && m.Levels != nil:
		return settled(s.levelsBack(ctx, by, m))
	case !back && landed(move.Swap) && m.Levels == nil:
		return settled(s.levelsOn(ctx, by, m)) // it is tried again where somebody changes a level at the same time
	}
	return nil
}

func (s *Service) levelsOn(ctx context.Context, by actor.Technician, m gen.MoveByIDRow) error {
	was, r, err := s.asked(ctx, m)
	if err != nil {
		return err
	}
	p, err := move.Of(was.Site, r)
	if err != nil {
		return err
	}
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if mine, err := q.ClaimMoveLevels(ctx, gen.ClaimMoveLevelsParams{ID: m.ID}); err != nil || mine == 0 {
			return err
		}
		levels, err := levelsAt(ctx, q, was.Site)
		if err != nil {
			return err
		}
		before := []keptLevel{}
		for _, l := range levels {
			now, err := bare(l.Kind, l.Doc)
			if err != nil {
				return err
			}
			will, rows, err := p.Elsewhere(now)
			if err != nil {
				return err
			}
			if len(rows) == 0 {
				continue
			}
			doc, _ := levelOf(l.Kind, will)
			if err := change(ctx, q, by, l, doc); err != nil {
				return err
			}
			l.Version++
			before = append(before, l)
		}
		raw, err := json.Marshal(before)
		if err != nil {
			return err
		}
		return q.NoteMoveLevels(ctx, gen.NoteMoveLevelsParams{ID: m.ID, Levels: raw})
	})
}

func (s *Service) levelsBack(ctx context.Context, by actor.Technician, m gen.MoveByIDRow) error {
	var levels []keptLevel
	if err := json.Unmarshal(m.Levels, &levels); err != nil {
		return err
	}
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		mine, err := q.ClaimMoveLevels(ctx, gen.ClaimMoveLevelsParams{ID: m.ID, Was: m.Levels})
		if err != nil || mine == 0 {
			return err
		}
		now, err := q.LevelsOfSite(ctx, m.SiteID)
		if err != nil {
			return err
		}
		for _, l := range levels {
			untouched := slices.ContainsFunc(now, func(o gen.KeptLevel) bool {
				return o.Kind == l.Kind && o.ID == l.ID && o.Version == l.Version
			})
			if !untouched {
				continue
			}
			if err := change(ctx, q, by, l, l.Doc); err != nil {
				return err
			}
		}
		return nil
	})
}

// change keeps another form of a level, in place of the version that it has.
func change(ctx context.Context, q *gen.Queries, by actor.Technician, l keptLevel, to any) error {
	doc, err := json.Marshal(to)
	if err != nil {
		return err
	}
	was, err := bare(l.Kind, l.Doc)
	if err != nil {
		return err
	}
	_, name := levelOf(l.Kind, was)
	return store.KeptLevel{Kind: l.Kind, ID: l.ID, Name: name, Version: l.Version, Doc: doc}.Keep(ctx, q, by)
}
