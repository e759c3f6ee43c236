package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/core/rule"
	"ullage/fleet/alarms"
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
		// Those of its groups; each device that it watched is stored anew without it.
		return tx.Where("subject > ? AND subject < ?", x.Name+" ", x.Name+"!").Delete(&detectionRow{}).Error
	},
}

type ruleVersionRow struct {
	ID     string `gorm:"primaryKey"`
	Name   string `gorm:"index"`
	At     int64
	By     string
	Verb   string
	Source []byte
}

func (ruleVersionRow) TableName() string { return "rule_versions" }

var ruleVersionKind = &kind[alarms.RuleVersion, string, ruleVersionRow]{
	key: func(x alarms.RuleVersion) string { return x.ID },
	row: func(x alarms.RuleVersion) (ruleVersionRow, error) {
		b, err := json.Marshal(x.Rule)
		return ruleVersionRow{ID: x.ID, Name: x.Name, At: ms(x.At), By: x.By, Verb: x.Verb, Source: b}, err
	},
	record: func(x ruleVersionRow) (v alarms.RuleVersion, err error) {
		v = alarms.RuleVersion{ID: x.ID, Name: x.Name, At: at(x.At), By: x.By, Verb: x.Verb}
		return v, json.Unmarshal(x.Source, &v.Rule)
	},
	drop: func(tx *gorm.DB, x alarms.RuleVersion) error {
		return tx.Where("id = ?", x.ID).Delete(&ruleVersionRow{}).Error
	},
}

// RuleVersions implements alarms.Records.
func (r *Records) RuleVersions(ctx context.Context, name string) ([]alarms.RuleVersion, error) {
	return found(r, ruleVersionKind, r.db.read.WithContext(ctx).Where("name = ?", name).Order("id DESC"))
}

// RuleVersionIDs implements alarms.Records.
func (r *Records) RuleVersionIDs(ctx context.Context) (map[string][]string, error) {
	var rows []ruleVersionRow
	err := r.db.read.WithContext(ctx).Select("id, name").Order("id").Find(&rows).Error
	out := map[string][]string{}
	for _, x := range rows {
		out[x.Name] = append(out[x.Name], x.ID)
	}
	return out, translate(err)
}

// Rules implements alarms.Records.
func (r *Records) Rules(ctx context.Context) ([]rule.Rule, error) { return stored(ctx, r, ruleKind) }
