package work

import (
	"context"

	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/act"
	"lithos/internal/draft"
	"lithos/internal/transfer"
)

// HaveKeyMade has the provider make a key that may write a following name of a draft and nothing else, and puts it
// into the draft without anybody seeing it. The key before it is taken until it is revoked, so that nothing stops
// until the push. draw is as in Edit. A refusal with the field follow asks whether a record written by hand shall
// follow; follow says so.
func (s *Service) HaveKeyMade(
	ctx context.Context, by act.Technician, order int64, version int32, following string, follow bool,
	draw func(*draft.Edited),
) error {
	d, err := s.Draft(ctx, order)
	if err != nil {
		return err
	}
	w, ok := d.Doc().Follower(following)
	if !ok {
		return act.Refuse(act.Missing, "The draft has no such name.")
	}
	// A name that the site as it stands has follow is meant to, whoever has written its record with which key.
	if now, stands := d.Base.Follower(w.ID); stands && now.Name == w.Name && now.Enabled {
		follow = true
	}
	return s.KeyFor(ctx, d.Doc(), w, follow, func(k transfer.MadeKey) error {
		_, err := s.Edit(ctx, by, order, draft.Change{Version: version, Entries: []edit.Entry{{
			Kind: site.KindFollowing, ID: w.ID,
			Fields: map[string]string{"key": k.Name, "keyAlgorithm": "", "secret": k.Secret},
		}}}, draw)
		return err
	})
}
