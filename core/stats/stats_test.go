package stats_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"ullage/core/stats"
)

func TestTheilSen(t *testing.T) {
	line := func(n int, slope float64) []stats.Point {
		out := make([]stats.Point, n)
		for i := range out {
			out[i] = stats.Point{X: float64(i), Y: 5 + slope*float64(i)}
		}
		return out
	}
	if got, ok := stats.TheilSen(line(20, 0.5)); !ok || got.Slope != 0.5 || got.Low != 0.5 || got.High != 0.5 ||
		got.N != 20 {
		t.Errorf("a straight line has %+v, %t", got, ok)
	}
	wild := line(40, -2)
	for i := 3; i < 40; i += 4 { // a quarter of the points
		wild[i].Y += 1e6
	}
	if got, _ := stats.TheilSen(wild); math.Abs(got.Slope+2) > 0.01 {
		t.Errorf("wild points move the slope to %g", got.Slope)
	}
	if _, ok := stats.TheilSen(line(stats.MinTrend-1, 1)); ok {
		t.Error("too few points have a trend")
	}
	if _, ok := stats.TheilSen(make([]stats.Point, 20)); ok {
		t.Error("points at one place have a trend")
	}
}

// The interval holds the true slope about 19 times out of 20.
func TestTheilSenInterval(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	const rounds = 2000
	inside := 0
	for range rounds {
		points := make([]stats.Point, 30)
		for i := range points {
			points[i] = stats.Point{X: float64(i), Y: 0.3*float64(i) + r.NormFloat64()*4}
		}
		if got, ok := stats.TheilSen(points); ok && got.Low <= 0.3 && got.High >= 0.3 {
			inside++
		}
	}
	if share := float64(inside) / rounds; share < 0.93 || share > 0.98 {
		t.Errorf("the 95 %% interval holds the slope in %.1f %% of the cases", 100*share)
	}
}

func TestMedian(t *testing.T) {
	for _, c := range []struct {
		in   []float64
		want float64
	}{{[]float64{3, 1, 2}, 2}, {[]float64{4, 1, 2, 3}, 2.5}, {[]float64{7}, 7}} {
		if got, ok := stats.Median(c.in); !ok || got != c.want {
			t.Errorf("the median is %g, want %g", got, c.want)
		}
	}
	if _, ok := stats.Median(nil); ok {
		t.Error("nothing has a median")
	}
}
