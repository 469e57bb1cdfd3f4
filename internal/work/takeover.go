package work

import (
	"context"

	"lithos/core/edit"
	"lithos/core/takeover"
	"lithos/internal/act"
	"lithos/internal/draft"
)

// TakenOver is what became of reading devices into a draft.
type TakenOver struct {
	Read  []string        `json:"read" doc:"names of the devices that were read"`
	Steps int             `json:"steps" doc:"how many parts were added or changed"`
	Left  []takeover.Left `json:"left" doc:"what was not read into the site, with why"`
}

// TakeOver reads the devices of a site that Lithos reaches into a draft, as one step: what they hold and the draft does
// not have is added, and what it has stays as it is. Nothing is pushed by that. What cannot be read is listed.
func (s *Service) TakeOver(ctx context.Context, by act.Technician, order int64, version int32) (*TakenOver, error) {
	d, err := s.Draft(ctx, order)
	if err != nil {
		return nil, err
	}
	held, names, err := s.Configs(ctx, d.Doc())
	if err != nil {
		return nil, err
	}
	now, left := takeover.Site(d.Doc(), held)
	out := &TakenOver{Read: names, Left: left}
	edits := edit.Between(d.Doc(), now)
	if out.Steps = len(edits); out.Steps == 0 {
		return out, nil
	}
	_, err = s.Edit(ctx, by, order, draft.Change{Version: version, Edits: edits}, nil)
	return out, err
}
