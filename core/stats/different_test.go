package stats_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"ullage/core/stats"
)

func TestDiffer(t *testing.T) {
	for _, c := range []struct {
		what           string
		before, inside []float64
		least          float64
		was, is, dev   float64
		ok             bool
	}{
		{"higher", []float64{10, 11, 9, 10, 10}, []float64{15, 16, 15}, 0.1, 10, 15, 50, true},
		{"lower, in spreads", []float64{8, 9, 10, 11, 12}, []float64{7, 7, 7}, 0.1, 10, 7, -3 / 1.4826, true},
		{"a wild one before", []float64{8, 9, 10, 11, 1e9}, []float64{10, 10, 10}, 0.1, 10, 10, 0, true},
		{"a wild one inside", []float64{8, 9, 10, 11, 12}, []float64{10, 10, -1e9}, 0.1, 10, 10, 0, true},
		{"it never moved", []float64{5, 5, 5}, []float64{5.2, 5.2, 5.2}, 0.1, 5, 5.2, 2, true},
		{"too few before", []float64{5, 5}, []float64{5, 5, 5}, 0.1, 0, 0, 0, false},
		{"too few inside", []float64{5, 5, 5}, []float64{5}, 0.1, 0, 0, 0, false},
	} {
		d, ok := stats.Differ(c.before, c.inside, c.least)
		if ok != c.ok || d.Was != c.was || d.Is != c.is || math.Abs(d.Deviation-c.dev) > 1e-9 {
			t.Errorf("%s: %+v, %v", c.what, d, ok)
		}
	}
	// It is the same in other units, and the other way round below.
	rng := rand.New(rand.NewPCG(7, 9))
	for range 200 {
		before, inside := make([]float64, 20), make([]float64, 8)
		scaled := [2][]float64{make([]float64, 20), make([]float64, 8)}
		for i := range before {
			before[i] = rng.NormFloat64()
			scaled[0][i] = -1000 * before[i]
		}
		for i := range inside {
			inside[i] = rng.NormFloat64() + 3
			scaled[1][i] = -1000 * inside[i]
		}
		a, _ := stats.Differ(before, inside, 0)
		b, _ := stats.Differ(scaled[0], scaled[1], 0)
		if math.Abs(a.Deviation+b.Deviation) > 1e-6 {
			t.Fatalf("%g, and turned round %g", a.Deviation, b.Deviation)
		}
	}
}

func TestBandOf(t *testing.T) {
	if b, ok := stats.BandOf([]float64{5, 1, 3, 2, 4, 0, 10, 9, 8, 7, 6}); !ok || b != (stats.Band{Low: 1, Middle: 5, High: 9}) {
		t.Errorf("of 0 to 10: %+v", b)
	}
	if b, ok := stats.BandOf([]float64{4}); !ok || b != (stats.Band{Low: 4, Middle: 4, High: 4}) {
		t.Errorf("of one: %+v", b)
	}
	if _, ok := stats.BandOf(nil); ok {
		t.Error("of none there is one")
	}
}
