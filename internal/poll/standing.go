package poll

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"lithos/core/check"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

const (
	// lookAgainAfter is how old may be what Rounds says of a site's surroundings
	// where nothing is known to have changed: the day goes on.
	lookAgainAfter = 10 * time.Minute
	// looksAtOnce bounds how many sites one poll looks around at.
	looksAtOnce = 200
)

// lookAround keeps what Rounds says of the sites' surroundings up to date, of as
// many as one poll can; the others follow with the next.
func (s *Service) lookAround(ctx context.Context) error {
	rows, err := s.store.SitesToLookAt(ctx,
		gen.SitesToLookAtParams{Before: time.Now().Add(-lookAgainAfter), Most: looksAtOnce})
	if err != nil {
		return err
	}
	news := false
	customers := map[string][]check.Neighbor{} // the networks of all their sites, read once
	look := func(row gen.Site) (changed bool, err error) {
		all, ok := customers[row.Customer]
		if !ok {
			if all, err = s.store.Neighbors(ctx, row.Customer); err != nil {
				return false, err
			}
			customers[row.Customer] = all
		}
		heard, err := s.store.Heard(ctx, row.ID)
		if err != nil {
			return false, err
		}
		access, err := s.store.Access(ctx, row.ID)
		if err != nil {
			return false, err
		}
		lines, err := s.store.Lines(ctx, row.ID)
		if err != nil {
			return false, err
		}
		zones, err := s.store.Zones(ctx, row.ID)
		if err != nil {
			return false, err
		}
		return s.lookAt(ctx, row, order.Beside{Access: access, Seen: heard, Zones: zones, Lines: lines,
			Documents: s.store.Documents, Neighbors: all})
	}
	for _, row := range rows {
		changed, err := look(row)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil { // the others are looked at all the same
			s.log.Warn("cannot look around at a site", "site", row.Code, "error", err)
		}
		news = news || changed
	}
	if !news {
		return nil
	}
	return actor.Publish(ctx, s.store.Queries, actor.RoundsEvent)
}

// lookAt stores what the rules of a site's surroundings find. It reports whether
// that is something else than before.
func (s *Service) lookAt(ctx context.Context, row gen.Site, b order.Beside) (changed bool, err error) {
	head, err := s.sites.Head(ctx, row.ID, row.Head)
	if err != nil {
		return false, err
	}
	found := check.Around(head, b.Around(head.Site))
	check.Sort(found)
	now, err := json.Marshal(order.InBrief(found))
	if err != nil {
		return false, err
	}
	was, err := store.Found(s.store.Standing(ctx, row.ID))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return false, err
	}
	if bytes.Equal(was.Findings, now) && was.Revision == row.Head && was.Lately {
		return false, nil
	}
	if err := s.store.PutStanding(ctx,
		gen.PutStandingParams{SiteID: row.ID, Revision: row.Head, Findings: now}); err != nil {
		return false, fmt.Errorf("note what was found around %s: %w", row.Code, err)
	}
	return !bytes.Equal(was.Findings, now), nil
}
