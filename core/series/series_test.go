package series_test

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"ullage/core/series"
	"ullage/core/value"
)

var zero = time.Date(2026, 3, 9, 0, 0, 0, 0, time.UTC)

// TestBucketerAgainstPlainSums compares with sums made the slow way.
func TestBucketerAgainstPlainSums(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for range 200 {
		step := series.Steps[rng.IntN(len(series.Steps))]
		b, err := series.NewBucketer(zero, zero.Add(1000*step), step)
		if err != nil {
			t.Fatal(err)
		}
		groups := map[int64][]float64{}
		at := zero
		for range 300 {
			at = at.Add(time.Duration(rng.Int64N(int64(step)*2)) + time.Millisecond).Truncate(time.Millisecond)
			v := math.Round(rng.NormFloat64()*1000) / 10
			b.Add(series.Point{At: at, Value: value.OfNumber(v)})
			k := at.UnixMilli() / step.Milliseconds() * step.Milliseconds()
			groups[k] = append(groups[k], v)
		}
		got := b.Buckets()
		if len(got) != len(groups) {
			t.Fatalf("%d buckets, want %d", len(got), len(groups))
		}
		for _, k := range got {
			vs := groups[k.At.UnixMilli()]
			low, high, sum := math.Inf(1), math.Inf(-1), 0.0
			for _, v := range vs {
				low, high, sum = min(low, v), max(high, v), sum+v
			}
			if k.Count != len(vs) || k.Min != low || k.Max != high || math.Abs(k.Mean-sum/float64(len(vs))) > 1e-9 || k.Last.Num != vs[len(vs)-1] {
				t.Fatalf("bucket %+v of %v", k, vs)
			}
		}
	}
}

func TestNewBucketerRefuses(t *testing.T) {
	if _, err := series.NewBucketer(zero, zero.Add(24*time.Hour), time.Second); err == nil {
		t.Error("86,400 buckets were taken on")
	}
	if _, err := series.NewBucketer(zero, zero.Add(time.Hour), 0); err == nil {
		t.Error("a step of nothing was taken on")
	}
}

func TestNiceStep(t *testing.T) {
	for _, c := range []struct {
		span time.Duration
		n    int
		want time.Duration
	}{{time.Hour, 60, time.Minute}, {24 * time.Hour, 300, 5 * time.Minute}, {90 * 24 * time.Hour, 500, 6 * time.Hour}, {time.Second, 300, time.Second}, {1000 * 24 * time.Hour, 1, 7 * 24 * time.Hour}, {time.Hour, 0, time.Hour}} {
		if got := series.NiceStep(c.span, c.n); got != c.want {
			t.Errorf("NiceStep(%s, %d) = %s, want %s", c.span, c.n, got, c.want)
		}
	}
}

func BenchmarkBucketer(b *testing.B) {
	points := make([]series.Point, 10_000)
	for i := range points {
		points[i] = series.Point{At: zero.Add(time.Duration(i) * time.Second), Value: value.OfNumber(float64(i % 97))}
	}
	for b.Loop() {
		k, _ := series.NewBucketer(zero, zero.Add(3*time.Hour), time.Minute)
		for _, p := range points {
			k.Add(p)
		}
	}
}
