package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/board"
	"ullage/fleet/noun"
)

// boardRoutes serve the boards that people made, and those that are made of the models.
func (s *server) boardRoutes() {
	serve(s, served[board.Board]{word: "board", words: "boards", tag: "Boards", name: func(x board.Board) string { return x.Name },
		list: func(ctx context.Context) ([]board.Board, error) { return s.Fleet.Boards(caller(ctx)), nil },
		get: func(ctx context.Context, name string) (board.Board, error) {
			return s.Fleet.Board(caller(ctx), name)
		},
		put: func(ctx context.Context, x board.Board, cond noun.If) (noun.Saved[board.Board], error) {
			return s.Fleet.PutBoard(ctx, caller(ctx), x, cond)
		},
		remove: func(ctx context.Context, name string, cond noun.If) error {
			return s.Fleet.RemoveBoard(ctx, caller(ctx), name, cond)
		},
	})
	type made struct {
		Kind string `query:"kind" required:"true" enum:"device,model,site,fleet" doc:"What it is of"`
		Of   string `query:"of" maxLength:"100" doc:"The device, model or site; nothing for the fleet"`
	}
	huma.Get(s.api, "/api/v1/made-board", func(ctx context.Context, in *made) (*body[board.Board], error) {
		b, err := s.Fleet.MadeBoard(caller(ctx), in.Kind, in.Of)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[board.Board]{*b}, nil
	}, describe("made-board", "The board of a device, a model, a site or the fleet, made of the models", "Boards"), notFound)
	huma.Get(s.api, "/api/v1/boards/{name}/versions", func(ctx context.Context, in *ThingNamed) (*body[[]client.BoardVersion], error) {
		vs, err := s.Fleet.BoardVersions(ctx, caller(ctx), in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		out := []client.BoardVersion{}
		for i, v := range vs {
			x := client.BoardVersion{ID: v.ID, At: v.At, By: v.By, Verb: v.Verb, Board: v.Board, Changed: []string{}}
			if i+1 < len(vs) && v.Verb == "changed" {
				x.Changed = board.Differences(&vs[i+1].Board, &v.Board)
			}
			out = append(out, x)
		}
		return &body[[]client.BoardVersion]{out}, nil
	}, describe("board-versions", "The versions of a board, the newest first", "Boards"), notFound)
	huma.Get(s.api, "/api/v1/boards/{name}/lacks", func(ctx context.Context, in *ThingNamed) (*body[[]board.Lack], error) {
		b, err := s.Fleet.Board(caller(ctx), in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[[]board.Lack]{s.Fleet.BoardLacks(b)}, nil
	}, describe("board-lacks", "What of a board no model has any more", "Boards"), notFound)
}
