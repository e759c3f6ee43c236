package waves_test

import (
	"testing"
	"time"

	"ullage/core/health"
	"ullage/core/waves"
)

func TestWait(t *testing.T) {
	now := time.Date(2026, 9, 12, 6, 0, 0, 0, time.UTC)
	ago := func(h float64) time.Time { return now.Add(-time.Duration(h * float64(time.Hour))) }
	nights := []health.Spell{{From: ago(50), End: ago(42)}, {From: ago(26), End: ago(18)}, {From: ago(14), End: ago(13)}}
	for _, c := range []struct {
		what   string
		spells []health.Spell
		wait   time.Duration
		known  bool
	}{
		{"never away", nil, 0, true},
		{"on line now", nights, 0, true},
		{"away for two of eight usual hours", append(nights[:2:2], health.Spell{From: ago(2)}), 6 * time.Hour, true},
		{"away for longer than ever", append(nights[:2:2], health.Spell{From: ago(11)}), 11 * time.Hour, true},
		{"never came back", []health.Spell{{From: ago(100)}}, 0, false},
	} {
		if wait, known := waves.Wait(c.spells, now); wait != c.wait || known != c.known {
			t.Errorf("%s: %s, %v", c.what, wait, known)
		}
	}
}

func TestExpected(t *testing.T) {
	h := time.Hour
	for _, c := range []struct {
		waits   []time.Duration
		unknown int
		reached float64
		want    time.Duration
		known   bool
	}{
		{[]time.Duration{0, 0, 0, 5 * h}, 0, 75, 0, true},
		{[]time.Duration{5 * h, 0, 0, 0}, 0, 90, 5 * h, true},
		{[]time.Duration{0, 2 * h, 9 * h}, 1, 75, 9 * h, true},
		{[]time.Duration{0, 2 * h, 9 * h}, 1, 90, 0, false},
		{nil, 0, 90, 0, true},
		{nil, 3, 0, 0, true},
	} {
		if got, known := waves.Expected(c.waits, c.unknown, c.reached); got != c.want || known != c.known {
			t.Errorf("%v and %d unknown, %g %%: %s, %v", c.waits, c.unknown, c.reached, got, known)
		}
	}
}
