package store_test

import (
	"context"
	"database/sql"
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/ingest"
	"ullage/store"
)

// history is what a series should hold, by time in ms.
type history map[int64]value.Reading

func (h history) times() []int64 {
	out := make([]int64, 0, len(h))
	for at := range h {
		out = append(out, at)
	}
	slices.Sort(out)
	return out
}

// cells sums a history up by the definition of a roll-up.
func (h history) cells(lo, hi, hold int64, grid series.Grid) []series.Rollup {
	r := series.NewRoller(grid, hold)
	for _, at := range h.times() {
		v := h[at].Value
		switch {
		case v.Kind == value.Text || at < lo-hold:
		case at < lo:
			r.Lead(at, v.Num, lo)
		case at < hi:
			r.Add(at, v.Num)
		default:
			r.End(at)
			return r.Rollups()
		}
	}
	return r.Rollups()
}

// made is a value of some metric at some time.
func made(rng *rand.Rand, metric string, i int) value.Value {
	switch metric {
	case "must_temp":
		return value.OfNumber(math.Round(200+30*math.Sin(float64(i)/200)+3*rng.Float64()) / 10)
	case "fan_on":
		return value.OfBool(i/30%2 == 0)
	case "cycle":
		return value.OfText([]string{"idle", "filling", "pressing"}[i/40%3])
	}
	return value.OfNumber(rng.NormFloat64() * 1e3)
}

// TestAnyOrder writes long histories in any order: in turn, late by minutes or
// months, twice, with restarts and sealing in between, and compares every way
// of reading with a plain map.
func TestAnyOrder(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	metrics := []string{"must_temp", "fan_on", "cycle", "raw"}
	for seed := range uint64(times(3, 1)) {
		rng := rand.New(rand.NewPCG(seed, 77))
		dir := t.TempDir()
		s := open(t, dir, store.Options{})
		want := map[string]history{}
		for _, m := range metrics {
			want[m] = history{}
		}
		i := 0
		for range 60 {
			n := 1 + rng.IntN(400)
			begin := i
			switch rng.IntN(5) {
			case 0: // late, also by months
				begin = -rng.IntN(90 * 24 * 60)
			case 1: // some of it again
				begin = max(0, i-rng.IntN(600))
			}
			var batch []value.Reading
			for k := range n {
				for _, m := range metrics {
					if rng.IntN(4) == 0 {
						continue
					}
					at := zero.Add(time.Duration(begin+k)*time.Minute + time.Duration(rng.IntN(3))*time.Second)
					r := value.Reading{Metric: m, At: at, Value: made(rng, m, begin+k+1_000_000)}
					if rng.IntN(20) == 0 {
						r.Quality = value.BeyondRange
					}
					batch = append(batch, r)
				}
			}
			if rng.IntN(3) == 0 {
				rng.Shuffle(len(batch), func(a, b int) { batch[a], batch[b] = batch[b], batch[a] })
			}
			i = max(i, begin+n)
			for _, r := range batch {
				want[r.Metric][r.At.UnixMilli()] = r
			}
			if err := put(s, "tank-kilnside-01", 0, batch...); err != nil {
				t.Fatal(err)
			}
			if rng.IntN(8) == 0 { // people delete some of it
				m := metrics[rng.IntN(len(metrics))]
				lo := zero.Add(time.Duration(rng.IntN(i+1)-rng.IntN(2000)) * time.Minute).UnixMilli()
				hi := lo + rng.Int64N(1+int64(i)*30_000)
				gone := int64(0)
				for at := range want[m] {
					if at >= lo && at < hi && len(want[m]) > 1 {
						delete(want[m], at)
						gone++
					}
				}
				from, to := value.FromMillis(lo), value.FromMillis(hi)
				in, err := s.Stored(t.Context(), "tank-kilnside-01", m, from, to)
				n, failed := s.Delete(t.Context(), "tank-kilnside-01", m, from, to)
				if err != nil || failed != nil || n != gone || in.Readings != gone {
					t.Fatalf("of %s, %d readings were counted and %d deleted, %v, %v; want %d", m, in.Readings, n, err, failed, gone)
				}
			}
			switch rng.IntN(6) {
			case 0, 1:
				s.Seal()
			case 2:
				if err := s.Close(); err != nil {
					t.Fatal(err)
				}
				s = open(t, dir, store.Options{})
			}
		}
		compare(t, rng, s, want)
		s.Seal()
		compare(t, rng, s, want)
		if n := s.Stats().Unsealed.Load(); n != 0 {
			t.Errorf("%d readings are not yet sealed after everything was sealed", n)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		s = open(t, dir, store.Options{})
		compare(t, rng, s, want)
		s.Close()
	}
}

func compare(t *testing.T, rng *rand.Rand, s *store.Store, want map[string]history) {
	t.Helper()
	const device = "tank-kilnside-01"
	for m, h := range want {
		times := h.times()
		first, last := times[0], times[len(times)-1]
		for range 8 {
			lo := first - 1000 + rng.Int64N(last-first+2000)
			hi := lo + 1 + rng.Int64N(last-lo+2000)
			var got []int64
			if err := s.Readings(context.Background(), device, m, value.FromMillis(lo),
				value.FromMillis(hi), func(p series.Point) error {
					at := p.At.UnixMilli()
					if r := h[at]; r.Value != p.Value || r.Quality != p.Quality {
						return fmt.Errorf("at %d %s holds %v %d, want %v %d", at, m, p.Value, p.Quality, r.Value,
							r.Quality)
					}
					got = append(got, at)
					return nil
				}); err != nil {
				t.Fatal(err)
			}
			a, _ := slices.BinarySearch(times, lo)
			b, _ := slices.BinarySearch(times, hi)
			if !slices.Equal(got, times[a:b]) {
				t.Fatalf("%s from %d to %d has %d readings, want %d", m, lo, hi, len(got), b-a)
			}
			at := lo + (hi-lo)/2
			r, ok, err := s.Last(context.Background(), device, m, value.FromMillis(at))
			k, exact := slices.BinarySearch(times, at)
			if !exact {
				k--
			}
			if err != nil || ok != (k >= 0) || ok && r.At.UnixMilli() != times[k] {
				t.Fatalf("the last of %s before %d is %v %v, %v", m, at, r.At, ok, err)
			}
			if m == "cycle" {
				continue
			}
			for _, step := range []int64{7 * 60_000, 15 * 60_000, 3600_000, 6 * 3600_000, 24 * 3600_000} {
				grid := series.Every(step)
				cells, err := s.Cells(context.Background(), device, m, value.FromMillis(lo), value.FromMillis(hi), grid,
					step)
				if err != nil {
					t.Fatal(err)
				}
				plain := h.cells(lo, hi, 180_000, grid)
				if len(cells) != len(plain) {
					t.Fatalf("%s by %d ms has %d cells, want %d", m, step, len(cells), len(plain))
				}
				for i := range cells {
					g, w := cells[i], plain[i]
					// Into a finer cell without a sample nothing holds, so a coarser one
					// made of them may know of less.
					if g.At != w.At || g.N != w.N || g.Min != w.Min || g.Max != w.Max || g.First != w.First ||
						g.Last != w.Last ||
						math.Abs(g.Sum-w.Sum) > 1e-6*math.Max(1, math.Abs(w.Sum)) || g.Held > w.Held ||
						w.Held-g.Held > 180_000*(step/900_000+1) {
						t.Fatalf("%s by %d ms, cell %d of %d: %+v, want %+v", m, step, i, len(cells), g, w)
					}
					if g.Held == w.Held && math.Abs(g.Area-w.Area) > 1e-6*math.Max(1, math.Abs(w.Area)) {
						t.Fatalf("%s by %d ms: area %v, want %v", m, step, g.Area, w.Area)
					}
				}
			}
		}
	}
	n := 0
	if err := s.Latest(context.Background(), func(_ string, r value.Reading) {
		times := want[r.Metric].times()
		if n++; r.At.UnixMilli() != times[len(times)-1] || r.Value != want[r.Metric][r.At.UnixMilli()].Value {
			t.Errorf("the latest of %s is %+v", r.Metric, r)
		}
	}); err != nil || n != len(want) {
		t.Errorf("%d latest, %v", n, err)
	}
}

// TestChunksStayWhole looks at the file: full chunks, no overlap, records gone.
func TestChunksStayWhole(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Options{})
	for day := range 20 {
		var batch []value.Reading
		for m := range 1440 {
			at := zero.Add(time.Duration(day*1440+m) * time.Minute)
			batch = append(batch, value.Reading{Metric: "must_temp", At: at,
				Value: value.OfNumber(math.Round(200+20*math.Sin(float64(m)/100)) / 10)})
		}
		if err := put(s, "a", 0, batch...); err != nil {
			t.Fatal(err)
		}
		if day%3 == 0 {
			s.Seal()
		}
	}
	// One late reading an hour, sealed one by one.
	for h := range 60 {
		if err := put(s, "a", 0, value.Reading{Metric: "must_temp",
			At: zero.Add(time.Duration(h)*time.Hour + time.Second), Value: value.OfNumber(1)}); err != nil {
			t.Fatal(err)
		}
		s.Seal()
	}
	s.Seal()
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", filepath.Join(dir, "telemetry.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var records, chunks, samples, bytes int
	if err := db.QueryRow("SELECT (SELECT count(*) FROM records), count(*), sum(n), sum(length(data)) FROM chunks").
		Scan(&records, &chunks, &samples, &bytes); err != nil {
		t.Fatal(err)
	}
	if records != 0 || samples != 20*1440+60 || chunks > 64 || bytes > samples {
		t.Errorf("%d records, %d chunks of %d samples in %d bytes", records, chunks, samples, bytes)
	}
	rows, err := db.Query("SELECT key, n, till, data FROM chunks ORDER BY key")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	before := int64(0)
	for rows.Next() {
		var key, n, till int64
		var data []byte
		if err := rows.Scan(&key, &n, &till, &data); err != nil {
			t.Fatal(err)
		}
		xs, err := series.Decode(nil, data)
		if err != nil || int64(len(xs)) != n || xs[n-1].At != till || xs[0].At <= before || key != 1<<39|xs[0].At/16 {
			t.Errorf("the chunk %x says %d samples until %d, holds %d from %d, %v", key, n, till, len(xs), xs[0].At,
				err)
		}
		before = till
	}
}

// TestReceiptsOutliveTheirRecords seals, so that the records are dropped.
func TestReceiptsOutliveTheirRecords(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Options{})
	for i := range 100 {
		if err := put(s, "a", int64(1000+i), value.Reading{Metric: "x", At: zero.Add(time.Duration(i) * time.Minute),
			Value: value.OfNumber(1)}); err != nil {
			t.Fatal(err)
		}
		if i%30 == 29 {
			s.Seal()
		}
	}
	s.Seal()
	s.Close()
	s = open(t, dir, store.Options{})
	defer s.Close()
	for receipt, want := range map[int64]bool{1099: true, 1070: true, 1000: false, 7: false} {
		if got, err := s.HasReceipt("a", receipt, zero.Add(40*time.Minute)); err != nil || got != want {
			t.Errorf("receipt %d is known: %v, %v", receipt, got, err)
		}
	}
}

// TestSealingWhileReading reads the same history over and over while it is
// written and sealed: what was acknowledged is always there, once.
func TestSealingWhileReading(t *testing.T) {
	s := open(t, t.TempDir(), store.Options{})
	defer s.Close()
	stop := make(chan struct{})
	failed := make(chan error, 1)
	acknowledged := make(chan int, 1)
	acknowledged <- 0
	go func() {
		defer close(failed)
		for {
			select {
			case <-stop:
				return
			default:
			}
			at := <-acknowledged
			acknowledged <- at
			n, last := 0, int64(-1)
			err := s.Readings(context.Background(), "a", "x", zero, zero.AddDate(1, 0, 0), func(p series.Point) error {
				if ms := p.At.UnixMilli(); ms <= last {
					return fmt.Errorf("%d came after %d", ms, last)
				} else {
					last = ms
				}
				n++
				return nil
			})
			if err == nil && n < at {
				err = fmt.Errorf("%d readings were acknowledged and %d are found", at, n)
			}
			if err != nil {
				failed <- err
				return
			}
		}
	}()
	for i := range 300 {
		var batch []value.Reading
		for k := range 50 {
			batch = append(batch, value.Reading{Metric: "x", At: zero.Add(time.Duration(i*50+k) * time.Second),
				Value: value.OfNumber(float64(k))})
		}
		done := make(chan error, 1)
		if err := s.Append(ingest.Append{Device: "a", Readings: batch, Done: func(err error) {
			done <- err
		}}); err != nil {
			t.Fatal(err)
		}
		if err := <-done; err != nil {
			t.Fatal(err)
		}
		<-acknowledged
		acknowledged <- (i + 1) * 50
		if i%5 == 0 {
			s.Seal()
		}
	}
	close(stop)
	if err := <-failed; err != nil {
		t.Fatal(err)
	}
}

// TestWhatIsSealedIsNotTakenUpAgain: a record stays until all of its series are
// sealed; those that are already count once, and numbers of records go on also
// where no record is left.
func TestWhatIsSealedIsNotTakenUpAgain(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Options{})
	const devices, each = 40, 6
	readings := func(from int) {
		for n := from; n < from+each; n++ {
			for d := range devices {
				r := value.Reading{Metric: "must_temp", At: zero.Add(time.Duration(n) * time.Minute),
					Value: value.OfNumber(float64(n))}
				if err := put(s, fmt.Sprintf("tank-fennimore-%d", d), 0, r); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	check := func(when string, want int) {
		t.Helper()
		for d := range devices {
			if n, err := s.Count(t.Context(), fmt.Sprintf("tank-fennimore-%d", d)); err != nil || n != int64(want) {
				t.Fatalf("%s, device %d has %d readings, want %d (%v)", when, d, n, want, err)
			}
		}
	}
	readings(0)
	s.Close()
	// A store that seals above half of them seals some series and not others.
	s = open(t, dir, store.Options{SealAbove: devices * each / 2})
	for s.Stats().Unsealed.Load() > devices*each/2 {
		time.Sleep(5 * time.Millisecond)
	}
	sealed := int64(devices*each) - s.Stats().Unsealed.Load()
	s.Close()
	s = open(t, dir, store.Options{})
	if got := int64(devices*each) - s.Stats().Unsealed.Load(); got < sealed {
		t.Errorf("%d readings were sealed, and %d are after the start", sealed, got)
	}
	check("after a start between", each)
	s.Seal()
	s.Close()
	s = open(t, dir, store.Options{})
	if n := s.Stats().Unsealed.Load(); n != 0 {
		t.Errorf("%d readings are unsealed, all were sealed", n)
	}
	readings(each)
	s.Close()
	s = open(t, dir, store.Options{})
	defer s.Close()
	if n := s.Stats().Unsealed.Load(); n != devices*each {
		t.Errorf("%d readings are unsealed, want the %d that came last", n, devices*each)
	}
	check("after all records were gone", 2*each)
}

// TestGathered: devices that report on their own share commits, and each is
// answered for; whatever they do, nobody is left without an answer.
func TestGathered(t *testing.T) {
	s := open(t, t.TempDir(), store.Options{})
	const devices, rounds = 40, 5
	var answered sync.WaitGroup
	before := s.Stats().Commits.Load()
	for round := range rounds {
		for d := range devices {
			answered.Add(1)
			if err := s.Append(ingest.Append{Device: fmt.Sprint("d", d), Patient: true,
				Readings: []value.Reading{{Metric: "x", At: value.FromMillis(int64(1000 + round)), Value: value.OfNumber(1)}},
				Done: func(err error) {
					if err != nil {
						t.Error(err)
					}
					answered.Done()
				}}); err != nil {
				t.Fatal(err)
			}
		}
		answered.Wait()
	}
	if n := s.Stats().Commits.Load() - before; n > rounds*devices/4 {
		t.Errorf("%d messages of %d devices took %d commits", rounds*devices, devices, n)
	}
}
