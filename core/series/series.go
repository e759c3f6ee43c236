// Package series packs the readings of one metric into chunks, sums them up over
// time, and reads spans of time as people say them.
package series

import (
	"time"

	"ullage/core/value"
)

// MaxBuckets is how many buckets one query may ask for.
const MaxBuckets = 20000

// Point is one reading as the store gives it back.
type Point struct {
	At      time.Time
	Value   value.Value
	Quality value.Quality
	// DeviceAt is the device's own time where it was not believed, else zero.
	DeviceAt time.Time
}

// Steps are the bucket widths that NiceStep chooses from.
var Steps = []time.Duration{
	time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 30 * time.Second,
	time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute,
	time.Hour, 2 * time.Hour, 3 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour,
}

// NiceStep returns the smallest of Steps that covers a span with at most n
// buckets.
func NiceStep(span time.Duration, n int) time.Duration {
	for _, s := range Steps {
		if span <= s*time.Duration(max(n, 1)) {
			return s
		}
	}
	return Steps[len(Steps)-1]
}
