package fleet

import (
	"context"
	"encoding/json"
	"slices"

	"lithos/core/edit"
	"lithos/core/past"
	"lithos/core/site"
	"lithos/internal/act"
	"lithos/internal/order"
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
		return nil, act.Refuse(act.Missing, "%s has the revisions 1 to %d.", row.Name, row.Head)
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
func (s *Service) Past(ctx context.Context, code, of string) ([]past.Holding, error) {
	q, err := past.Ask(of)
	if err != nil {
		return nil, act.RefuseFields("Nothing was looked up", site.FieldErrors{{Field: "of", Says: err.Error()}})
	}
	row, err := s.store.Site(ctx, code)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.ListRevisions(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	var all []past.Revision
	for _, r := range slices.Backward(rows) { // the newest is listed first
		doc, err := s.store.Revision(ctx, row.ID, r.Revision)
		if err != nil {
			return nil, err
		}
		all = append(all, past.Revision{Number: r.Revision, At: r.MadeAt, By: r.MadeBy, Site: doc})
	}
	return q.Over(all), nil
}
