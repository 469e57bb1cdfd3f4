package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/internal/sites"
	"lithos/internal/work"
)

// noticeOperations are about what happened at a site, and about devices that hold something else than they were given.
func (s *server) noticeOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/happened", "happened",
		"What happened at a site, the newest first"),
		func(ctx context.Context, in *SiteInput) (*body[*sites.Happened], error) {
			v, err := s.work.Sites.Happened(ctx, who(ctx), in.Site, false)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/looked", "looked",
		"Say that you have looked at what happened at a site"),
		func(ctx context.Context, in *SiteInput) (*none, error) {
			_, err := s.work.Sites.Happened(ctx, who(ctx), in.Site, true)
			return nil, s.problem(err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/read", "read-devices",
		"Read the devices of a site now"),
		func(ctx context.Context, in *SiteInput) (*none, error) {
			return nil, s.problem(s.work.ReadNow(ctx, in.Site))
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/devices/{device}/drift", "drift",
		"What a device holds, beside what it was last given and what is wanted"),
		func(ctx context.Context, in *struct {
			DeviceInput
			Order         int64 `query:"order" doc:"the work order whose draft is what is wanted"`
			Configuration int64 `query:"configuration" doc:"a form of its configuration that is kept; the latest where there is none"`
		}) (*body[*work.Drift], error) {
			v, err := s.work.Drift(ctx, in.Site, in.Device, in.Order, in.Configuration)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/devices/{device}/drift", "decide-drift",
		"Adopt differences of a device into a draft, or have its push put them back"),
		func(ctx context.Context, in *struct {
			DeviceInput
			Body work.Decision
		}) (*body[*work.Decided], error) {
			v, err := s.work.DecideDrift(ctx, who(ctx), in.Site, in.Device, in.Body)
			return answer(s, v, err)
		})
}
