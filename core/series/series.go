// Package series summarises readings over time.
package series

import (
	"fmt"
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
}

// Bucket summarises the readings in [At, At+step). Numbers have Min, Max and
// Mean (the plain mean of the readings); for texts and booleans only Last and
// Count mean anything.
type Bucket struct {
	At             time.Time
	Count          int
	Min, Max, Mean float64
	Last           value.Value
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

// Bucketer sorts points, given in time order, into buckets of one width that
// stand at whole multiples of it since 1970 (UTC). Empty buckets are left out:
// a gap stays a gap.
type Bucketer struct {
	step time.Duration
	out  []Bucket
	sum  float64
}

// NewBucketer returns a Bucketer for the span from…to. A step that is not
// positive, or so small that more than MaxBuckets would come out, is an error.
func NewBucketer(from, to time.Time, step time.Duration) (*Bucketer, error) {
	if step < time.Millisecond {
		return nil, fmt.Errorf("the step %s is too small; 1 ms is the least", step)
	}
	if n := to.Sub(from) / step; n > MaxBuckets {
		return nil, fmt.Errorf("that would be %d buckets; at most %d are given, so widen the step or shorten the span", n, MaxBuckets)
	}
	return &Bucketer{step: step}, nil
}

// Add takes the next point.
func (b *Bucketer) Add(p Point) {
	ms := b.step.Milliseconds()
	at := p.At.UnixMilli()
	start := at - ((at%ms)+ms)%ms
	n := len(b.out) - 1
	if n < 0 || b.out[n].At.UnixMilli() != start {
		b.out = append(b.out, Bucket{At: value.FromMillis(start), Min: p.Value.Num, Max: p.Value.Num})
		b.sum = 0
		n++
	}
	k := &b.out[n]
	k.Count++
	k.Last = p.Value
	k.Min, k.Max = min(k.Min, p.Value.Num), max(k.Max, p.Value.Num)
	b.sum += p.Value.Num
	k.Mean = b.sum / float64(k.Count)
}

// Buckets returns what has come together so far.
func (b *Bucketer) Buckets() []Bucket { return b.out }
