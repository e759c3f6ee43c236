package unit_test

import (
	"math"
	"testing"
	"testing/quick"

	"ullage/core/unit"
)

func TestConvert(t *testing.T) {
	for _, c := range []struct {
		v        float64
		from, to string
		want     float64
	}{
		{0, "Cel", "K", 273.15}, {100, "Cel", "[degF]", 212}, {-40, "[degF]", "Cel", -40}, {300, "K", "Cel", 26.85},
		{1, "bar", "kPa", 100}, {12, "L/min", "l/s", 0.2}, {50, "%", "ppm", 500000}, {1013.25, "hPa", "kPa", 101.325},
		{2, "h", "min", 120}, {-30, "dBW", "dBm", 0}, {5, "mm", "mm", 5},
	} {
		got, err := unit.Convert(c.v, c.from, c.to)
		if err != nil || math.Abs(got-c.want) > 1e-9*math.Max(1, math.Abs(c.want)) {
			t.Errorf("%g %s = %g %s, %v; want %g", c.v, c.from, got, c.to, err, c.want)
		}
	}
	for _, c := range [][2]string{{"Cel", "kPa"}, {"%RH", "%"}, {"V", "A"}, {"Cel", "furlong"}, {"furlong", "m"}} {
		if got, err := unit.Convert(1, c[0], c[1]); err == nil {
			t.Errorf("%s converts to %s as %g, want an error", c[0], c[1], got)
		}
	}
}

func TestConvertThereAndBack(t *testing.T) {
	symbols := unit.Symbols()
	if err := quick.Check(func(a, b uint8, milli int32) bool {
		from, to := symbols[int(a)%len(symbols)], symbols[int(b)%len(symbols)]
		v := float64(milli) / 1000
		there, err := unit.Convert(v, from, to)
		if err != nil {
			return true // unlike dimensions
		}
		back, err := unit.Convert(there, to, from)
		return err == nil && math.Abs(back-v) <= 1e-6*math.Max(1, math.Abs(v))
	}, &quick.Config{MaxCount: 5000}); err != nil {
		t.Error(err)
	}
}

func TestDisplay(t *testing.T) {
	for symbol, want := range map[string]string{"Cel": "°C", "%RH": "%", "L/min": "L/min", "": "", "1": "", "unheard": "unheard"} {
		if got := unit.Display(symbol); got != want {
			t.Errorf("Display(%q) = %q, want %q", symbol, got, want)
		}
	}
}
