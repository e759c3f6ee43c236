package store

import (
	"context"
	"encoding/json"

	"ullage/fleet/models"
)

type modelRow struct {
	Name     string `gorm:"primaryKey"`
	Version  string `gorm:"primaryKey"`
	Source   []byte
	Parts    map[string]json.RawMessage `gorm:"serializer:json"`
	LoadedAt int64
}

func (modelRow) TableName() string { return "model_versions" }

type modelKey struct{ name, version string }

var modelKind = &kind[models.Record, modelKey, modelRow]{
	key: func(x models.Record) modelKey { return modelKey{x.Name, x.Version} },
	row: sure(func(x models.Record) modelRow {
		return modelRow{Name: x.Name, Version: x.Version, Source: x.Source, Parts: x.Parts, LoadedAt: ms(x.LoadedAt)}
	}),
	record: sure(func(x modelRow) models.Record {
		return models.Record{Name: x.Name, Version: x.Version, Source: x.Source, Parts: x.Parts,
			LoadedAt: at(x.LoadedAt)}
	}),
}

// Models implements models.Records.
func (r *Records) Models(ctx context.Context) ([]models.Record, error) {
	return stored(ctx, r, modelKind)
}
