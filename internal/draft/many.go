package draft

import (
	"context"
	"errors"
	"slices"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
)

// PasteRequest is many reservations, fixed devices or records in text.
type PasteRequest struct {
	Network string `json:"network,omitempty" doc:"id of the network of reservations and fixed devices"`
	Zone    string `json:"zone,omitempty" doc:"id of the zone of records"`
	Kind    string `json:"kind" enum:"reservation,fixed,record"`
	Text    string `json:"text" maxLength:"1048576" doc:"one a line: address, MAC and name in any order, with commas, tabs or spaces between; of records, lines of a hosts file, of CSV or of a zone file"`
}

// PastePreview is what will happen line by line.
type PastePreview struct {
	Lines []edit.Line `json:"lines"`
	Edits int         `json:"edits"` // lines that change something
}

// Paste says what a paste into a draft would do. Nothing is changed.
func (s *Service) Paste(ctx context.Context, id int64, r PasteRequest) (*PastePreview, error) {
	d, err := s.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	lines, edits, err := r.read(d.Doc())
	return &PastePreview{lines, changing(lines, edits)}, err
}

// changing counts the lines that change something: several may write one record, and one several edits.
func changing(lines []edit.Line, edits []edit.Edit) int {
	if len(edits) == 0 {
		return 0
	}
	n := 0
	for _, l := range lines {
		if l.Outcome == edit.LineAdds || l.Outcome == edit.LineChanges {
			n++
		}
	}
	return n
}

func (r PasteRequest) read(doc *site.Site) ([]edit.Line, []edit.Edit, error) {
	fresh := func(int) string { return newID(r.Kind) }
	lines, edits, err := []edit.Line(nil), []edit.Edit(nil), error(nil)
	if r.Kind == site.KindRecord {
		lines, edits, err = edit.PasteNames(doc, r.Zone, r.Text, fresh)
	} else {
		n, ok := doc.Network(r.Network)
		if !ok {
			return nil, nil, actor.Refuse(actor.Missing, "The network is not there any more.")
		}
		lines, edits, err = edit.Paste(doc, n, r.Kind, r.Text, fresh)
	}
	var fields site.FieldErrors
	if errors.As(err, &fields) {
		return nil, nil, actor.RefuseFields("Nothing was pasted", fields)
	}
	return lines, edits, err
}

// FixPreview is what the fixes of all findings of one rule would do.
type FixPreview struct {
	Rule  string   `json:"rule"`
	Fixes []OneFix `json:"fixes"`
}

// OneFix is one of many.
type OneFix struct {
	Finding string `json:"finding"`
	Title   string `json:"title"`
	Fix     string `json:"fix"`  // in words; empty when there is none
	Says    string `json:"says"` // the edits, or why there is none
}

// maxFixes bounds how many findings are fixed at once.
const maxFixes = 500

// Fixes previews the fixes of every finding of a rule in a draft. Nothing is
// changed.
func (s *Service) Fixes(ctx context.Context, id int64, rule string) (*FixPreview, error) {
	d, err := s.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	fixes, _, err := s.fixAll(ctx, d, rule)
	return &FixPreview{rule, fixes}, err
}

// fixAll fixes the findings of a rule one after another, each in the document
// the last one left, so that two fixes never take the same address.
func (s *Service) fixAll(ctx context.Context, d *order.Draft, rule string) ([]OneFix, []edit.Edit, error) {
	b, err := s.store.Beside(ctx, d.Order.SiteID, d.Doc().Customer.Name)
	if err != nil {
		return nil, nil, err
	}
	with, sc := b.Around(d.Doc()), d.Scene
	fixes := []OneFix{}
	var edits []edit.Edit
	tried := map[string]bool{}
	for len(fixes) < maxFixes {
		f, ok := next(rule, tried, sc.Findings)
		if !ok {
			f, ok = next(rule, tried, check.Around(sc, with))
		}
		if !ok {
			break
		}
		tried[f.ID] = true
		one := OneFix{Finding: f.ID, Title: f.Title, Says: "There is no ready fix; change what it names."}
		if f.Fix != nil {
			after, err := edit.Apply(sc.Site, f.Fix.Edits...)
			if err != nil {
				return nil, nil, err
			}
			one.Fix, one.Says = f.Fix.Title, order.Describe(sc.Site, after, f.Fix.Edits)
			sc, edits = sc.After(after, f.Fix.Edits), append(edits, f.Fix.Edits...)
		}
		fixes = append(fixes, one)
	}
	return fixes, edits, nil
}

// next is the first finding of a rule that was not tried yet.
func next(rule string, tried map[string]bool, found []check.Finding) (check.Finding, bool) {
	i := slices.IndexFunc(found, func(f check.Finding) bool { return f.Rule == rule && !tried[f.ID] })
	if i < 0 {
		return check.Finding{}, false
	}
	return found[i], true
}
