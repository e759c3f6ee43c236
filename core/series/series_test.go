package series_test

import (
	"testing"
	"time"

	"ullage/core/series"
)

func TestNiceStep(t *testing.T) {
	for _, c := range []struct {
		span time.Duration
		n    int
		want time.Duration
	}{{time.Hour, 60, time.Minute}, {24 * time.Hour, 300, 5 * time.Minute}, {90 * 24 * time.Hour, 500, 6 * time.Hour},
		{time.Second, 300, time.Second}, {1000 * 24 * time.Hour, 1, 7 * 24 * time.Hour}, {time.Hour, 0, time.Hour}} {
		if got := series.NiceStep(c.span, c.n); got != c.want {
			t.Errorf("NiceStep(%s, %d) = %s, want %s", c.span, c.n, got, c.want)
		}
	}
}
