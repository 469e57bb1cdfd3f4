package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/internal/accounts"
	"lithos/internal/actor"
	"lithos/internal/view"
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
	s.lookOperations(api)
	s.siteOperations(api)
	s.stateOperations(api)
	s.pastOperations(api)
	s.levelOperations(api)
	s.paperOperations(api)
	s.nameOperations(api)
	s.followingOperations(api)
	s.keyOperations(api)
	s.beginOperations(api)
	s.takeOperations(api)
	s.reachOperations(api)
	s.meantOperations(api)
	s.orderOperations(api)
	s.draftOperations(api)
	s.stepOperations(api)
	s.rehearsalOperations(api)
	s.pushOperations(api)
	s.togetherOperations(api)
	s.moveOperations(api)
	s.noticeOperations(api)
	s.eventOperations(api)
}

func (s *server) sessionOperations(api huma.API) {
	huma.Register(api, op(http.MethodPost, "/api/session", "sign-in", "Sign in"), s.signIn)
	huma.Register(api, op(http.MethodGet, "/api/session", "session", "Who is signed in, if anybody"),
		func(ctx context.Context, _ *none) (*sessionAnswer, error) {
			held, err := s.work.Accounts.Holding(ctx)
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
	Hold       *accounts.Hold    `json:"hold,omitempty" doc:"since when and why pushes and readings of devices are held"`
}

type sessionAnswer struct{ Body whoIs }
