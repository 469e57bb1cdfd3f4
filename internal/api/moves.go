package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lithos/core/move"
	"lithos/internal/moves"
)

// MoveInput is the move in a path.
type MoveInput struct {
	Move int64 `path:"move" doc:"number of the move"`
}

// moveRequest is a move as it is typed.
type moveRequest struct {
	SiteInput
	Body move.Asked
}

// moveOperations are about moves of networks.
func (s *server) moveOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/moves", "moves", "Moves of networks, those under way first"),
		func(ctx context.Context, _ *none) (*body[[]moves.ListedMove], error) {
			v, err := s.work.Moves.Moves(ctx)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/movable", "movable", "What of a site can be moved"),
		func(ctx context.Context, in *SiteInput) (*body[*moves.Movable], error) {
			v, err := s.work.Moves.Movable(ctx, in.Site)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/plan-move", "plan-move",
		"Work out a move of networks: nothing of it is kept"),
		func(ctx context.Context, in *moveRequest) (*body[*moves.MovePlan], error) {
			r, err := s.work.Moves.ReadMove(ctx, in.Site, in.Body)
			if err != nil {
				return nil, s.problem(err)
			}
			v, err := s.work.Moves.PlanMove(ctx, in.Site, r)
			return answer(s, v, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/sites/{site}/moves", "begin-move",
		"Open the work orders of a move, one for each phase"),
		func(ctx context.Context, in *moveRequest) (*body[*moves.MoveView], error) {
			r, err := s.work.Moves.ReadMove(ctx, in.Site, in.Body)
			if err != nil {
				return nil, s.problem(err)
			}
			id, err := s.work.Moves.BeginMove(ctx, who(ctx), in.Site, r)
			return s.moveAfter(ctx, id, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/moves/{move}", "move", "A move of networks"),
		func(ctx context.Context, in *MoveInput) (*body[*moves.MoveView], error) {
			return s.moveAfter(ctx, in.Move, nil)
		})
	huma.Register(api, op(http.MethodPost, "/api/moves/{move}/back", "take-move-back",
		"Drop the phases that have not landed, and open an order that undoes those that have"),
		func(ctx context.Context, in *MoveInput) (*body[*moves.MoveView], error) {
			_, err := s.work.Moves.TakeMoveBack(ctx, who(ctx), in.Move)
			return s.moveAfter(ctx, in.Move, err)
		})
	huma.Register(api, op(http.MethodPost, "/api/moves/{move}/take-over", "take-move-over",
		"Have a move go on in one's own name"),
		func(ctx context.Context, in *MoveInput) (*body[*moves.MoveView], error) {
			return s.moveAfter(ctx, in.Move, s.work.Moves.TakeOverMove(ctx, who(ctx), in.Move))
		})
	huma.Register(api, op(http.MethodPost, "/api/moves/{move}/visits", "tick-visit",
		"Note that somebody has been at a device that holds its address itself, or take that back"),
		func(ctx context.Context, in *struct {
			MoveInput
			Body struct {
				Seq int32     `json:"seq" doc:"of the visit"`
				On  bool      `json:"on"`
				At  time.Time `json:"at,omitempty" doc:"when, of a tick that could not be sent at once"`
			}
		}) (*body[*moves.MoveView], error) {
			err := s.work.Moves.TickVisit(ctx, who(ctx), in.Move, in.Body.Seq, in.Body.On, in.Body.At)
			return s.moveAfter(ctx, in.Move, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/moves/{move}/record", "old-numbers",
		"The site as it was before a move, with old and new numbers, as Markdown or PDF"),
		func(ctx context.Context, in *struct {
			MoveInput
			As string `query:"as" enum:"markdown,pdf" default:"pdf"`
		}) (*fileAnswer, error) {
			p, err := s.work.OldNumbers(ctx, in.Move)
			return s.printed("old-numbers", in.As, p, err)
		})
}

func (s *server) moveAfter(ctx context.Context, id int64, err error) (*body[*moves.MoveView], error) {
	if err != nil {
		return nil, s.problem(err)
	}
	v, err := s.work.Moves.Move(ctx, id)
	return answer(s, v, err)
}
