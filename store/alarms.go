package store

import (
	"context"
	"gorm.io/gorm"
	"strings"
	"time"

	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/alarms"
)

type alarmRow struct {
	ID             string `gorm:"primaryKey"`
	Rule           string
	Device         string `gorm:"index"` // or the group
	Priority       string
	State          string `gorm:"index"`
	Message        string
	Cause          string
	Response       string
	Metric         string
	Value          value.Value `gorm:"serializer:json"`
	Limit          value.Value `gorm:"serializer:json;column:limit_value"`
	Times          int
	RaisedAt       int64
	ReturnedAt     int64
	AcknowledgedAt int64
	AcknowledgedBy string
	CameUpAt       int64
	RespondBy      int64
	Latches        bool
	Comments       int
	Shown          string // the state in which people see it
	ShelvedUntil   int64
	ShelvedBy      string
	ShelvedWhy     string
	SuppressedBy   string
	Maintenance    string
}

// alarmColumns are those that alarms got later.
var alarmColumns = []string{"CameUpAt", "RespondBy", "Latches", "Comments", "Shown", "ShelvedUntil", "ShelvedBy", "ShelvedWhy", "SuppressedBy", "Maintenance"}

func (alarmRow) TableName() string { return "alarms" }

var alarmKind = &kind[alarms.Alarm, string, alarmRow]{
	key: func(x alarms.Alarm) string { return x.ID },
	row: sure(func(x alarms.Alarm) alarmRow {
		return alarmRow{ID: x.ID, Rule: x.Rule, Device: x.Subject(), Priority: string(x.Priority),
			State: string(x.State), Message: x.Message, Cause: x.Cause, Response: x.Response, Metric: x.Metric, Value: x.Value, Limit: x.Limit, Times: x.Times, RaisedAt: ms(x.RaisedAt),
			ReturnedAt: ms(x.ReturnedAt), AcknowledgedAt: ms(x.AcknowledgedAt), AcknowledgedBy: x.AcknowledgedBy,
			CameUpAt: ms(x.CameUpAt), RespondBy: ms(x.RespondBy), Latches: x.Latches, Comments: x.Comments, Shown: string(x.Shown()),
			ShelvedUntil: ms(x.ShelvedUntil), ShelvedBy: x.ShelvedBy, ShelvedWhy: x.ShelvedWhy, SuppressedBy: x.SuppressedBy, Maintenance: x.Maintenance}
	}),
	record: sure(func(x alarmRow) alarms.Alarm {
		device, group := x.Device, ""
		if strings.Contains(device, "=") { // a group; ids of devices have none
			device, group = "", x.Device
		}
		return alarms.Alarm{ID: x.ID, Rule: x.Rule, Device: device, Group: group, Priority: rule.Priority(x.Priority),
			State: lifecycle.State(x.State), Message: x.Message, Cause: x.Cause, Response: x.Response, Metric: x.Metric, Value: x.Value, Limit: x.Limit, Times: x.Times,
			RaisedAt: at(x.RaisedAt), ReturnedAt: at(x.ReturnedAt), AcknowledgedAt: at(x.AcknowledgedAt), AcknowledgedBy: x.AcknowledgedBy,
			CameUpAt: at(x.CameUpAt), RespondBy: at(x.RespondBy), Latches: x.Latches, Comments: x.Comments,
			Aside:        lifecycle.Aside{OutOfService: x.Maintenance != "", Suppressed: x.SuppressedBy != "", Shelved: x.ShelvedUntil != 0},
			ShelvedUntil: at(x.ShelvedUntil), ShelvedBy: x.ShelvedBy, ShelvedWhy: x.ShelvedWhy, SuppressedBy: x.SuppressedBy, Maintenance: x.Maintenance}
	}),
}

type shelfRow struct {
	Rule    string `gorm:"primaryKey"`
	Subject string `gorm:"primaryKey"`
	By, Why string
	At      int64
	Until   int64
}

func (shelfRow) TableName() string { return "shelves" }

type shelfKey struct{ rule, subject string }

var shelfKind = &kind[alarms.Shelf, shelfKey, shelfRow]{
	key: func(x alarms.Shelf) shelfKey { return shelfKey{x.Rule, x.Subject} },
	row: sure(func(x alarms.Shelf) shelfRow {
		return shelfRow{Rule: x.Rule, Subject: x.Subject, By: x.By, Why: x.Why, At: ms(x.At), Until: ms(x.Until)}
	}),
	record: sure(func(x shelfRow) alarms.Shelf {
		return alarms.Shelf{Rule: x.Rule, Subject: x.Subject, By: x.By, Why: x.Why, At: at(x.At), Until: at(x.Until)}
	}),
	drop: func(tx *gorm.DB, x alarms.Shelf) error {
		return tx.Where("rule = ? AND subject = ?", x.Rule, x.Subject).Delete(&shelfRow{}).Error
	},
}

// Shelves implements alarms.Records.
func (r *Records) Shelves(ctx context.Context) ([]alarms.Shelf, error) {
	return stored(ctx, r, shelfKind)
}

// Alarms implements alarms.Records.
func (r *Records) Alarms(ctx context.Context, f alarms.Filter) ([]alarms.Alarm, error) {
	q := amongAlarms(f)(page{id: f.ID, device: f.Device, before: f.Before, limit: f.Limit}.of(r.db.read.WithContext(ctx)))
	if f.Rule != "" {
		q = q.Where("rule = ?", f.Rule)
	}
	if f.Open {
		q = q.Where("state <> ?", string(lifecycle.Normal))
	}
	if len(f.Priorities) > 0 {
		q = q.Where("priority IN ?", f.Priorities)
	}
	if len(f.States) > 0 {
		q = q.Where("shown IN ?", f.States)
	}
	if f.Suppressor != "" {
		q = q.Where("suppressed_by = ?", f.Suppressor)
	}
	return found(r, alarmKind, q)
}

// amongAlarms narrows to those of some devices, and of some groups.
func amongAlarms(f alarms.Filter) func(*gorm.DB) *gorm.DB {
	return func(q *gorm.DB) *gorm.DB {
		if f.Among == nil {
			return q
		}
		return q.Where("(device IN (SELECT value FROM json_each(?)) OR rule || ' ' || device IN (SELECT value FROM json_each(?)))",
			listOf(f.Among), listOf(f.Groups))
	}
}

type detectionRow struct {
	Subject string           `gorm:"primaryKey"`
	States  []alarms.RulesIn `gorm:"serializer:json"`
}

func (detectionRow) TableName() string { return "detection_states" }

var detectionKind = &kind[alarms.Detections, string, detectionRow]{
	key:     func(x alarms.Detections) string { return x.Subject },
	row:     sure(func(x alarms.Detections) detectionRow { return detectionRow(x) }),
	record:  sure(func(x detectionRow) alarms.Detections { return alarms.Detections(x) }),
	compact: true,
}

// Detections implements alarms.Records.
func (r *Records) Detections(ctx context.Context) ([]alarms.Detections, error) {
	return stored(ctx, r, detectionKind)
}

// bySubject puts detections that stood one by one, each of a rule on a device or group, together.
func bySubject(tx *gorm.DB) error {
	if err := detectionKind.migrate(tx); err != nil || !tx.Migrator().HasTable("detections") {
		return err
	}
	var old []struct {
		Rule, Device string
		Detector     lifecycle.Detector `gorm:"serializer:json"`
	}
	if err := tx.Table("detections").Find(&old).Error; err != nil {
		return err
	}
	rows := map[string]*detectionRow{}
	for _, x := range old {
		subject := x.Device
		if strings.Contains(subject, "=") {
			subject = x.Rule + " " + subject
		}
		if rows[subject] == nil {
			rows[subject] = &detectionRow{Subject: subject}
		}
		rows[subject].States = append(rows[subject].States, alarms.RulesIn{State: x.Detector, Rules: []string{x.Rule}})
	}
	for _, row := range rows {
		if err := tx.Create(row).Error; err != nil {
			return err
		}
	}
	return tx.Migrator().DropTable("detections")
}

// AlarmCounts implements alarms.Records.
func (r *Records) AlarmCounts(ctx context.Context, since time.Time, f alarms.Filter) ([]alarms.Count, error) {
	var out []alarms.Count
	err := amongAlarms(f)(r.db.read.WithContext(ctx).Model(&alarmRow{})).
		Select("rule, sum(state <> ?) AS open, sum(raised_at >= ?) AS raised", string(lifecycle.Normal), ms(since)).
		Where("state <> ? OR raised_at >= ?", string(lifecycle.Normal), ms(since)).Group("rule").Order("rule").
		Scan(&out).Error
	return out, translate(err)
}
