package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/core/site"
	"ullage/fleet/sites"
)

type siteRow struct {
	Name string `gorm:"primaryKey"`
	Site []byte
}

func (siteRow) TableName() string { return "sites" }

var siteKind = &kind[site.Site, string, siteRow]{
	key: func(x site.Site) string { return x.Name },
	row: func(x site.Site) (siteRow, error) {
		b, err := json.Marshal(x)
		return siteRow{Name: x.Name, Site: b}, err
	},
	record: func(x siteRow) (s site.Site, err error) { return s, json.Unmarshal(x.Site, &s) },
	drop:   func(tx *gorm.DB, x site.Site) error { return tx.Where("name = ?", x.Name).Delete(&siteRow{}).Error },
}

// Sites implements sites.Records.
func (r *Records) Sites(ctx context.Context) ([]site.Site, error) { return stored(ctx, r, siteKind) }

// planRow is the plan picture of a site, apart from it: nobody needs it in memory.
type planRow struct {
	Site    string `gorm:"primaryKey"`
	Type    string
	Picture []byte
}

func (planRow) TableName() string { return "site_plans" }

var planKind = &kind[sites.Plan, string, planRow]{
	key:    func(x sites.Plan) string { return x.Site },
	row:    sure(func(x sites.Plan) planRow { return planRow(x) }),
	record: sure(func(x planRow) sites.Plan { return sites.Plan(x) }),
	drop:   func(tx *gorm.DB, x sites.Plan) error { return tx.Where("site = ?", x.Site).Delete(&planRow{}).Error },
}

// Plan implements sites.Records.
func (r *Records) Plan(ctx context.Context, site string) (sites.Plan, bool, error) {
	out, err := found(r, planKind, r.db.read.WithContext(ctx).Where("site = ?", site).Limit(1))
	if err != nil || len(out) == 0 {
		return sites.Plan{}, false, err
	}
	return out[0], true, nil
}
