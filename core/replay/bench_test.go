package replay_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/replay"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/test/scenario"
)

// A replay over many readings of one metric; the ratio to the same by hand is what the
// benchmark alarms of test/bench prints.
func BenchmarkFeed(b *testing.B) {
	m := scenario.Model(b, "tank-probe")
	r, err := rule.Parse([]byte("rule: hot\nmodels: [tank-probe]\nraise: must_temp > 32\non_delay: 30s\noff_delay: 1min\ndeadband: 0.5\npriority: high\nmessage: hot\n"))
	if err != nil {
		b.Fatal(err)
	}
	plan := expr.NewPlan(check.Schema(m))
	c, err := r.For(plan)
	if err != nil {
		b.Fatal(err)
	}
	begin := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	random := rand.New(rand.NewPCG(1, 2))
	const n = 100_000
	col := replay.Column{Metric: "must_temp", At: make([]int64, n), Values: make([]value.Value, n)}
	v := 30.0
	for i := range n {
		v = min(max(v+random.NormFloat64()*0.1, 25), 35)
		col.At[i], col.Values[i] = begin.UnixMilli()+int64(i)*10_000, value.OfNumber(v)
	}
	end := value.FromMillis(col.At[n-1] + 1)
	b.ReportAllocs()
	for b.Loop() {
		run := replay.New(replay.Options{Plan: plan, Rules: []*rule.Compiled{c}, Main: "hot", Activated: begin, Zone: time.UTC, Judge: begin, From: begin})
		run.Feed([]replay.Column{col}, nil, end)
		if run.End(end).Alarms == 0 {
			b.Fatal("nothing is raised")
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/n, "ns/reading")
}
