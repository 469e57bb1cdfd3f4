package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/internal/sites"
	"lithos/internal/view"
	"lithos/internal/work"
)

// LevelInput is a level above sites in a path.
type LevelInput struct {
	Kind string `path:"kind" enum:"standard,customer"`
	ID   string `path:"id" maxLength:"64" doc:"of the level; new for a standard that there is not yet"`
}

// levelOperations are the standards and the customers' options that are kept for all sites.
func (s *server) levelOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/standards", "standards",
		"The addressing standards and the customers' options that are kept for all sites"),
		func(ctx context.Context, _ *none) (*body[[]levelView], error) {
			list, err := s.work.Sites.Standards(ctx)
			out := []levelView{}
			for _, l := range list {
				out = append(out, levelView{l, view.Standard(l.Standard)})
			}
			return answer(s, out, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/levels/{kind}/{id}/preview", "preview-level",
		"What becomes of each site that follows, if a standard or a customer's options are kept as typed"),
		func(ctx context.Context, in *struct {
			LevelInput
			Body sites.LevelEntry
		}) (*body[*work.LevelPreview], error) {
			v, err := s.work.PreviewLevel(ctx, in.Kind, fresh(in.ID), in.Body)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPut, "/api/levels/{kind}/{id}", "keep-level",
		"Keep a standard or a customer's options for all sites, and open work orders that bring it to some"),
		func(ctx context.Context, in *struct {
			LevelInput
			Body struct {
				sites.LevelEntry
				At []string `json:"at,omitempty" maxItems:"5000" doc:"codes of the sites at which a work order is opened"`
			}
		}) (*body[*work.KeptNow], error) {
			v, err := s.work.KeepLevel(ctx, who(ctx), in.Kind, fresh(in.ID), in.Body.LevelEntry, in.Body.At)
			return answer(s, v, err)
		})
}

// fresh is the id of a level in a path; empty for a new one.
func fresh(id string) string {
	if id == "new" {
		return ""
	}
	return id
}
