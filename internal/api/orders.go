package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/core/dhcp"
	"lithos/internal/draft"
	"lithos/internal/order"
	"lithos/internal/poll"
	"lithos/internal/push"
	"lithos/internal/view"
	"lithos/internal/work"
)

// orderOperations are work orders: opening them, and what becomes of them.
func (s *server) orderOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/orders", "orders", "Work orders, open ones first"),
		func(ctx context.Context, _ *none) (*body[[]draft.ListedOrder], error) {
			v, err := s.work.Drafts.Orders(ctx)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/orders", "open-order", "Open a work order"),
		func(ctx context.Context, in *struct {
			Body struct {
				Site   string `json:"site" maxLength:"64" doc:"code"`
				Title  string `json:"title" maxLength:"2000"`
				Ticket string `json:"ticket" maxLength:"2000"`
			}
		}) (*body[order.Opened], error) {
			id, err := s.work.Drafts.OpenOrder(ctx, who(ctx), in.Body.Site, in.Body.Title, in.Body.Ticket)
			return answer(s, order.Opened{ID: id, Name: order.Name(id), Title: in.Body.Title, By: who(ctx).FullName},
				err)
		})
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}", "order",
		"A work order with its steps, rehearsal and push"),
		func(ctx context.Context, in *OrderInput) (*body[*work.OrderView], error) {
			v, err := s.work.Order(ctx, in.Order)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/drop", "drop", "Close the order without pushing it"),
		func(ctx context.Context, in *at) (*body[*work.OrderView], error) {
			return s.orderAfter(ctx, in.Order, s.work.Drafts.Drop(ctx, who(ctx), in.Order, in.Body.Version))
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/take-up", "take-up", "Open a dropped order again"),
		func(ctx context.Context, in *at) (*body[*work.OrderView], error) {
			return s.orderAfter(ctx, in.Order, s.work.Drafts.TakeUp(ctx, who(ctx), in.Order, in.Body.Version))
		})
	huma.Register(api, op(http.MethodPut, "/api/orders/{order}/window", "set-window",
		"The note of an order, and from when to when it may be pushed"),
		func(ctx context.Context, in *struct {
			OrderInput
			Body push.WindowEntry
		}) (*body[*work.OrderView], error) {
			return s.orderAfter(ctx, in.Order, s.work.Pushes.SetWindow(ctx, who(ctx), in.Order, in.Body))
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/wait", "wait",
		"Leave an order to start automatically when its change window opens, or not any more"),
		func(ctx context.Context, in *struct {
			OrderInput
			Body struct {
				Version int32 `json:"version"`
				On      bool  `json:"on"`
			}
		}) (*body[*work.OrderView], error) {
			return s.orderAfter(ctx, in.Order, s.work.Pushes.Wait(ctx, who(ctx), in.Order, in.Body.Version, in.Body.On))
		})
}

// draftOperations change what a draft proposes.
func (s *server) draftOperations(api huma.API) {
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/edits", "edit",
		"Change the draft; all of it or nothing"), func(ctx context.Context, in *struct {
		OrderInput
		Body struct {
			draft.Change
			KeyFor  string    `json:"keyFor,omitempty" maxLength:"64" doc:"instead of a change: id of a dynamic name that a key is made for by its provider; it is put into the draft and not shown"`
			Follow  bool      `json:"follow,omitempty" doc:"with keyFor: lets a record written by hand follow, which its provider does at once"`
			Before  string    `json:"before,omitempty" enum:"keep,end" doc:"with keyFor: what becomes of the key that was made for it before"`
			Replace string    `json:"replace,omitempty" maxLength:"253" doc:"instead of a change: the key of zone that its provider replaces; the new one is put into the draft wherever the other is used, and not shown"`
			Zone    string    `json:"zone,omitempty" maxLength:"64" doc:"with replace: id of the outside zone"`
			Look    view.Look `json:"look"`
		}
	}) (*body[*view.Changed], error) {
		in.Body.Look.Order = in.Order
		var v *view.Changed
		draw := func(out *draft.Edited) { v = s.changed(out, in.Body.Look) }
		if in.Body.KeyFor != "" {
			err := s.work.HaveKeyMade(ctx, who(ctx), in.Order, in.Body.Version, in.Body.KeyFor,
				poll.KeyMaking{Follow: in.Body.Follow, Before: in.Body.Before}, draw)
			return answer(s, v, err)
		}
		if in.Body.Replace != "" {
			err := s.work.HaveKeyReplaced(ctx, who(ctx), in.Order, in.Body.Version, in.Body.Zone, in.Body.Replace, draw)
			return answer(s, v, err)
		}
		_, err := s.work.Drafts.Edit(ctx, who(ctx), in.Order, in.Body.Change, draw)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/paste", "paste",
		"What a paste of many lines would do; nothing is changed"), func(ctx context.Context, in *struct {
		OrderInput
		Body draft.PasteRequest
	}) (*body[*draft.PastePreview], error) {
		v, err := s.work.Drafts.Paste(ctx, in.Order, in.Body)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}/fixes", "fixes",
		"What the fixes of all findings of one rule would do; nothing is changed"),
		func(ctx context.Context, in *struct {
			OrderInput
			Rule string `query:"rule" maxLength:"64"`
		}) (*body[*draft.FixPreview], error) {
			v, err := s.work.Drafts.Fixes(ctx, in.Order, in.Rule)
			return answer(s, v, err)
		})
}

// stepOperations take steps of a draft back, do them again, and bring them to a newer revision.
func (s *server) stepOperations(api huma.API) {
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/undo", "undo", "Undo the last step"),
		func(ctx context.Context, in *struct {
			OrderInput
			Body struct {
				Version int32     `json:"version" doc:"the draft's version the change was made on"`
				Look    view.Look `json:"look"`
				Others  bool      `json:"others,omitempty" doc:"undo it even when it is another technician's"`
			}
		}) (*body[*view.Changed], error) {
			in.Body.Look.Order = in.Order
			out, err := s.work.Drafts.Undo(ctx, who(ctx), in.Order, in.Body.Version, in.Body.Others)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[*view.Changed]{s.changed(out, in.Body.Look)}, nil
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/steps/{seq}/undo", "undo-step",
		"Undo one step, wherever it stands, unless a later one needs it"),
		func(ctx context.Context, in *struct {
			OrderInput
			Seq  int32 `path:"seq"`
			Body struct {
				Version int32 `json:"version"`
				Others  bool  `json:"others,omitempty" doc:"undo it even when it is another technician's"`
			}
		}) (*body[*work.OrderView], error) {
			_, err := s.work.Drafts.TakeBack(ctx, who(ctx), in.Order, in.Body.Version, in.Seq, in.Body.Others)
			return s.orderAfter(ctx, in.Order, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/redo", "redo", "Do the step that was undone again"),
		func(ctx context.Context, in *struct {
			OrderInput
			Body versioned
		}) (*body[*view.Changed], error) {
			in.Body.Look.Order = in.Order
			out, err := s.work.Drafts.Redo(ctx, who(ctx), in.Order, in.Body.Version)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[*view.Changed]{s.changed(out, in.Body.Look)}, nil
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/rebase", "rebase",
		"Move the draft to the site's newest revision"),
		func(ctx context.Context, in *at) (*body[*work.OrderView], error) {
			_, err := s.work.Drafts.Rebase(ctx, in.Order, in.Body.Version)
			return s.orderAfter(ctx, in.Order, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/decide", "decide",
		"Decide about an edit that no longer applies"), func(ctx context.Context, in *struct {
		OrderInput
		Body struct {
			Version int32 `json:"version" doc:"the draft's version as it was seen"`
			draft.Decision
		}
	}) (*body[*work.OrderView], error) {
		_, err := s.work.Drafts.Decide(ctx, who(ctx), in.Order, in.Body.Version, in.Body.Decision)
		return s.orderAfter(ctx, in.Order, err)
	})
}

// at is a draft as somebody saw it.
type at struct {
	OrderInput
	Body struct {
		Version int32 `json:"version" doc:"the draft's version as it was seen"`
	}
}

// rehearsalOperations rehearse a draft and push it.
func (s *server) rehearsalOperations(api huma.API) {
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/rehearse", "rehearse",
		"Compute what the draft will do"), func(ctx context.Context, in *at) (*body[*work.OrderView], error) {
		_, err := s.work.Pushes.Rehearse(ctx, who(ctx), in.Order, in.Body.Version)
		return s.orderAfter(ctx, in.Order, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}/rehearsal/clients", "rehearsed-clients",
		"Some of the clients of the rehearsal"), func(ctx context.Context, in *struct {
		OrderInput
		Moving bool `query:"moving" doc:"those that are affected; otherwise those that keep what they have"`
		From   int  `query:"from" minimum:"0" maximum:"10000000" doc:"how many to pass over"`
	}) (*body[*push.ClientPage], error) {
		v, err := s.work.Pushes.RehearsedClients(ctx, in.Order, in.Moving, in.From)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}/rehearsal/replies/{seq}", "rehearsed-reply",
		"The reply a client of the rehearsal would get"), func(ctx context.Context, in *struct {
		OrderInput
		Seq int32 `path:"seq" doc:"of the client"`
	}) (*body[*dhcp.Message], error) {
		v, err := s.work.Pushes.RehearsedReply(ctx, in.Order, in.Seq)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/push", "push", "Start the push"),
		func(ctx context.Context, in *at) (*body[*work.OrderView], error) {
			_, err := s.work.Pushes.Push(ctx, who(ctx), in.Order, in.Body.Version)
			return s.orderAfter(ctx, in.Order, err)
		})
}

// orderAfter answers with an order as an act on it has left it.
func (s *server) orderAfter(ctx context.Context, id int64, err error) (*body[*work.OrderView], error) {
	if err != nil {
		return nil, s.problem(err)
	}
	v, err := s.work.Order(ctx, id)
	return answer(s, v, err)
}
