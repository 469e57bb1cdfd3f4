package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/internal/poll"
	"lithos/internal/work"
)

// DeviceInput is a device of a site in a path.
type DeviceInput struct {
	SiteInput
	Device string `path:"device" doc:"id of the device" maxLength:"64"`
}

// reachOperations are about how devices are reached.
func (s *server) reachOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/devices/{device}/faults", "simulated",
		"Whether a device is a simulated one, which can be asked to misbehave"),
		func(ctx context.Context, in *DeviceInput) (*body[*poll.Faults], error) {
			v, err := s.work.Poll.Simulated(ctx, in.Site, in.Device)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/devices/{device}/faults", "misbehave",
		"Have something go wrong with a simulated device"), func(ctx context.Context, in *struct {
		DeviceInput
		Body struct {
			Fault  string `json:"fault" maxLength:"40" doc:"by its name in module lithos-standin; none ends all"`
			Amount int    `json:"amount,omitempty" minimum:"0" maximum:"600000"`
			At     string `json:"at,omitempty" maxLength:"64" doc:"a port or an uplink"`
			Value  string `json:"value,omitempty" maxLength:"64" doc:"the MAC of a machine, or the address of a line"`
		}
	}) (*body[*poll.Faults], error) {
		v, err := s.work.Poll.Misbehave(ctx, who(ctx), in.Site, in.Device, poll.Fault(in.Body))
		return answer(s, v, err)
	})
	type reaching struct {
		DeviceInput
		Body poll.Reaching
	}
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/devices/{device}/introduction", "introduce-device",
		"Sign in to a device and say what it is; nothing is kept"),
		func(ctx context.Context, in *reaching) (*body[*poll.Introduced], error) {
			v, err := s.work.Poll.Introduce(ctx, who(ctx), in.Site, in.Device, in.Body)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPut, "/api/sites/{site}/devices/{device}/access", "keep-access",
		"Keep how a device is reached, once it lets Lithos in"),
		func(ctx context.Context, in *reaching) (*struct{}, error) {
			if err := s.work.Poll.KeepAccess(ctx, who(ctx), in.Site, in.Device, in.Body); err != nil {
				return nil, s.problem(err)
			}
			return nil, nil
		})
	huma.Register(api, op(http.MethodDelete, "/api/sites/{site}/devices/{device}/access", "forget-access",
		"Forget how a device is reached"),
		func(ctx context.Context, in *DeviceInput) (*struct{}, error) {
			if err := s.work.Poll.ForgetAccess(ctx, who(ctx), in.Site, in.Device); err != nil {
				return nil, s.problem(err)
			}
			return nil, nil
		})
}

// meantOperations are about findings that are meant so.
func (s *server) meantOperations(api huma.API) {
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/meant", "mean-so",
		"Say that a finding is meant so: it is counted, and shown again when its facts change"),
		func(ctx context.Context, in *struct {
			SiteInput
			Body work.MeantSo
		}) (*struct{}, error) {
			if err := s.work.MeanSo(ctx, who(ctx), in.Site, in.Body); err != nil {
				return nil, s.problem(err)
			}
			return nil, nil
		})
	huma.Register(api, op(http.MethodDelete, "/api/sites/{site}/meant/{finding}", "mean-no-more",
		"Show a finding again that was meant so"), func(ctx context.Context, in *struct {
		SiteInput
		Finding string `path:"finding" maxLength:"400"`
	}) (*struct{}, error) {
		if err := s.work.MeanNoMore(ctx, who(ctx), in.Site, in.Finding); err != nil {
			return nil, s.problem(err)
		}
		return nil, nil
	})
}
