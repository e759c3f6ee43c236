package store

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/alarms"
	"ullage/fleet/fault"
	"ullage/fleet/models"
)

// Checked is the outcome of Check.
type Checked struct {
	Chunks   int64    `json:"chunks"`
	Rollups  int64    `json:"rollups"`
	Records  int64    `json:"records"`
	Readings int64    `json:"readings"`
	Damage   []Damage `json:"damage"`
}

// Check looks a data folder through that no service has open: SQLite's own
// check, and the checksum and the content of every chunk, block of roll-ups and
// record. With repair it takes out what cannot be read, and works out again
// what can be. told says how far it is, of 1.
func Check(ctx context.Context, dir string, repair bool, told func(float64)) (*Checked, error) {
	if _, err := os.Stat(filepath.Join(dir, "telemetry.db")); err != nil {
		return nil, fault.New(fault.NotFound, "%s is no data folder of Ullage: %s", dir, plain(err)).
			Then("name one with --data")
	}
	lock := flock.New(filepath.Join(dir, "lock"))
	if free, err := lock.TryLock(); err != nil || !free {
		return nil, fault.New(fault.Conflict, "a service is running on %s", dir).
			Then("stop it first, or check a backup of it")
	}
	defer lock.Unlock()
	c := &Checked{Damage: []Damage{}}
	for _, name := range []string{"records.db", "telemetry.db"} {
		if err := c.file(ctx, filepath.Join(dir, name)); err != nil {
			return c, err
		}
	}
	if err := c.records(ctx, filepath.Join(dir, "records.db")); err != nil {
		return c, err
	}
	t, err := openTelemetry(filepath.Join(dir, "telemetry.db"), Options{looking: true})
	if err != nil {
		c.add("telemetry.db", "the file", "it cannot be opened: "+err.Error())
		return c, nil
	}
	defer t.close()
	c.Readings = int64(t.unsealed)
	return c, c.telemetry(ctx, t, repair, told)
}

func (c *Checked) add(file, place, sentence string) *Damage {
	c.Damage = append(c.Damage, Damage{File: file, Place: place, Sentence: sentence})
	return &c.Damage[len(c.Damage)-1]
}

// file runs SQLite's own check.
func (c *Checked) file(ctx context.Context, path string) error {
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?mode=ro")
	if err != nil {
		return err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, "PRAGMA integrity_check(20)")
	if err != nil {
		c.add(filepath.Base(path), "the file", translate(err).Error())
		return nil
	}
	defer rows.Close()
	for rows.Next() {
		var says string
		if err := rows.Scan(&says); err != nil {
			return err
		}
		if says != "ok" {
			c.add(filepath.Base(path), "the file", says)
		}
	}
	if err := rows.Err(); err != nil {
		c.add(filepath.Base(path), "the file", translate(err).Error())
	}
	return ctx.Err()
}

// records reads every record as a start of the service does, and names what it
// would go on without.
func (c *Checked) records(ctx context.Context, path string) error {
	r, err := openRecords(path, Options{})
	if err != nil {
		c.add("records.db", "the file", "it cannot be opened: "+err.Error())
		return nil
	}
	defer r.close()
	if _, err := models.Open(ctx, models.Options{Records: r}); err != nil && ctx.Err() == nil {
		c.add("records.db", "the models", err.Error())
	}
	if _, err := alarms.ReadRules(ctx, r); err != nil && ctx.Err() == nil {
		c.add("records.db", "the rules", err.Error())
	}
	for _, k := range keepers {
		if err := k.look(ctx, r); err != nil && ctx.Err() == nil {
			c.add("records.db", "the file", err.Error())
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	c.Damage = append(c.Damage, r.aside...)
	return nil
}

func (c *Checked) telemetry(ctx context.Context, t *Telemetry, repair bool, told func(float64)) error {
	const file = "telemetry.db"
	var all int64
	if err := t.read.row(ctx, "SELECT (SELECT count(*) FROM chunks) + (SELECT count(*) FROM rollups) + (SELECT count(*) FROM records)").Scan(&all); err != nil {
		return translate(err)
	}
	done := int64(0)
	step := func() {
		if done++; told != nil && done%100 == 0 {
			told(float64(done) / float64(all))
		}
	}
	// What is bad is gathered first: the writer changes it afterwards.
	type bad struct {
		key    int64
		damage int
	}
	var chunks, aside, rollups, records, lost []bad
	each := func(q string, f func(key, n, till int64, data []byte) string, place func(key int64) string, to *[]bad) error {
		rows, err := t.read.rows(ctx, q)
		if err != nil {
			return translate(err)
		}
		defer rows.Close()
		for rows.Next() {
			var key, n, till int64
			var data []byte
			if err := rows.Scan(&key, &n, &till, &data); err != nil {
				return translate(err)
			}
			step()
			if says := f(key, n, till, data); says != "" {
				c.add(file, place(key), says)
				*to = append(*to, bad{key, len(c.Damage) - 1})
			}
		}
		return translate(rows.Err())
	}
	var xs []series.Sample
	if err := each("SELECT key, 0, 0, data FROM damaged ORDER BY key", func(key, _, _ int64, _ []byte) string {
		return t.putAside(key).Sentence
	}, t.placeOf, &aside); err != nil {
		return err
	}
	if err := each("SELECT key, n, till, data FROM chunks ORDER BY key", func(key, n, till int64, data []byte) string {
		c.Chunks++
		var err error
		xs, err = series.Decode(xs[:0], data)
		switch {
		case err != nil:
			return fmt.Sprintf("%s; its %d readings up to %s are lost", err, n,
				value.FromMillis(till).Format(time.RFC3339))
		case int64(len(xs)) != n || xs[len(xs)-1].At != till:
			return fmt.Sprintf("it holds %d readings and says %d", len(xs), n)
		case chunkKey(key>>slotBits, xs[0].At) < key:
			return "it begins before its place"
		}
		c.Readings += n
		return ""
	}, t.placeOf, &chunks); err != nil {
		return err
	}
	if err := each("SELECT key, 0, 0, data FROM rollups ORDER BY key", func(_, _, _ int64, data []byte) string {
		c.Rollups++
		if _, err := series.DecodeRollups(nil, data); err != nil {
			return err.Error() + "; it can be worked out again from the readings, as far as they are kept"
		}
		return ""
	}, func(key int64) string { return "roll-ups of " + t.seriesOf(key) }, &rollups); err != nil {
		return err
	}
	commit := func(key int64) string { return fmt.Sprintf("commit %d", key) }
	if err := each("SELECT seq, 0, 0, data FROM records ORDER BY seq", func(seq, _, _ int64, data []byte) string {
		if c.Records++; soundRecord(data) {
			return ""
		}
		d := lostCommit(seq, 0, 0, 0)
		var n, since, until int64
		if t.read.row(ctx, "SELECT n, since, until FROM records WHERE seq = ?", seq).Scan(&n, &since, &until) == nil {
			d = lostCommit(seq, n, since, until)
		}
		return d.Sentence
	}, commit, &records); err != nil {
		return err
	}
	known, err := t.lost(ctx)
	if err != nil {
		return err
	}
	for _, d := range known {
		c.Damage = append(c.Damage, d)
		var seq int64
		if _, err := fmt.Sscanf(d.Place, "commit %d", &seq); err == nil {
			lost = append(lost, bad{seq, len(c.Damage) - 1})
		}
	}
	if !repair {
		return nil
	}
	for _, out := range []struct {
		list     []bad
		q, words string
	}{
		{chunks, "DELETE FROM chunks WHERE key = ?", "taken out; the readings before and after it can be read again"},
		{aside, "DELETE FROM damaged WHERE key = ?", "thrown away"},
		{records, "DELETE FROM records WHERE seq = ?", "taken out"},
		{lost, "DELETE FROM lost WHERE seq = ?", "thrown away"},
	} {
		for _, x := range out.list {
			if err := t.work(func() (bool, error) {
				return false, t.transaction(func() error { return t.exec(out.q, x.key) })
			}); err != nil {
				return err
			}
			c.Damage[x.damage].Repaired = out.words
		}
	}
	for _, x := range rollups {
		s := t.streams[x.key>>slotBits]
		level := int(x.key >> levelBits & 3)
		if err := t.work(func() (bool, error) {
			return false, t.transaction(func() error {
				if err := t.exec("DELETE FROM rollups WHERE key = ?", x.key); err != nil || s == nil ||
					level >= len(series.Levels) {
					return err
				}
				width := series.Levels[level] * blockOf
				from := x.key & (1<<levelBits - 1) * width
				_, err := t.rollUpSpan(s, series.LevelsOf(s.every), max(from, s.kept), from+width)
				return err
			})
		}); err != nil {
			return err
		}
		c.Damage[x.damage].Repaired = "worked out again from the readings"
	}
	return nil
}
