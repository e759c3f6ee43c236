package server

import "testing"

// TestLarge: memory is given back after a wave, and not where the heap was about as large as it is at rest.
func TestLarge(t *testing.T) {
	const mb = 1 << 20
	for _, c := range []struct {
		live, peak uint64
		want       bool
	}{{160 * mb, 236 * mb, false}, {160 * mb, 255 * mb, false}, {160 * mb, 257 * mb, true}, {160 * mb, 400 * mb, true}, {0, 5 * mb, false}, {5 * mb, 40 * mb, true}} {
		if got := large(c.live, c.peak); got != c.want {
			t.Errorf("%d MB live, %d MB at most: large is %v", c.live/mb, c.peak/mb, got)
		}
	}
}

func TestGrowth(t *testing.T) {
	const mb = 1 << 20
	for _, c := range []struct {
		name       string
		live, rate uint64
		percent    int
	}{
		{"an empty service", 0, 0, 800},
		{"a small fleet", 40 * mb, 0, 48},
		{"a quiet fleet of ten thousand", 220 * mb, 10 * mb, 48},
		{"a wave of changes", 100 * mb, 70 * mb, 128},
		{"a wave in a large fleet", 640 * mb, 500 * mb, 48},
		{"a flood to a small fleet", 8 * mb, 1000 * mb, 1600},
	} {
		if got := growth(c.live, c.rate); got != c.percent {
			t.Errorf("%s: %d %%, want %d %%", c.name, got, c.percent)
		}
	}
}
