package main

import (
	"context"
	"fmt"
	"go/parser"
	"io/fs"
	"math/rand/v2"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"ullage/app"
	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/value"
	"ullage/examples/cellars"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/ingest"
)

const (
	selectAmong = 10_000
	everyTen    = 10 * time.Second
)

// tenRules are ten rules with four windows between them.
var tenRules = []string{
	`must_temp > set.max_temp`, `mean(must_temp over 10min) > set.max_temp - 1`, `max(must_temp over 1h) - min(must_temp over 1h) > 4`, `rate(must_temp over 30min) > 2 'K/h'`,
	`must_temp > 30 and label.stage == "fermenting"`, `must_temp outside 10 and 35`, `p95(must_temp over 5min) > 33`, `density < 1000 or must_temp > 33`,
	`must_temp > 25 and ullage < 10`, `age(must_temp) > 15min or must_temp < 4`,
}

func expressionFigures(dir string) ([]figure, error) {
	fmt.Println("compiling and evaluating expressions …")
	m, err := tankProbe()
	if err != nil {
		return nil, err
	}
	m.Interval = everyTen
	around := check.Around{Labels: map[string][]string{"stage": {"fermenting", "resting"}}}
	schema := func() *expr.Schema { return around.With(check.Schema(m)) }

	const rule = `mean(must_temp over 10min) > set.max_temp - 1.5 and label.stage == "fermenting"`
	s := schema()
	compile := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			if p, found := expr.Compile(rule, s, expr.ForRule); p == nil {
				b.Fatal(found)
			}
		}
	})
	// The same text, as far as Go can read it, through Go's own parser.
	parse := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			if _, err := parser.ParseExpr(`mean(must_temp, 10) > set.max_temp - 1.5 && label.stage == "fermenting"`); err != nil {
				b.Fatal(err)
			}
		}
	})

	plan, programs, err := compiled(schema(), tenRules)
	if err != nil {
		return nil, err
	}
	temp, _ := plan.Slot(expr.Name{Key: "must_temp"})
	start := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)
	one := fresh(plan, start)
	values := drifting(1 << 12)
	at, i := start.UnixMilli(), 0
	step := func() {
		at += everyTen.Milliseconds()
		i++
		one.Observe(temp, at, value.OfNumber(values[i%len(values)]))
		for _, p := range programs {
			p.Judge(one)
		}
	}
	for range 1000 {
		step()
	}
	reading := testing.Benchmark(func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			step()
		}
	})
	hand := testing.Benchmark(byHand(values))

	refill := testing.Benchmark(func(b *testing.B) {
		plan, _, err := compiled(schema(), []string{`mean(must_temp over 1h) > 30`})
		if err != nil {
			b.Fatal(err)
		}
		slot, _ := plan.Slot(expr.Name{Key: "must_temp"})
		st := plan.NewState(start)
		at := start.UnixMilli()
		i := 0
		for b.Loop() {
			at += everyTen.Milliseconds()
			i++
			st.Observe(slot, at, value.OfNumber(values[i%len(values)]))
		}
	})

	bytes, windows, err := stateMemory(schema(), start, values)
	if err != nil {
		return nil, err
	}
	selecting, scanning, latest, err := selection(dir)
	if err != nil {
		return nil, err
	}
	return []figure{
		{"compile a typical rule; ceiling: Go's parser on its text", dur(compile), "under 50 µs", ratio(parse, compile)},
		{fmt.Sprintf("one reading through ten rules with four windows (%d allocations)", reading.AllocsPerOp()), dur(reading), "under 2 µs, 0", ""},
		{"  ceiling: the same ten conditions written in Go by hand", dur(hand), "", ratio(hand, reading)},
		{"refill of a one-hour window, one core", fmt.Sprintf("%.1f M readings/s", 1e3/float64(refill.NsPerOp())), "1 M readings/s", ""},
		{fmt.Sprintf("state of 10,000 devices × 10 rules × 4 windows of 1 h (%d kept)", windows), fmt.Sprintf("%d MB", bytes>>20), "under 500 MB", ""},
		{fmt.Sprintf("select among %d devices by labels and latest values", selectAmong), selecting.Round(10 * time.Microsecond).String(), "under 10 ms", ""},
		{fmt.Sprintf("latest values of %d devices, changing, the writer at full load", selectAmong), latest.Round(10 * time.Microsecond).String(), "under 20 ms", ""},
		{"  ceiling: the same condition in Go over copies of the values", scanning.Round(10 * time.Microsecond).String(), "", fmt.Sprintf("%.2f", float64(scanning)/float64(selecting))},
	}, nil
}

func dur(r testing.BenchmarkResult) string {
	return (time.Duration(r.T.Nanoseconds()/int64(r.N)) * time.Nanosecond).String()
}

func ratio(ceiling, got testing.BenchmarkResult) string {
	return fmt.Sprintf("%.2f", float64(ceiling.T)/float64(ceiling.N)/(float64(got.T)/float64(got.N)))
}

// drifting are temperatures that drift from one reading to the next.
func drifting(n int) []float64 {
	r := rand.New(rand.NewPCG(1, 1))
	out := make([]float64, n)
	v := 25.0
	for i := range out {
		v = min(max(v+(r.Float64()-0.5)/4, 18), 36)
		out[i] = v
	}
	return out
}

func tankProbe() (*model.Model, error) {
	b, err := cellars.Files.ReadFile("models/tank-probe.tm.json")
	if err != nil {
		return nil, err
	}
	return model.Parse(b)
}

func compiled(s *expr.Schema, rules []string) (*expr.Plan, []*expr.Program, error) {
	plan := expr.NewPlan(s)
	var out []*expr.Program
	for _, src := range rules {
		p, found := plan.Compile(src, expr.ForRule)
		if p == nil {
			return nil, nil, found
		}
		out = append(out, p)
	}
	return plan, out, nil
}

func fresh(plan *expr.Plan, at time.Time) *expr.State {
	st := plan.NewState(at)
	for name, v := range map[expr.Name]value.Value{{Scope: "set", Key: "max_temp"}: value.OfNumber(32),
		{Scope: "label", Key: "stage"}: value.OfText("fermenting")} {
		if slot, ok := plan.Slot(name); ok {
			st.Set(slot, expr.Sample{Value: v})
		}
	}
	return st
}

// byHand does what the ten rules do with code for just them: rings with
// running sums, extremes by looking through them again only when one leaves.
func byHand(values []float64) func(*testing.B) {
	return func(b *testing.B) {
		const hour, half, ten, five = 360, 180, 60, 30
		var ring [512]float64
		sum, low, high := 0.0, 1e9, -1e9
		limit, stage, density, ullage := 32.0, "fermenting", 1050.0, 30.0
		n, raised := 0, 0
		for b.Loop() {
			v := values[n%len(values)]
			out := ring[(n-hour)&511]
			ring[n&511] = v
			sum += v - ring[(n-ten)&511]
			low, high = min(low, v), max(high, v)
			if out == low || out == high {
				low, high = 1e9, -1e9
				for k := n - hour + 1; k <= n; k++ {
					low, high = min(low, ring[k&511]), max(high, ring[k&511])
				}
			}
			over := 0
			for k := n - five + 1; k <= n; k++ { // the 95th percentile: two of thirty may be above
				if ring[k&511] > 33 {
					over++
				}
			}
			for _, is := range [...]bool{v > limit, sum/ten > limit-1, high-low > 4, (v-ring[(n-half)&511])*2 > 2,
				v > 30 && stage == "fermenting", v < 10 || v > 35, over > 1, density < 1000 ||
					v > 33, v > 25 && ullage < 10, v < 4} {
				if is {
					raised++
				}
			}
			n++
		}
		runtime.KeepAlive(raised)
	}
}

// stateMemory fills the States of 10,000 devices with an hour of readings.
func stateMemory(s *expr.Schema, start time.Time, values []float64) (bytes uint64, windows int, err error) {
	var rules []string
	for i := range 10 {
		rules = append(rules, fmt.Sprintf(`mean(must_temp over 1h) > %d or max(density over 1h) > 1100 or min(ullage over 1h) < %d or rate(co2_flow over 1h) > %d 'L/min/h'`, 30+i, i, 9+i))
	}
	plan, programs, err := compiled(s, rules)
	if err != nil {
		return 0, 0, err
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	states := make([]*expr.State, selectAmong)
	for k := range states {
		st := fresh(plan, start)
		for i := range 360 {
			for slot, n := range plan.Names() {
				if n.Name.Scope == "" {
					st.Observe(slot, start.Add(time.Duration(i)*everyTen).UnixMilli(),
						value.OfNumber(values[(i*7+slot+k)%len(values)]))
				}
			}
		}
		for _, p := range programs {
			p.Judge(st)
		}
		states[k] = st
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	runtime.KeepAlive(states)
	return after.HeapAlloc - before.HeapAlloc, plan.Windows(), nil
}

// selection measures the filter of a list over a whole service without doors.
func selection(dir string) (selecting, scanning, latest time.Duration, err error) {
	fmt.Printf("onboarding %d devices …\n", selectAmong)
	now := time.Now
	ctx := context.Background()
	a, err := app.New(ctx, app.Options{Dir: filepath.Join(dir, "select")})
	if err != nil {
		return 0, 0, 0, err
	}
	defer a.Close()
	files, err := fs.Glob(cellars.Files, "models/*.tm.json")
	if err != nil {
		return 0, 0, 0, err
	}
	for _, f := range files {
		b, err := cellars.Files.ReadFile(f)
		if err != nil {
			return 0, 0, 0, err
		}
		if _, _, err := a.Models.Publish(ctx, b, nil, "bench"); err != nil {
			return 0, 0, 0, err
		}
	}
	a.Start(false)
	type copied struct {
		stage, site string
		temp, limit float64
	}
	copies := make([]copied, selectAmong)
	values := drifting(selectAmong)
	answered := make(chan struct{}, selectAmong)
	var onboarding errgroup.Group
	onboarding.SetLimit(200)
	for i := range selectAmong {
		c := copied{[]string{"fermenting", "resting", "empty"}[i%3], []string{"Fennimore", "Kilnside"}[i%2], values[i],
			32}
		copies[i] = c
		id := fmt.Sprintf("tank-%05d", i)
		onboarding.Go(func() error {
			_, _, err := a.Devices.Create(ctx, devices.New{ID: id, Model: "tank-probe",
				Labels: map[string]string{"stage": c.stage, "site": c.site}}, "bench")
			return err
		})
	}
	if err := onboarding.Wait(); err != nil {
		return 0, 0, 0, err
	}
	for i, c := range copies {
		id := fmt.Sprintf("tank-%05d", i)
		body := fmt.Sprintf(`{"must_temp":%.2f,"density":1050}`, c.temp)
		a.Intake.Accept(ingest.Message{Device: id, Kind: ingest.Readings, Body: []byte(body),
			Transport: "bench"}, func(ingest.Outcome) {
			answered <- struct{}{}
		})
	}
	for range selectAmong {
		select {
		case <-answered:
		case <-time.After(time.Minute):
			return 0, 0, 0, context.DeadlineExceeded
		}
	}
	a.Settle()
	const where = `must_temp > 28 and label.stage == "fermenting" and label.site != "Kilnside"`
	best := func(f func() int) (time.Duration, int) {
		var all []time.Duration
		n := 0
		for range 25 {
			begun := time.Now()
			n = f()
			all = append(all, time.Since(begun))
		}
		return median(all), n
	}
	var failed error
	selecting, got := best(func() int {
		set, err := a.Expressions.Where(where)
		failed = err
		return len(set)
	})
	scanning, want := best(func() int {
		set := map[int]bool{}
		for i, c := range copies {
			if c.temp > 28 && c.stage == "fermenting" && c.site != "Kilnside" {
				set[i] = true
			}
		}
		return len(set)
	})
	if failed == nil && (got-want > 20 || want-got > 20 || got == 0) {
		failed = fmt.Errorf("the filter picks %d devices and the hand-written one %d", got, want)
	}
	// The newest values of everything, with the writer at full load.
	var stop atomic.Bool
	var load sync.WaitGroup
	for w := range 4 {
		load.Add(1)
		go func() {
			defer load.Done()
			for n := 0; !stop.Load(); n++ {
				batch := make([]value.Reading, 20)
				for i := range batch {
					batch[i] = reading("x", season.Add(time.Duration(n*20+i)*time.Second), float64(i)/10)
				}
				appendAll(a.Store, fmt.Sprintf("loader-%d-%d", w, n%500), time.Minute, batch)
			}
		}()
	}
	// And every device has a newer value each time.
	load.Go(func() {
		for n := 0; !stop.Load(); n++ {
			at := now()
			for i := 0; i < selectAmong && !stop.Load(); i++ {
				a.Bus.Publish(event.Readings{Device: fmt.Sprintf("tank-%05d", i), Arrived: at,
					Readings: []value.Reading{reading("must_temp", at, float64(n%10)+20)}})
			}
			a.Bus.Settle()
		}
	})
	latest, found := best(func() int {
		all, _ := a.Present.Since(0)
		return len(all)
	})
	stop.Store(true)
	load.Wait()
	if failed == nil && found != selectAmong {
		failed = fmt.Errorf("the newest values of %d devices were found", found)
	}
	return selecting, scanning, latest, failed
}
