package rule

import (
	"math"
	"time"

	"ullage/core/expr"
	"ullage/core/lifecycle"
)

// Watch is one rule on one device or group over time: live, and in a replay of the past.
type Watch struct {
	Rule   *Compiled
	Det    lifecycle.Detector
	Answer expr.Answer // the last one, of raise
	Asked  bool        // there was one
}

// Timings returns the on-delay and the off-delay.
func (w *Watch) Timings() lifecycle.Delays {
	on, off := w.Rule.Delays()
	return lifecycle.Delays{On: on, Off: off}
}

// longest is how long an answer holds at most of which nothing says how long it does.
const longest = 100 * 365 * 24 * time.Hour

// Assess judges at a time, which s has, and returns what changes by it, at most twice.
func (w *Watch) Assess(s *expr.State, at time.Time) []lifecycle.Change {
	w.Answer, w.Asked = w.Rule.Raises.Judge(s), true
	until := w.Answer.Until
	clears := w.Answer.Truth.Not()
	if w.Det.Up && (w.Rule.Clear != "" || w.Rule.Deadband > 0) {
		back := w.Rule.Clears.Judge(s)
		clears, until = back.Truth, min(until, back.Until)
		w.Answer.Until = until
	}
	hold := longest
	if left := until - at.UnixMilli(); left < longest.Milliseconds() {
		hold = time.Duration(left) * time.Millisecond
	}
	return w.Det.Assess(at, w.Answer.Truth, clears, hold, w.Timings())
}

// Next returns the next moment at which something may change by time alone, in ms.
func (w *Watch) Next() int64 {
	next := int64(math.MaxInt64)
	if w.Asked {
		next = w.Answer.Until
	}
	if at, due := w.Det.Due(w.Timings()); due {
		next = min(next, at.UnixMilli())
	}
	return next
}
