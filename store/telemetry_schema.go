package store

import (
	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
)

// telemetryMigrations bring telemetry.db up to date.
var telemetryMigrations = []*gormigrate.Migration{{
	ID: "1",
	Migrate: func(tx *gorm.DB) error {
		for _, q := range []string{
			`CREATE TABLE series (id INTEGER PRIMARY KEY, device TEXT NOT NULL, metric TEXT NOT NULL,
				every INTEGER NOT NULL DEFAULT 60000, kept INTEGER NOT NULL DEFAULT 0, UNIQUE (device, metric))`,
			`CREATE TABLE records (seq INTEGER PRIMARY KEY, data BLOB NOT NULL)`,
			`CREATE TABLE chunks (key INTEGER PRIMARY KEY, n INTEGER NOT NULL, till INTEGER NOT NULL, data BLOB NOT NULL)`,
			`CREATE TABLE damaged (key INTEGER PRIMARY KEY, data BLOB NOT NULL)`,
			`CREATE TABLE rollups (key INTEGER PRIMARY KEY, data BLOB NOT NULL)`,
			`CREATE TABLE receipts (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, data BLOB NOT NULL)`,
		} {
			if err := tx.Exec(q).Error; err != nil {
				return err
			}
		}
		return nil
	},
}}
