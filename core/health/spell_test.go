package health_test

import (
	"testing"
	"time"

	"ullage/core/health"
)

func TestAwayIn(t *testing.T) {
	now := time.Date(2026, 9, 12, 6, 0, 0, 0, time.UTC)
	ago := func(h int) time.Time { return now.Add(-time.Duration(h) * time.Hour) }
	spells := []health.Spell{{From: ago(50), End: ago(40)}, {From: ago(30), End: ago(20)}, {From: ago(10), End: ago(9)}, {From: ago(2)}}
	for _, c := range []struct {
		what     string
		from, to time.Time
		want     health.Away
	}{
		{"all of it", ago(100), now, health.Away{Total: 23 * time.Hour, Longest: 10 * time.Hour, Spells: 4}},
		{"it begins within one", ago(25), now, health.Away{Total: 8 * time.Hour, Longest: 5 * time.Hour, Spells: 3}},
		{"it ends within one", ago(100), ago(45), health.Away{Total: 5 * time.Hour, Longest: 5 * time.Hour, Spells: 1}},
		{"between two", ago(19), ago(11), health.Away{}},
		{"nothing", now, now, health.Away{}},
	} {
		if got := health.AwayIn(spells, c.from, c.to); got != c.want {
			t.Errorf("%s: %+v, want %+v", c.what, got, c.want)
		}
	}
}
