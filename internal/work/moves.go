package work

import (
	"context"
	"fmt"

	"lithos/internal/moves"
	"lithos/internal/report"
)

// OldNumbers is the site of a move as it was before, on paper: every old address beside its new one, who is to be
// visited, and then the whole site.
func (s *Service) OldNumbers(ctx context.Context, id int64) (*report.Page, error) {
	m, err := s.Moves.Move(ctx, id)
	if err != nil {
		return nil, err
	}
	row, err := s.Store.Site(ctx, m.Site)
	if err != nil {
		return nil, err
	}
	was, err := s.Drafts.Head(ctx, row.ID, m.Revision)
	if err != nil {
		return nil, err
	}
	card, err := s.cardOf(ctx, was.Site, m.Revision)
	if err != nil {
		return nil, err
	}
	p := &report.Page{Title: "Old numbers of " + m.Title,
		Under: fmt.Sprintf("%s as it was at revision %d. %s.", m.SiteName, m.Revision, m.Says)}
	b := report.Block{Heading: "Old and new", Head: []string{"Whose", "Was", "Will be", "How it gets there"}}
	for _, t := range m.Threads {
		b.Rows = append(b.Rows, []string{t.What, "`" + t.From.String() + "`", "`" + t.To.String() + "`", t.Odd})
	}
	p.Add(b)
	p.Add(whatElse(m))
	if len(m.Notes) > 0 {
		p.Add(forTheEye(m))
	}
	if len(m.Visits) > 0 {
		p.Add(visits(m))
	}
	p.Blocks = append(p.Blocks, card.Blocks...)
	return p, nil
}

func whatElse(m *moves.MoveView) report.Block {
	b := report.Block{Heading: "Everything that changes", Head: []string{"What", "Was", "Will be", "How"}}
	for _, r := range m.Rows {
		b.Rows = append(b.Rows, []string{r.What, r.Was, r.Will, r.How})
	}
	for _, e := range m.Elsewhere {
		for _, r := range e.Rows {
			b.Rows = append(b.Rows, []string{e.Name + ": " + r.What, r.Was, r.Will, r.How})
		}
	}
	return b
}

func forTheEye(m *moves.MoveView) report.Block {
	b := report.Block{Heading: "Free text that names an old address", Head: []string{"Where", "Address", "Text"}}
	for _, n := range m.Notes {
		b.Rows = append(b.Rows, []string{n.Name, "`" + n.Address.String() + "`", n.Text})
	}
	return b
}

func visits(m *moves.MoveView) report.Block {
	b := report.Block{Heading: "To be visited by hand", Head: []string{"Done", "Where", "Type there"}}
	for _, v := range m.Visits {
		typed := ""
		for _, t := range v.Type {
			typed += t.Label + " `" + t.Value + "`  "
		}
		done := "[ ]"
		if v.DoneAt != nil {
			done = "[x]"
		}
		b.Rows = append(b.Rows, []string{done + " " + v.Name, v.At, typed})
	}
	return b
}
