package store_test

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/store"
)

// season fills a store with some days of two series, and leaves some of it unsealed.
func fill(t *testing.T, s *store.Store) {
	t.Helper()
	for day := range 6 {
		var batch []value.Reading
		for m := range 1440 {
			at := zero.Add(time.Duration(day*1440+m) * time.Minute)
			batch = append(batch, value.Reading{Metric: "must_temp", At: at, Value: value.OfNumber(float64(m%97) / 10)},
				value.Reading{Metric: "cycle", At: at, Value: value.OfText(fmt.Sprint("step ", m/100))})
		}
		if err := put(s, "a", 0, batch...); err != nil {
			t.Fatal(err)
		}
		if day == 4 {
			s.Seal()
		}
	}
}

func TestBackupAndRestore(t *testing.T) {
	s := open(t, t.TempDir(), store.Options{})
	defer s.Close()
	fill(t, s)
	var backup bytes.Buffer
	if err := s.Backup(context.Background(), &backup, zero); err != nil {
		t.Fatal(err)
	}
	if err := put(s, "a", 0, value.Reading{Metric: "must_temp", At: zero.AddDate(0, 1, 0), Value: value.OfNumber(1)}); err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "again")
	m, c, err := store.Restore(context.Background(), bytes.NewReader(backup.Bytes()), dir)
	if err != nil || len(m.Files) != 2 || c.Readings != 6*2*1440 || c.Records == 0 {
		t.Fatalf("%+v, %+v, %v", m, c, err)
	}
	back := open(t, dir, store.Options{})
	defer back.Close()
	if u, err := back.Use(t.Context()); err != nil || u.Readings != c.Readings {
		t.Errorf("the backup was said to hold %d readings, and the store tells of %d, %v", c.Readings, u.Readings, err)
	}
	for _, metric := range []string{"must_temp", "cycle"} {
		was, is := all(t, s, "a", metric), all(t, back, "a", metric)
		if metric == "must_temp" {
			was = was[:len(was)-1]
		}
		if !slices.Equal(was, is) {
			t.Errorf("%s has %d readings after it was restored, and had %d", metric, len(is), len(was))
		}
	}
	if _, _, err := store.Restore(context.Background(), bytes.NewReader(backup.Bytes()), dir); !fault.Is(err, fault.Conflict) {
		t.Errorf("into a folder that is in use: %v", err)
	}
	for name, bad := range map[string][]byte{
		"cut off": backup.Bytes()[:backup.Len()/2], "empty": nil, "something else": bytes.Repeat([]byte("x"), 2000),
		"a bit turned": func() []byte { b := bytes.Clone(backup.Bytes()); b[len(b)/2] ^= 1; return b }(),
	} {
		other := filepath.Join(t.TempDir(), "other")
		if _, _, err := store.Restore(context.Background(), bytes.NewReader(bad), other); !fault.Is(err, fault.Invalid) || !strings.Contains(err.Error(), "nothing was restored") {
			t.Errorf("%s: %v", name, err)
		}
		if left, _ := filepath.Glob(filepath.Join(filepath.Dir(other), "*")); len(left) > 0 {
			t.Errorf("%s leaves %v behind", name, left)
		}
	}
}

// TestDamageIsNamedAndRepaired turns bytes in the file, where SQLite does not
// look.
func TestDamageIsNamedAndRepaired(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Options{})
	fill(t, s)
	was, err := s.Cells(context.Background(), "a", "must_temp", zero, zero.AddDate(0, 0, 5), series.Every(3600_000),
		3600_000)
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	ctx := context.Background()
	if c, err := store.Check(ctx, dir, false, nil); err != nil || len(c.Damage) > 0 || c.Chunks < 30 ||
		c.Rollups == 0 || c.Records != 1 {
		t.Fatalf("a sound folder: %+v, %v", c, err)
	}
	db, err := sql.Open("sqlite", filepath.Join(dir, "telemetry.db"))
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{
		"UPDATE chunks SET data = zeroblob(100) WHERE key = (SELECT key FROM chunks WHERE key < 2 << 39 ORDER BY key LIMIT 1 OFFSET 7)",
		"UPDATE rollups SET data = x'0100000000aabb' WHERE key = (SELECT min(key) FROM rollups)",
		"UPDATE chunks SET n = n + 1 WHERE key = (SELECT max(key) FROM chunks)",
	} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	db.Close()
	c, err := store.Check(ctx, dir, false, nil)
	if err != nil || len(c.Damage) != 3 ||
		!strings.Contains(c.Damage[0].Place, "chunk of must_temp of a from 2026-03-11T") || c.Damage[0].Repaired != "" {
		t.Fatalf("%+v, %v", c, err)
	}
	// A service still starts on it, and reads what lies around.
	s = open(t, dir, store.Options{})
	if n := len(all(t, s, "a", "cycle")); n != 6*1440 {
		t.Errorf("beside the damage %d readings are found", n)
	}
	// What is left of the damaged series comes too, with what was lost of it.
	n := 0
	err = s.Readings(context.Background(), "a", "must_temp", zero, zero.AddDate(0, 0, 6), func(series.Point) error {
		n++
		return nil
	})
	lost, failed := series.Whole(err)
	if failed != nil || lost == nil || lost.Chunks != 1 || n != 6*1440-480 || lost.From.Before(zero.AddDate(0, 0, 2)) ||
		lost.To.Sub(lost.From).Round(time.Minute) != 479*time.Minute {
		t.Errorf("%d readings around %+v, %v", n, lost, err)
	}
	// Roll-ups make up for a lost chunk, and single readings for a lost block of them.
	is, err := s.Cells(ctx, "a", "must_temp", zero, zero.AddDate(0, 0, 5), series.Every(3600_000), 3600_000)
	if err != nil || !slices.Equal(is, was) {
		t.Errorf("%d hours are summed up beside the damage, %d before, %v", len(is), len(was), err)
	}
	is, err = s.Cells(ctx, "a", "must_temp", zero, zero.AddDate(0, 0, 5), series.Every(900_000), 900_000)
	if lost, failed := series.Whole(err); failed != nil || lost == nil || len(is) < 5*96-33 || len(is) > 5*96-31 {
		t.Errorf("%d quarters are summed up beside the damage, %v", len(is), err)
	}
	s.Close()
	if c, err = store.Check(ctx, dir, true, nil); err != nil || len(c.Damage) != 3 {
		t.Fatalf("%+v, %v", c, err)
	}
	for _, d := range c.Damage {
		if d.Repaired == "" {
			t.Errorf("not repaired: %+v", d)
		}
	}
	if c, err = store.Check(ctx, dir, false, nil); err != nil || len(c.Damage) != 0 {
		t.Fatalf("after the repair: %+v, %v", c, err)
	}
	s = open(t, dir, store.Options{})
	defer s.Close()
	if n = len(all(t, s, "a", "must_temp")); n != 6*1440-480 {
		t.Errorf("%d readings are left, want all but one chunk", n)
	}
	is, err = s.Cells(ctx, "a", "must_temp", zero, zero.AddDate(0, 0, 5), series.Every(3600_000), 3600_000)
	if err != nil || len(is) < len(was)-8 || is[0] != was[0] || is[len(is)-1] != was[len(was)-1] {
		t.Errorf("%d hours are summed up after the repair, %d before, %v", len(is), len(was), err)
	}
	if _, err := store.Check(ctx, t.TempDir(), false, nil); !fault.Is(err, fault.NotFound) {
		t.Errorf("a folder of somebody else: %v", err)
	}
	if _, err := store.Check(ctx, dir, false, nil); !fault.Is(err, fault.Conflict) {
		t.Errorf("a folder in use: %v", err)
	}
}

// TestDamageHoldsNobodyUp goes on writing to a series whose last chunk is
// damaged: the others and what comes later are sealed all the same.
func TestDamageHoldsNobodyUp(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Options{})
	fill(t, s)
	s.Seal()
	s.Close()
	db, err := sql.Open("sqlite", filepath.Join(dir, "telemetry.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("UPDATE chunks SET data = zeroblob(100), n = 10 WHERE key = (SELECT max(key) FROM chunks WHERE key < 2 << 39); UPDATE rollups SET data = x'0100000000aabb' WHERE key = (SELECT max(key) FROM rollups)"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	s = open(t, dir, store.Options{})
	// The newest reading is one before the damage, and the start goes well.
	if r, ok, err := s.Last(context.Background(), "a", "must_temp", zero.AddDate(1, 0, 0)); err != nil || !ok ||
		r.At.After(zero.AddDate(0, 0, 6)) {
		t.Errorf("before the damage the newest is %+v, %v, %v", r, ok, err)
	}
	later := zero.AddDate(0, 0, 6)
	for _, m := range []string{"must_temp", "cycle"} {
		if err := put(s, "a", 0, value.Reading{Metric: m, At: later, Value: value.OfNumber(7)}); err != nil {
			t.Fatal(err)
		}
	}
	s.Seal()
	if n := s.Stats().Unsealed.Load(); n != 0 {
		t.Errorf("%d readings could not be sealed", n)
	}
	if r, ok, err := s.Last(context.Background(), "a", "must_temp", later); err != nil || !ok ||
		r.Value != value.OfNumber(7) {
		t.Errorf("the newest reading is %+v, %v, %v", r, ok, err)
	}
	s.Close()
	db, err = sql.Open("sqlite", filepath.Join(dir, "telemetry.db"))
	if err != nil {
		t.Fatal(err)
	}
	if c, err := store.Check(context.Background(), dir, true, nil); err != nil || len(c.Damage) == 0 ||
		!strings.Contains(c.Damage[0].Sentence, "put aside") {
		t.Errorf("the check finds %+v, %v", c, err)
	}
	if c, err := store.Check(context.Background(), dir, false, nil); err != nil || len(c.Damage) > 0 {
		t.Errorf("after the repair it finds %+v, %v", c, err)
	}
	defer db.Close()
	var aside int
	if err := db.QueryRow("SELECT count(*) FROM damaged").Scan(&aside); err != nil || aside != 0 {
		t.Errorf("%d chunks are still put aside, %v", aside, err)
	}
}

// TestGrowthIsNotKnownAtOnce says so, with some hours sealed.
func TestGrowthIsNotKnownAtOnce(t *testing.T) {
	s := open(t, t.TempDir(), store.Options{})
	defer s.Close()
	for m := range 600 {
		if err := put(s, "a", 0, value.Reading{Metric: "must_temp", At: zero.Add(time.Duration(m) * time.Minute),
			Value: value.OfNumber(float64(m))}); err != nil {
			t.Fatal(err)
		}
	}
	u, err := s.Use(t.Context())
	if err != nil || u.Readings != 600 || u.Unsealed != 600 || len(u.Series) != 1 || u.DayBytes != -1 {
		t.Errorf("with nothing sealed it is %+v, %v", u, err)
	}
	s.Seal()
	if u, err = s.Use(t.Context()); err != nil || u.Readings != 600 || u.Unsealed != 0 || u.DayBytes != -1 {
		t.Errorf("with ten hours sealed it is %+v, %v", u, err)
	}
}

func TestUse(t *testing.T) {
	s := open(t, t.TempDir(), store.Options{})
	defer s.Close()
	fill(t, s)
	u, err := s.Use(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	if u.Readings != 6*2*1440 || u.Unsealed != 2*1440 || len(u.Series) != 2 || u.ChunkBytes == 0 ||
		u.RollupBytes == 0 || u.RecordBytes == 0 || u.FolderBytes == 0 ||
		u.DiskFree <= 0 || u.FirstReading.Sub(zero).Abs() > time.Second {
		t.Errorf("%+v", u)
	}
	perDay := float64(u.ChunkBytes+u.RollupBytes) / 5
	if g := float64(u.DayBytes); g < 0.8*perDay || g > 1.3*perDay {
		t.Errorf("it grows by %d bytes a day, want about %.0f", u.DayBytes, perDay)
	}
}
