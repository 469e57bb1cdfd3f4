package work

import (
	"cmp"
	"context"
	"strconv"
	"strings"

	"lithos/core/plan"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/push"
	"lithos/internal/report"
)

// Runbook is what is done by hand at the consoles of devices that Lithos does not reach, with boxes to tick: the lines
// of the push under way, else the steps that it would have. It is refused where nothing is done by hand.
func (s *Service) Runbook(ctx context.Context, id int64) (*report.Page, error) {
	v, err := s.Order(ctx, id)
	if err != nil {
		return nil, err
	}
	p := &report.Page{Title: "Runbook of " + v.Head.Name + " " + v.Head.Title, Under: v.SiteName}
	if v.Head.Ticket != "" {
		p.Under += ", ticket " + v.Head.Ticket
	}
	if v.Push != nil && len(v.Push.Hand) > 0 {
		underWay(p, v.Push.Hand)
		return p, nil
	}
	d, err := s.Drafts.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, part := range v.Plans {
		if !part.ByHand || part.Kind == "zone" {
			continue
		}
		b := report.Block{Heading: part.Device, Head: runbookHead}
		for n, st := range part.Steps {
			b.Rows = append(b.Rows, []string{"[ ] " + strconv.Itoa(part.First+n), st.Verb + " " + st.Text,
				typed(plan.Values(d.Doc().Own(), st)), ""})
		}
		p.Add(b)
	}
	if len(p.Blocks) == 0 {
		return nil, actor.Refuse(
			actor.Missing, "%s has nothing that is done by hand: Lithos reaches each device it changes.",
			order.Name(id))
	}
	return p, nil
}

var runbookHead = []string{"Done", "What", "Type or see", "Who and when"}

func typed(values []plan.Value) string {
	var out []string
	for _, v := range values {
		out = append(out, v.Name+" `"+v.Text+"`")
	}
	return strings.Join(out, ", ")
}

// underWay puts the lines of runbooks on a page, a block for each device and part.
func underWay(p *report.Page, lines []push.HandLine) {
	parts := map[string]string{"do": "", "ask": ": what you should see", "back": ": to put it back"}
	for i, l := range lines {
		if i == 0 || lines[i-1].Device != l.Device || lines[i-1].Part != l.Part {
			p.Add(report.Block{Heading: l.Device + parts[l.Part], Head: runbookHead})
		}
		b := &p.Blocks[len(p.Blocks)-1]
		box, seen := "[ ] ", ""
		if l.At != nil {
			box, seen = "[x] ", l.By+", "+l.At.UTC().Format("2 January 15:04 UTC")
		}
		b.Rows = append(b.Rows, []string{box + strconv.Itoa(l.Number), l.Says,
			cmp.Or(typed(l.Values), l.Expect), seen})
	}
}
