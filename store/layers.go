package store

import (
	"context"

	"gorm.io/gorm"

	"ullage/fleet/responses"
)

// responseRow is what a response of a rule keeps on devices.
type responseRow struct {
	ID    string          `gorm:"primaryKey"`
	Entry responses.Entry `gorm:"serializer:json"`
}

func (responseRow) TableName() string { return "responses" }

var responseKind = &kind[responses.Entry, string, responseRow]{
	key:    func(x responses.Entry) string { return x.ID },
	row:    sure(func(x responses.Entry) responseRow { return responseRow{ID: x.ID, Entry: x} }),
	record: sure(func(x responseRow) responses.Entry { return x.Entry }),
	drop: func(tx *gorm.DB, x responses.Entry) error {
		return tx.Where("id = ?", x.ID).Delete(&responseRow{}).Error
	},
}

// Responses implements responses.Records.
func (r *Records) Responses(ctx context.Context) ([]responses.Entry, error) {
	return stored(ctx, r, responseKind)
}

// switchRow says whether responses act; there is one.
type switchRow struct {
	ID     int64            `gorm:"primaryKey"`
	Switch responses.Switch `gorm:"serializer:json"`
}

func (switchRow) TableName() string { return "response_switch" }

var switchKind = &kind[responses.Switch, int64, switchRow]{
	key:    func(responses.Switch) int64 { return 1 },
	row:    sure(func(x responses.Switch) switchRow { return switchRow{ID: 1, Switch: x} }),
	record: sure(func(x switchRow) responses.Switch { return x.Switch }),
}

// ResponseSwitch implements responses.Records.
func (r *Records) ResponseSwitch(ctx context.Context) (responses.Switch, error) {
	all, err := stored(ctx, r, switchKind)
	if err != nil || len(all) == 0 {
		return responses.Switch{}, err
	}
	return all[0], nil
}
