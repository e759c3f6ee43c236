package alarms

import (
	"math"
	"testing"
	"time"

	"ullage/core/expr"
)

// TestTrendOfDays follows a margin that falls by one each hour for four days, over which its points
// are counted anew more than once.
func TestTrendOfDays(t *testing.T) {
	var tr trend
	begun := time.Date(2026, 10, 1, 6, 0, 0, 0, time.UTC)
	for i := range 4 * 24 * 60 {
		at := begun.Add(time.Duration(i) * time.Minute)
		tr.add(at, expr.Answer{Truth: expr.False, Margin: 100 - at.Sub(begun).Hours()}, time.Minute)
		if i < 60 {
			continue
		}
		if got := tr.line.Slope * 3600; math.Abs(got+1) > 1e-3 {
			t.Fatalf("after %d minutes it falls by %g an hour, want 1", i, -got)
		}
		if !tr.approaching || len(tr.points) > trendPoints+1 || tr.points[len(tr.points)-1].x > restart {
			t.Fatalf("after %d minutes it has %d points up to %g s, approaching %v", i, len(tr.points), tr.points[len(tr.points)-1].x, tr.approaching)
		}
	}
}
