package replay

import (
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/test/scenario"
)

// The short way through a quiet history comes to the same as the long one.
func TestSkipEqualsJudging(t *testing.T) {
	m := scenario.Model(t, "cellar-air")
	begin := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	skipped := 0
	for seed := range 300 {
		random := rand.New(rand.NewPCG(uint64(seed), 3))
		raise := []string{"co2 > 1500", "co2 >= set.co2_warn", "1500 < co2", "co2 < 900", "not (co2 <= 1400)", "air_temp > 20 'Cel'"}[random.IntN(6)]
		more := []string{"", "deadband: 80\n", "deadband: 80\non_delay: 2min\n", "off_delay: 3min\n", "on_delay: 90s\noff_delay: 1min\n"}[random.IntN(5)]
		r, err := rule.Parse([]byte(fmt.Sprintf("rule: x\nmodels: [cellar-air]\nraise: %s\npriority: low\nmessage: x\n%s", raise, more)))
		if err != nil {
			t.Fatal(err)
		}
		plan := expr.NewPlan(check.Schema(m))
		c, err := r.For(plan)
		if err != nil {
			t.Fatal(err)
		}
		metric, v, step := "co2", 1300.0, 60.0
		if raise[0] == 'a' {
			metric, v, step = "air_temp", 18.0, 0.5
		}
		var col Column
		col.Metric = metric
		at := begin.UnixMilli()
		for range 3000 {
			at += 10_000 + random.Int64N(20_000)
			if random.IntN(60) == 0 {
				at += random.Int64N(20 * 60_000) // a gap, longer than a value is known at times
			}
			v += random.NormFloat64() * step
			if v > 2000 || v < 0 {
				v = 1300
			}
			x := value.OfNumber(math.Round(v*10) / 10)
			col.At, col.Values = append(col.At, at), append(col.Values, x)
		}
		end := value.FromMillis(at + 3_600_000)
		var steps []Step
		for k := range 4 {
			steps = append(steps, Step{At: begin.UnixMilli() + int64(k+1)*(at-begin.UnixMilli())/6, Name: expr.Name{Scope: "set", Key: "co2_warn"}, Value: value.OfNumber(1200 + float64(random.IntN(5))*100)})
		}
		var got [2]Result
		for way := range 2 {
			run := New(Options{Plan: plan, Rules: []*rule.Compiled{c}, Main: "x", Activated: begin, Zone: time.UTC, Judge: begin.Add(time.Minute), From: begin.Add(time.Hour)})
			if slot, ok := plan.Slot(expr.Name{Scope: "set", Key: "co2_warn"}); ok {
				run.State().Set(slot, expr.Sample{Value: value.OfNumber(1500)})
			}
			run.quiet.off = way == 1
			half := len(col.At) / 2
			mid := value.FromMillis(col.At[half])
			var early, late []Step
			for _, s := range steps {
				if s.At < mid.UnixMilli() {
					early = append(early, s)
				} else {
					late = append(late, s)
				}
			}
			run.Feed([]Column{{metric, col.At[:half], col.Values[:half]}}, early, mid)
			run.Feed([]Column{{metric, col.At[half:], col.Values[half:]}}, late, end)
			got[way] = run.End(end)
			if way == 0 && run.quiet.simple {
				skipped++
			}
		}
		if a, b := got[0], got[1]; !reflect.DeepEqual(spansOf(a), spansOf(b)) || a.Readings != b.Readings || a.Raised != b.Raised || a.Known != b.Known || a.Chattering != b.Chattering ||
			math.Abs(a.Lost-b.Lost) > 1e-9 || math.IsNaN(a.Lost) != math.IsNaN(b.Lost) {
			t.Fatalf("%s, %q, seed %d: the short way gives %d alarms, %s raised, %.6f lost over %s; the long one %d, %s, %.6f over %s", raise, more, seed, a.Alarms, a.Raised, a.Lost, a.Known, b.Alarms, b.Raised, b.Lost, b.Known)
		}
	}
	if skipped < 200 {
		t.Errorf("the short way was taken %d times of 300", skipped)
	}
}

// spansOf leaves out what is no number, which equals nothing.
func spansOf(r Result) []string {
	var out []string
	for _, s := range r.Spans {
		out = append(out, fmt.Sprint(s))
	}
	return out
}
