package replay

import (
	"math"

	"ullage/core/expr"
	"ullage/core/value"
)

// quiet is what lets a replay go through the part of a history in which nothing happens
// without the whole of the evaluator: a limit that stays, and readings on its quiet side that
// follow one another before the last is too old.
type quiet struct {
	known  bool // whether raise and clear have been looked up
	simple bool // they are thresholds
	raise  expr.Threshold
	clear  expr.Threshold
	last   int64 // time of the newest reading that was observed
	off    bool  // for tests: everything takes the long way
}

// skip goes through readings of a column from i on as long as they change nothing, up to a
// time, and returns how far it has got. What follows is as if each had been judged.
func (r *Run) skip(c *Column, slot, i int, before int64) int {
	q, w := &r.quiet, r.watches[0]
	if q.off || w.Det.Running || !w.Asked {
		return i
	}
	if !q.known {
		q.known = true
		var ok bool
		if q.raise, q.simple = w.Rule.Raises.Threshold(r.state); q.simple {
			if q.clear, ok = w.Rule.Clears.Threshold(r.state); !ok {
				q.simple = false
			}
		}
		q.simple = q.simple && q.raise.Slot == slot && q.clear.Slot == slot && r.o.Plan.Windows() == 0 && !r.o.Plan.Previous()
	}
	if !q.simple {
		return i
	}
	towards := &q.raise
	if w.Det.Up {
		towards = &q.clear
	}
	hold, from, last := r.o.Plan.Hold(), r.keeper.from, q.last
	first := i
	for ; i < len(c.At); i++ {
		at, v := c.At[i], c.Values[i]
		if v.Kind != value.Number || at >= before || at-last > hold || at < last || towards.Holds(v.Num) {
			break
		}
		// As keeper.headspace does it.
		if r.last >= 0 && !math.IsNaN(r.loss) && at > max(r.last, from) {
			ms := at - max(r.last, from)
			r.lost += r.loss * float64(ms)
			r.known += ms
		}
		r.last, r.loss = at, math.NaN()
		if h := q.raise.Headspace(v.Num); !math.IsNaN(h) {
			r.loss = 1 - h
		}
		last = at
	}
	if i == first {
		return i
	}
	// The last of them is judged in full, so that time goes on from it.
	q.last = last
	r.readings += i - first
	r.state.Observe(slot, last, c.Values[i-1])
	r.judge(w, value.FromMillis(last))
	return i
}
