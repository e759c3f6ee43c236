package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/core/board"
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
