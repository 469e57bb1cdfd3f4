package work

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"
)

// Record is a work order on one page, as Markdown: what it was for, what was changed and by whom, what the devices were
// told, what was proved, and how it ended. Times are in the site's zone.
func (s *Service) Record(ctx context.Context, id int64) (name, text string, err error) {
	v, err := s.Order(ctx, id)
	if err != nil {
		return "", "", err
	}
	d, err := s.Draft(ctx, id)
	if err != nil {
		return "", "", err
	}
	zone, err := time.LoadLocation(d.Doc().TimeZone)
	if err != nil {
		zone = time.UTC
	}
	r := recorder{zone: zone}
	r.order(v)
	return v.Head.Name, r.String(), nil
}

type recorder struct {
	strings.Builder
	zone *time.Location
}

func (r *recorder) line(format string, args ...any) { fmt.Fprintf(r, format+"\n", args...) }

func (r *recorder) at(t time.Time) string { return t.In(r.zone).Format("2 January 2006 15:04:05 MST") }

// plain is text that somebody typed, which stands in Markdown as it is.
var plain = strings.NewReplacer("\\", "\\\\", "*", "\\*", "_", "\\_", "#", "\\#", "[", "\\[", "]", "\\]", "<", "&lt;",
	"|", "\\|")

func (r *recorder) order(v *OrderView) {
	h := v.Head
	r.line("# %s %s", h.Name, plain.Replace(h.Title))
	r.line("")
	r.line("| | |\n|---|---|")
	r.line("| Site | %s |", plain.Replace(v.SiteName))
	r.line("| Ticket | %s |", cmp.Or(plain.Replace(h.Ticket), "none"))
	r.line("| Opened | %s by %s |", r.at(v.OpenedAt), h.OpenedBy)
	r.line("| State | %s |", h.State+cmp.Or(map[bool]string{true: " by " + h.ClosedBy}[h.ClosedBy != ""], ""))
	r.line("\n## What was changed\n")
	for _, st := range v.Steps {
		taken := ""
		if st.Undone {
			taken = ", taken back by " + cmp.Or(st.UndoneBy, st.By)
		}
		r.line("- %s (%s, %s%s)", plain.Replace(st.Says), st.By, r.at(st.At), taken)
	}
	if len(v.Steps) == 0 {
		r.line("Nothing yet.")
	}
	r.steps(v)
	r.rehearsal(v)
	r.push(v)
}

func (r *recorder) steps(v *OrderView) {
	if len(v.Plans) == 0 {
		return
	}
	r.line("\n## What the devices are told\n")
	for _, p := range v.Plans {
		by := ""
		if p.ByHand {
			by = ", by hand"
		}
		r.line("**%s**%s\n", p.Device, by)
		for i, s := range p.Steps {
			r.line("%d. %s %s. %s.", i+1, s.Verb, s.Text, strings.TrimSuffix(s.Why, "."))
		}
		r.line("")
	}
}

func (r *recorder) rehearsal(v *OrderView) {
	if v.Rehearsal == nil {
		return
	}
	r.line("\n## Rehearsed\n")
	r.line("By %s, with %d clients.\n", v.Rehearsal.By, v.Rehearsal.Report.Clients)
	for _, l := range v.Rehearsal.Report.Networks {
		var rungs []string
		for _, g := range l.Rungs {
			mark := map[string]string{"pass": "✓", "fail": "✗", "skip": "–"}[string(g.State)]
			rungs = append(rungs, fmt.Sprintf("%s %s (%s)", mark, g.Name, plain.Replace(g.Value)))
		}
		r.line("- %s: %s", plain.Replace(l.Name), strings.Join(rungs, ", "))
	}
}

func (r *recorder) push(v *OrderView) {
	p := v.Push
	if p == nil {
		return
	}
	r.line("\n## Pushed\n")
	r.line("%s, by %s at %s.", plain.Replace(strings.TrimSuffix(p.Title, ".")), p.By, r.at(p.At))
	if p.Problem != "" {
		r.line("\n%s", plain.Replace(p.Problem))
	}
	r.line("\n| When | Device | Stage | What came of it |\n|---|---|---|---|")
	for _, j := range p.Journal {
		r.line("| %s | %s | %s | %s %s |", r.at(j.At), j.Device, j.Stage, j.State, plain.Replace(j.Says))
	}
	for _, u := range p.Unverified {
		seen := ""
		if u.By != "" {
			seen = ", seen to by " + u.By
		}
		r.line("\nNot proved: %s, %s%s.", u.Name, plain.Replace(strings.TrimSuffix(u.Why, ".")), seen)
	}
}
