package store

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"

	"ullage/core/logline"
	"ullage/fleet/logs"
)

// Logs is logs.db: the latest lines of the log of each device. It is in no backup, and a
// crash may lose its last second.
type Logs struct {
	db   database
	most int64            // lines of all devices
	last map[string]int64 // number of the newest line of a device; the writer's alone
	all  int64
}

// mostLines is how many lines of all devices are kept: some 300 MB.
const mostLines = 2_000_000

type lineRow struct {
	Device string `gorm:"primaryKey"`
	Number int64  `gorm:"primaryKey;autoIncrement:false"` // within the device, from 1
	At     int64  `gorm:"index"`
	Level  int
	Text   string
}

func (lineRow) TableName() string { return "lines" }

var logMigrations = []*gormigrate.Migration{{ID: "1", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&lineRow{}) }}}

// OpenLogs opens logs.db of a data folder that is locked already. One that cannot be read is
// put aside, since nothing depends on it; aside tells where.
func OpenLogs(dir string) (l *Logs, aside string, err error) {
	return openOrAside(filepath.Join(dir, "logs.db"), openLogs)
}

func openLogs(path string) (*Logs, error) {
	db, err := openLoose(path, logMigrations)
	if err != nil {
		return nil, err
	}
	l := &Logs{db: db, most: mostLines, last: map[string]int64{}}
	var rows []lineRow
	if err := db.read.Model(&lineRow{}).Select("device, MAX(number) AS number, COUNT(*) AS level").Group("device").Find(&rows).Error; err != nil {
		return nil, err
	}
	for _, r := range rows {
		l.last[r.Device] = r.Number
		l.all += int64(r.Level)
	}
	return l, nil
}

// Close closes the file.
func (l *Logs) Close() error { return l.db.close() }

// Keep implements logs.Keeper.
func (l *Logs) Keep(ls []logs.Line, now time.Time, bound func(device string) logs.Bound) ([]logs.Line, error) {
	last := map[string]int64{}
	rows := make([]lineRow, len(ls))
	for i := range ls {
		x := &ls[i]
		n, ok := last[x.Device]
		if !ok {
			n = l.last[x.Device]
		}
		n++
		last[x.Device], x.Number = n, n
		rows[i] = lineRow{x.Device, n, x.At.UnixMilli(), int(x.Level), x.Text}
	}
	var gone int64
	err := l.db.write.Transaction(func(tx *gorm.DB) error {
		if err := tx.CreateInBatches(rows, 500).Error; err != nil {
			return err
		}
		for device, n := range last {
			b := bound(device)
			d := tx.Where("device = ? AND (number <= ? OR at < ?)", device, n-int64(b.Lines), now.Add(-b.Keep).UnixMilli()).Delete(&lineRow{})
			if gone += d.RowsAffected; d.Error != nil {
				return d.Error
			}
		}
		return nil
	})
	if err != nil {
		return nil, translate(err)
	}
	for device, n := range last {
		l.last[device] = n
	}
	if l.all += int64(len(rows)) - gone; l.all > l.most {
		return ls, l.shrink()
	}
	return ls, nil
}

// shrink lets a tenth of all lines go, the oldest.
func (l *Logs) shrink() error {
	var at int64
	if err := l.db.read.Model(&lineRow{}).Select("at").Order("at").Offset(int(l.all - l.most + l.most/10)).Limit(1).Scan(&at).Error; err != nil {
		return translate(err)
	}
	d := l.db.write.Where("at < ?", at).Delete(&lineRow{})
	l.all -= d.RowsAffected
	return translate(d.Error)
}

// Old implements logs.Keeper.
func (l *Logs) Old(before time.Time, devices []string) error {
	for part := range slices.Chunk(devices, 500) {
		d := l.db.write.Where("at < ? AND device IN ?", before.UnixMilli(), part).Delete(&lineRow{})
		if l.all -= d.RowsAffected; d.Error != nil {
			return translate(d.Error)
		}
	}
	return nil
}

// Find implements logs.Keeper.
func (l *Logs) Find(ctx context.Context, f logs.Filter) ([]logs.Line, error) {
	q := l.db.read.WithContext(ctx).Where("device = ?", f.Device).Limit(f.Limit)
	if f.After > 0 || f.Oldest {
		q = q.Where("number > ?", f.After).Order("number")
	} else {
		q = q.Order("number DESC")
	}
	if f.Before > 0 {
		q = q.Where("number < ?", f.Before)
	}
	if f.Level > logline.Debug {
		q = q.Where("level >= ?", int(f.Level))
	}
	if f.Text != "" {
		q = q.Where("INSTR(LOWER(text), ?) > 0", strings.ToLower(f.Text))
	}
	if !f.From.IsZero() {
		q = q.Where("at >= ?", f.From.UnixMilli())
	}
	if !f.To.IsZero() {
		q = q.Where("at < ?", f.To.UnixMilli())
	}
	var rows []lineRow
	if err := q.Find(&rows).Error; err != nil {
		return nil, translate(err)
	}
	out := make([]logs.Line, len(rows))
	for i, r := range rows {
		out[i] = logs.Line{Device: r.Device, Number: r.Number, Line: logline.Line{At: at(r.At), Level: logline.Level(r.Level), Text: r.Text}}
	}
	return out, nil
}

// Forget implements logs.Keeper.
func (l *Logs) Forget(device string) error {
	d := l.db.write.Where("device = ?", device).Delete(&lineRow{})
	l.all -= d.RowsAffected
	return translate(d.Error)
}
