package work

import (
	"context"
	"time"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/rehearse"
	"lithos/core/takeover"
	"lithos/internal/actor"
	"lithos/internal/draft"
)

// TakenOver is what became of reading devices into a draft.
type TakenOver struct {
	Read  []string        `json:"read" doc:"names of the devices that were read"`
	Steps int             `json:"steps" doc:"how many parts were added or changed"`
	Left  []takeover.Left `json:"left" doc:"what was not read into the site, with why"`
	// Leases is how many leases and neighbours the devices tell of: they are under Seen, and never part of a draft.
	Leases  int   `json:"leases"`
	Version int32 `json:"version" doc:"of the draft, with what was read"`
	// Proposed is what devices say of themselves and the draft records otherwise; nothing of it is in the draft.
	Proposed []takeover.Proposed `json:"proposed"`
}

// TakeOver reads the devices of a site that Lithos reaches into a draft, as one step: what they hold and the draft does
// not have is added, and what it has stays as it is. Nothing is pushed by that. What cannot be read is listed.
func (s *Service) TakeOver(ctx context.Context, by actor.Technician, order int64, version int32) (*TakenOver, error) {
	d, err := s.Drafts.Draft(ctx, order)
	if err != nil {
		return nil, err
	}
	held, names, err := s.Poll.Configs(ctx, d.Doc())
	if err != nil {
		return nil, err
	}
	now, left := takeover.Site(d.Doc(), held)
	out := &TakenOver{Read: names, Left: left, Version: version, Proposed: takeover.Proposals(now, held)}
	s.Poll.Observe(ctx, d.Order.SiteID)
	heard, err := s.Store.Heard(ctx, d.Order.SiteID)
	if err != nil {
		return nil, err
	}
	out.Leases = len(heard)
	edits := edit.Between(d.Doc(), now)
	if out.Steps = len(edits); out.Steps == 0 {
		return out, nil
	}
	edited, err := s.Drafts.Edit(ctx, by, order, draft.Change{Version: version, Edits: edits}, nil)
	if err != nil {
		return nil, err
	}
	out.Version = edited.After.Order.Version
	return out, nil
}

// SafeFix is the fix of a finding that tells no known client anything else and brings no other finding.
type SafeFix struct {
	Title string `json:"title" doc:"of the finding"`
	Fix   string `json:"fix"`
}

// SafeFixes are those of a draft.
type SafeFixes struct {
	Fixes []SafeFix `json:"fixes"`
	Left  int       `json:"left" doc:"findings that have no such fix"`
	// Version is that of the draft, with the fixes where they were made.
	Version int32 `json:"version"`
}

// mostTried is how many fixes are tried: each is rehearsed.
const mostTried = 60

// SafeFixes finds the fixes of a draft's findings that tell no known client anything else and bring no other finding.
// With apply they are made, as one step.
func (s *Service) SafeFixes(ctx context.Context, by actor.Technician, id int64, version int32, apply bool) (*SafeFixes,
	error) {
	d, err := s.Drafts.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	heard, err := s.Store.Heard(ctx, d.Order.SiteID)
	if err != nil {
		return nil, err
	}
	out := &SafeFixes{Fixes: []SafeFix{}, Version: version}
	leases := rehearse.LeasesOf(d.Doc(), heard, time.Now())
	sc := d.Scene
	var edits []edit.Edit
	for i, f := range d.Scene.Findings {
		if f.Fix == nil || f.Other != nil || i >= mostTried {
			out.Left++
			continue
		}
		doc, err := edit.Apply(sc.Site, f.Fix.Edits...)
		if err != nil { // another fix has changed what this one was for
			out.Left++
			continue
		}
		after := sc.After(doc, f.Fix.Edits)
		report, err := rehearse.Run(rehearse.Start{Now: time.Now(), Site: sc.Site}, doc, leases,
			func(rehearse.Client) error { return ctx.Err() })
		if err != nil {
			return nil, err
		}
		if report.Moving > 0 || len(check.Added(sc.Findings, after.Findings)) > 0 {
			out.Left++
			continue
		}
		sc, edits = after, append(edits, f.Fix.Edits...)
		out.Fixes = append(out.Fixes, SafeFix{f.Title, f.Fix.Title})
	}
	if apply && len(edits) > 0 {
		edited, err := s.Drafts.Edit(ctx, by, id, draft.Change{Version: version, Edits: edits}, nil)
		if err != nil {
			return nil, err
		}
		out.Version = edited.After.Order.Version
	}
	return out, nil
}
