package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/core/names"
	"lithos/internal/poll"
	"lithos/internal/view"
	"lithos/internal/zonetransfer"
)

// ResolverInput is a resolver in a path.
type ResolverInput struct {
	SiteInput
	Resolver string `path:"resolver" doc:"id of the resolver" maxLength:"64"`
}

// nameOperations are the names of a site and its resolvers.
func (s *server) nameOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/names", "names",
		"The layers of a resolver, in the order in which it looks, and what one of them holds"),
		func(ctx context.Context, in *struct {
			Drafted
			Layer string `query:"layer" maxLength:"100" doc:"id of the one that is listed; the site's own zone when empty"`
			Of    string `query:"resolver" maxLength:"64" doc:"id of the resolver whose layers are listed; the site's first when empty"`
		}) (*body[*view.NamesView], error) {
			p, err := s.work.Page(ctx, in.Site, in.Order)
			if err != nil {
				return nil, s.problem(err)
			}
			ages, err := s.work.Store.NameAges(ctx, p.Site.ID)
			return drawn(s, p, err, func() *view.NamesView { return p.Names(in.Layer, in.Of, ages) })
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

// followingOperations are names that follow an address, and certificates.
func (s *server) followingOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/following", "following",
		"Every dynamic name, over all sites"),
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
		"What resolvers on the internet hold of a dynamic name"),
		func(ctx context.Context, in *struct {
			SiteInput
			Following string `path:"following" doc:"id of the name" maxLength:"64"`
		}) (*body[[]poll.Remembered], error) {
			v, err := s.work.Poll.AskResolvers(ctx, in.Site, in.Following)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/certificates/{certificate}/try", "try-certificate",
		"Prove a name as who asks for its certificate does, and take the proof away again"),
		func(ctx context.Context, in *struct {
			SiteInput
			Certificate string `path:"certificate" doc:"id of the certificate" maxLength:"64"`
		}) (*body[[]poll.Proved], error) {
			v, err := s.work.Poll.TryCertificate(ctx, who(ctx), in.Site, in.Certificate)
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
