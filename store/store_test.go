package store_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/store"
)

var zero = time.Date(2026, 3, 9, 12, 0, 0, 0, time.UTC)

func open(t testing.TB, dir string, o store.Options) *store.Store {
	t.Helper()
	s, err := store.Open(dir, o)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// put appends readings and waits for the commit.
func put(s *store.Store, device string, receipt int64, rs ...value.Reading) error {
	done := make(chan error, 1)
	if err := s.Append(ingest.Append{Device: device, Readings: rs, Receipt: receipt, Done: func(err error) {
		done <- err
	}}); err != nil {
		return err
	}
	return <-done
}

func all(t testing.TB, s *store.Store, device, metric string) []series.Point {
	t.Helper()
	var out []series.Point
	if err := s.Readings(context.Background(), device, metric, zero.AddDate(-10, 0, 0),
		zero.AddDate(10, 0, 0), func(p series.Point) error {
			out = append(out, p)
			return nil
		}); err != nil {
		t.Fatal(err)
	}
	return out
}

// TestWhatGoesInComesOut writes random readings in random order, with
// duplicates and restarts in between, and compares with a plain map.
func TestWhatGoesInComesOut(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	dir := t.TempDir()
	s := open(t, dir, store.Options{})
	type key struct {
		device, metric string
		at             int64
	}
	want := map[key]value.Reading{}
	values := []value.Value{value.OfNumber(0), value.OfNumber(-1.25e-7), value.OfNumber(math.MaxFloat64),
		value.OfNumber(9007199254740991), value.OfText(""), value.OfText("filling"), value.OfText("Grüße 🍎"), value.OfBool(true), value.OfBool(false), value.OfNumber(0.1)}
	for round := range 30 {
		device := fmt.Sprintf("tank-%d", rng.IntN(3))
		var batch []value.Reading
		for range 1 + rng.IntN(200) {
			r := value.Reading{Metric: fmt.Sprintf("m%d", rng.IntN(4)),
				At: zero.Add(time.Duration(rng.IntN(500)) * time.Millisecond), Value: values[rng.IntN(len(values))], Quality: value.Quality(rng.IntN(8))}
			batch = append(batch, r)
			want[key{device, r.Metric, r.At.UnixMilli()}] = r
		}
		if err := put(s, device, 0, batch...); err != nil {
			t.Fatal(err)
		}
		if round%7 == 6 {
			if err := s.Close(); err != nil {
				t.Fatal(err)
			}
			s = open(t, dir, store.Options{})
		}
	}
	defer s.Close()
	found := 0
	for d := range 3 {
		for m := range 4 {
			device, metric := fmt.Sprintf("tank-%d", d), fmt.Sprintf("m%d", m)
			last := int64(math.MinInt64)
			for _, p := range all(t, s, device, metric) {
				w, ok := want[key{device, metric, p.At.UnixMilli()}]
				if !ok || p.Value != w.Value || p.Quality != w.Quality {
					t.Fatalf("%s %s at %s holds %v %d, want %v %d", device, metric, p.At, p.Value, p.Quality, w.Value,
						w.Quality)
				}
				if p.At.UnixMilli() <= last {
					t.Fatal("readings are not in order")
				}
				last = p.At.UnixMilli()
				found++
			}
		}
	}
	if found != len(want) {
		t.Errorf("%d readings came out, want %d", found, len(want))
	}
}

func TestLatest(t *testing.T) {
	s := open(t, t.TempDir(), store.Options{})
	defer s.Close()
	for i, at := range []time.Duration{5, 9, 7} {
		if err := put(s, "a", 0, value.Reading{Metric: "x", At: zero.Add(at * time.Second),
			Value: value.OfNumber(float64(i))}); err != nil {
			t.Fatal(err)
		}
	}
	n := 0
	if err := s.Latest(context.Background(), func(device string, r value.Reading) {
		n++
		if device != "a" || r.Metric != "x" || r.Value != value.OfNumber(1) || !r.At.Equal(zero.Add(9*time.Second)) {
			t.Errorf("the latest is %s %+v", device, r)
		}
	}); err != nil || n != 1 {
		t.Errorf("%d latest, %v", n, err)
	}
}

func TestReceiptsSurvive(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Options{})
	if err := put(s, "a", 4711, value.Reading{Metric: "x", At: zero, Value: value.OfNumber(1)}); err != nil {
		t.Fatal(err)
	}
	s.Close()
	s = open(t, dir, store.Options{})
	defer s.Close()
	for _, c := range []struct {
		device  string
		receipt int64
		since   time.Time
		want    bool
	}{{"a", 4711, zero.Add(-time.Minute), true}, {"a", 4712, zero.Add(-time.Minute), false},
		{"b", 4711, zero.Add(-time.Minute), false}, {"a", 4711, zero.Add(time.Second), false}} {
		if got, err := s.HasReceipt(c.device, c.receipt, c.since); err != nil || got != c.want {
			t.Errorf("HasReceipt(%s, %d) = %v, %v", c.device, c.receipt, got, err)
		}
	}
}

func TestOneAtATime(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Options{})
	_, err := store.Open(dir, store.Options{})
	if !fault.Is(err, fault.Conflict) || !strings.Contains(err.Error(), dir) ||
		!strings.Contains(err.Error(), "--data") {
		t.Errorf("a second store on the folder gives %v", err)
	}
	s.Close()
	open(t, dir, store.Options{}).Close()
}

func TestDamagedFile(t *testing.T) {
	dir := t.TempDir()
	open(t, dir, store.Options{}).Close()
	if err := os.WriteFile(filepath.Join(dir, "telemetry.db"), []byte(strings.Repeat("no database ", 1000)), 0o600); err != nil {
		t.Fatal(err)
	}
	_, err := store.Open(dir, store.Options{})
	if err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("a damaged file gives %v", err)
	}
	if err := os.Remove(filepath.Join(dir, "telemetry.db")); err != nil {
		t.Fatal(err)
	}
	open(t, dir, store.Options{}).Close() // the failure has let go of the lock
}

// TestFullDisk fills a file of bounded size: what was acknowledged is there,
// what was not is refused with a reason, and after there is room it goes on.
func TestFullDisk(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Options{MaxBytes: 200 << 10})
	acknowledged := 0
	var err error
	for err == nil && acknowledged < 100_000 {
		batch := make([]value.Reading, 100)
		for i := range batch {
			batch[i] = value.Reading{Metric: "x", At: zero.Add(time.Duration(acknowledged+i) * time.Second),
				Value: value.OfNumber(float64(acknowledged + i))}
		}
		if err = put(s, "a", 0, batch...); err == nil {
			acknowledged += len(batch)
		}
	}
	if !fault.Is(err, fault.Full) || !strings.Contains(err.Error(), "disk is full") || !fault.From(err).Code.Ours() {
		t.Fatalf("a full disk gives %v", err)
	}
	if got := len(all(t, s, "a", "x")); got != acknowledged {
		t.Errorf("%d readings are there, %d were acknowledged", got, acknowledged)
	}
	if err := put(s, "a", 0, value.Reading{Metric: "x", At: zero, Value: value.OfNumber(-1)}); err != nil && !fault.Is(err, fault.Full) {
		t.Errorf("after a failure the writer gives %v", err)
	}
	s.Close()
	s = open(t, dir, store.Options{MaxBytes: 10 << 20})
	defer s.Close()
	if err := put(s, "a", 0, value.Reading{Metric: "x", At: zero.Add(-time.Hour), Value: value.OfNumber(1)}); err != nil {
		t.Errorf("with room again: %v", err)
	}
	if got := len(all(t, s, "a", "x")); got != acknowledged+1 {
		t.Errorf("%d readings are there, want %d", got, acknowledged+1)
	}
}

// TestFullDiskIsSqueezed goes on where a file is full of records: they become
// chunks in their own room, and nothing of what was acknowledged is lost, also
// where sealing itself finds no room, and at a stop or a crash in that state.
func TestFullDiskIsSqueezed(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	for _, above := range []int{0, 3000}[:times(2, 1)] {
		dir := t.TempDir()
		rng := rand.New(rand.NewPCG(1, uint64(above)))
		s := open(t, dir, store.Options{MaxBytes: 300 << 10, SealAbove: above})
		n, refused, first := 0, 0, 0
		add := func() error {
			batch := make([]value.Reading, 100)
			for i := range batch {
				v := rng.Float64() // which packs badly
				if above == 0 {
					v = math.Round(200+20*v) / 10
				}
				batch[i] = value.Reading{Metric: []string{"must_temp", "density"}[i%2],
					At: zero.Add(time.Duration(n+i) * time.Second), Value: value.OfNumber(v)}
			}
			err := put(s, "a", 0, batch...)
			if err == nil {
				n += len(batch)
			}
			return err
		}
		for refused < 30 && n < 1_000_000 {
			if err := add(); err != nil {
				if !fault.Is(err, fault.Full) {
					t.Fatal(err)
				}
				if refused++; refused == 1 {
					first = n
				}
			}
		}
		t.Logf("sealing above %d: refused first after %d readings, for good after %d", above, first, n)
		if refused < 30 || n <= first || above == 0 && n < 5*first {
			t.Errorf("%d refusals; the first after %d readings, and %d were taken in all", refused, first, n)
		}
		look := func(when string) {
			t.Helper()
			if got := len(all(t, s, "a", "must_temp")) + len(all(t, s, "a", "density")); got != n {
				t.Errorf("%s: %d readings are there, %d were acknowledged", when, got, n)
			}
		}
		look("full")
		s.Seal() // it cannot, and does not hang
		look("full, sealed in vain")
		s.Close()
		s = open(t, dir, store.Options{MaxBytes: 300 << 10, SealAbove: above})
		look("opened again, still full")
		s.Close()
		s = open(t, dir, store.Options{MaxBytes: 30 << 20, SealAbove: above})
		look("with room")
		if err := add(); err != nil {
			t.Errorf("with room: %v", err)
		}
		s.Seal()
		if f := s.Stats().Unsealed.Load(); f != 0 {
			t.Errorf("with room %d readings are not sealed", f)
		}
		look("sealed")
		// What failed on the way has left nothing in the sums.
		h := history{}
		for _, r := range all(t, s, "a", "density") {
			h[r.At.UnixMilli()] = value.Reading{At: r.At, Value: r.Value}
		}
		lo, hi := zero.UnixMilli(), zero.AddDate(0, 0, 30).UnixMilli()
		want := h.cells(lo, hi, 180_000, series.Every(900_000))
		if got, err := s.Cells(t.Context(), "a", "density", zero, zero.AddDate(0, 0, 30), series.Every(900_000),
			900_000); err != nil || !slices.Equal(got, want) {
			t.Errorf("the readings are summed up in %d cells, want %d, %v", len(got), len(want), err)
		}
		s.Close()
		if c, err := store.Check(t.Context(), dir, false, nil); err != nil || len(c.Damage) > 0 ||
			c.Readings != int64(n) {
			t.Errorf("the check finds %+v, %v", c, err)
		}
	}
}

func TestManyWritersShareCommits(t *testing.T) {
	s := open(t, t.TempDir(), store.Options{})
	defer s.Close()
	const writers, each = 32, 50
	var wg sync.WaitGroup
	for w := range writers {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for i := range each {
				if err := put(s, fmt.Sprintf("d%d", w), 0,
					value.Reading{Metric: "x", At: zero.Add(time.Duration(i) * time.Second),
						Value: value.OfNumber(float64(i))}); err != nil {
					t.Error(err)
				}
			}
		}()
	}
	wg.Wait()
	if n := s.Stats().Readings.Load(); n != writers*each {
		t.Errorf("%d readings were counted", n)
	}
	if c := s.Stats().Commits.Load(); c >= writers*each {
		t.Errorf("%d commits for %d readings; nothing was shared", c, writers*each)
	}
	for w := range writers {
		if n := len(all(t, s, fmt.Sprintf("d%d", w), "x")); n != each {
			t.Errorf("writer %d has %d readings", w, n)
		}
	}
}

func TestClosedStoreRefuses(t *testing.T) {
	s := open(t, t.TempDir(), store.Options{})
	s.Close()
	if err := put(s, "a", 0, value.Reading{Metric: "x", At: zero, Value: value.OfNumber(1)}); !fault.Is(err, fault.Stopping) {
		t.Errorf("a closed store gives %v", err)
	}
}

func TestReadingsStopsWhenAsked(t *testing.T) {
	s := open(t, t.TempDir(), store.Options{})
	defer s.Close()
	for i := range 10 {
		if err := put(s, "a", 0, value.Reading{Metric: "x", At: zero.Add(time.Duration(i) * time.Second),
			Value: value.OfNumber(1)}); err != nil {
			t.Fatal(err)
		}
	}
	enough, n := errors.New("enough"), 0
	err := s.Readings(context.Background(), "a", "x", zero, zero.Add(time.Hour), func(series.Point) error {
		if n++; n == 3 {
			return enough
		}
		return nil
	})
	if !errors.Is(err, enough) || n != 3 {
		t.Errorf("it gave %d and %v", n, err)
	}
	n = 0
	if err := s.Readings(context.Background(), "a", "x", zero.Add(2*time.Second),
		zero.Add(5*time.Second), func(series.Point) error {
			n++
			return nil
		}); err != nil || n != 3 {
		t.Errorf("[2 s, 5 s) has %d readings, %v; want 3", n, err)
	}
}

func BenchmarkAppendPacks(b *testing.B) {
	s := open(b, b.TempDir(), store.Options{})
	defer s.Close()
	batch := make([]value.Reading, 20)
	n := 0
	b.ReportAllocs()
	for b.Loop() {
		for i := range batch {
			batch[i] = value.Reading{Metric: "x", At: zero.Add(time.Duration(n) * time.Second),
				Value: value.OfNumber(float64(n))}
			n++
		}
		if err := put(s, "a", 0, batch...); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "readings/s")
}

// times returns how often something is tried: less often in short runs, which are
// those under the race detector.
func times(often, short int) int {
	if testing.Short() {
		return short
	}
	return often
}
