package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/core/dhcp"
	"lithos/core/links"
	"lithos/core/site"
	"lithos/internal/work"
)

// body wraps what an operation answers.
type body[T any] struct{ Body T }

// answer turns a result of package work into an operation's.
func answer[T any](s *server, v T, err error) (*body[T], error) {
	if err != nil {
		return nil, s.problem(err)
	}
	return &body[T]{v}, nil
}

type none struct{}

// SiteInput is the site in a path.
type SiteInput struct {
	Site string `path:"site" doc:"code of the site" maxLength:"64"`
}

// OrderInput is the work order in a path.
type OrderInput struct {
	Order int64 `path:"order" doc:"number of the work order"`
}

// versioned is a change to a draft with what the page shows.
type versioned struct {
	Version int32     `json:"version" doc:"the draft's version the change was made on"`
	Look    work.Look `json:"look"`
}

func op(method, path, id, summary string) huma.Operation {
	return huma.Operation{Method: method, Path: path, OperationID: id, Summary: summary}
}

// operations registers every operation of the API.
func (s *server) operations(api huma.API) {
	s.sessionOperations(api)
	// Everything registered from here on needs a session.
	api.UseMiddleware(s.signedInOnly(api))
	s.siteOperations(api)
	s.orderOperations(api)
}

func (s *server) sessionOperations(api huma.API) {
	huma.Register(api, op(http.MethodPost, "/api/session", "sign-in", "Sign in"), s.signIn)
	huma.Register(api, op(http.MethodGet, "/api/session", "session", "Who is signed in, if anybody"), func(ctx context.Context, _ *none) (*sessionAnswer, error) {
		held, err := s.work.Held(ctx)
		if err != nil {
			return nil, s.problem(err)
		}
		t, ok := s.sessions.Get(ctx, signedIn).(work.Technician)
		if !ok {
			return &sessionAnswer{}, nil
		}
		return &sessionAnswer{Body: whoIs{&t, held}}, nil
	})
	huma.Register(api, op(http.MethodDelete, "/api/session", "sign-out", "Sign out"), func(ctx context.Context, _ *none) (*none, error) {
		return nil, s.problem(s.sessions.Destroy(ctx))
	})
}

type whoIs struct {
	Technician *work.Technician `json:"technician,omitempty"`
	Held       *work.Held       `json:"held,omitempty" doc:"since when and why pushes and readings of devices are held"`
}

type sessionAnswer struct{ Body whoIs }

func (s *server) siteOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/sites", "sites", "Every site with what is wrong there"), func(ctx context.Context, _ *none) (*body[[]work.SiteRow], error) {
		v, err := s.work.Sites(ctx)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/view", "view", "A site as its page draws it"), func(ctx context.Context, in *struct {
		SiteInput
		Order   int64  `query:"order"`
		Network string `query:"network" maxLength:"100"`
		Select  string `query:"select" maxLength:"200"`
		From    int    `query:"from" minimum:"0"`
	}) (*body[*work.View], error) {
		v, err := s.work.View(ctx, in.Site, work.Look{Order: in.Order, Network: in.Network, Select: in.Select, From: in.From})
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/room", "room", "Room for a network, with a VLAN id and gateway"), func(ctx context.Context, in *struct {
		SiteInput
		Order int64 `query:"order"`
		Bits  int   `query:"bits" minimum:"8" maximum:"31" doc:"prefix length"`
	}) (*body[*work.Proposal], error) {
		v, err := s.work.ProposeNetwork(ctx, in.Site, in.Order, in.Bits)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/history", "history", "The revisions of a site, newest first"), func(ctx context.Context, in *SiteInput) (*body[[]work.Revision], error) {
		v, err := s.work.History(ctx, in.Site)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/file", "file", "The site file"), func(ctx context.Context, in *struct {
		SiteInput
		Format string `query:"format" enum:"json,yaml" default:"json"`
	}) (*fileAnswer, error) {
		doc, err := s.work.ExportFor(ctx, who(ctx), in.Site)
		if err != nil {
			return nil, s.problem(err)
		}
		encode, kind := site.Encode, "application/json"
		if in.Format == "yaml" {
			encode, kind = site.EncodeYAML, "application/yaml"
		}
		raw, err := encode(doc)
		if err != nil {
			return nil, s.problem(err)
		}
		return &fileAnswer{kind, `attachment; filename="` + in.Site + "." + in.Format + `"`, raw}, nil
	})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/try", "try", "Let a test client ask for an address"), func(ctx context.Context, in *struct {
		SiteInput
		Body work.TryRequest
	}) (*body[*work.TryResult], error) {
		v, err := s.work.Try(ctx, in.Site, in.Body)
		return answer(s, v, err)
	})
	type drafted struct {
		SiteInput
		Order int64 `query:"order"`
	}
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/seen", "seen", "Leases and neighbours the devices told of, with what to make of them"), func(ctx context.Context, in *drafted) (*body[*work.SeenView], error) {
		v, err := s.work.Seen(ctx, in.Site, in.Order)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/links", "links", "How the devices are joined, with the path of a network"), func(ctx context.Context, in *struct {
		SiteInput
		Order   int64  `query:"order"`
		Network string `query:"network" maxLength:"64"`
	}) (*body[*links.Drawing], error) {
		v, err := s.work.Links(ctx, in.Site, in.Order, in.Network)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/forecast", "forecast", "A pool's day: when it fills, who is turned away, what would do"), func(ctx context.Context, in *struct {
		SiteInput
		work.ForecastRequest
	}) (*body[*work.ForecastView], error) {
		v, err := s.work.Forecast(ctx, in.Site, in.ForecastRequest)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/spread", "spread", "When clients learn a changed option, and what to set beforehand"), func(ctx context.Context, in *struct {
		SiteInput
		Order  int64  `query:"order"`
		Pool   string `query:"pool" maxLength:"64"`
		Target string `query:"target" maxLength:"60" doc:"within what time all should have learnt"`
	}) (*body[*work.SpreadView], error) {
		v, err := s.work.Spread(ctx, in.Site, in.Order, in.Pool, in.Target)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/find", "find", "Look for an address, MAC, name or VLAN over all sites"), func(ctx context.Context, in *struct {
		Query string `query:"q" maxLength:"100"`
	}) (*body[[]work.Hit], error) {
		v, err := s.work.Find(ctx, in.Query)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/standards", "standards", "The addressing standards the sites follow"), func(ctx context.Context, _ *none) (*body[[]work.StandardView], error) {
		v, err := s.work.Standards(ctx)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/options", "options", "The DHCP options that can be set"), func(context.Context, *none) (*body[[]work.OptionChoice], error) {
		return &body[[]work.OptionChoice]{work.Options()}, nil
	})
	huma.Register(api, op(http.MethodGet, "/api/rules", "rules", "The rules sites are checked against"), func(context.Context, *none) (*body[[]work.RuleView], error) {
		return &body[[]work.RuleView]{work.Rules()}, nil
	})
}

type fileAnswer struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

func (s *server) orderOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/orders", "orders", "Work orders, open ones first"), func(ctx context.Context, _ *none) (*body[[]work.OrderRow], error) {
		v, err := s.work.Orders(ctx)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders", "open-order", "Open a work order"), func(ctx context.Context, in *struct {
		Body struct {
			Site   string `json:"site" maxLength:"64" doc:"code"`
			Title  string `json:"title" maxLength:"2000"`
			Ticket string `json:"ticket" maxLength:"2000"`
		}
	}) (*body[work.OpenOrder], error) {
		id, err := s.work.OpenOrder(ctx, who(ctx), in.Body.Site, in.Body.Title, in.Body.Ticket)
		return answer(s, work.OpenOrder{ID: id, Name: work.OrderName(id), Title: in.Body.Title, By: who(ctx).FullName}, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}", "order", "A work order with its steps, rehearsal and push"), func(ctx context.Context, in *OrderInput) (*body[*work.OrderView], error) {
		v, err := s.work.Order(ctx, in.Order)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/edits", "edit", "Change the draft; all of it or nothing"), func(ctx context.Context, in *struct {
		OrderInput
		Body struct {
			work.Change
			Look work.Look `json:"look"`
		}
	}) (*body[*work.View], error) {
		in.Body.Look.Order = in.Order
		v, err := s.work.EditView(ctx, who(ctx), in.Order, in.Body.Change, in.Body.Look)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/paste", "paste", "What a paste of many lines would do; nothing is changed"), func(ctx context.Context, in *struct {
		OrderInput
		Body work.PasteRequest
	}) (*body[*work.PastePreview], error) {
		v, err := s.work.Paste(ctx, in.Order, in.Body)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}/fixes", "fixes", "What the fixes of all findings of one rule would do; nothing is changed"), func(ctx context.Context, in *struct {
		OrderInput
		Rule string `query:"rule" maxLength:"64"`
	}) (*body[*work.FixPreview], error) {
		v, err := s.work.Fixes(ctx, in.Order, in.Rule)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/undo", "undo", "Take back the last step"), func(ctx context.Context, in *struct {
		OrderInput
		Body struct {
			Version int32     `json:"version" doc:"the draft's version the change was made on"`
			Look    work.Look `json:"look"`
			Others  bool      `json:"others,omitempty" doc:"take it back even when it is another technician's"`
		}
	}) (*body[*work.View], error) {
		in.Body.Look.Order = in.Order
		v, err := s.work.UndoView(ctx, who(ctx), in.Order, in.Body.Version, in.Body.Others, in.Body.Look)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/redo", "redo", "Do the step that was undone again"), func(ctx context.Context, in *struct {
		OrderInput
		Body versioned
	}) (*body[*work.View], error) {
		in.Body.Look.Order = in.Order
		v, err := s.work.RedoView(ctx, who(ctx), in.Order, in.Body.Version, in.Body.Look)
		return answer(s, v, err)
	})
	type at struct {
		OrderInput
		Body struct {
			Version int32 `json:"version" doc:"the draft's version as it was seen"`
		}
	}
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/rehearse", "rehearse", "Compute what the draft will do"), func(ctx context.Context, in *at) (*body[*work.OrderView], error) {
		_, err := s.work.Rehearse(ctx, who(ctx), in.Order, in.Body.Version)
		return s.orderAfter(ctx, in.Order, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}/rehearsal/clients", "rehearsed-clients", "Some of the clients of the rehearsal"), func(ctx context.Context, in *struct {
		OrderInput
		Moving bool `query:"moving" doc:"those that are told something else; otherwise those that keep what they have"`
		From   int  `query:"from" minimum:"0" maximum:"10000000" doc:"how many to pass over"`
	}) (*body[*work.ClientPage], error) {
		v, err := s.work.RehearsedClients(ctx, in.Order, in.Moving, in.From)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}/rehearsal/replies/{seq}", "rehearsed-reply", "The reply a client of the rehearsal would get"), func(ctx context.Context, in *struct {
		OrderInput
		Seq int32 `path:"seq" doc:"of the client"`
	}) (*body[*dhcp.Message], error) {
		v, err := s.work.RehearsedReply(ctx, in.Order, in.Seq)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/push", "push", "Start the push"), func(ctx context.Context, in *at) (*body[*work.OrderView], error) {
		_, err := s.work.Push(ctx, who(ctx), in.Order, in.Body.Version)
		return s.orderAfter(ctx, in.Order, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/rebase", "rebase", "Move the draft to the site's newest revision"), func(ctx context.Context, in *at) (*body[*work.OrderView], error) {
		_, err := s.work.Rebase(ctx, in.Order, in.Body.Version)
		return s.orderAfter(ctx, in.Order, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/decide", "decide", "Decide about an edit that no longer applies"), func(ctx context.Context, in *struct {
		OrderInput
		Body struct {
			Version int32 `json:"version" doc:"the draft's version as it was seen"`
			Seq     int32 `json:"seq" doc:"of the edit"`
			Mine    bool  `json:"mine" doc:"make the edit in place of what is there now; else it is left out"`
		}
	}) (*body[*work.OrderView], error) {
		_, err := s.work.Decide(ctx, who(ctx), in.Order, in.Body.Version, in.Body.Seq, in.Body.Mine)
		return s.orderAfter(ctx, in.Order, err)
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/drop", "drop", "Close the order without pushing it"), func(ctx context.Context, in *at) (*body[*work.OrderView], error) {
		return s.orderAfter(ctx, in.Order, s.work.Drop(ctx, who(ctx), in.Order, in.Body.Version))
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/take-up", "take-up", "Open a dropped order again"), func(ctx context.Context, in *at) (*body[*work.OrderView], error) {
		return s.orderAfter(ctx, in.Order, s.work.TakeUp(ctx, who(ctx), in.Order, in.Body.Version))
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/end-push", "end-push", "End a push that waits for a device that does not answer"), func(ctx context.Context, in *OrderInput) (*body[*work.OrderView], error) {
		return s.orderAfter(ctx, in.Order, s.work.EndPush(ctx, who(ctx), in.Order))
	})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/verify", "verify", "Record that somebody has seen to what a push did not prove"), func(ctx context.Context, in *struct {
		OrderInput
		Body struct {
			Seq int32 `json:"seq" doc:"of what was not verified"`
		}
	}) (*body[*work.OrderView], error) {
		return s.orderAfter(ctx, in.Order, s.work.Verify(ctx, who(ctx), in.Order, in.Body.Seq))
	})
}

// orderAfter answers with an order as an act on it has left it.
func (s *server) orderAfter(ctx context.Context, order int64, err error) (*body[*work.OrderView], error) {
	if err != nil {
		return nil, s.problem(err)
	}
	v, err := s.work.Order(ctx, order)
	return answer(s, v, err)
}
