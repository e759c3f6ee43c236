package store

import (
	"math"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"

	"ullage/core/series"
	"ullage/core/value"
)

// telemetryMigrations bring telemetry.db up to date.
var telemetryMigrations = []*gormigrate.Migration{{
	ID: "1",
	Migrate: func(tx *gorm.DB) error {
		return statements(tx,
			`CREATE TABLE series (id INTEGER PRIMARY KEY, device TEXT NOT NULL, metric TEXT NOT NULL, UNIQUE (device, metric))`,
			`CREATE TABLE readings (series INTEGER NOT NULL, at INTEGER NOT NULL, value, quality INTEGER NOT NULL,
				device_at INTEGER, receipt INTEGER, PRIMARY KEY (series, at)) WITHOUT ROWID`)
	},
}, {
	// A row for each reading becomes chunks.
	ID: "2",
	Migrate: func(tx *gorm.DB) error {
		if err := statements(tx,
			`ALTER TABLE series ADD COLUMN every INTEGER NOT NULL DEFAULT 60000`,
			`ALTER TABLE series ADD COLUMN kept INTEGER NOT NULL DEFAULT 0`,
			`CREATE TABLE records (seq INTEGER PRIMARY KEY, data BLOB NOT NULL)`,
			`CREATE TABLE chunks (key INTEGER PRIMARY KEY, n INTEGER NOT NULL, till INTEGER NOT NULL, data BLOB NOT NULL)`,
			`CREATE TABLE damaged (key INTEGER PRIMARY KEY, data BLOB NOT NULL)`,
			`CREATE TABLE rollups (key INTEGER PRIMARY KEY, data BLOB NOT NULL)`,
			`CREATE TABLE receipts (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, data BLOB NOT NULL)`); err != nil {
			return err
		}
		var ids []int64
		if err := tx.Table("series").Order("id").Pluck("id", &ids).Error; err != nil {
			return err
		}
		for _, id := range ids {
			if err := pack(tx, id); err != nil {
				return err
			}
		}
		return statements(tx, `DROP TABLE readings`)
	},
}}

func statements(tx *gorm.DB, all ...string) error {
	for _, q := range all {
		if err := tx.Exec(q).Error; err != nil {
			return err
		}
	}
	return nil
}

// pack turns the rows of one series into records, so that the store seals them,
// roll-ups and all, when it is open.
func pack(tx *gorm.DB, id int64) error {
	for after := int64(math.MinInt64); ; {
		xs, err := oldRows(tx, id, after)
		if err != nil || len(xs) == 0 {
			return err
		}
		var w recordWriter
		w.reset()
		w.begin("", 0, 0, len(xs))
		for i := range xs {
			w.reading(id, &xs[i])
		}
		if err := tx.Exec(`INSERT INTO records (data) SELECT ?`, w.end()).Error; err != nil {
			return err
		}
		after = xs[len(xs)-1].At
	}
}

func oldRows(tx *gorm.DB, id, after int64) ([]series.Sample, error) {
	rows, err := tx.Raw(`SELECT at, value, quality, coalesce(device_at, 0) FROM readings WHERE series = ? AND at > ? ORDER BY at LIMIT 50000`, id, after).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []series.Sample
	for rows.Next() {
		var x series.Sample
		var v any
		if err := rows.Scan(&x.At, &v, &x.Quality, &x.DeviceAt); err != nil {
			return nil, err
		}
		x.Value = fromColumn(v)
		out = append(out, x)
	}
	return out, rows.Err()
}

// fromColumn reads a value as it stood in a row: REAL for a number, TEXT for a
// text and INTEGER 0 or 1 for a boolean.
func fromColumn(x any) value.Value {
	switch x := x.(type) {
	case float64:
		return value.OfNumber(x)
	case int64:
		return value.OfBool(x != 0)
	case string:
		return value.OfText(x)
	case []byte:
		return value.OfText(string(x))
	}
	return value.Value{}
}
