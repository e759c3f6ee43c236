// Package series packs the readings of one metric into chunks, sums them up over
// time, and reads spans of time as people say them.
package series

import (
	"cmp"
	"fmt"
	"time"

	"ullage/core/value"
)

// MaxSteps is how many steps one line of a query may have.
const MaxSteps = 20000

// Point is one reading as the store gives it back.
type Point struct {
	At      time.Time
	Value   value.Value
	Quality value.Quality
	// DeviceAt is the device's own time where it was not believed, else zero.
	DeviceAt time.Time
}

// Lost is the error of a history of which some cannot be read, because its
// chunks are damaged. It comes after all the rest was given.
type Lost struct {
	From, To time.Time // what was lost lies between
	Chunks   int
}

// Error says from when to when.
func (l *Lost) Error() string {
	return fmt.Sprintf("the readings between %s and %s are damaged and were left out", l.From.Format(time.RFC3339),
		l.To.Format(time.RFC3339))
}

// Unwrap returns ErrDamaged.
func (l *Lost) Unwrap() error { return ErrDamaged }

// Add takes in what another part of the history has lost.
func (l *Lost) Add(o *Lost) *Lost {
	if l == nil || o == nil {
		return cmp.Or(l, o)
	}
	if o.From.Before(l.From) {
		l.From = o.From
	}
	if o.To.After(l.To) {
		l.To = o.To
	}
	l.Chunks += o.Chunks
	return l
}

// Whole tells what was lost apart from what really failed, or was cut off.
func Whole(err error) (*Lost, error) {
	if lost, ok := err.(*Lost); ok {
		return lost, nil
	}
	return nil, err
}

// Steps are the widths of step that NiceStep chooses from.
var Steps = []time.Duration{
	time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 30 * time.Second,
	time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute,
	time.Hour, 2 * time.Hour, 3 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour,
}

// NiceStep returns the smallest of Steps that covers a span with at most n
// steps.
func NiceStep(span time.Duration, n int) time.Duration {
	for _, s := range Steps {
		if span <= s*time.Duration(max(n, 1)) {
			return s
		}
	}
	return Steps[len(Steps)-1]
}
