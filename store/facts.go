package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"ullage/core/health"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/fact"
)

type factRow struct {
	Number  int64  `gorm:"primaryKey;autoIncrement:false"`
	At      int64  `gorm:"autoCreateTime:false"`
	Kind    string `gorm:"index"`
	Device  string `gorm:"index:,where:device <> ''"`
	Group   string `gorm:"column:of_group"`
	Alarm   string `gorm:"index:,where:alarm <> ''"`
	Rule    string `gorm:"index:,where:rule <> ''"`
	Person  string `gorm:"index:,where:person <> ''"`
	Address string `gorm:"not null;default:''"`
	Content []byte
}

// validityRow says what something was from a time on, until the next row of
// the same kind, subject and key; an empty value that it was over.
type validityRow struct {
	Kind    string `gorm:"primaryKey"`
	Subject string `gorm:"primaryKey"`
	Key     string `gorm:"primaryKey"`
	From    int64  `gorm:"primaryKey;autoIncrement:false;column:since"`
	Value   string
}

func (factRow) TableName() string     { return "facts" }
func (validityRow) TableName() string { return "validity" }

func (x *factRow) fact() fact.Fact {
	return fact.Fact{Number: x.Number, At: at(x.At), Kind: fact.Kind(x.Kind), Device: x.Device, Group: x.Group,
		Alarm: x.Alarm, Rule: x.Rule, Person: x.Person, From: x.Address, Content: x.Content}
}

// Facts implements fact.Log; the newest comes first.
func (r *Records) Facts(ctx context.Context, f fact.Filter) ([]fact.Fact, error) {
	q := r.db.read.WithContext(ctx).Order("number DESC")
	for column, v := range map[string]string{"device": f.Device, "alarm": f.Alarm, "rule": f.Rule, "person": f.Person,
		"kind": string(f.Kind)} {
		if v != "" {
			q = q.Where(column+" = ?", v)
		}
	}
	if f.Among != nil {
		q = q.Where("device IN (SELECT value FROM json_each(?))", listOf(f.Among))
	}
	if f.Rollout != "" {
		q = q.Where("kind = ? AND instr(CAST(content AS TEXT), ?) > 0", string(fact.RolloutGoesOn), fmt.Sprintf(`"rollout":%q`, f.Rollout))
	}
	if f.Noun != "" {
		q = q.Where("substr(kind, 1, ?) = ?", len(f.Noun)+1, f.Noun+" ")
	}
	if !f.Since.IsZero() {
		q = q.Where("at >= ?", ms(f.Since))
	}
	if !f.Until.IsZero() {
		q = q.Where("at < ?", ms(f.Until))
	}
	if f.Before > 0 {
		q = q.Where("number < ?", f.Before)
	}
	if f.Limit > 0 {
		q = q.Limit(f.Limit)
	}
	var rows []factRow
	err := q.Find(&rows).Error
	return convert(rows, translate(err), func(x factRow) fact.Fact { return x.fact() })
}

// FactsAfter implements fact.Log.
func (r *Records) FactsAfter(ctx context.Context, number int64, limit int, among []string) ([]fact.Fact, error) {
	var rows []factRow
	var store storeRow
	// In one transaction, so that what is deleted meanwhile is not overlooked.
	err := r.db.read.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.First(&store).Error; err != nil || number < store.Floor {
			return err
		}
		q := tx.Where("number > ?", number).Order("number").Limit(limit)
		if among != nil {
			q = q.Where("device IN (SELECT value FROM json_each(?))", listOf(among))
		}
		return q.Find(&rows).Error
	})
	if err == nil && number < store.Floor {
		return nil, &fact.Gone{First: store.Floor}
	}
	return convert(rows, translate(err), func(x factRow) fact.Fact { return x.fact() })
}

// ForgetFacts deletes facts of a kind that are older than a time; of every kind
// where it is empty. It returns how many.
func (r *Records) ForgetFacts(ctx context.Context, kind fact.Kind, before time.Time) (int64, error) {
	n := int64(0)
	err := r.db.write.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		old := func() *gorm.DB {
			q := tx.Model(&factRow{}).Where("at < ?", ms(before))
			if kind != "" {
				q = q.Where("kind = ?", string(kind))
			}
			return q
		}
		var newest int64
		if err := old().Select("coalesce(max(number), 0)").Scan(&newest).Error; err != nil || newest == 0 {
			return err
		}
		if err := tx.Model(&storeRow{}).Where("id = 1 AND floor < ?", newest).Update("floor", newest).Error; err != nil {
			return err
		}
		d := old().Delete(&factRow{})
		n = d.RowsAffected
		return d.Error
	})
	return n, translate(err)
}

// CapFacts deletes the oldest facts so that so many are kept at most, some at a
// time, and returns how many went.
func (r *Records) CapFacts(ctx context.Context, keep int64) (int64, error) {
	const slice = 2000
	gone := int64(0)
	for {
		n := int64(0)
		err := r.db.write.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			var from, to int64
			if err := tx.Model(&factRow{}).Select("coalesce(min(number), 0), coalesce(max(number), 0)").
				Row().Scan(&from, &to); err != nil {
				return err
			}
			floor := min(to-keep, from+slice)
			if from == 0 || floor < from {
				return nil
			}
			if err := tx.Model(&storeRow{}).Where("id = 1 AND floor < ?", floor).Update("floor", floor).Error; err != nil {
				return err
			}
			d := tx.Where("number <= ?", floor).Delete(&factRow{})
			n = d.RowsAffected
			return d.Error
		})
		if gone += n; err != nil || n == 0 {
			return gone, translate(err)
		}
	}
}

// ForgetValidity deletes what was over before a time.
func (r *Records) ForgetValidity(ctx context.Context, before time.Time) (int64, error) {
	d := r.db.write.WithContext(ctx).Exec(`DELETE FROM validity WHERE since < ?1 AND EXISTS (SELECT 1 FROM validity AS later
		WHERE later.kind = validity.kind AND later.subject = validity.subject AND later.key = validity.key AND later.since > validity.since AND later.since <= ?1)`, ms(before))
	return d.RowsAffected, translate(d.Error)
}

// AsOf returns what was so at a time: one row for each kind, subject and key that
// had a value then. An empty subject asks for all.
func (r *Records) AsOf(ctx context.Context, subject string, when time.Time) ([]commit.Validity, error) {
	q := r.db.read.WithContext(ctx).Model(&validityRow{}).Select("kind, subject, key, max(since) AS since, value").
		Where("since <= ?", ms(when))
	if subject != "" {
		q = q.Where("subject = ?", subject)
	}
	var rows []validityRow
	if err := q.Group("kind, subject, key").Find(&rows).Error; err != nil {
		return nil, translate(err)
	}
	out := make([]commit.Validity, 0, len(rows))
	for _, x := range rows {
		if x.Value != "" {
			out = append(out, commit.Validity{Kind: commit.ValidityKind(x.Kind), Subject: x.Subject, Key: x.Key,
				From: at(x.From), Value: x.Value})
		}
	}
	return out, nil
}

// Since returns what everything of a kind was at a time, and every change of it after that.
func (r *Records) Since(ctx context.Context, kind commit.ValidityKind, from time.Time) ([]commit.Validity, error) {
	var rows []validityRow
	err := r.db.read.WithContext(ctx).Raw(`SELECT kind, subject, key, max(since) AS since, value FROM validity WHERE kind = ?1 AND since <= ?2 GROUP BY kind, subject, key
		UNION ALL SELECT kind, subject, key, since, value FROM validity WHERE kind = ?1 AND since > ?2`, string(kind), ms(from)).Scan(&rows).Error
	return convert(rows, translate(err), func(x validityRow) commit.Validity {
		return commit.Validity{Kind: kind, Subject: x.Subject, Key: x.Key, From: at(x.From), Value: x.Value}
	})
}

// First returns when each subject had something of a kind for the first time that is kept.
func (r *Records) First(ctx context.Context, kind commit.ValidityKind) (map[string]time.Time, error) {
	var rows []validityRow
	err := r.db.read.WithContext(ctx).Model(&validityRow{}).Select("subject, min(since) AS since").
		Where("kind = ?", string(kind)).Group("subject").Find(&rows).Error
	out := make(map[string]time.Time, len(rows))
	for _, x := range rows {
		out[x.Subject] = at(x.From)
	}
	return out, translate(err)
}

// Validity returns the changes of one kind of a subject, in order.
func (r *Records) Validity(ctx context.Context, kind commit.ValidityKind, subject string) ([]commit.Validity, error) {
	var rows []validityRow
	err := r.db.read.WithContext(ctx).Where("kind = ? AND subject = ?", string(kind), subject).Order("since").
		Find(&rows).Error
	return convert(rows, translate(err), func(x validityRow) commit.Validity {
		return commit.Validity{Kind: kind, Subject: subject, Key: x.Key, From: at(x.From), Value: x.Value}
	})
}

// Links implements present.Records.
func (r *Records) Links(ctx context.Context) (map[string]health.Link, error) {
	var rows []validityRow
	err := r.db.read.WithContext(ctx).Model(&validityRow{}).Select("subject, max(since) AS since, value").
		Where("kind = ?", string(commit.Link)).Group("subject").Find(&rows).Error
	out := make(map[string]health.Link, len(rows))
	for _, x := range rows {
		out[x.Subject] = health.Link(x.Value)
	}
	return out, translate(err)
}

// SettingsAsOf implements alarms.Records.
func (r *Records) SettingsAsOf(ctx context.Context, device string, when time.Time) (map[string]value.Value, error) {
	var rows []validityRow
	err := r.db.read.WithContext(ctx).Model(&validityRow{}).Select("key, max(since) AS since, value").
		Where("kind = ? AND subject = ? AND since <= ?", string(commit.Setting), device, ms(when)).Group("key").
		Find(&rows).Error
	out := map[string]value.Value{}
	for _, x := range rows {
		var v value.Value
		if json.Unmarshal([]byte(x.Value), &v) == nil {
			out[x.Key] = v
		}
	}
	return out, translate(err)
}

// SettingsChangedSince implements alarms.Records.
func (r *Records) SettingsChangedSince(ctx context.Context, when time.Time) (map[string]bool, error) {
	var ids []string
	err := r.db.read.WithContext(ctx).Model(&validityRow{}).Where("kind = ? AND since > ?", string(commit.Setting),
		ms(when)).Distinct().Pluck("subject", &ids).Error
	out := make(map[string]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, translate(err)
}
