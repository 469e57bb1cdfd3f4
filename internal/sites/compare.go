package sites

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"lithos/core/edit"
	"lithos/core/observed"
	"lithos/core/ownership"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// Compared is what became of a site between two revisions.
type Compared struct {
	From  int32      `json:"from"`
	To    int32      `json:"to"`
	Words []string   `json:"words" doc:"each difference in a line; none where they are the same"`
	Files []FileLine `json:"files" doc:"the two site files, line by line"`
}

// RevisionOf is a site as it was at a revision.
func (s *Service) RevisionOf(ctx context.Context, code string, number int32) (*site.Site, error) {
	row, err := s.store.Site(ctx, code)
	if err != nil {
		return nil, err
	}
	if number < 1 || number > row.Head {
		return nil, actor.Refuse(actor.Missing, "%s has the revisions 1 to %d.", row.Name, row.Head)
	}
	return s.store.Revision(ctx, row.ID, number)
}

// Compare says in words what became of a site from one revision to another, whichever is the newer.
func (s *Service) Compare(ctx context.Context, code string, from, to int32) (*Compared, error) {
	was, err := s.RevisionOf(ctx, code, from)
	if err != nil {
		return nil, err
	}
	now, err := s.RevisionOf(ctx, code, to)
	if err != nil {
		return nil, err
	}
	out := &Compared{From: from, To: to, Words: []string{}}
	at := was
	for _, e := range edit.Between(was, now) {
		after, err := edit.Apply(at, e)
		if err != nil {
			return nil, err
		}
		out.Words = append(out.Words, order.Describe(at, after, []edit.Edit{e}))
		at = after
	}
	files := [2]string{}
	for i, doc := range []*site.Site{was, now} {
		raw, err := json.MarshalIndent(doc, "", "  ")
		if err != nil {
			return nil, err
		}
		files[i] = string(raw) + "\n"
	}
	out.Files = Lines(files[0], files[1])
	return out, nil
}

// Past says who had an address, a name or a network of a site, and from when to when.
func (s *Service) Ownership(ctx context.Context, code, of string) (*ownership.History, error) {
	q, err := ownership.Ask(of)
	if err != nil {
		return nil, actor.RefuseFields("Nothing was looked up", site.FieldErrors{{Field: "of", Says: err.Error()}})
	}
	row, err := s.store.Site(ctx, code)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.ListRevisions(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	var all []ownership.Revision
	for _, r := range slices.Backward(rows) { // the newest is listed first
		doc, err := s.store.Revision(ctx, row.ID, r.Revision)
		if err != nil {
			return nil, err
		}
		all = append(all, ownership.Revision{Number: r.Revision, At: r.MadeAt, By: r.MadeBy, Site: doc})
	}
	out := &ownership.History{Recorded: q.Over(all), Seen: []ownership.Seen{}}
	if q.Network.IsValid() || len(all) == 0 {
		return out, nil
	}
	newest := all[len(all)-1].Site
	asks := gen.PastSightingsParams{SiteID: row.ID}
	if q.Address.IsValid() {
		asks.Address = &q.Address
	} else {
		label, _, _ := strings.Cut(q.Name, ".")
		asks.Name = label
	}
	spans, err := s.store.PastSightings(ctx, asks)
	for _, r := range spans {
		out.Seen = append(out.Seen, seenBy(newest, r))
	}
	return out, err
}

// seenBy is a time in which somebody was seen, in words.
func seenBy(doc *site.Site, r gen.PastSightingsRow) ownership.Seen {
	called := func(id string) string {
		if d, ok := doc.Device(id); ok {
			return d.Name
		}
		return id
	}
	out := ownership.Seen{Address: r.Address.String(), MAC: r.Mac.String(), Name: r.Name, From: r.First,
		Sure: "leased by " + called(r.DeviceID)}
	lasts := time.Now()
	if r.Source == observed.Neighbour {
		out.Sure = "answered " + called(r.DeviceID) + " by ARP: it used the address, whoever gave it"
		lasts = lasts.Add(-time.Hour)
	}
	if r.Port != "" {
		out.Port = r.Port + " of " + called(r.PortOf)
	}
	if r.Until.Before(lasts) {
		out.Until = &r.Until
	}
	return out
}
