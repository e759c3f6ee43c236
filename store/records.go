package store

import (
	"crypto/sha256"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"ullage/core/layering"
	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/alarms"
	"ullage/fleet/commands"
	"ullage/fleet/devices"
	"ullage/fleet/journal"
	"ullage/fleet/models"
	"ullage/fleet/people"
	"ullage/fleet/settings"
)

// Records is records.db. Its methods are the Records interfaces of the fleet
// packages; each is one transaction.
type Records struct{ db database }

var recordMigrations = []*gormigrate.Migration{{
	ID: "1",
	Migrate: func(tx *gorm.DB) error {
		return tx.AutoMigrate(&modelRow{}, &deviceRow{}, &credentialRow{}, &settingRow{}, &ruleRow{}, &alarmRow{}, &detectionRow{},
			&journalRow{}, &commandRow{}, &personRow{}, &sessionRow{}, &storeRow{})
	},
}}

// The rows stand in the shape of version 1; later shapes get a migration each.
type (
	// storeRow is about the store itself; there is one.
	storeRow struct {
		ID    int64 `gorm:"primaryKey"`
		Epoch int64 // of revisions of settings; see Records.Epoch
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
	journalRow struct {
		ID     string `gorm:"primaryKey"`
		At     int64
		Kind   string
		Device string `gorm:"index"`
		Person string
		Text   string
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
func (journalRow) TableName() string    { return "journal" }
func (commandRow) TableName() string    { return "commands" }
func (personRow) TableName() string     { return "people" }
func (sessionRow) TableName() string    { return "sessions" }

func openRecords(path string) (*Records, error) {
	db, err := openDatabase(path, nil, recordMigrations)
	return &Records{db}, err
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

// save writes rows, replacing those with the same key, and journal entries, in
// one transaction.
func (r *Records) save(entries []journal.Entry, rows ...any) error {
	return translate(r.db.write.Transaction(func(tx *gorm.DB) error {
		for _, row := range rows {
			if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(row).Error; err != nil {
				return err
			}
		}
		return addJournal(tx, entries)
	}))
}

func addJournal(tx *gorm.DB, entries []journal.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	rows := make([]journalRow, len(entries))
	for i, e := range entries {
		rows[i] = journalRow{e.ID, ms(e.At), string(e.Kind), e.Device, e.Person, e.Text}
	}
	return tx.CreateInBatches(rows, 500).Error
}

// all reads every row of a table.
func all[Row any](r *Records) ([]Row, error) {
	var rows []Row
	err := r.db.read.Find(&rows).Error
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

// SaveModel implements models.Records.
func (r *Records) SaveModel(m models.Record, e journal.Entry) error {
	return r.save([]journal.Entry{e}, rowOfModel(m))
}

func rowOfModel(m models.Record) *modelRow {
	return &modelRow{m.Name, m.Version, m.Source, m.Parts, ms(m.LoadedAt)}
}

// SaveFolder implements folder.Records.
func (r *Records) SaveFolder(ms []models.Record, rs []rule.Rule, es []journal.Entry) error {
	var rows []any
	for _, m := range ms {
		rows = append(rows, rowOfModel(m))
	}
	for _, x := range rs {
		b, err := json.Marshal(x)
		if err != nil {
			return err
		}
		rows = append(rows, &ruleRow{x.Name, b})
	}
	return r.save(es, rows...)
}

// Models implements models.Records.
func (r *Records) Models() ([]models.Record, error) {
	rows, err := all[modelRow](r)
	return convert(rows, err, func(x modelRow) models.Record {
		return models.Record{Name: x.Name, Version: x.Version, Source: x.Source, Parts: x.Parts, LoadedAt: at(x.LoadedAt)}
	})
}

// Devices implements devices.Records.
func (r *Records) Devices() ([]devices.Device, error) {
	rows, err := all[deviceRow](r)
	return convert(rows, err, func(x deviceRow) devices.Device {
		return devices.Device{ID: x.ID, Model: x.Model, Version: x.Version, Labels: x.Labels, Status: devices.Status(x.Status),
			JoinedAt: at(x.JoinedAt), Attributes: x.Attributes}
	})
}

// Credentials implements devices.Records.
func (r *Records) Credentials() ([]devices.Credential, error) {
	rows, err := all[credentialRow](r)
	return convert(rows, err, func(x credentialRow) devices.Credential {
		c := devices.Credential{ID: x.ID, Device: x.Device, CreatedAt: at(x.CreatedAt), RevokedAt: at(x.RevokedAt)}
		copy(c.Hash[:], x.Hash)
		return c
	})
}

// SaveDevice implements devices.Records.
func (r *Records) SaveDevice(d devices.Device, c *devices.Credential, e journal.Entry) error {
	rows := []any{&deviceRow{d.ID, d.Model, d.Version, d.Labels, string(d.Status), ms(d.JoinedAt), d.Attributes}}
	if c != nil {
		rows = append(rows, rowOf(*c))
	}
	return r.save([]journal.Entry{e}, rows...)
}

func rowOf(c devices.Credential) *credentialRow {
	return &credentialRow{c.ID, c.Device, c.Hash[:], ms(c.CreatedAt), ms(c.RevokedAt)}
}

// SaveCredential implements devices.Records.
func (r *Records) SaveCredential(add devices.Credential, revoke []string, e journal.Entry) error {
	return translate(r.db.write.Transaction(func(tx *gorm.DB) error {
		if len(revoke) > 0 {
			if err := tx.Model(&credentialRow{}).Where("id IN ?", revoke).Update("revoked_at", ms(e.At)).Error; err != nil {
				return err
			}
		}
		if err := tx.Create(rowOf(add)).Error; err != nil {
			return err
		}
		return addJournal(tx, []journal.Entry{e})
	}))
}

// SaveAttributes implements devices.Records.
func (r *Records) SaveAttributes(device string, a map[string]value.Value, e *journal.Entry) error {
	b, err := json.Marshal(a)
	if err != nil {
		return err
	}
	return translate(r.db.write.Transaction(func(tx *gorm.DB) error {
		if err := tx.Model(&deviceRow{}).Where("id = ?", device).UpdateColumn("attributes", string(b)).Error; err != nil || e == nil {
			return err
		}
		return addJournal(tx, []journal.Entry{*e})
	}))
}

// Epoch returns the upper part of the revisions that are made from now on: 0 for
// a store that was never restored, else when it was, in 64ths of a second since
// 2026. Restoring the same backup twice gives two epochs, which a count kept in the
// backup could not.
func (r *Records) Epoch() (int64, error) {
	var row storeRow
	err := r.db.read.Limit(1).Find(&row).Error
	return row.Epoch, translate(err)
}

// beginEpoch makes the store another one than that of the backup it came from.
func (r *Records) beginEpoch() error {
	old, err := r.Epoch()
	if err != nil {
		return err
	}
	now := time.Since(firstEpoch) / epochTick
	time.Sleep(epochTick) // so that whoever restores next gets another one
	return r.save(nil, &storeRow{1, max(old+1, int64(now))})
}

var firstEpoch = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

const epochTick = time.Second / 64

// SettingStates implements settings.Records.
func (r *Records) SettingStates() ([]settings.State, error) {
	rows, err := all[settingRow](r)
	return convert(rows, err, func(x settingRow) settings.State {
		return settings.State{Device: x.Device, Revision: x.Revision, First: x.First, Earlier: x.Earlier, Override: x.Override, Intended: x.Intended, IntendedAt: at(x.IntendedAt),
			OverriddenBy: x.OverriddenBy, AppliedRevision: x.AppliedRevision, Applied: x.Applied, AppliedAt: at(x.AppliedAt),
			Refused: x.Refused, DriftSince: at(x.DriftSince)}
	})
}

// SaveSettings implements settings.Records.
func (r *Records) SaveSettings(s settings.State, entries ...journal.Entry) error {
	return r.save(entries, &settingRow{s.Device, s.Revision, s.First, s.Earlier, s.Override, s.Intended, ms(s.IntendedAt), s.OverriddenBy,
		s.AppliedRevision, s.Applied, ms(s.AppliedAt), s.Refused, ms(s.DriftSince)})
}

// SaveRule implements alarms.Records.
func (r *Records) SaveRule(x rule.Rule, e journal.Entry) error {
	b, err := json.Marshal(x)
	if err != nil {
		return err
	}
	return r.save([]journal.Entry{e}, &ruleRow{x.Name, b})
}

// DeleteRule implements alarms.Records.
func (r *Records) DeleteRule(name string, e journal.Entry) error {
	return translate(r.db.write.Transaction(func(tx *gorm.DB) error {
		if err := tx.Delete(&ruleRow{}, "name = ?", name).Error; err != nil {
			return err
		}
		if err := tx.Delete(&detectionRow{}, "rule = ?", name).Error; err != nil {
			return err
		}
		return addJournal(tx, []journal.Entry{e})
	}))
}

// Rules implements alarms.Records.
func (r *Records) Rules() ([]rule.Rule, error) {
	rows, err := all[ruleRow](r)
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

// SaveAlarms implements alarms.Records.
func (r *Records) SaveAlarms(as []alarms.Alarm, ds []alarms.Detection, es []journal.Entry) error {
	// A batch may hold the same key twice; the last one stands.
	rows := map[string]alarmRow{}
	for _, a := range as {
		rows[a.ID] = alarmRow{a.ID, a.Rule, a.Subject(), string(a.Priority), string(a.State), a.Message, a.Cause, a.Response,
			a.Metric, a.Value, a.Limit, a.Times, ms(a.RaisedAt), ms(a.ReturnedAt), ms(a.AcknowledgedAt), a.AcknowledgedBy}
	}
	type key struct{ rule, device string }
	detections := map[key]detectionRow{}
	for _, d := range ds {
		detections[key{d.Rule, d.Device}] = detectionRow{d.Rule, d.Device, d.Detector}
	}
	return translate(r.db.write.Transaction(func(tx *gorm.DB) error {
		if len(rows) > 0 {
			list := make([]alarmRow, 0, len(rows))
			for _, x := range rows {
				list = append(list, x)
			}
			if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(list, 200).Error; err != nil {
				return err
			}
		}
		if len(detections) > 0 {
			list := make([]detectionRow, 0, len(detections))
			for _, x := range detections {
				list = append(list, x)
			}
			if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(list, 500).Error; err != nil {
				return err
			}
		}
		return addJournal(tx, es)
	}))
}

// Alarms implements alarms.Records.
func (r *Records) Alarms(f alarms.Filter) ([]alarms.Alarm, error) {
	q := r.db.read.Order("id DESC")
	if f.ID != "" {
		q = q.Where("id = ?", f.ID)
	}
	if f.Device != "" {
		q = q.Where("device = ?", f.Device)
	}
	if f.Among != nil {
		q = q.Where("device IN ?", f.Among)
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
func (r *Records) Detections() ([]alarms.Detection, error) {
	rows, err := all[detectionRow](r)
	return convert(rows, err, func(x detectionRow) alarms.Detection { return alarms.Detection(x) })
}

// AppendJournal implements journal.Records.
func (r *Records) AppendJournal(es ...journal.Entry) error { return r.save(es) }

// Journal implements journal.Records; the newest entry comes first.
func (r *Records) Journal(f journal.Filter) ([]journal.Entry, error) {
	q := r.db.read.Order("id DESC")
	if f.Device != "" {
		q = q.Where("device = ?", f.Device)
	}
	if f.Among != nil {
		q = q.Where("device IN ?", f.Among)
	}
	if f.Kind != "" {
		q = q.Where("kind = ?", string(f.Kind))
	}
	if f.Before != "" {
		q = q.Where("id < ?", f.Before)
	}
	if f.Limit > 0 {
		q = q.Limit(f.Limit)
	}
	var rows []journalRow
	err := q.Find(&rows).Error
	return convert(rows, translate(err), func(x journalRow) journal.Entry {
		return journal.Entry{ID: x.ID, At: at(x.At), Kind: journal.Kind(x.Kind), Device: x.Device, Person: x.Person, Text: x.Text}
	})
}

// SaveCommands implements commands.Records.
func (r *Records) SaveCommands(cs []commands.Command, es ...journal.Entry) error {
	rows := make([]any, len(cs))
	for i, c := range cs {
		rows[i] = &commandRow{c.ID, c.Device, c.Name, c.Input, c.By, string(c.Phase), ms(c.At), ms(c.Expires), ms(c.SentAt), ms(c.EndedAt), c.Output, c.Error}
	}
	return r.save(es, rows...)
}

// Commands implements commands.Records.
func (r *Records) Commands(f commands.Filter) ([]commands.Command, error) {
	q := r.db.read.Order("id DESC")
	if f.ID != "" {
		q = q.Where("id = ?", f.ID)
	}
	if f.Device != "" {
		q = q.Where("device = ?", f.Device)
	}
	if f.Among != nil {
		q = q.Where("device IN ?", f.Among)
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
func (r *Records) People() ([]people.Person, error) {
	rows, err := all[personRow](r)
	return convert(rows, err, func(x personRow) people.Person {
		return people.Person{Name: x.Name, Salt: x.Salt, Hash: x.Hash, CreatedAt: at(x.CreatedAt)}
	})
}

// SavePerson implements people.Records.
func (r *Records) SavePerson(p people.Person, e journal.Entry) error {
	return r.save([]journal.Entry{e}, &personRow{p.Name, p.Salt, p.Hash, ms(p.CreatedAt)})
}

// Sessions implements people.Records.
func (r *Records) Sessions() ([]people.Session, error) {
	rows, err := all[sessionRow](r)
	return convert(rows, err, func(x sessionRow) people.Session {
		s := people.Session{Person: x.Person, Label: x.Label, CreatedAt: at(x.CreatedAt), ExpiresAt: at(x.ExpiresAt)}
		copy(s.Hash[:], x.Hash)
		return s
	})
}

// SaveSession implements people.Records.
func (r *Records) SaveSession(s people.Session, e journal.Entry) error {
	return r.save([]journal.Entry{e}, &sessionRow{s.Hash[:], s.Person, s.Label, ms(s.CreatedAt), ms(s.ExpiresAt)})
}

// DeleteSession implements people.Records.
func (r *Records) DeleteSession(hash [sha256.Size]byte) error {
	return translate(r.db.write.Where("hash = ?", slices.Clone(hash[:])).Delete(&sessionRow{}).Error)
}
