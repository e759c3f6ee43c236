package client

import (
	"context"
	"net/url"

	"ullage/core/board"
)

// Board is a page of instruments.
type Board = board.Board

// BoardLack is something of a board that no model has.
type BoardLack = board.Lack

// Boards are the pages of instruments that people have made.
func (c *Client) Boards() Things[Board] {
	return Things[Board]{c, "boards", func(b Board) string { return b.Name }}
}

// MadeBoard returns the board of a device, a model, a site or the fleet, as it is made of the
// models now.
func (c *Client) MadeBoard(ctx context.Context, kind, of string) (Board, error) {
	return get[Board](ctx, c, "/made-board?"+url.Values{"kind": {kind}, "of": {of}}.Encode())
}

// BoardLacks says what of a board no model has any more.
func (c *Client) BoardLacks(ctx context.Context, name string) ([]BoardLack, error) {
	return get[[]BoardLack](ctx, c, "/boards/"+url.PathEscape(name)+"/lacks")
}
