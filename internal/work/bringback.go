package work

import (
	"context"
	"fmt"

	"lithos/core/edit"
	"lithos/internal/actor"
	"lithos/internal/draft"
)

// BringBack opens a work order that makes a site what it was at a revision, as one step. It says which order.
func (s *Service) BringBack(ctx context.Context, by actor.Technician, code string, revision int32) (int64, error) {
	was, err := s.Sites.RevisionOf(ctx, code, revision)
	if err != nil {
		return 0, err
	}
	now, err := s.Sites.Export(ctx, code)
	if err != nil {
		return 0, err
	}
	edits := edit.Between(now, was)
	if len(edits) == 0 {
		return 0, actor.Refuse(actor.Conflict, "The site is what it was at revision %d.", revision)
	}
	id, err := s.Drafts.OpenOrder(ctx, by, code, fmt.Sprintf("Bring back revision %d", revision), "")
	if err != nil {
		return 0, err
	}
	_, err = s.Drafts.Edit(ctx, by, id, draft.Change{Version: 0, Edits: edits}, nil)
	return id, err
}
