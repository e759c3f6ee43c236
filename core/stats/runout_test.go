package stats_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"ullage/core/stats"
)

// days are a cell that loses some each day, with noise of which a share goes over to the next.
func days(r *rand.Rand, n int, from, perDay, noise, share float64) []stats.Point {
	out := make([]stats.Point, n)
	e := 0.0
	for i := range out {
		e = share*e + noise*math.Sqrt(1-share*share)*r.NormFloat64()
		out[i] = stats.Point{X: float64(i), Y: from + perDay*float64(i) + e}
	}
	return out
}

func TestRunsOut(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for name, c := range map[string]struct {
		points []stats.Point
		limit  float64
		likely float64 // -1 for never
		filled bool
	}{
		"a straight line":           {days(r, 60, 3.6, -0.005, 0, 0), 2.9, 140, false},
		"it is under the limit now": {days(r, 60, 3, -0.005, 0, 0), 2.9, 59, false},
		"it loses nothing":          {days(r, 60, 3.6, 0, 0.002, 0), 2.9, -1, false},
		"it is charged":             {days(r, 60, 3, 0.005, 0.002, 0), 2.9, -1, false},
		"a new cell after forty days": {append(days(r, 40, 3.3, -0.02, 0.002, 0), shifted(days(r, 30, 3.6, -0.01, 0.002, 0), 40)...),
			2.9, 110, true},
		"a wild point": {wild(days(r, 60, 3.6, -0.005, 0.0005, 0), 30, 9), 2.9, 140, false},
		"a drop-out":   {wild(days(r, 60, 3.6, -0.005, 0.0005, 0), 30, 0), 2.9, 140, false},
	} {
		t.Run(name, func(t *testing.T) {
			x, ok := stats.RunsOut(c.points, c.limit)
			if !ok || x.Filled != c.filled {
				t.Fatalf("it came to %+v, %v", x, ok)
			}
			if never := math.IsInf(x.Likely, 1); never != (c.likely < 0) || !never && math.Abs(x.Likely-c.likely) > 5 {
				t.Errorf("it is empty at %.1f, and should be at %.1f", x.Likely, c.likely)
			}
			if x.Early > x.Likely || x.Likely > x.Late {
				t.Errorf("%.1f, %.1f and %.1f are in no order", x.Early, x.Likely, x.Late)
			}
		})
	}
	for n := range stats.MinTrend {
		if x, ok := stats.RunsOut(days(r, n, 3.6, -0.01, 0.01, 0), 2.9); ok {
			t.Errorf("%d days are enough for %+v", n, x)
		}
	}
}

func shifted(ps []stats.Point, by float64) []stats.Point {
	for i := range ps {
		ps[i].X += by
	}
	return ps
}

func wild(ps []stats.Point, i int, y float64) []stats.Point {
	ps[i].Y = y
	return ps
}

// TestRunsOutBand: the day lies in the band about as often as the band says, also where one day
// is like the one before.
func TestRunsOutBand(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for _, share := range []float64{0, 0.4, 0.7} {
		inside, rounds := 0, 400
		for range rounds {
			x, ok := stats.RunsOut(days(r, 40, 3.6, -0.004, 0.02, share), 2.9)
			if !ok {
				t.Fatal("forty days are not enough")
			}
			if x.Early <= 175 && 175 <= x.Late {
				inside++
			}
		}
		if got := float64(inside) / float64(rounds); got < 0.88 {
			t.Errorf("with %.1f of the noise going over to the next day, the day is in the band %.2f of the time", share, got)
		}
	}
}

func FuzzRunsOut(f *testing.F) {
	f.Add(uint64(1), 3.6, -0.01, 2.9)
	f.Fuzz(func(t *testing.T, seed uint64, from, perDay, limit float64) {
		for _, x := range []float64{from, perDay, limit} {
			if math.IsNaN(x) || math.Abs(x) > 1e9 {
				return
			}
		}
		r := rand.New(rand.NewPCG(seed, seed))
		x, ok := stats.RunsOut(days(r, int(seed%70), from, perDay, 0.1, 0.2), limit)
		if ok && (x.Early > x.Likely || x.Likely > x.Late || math.IsNaN(x.Likely) || math.IsNaN(x.Early) || math.IsNaN(x.Late)) {
			t.Errorf("%+v", x)
		}
	})
}
