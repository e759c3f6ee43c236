package client

import (
	"context"
	"net/url"
	"time"

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

// BoardVersion is a board as somebody saved it.
type BoardVersion struct {
	ID      string    `json:"id"`
	At      time.Time `json:"at"`
	By      string    `json:"by,omitempty"`
	Verb    string    `json:"verb" enum:"added,changed,removed"`
	Board   Board     `json:"content"`
	Changed []string  `json:"changed" doc:"What differs from the version before, in words"`
}

// BoardVersions returns the versions of a board, the newest first.
func (c *Client) BoardVersions(ctx context.Context, name string) ([]BoardVersion, error) {
	return get[[]BoardVersion](ctx, c, "/boards/"+url.PathEscape(name)+"/versions")
}

// BoardLacks says what of a board no model has any more.
func (c *Client) BoardLacks(ctx context.Context, name string) ([]BoardLack, error) {
	return get[[]BoardLack](ctx, c, "/boards/"+url.PathEscape(name)+"/lacks")
}
