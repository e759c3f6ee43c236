package store

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"

	"ullage/core/layering"
	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/alarms"
	"ullage/fleet/commands"
	"ullage/fleet/devices"
	"ullage/fleet/models"
	"ullage/fleet/people"
	"ullage/fleet/settings"
)

// Records is records.db. Its methods are the Records interfaces of the fleet
// packages; what they change comes in commits, see Commit.
type Records struct {
	db database
	// Only the writer of commits has these.
	number int64 // of the newest fact
	newest newest
}

var recordMigrations = []*gormigrate.Migration{{
	ID: "1",
	Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&modelRow{}, &deviceRow{}, &credentialRow{}, &settingRow{}, &ruleRow{}, &alarmRow{},
			&factRow{}, &jobRow{}, &commandRow{}, &personRow{}, &sessionRow{}, &storeRow{}); err != nil {
			return err
		}
		// Their rows are little more than their key: kept in its order, they are
		// stored once instead of twice.
		return tx.Set("gorm:table_options", "WITHOUT ROWID").AutoMigrate(&detectionRow{}, &validityRow{})
	},
}, {
	ID:      "2",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&progressRow{}) },
}}

// The rows stand in the shape of version 1; later shapes get a migration each.
type (
	// storeRow is about the store itself; there is one.
	storeRow struct {
		ID    int64 `gorm:"primaryKey"`
		Epoch int64 // of revisions of settings; see Records.Epoch
		Floor int64 // facts up to this number may be gone
	}
	modelRow struct {
		Name     string `gorm:"primaryKey"`
		Version  string `gorm:"primaryKey"`
		Source   []byte
		Parts    map[string]json.RawMessage `gorm:"serializer:json"`
		LoadedAt int64
	}
	deviceRow struct {
		ID         string `gorm:"primaryKey"`
		Model      string
		Version    string
		Labels     map[string]string `gorm:"serializer:json"`
		Status     string
		JoinedAt   int64
		Attributes layering.Settings `gorm:"serializer:json"`
	}
	credentialRow struct {
		ID        string `gorm:"primaryKey"`
		Device    string `gorm:"index"`
		Hash      []byte
		CreatedAt int64 `gorm:"autoCreateTime:false"`
		RevokedAt int64
	}
	settingRow struct {
		Device          string `gorm:"primaryKey"`
		Revision        int64
		First           int64
		Earlier         []settings.Span   `gorm:"serializer:json"`
		Override        layering.Settings `gorm:"serializer:json"`
		Intended        layering.Settings `gorm:"serializer:json"`
		IntendedAt      int64
		OverriddenBy    map[string]settings.Overridden `gorm:"serializer:json"`
		AppliedRevision int64
		Applied         layering.Settings `gorm:"serializer:json"`
		AppliedAt       int64
		Refused         map[string]string `gorm:"serializer:json"`
		DriftSince      int64
	}
	ruleRow struct {
		Name   string `gorm:"primaryKey"`
		Source []byte
	}
	alarmRow struct {
		ID             string `gorm:"primaryKey"`
		Rule           string
		Device         string `gorm:"index"`
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
	}
	detectionRow struct {
		Rule     string             `gorm:"primaryKey"`
		Device   string             `gorm:"primaryKey"`
		Detector lifecycle.Detector `gorm:"serializer:json"`
	}
	factRow struct {
		Number  int64  `gorm:"primaryKey;autoIncrement:false"`
		At      int64  `gorm:"autoCreateTime:false"`
		Kind    string `gorm:"index"`
		Device  string `gorm:"index:,where:device <> ''"`
		Group   string `gorm:"column:of_group"`
		Alarm   string `gorm:"index:,where:alarm <> ''"`
		Rule    string `gorm:"index:,where:rule <> ''"`
		Person  string `gorm:"index:,where:person <> ''"`
		Content []byte
	}
	// validityRow says what something was from a time on, until the next row of
	// the same kind, subject and key; an empty value that it was over.
	validityRow struct {
		Kind    string `gorm:"primaryKey"`
		Subject string `gorm:"primaryKey"`
		Key     string `gorm:"primaryKey"`
		From    int64  `gorm:"primaryKey;autoIncrement:false;column:since"`
		Value   string
	}
	jobRow struct {
		ID  string       `gorm:"primaryKey"`
		Job settings.Job `gorm:"serializer:json"`
	}
	progressRow struct {
		Job    string `gorm:"primaryKey"`
		Done   int
		Failed int
	}
	commandRow struct {
		ID      string `gorm:"primaryKey"`
		Device  string `gorm:"index"`
		Name    string
		Input   []byte
		By      string
		Phase   string `gorm:"index"`
		At      int64
		Expires int64
		SentAt  int64
		EndedAt int64
		Output  []byte
		Error   string
	}
	personRow struct {
		Name      string `gorm:"primaryKey"`
		Salt      []byte
		Hash      []byte
		CreatedAt int64 `gorm:"autoCreateTime:false"`
	}
	sessionRow struct {
		Hash      []byte `gorm:"primaryKey"`
		Person    string
		Label     string
		CreatedAt int64 `gorm:"autoCreateTime:false"`
		ExpiresAt int64
	}
)

func (storeRow) TableName() string      { return "store" }
func (modelRow) TableName() string      { return "model_versions" }
func (deviceRow) TableName() string     { return "devices" }
func (credentialRow) TableName() string { return "credentials" }
func (settingRow) TableName() string    { return "settings" }
func (ruleRow) TableName() string       { return "rules" }
func (alarmRow) TableName() string      { return "alarms" }
func (detectionRow) TableName() string  { return "detections" }
func (factRow) TableName() string       { return "facts" }
func (validityRow) TableName() string   { return "validity" }
func (jobRow) TableName() string        { return "setting_jobs" }
func (progressRow) TableName() string   { return "setting_job_progress" }
func (commandRow) TableName() string    { return "commands" }
func (personRow) TableName() string     { return "people" }
func (sessionRow) TableName() string    { return "sessions" }

func openRecords(path string, o Options) (*Records, error) {
	pragmas := url.Values{}
	if o.MaxRecordBytes > 0 {
		pragmas.Add("_pragma", fmt.Sprintf("max_page_count(%d)", max(o.MaxRecordBytes/4096, 1)))
	}
	db, err := openDatabase(path, pragmas, recordMigrations)
	if err != nil {
		return nil, err
	}
	r := &Records{db: db}
	return r, r.resume()
}

func (r *Records) close() error { return r.db.close() }

// ms and at turn times into milliseconds and back; the zero time is 0.
func ms(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func at(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return value.FromMillis(ms)
}

// listOf writes ids as one parameter, so that a list of any length is one
// prepared statement.
func listOf(ids []string) string {
	b, err := json.Marshal(ids)
	if err != nil {
		return "[]"
	}
	return string(b)
}

// all reads every row of a table.
func all[Row any](ctx context.Context, r *Records) ([]Row, error) {
	var rows []Row
	err := r.db.read.WithContext(ctx).Find(&rows).Error
	return rows, translate(err)
}

// convert applies f to each element.
func convert[A, B any](in []A, err error, f func(A) B) ([]B, error) {
	if err != nil {
		return nil, err
	}
	out := make([]B, len(in))
	for i, a := range in {
		out[i] = f(a)
	}
	return out, nil
}

// Models implements models.Records.
func (r *Records) Models(ctx context.Context) ([]models.Record, error) {
	rows, err := all[modelRow](ctx, r)
	return convert(rows, err, func(x modelRow) models.Record {
		return models.Record{Name: x.Name, Version: x.Version, Source: x.Source, Parts: x.Parts, LoadedAt: at(x.LoadedAt)}
	})
}

// Devices implements devices.Records.
func (r *Records) Devices(ctx context.Context) ([]devices.Device, error) {
	rows, err := all[deviceRow](ctx, r)
	return convert(rows, err, func(x deviceRow) devices.Device {
		return devices.Device{ID: x.ID, Model: x.Model, Version: x.Version, Labels: x.Labels, Status: devices.Status(x.Status),
			JoinedAt: at(x.JoinedAt), Attributes: x.Attributes}
	})
}

// Credentials implements devices.Records.
func (r *Records) Credentials(ctx context.Context) ([]devices.Credential, error) {
	rows, err := all[credentialRow](ctx, r)
	return convert(rows, err, func(x credentialRow) devices.Credential {
		c := devices.Credential{ID: x.ID, Device: x.Device, CreatedAt: at(x.CreatedAt), RevokedAt: at(x.RevokedAt)}
		copy(c.Hash[:], x.Hash)
		return c
	})
}

// Epoch returns the upper part of the revisions that are made from now on: 0 for
// a store that was never restored, else when it was, in 64ths of a second since
// 2026. Restoring the same backup twice gives two epochs, which a count kept in
// the backup could not.
func (r *Records) Epoch(ctx context.Context) (int64, error) {
	var row storeRow
	err := r.db.read.WithContext(ctx).Limit(1).Find(&row).Error
	return row.Epoch, translate(err)
}

// beginEpoch makes the store another one than that of the backup it came from.
func (r *Records) beginEpoch(ctx context.Context) error {
	old, err := r.Epoch(ctx)
	if err != nil {
		return err
	}
	now := time.Since(firstEpoch) / epochTick
	time.Sleep(epochTick) // so that whoever restores next gets another one
	return translate(r.db.write.WithContext(ctx).Model(&storeRow{}).Where("id = 1").Update("epoch", max(old+1, int64(now))).Error)
}

var firstEpoch = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

const epochTick = time.Second / 64

// SettingStates implements settings.Records.
func (r *Records) SettingStates(ctx context.Context) ([]settings.State, error) {
	rows, err := all[settingRow](ctx, r)
	return convert(rows, err, func(x settingRow) settings.State {
		return settings.State{Device: x.Device, Revision: x.Revision, First: x.First, Earlier: x.Earlier, Override: x.Override, Intended: x.Intended,
			IntendedAt: at(x.IntendedAt), OverriddenBy: x.OverriddenBy, AppliedRevision: x.AppliedRevision, Applied: x.Applied, AppliedAt: at(x.AppliedAt),
			Refused: x.Refused, DriftSince: at(x.DriftSince)}
	})
}

// Jobs implements settings.Records.
func (r *Records) Jobs(ctx context.Context) ([]settings.Job, error) {
	come, err := all[progressRow](ctx, r)
	if err != nil {
		return nil, err
	}
	rows, err := all[jobRow](ctx, r)
	return convert(rows, err, func(x jobRow) settings.Job {
		for _, p := range come {
			if p.Job == x.ID {
				x.Job.Done, x.Job.Failed = p.Done, p.Failed
			}
		}
		return x.Job
	})
}

// Rules implements alarms.Records.
func (r *Records) Rules(ctx context.Context) ([]rule.Rule, error) {
	rows, err := all[ruleRow](ctx, r)
	if err != nil {
		return nil, err
	}
	out := make([]rule.Rule, len(rows))
	for i, x := range rows {
		if err := json.Unmarshal(x.Source, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Alarms implements alarms.Records.
func (r *Records) Alarms(ctx context.Context, f alarms.Filter) ([]alarms.Alarm, error) {
	q := r.db.read.WithContext(ctx).Order("id DESC")
	if f.ID != "" {
		q = q.Where("id = ?", f.ID)
	}
	if f.Device != "" {
		q = q.Where("device = ?", f.Device)
	}
	if f.Among != nil {
		q = q.Where("device IN (SELECT value FROM json_each(?))", listOf(f.Among))
	}
	if f.Open {
		q = q.Where("state <> ?", string(lifecycle.Normal))
	}
	if f.Before != "" {
		q = q.Where("id < ?", f.Before)
	}
	if f.Limit > 0 {
		q = q.Limit(f.Limit)
	}
	var rows []alarmRow
	err := q.Find(&rows).Error
	return convert(rows, translate(err), func(x alarmRow) alarms.Alarm {
		device, group := x.Device, ""
		if strings.Contains(device, "=") { // a group; ids of devices have none
			device, group = "", x.Device
		}
		return alarms.Alarm{ID: x.ID, Rule: x.Rule, Device: device, Group: group, Priority: rule.Priority(x.Priority), State: lifecycle.State(x.State),
			Message: x.Message, Cause: x.Cause, Response: x.Response, Metric: x.Metric, Value: x.Value, Limit: x.Limit, Times: x.Times,
			RaisedAt: at(x.RaisedAt), ReturnedAt: at(x.ReturnedAt), AcknowledgedAt: at(x.AcknowledgedAt), AcknowledgedBy: x.AcknowledgedBy}
	})
}

// Detections implements alarms.Records.
func (r *Records) Detections(ctx context.Context) ([]alarms.Detection, error) {
	rows, err := all[detectionRow](ctx, r)
	return convert(rows, err, func(x detectionRow) alarms.Detection { return alarms.Detection(x) })
}

// Commands implements commands.Records.
func (r *Records) Commands(ctx context.Context, f commands.Filter) ([]commands.Command, error) {
	q := r.db.read.WithContext(ctx).Order("id DESC")
	if f.ID != "" {
		q = q.Where("id = ?", f.ID)
	}
	if f.Device != "" {
		q = q.Where("device = ?", f.Device)
	}
	if f.Among != nil {
		q = q.Where("device IN (SELECT value FROM json_each(?))", listOf(f.Among))
	}
	if f.Open {
		q = q.Where("phase IN ?", []string{string(commands.Waiting), string(commands.Sent)})
	}
	if f.Before != "" {
		q = q.Where("id < ?", f.Before)
	}
	if f.Limit > 0 {
		q = q.Limit(f.Limit)
	}
	var rows []commandRow
	err := q.Find(&rows).Error
	return convert(rows, translate(err), func(x commandRow) commands.Command {
		return commands.Command{ID: x.ID, Device: x.Device, Name: x.Name, Input: x.Input, By: x.By, Phase: commands.Phase(x.Phase),
			At: at(x.At), Expires: at(x.Expires), SentAt: at(x.SentAt), EndedAt: at(x.EndedAt), Output: x.Output, Error: x.Error}
	})
}

// People implements people.Records.
func (r *Records) People(ctx context.Context) ([]people.Person, error) {
	rows, err := all[personRow](ctx, r)
	return convert(rows, err, func(x personRow) people.Person {
		return people.Person{Name: x.Name, Salt: x.Salt, Hash: x.Hash, CreatedAt: at(x.CreatedAt)}
	})
}

// Sessions implements people.Records.
func (r *Records) Sessions(ctx context.Context) ([]people.Session, error) {
	rows, err := all[sessionRow](ctx, r)
	return convert(rows, err, func(x sessionRow) people.Session {
		s := people.Session{Person: x.Person, Label: x.Label, CreatedAt: at(x.CreatedAt), ExpiresAt: at(x.ExpiresAt)}
		copy(s.Hash[:], x.Hash)
		return s
	})
}
