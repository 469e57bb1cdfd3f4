package work

import (
	"context"
	"crypto/rand"
	"slices"
	"strings"
	"time"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/rehearse"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/draft"
	"lithos/internal/order"
	"lithos/internal/sites"
	"lithos/internal/store"
)

// LevelPreview is what becomes of the sites that have a standard, or a customer's options.
type LevelPreview struct {
	Sites []Becomes `json:"sites"`
}

// Becomes is what becomes of one site.
type Becomes struct {
	sites.Place
	Words  []string      `json:"words" doc:"what changes in it; nothing where it has it so already"`
	Moving int           `json:"moving" doc:"how many known clients are affected"`
	Known  int           `json:"known" doc:"of how many"`
	Added  []order.Brief `json:"added" doc:"findings that it brings"`
}

// PreviewLevel says what becomes of each site if a level is kept as it was typed, and the site takes it.
func (s *Service) PreviewLevel(ctx context.Context, kind, id string, e sites.LevelEntry) (*LevelPreview, error) {
	l, err := e.Read(kind, id)
	if err != nil {
		return nil, err
	}
	sites, err := s.Sites.SitesOf(ctx, l)
	if err != nil {
		return nil, err
	}
	out := &LevelPreview{Sites: []Becomes{}}
	for _, doc := range sites {
		one, err := s.becomes(ctx, l, doc)
		if err != nil {
			return nil, err
		}
		out.Sites = append(out.Sites, one)
	}
	return out, nil
}

func (s *Service) becomes(ctx context.Context, l *sites.Level, doc *site.Site) (Becomes, error) {
	one := Becomes{Place: sites.Place{Code: doc.Code, Name: doc.Name}, Words: []string{}, Added: []order.Brief{}}
	now := l.In(doc)
	for _, e := range edit.Between(doc, now) {
		one.Words = append(one.Words, edit.Describe(doc, e, now))
	}
	if len(one.Words) == 0 {
		return one, nil
	}
	one.Added = order.InBrief(check.Added(check.Site(doc), check.Site(now)))
	heard, err := s.Store.Heard(ctx, doc.ID)
	if err != nil {
		return one, err
	}
	at := time.Now()
	report, err := rehearse.Run(rehearse.Start{Now: at, Site: doc}, now, rehearse.LeasesOf(doc, heard, at),
		func(rehearse.Client) error { return ctx.Err() })
	one.Moving, one.Known = report.Moving, report.Clients
	return one, err
}

// KeptNow is what became of keeping a level.
type KeptNow struct {
	ID     string         `json:"id"`
	Orders []order.Opened `json:"orders" doc:"the work orders that bring it to sites"`
}

// KeepLevel keeps a standard or a customer's options for all sites, and opens a work order at each of some sites that
// brings it there. The others say that they have another form of it.
func (s *Service) KeepLevel(
	ctx context.Context, by actor.Technician, kind, id string, e sites.LevelEntry, at []string,
) (*KeptNow, error) {
	if id == "" && kind == store.LevelStandard {
		id, e.Version = "std-"+strings.ToLower(rand.Text()[:10]), 0
	}
	l, err := e.Read(kind, id)
	if err != nil {
		return nil, err
	}
	if err := s.Sites.Keep(ctx, by, l); err != nil {
		return nil, err
	}
	out := &KeptNow{ID: id, Orders: []order.Opened{}}
	sites, err := s.Sites.SitesOf(ctx, l)
	if err != nil {
		return out, err
	}
	for _, doc := range sites {
		edits := edit.Between(doc, l.In(doc))
		if len(edits) == 0 || !slices.Contains(at, doc.Code) {
			continue
		}
		opened, err := s.Drafts.OpenOrder(ctx, by, doc.Code, l.Standard.Name, "")
		if err == nil {
			_, err = s.Drafts.Edit(ctx, by, opened, draft.Change{Version: 0, Edits: edits}, nil)
		}
		if err != nil {
			return out, err
		}
		out.Orders = append(out.Orders, order.Opened{ID: opened, Name: order.Name(opened), Title: doc.Name,
			By: by.FullName})
	}
	return out, nil
}
