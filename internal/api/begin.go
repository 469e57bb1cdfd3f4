package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/internal/poll"
	"lithos/internal/sites"
	"lithos/internal/work"
)

// beginOperations are how a site and its devices begin.
func (s *server) beginOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/accounts", "kept-accounts",
		"The accounts that devices of the site's customer are reached with"),
		func(ctx context.Context, in *SiteInput) (*body[[]poll.KeptAccount], error) {
			v, err := s.work.Poll.KeptAccounts(ctx, in.Site)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/beginning", "beginning", "What a new site may begin with"),
		func(ctx context.Context, _ *none) (*body[*sites.Beginning], error) {
			v, err := s.work.Sites.Beginning(ctx)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites", "add-site", "Add a site without networks and devices"),
		func(ctx context.Context, in *struct{ Body sites.NewSite }) (*body[sites.Place], error) {
			code, err := s.work.Sites.AddSite(ctx, who(ctx), in.Body)
			return answer(s, sites.Place{Code: code, Name: in.Body.Name}, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/archive", "archive-site",
		"Put a site away that is looked after no more, or bring it back"),
		func(ctx context.Context, in *struct {
			SiteInput
			Body struct {
				Away bool `json:"away"`
			}
		}) (*struct{}, error) {
			if err := s.work.Sites.Archive(ctx, who(ctx), in.Site, in.Body.Away); err != nil {
				return nil, s.problem(err)
			}
			return nil, nil
		})
	huma.Register(api, op(http.MethodPost, "/api/greet", "greet-device",
		"Fetch the certificate of a device; nothing is sent to it"),
		func(ctx context.Context, in *struct {
			Body struct {
				URL string `json:"url" maxLength:"300" doc:"https://host:port, or the host alone"`
			}
		}) (*body[poll.Greeted], error) {
			greeted, err := s.work.Poll.Greet(ctx, in.Body.URL)
			return answer(s, greeted, err)
		})
}

// takeOperations put what devices hold, or files say, into a draft.
func (s *server) takeOperations(api huma.API) {
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/take-over", "take-over",
		"Read what the devices hold into the draft; what it has stays as it is"),
		func(ctx context.Context, in *struct {
			OrderInput
			Body struct {
				Version int32 `json:"version"`
			}
		}) (*body[*work.TakenOver], error) {
			v, err := s.work.TakeOver(ctx, who(ctx), in.Order, in.Body.Version)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/safe-fixes", "safe-fixes",
		"The fixes of a draft's findings that tell no known client anything else; with apply they are made"),
		func(ctx context.Context, in *struct {
			OrderInput
			Body struct {
				Version int32 `json:"version"`
				Apply   bool  `json:"apply"`
			}
		}) (*body[*work.SafeFixes], error) {
			v, err := s.work.SafeFixes(ctx, who(ctx), in.Order, in.Body.Version, in.Body.Apply)
			return answer(s, v, err)
		})
	takeIn := op(http.MethodPost, "/api/orders/{order}/take-in/preview", "preview-take-in",
		"What becomes of each line of tables or site files in a draft; nothing is changed")
	takeIn.MaxBodyBytes = maxRequest
	huma.Register(api, takeIn, func(ctx context.Context, in *struct {
		OrderInput
		Body work.TakeIn
	}) (*body[*work.TakeInView], error) {
		v, err := s.work.PreviewTakeIn(ctx, in.Order, in.Body)
		return answer(s, v, err)
	})
	takeIn.Path, takeIn.OperationID = "/api/orders/{order}/take-in", "take-in"
	takeIn.Summary = "Take lines of tables or site files into a draft, as one step"
	huma.Register(api, takeIn, func(ctx context.Context, in *struct {
		OrderInput
		Body work.TakeIn
	}) (*body[*work.TakeInView], error) {
		v, err := s.work.ApplyTakeIn(ctx, who(ctx), in.Order, in.Body)
		return answer(s, v, err)
	})
}
