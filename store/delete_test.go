package store_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/retention"
	"ullage/store"
)

// minutes stores a reading a minute of some metrics, from a minute on.
func minutes(t *testing.T, s *store.Store, device string, metrics []string, from, n int) {
	t.Helper()
	var batch []value.Reading
	for i := range n {
		for _, m := range metrics {
			batch = append(batch, value.Reading{Metric: m, At: zero.Add(time.Duration(from+i) * time.Minute),
				Value: value.OfNumber(float64(i%97) + 0.123456789*float64(i%1013))})
		}
		if len(batch) > 10_000 || i == n-1 {
			if err := put(s, device, 0, batch...); err != nil {
				t.Fatal(err)
			}
			batch = nil
		}
	}
}

// TestDeleteAll deletes a whole series: nothing of it is left, no record brings
// it back, its space is given back, and a new series begins from nothing.
func TestDeleteAll(t *testing.T) {
	n := times(200_000, 40_000)
	dir := t.TempDir()
	s := open(t, dir, store.Options{})
	minutes(t, s, "tank-a", []string{"must_temp", "level"}, 0, n)
	s.Seal()
	before := sizeOf(t, dir)
	minutes(t, s, "tank-a", []string{"level"}, n, 100) // not sealed
	gone, err := s.Delete(t.Context(), "tank-a", "level", time.Time{}, time.Time{})
	if err != nil || gone != int64(n+100) {
		t.Fatalf("%d readings were deleted, %v; want %d", gone, err, n+100)
	}
	if after := sizeOf(t, dir); after > before*7/10 {
		t.Errorf("the file has %d bytes, before %d; want the space of one of two series given back", after, before)
	}
	if got := s.Metrics("tank-a"); len(got) != 1 || got[0] != "must_temp" {
		t.Errorf("there are %v, want must_temp alone", got)
	}
	// The id that was the last is given away again.
	minutes(t, s, "tank-a", []string{"level"}, 10, 3)
	s.Close()
	s = open(t, dir, store.Options{})
	defer s.Close()
	in, err := s.Stored(t.Context(), "tank-a", "level", time.Time{}, time.Time{})
	if err != nil || in.Readings != 3 || !in.First.Equal(zero.Add(10*time.Minute)) {
		t.Errorf("after a restart there are %+v, %v; want the three that came since", in, err)
	}
	if in, _ := s.Stored(t.Context(), "tank-a", "must_temp", time.Time{}, time.Time{}); in.Readings != int64(n) {
		t.Errorf("of must_temp there are %d, want all 200000", in.Readings)
	}
}

func sizeOf(t *testing.T, dir string) int64 {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "telemetry.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(filepath.Join(dir, "telemetry.db"))
	if err != nil {
		t.Fatal(err)
	}
	return info.Size()
}

// TestDeleteSummedUp deletes a span of which only the sums are kept.
func TestDeleteSummedUp(t *testing.T) {
	s := open(t, t.TempDir(), store.Options{})
	defer s.Close()
	minutes(t, s, "tank-a", []string{"level"}, 0, 60*24*60)
	s.Seal()
	cut := zero.AddDate(0, 0, 40)
	if _, err := s.Trim([]retention.Cut{{Device: "tank-a", Metric: "level", Readings: cut}}); err != nil {
		t.Fatal(err)
	}
	summed := func() (n int64) {
		t.Helper()
		cells, err := s.Cells(t.Context(), "tank-a", "level", zero, zero.AddDate(0, 0, 60), series.Every(24*3600_000), 24*3600_000)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range cells {
			n += c.N
		}
		return n
	}
	const day = 24 * 60
	if n := summed(); n != 60*day {
		t.Fatalf("%d readings are summed up, want %d", n, 60*day)
	}
	// Of what is only summed up whole cells go, so that a little more goes than was asked for.
	for _, c := range []struct{ from, to, gone int64 }{{10, 20, 10}, {35, 45, 20}} {
		if _, err := s.Delete(t.Context(), "tank-a", "level", zero.AddDate(0, 0, int(c.from)), zero.AddDate(0, 0, int(c.to))); err != nil {
			t.Fatal(err)
		}
		if n := summed(); n > (60-c.gone)*day || n < (60-c.gone)*day-60 {
			t.Errorf("after day %d to %d was deleted %d are summed up, want %d", c.from, c.to, n, (60-c.gone)*day)
		}
	}
	if _, err := s.Delete(t.Context(), "tank-a", "level", time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	if n := summed(); n != 0 || len(s.Metrics("tank-a")) != 0 {
		t.Errorf("after all was deleted %d readings are summed up, and there is %v", n, s.Metrics("tank-a"))
	}
}
