package store

import (
	"context"

	"ullage/fleet/commands"
)

type commandRow struct {
	ID      string `gorm:"primaryKey"`
	Device  string `gorm:"index"`
	Name    string
	Input   []byte
	By      string
	Phase   string `gorm:"index"`
	At      int64
	Expires int64
	SentAt  int64
	EndedAt int64
	Output  []byte
	Error   string
}

func (commandRow) TableName() string { return "commands" }

var commandKind = &kind[commands.Command, string, commandRow]{
	key: func(x commands.Command) string { return x.ID },
	row: sure(func(x commands.Command) commandRow {
		return commandRow{ID: x.ID, Device: x.Device, Name: x.Name, Input: x.Input, By: x.By, Phase: string(x.Phase),
			At: ms(x.At), Expires: ms(x.Expires), SentAt: ms(x.SentAt), EndedAt: ms(x.EndedAt), Output: x.Output, Error: x.Error}
	}),
	record: sure(func(x commandRow) commands.Command {
		return commands.Command{ID: x.ID, Device: x.Device, Name: x.Name, Input: x.Input, By: x.By,
			Phase: commands.Phase(x.Phase), At: at(x.At), Expires: at(x.Expires), SentAt: at(x.SentAt), EndedAt: at(x.EndedAt), Output: x.Output, Error: x.Error}
	}),
}

// Commands implements commands.Records.
func (r *Records) Commands(ctx context.Context, f commands.Filter) ([]commands.Command, error) {
	q := page{id: f.ID, device: f.Device, among: f.Among, before: f.Before,
		limit: f.Limit}.of(r.db.read.WithContext(ctx))
	if f.Open {
		q = q.Where("phase IN ?", []string{string(commands.Waiting), string(commands.Sent)})
	}
	return found(r, commandKind, q)
}
