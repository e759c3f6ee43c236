package store

import (
	"encoding/json"
	"fmt"
	"runtime"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"ullage/core/rule"
	"ullage/fleet/alarms"
	"ullage/fleet/commands"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/models"
	"ullage/fleet/people"
	"ullage/fleet/settings"
)

// atOnce is how many rows one statement writes. There are few sizes, so that the
// statements stay prepared whatever number of rows a commit comes to.
var atOnce = []int{16, 4, 1}

func insert[Row any](tx *gorm.DB, rows []Row) error {
	for _, n := range atOnce {
		for ; len(rows) >= n; rows = rows[n:] {
			if err := tx.Create(rows[:n]).Error; err != nil {
				return err
			}
			runtime.Gosched() // readings that have come meanwhile go first
		}
	}
	return nil
}

// pending gathers the rows of one table, of which the last one of a key stands.
type pending[Key comparable, Row any] struct {
	rows  []Row
	place map[Key]int
}

func (p *pending[Key, Row]) put(k Key, row Row) {
	if p.place == nil {
		p.place = map[Key]int{}
	}
	if i, ok := p.place[k]; ok {
		p.rows[i] = row
		return
	}
	p.place[k] = len(p.rows)
	p.rows = append(p.rows, row)
}

func (p *pending[Key, Row]) write(tx *gorm.DB) error {
	if len(p.rows) == 0 {
		return nil // a statement of GORM costs memory before it does anything
	}
	return insert(tx.Clauses(clause.OnConflict{UpdateAll: true}), p.rows)
}

type detectionKey struct{ rule, device string }

type modelKey struct{ name, version string }

// rows are what a commit writes.
type rows struct {
	models      pending[modelKey, modelRow]
	devices     pending[string, deviceRow]
	credentials pending[string, credentialRow]
	settings    pending[string, settingRow]
	jobs        pending[string, jobRow]
	progress    pending[string, progressRow]
	rules       pending[string, ruleRow]
	alarms      pending[string, alarmRow]
	detections  pending[detectionKey, detectionRow]
	commands    pending[string, commandRow]
	people      pending[string, personRow]
	sessions    pending[[32]byte, sessionRow]
	facts       []factRow
	validity    pending[validityKey, validityRow]
	deletes     []func(*gorm.DB) error
}

type validityKey struct {
	kind, subject, key string
	from               int64
}

// Commit implements commit.Store: everything in one transaction, facts numbered
// in their order.
func (r *Records) Commit(txs []*commit.Tx) error {
	var w rows
	number, written := r.number, map[subject]int64{}
	for _, tx := range txs {
		for _, x := range tx.Records {
			if err := w.add(x); err != nil {
				return err
			}
		}
		for i := range tx.Facts {
			f := &tx.Facts[i]
			number++
			f.Number = number
			w.facts = append(w.facts, factRow{number, ms(f.At), string(f.Kind), f.Device, f.Group, f.Alarm, f.Rule, f.Person, f.Content})
		}
	}
	err := r.db.write.Transaction(func(tx *gorm.DB) error {
		for _, t := range txs {
			for _, v := range t.Validity {
				from, err := r.newest.after(tx, written, v)
				if err != nil {
					return err
				}
				w.validity.put(validityKey{string(v.Kind), v.Subject, v.Key, from}, validityRow{string(v.Kind), v.Subject, v.Key, from, v.Value})
			}
		}
		for _, f := range w.deletes {
			if err := f(tx); err != nil {
				return err
			}
		}
		for _, write := range []func(*gorm.DB) error{w.models.write, w.devices.write, w.credentials.write, w.settings.write, w.jobs.write, w.progress.write, w.rules.write,
			w.alarms.write, w.detections.write, w.commands.write, w.people.write, w.sessions.write, w.validity.write} {
			if err := write(tx); err != nil {
				return err
			}
		}
		return insert(tx, w.facts)
	})
	if err == nil {
		r.number = number
		r.newest.note(written)
	}
	return translate(err)
}

// add turns a record into a row.
func (w *rows) add(x any) error {
	switch x := x.(type) {
	case models.Record:
		w.models.put(modelKey{x.Name, x.Version}, modelRow{x.Name, x.Version, x.Source, x.Parts, ms(x.LoadedAt)})
	case devices.Device:
		w.devices.put(x.ID, deviceRow{x.ID, x.Model, x.Version, x.Labels, string(x.Status), ms(x.JoinedAt), x.Attributes})
	case devices.Credential:
		w.credentials.put(x.ID, credentialRow{x.ID, x.Device, x.Hash[:], ms(x.CreatedAt), ms(x.RevokedAt)})
	case settings.State:
		w.settings.put(x.Device, settingRow{x.Device, x.Revision, x.First, x.Earlier, x.Override, x.Intended, ms(x.IntendedAt), x.OverriddenBy,
			x.AppliedRevision, x.Applied, ms(x.AppliedAt), x.Refused, ms(x.DriftSince)})
	case settings.Job:
		w.jobs.put(x.ID, jobRow{x.ID, x})
	case settings.Progress:
		w.progress.put(x.Job, progressRow{x.Job, x.Done, x.Failed})
	case rule.Rule:
		b, err := json.Marshal(x)
		if err != nil {
			return err
		}
		w.rules.put(x.Name, ruleRow{x.Name, b})
	case alarms.Alarm:
		w.alarms.put(x.ID, alarmRow{x.ID, x.Rule, x.Subject(), string(x.Priority), string(x.State), x.Message, x.Cause, x.Response,
			x.Metric, x.Value, x.Limit, x.Times, ms(x.RaisedAt), ms(x.ReturnedAt), ms(x.AcknowledgedAt), x.AcknowledgedBy})
	case alarms.Detection:
		w.detections.put(detectionKey{x.Rule, x.Device}, detectionRow{x.Rule, x.Device, x.Detector})
	case commands.Command:
		w.commands.put(x.ID, commandRow{x.ID, x.Device, x.Name, x.Input, x.By, string(x.Phase), ms(x.At), ms(x.Expires), ms(x.SentAt), ms(x.EndedAt), x.Output, x.Error})
	case people.Person:
		w.people.put(x.Name, personRow{x.Name, x.Salt, x.Hash, ms(x.CreatedAt)})
	case people.Session:
		w.sessions.put(x.Hash, sessionRow{x.Hash[:], x.Person, x.Label, ms(x.CreatedAt), ms(x.ExpiresAt)})
	case commit.Delete:
		return w.remove(x.Record)
	default:
		return fmt.Errorf("the store knows no records of type %T", x)
	}
	return nil
}

// remove takes a record out. What the same commit has put before goes too.
func (w *rows) remove(x any) error {
	del := func(row any, where string, key ...any) {
		w.deletes = append(w.deletes, func(tx *gorm.DB) error { return tx.Where(where, key...).Delete(row).Error })
	}
	switch x := x.(type) {
	case settings.Job:
		w.jobs.drop(x.ID)
		w.progress.drop(x.ID)
		del(&jobRow{}, "id = ?", x.ID)
		del(&progressRow{}, "job = ?", x.ID)
	case rule.Rule:
		w.rules.drop(x.Name)
		del(&ruleRow{}, "name = ?", x.Name)
		del(&detectionRow{}, "rule = ?", x.Name)
	case people.Session:
		w.sessions.drop(x.Hash)
		del(&sessionRow{}, "hash = ?", x.Hash[:])
	default:
		return fmt.Errorf("the store removes no records of type %T", x)
	}
	return nil
}

func (p *pending[Key, Row]) drop(k Key) {
	i, ok := p.place[k]
	if !ok {
		return
	}
	last := len(p.rows) - 1
	for other, at := range p.place {
		if at == last {
			p.place[other] = i
		}
	}
	p.rows[i] = p.rows[last]
	p.rows = p.rows[:last]
	delete(p.place, k)
}

// resume finds where numbering goes on.
func (r *Records) resume() error {
	if err := r.db.write.Clauses(clause.OnConflict{DoNothing: true}).Create(&storeRow{ID: 1}).Error; err != nil {
		return translate(err)
	}
	var row storeRow
	if err := r.db.read.First(&row).Error; err != nil {
		return translate(err)
	}
	if err := r.db.read.Model(&factRow{}).Select("coalesce(max(number), 0)").Scan(&r.number).Error; err != nil {
		return translate(err)
	}
	r.number = max(r.number, row.Floor)
	return translate(r.db.read.Model(&validityRow{}).Select("coalesce(max(since), 0)").Scan(&r.newest.floor).Error)
}
