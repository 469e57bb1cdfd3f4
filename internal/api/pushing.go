package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/internal/draft"
	"lithos/internal/work"
)

// pushOperations are about a push that is under way, or has ended.
func (s *server) pushOperations(api huma.API) {
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/end-push", "end-push",
		"End a push that waits for a device that does not answer"),
		func(ctx context.Context, in *OrderInput) (*body[*work.OrderView], error) {
			return s.orderAfter(ctx, in.Order, s.work.Pushes.EndPush(ctx, who(ctx), in.Order))
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/stop-push", "stop-push",
		"Tell a push to stop: every device is put back"),
		func(ctx context.Context, in *OrderInput) (*body[*work.OrderView], error) {
			return s.orderAfter(ctx, in.Order, s.work.Pushes.Stop(ctx, who(ctx), in.Order))
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/verify", "verify",
		"Record that somebody has seen to what a push did not prove"), func(ctx context.Context, in *struct {
		OrderInput
		Body struct {
			Seq int32 `json:"seq" doc:"of what was not verified"`
		}
	}) (*body[*work.OrderView], error) {
		return s.orderAfter(ctx, in.Order, s.work.Pushes.Verify(ctx, who(ctx), in.Order, in.Body.Seq))
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/runbook/tick", "tick",
		"Tick a line of a runbook, or say what was seen at the console"), func(ctx context.Context, in *struct {
		OrderInput
		Body struct {
			Seq  int32  `json:"seq" doc:"of the line"`
			Seen string `json:"seen" maxLength:"200" doc:"of a question: what the device shows"`
		}
	}) (*body[*work.OrderView], error) {
		return s.orderAfter(ctx, in.Order, s.work.Pushes.Tick(ctx, who(ctx), in.Order, in.Body.Seq, in.Body.Seen))
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/runbook/untick", "untick",
		"Undo the last tick of a device's runbook"), func(ctx context.Context, in *struct {
		OrderInput
		Body struct {
			Seq int32 `json:"seq" doc:"of the line"`
		}
	}) (*body[*work.OrderView], error) {
		return s.orderAfter(ctx, in.Order, s.work.Pushes.Untick(ctx, who(ctx), in.Order, in.Body.Seq))
	})
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}/runbook", "runbook",
		"What is done by hand, with boxes to tick, as Markdown or PDF"),
		func(ctx context.Context, in *struct {
			OrderInput
			As string `query:"as" enum:"markdown,pdf" default:"pdf"`
		}) (*fileAnswer, error) {
			p, err := s.work.Runbook(ctx, in.Order)
			return s.printed("runbook", in.As, p, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}/changes", "order-changes",
		"What a draft makes different, by network and device, in words and as the site file has it"),
		func(ctx context.Context, in *OrderInput) (*body[[]work.ChangeGroup], error) {
			out, err := s.work.Changes(ctx, in.Order)
			return answer(s, out, err)
		})
}

// togetherOperations are about orders of several sites that belong together.
func (s *server) togetherOperations(api huma.API) {
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/copy", "copy-order",
		"Open a work order at other sites, each edit placed there by role and name"), func(ctx context.Context,
		in *struct {
			OrderInput
			Body struct {
				Sites []string `json:"sites" minItems:"1" maxItems:"200" doc:"their codes"`
			}
		}) (*body[[]draft.Copied], error) {
		out, err := s.work.Drafts.CopyTo(ctx, who(ctx), in.Order, in.Body.Sites)
		return answer(s, out, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/rehearse-together", "rehearse-together",
		"Rehearse every open order of those that belong together"),
		func(ctx context.Context, in *OrderInput) (*body[*work.OrderView], error) {
			return s.orderAfter(ctx, in.Order, s.work.Pushes.RehearseTogether(ctx, who(ctx), in.Order))
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/waves", "start-waves",
		"Push the orders that belong together, in waves or all or none"), func(ctx context.Context, in *struct {
		OrderInput
		Body struct {
			Sizes    []int   `json:"sizes" maxItems:"20" doc:"how many sites each wave takes; the last one is repeated"`
			Together bool    `json:"together" doc:"every site lands, or every one returns"`
			Without  []int64 `json:"without,omitempty" maxItems:"500" doc:"orders that are left out and stay open"`
		}
	}) (*body[*work.OrderView], error) {
		return s.orderAfter(ctx, in.Order,
			s.work.Pushes.StartWaves(ctx, who(ctx), in.Order, in.Body.Sizes, in.Body.Together, in.Body.Without))
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/stop-waves", "stop-waves",
		"Let no further wave begin"), func(ctx context.Context, in *OrderInput) (*body[*work.OrderView], error) {
		return s.orderAfter(ctx, in.Order, s.work.Pushes.StopWaves(ctx, who(ctx), in.Order))
	})
}
