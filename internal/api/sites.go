package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/core/edit"
	"lithos/core/ownership"
	"lithos/core/site"
	"lithos/core/topology"
	"lithos/internal/order"
	"lithos/internal/poll"
	"lithos/internal/sites"
	"lithos/internal/view"
	"lithos/internal/work"
)

// lookOperations are about all sites.
func (s *server) lookOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/sites", "sites", "Every site with what is wrong there"),
		func(ctx context.Context, in *struct {
			Archived bool `query:"archived" doc:"those that are archived instead"`
		}) (*body[[]sites.SiteRow], error) {
			v, err := s.work.Sites.Sites(ctx, in.Archived)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/find", "find", "Look for an address, MAC, name or VLAN over all sites"),
		func(ctx context.Context, in *struct {
			Query string `query:"q" maxLength:"100"`
		}) (*body[[]sites.Hit], error) {
			v, err := s.work.Sites.Find(ctx, in.Query)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/options", "options", "The DHCP options that can be set"),
		func(context.Context, *none) (*body[[]view.OptionChoice], error) {
			return &body[[]view.OptionChoice]{view.Options()}, nil
		})
	huma.Register(api, op(http.MethodGet, "/api/rules", "rules", "The rules sites are checked against"),
		func(context.Context, *none) (*body[[]view.RuleView], error) {
			return &body[[]view.RuleView]{view.Rules()}, nil
		})
}

// siteOperations are what the page of a site is drawn from.
func (s *server) siteOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/frame", "frame",
		"What stands around a network and a part of a site"),
		func(ctx context.Context, in *Drafted) (*body[*view.Frame], error) {
			p, err := s.work.Page(ctx, in.Site, in.Order)
			return drawn(s, p, err, func() *view.Frame { return p.Frame() })
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/network", "network",
		"One network of a site; none at a site without any"),
		func(ctx context.Context, in *Looking) (*body[*view.NetworkAnswer], error) {
			p, err := s.work.Page(ctx, in.Site, in.Order)
			return drawn(s, p, err, func() *view.NetworkAnswer { return s.shown.Answer(p.Network(in.look()), in.Have) })
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/part", "part", "The inspected part of a site"),
		func(ctx context.Context, in *Looking) (*body[*view.Inspection], error) {
			p, err := s.work.Page(ctx, in.Site, in.Order)
			return drawn(s, p, err, func() *view.Inspection { return p.Part(in.look()) })
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/option", "option",
		"Where an option can be set for the inspected part, and what is in effect there"),
		func(ctx context.Context, in *struct {
			Looking
			Code uint8 `query:"code"`
		}) (*body[*view.OptionPlace], error) {
			p, err := s.work.Page(ctx, in.Site, in.Order)
			return drawn(s, p, err, func() *view.OptionPlace { return p.OptionAt(in.look(), in.Code) })
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/target", "target",
		"The network and part that a finding is about"), func(ctx context.Context, in *struct {
		Drafted
		Finding string `query:"finding" maxLength:"400"`
	}) (*body[targetAnswer], error) {
		p, err := s.work.Page(ctx, in.Site, in.Order)
		return drawn(s, p, err, func() (out targetAnswer) {
			out.Network, out.Select, out.There = p.Target(in.Finding)
			return out
		})
	})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/form", "form", "The form of a part, or of a new one"),
		func(ctx context.Context, in *struct {
			Drafted
			Kind    string `query:"kind" maxLength:"40"`
			ID      string `query:"id" maxLength:"100" doc:"of the part; a new one when empty"`
			In      string `query:"in" maxLength:"200" doc:"kind:id of the owner of a part that lies inside another"`
			Network string `query:"network" maxLength:"100" doc:"id of the network that is looked at"`
		}) (*body[*edit.Form], error) {
			p, err := s.work.Page(ctx, in.Site, in.Order)
			if err != nil {
				return nil, s.problem(err)
			}
			v, err := p.Form(view.Opens{Kind: in.Kind, ID: in.ID, In: in.In}, in.Network)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/room", "room",
		"Room for a network, with a VLAN id and gateway"), func(ctx context.Context, in *struct {
		Drafted
		Bits int `query:"bits" minimum:"8" maximum:"31" doc:"prefix length"`
	}) (*body[map[string]string], error) {
		p, err := s.work.Page(ctx, in.Site, in.Order)
		if err != nil {
			return nil, s.problem(err)
		}
		v, err := p.Room(in.Bits)
		return answer(s, v, err)
	})
}

// stateOperations are what is known of a site beside its document, and what was before.
func (s *server) stateOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/history", "history",
		"The revisions of a site, newest first"),
		func(ctx context.Context, in *SiteInput) (*body[[]sites.Revision], error) {
			v, err := s.work.Sites.History(ctx, in.Site)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/file", "file", "The site file"),
		func(ctx context.Context, in *struct {
			SiteInput
			Format string `query:"format" enum:"json,yaml" default:"json"`
		}) (*fileAnswer, error) {
			doc, err := s.work.Sites.ExportFor(ctx, who(ctx), in.Site)
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
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/try", "try", "Let a test client ask for an address"),
		func(ctx context.Context, in *struct {
			SiteInput
			Body poll.TryRequest
		}) (*body[*poll.TryResult], error) {
			v, err := s.work.Poll.Try(ctx, in.Site, in.Body)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/observed", "observed",
		"Leases and neighbours the devices told of, with what to make of them"),
		func(ctx context.Context, in *Drafted) (*body[*view.SeenView], error) {
			p, err := s.work.Page(ctx, in.Site, in.Order)
			return drawn(s, p, err, func() *view.SeenView { return p.SeenAt() })
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/topology", "topology",
		"How the devices are joined, with the path of a network"),
		func(ctx context.Context, in *Looking) (*body[*topology.Drawing], error) {
			p, err := s.work.Page(ctx, in.Site, in.Order)
			return drawn(s, p, err, func() *topology.Drawing { return p.Topology(in.Network) })
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/forecast", "forecast",
		"A pool's day: when it fills, who is turned away, what would do"), func(ctx context.Context, in *struct {
		Drafted
		view.ForecastRequest
	}) (*body[*view.ForecastView], error) {
		p, err := s.work.Page(ctx, in.Site, in.Order)
		if err != nil {
			return nil, s.problem(err)
		}
		v, err := p.Forecast(in.ForecastRequest)
		return answer(s, v, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/spread", "spread",
		"When clients learn a changed option, and what to set beforehand"), func(ctx context.Context, in *struct {
		Drafted
		Pool   string `query:"pool" maxLength:"64"`
		Target string `query:"target" maxLength:"60" doc:"within what time all should have learnt"`
	}) (*body[*view.SpreadView], error) {
		p, err := s.work.Page(ctx, in.Site, in.Order)
		if err != nil {
			return nil, s.problem(err)
		}
		v, err := p.Spread(in.Pool, in.Target)
		return answer(s, v, err)
	})
}

// pastOperations are what a site was, and who had what.
func (s *server) pastOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/compare", "compare-revisions",
		"What became of a site from one revision to another, in words"),
		func(ctx context.Context, in *struct {
			SiteInput
			From int32 `query:"from" minimum:"1"`
			To   int32 `query:"to" minimum:"1"`
		}) (*body[*sites.Compared], error) {
			v, err := s.work.Sites.Compare(ctx, in.Site, in.From, in.To)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/gone", "gone",
		"Whether a part that a link names is there, and what became of it where not"),
		func(ctx context.Context, in *struct {
			Drafted
			Part string `query:"part" maxLength:"200" doc:"kind:id"`
		}) (*body[*work.Gone], error) {
			v, err := s.work.Gone(ctx, in.Site, in.Order, in.Part)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/ownership", "ownership",
		"Who had an address, a name or a network, and from when to when"),
		func(ctx context.Context, in *struct {
			SiteInput
			Of string `query:"of" maxLength:"300" doc:"an address, a prefix or a name"`
		}) (*body[*ownership.History], error) {
			v, err := s.work.Sites.Ownership(ctx, in.Site, in.Of)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/revisions/{revision}/bring-back", "bring-back",
		"Open a work order that makes a site what it was at a revision"),
		func(ctx context.Context, in *struct {
			SiteInput
			Revision int32 `path:"revision" minimum:"1"`
		}) (*body[order.Opened], error) {
			id, err := s.work.BringBack(ctx, who(ctx), in.Site, in.Revision)
			return answer(s, order.Opened{ID: id, Name: order.Name(id), By: who(ctx).FullName}, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/sheet", "sheet",
		"Addresses, names or options as a table for a spreadsheet (CSV, RFC 4180, or XLSX)"),
		func(ctx context.Context, in *struct {
			SiteInput
			Of       string `query:"of" enum:"addresses,names,options" default:"addresses"`
			Customer bool   `query:"customer" doc:"of all sites of the customer"`
			As       string `query:"as" enum:"csv,xlsx" default:"csv"`
		}) (*fileAnswer, error) {
			raw, err := s.work.Sites.Sheet(ctx, who(ctx), in.Site, in.Of, in.Customer, in.As == "xlsx")
			if err != nil {
				return nil, s.problem(err)
			}
			typ := "text/csv; charset=utf-8"
			if in.As == "xlsx" {
				typ = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
			}
			return &fileAnswer{typ, `attachment; filename="` + in.Site + "-" + in.Of + "." + in.As + `"`, raw}, nil
		})
}

type fileAnswer struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}
