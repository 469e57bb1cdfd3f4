package push

import (
	"context"
	"slices"

	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/order"
)

// proveNames climbs a rung for each outside name that the draft touches and that follows a line: it is told what its
// line has, and its zone's server answers that. The devices have confirmed by now, so that one that fails is no reason
// to go back: it is left for somebody to see to.
func (r *run) proveNames(ctx context.Context) error {
	doc := r.draft.Doc()
	for i := range doc.Following {
		w := &doc.Following[i]
		if !w.Enabled || !r.touches(w) {
			continue
		}
		says, err := r.watcher.ProveFollowing(ctx, doc, w.ID)
		if ctx.Err() != nil {
			return stored(ctx.Err())
		}
		if err == nil {
			if err := r.write(ctx, "", "ladder", w.Name+" is "+says, "done"); err != nil {
				return err
			}
			continue
		}
		if err := r.skip(ctx, "", "ladder", w.Name+" is not verified: "+err.Error()); err != nil {
			return err
		}
		if err := r.putUnverified(ctx, w.Name, err.Error()); err != nil {
			return err
		}
	}
	return nil
}

// touches reports whether the draft changes a dynamic name, or the line.
func (r *run) touches(w *site.Following) bool {
	return slices.ContainsFunc(order.Live(r.draft.Steps), func(e edit.Edit) bool {
		return e.Part == site.Ref{Kind: site.KindFollowing, ID: w.ID} ||
			e.Part == site.Ref{Kind: site.KindInterface, ID: w.Uplink}
	})
}
