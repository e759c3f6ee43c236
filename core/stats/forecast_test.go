package stats_test

import (
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"ullage/core/stats"
)

// TestForecastKnowsTheWay goes on from curves whose way is known.
func TestForecastKnowsTheWay(t *testing.T) {
	const season = 24
	for name, c := range map[string]struct {
		at       func(i int) float64
		seasonal bool
		within   float64
	}{
		"a level":            {func(int) float64 { return 7 }, true, 1e-6},
		"a day's wave":       {func(i int) float64 { return 20 + 3*math.Sin(2*math.Pi*float64(i)/season) }, true, 0.2},
		"a wave that rises":  {func(i int) float64 { return 20 + 0.05*float64(i) + 3*math.Sin(2*math.Pi*float64(i)/season) }, true, 0.6},
		"a slope, no season": {func(i int) float64 { return 1 + 0.5*float64(i) }, false, 1.5},
	} {
		n := 5 * season
		if !c.seasonal {
			n = 30
		}
		var past []float64
		for i := range n {
			past = append(past, c.at(i))
		}
		f, err := stats.Predict(past, season, 12)
		if err != nil || f.Seasonal && !c.seasonal || len(f.Mean) != 12 {
			t.Fatalf("%s: %+v, %v", name, f, err)
		}
		for h := range 12 {
			if d := math.Abs(f.Mean[h] - c.at(n+h)); d > c.within {
				t.Errorf("%s: %d ahead it is off by %.3f", name, h+1, d)
			}
		}
	}
}

// TestBandHolds counts over many made histories how often the truth lies in
// the band: as often as it says, within reason.
func TestBandHolds(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	const season, ahead = 24, 24
	in, all := 0, 0
	for range 120 {
		var values []float64
		level := 20.0
		for i := range 6*season + ahead {
			level += 0.05 * r.NormFloat64()
			v := level + 2*math.Sin(2*math.Pi*float64(i)/season) + 0.3*r.NormFloat64()
			if r.IntN(25) == 0 && i < 6*season-1 {
				v = math.NaN() // some are missing
			}
			values = append(values, v)
		}
		f, err := stats.Predict(values[:6*season], season, ahead)
		if err != nil {
			t.Fatal(err)
		}
		for h := range ahead {
			if v := values[6*season+h]; v >= f.Low[h] && v <= f.High[h] {
				in++
			}
			all++
		}
	}
	if share := float64(in) / float64(all); share < 0.88 || share > 0.99 {
		t.Errorf("%.1f %% lie in the band of 95 %%", 100*share)
	}
}

func TestTooLittle(t *testing.T) {
	holes := slices.Repeat([]float64{1, math.NaN()}, 50)
	for name, values := range map[string][]float64{"nothing": nil, "a few": {1, 2, 3, 4, 5}, "holes": append(holes, math.NaN()), "a hole at the end": append(slices.Repeat([]float64{1}, 40), math.NaN())} {
		if f, err := stats.Predict(values, 24, 10); !errors.Is(err, stats.ErrTooLittle) {
			t.Errorf("%s: %+v, %v", name, f, err)
		}
	}
}

// BenchmarkPredict forecasts twelve hours from eight days, in steps of a quarter
// of an hour.
func BenchmarkPredict(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 2))
	var values []float64
	for i := range 8 * 96 {
		values = append(values, 20+3*math.Sin(2*math.Pi*float64(i)/96)+0.2*r.NormFloat64())
	}
	for b.Loop() {
		if _, err := stats.Predict(values, 96, 48); err != nil {
			b.Fatal(err)
		}
	}
}

func TestSummary(t *testing.T) {
	if _, ok := stats.Summarise(nil); ok {
		t.Error("nothing is summed up")
	}
	values := []float64{}
	for i := range 101 {
		values = append(values, float64(100-i)+1e9)
	}
	s, _ := stats.Summarise(values)
	if s.N != 101 || s.Min != 1e9 || s.Max != 1e9+100 || s.Mean != 1e9+50 || s.P5 != 1e9+5 || s.P25 != 1e9+25 ||
		s.P50 != 1e9+50 || s.P95 != 1e9+95 || math.Abs(s.Deviation-29.3) > 0.01 {
		t.Errorf("%+v", s)
	}
	h, _ := stats.HistogramOf(values, 10)
	total := 0
	for _, n := range h.Counts {
		total += n
	}
	if total != 101 || len(h.Counts) > 10 || h.Low != 1e9 {
		t.Errorf("%+v", h)
	}
	if h, _ := stats.HistogramOf([]float64{3, 3, 3}, 10); len(h.Counts) != 1 || h.Counts[0] != 3 {
		t.Errorf("of one value: %+v", h)
	}
}

func TestCrossing(t *testing.T) {
	for name, c := range map[string]struct {
		values []float64
		limit  float64
		upward bool
		at     float64
		ok     bool
	}{
		"on the way up":      {[]float64{1, 2, 4}, 3, true, 1.5, true},
		"on the way down":    {[]float64{4, 3, 1}, 2, false, 1.5, true},
		"from the beginning": {[]float64{5, 1}, 3, true, 0, true},
		"just reached":       {[]float64{1, 3}, 3, true, 1, true},
		"back again":         {[]float64{1, 5, 1}, 3, true, 0.5, true},
		"never":              {[]float64{1, 2, 2.9}, 3, true, 0, false},
		"the other side":     {[]float64{4, 5}, 3, false, 0, false},
		"of nothing":         {nil, 3, true, 0, false},
		"with a hole":        {[]float64{1, math.NaN(), 2}, 3, true, 0, false},
	} {
		if at, ok := stats.Crossing(c.values, c.limit, c.upward); ok != c.ok || math.Abs(at-c.at) > 1e-12 {
			t.Errorf("%s: %g, %v", name, at, ok)
		}
	}
}
