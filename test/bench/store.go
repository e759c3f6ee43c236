package main

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/parquet-go/parquet-go"

	"ullage/client"
	"ullage/core/expr"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/ingest"
	"ullage/sim"
	"ullage/store"
)

// storeFigures measures the telemetry store by itself.
func storeFigures(dir string) ([]figure, error) {
	var out []figure
	for _, part := range []func(string) ([]figure, error){seasonFigures, writerFigures, packFigures, startFigures, importFigures} {
		sub, err := os.MkdirTemp(dir, "store-")
		if err != nil {
			return nil, err
		}
		f, err := part(sub)
		if err != nil {
			return nil, err
		}
		os.RemoveAll(sub)
		out = append(out, f...)
	}
	return out, nil
}

var season = time.Date(2026, 3, 9, 12, 0, 0, 0, time.UTC)

func reading(metric string, at time.Time, v any) value.Reading {
	x, err := value.FromAny(v)
	if err != nil {
		panic(err)
	}
	return value.Reading{Metric: metric, At: at, Value: x}
}

// appendAll appends and waits until everything is durable.
func appendAll(s *store.Store, device string, every time.Duration, rs []value.Reading) error {
	done := make(chan error, 1)
	if err := s.Append(ingest.Append{Device: device, Every: every, Readings: rs, Done: func(err error) { done <- err }}); err != nil {
		return err
	}
	return <-done
}

// noiseFigure packs readings of fifteen digits, most of which are noise, in chunks
// and in a Parquet file.
func noiseFigure() (figure, error) {
	type row struct {
		At time.Time `parquet:"at,timestamp(millisecond),delta"`
		X  float64   `parquet:"x,split"`
	}
	const n = 43_200
	r := rand.New(rand.NewPCG(1, 15))
	rows := make([]row, n)
	var chunks []byte
	for i := 0; i < n; {
		var part []series.Sample
		for ; len(part) < 480; i++ {
			x := math.Round((21+math.Sin(float64(i)/230)+r.Float64()/5)*1e13) / 1e13
			at := season.Add(time.Duration(i) * time.Minute)
			rows[i] = row{at, x}
			part = append(part, series.Sample{At: at.UnixMilli(), Value: value.OfNumber(x)})
		}
		chunks = series.Encode(chunks, part)
	}
	var file bytes.Buffer
	w := parquet.NewGenericWriter[row](&file, parquet.Compression(&parquet.Zstd))
	if _, err := w.Write(rows); err != nil {
		return figure{}, err
	}
	if err := w.Close(); err != nil {
		return figure{}, err
	}
	ours, theirs := float64(len(chunks))/n, float64(file.Len())/n
	return figure{"  readings of fifteen digits; the ratio is to Parquet, bytes split, Zstandard",
		fmt.Sprintf("%.2f bytes a reading", ours), "1.0", fmt.Sprintf("%.2f", ours/theirs)}, nil
}

// seasonFigures stores 90 days of one tank and 30 days of the demo's fleet, and
// asks for spans of them while the writer has all it can do.
func seasonFigures(dir string) ([]figure, error) {
	fmt.Println("30 days of the demo's fleet …")
	s, err := store.Open(dir, store.Options{})
	if err != nil {
		return nil, err
	}
	defer s.Close()
	world := sim.World{Seed: 7, Start: season}
	units := sim.Fleet(sim.Small)
	readings := 0
	const days = 30
	for day := -days; day < 0; day++ {
		for _, u := range units {
			var batch []value.Reading
			begin := season.AddDate(0, 0, day)
			for at := begin; at.Before(begin.AddDate(0, 0, 1)); at = at.Add(u.Every) {
				for metric, v := range world.Sample(u, at, nil) {
					batch = append(batch, reading(metric, at, v))
				}
			}
			readings += len(batch)
			if err := appendAll(s, u.ID, u.Every, batch); err != nil {
				return nil, err
			}
		}
	}
	const tank = "tank-of-90-days"
	for day := -90; day < 0; day++ {
		var batch []value.Reading
		for m := range 1440 {
			at := season.AddDate(0, 0, day).Add(time.Duration(m) * time.Minute)
			batch = append(batch, reading("must_temp", at, math.Round(220+30*math.Sin(float64(m+day*97)/230)+2*math.Sin(float64(m)*1.7))/10))
		}
		if err := appendAll(s, tank, time.Minute, batch); err != nil {
			return nil, err
		}
	}
	s.Seal()
	use, err := s.Use(context.Background())
	if err != nil {
		return nil, err
	}
	all := float64(readings + 90*1440)
	out := []figure{
		{fmt.Sprintf("chunks after 30 days of the demo, %d devices, %.1f million readings", len(units), all/1e6), fmt.Sprintf("%.2f bytes a reading", float64(use.ChunkBytes)/all), "2.5 bytes", ""},
		{"  roll-ups besides", fmt.Sprintf("%.2f bytes a reading", float64(use.RollupBytes)/all), "", ""},
		{"  the file in all", fmt.Sprintf("%.2f bytes a reading", float64(use.FileBytes)/all), "", ""},
	}
	noise, err := noiseFigure()
	if err != nil {
		return nil, err
	}
	out = append(out, noise)
	// The writer at full load, beside the questions.
	var stop atomic.Bool
	var wg sync.WaitGroup
	for w := range 4 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for n := 0; !stop.Load(); n++ {
				batch := make([]value.Reading, 20)
				for i := range batch {
					batch[i] = reading("must_temp", season.Add(time.Duration(n*20+i)*time.Second), float64(i)/10)
				}
				appendAll(s, fmt.Sprintf("loader-%d-%d", w, n%500), time.Minute, batch)
			}
		}()
	}
	ask := func(f func() error) (time.Duration, error) {
		var all []time.Duration
		for range 60 {
			begun := time.Now()
			if err := f(); err != nil {
				return 0, err
			}
			all = append(all, time.Since(begun))
			time.Sleep(5 * time.Millisecond)
		}
		return median(all), nil
	}
	n := 0
	raw, err := ask(func() error {
		n = 0
		return s.Readings(context.Background(), tank, "must_temp", season.AddDate(0, 0, -40), season.AddDate(0, 0, -39), func(series.Point) error { n++; return nil })
	})
	if err != nil {
		return nil, err
	}
	out = append(out, figure{fmt.Sprintf("a day of one metric, %d readings, median", n), raw.Round(10 * time.Microsecond).String(), "2ms", ""})
	cells := 0
	step := series.NiceStep(90*24*time.Hour, 800)
	long, err := ask(func() error {
		c, err := s.Cells(context.Background(), tank, "must_temp", season.AddDate(0, 0, -90), season, series.Every(step.Milliseconds()), step.Milliseconds())
		cells = len(c)
		return err
	})
	if err != nil {
		return nil, err
	}
	out = append(out, figure{fmt.Sprintf("90 days of one metric in %d points, median", cells), long.Round(10 * time.Microsecond).String(), "10ms", ""})
	stop.Store(true)
	wg.Wait()
	filled, err := windowFigure(s, tank)
	return append(out, filled...), err
}

// windowFigure fills a window of seven days as a rule does at a start, from
// roll-ups and, as the ceiling, reading by reading.
func windowFigure(s *store.Store, device string) ([]figure, error) {
	schema := expr.NewSchema("tank-probe", time.Minute)
	schema.Add(expr.Info{Name: expr.Name{Key: "must_temp"}, Type: expr.Type{Kind: expr.Number}})
	plan := expr.NewPlan(schema)
	program, found := plan.Compile("mean(must_temp over 7d) > 30", expr.ForRule)
	if program == nil {
		return nil, fmt.Errorf("%v", found)
	}
	observe := func(state *expr.State, from time.Time) error {
		return s.Readings(context.Background(), device, "must_temp", from, season, func(p series.Point) error {
			state.Observe(0, p.At.UnixMilli(), p.Value)
			return nil
		})
	}
	fill := func(recall bool) (time.Duration, expr.Truth, error) {
		var truth expr.Truth
		var all []time.Duration
		for range 50 {
			begun := time.Now()
			state := plan.NewState(time.Time{})
			from := season.Add(-plan.Reach())
			if recall {
				var summaries []expr.Recall
				from, summaries = plan.Past(season)
				for _, r := range summaries {
					width := r.Width.Milliseconds()
					cells, err := s.Cells(context.Background(), device, "must_temp", r.From, r.Until, series.Every(width), width)
					if err != nil {
						return 0, truth, err
					}
					past := make([]expr.Summary, len(cells))
					for i := range cells {
						past[i] = expr.Summary(cells[i])
					}
					state.Recall(r, past)
				}
			}
			if err := observe(state, from); err != nil {
				return 0, truth, err
			}
			truth = program.Truth(state)
			all = append(all, time.Since(begun))
		}
		return median(all), truth, nil
	}
	each, want, err := fill(false)
	if err != nil {
		return nil, err
	}
	summed, got, err := fill(true)
	if err == nil && got != want {
		err = fmt.Errorf("the window of roll-ups says %v, that of readings %v", got, want)
	}
	return []figure{{"fill a window of 7 d from roll-ups; ceiling: from its 10,080 readings, " + each.Round(10*time.Microsecond).String(),
		summed.Round(10 * time.Microsecond).String(), "", fmt.Sprintf("%.2f", float64(summed)/float64(each))}}, err
}

// writerFigures compares 64 writers of single readings with a bare loop that
// commits blobs of the same size, and takes the time of acknowledgements while
// everything is sealed beside them.
func writerFigures(dir string) ([]figure, error) {
	kinds := []struct {
		name  string
		above int
		full  bool // a million readings are not yet sealed, so that as many are sealed as come
	}{{"64 writers of single readings into the store", 0, false}, {"  the same while as many are sealed beside", 0, true}, {"  the same with only 20,000 fresh, sealed 300 at a time", 20_000, false}}
	type outcome struct {
		rate, ratio float64
		p50, p99    time.Duration
		sealed      uint64
	}
	var bares []float64
	outcomes := make([][]outcome, len(kinds))
	// The machine has slower moments: each is measured in turns, against the
	// ceiling of its own turn.
	for turn := range writerTurns {
		fmt.Printf("bare loop of the same blobs, then 64 writers, turn %d …\n", turn+1)
		bare, err := blobLoop(filepath.Join(dir, fmt.Sprintf("bare-%d.db", turn)))
		if err != nil {
			return nil, err
		}
		bares = append(bares, bare)
		for i, k := range kinds {
			s, err := store.Open(filepath.Join(dir, fmt.Sprint("store-", turn, "-", i)), store.Options{SealAbove: k.above})
			if err != nil {
				return nil, err
			}
			if k.full {
				if err := fillUp(s); err != nil {
					return nil, err
				}
			}
			rate, lat := singles(s)
			o := outcome{rate: rate, ratio: rate / bare, sealed: s.Stats().Sealed.Load()}
			o.p50, o.p99 = lat.quantiles()
			s.Close()
			outcomes[i] = append(outcomes[i], o)
		}
	}
	slices.Sort(bares)
	out := []figure{{fmt.Sprintf("ceiling: bare loop committing the same blobs, 64 writers × 1 under way, median of %d turns", writerTurns),
		fmt.Sprintf("%.0f/s", bares[len(bares)/2]), "", ""}}
	for i, k := range kinds {
		all := outcomes[i]
		slices.SortFunc(all, func(a, b outcome) int { return cmp.Compare(a.ratio, b.ratio) })
		o := all[len(all)/2]
		out = append(out, figure{k.name, fmt.Sprintf("%.0f/s", o.rate), "0.60", fmt.Sprintf("%.2f (%.2f–%.2f)", o.ratio, all[0].ratio, all[len(all)-1].ratio)},
			figure{"    acknowledgement p50", o.p50.Round(10 * time.Microsecond).String(), "", ""},
			figure{fmt.Sprintf("    acknowledgement p99, %d readings sealed meanwhile", o.sealed), o.p99.Round(10 * time.Microsecond).String(), "25ms", ""})
	}
	return out, nil
}

// fillUp stores a million readings of the devices of singles, from before its time.
func fillUp(s *store.Store) error {
	const each = 1_000_000/connections + 1
	for w := range connections {
		for n := 0; n < each; n += 1000 {
			batch := make([]value.Reading, min(1000, each-n))
			for i := range batch {
				batch[i] = reading("must_temp", season.Add(time.Duration(n+i-each)*time.Second), float64((n+i)%300)/10)
			}
			if err := appendAll(s, fmt.Sprint("d", w), time.Minute, batch); err != nil {
				return err
			}
		}
	}
	return nil
}

// writerTurns is how often the writers are measured.
const writerTurns = 3

func singles(s *store.Store) (float64, *latencies) {
	lat := &latencies{}
	var count atomic.Int64
	var wg sync.WaitGroup
	end := time.Now().Add(measureFor)
	for w := range connections {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for n := 0; time.Now().Before(end); n++ {
				begun := time.Now()
				if appendAll(s, fmt.Sprint("d", w), time.Minute, []value.Reading{reading("must_temp", season.Add(time.Duration(n)*time.Second), float64(n%300)/10)}) == nil {
					lat.add(time.Since(begun))
					count.Add(1)
				}
			}
		}()
	}
	wg.Wait()
	return float64(count.Load()) / measureFor.Seconds(), lat
}

// blobLoop commits what 64 writers hand it, one blob a commit, and nothing else.
func blobLoop(path string) (float64, error) {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=immediate")
	if err != nil {
		return 0, err
	}
	defer db.Close()
	ctx := context.Background()
	conn, err := db.Conn(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, `CREATE TABLE records (seq INTEGER PRIMARY KEY, data BLOB NOT NULL)`); err != nil {
		return 0, err
	}
	var prepared [3]*sql.Stmt
	for i, q := range []string{"BEGIN IMMEDIATE", "INSERT INTO records (data) VALUES (?)", "COMMIT"} {
		if prepared[i], err = conn.PrepareContext(ctx, q); err != nil {
			return 0, err
		}
	}
	queue := make(chan chan struct{}, connections)
	var count atomic.Int64
	var wg sync.WaitGroup
	end := time.Now().Add(measureFor)
	for range connections {
		wg.Add(1)
		go func() {
			defer wg.Done()
			done := make(chan struct{}, 1)
			for time.Now().Before(end) {
				queue <- done
				<-done
				count.Add(1)
			}
		}()
	}
	go func() { wg.Wait(); close(queue) }()
	const bytesEach = 12 // of a reading in a record
	blob := make([]byte, 0, connections*bytesEach)
	for first := range queue {
		batch := []chan struct{}{first}
		for more := true; more; {
			select {
			case d, ok := <-queue:
				if more = ok; ok {
					batch = append(batch, d)
				}
			default:
				more = false
			}
		}
		blob = blob[:len(batch)*bytesEach]
		prepared[0].Exec()
		prepared[1].Exec(blob)
		if _, err := prepared[2].Exec(); err != nil {
			return 0, err
		}
		for _, d := range batch {
			d <- struct{}{}
		}
	}
	return float64(count.Load()) / measureFor.Seconds(), nil
}

// packFigures writes packs of 20 readings, as fast as they are taken.
func packFigures(dir string) ([]figure, error) {
	fmt.Println("packs of 20 readings …")
	s, err := store.Open(dir, store.Options{})
	if err != nil {
		return nil, err
	}
	defer s.Close()
	var count atomic.Int64
	var wg sync.WaitGroup
	begun := time.Now()
	end := begun.Add(2 * measureFor)
	for w := range connections {
		wg.Add(1)
		go func() {
			defer wg.Done()
			slots := make(chan struct{}, 16) // packs under way
			for n := 0; time.Now().Before(end); n++ {
				batch := make([]value.Reading, 20)
				for i := range batch {
					batch[i] = value.Reading{Metric: "must_temp", At: season.Add(time.Duration(n/20*20+i) * time.Second), Value: value.OfNumber(float64(i) / 10)}
				}
				slots <- struct{}{}
				if s.Append(ingest.Append{Device: fmt.Sprintf("d%d-%d", w, n%20), Every: time.Minute, Readings: batch, Done: func(err error) {
					if err == nil {
						count.Add(20)
					}
					<-slots
				}}) != nil {
					<-slots
					time.Sleep(time.Millisecond)
				}
			}
		}()
	}
	wg.Wait()
	rate := float64(count.Load()) / time.Since(begun).Seconds()
	return []figure{{fmt.Sprintf("packs of 20 readings, %d writers, %.1f million sealed meanwhile", connections, float64(s.Stats().Sealed.Load())/1e6),
		fmt.Sprintf("%.0f readings/s", rate), "500,000/s", ""}}, nil
}

// startFigures opens a folder of 50,000 series whose table of records is full,
// as a killed service leaves it.
func startFigures(dir string) ([]figure, error) {
	fmt.Println("50,000 series, killed …")
	const devices, metrics = 10_000, 5
	s, err := store.Open(dir, store.Options{})
	if err != nil {
		return nil, err
	}
	before := heap()
	for round := range 24 {
		for d := range devices {
			batch := make([]value.Reading, 0, metrics)
			for m := range metrics {
				batch = append(batch, reading(fmt.Sprint("m", m), season.Add(time.Duration(round)*time.Minute), float64(d%300)/10+float64(round)))
			}
			if d < devices-1 {
				s.Append(ingest.Append{Device: fmt.Sprint("d", d), Every: time.Minute, Readings: batch, Done: func(error) {}})
			} else if err := appendAll(s, fmt.Sprint("d", d), time.Minute, batch); err != nil {
				return nil, err
			}
		}
		if round == 3 {
			s.Seal()
		}
	}
	grown := heap() - before
	unsealed := s.Stats().Unsealed.Load()
	if err := s.Close(); err != nil { // what is not yet sealed stays in its records, as after a kill
		return nil, err
	}
	begun := time.Now()
	if s, err = store.Open(dir, store.Options{}); err != nil {
		return nil, err
	}
	defer s.Close()
	opened := time.Since(begun)
	n := 0
	if err := s.Latest(context.Background(), func(string, value.Reading) { n++ }); err != nil {
		return nil, err
	}
	whole := time.Since(begun)
	return []figure{
		{fmt.Sprintf("memory of %d series with %d unsealed readings", devices*metrics, unsealed), fmt.Sprintf("%d MiB", grown>>20), "", ""},
		{fmt.Sprintf("start after a kill with them: %d readings read back", s.Stats().Unsealed.Load()), opened.Round(time.Millisecond).String(), "3s", ""},
		{fmt.Sprintf("  and the latest value of each of %d series found", n), whole.Round(time.Millisecond).String(), "3s", ""},
	}, nil
}

func heap() uint64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// importFigures takes a million rows of CSV in through the API.
func importFigures(dir string) ([]figure, error) {
	fmt.Println("importing a million rows …")
	s, err := serve(dir)
	if err != nil {
		return nil, err
	}
	defer s.Stop()
	const rows, devices = 1_000_000, 20
	for d := range devices {
		if _, err := s.Client.CreateDevice(context.Background(), client.NewDevice{ID: fmt.Sprintf("tank-import-%02d", d), Model: "tank-probe"}); err != nil {
			return nil, err
		}
	}
	path := filepath.Join(dir, "rows.csv")
	f, err := os.Create(path)
	if err != nil {
		return nil, err
	}
	w := bufio.NewWriterSize(f, 1<<20)
	fmt.Fprintln(w, "device,metric,at,value")
	begin := time.Now().UTC().AddDate(0, 0, -40)
	for i := range rows {
		fmt.Fprintf(w, "tank-import-%02d,must_temp,%s,%.1f\n", i%devices, begin.Add(time.Duration(i/devices)*time.Minute).Format(time.RFC3339), 20+float64(i%97)/10)
	}
	w.Flush()
	f.Close()
	begun := time.Now()
	if out, errs, code := s.CLI("", "import", path); code != 0 {
		return nil, fmt.Errorf("import: %s %s", out, errs)
	}
	took := time.Since(begun)
	return []figure{{"import of a million rows of CSV, checked, over the API", fmt.Sprintf("%.1f s", took.Seconds()), "60 s", ""}}, nil
}
