package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/core/rule"
)

type ruleRow struct {
	Name   string `gorm:"primaryKey"`
	Source []byte
}

func (ruleRow) TableName() string { return "rules" }

var ruleKind = &kind[rule.Rule, string, ruleRow]{
	key: func(x rule.Rule) string { return x.Name },
	row: func(x rule.Rule) (ruleRow, error) {
		b, err := json.Marshal(x)
		return ruleRow{Name: x.Name, Source: b}, err
	},
	record: func(x ruleRow) (r rule.Rule, err error) { return r, json.Unmarshal(x.Source, &r) },
	drop: func(tx *gorm.DB, x rule.Rule) error {
		if err := tx.Where("name = ?", x.Name).Delete(&ruleRow{}).Error; err != nil {
			return err
		}
		return tx.Where("rule = ?", x.Name).Delete(&detectionRow{}).Error
	},
}

// Rules implements alarms.Records.
func (r *Records) Rules(ctx context.Context) ([]rule.Rule, error) { return stored(ctx, r, ruleKind) }
