package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/core/dhcp"
	"lithos/core/edit"
	"lithos/core/names"
	"lithos/core/ownership"
	"lithos/core/site"
	"lithos/core/topology"
	"lithos/internal/accounts"
	"lithos/internal/actor"
	"lithos/internal/draft"
	"lithos/internal/order"
	"lithos/internal/poll"
	"lithos/internal/push"
	"lithos/internal/sites"
	"lithos/internal/view"
	"lithos/internal/work"
	"lithos/internal/zonetransfer"
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
	Look    view.Look `json:"look"`
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
	s.moveOperations(api)
	s.noticeOperations(api)
	s.eventOperations(api)
}

func (s *server) sessionOperations(api huma.API) {
	huma.Register(api, op(http.MethodPost, "/api/session", "sign-in", "Sign in"), s.signIn)
	huma.Register(api, op(http.MethodGet, "/api/session", "session", "Who is signed in, if anybody"),
		func(ctx context.Context, _ *none) (*sessionAnswer, error) {
			held, err := s.work.Accounts.Held(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			t, ok := s.sessions.Get(ctx, signedIn).(actor.Technician)
			if !ok {
				return &sessionAnswer{}, nil
			}
			return &sessionAnswer{Body: whoIs{&t, held}}, nil
		})
	huma.Register(api, op(http.MethodDelete, "/api/session", "sign-out", "Sign out"),
		func(ctx context.Context, _ *none) (*none, error) {
			return nil, s.problem(s.sessions.Destroy(ctx))
		})
}

type whoIs struct {
	Technician *actor.Technician `json:"technician,omitempty"`
	Held       *accounts.Held    `json:"held,omitempty" doc:"since when and why pushes and readings of devices are held"`
}

type sessionAnswer struct{ Body whoIs }

func (s *server) siteOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/sites", "sites", "Every site with what is wrong there"),
		func(ctx context.Context, in *struct {
			Archived bool `query:"archived" doc:"those that were put away instead"`
		}) (*body[[]sites.SiteRow], error) {
			v, err := s.work.Sites.Sites(ctx, in.Archived)
			return answer(s, v, err)
		})
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
	s.nameOperations(api)
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
	huma.Register(api, op(http.MethodGet, "/api/find", "find", "Look for an address, MAC, name or VLAN over all sites"),
		func(ctx context.Context, in *struct {
			Query string `query:"q" maxLength:"100"`
		}) (*body[[]sites.Hit], error) {
			v, err := s.work.Sites.Find(ctx, in.Query)
			return answer(s, v, err)
		})
	s.levelOperations(api)
	huma.Register(api, op(http.MethodGet, "/api/options", "options", "The DHCP options that can be set"),
		func(context.Context, *none) (*body[[]view.OptionChoice], error) {
			return &body[[]view.OptionChoice]{view.Options()}, nil
		})
	huma.Register(api, op(http.MethodGet, "/api/rules", "rules", "The rules sites are checked against"),
		func(context.Context, *none) (*body[[]view.RuleView], error) {
			return &body[[]view.RuleView]{view.Rules()}, nil
		})
}

type fileAnswer struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

// ResolverInput is a resolver in a path.
type ResolverInput struct {
	SiteInput
	Resolver string `path:"resolver" doc:"id of the resolver" maxLength:"64"`
}

func (s *server) nameOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/names", "names",
		"The strata that a question falls through, and what one of them holds"),
		func(ctx context.Context, in *struct {
			Drafted
			Stratum string `query:"stratum" maxLength:"100" doc:"id of the one that is listed; the site's own zone when empty"`
			Of      string `query:"resolver" maxLength:"64" doc:"id of the resolver whose strata are listed; the site's first when empty"`
		}) (*body[*view.NamesView], error) {
			p, err := s.work.Page(ctx, in.Site, in.Order)
			if err != nil {
				return nil, s.problem(err)
			}
			ages, err := s.work.Store.NameAges(ctx, p.Site.ID)
			return drawn(s, p, err, func() *view.NamesView { return p.Names(in.Stratum, in.Of, ages) })
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/zones/{zone}/text", "zone-text",
		"A zone in an open format"),
		func(ctx context.Context, in *struct {
			Drafted
			Zone   string `path:"zone" doc:"id of the zone" maxLength:"64"`
			Format string `query:"format" enum:"zone,hosts,csv,transfer" default:"zone" doc:"a zone file (RFC 1035), a hosts file, CSV, or every record as a transfer has it (RFC 5936)"`
			Told   bool   `query:"told" doc:"of an outside zone: what its server told when it was read last"`
		}) (*body[view.ZoneText], error) {
			p, err := s.work.Page(ctx, in.Site, in.Order)
			if err != nil {
				return nil, s.problem(err)
			}
			v, err := p.ZoneText(in.Zone, in.Format, in.Told)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/resolvers/{resolver}", "look-into",
		"What a device's resolver keeps and was asked, read from the device"),
		func(ctx context.Context, in *ResolverInput) (*body[*poll.LookInto], error) {
			v, err := s.work.Poll.LookInto(ctx, in.Site, in.Resolver)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/resolvers/{resolver}", "resolver-act",
		"Make a device's resolver forget answers, or write questions down for a time"),
		func(ctx context.Context, in *struct {
			ResolverInput
			Body poll.ResolverAct
		}) (*body[*poll.LookInto], error) {
			v, err := s.work.Poll.Act(ctx, who(ctx), in.Site, in.Resolver, in.Body)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/following", "following",
		"Every outside name that follows a line, over all sites"),
		func(ctx context.Context, _ *struct{}) (*body[[]view.Following], error) {
			v, err := s.work.Followings(ctx)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/following/{following}/try", "try-following",
		"Tell a name the address of its line now, and climb from the line to the world"),
		func(ctx context.Context, in *struct {
			SiteInput
			Following string `path:"following" doc:"id of the name" maxLength:"64"`
		}) (*body[[]poll.Proved], error) {
			v, err := s.work.Poll.TryFollowing(ctx, who(ctx), in.Site, in.Following)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/following/{following}/resolvers", "following-resolvers",
		"What resolvers on the internet hold of a following name"),
		func(ctx context.Context, in *struct {
			SiteInput
			Following string `path:"following" doc:"id of the name" maxLength:"64"`
		}) (*body[[]poll.Remembered], error) {
			v, err := s.work.Poll.AskResolvers(ctx, in.Site, in.Following)
			return answer(s, v, err)
		})
	s.keyOperations(api)
	s.beginOperations(api)
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/certificates/{certificate}/try", "try-certificate",
		"Prove a name as who asks for its certificate does, and take the proof away again"),
		func(ctx context.Context, in *struct {
			SiteInput
			Certificate string `path:"certificate" doc:"id of the certificate" maxLength:"64"`
		}) (*body[[]poll.Proved], error) {
			v, err := s.work.Poll.TryCertificate(ctx, who(ctx), in.Site, in.Certificate)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/ask", "ask",
		"What a name answers to somebody, and how, as the site or a draft has it"),
		func(ctx context.Context, in *struct {
			Drafted
			Who  string `query:"who" maxLength:"200" doc:"kind:id of a network, reservation, fixed device or device; or internet"`
			Name string `query:"name" maxLength:"300" doc:"as typed; an address is looked up in reverse"`
			Type string `query:"type" maxLength:"20" doc:"of record; A when empty"`
			Live bool   `query:"live" doc:"ask the devices themselves, as the newest revision tells clients to"`
		}) (*body[*view.AskedView], error) {
			if in.Live {
				a, err := s.work.Poll.Ask(ctx, in.Site, names.Question{Who: in.Who, Name: in.Name, Type: in.Type})
				if err != nil {
					return nil, s.problem(err)
				}
				return &body[*view.AskedView]{&view.AskedView{Answer: *a}}, nil
			}
			p, err := s.work.Page(ctx, in.Site, in.Order)
			if err != nil {
				return nil, s.problem(err)
			}
			v, err := p.Ask(names.Question{Who: in.Who, Name: in.Name, Type: in.Type})
			return answer(s, v, err)
		})
}

// ZoneInput is an outside zone in a path.
type ZoneInput struct {
	SiteInput
	Zone string `path:"zone" doc:"id of the zone" maxLength:"64"`
}

// KeyInput is one of its keys.
type KeyInput struct {
	ZoneInput
	Key string `path:"key" doc:"name of the key" maxLength:"253"`
}

func (s *server) keyOperations(api huma.API) {
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/zones/{zone}/keys", "make-outside-key",
		"Have the provider of a zone make a key; it is shown this once"),
		func(ctx context.Context, in *struct {
			ZoneInput
			Body poll.KeyWish
		}) (*body[*zonetransfer.MadeKey], error) {
			v, err := s.work.Poll.MakeKey(ctx, who(ctx), in.Site, in.Zone, in.Body)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/zones/{zone}/keys/{key}/replacement",
		"replace-outside-key", "Have a key made in the place of one, which is taken for a week yet"),
		func(ctx context.Context, in *KeyInput) (*body[*zonetransfer.MadeKey], error) {
			v, err := s.work.Poll.ReplaceKey(ctx, who(ctx), in.Site, in.Zone, in.Key)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodDelete, "/api/sites/{site}/zones/{zone}/keys/{key}", "revoke-outside-key",
		"Have a key end now"),
		func(ctx context.Context, in *KeyInput) (*struct{}, error) {
			if err := s.work.Poll.RevokeKey(ctx, who(ctx), in.Site, in.Zone, in.Key); err != nil {
				return nil, s.problem(err)
			}
			return nil, nil
		})
}

// DeviceInput is a device of a site in a path.
type DeviceInput struct {
	SiteInput
	Device string `path:"device" doc:"id of the device" maxLength:"64"`
}

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
	s.paperOperations(api)
	s.pushOperations(api)
	s.reachOperations(api)
	s.meantOperations(api)
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
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/edits", "edit",
		"Change the draft; all of it or nothing"), func(ctx context.Context, in *struct {
		OrderInput
		Body struct {
			draft.Change
			KeyFor  string    `json:"keyFor,omitempty" maxLength:"64" doc:"instead of a change: id of a following name that a key is made for by its provider; it is put into the draft and not shown"`
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
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/undo", "undo", "Take back the last step"),
		func(ctx context.Context, in *struct {
			OrderInput
			Body struct {
				Version int32     `json:"version" doc:"the draft's version the change was made on"`
				Look    view.Look `json:"look"`
				Others  bool      `json:"others,omitempty" doc:"take it back even when it is another technician's"`
			}
		}) (*body[*view.Changed], error) {
			in.Body.Look.Order = in.Order
			out, err := s.work.Drafts.Undo(ctx, who(ctx), in.Order, in.Body.Version, in.Body.Others)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[*view.Changed]{s.changed(out, in.Body.Look)}, nil
		})
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/steps/{seq}/take-back", "take-back",
		"Take back one step, wherever it stands, unless a later one needs it"),
		func(ctx context.Context, in *struct {
			OrderInput
			Seq  int32 `path:"seq"`
			Body struct {
				Version int32 `json:"version"`
				Others  bool  `json:"others,omitempty" doc:"take it back even when it is another technician's"`
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
	type at struct {
		OrderInput
		Body struct {
			Version int32 `json:"version" doc:"the draft's version as it was seen"`
		}
	}
	huma.Register(api, op(http.MethodPost, "/api/orders/{order}/rehearse", "rehearse",
		"Compute what the draft will do"), func(ctx context.Context, in *at) (*body[*work.OrderView], error) {
		_, err := s.work.Pushes.Rehearse(ctx, who(ctx), in.Order, in.Body.Version)
		return s.orderAfter(ctx, in.Order, err)
	})
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}/rehearsal/clients", "rehearsed-clients",
		"Some of the clients of the rehearsal"), func(ctx context.Context, in *struct {
		OrderInput
		Moving bool `query:"moving" doc:"those that are told something else; otherwise those that keep what they have"`
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
		"Leave an order to start by itself when its change window opens, or not any more"),
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

// orderAfter answers with an order as an act on it has left it.
func (s *server) orderAfter(ctx context.Context, id int64, err error) (*body[*work.OrderView], error) {
	if err != nil {
		return nil, s.problem(err)
	}
	v, err := s.work.Order(ctx, id)
	return answer(s, v, err)
}
