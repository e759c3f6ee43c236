package store

import (
	"context"
	"fmt"
	"reflect"
	"time"

	"ullage/core/value"
)

// Damage is one thing in a data folder that is not as it was written.
type Damage struct {
	File     string `json:"file"`
	Place    string `json:"place"`    // what it is: a chunk of a series, a commit, a record, the file
	Sentence string `json:"sentence"` // what is wrong, and what is lost by it
	Repaired string `json:"repaired"` // what was done about it; empty for nothing
	// Readings is how many readings are lost by it; 0 where there are none, or it
	// is not known.
	Readings int64 `json:"readings,omitempty"`
	// Since and Until are when they had come, where that is known.
	Since time.Time `json:"since,omitzero"`
	Until time.Time `json:"until,omitzero"`
}

// String names the place and what is wrong with it.
func (d Damage) String() string { return fmt.Sprintf("%s, %s: %s", d.File, d.Place, d.Sentence) }

// SetAside notes that a record cannot be read, so that the service goes on
// without it and says so. The record stays where it is.
func (r *Records) SetAside(noun, name string, why error) {
	d := Damage{File: "records.db", Place: noun + " " + name,
		Sentence: fmt.Sprintf("it cannot be read and is left out: %s", why)}
	r.asideMu.Lock()
	defer r.asideMu.Unlock()
	for _, known := range r.aside {
		if known.Place == d.Place {
			return
		}
	}
	if len(r.aside) < maxAside {
		r.aside = append(r.aside, d)
	}
}

// maxAside bounds the list of records that cannot be read.
const maxAside = 1000

// Damage tells what in the folder was found damaged: commits of readings that
// could not be read back, chunks that were put aside, and records.
func (s *Store) Damage(ctx context.Context) ([]Damage, error) {
	s.asideMu.Lock()
	out := append([]Damage{}, s.aside...)
	s.asideMu.Unlock()
	lost, err := s.Telemetry.lost(ctx)
	if err != nil {
		return out, err
	}
	out = append(out, lost...)
	rows, err := s.Telemetry.read.rows(ctx, "SELECT key FROM damaged ORDER BY key LIMIT 1000")
	if err != nil {
		return out, translate(err)
	}
	defer rows.Close()
	for rows.Next() {
		var key int64
		if err := rows.Scan(&key); err != nil {
			return out, translate(err)
		}
		out = append(out, s.Telemetry.putAside(key))
	}
	return out, translate(rows.Err())
}

// putAside is the damage of a chunk in the table damaged.
func (t *Telemetry) putAside(key int64) Damage {
	return Damage{File: "telemetry.db", Place: t.placeOf(key),
		Sentence: "it could not be read when something was to be merged into it, and was put aside; its readings are lost"}
}

// placeOf names a chunk by its key.
func (t *Telemetry) placeOf(key int64) string {
	return fmt.Sprintf("chunk of %s from %s", t.seriesOf(key),
		value.FromMillis(key&(1<<slotBits-1)*slotMS).Format(time.RFC3339))
}

func (t *Telemetry) seriesOf(key int64) string {
	t.unsealedMu.RLock()
	defer t.unsealedMu.RUnlock()
	if s := t.streams[key>>slotBits]; s != nil {
		return s.metric + " of " + s.device
	}
	return fmt.Sprintf("series %d, which is not known", key>>slotBits)
}

// lostCommit is a record that could not be read back.
func lostCommit(seq, n, since, until int64) Damage {
	d := Damage{File: "telemetry.db", Place: fmt.Sprintf("commit %d", seq), Readings: n, Since: at(since), Until: at(until)}
	switch {
	case n > 0:
		d.Sentence = fmt.Sprintf("it is damaged; up to %s that had come between %s and %s are lost",
			plural(n, "reading"), stamp(d.Since), stamp(d.Until))
	case since > 0:
		d.Sentence = fmt.Sprintf("it is damaged; the readings of it are lost, of which it is only known that they had come between %s and %s",
			stamp(d.Since), stamp(d.Until))
	default:
		d.Sentence = "it is damaged; the readings of it are lost"
	}
	return d
}

func stamp(t time.Time) string { return t.Format("2006-01-02T15:04:05.000Z") }

func plural(n int64, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// lost lists the commits that could not be read back at this start or before.
func (t *Telemetry) lost(ctx context.Context) ([]Damage, error) {
	rows, err := t.read.rows(ctx, "SELECT seq, n, since, until FROM lost ORDER BY seq LIMIT 1000")
	if err != nil {
		return nil, translate(err)
	}
	defer rows.Close()
	var out []Damage
	for rows.Next() {
		var seq, n, since, until int64
		if err := rows.Scan(&seq, &n, &since, &until); err != nil {
			return nil, translate(err)
		}
		out = append(out, lostCommit(seq, n, since, until))
	}
	return out, translate(rows.Err())
}

// moveAside takes commits that could not be read back out of the records, which
// forget them once they are sealed, into a table of their own, which does not.
func (t *Telemetry) moveAside(bad []record) error {
	if len(bad) == 0 {
		return nil
	}
	return t.transaction(func() error {
		for _, r := range bad {
			if err := t.exec("INSERT OR REPLACE INTO lost (seq, n, since, until, found, data) VALUES (?, ?, ?, ?, ?, ?)",
				r.seq, r.n, r.since, r.until, time.Now().UnixMilli(), r.data); err != nil {
				return err
			}
			if err := t.exec("DELETE FROM records WHERE seq = ?", r.seq); err != nil {
				return err
			}
		}
		return nil
	})
}

// rowName names a row by its key: the fields that GORM is told are the primary
// key.
func rowName(row reflect.Value) string {
	name := ""
	for i := range row.NumField() {
		if f := row.Type().Field(i); f.Tag.Get("gorm") == "primaryKey" && f.Type.Kind() == reflect.String {
			if name != "" {
				name += " "
			}
			name += row.Field(i).String()
		}
	}
	if name == "" {
		return "without a name"
	}
	return name
}
