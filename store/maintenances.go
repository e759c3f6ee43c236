package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/core/maintenance"
)

type maintenanceRow struct {
	Name        string `gorm:"primaryKey"`
	Maintenance []byte
}

func (maintenanceRow) TableName() string { return "maintenances" }

var maintenanceKind = &kind[maintenance.Maintenance, string, maintenanceRow]{
	key: func(x maintenance.Maintenance) string { return x.Name },
	row: func(x maintenance.Maintenance) (maintenanceRow, error) {
		b, err := json.Marshal(x)
		return maintenanceRow{Name: x.Name, Maintenance: b}, err
	},
	record: func(x maintenanceRow) (m maintenance.Maintenance, err error) {
		return m, json.Unmarshal(x.Maintenance, &m)
	},
	drop: func(tx *gorm.DB, x maintenance.Maintenance) error {
		return tx.Where("name = ?", x.Name).Delete(&maintenanceRow{}).Error
	},
}

// Maintenances implements maintenances.Records.
func (r *Records) Maintenances(ctx context.Context) ([]maintenance.Maintenance, error) {
	return stored(ctx, r, maintenanceKind)
}
