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
}, {
	// Up to which record a series is sealed: records stay until all of their series
	// are, and a start should not take up, nor seal, the others again.
	ID: "2",
	Migrate: func(tx *gorm.DB) error {
		return tx.Exec(`ALTER TABLE series ADD COLUMN sealed INTEGER NOT NULL DEFAULT 0`).Error
	},
}, {
	// How many readings a commit holds and when they had come, outside of what a
	// checksum may find damaged; and where damaged ones go.
	ID: "3",
	Migrate: func(tx *gorm.DB) error {
		for _, q := range []string{
			`ALTER TABLE records ADD COLUMN n INTEGER NOT NULL DEFAULT 0`,
			`ALTER TABLE records ADD COLUMN since INTEGER NOT NULL DEFAULT 0`,
			`ALTER TABLE records ADD COLUMN until INTEGER NOT NULL DEFAULT 0`,
			`CREATE TABLE lost (seq INTEGER PRIMARY KEY, n INTEGER NOT NULL, since INTEGER NOT NULL, until INTEGER NOT NULL,
				found INTEGER NOT NULL, data BLOB NOT NULL)`,
		} {
			if err := tx.Exec(q).Error; err != nil {
				return err
			}
		}
		return nil
	},
}}
