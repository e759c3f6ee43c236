package plot_test

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ullage/core/plot"
)

var start = time.Date(2026, 3, 9, 6, 0, 0, 0, time.UTC)

func TestLine(t *testing.T) {
	at := func(minute int, v float64) plot.Step {
		return plot.Step{At: start.Add(time.Duration(minute) * time.Minute), Min: v - 1, Max: v + 1, Mean: v}
	}
	steps := []plot.Step{at(0, 10), at(1, 12), at(2, 11), at(30, 10), at(59, 9), at(60, 9)}
	f := plot.Frame{From: start, To: start.Add(time.Hour), Low: 0, High: 20, Width: 600, Height: 100}
	if got, want := f.Line(steps, 5*time.Minute), "M0 50L10 40L20 45M300 50h1M590 55L600 55"; got != want {
		t.Errorf("the line is %s, want %s", got, want)
	}
	if got, want := f.Band(steps[:2], 5*time.Minute), "M0 45L10 35L10 45L0 55Z"; got != want {
		t.Errorf("the band is %s, want %s", got, want)
	}
	if f.Line(nil, time.Minute) != "" || f.Band(nil, time.Minute) != "" {
		t.Error("nothing is drawn as something")
	}
}

// TestFit: whatever the values are, they lie in the frame, and nothing is no number.
func TestFit(t *testing.T) {
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 5))
		var steps []plot.Step
		scale := math.Pow(10, float64(r.IntN(40)-20))
		for i := range r.IntN(20) {
			v := (r.Float64() - 0.5) * scale * float64(r.IntN(2))
			steps = append(steps, plot.Step{At: start.Add(time.Duration(i) * time.Minute), Min: v, Max: v, Mean: v})
		}
		f := plot.Fit(steps, start, start.Add(time.Hour), 600, 100)
		for _, s := range steps {
			if y := f.Y(s.Mean); !(y >= 0 && y <= 100) {
				t.Fatalf("seed %d: %g lies at %g of %+v", seed, s.Mean, y, f)
			}
		}
		if path := f.Line(steps, time.Hour) + f.Band(steps, time.Hour); strings.Contains(path, "N") || strings.Contains(path, "I") {
			t.Fatalf("seed %d: the path is %s", seed, path)
		}
	}
	if f := plot.Fit([]plot.Step{{At: start, Min: math.NaN(), Max: math.NaN()}}, start, start, 600, 100); math.IsNaN(f.Low) || f.X(start) != 0 {
		t.Errorf("a frame of nothing is %+v", f)
	}
}
