package work

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"lithos/core/site"
	"lithos/internal/report"
)

// Record is a work order on one page: what it was for, what was changed and by whom, what the devices were told,
// what was proved, and how it ended. Times are in the site's zone.
func (s *Service) Record(ctx context.Context, id int64) (*report.Page, error) {
	v, err := s.Order(ctx, id)
	if err != nil {
		return nil, err
	}
	d, err := s.Drafts.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	r := recorder{zone: d.Doc().Location(), Page: &report.Page{Title: v.Head.Name + " " + v.Head.Title}}
	r.order(v)
	return r.Page, nil
}

type recorder struct {
	*report.Page
	zone *time.Location
}

func (r *recorder) moment(t time.Time) string {
	return t.In(r.zone).Format("2 January 2006 15:04:05 MST")
}

func (r *recorder) order(v *OrderView) {
	h := v.Head
	state := h.State
	if h.ClosedBy != "" {
		state += " by " + h.ClosedBy
	}
	r.Add(report.Block{Facts: [][]string{{"Site", v.SiteName}, {"Ticket", cmp.Or(h.Ticket, "none")},
		{"Opened", r.moment(v.OpenedAt) + " by " + h.OpenedBy}, {"State", state}}})
	changed := report.Block{Heading: "What was changed"}
	for _, st := range v.Steps {
		taken := ""
		if st.Undone {
			taken = ", undone by " + cmp.Or(st.UndoneBy, st.By)
		}
		changed.List = append(changed.List, fmt.Sprintf("%s (%s, %s%s)", st.Says, st.By, r.moment(st.At), taken))
	}
	if len(v.Steps) == 0 {
		changed.Text = "Nothing yet."
	}
	r.Add(changed)
	r.steps(v)
	r.rehearsal(v)
	r.push(v)
}

func (r *recorder) steps(v *OrderView) {
	for _, p := range v.Plans {
		b := report.Block{Heading: "What " + p.Device + " is told", Numbered: true, First: p.First}
		if p.ByHand {
			b.Heading += ", by hand"
		}
		for _, s := range p.Steps {
			b.List = append(b.List, fmt.Sprintf("%s %s. %s.", s.Verb, s.Text, strings.TrimSuffix(s.Why, ".")))
		}
		r.Add(b)
	}
}

func (r *recorder) rehearsal(v *OrderView) {
	if v.Rehearsal == nil {
		return
	}
	b := report.Block{Heading: "Rehearsed",
		Text: fmt.Sprintf("By %s, with %s.", v.Rehearsal.By, site.Counted(v.Rehearsal.Report.Clients, "client"))}
	for _, l := range v.Rehearsal.Report.Networks {
		var rungs []string
		for _, g := range l.Rungs {
			mark := map[string]string{"pass": "✓", "fail": "✗", "skip": "–"}[string(g.State)]
			rungs = append(rungs, fmt.Sprintf("%s %s (%s)", mark, g.Name, g.Value))
		}
		b.List = append(b.List, l.Name+": "+strings.Join(rungs, ", "))
	}
	for _, c := range v.Rehearsal.Moving.Clients {
		b.Rows = append(b.Rows, []string{cmp.Or(c.Name, c.MAC.String()), cmp.Or(c.Before, "nothing"),
			cmp.Or(c.After, "nothing"), c.When})
	}
	if len(b.Rows) > 0 {
		b.Head = []string{"Client", "Before", "After", "Notices"}
	}
	r.Add(b)
}

func (r *recorder) push(v *OrderView) {
	p := v.Push
	if p == nil {
		return
	}
	b := report.Block{Heading: "Pushed",
		Text: fmt.Sprintf("%s, by %s at %s.", strings.TrimSuffix(p.Title, "."), p.By, r.moment(p.At)),
		Head: []string{"When", "Device", "Stage", "What came of it"}}
	if p.Problem != "" {
		b.Text += " " + p.Problem
	}
	for _, j := range p.Journal {
		b.Rows = append(b.Rows, []string{r.moment(j.At), j.Device, j.Stage, j.State + " " + j.Says})
	}
	r.Add(b)
	for _, u := range p.Unverified {
		seen := ""
		if u.By != "" {
			seen = ", seen to by " + u.By
		}
		r.Add(report.Block{Text: fmt.Sprintf("Not proved: %s, %s%s.", u.Name, strings.TrimSuffix(u.Why, "."), seen)})
	}
}
