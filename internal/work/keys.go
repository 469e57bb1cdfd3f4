package work

import (
	"context"
	"strings"

	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/draft"
	"lithos/internal/poll"
	"lithos/internal/zonetransfer"
)

// HaveKeyMade has the provider make a key that may write a dynamic name of a draft and nothing else, and puts it
// into the draft without anybody seeing it. The key before it is taken until it is revoked, so that nothing stops
// until the push. draw is as in Edit. What is not with the push is asked before, and answered by say: see watch.KeyFor.
func (s *Service) HaveKeyMade(
	ctx context.Context, by actor.Technician, order int64, version int32, following string,
	say poll.KeyMaking, draw func(*draft.Edited),
) error {
	d, err := s.Drafts.Draft(ctx, order)
	if err != nil {
		return err
	}
	w, ok := d.Doc().Follower(following)
	if !ok {
		return actor.Refuse(actor.Missing, "The draft has no such name.")
	}
	// A name that the site as it stands has follow is meant to, whoever has written its record with which key.
	if now, stands := d.Base.Follower(w.ID); stands && now.Name == w.Name && now.Enabled {
		say.Follow = true
	}
	return s.Poll.KeyFor(ctx, d.Doc(), w, say, func(k zonetransfer.MadeKey) error {
		_, err := s.Drafts.Edit(ctx, by, order, draft.Change{Version: version, Entries: []edit.Entry{{
			Kind: site.KindFollowing, ID: w.ID,
			Fields: map[string]string{"key": k.Name, "keyAlgorithm": "", "secret": k.Secret},
		}}}, draw)
		return err
	})
}

// HaveKeyReplaced has the provider of a zone make a key in the place of another, and puts it into the draft wherever
// that uses the other: the zone, its certificates and its dynamic names. The other is taken for a week yet, so that
// nothing stops until the push.
func (s *Service) HaveKeyReplaced(
	ctx context.Context, by actor.Technician, order int64, version int32, zoneID, key string, draw func(*draft.Edited),
) error {
	d, err := s.Drafts.Draft(ctx, order)
	if err != nil {
		return err
	}
	z, ok := d.Doc().Zone(zoneID)
	if !ok || z.KeysAt == "" {
		return actor.Refuse(actor.Missing, "The draft does not say where keys of this zone are made.")
	}
	uses := usesOf(d.Doc(), z, key)
	if len(uses) == 0 {
		return actor.Refuse(actor.Conflict, "Nothing of this draft uses %s; replace it without a draft.", key)
	}
	return s.Poll.ReplaceFor(ctx, d.Doc(), z, key, func(made zonetransfer.MadeKey) error {
		var entries []edit.Entry
		for _, ref := range uses {
			entries = append(entries, edit.Entry{Kind: ref.Kind, ID: ref.ID,
				Fields: map[string]string{"key": made.Name, "keyAlgorithm": "", "secret": made.Secret}})
		}
		_, err := s.Drafts.Edit(ctx, by, order, draft.Change{Version: version, Entries: entries}, draw)
		return err
	})
}

// usesOf lists what of a document signs with a key of a zone.
func usesOf(doc *site.Site, z *site.Zone, key string) []site.Ref {
	var out []site.Ref
	held := func(name string) bool {
		in, ok := doc.ZoneOf(name, site.Outside)
		return ok && in.ID == z.ID
	}
	if z.Key == key {
		out = append(out, site.Ref{Kind: site.KindZone, ID: z.ID})
	}
	for _, c := range doc.Certificates {
		if c.Key == key && held(strings.TrimPrefix(c.Name, "*.")) {
			out = append(out, site.Ref{Kind: site.KindCertificate, ID: c.ID})
		}
	}
	for _, w := range doc.Following {
		if w.Key == key && held(w.Name) {
			out = append(out, site.Ref{Kind: site.KindFollowing, ID: w.ID})
		}
	}
	return out
}
