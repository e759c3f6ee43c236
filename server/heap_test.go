package server

import "testing"

func TestGrowth(t *testing.T) {
	const mb = 1 << 20
	for _, c := range []struct {
		name       string
		live, rate uint64
		percent    int
	}{
		{"an empty service", 0, 0, 800},
		{"a small fleet", 40 * mb, 0, 35},
		{"a quiet fleet of ten thousand", 220 * mb, 10 * mb, 35},
		{"a wave of changes", 100 * mb, 70 * mb, 128},
		{"a wave in a large fleet", 640 * mb, 500 * mb, 35},
		{"a flood to a small fleet", 8 * mb, 1000 * mb, 1600},
	} {
		if got := growth(c.live, c.rate); got != c.percent {
			t.Errorf("%s: %d %%, want %d %%", c.name, got, c.percent)
		}
	}
}
