package store

import (
	"context"
	"encoding/binary"
	"path/filepath"
	"slices"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"ullage/fleet/activity"
)

// Activity is activity.db: what passed between each device and the service, by the hour. It is
// in no backup.
type Activity struct{ db database }

// dayRow is a day of a device: its hours one after the other, each a handful of numbers.
type dayRow struct {
	Device string `gorm:"primaryKey"`
	Day    int64  `gorm:"primaryKey;autoIncrement:false;index"` // days since 1970
	Hours  []byte
}

func (dayRow) TableName() string { return "days" }

var activityMigrations = []*gormigrate.Migration{{ID: "1", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&dayRow{}) }}}

// OpenActivity opens activity.db of a data folder that is locked already. One that cannot be
// read is put aside, since nothing depends on it; aside tells where.
func OpenActivity(dir string) (a *Activity, aside string, err error) {
	return openOrAside(filepath.Join(dir, "activity.db"), openActivity)
}

func openActivity(path string) (*Activity, error) {
	db, err := openLoose(path, activityMigrations)
	if err != nil {
		return nil, err
	}
	return &Activity{db}, nil
}

// Close closes the file.
func (a *Activity) Close() error { return a.db.close() }

const hoursOf = 24

// numbers are those of a Count, in the order in which they are written.
func numbers(c *activity.Count) [7]*uint64 {
	return [7]*uint64{&c.Up, &c.Down, &c.UpBytes, &c.DownBytes, &c.Refused, &c.Late, &c.Connects}
}

// packDay writes the hours of a day: for each in which something passed its number and then
// what did.
func packDay(day *[hoursOf]activity.Count) []byte {
	var out []byte
	for h := range day {
		if day[h] == (activity.Count{}) {
			continue
		}
		out = append(out, byte(h))
		for _, n := range numbers(&day[h]) {
			out = binary.AppendUvarint(out, *n)
		}
	}
	return out
}

// openDay is the opposite. What cannot be read is nothing.
func openDay(b []byte) (day [hoursOf]activity.Count) {
	for len(b) > 0 {
		h := b[0]
		b = b[1:]
		if h >= hoursOf {
			return day
		}
		for _, n := range numbers(&day[h]) {
			v, used := binary.Uvarint(b)
			if used <= 0 {
				return day
			}
			*n, b = v, b[used:]
		}
	}
	return day
}

// Add implements activity.Keeper.
func (a *Activity) Add(hs []activity.Hour) error {
	slices.SortFunc(hs, func(x, y activity.Hour) int { return int(x.Hour/hoursOf - y.Hour/hoursOf) })
	return translate(a.db.write.Transaction(func(tx *gorm.DB) error {
		for len(hs) > 0 {
			day := hs[0].Hour / hoursOf
			n := 1
			for n < len(hs) && hs[n].Hour/hoursOf == day {
				n++
			}
			if err := addTo(tx, day, hs[:n]); err != nil {
				return err
			}
			hs = hs[n:]
		}
		return nil
	}))
}

// addTo adds counts of one day.
func addTo(tx *gorm.DB, day int64, hs []activity.Hour) error {
	of := map[string][]activity.Hour{}
	for _, h := range hs {
		of[h.Device] = append(of[h.Device], h)
	}
	var ids []string
	for id := range of {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	for part := range slices.Chunk(ids, 500) {
		var rows []dayRow
		if err := tx.Where("day = ? AND device IN ?", day, part).Find(&rows).Error; err != nil {
			return err
		}
		had := map[string][]byte{}
		for _, r := range rows {
			had[r.Device] = r.Hours
		}
		next := make([]dayRow, len(part))
		for i, id := range part {
			hours := openDay(had[id])
			for _, h := range of[id] {
				hours[h.Hour%hoursOf].Add(h.Count)
			}
			next[i] = dayRow{id, day, packDay(&hours)}
		}
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(next).Error; err != nil {
			return err
		}
	}
	return nil
}

// Sum implements activity.Keeper.
func (a *Activity) Sum(ctx context.Context, from, to int64) (map[string]activity.Count, int64, error) {
	out := map[string]activity.Count{}
	rows, err := a.db.read.WithContext(ctx).Model(&dayRow{}).Where("day >= ? AND day <= ?", from/hoursOf, (to-1)/hoursOf).Rows()
	if err != nil {
		return nil, 0, translate(err)
	}
	defer rows.Close()
	for rows.Next() {
		var r dayRow
		if err := a.db.read.ScanRows(rows, &r); err != nil {
			return nil, 0, translate(err)
		}
		hours := openDay(r.Hours)
		sum := out[r.Device]
		for h := range hours {
			if at := r.Day*hoursOf + int64(h); at >= from && at < to {
				sum.Add(hours[h])
			}
		}
		out[r.Device] = sum
	}
	if err := rows.Err(); err != nil {
		return nil, 0, translate(err)
	}
	first, err := a.first(ctx)
	return out, first, err
}

// first is the first hour that is kept; 0 for none.
func (a *Activity) first(ctx context.Context) (int64, error) {
	var rows []dayRow
	oldest := a.db.read.Model(&dayRow{}).Select("MIN(day)")
	if err := a.db.read.WithContext(ctx).Where("day = (?)", oldest).Find(&rows).Error; err != nil {
		return 0, translate(err)
	}
	first := int64(0)
	for _, r := range rows {
		if len(r.Hours) > 0 {
			if at := r.Day*hoursOf + int64(r.Hours[0]); first == 0 || at < first {
				first = at
			}
		}
	}
	return first, nil
}

// Drop implements activity.Keeper.
func (a *Activity) Drop(device string) error {
	return translate(a.db.write.Where("device = ?", device).Delete(&dayRow{}).Error)
}

// Forget implements activity.Keeper, for whole days.
func (a *Activity) Forget(before int64) error {
	return translate(a.db.write.Where("day < ?", before/hoursOf).Delete(&dayRow{}).Error)
}
