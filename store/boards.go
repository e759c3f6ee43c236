package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/core/board"
	"ullage/fleet/boards"
)

type boardRow struct {
	Name  string `gorm:"primaryKey"`
	Board []byte
}

func (boardRow) TableName() string { return "boards" }

var boardKind = &kind[board.Board, string, boardRow]{
	key: func(x board.Board) string { return x.Name },
	row: func(x board.Board) (boardRow, error) {
		b, err := json.Marshal(x)
		return boardRow{Name: x.Name, Board: b}, err
	},
	record: func(x boardRow) (b board.Board, err error) { return b, json.Unmarshal(x.Board, &b) },
	drop: func(tx *gorm.DB, x board.Board) error {
		return tx.Where("name = ?", x.Name).Delete(&boardRow{}).Error
	},
}

// Boards implements boards.Records.
func (r *Records) Boards(ctx context.Context) ([]board.Board, error) {
	return stored(ctx, r, boardKind)
}

// boardVersionRow is a board as somebody saved it.
type boardVersionRow struct {
	ID      string         `gorm:"primaryKey"`
	Name    string         `gorm:"index"`
	Version boards.Version `gorm:"serializer:json"`
}

func (boardVersionRow) TableName() string { return "board_versions" }

var boardVersionKind = &kind[boards.Version, string, boardVersionRow]{
	key:    func(x boards.Version) string { return x.ID },
	row:    sure(func(x boards.Version) boardVersionRow { return boardVersionRow{x.ID, x.Name, x} }),
	record: sure(func(x boardVersionRow) boards.Version { return x.Version }),
	drop: func(tx *gorm.DB, x boards.Version) error {
		return tx.Where("id = ?", x.ID).Delete(&boardVersionRow{}).Error
	},
}

// maxBoardVersions is how many versions of a board are told.
const maxBoardVersions = 200

// BoardVersions implements boards.Records.
func (r *Records) BoardVersions(ctx context.Context, name string) ([]boards.Version, error) {
	return found(r, boardVersionKind, r.db.read.WithContext(ctx).Where("name = ?", name).Order("id DESC").Limit(maxBoardVersions))
}
