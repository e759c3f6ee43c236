// Package replay works out what a rule would have done over past readings, with the
// evaluator that judges them live. Its answer is the ideal: all readings on time, and
// nothing missing.
package replay

import (
	"math"
	"time"

	"ullage/core/expr"
	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/core/value"
)

// Column is readings of one metric, in order of time: when, in ms since 1970, and what.
type Column struct {
	Metric string
	At     []int64
	Values []value.Value
}

// Step is what something that is not telemetry is from a time on, in ms since 1970.
type Step struct {
	At    int64
	Name  expr.Name
	Value value.Value
}

// Options are what a Run is made of.
type Options struct {
	Plan *expr.Plan
	// Rules are that which is replayed and those that it asks about, by name in order.
	Rules []*rule.Compiled
	Main  string // the rule that is replayed

	Activated time.Time // of the device
	Zone      *time.Location
	// Judge is from when on readings are judged; those before it fill windows. Alarms that
	// were raised before From stand at the begin.
	Judge, From time.Time
}

// Span is one alarm.
type Span struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to,omitzero"` // zero while it is raised at the end
	// Value is what was compared when it was raised, with Limit; NaN where there was no
	// number.
	Value, Limit float64 `json:"-"`
	// Suppressed says that it was suppressed by design when it was raised.
	Suppressed bool `json:"suppressed,omitempty"`
	// OutOfService says that the device or group was out of service for maintenance then.
	OutOfService bool `json:"out_of_service,omitempty"`
}

// Result is what a rule would have done on one device or group.
type Result struct {
	Readings int    // looked at
	Alarms   int    // raised from the begin on
	Spans    []Span // in order; those that stood at the begin too
	Raised   time.Duration
	// Chattering is how many alarms were three or more within 60 s (ISA-18.2).
	Chattering int
	// Lost is how much of the headspace was lost in the mean over time, 0 to 1; NaN where it
	// was never known. Known is for how long it was.
	Lost  float64
	Known time.Duration
}

// MaxSpans is how many alarms of one device are kept; more are counted.
const MaxSpans = 2000

// Run replays rules on one device.
type Run struct {
	o       Options
	state   *expr.State
	watches []*rule.Watch
	main    *rule.Watch
	slots   map[string]int // of metrics
	asks    map[string]int // of rules that are asked about
	begun   bool           // the judging has
	news    []int          // slots of rules that have changed and are asked about
	quiet   quiet
	keeper
}

// keeper gathers what the rule does.
type keeper struct {
	from     int64
	readings int
	spans    []Span
	up       int64 // since when it is raised; -1 if it is not
	raised   int64 // ms
	times    []int64
	chatter  int
	last     int64 // when headspace was looked at last
	loss     float64
	lost     float64 // times ms
	known    int64   // ms
}

func newKeeper(from time.Time) keeper {
	return keeper{from: from.UnixMilli(), up: -1, last: -1, loss: math.NaN()}
}

// New begins a replay.
func New(o Options) *Run {
	r := &Run{o: o, state: o.Plan.NewState(o.Activated), slots: map[string]int{}, asks: map[string]int{}, keeper: newKeeper(o.From)}
	if o.Zone != nil {
		r.state.In(o.Zone)
	}
	for slot, n := range o.Plan.Names() {
		switch n.Name.Scope {
		case "":
			r.slots[n.Name.Key] = slot
		case "raised":
			r.asks[n.Name.Key] = slot
			r.state.Set(slot, expr.Sample{Value: value.OfBool(false)})
		}
	}
	for _, c := range o.Rules {
		w := &rule.Watch{Rule: c}
		r.watches = append(r.watches, w)
		if c.Name == o.Main {
			r.main = w
		}
	}
	return r
}

// State is that of the device, to be filled with what was before.
func (r *Run) State() *expr.State { return r.state }

// Metrics returns the metrics that the rules look at.
func (r *Run) Metrics() []string {
	var out []string
	for name := range r.slots {
		out = append(out, name)
	}
	return out
}

// next is when time alone may change something.
func (r *Run) next() int64 {
	next := int64(math.MaxInt64)
	for _, w := range r.watches {
		next = min(next, w.Next())
	}
	return next
}

// Feed takes readings and steps that follow those of the call before, of times before
// until.
func (r *Run) Feed(columns []Column, steps []Step, until time.Time) {
	type cursor struct {
		slot, i int
		*Column
	}
	var at []cursor
	for i := range columns {
		if slot, ok := r.slots[columns[i].Metric]; ok && len(columns[i].At) > 0 {
			at = append(at, cursor{slot, 0, &columns[i]})
		}
	}
	judge := r.o.Judge.UnixMilli()
	alone := len(at) == 1 && len(r.watches) == 1
	for {
		if alone && r.begun {
			before := int64(math.MaxInt64)
			if len(steps) > 0 {
				before = steps[0].At
			}
			at[0].i = r.skip(at[0].Column, at[0].slot, at[0].i, before)
		}
		t := int64(math.MaxInt64)
		for i := range at {
			if c := &at[i]; c.i < len(c.At) {
				t = min(t, c.At[c.i])
			}
		}
		reading := t < math.MaxInt64
		if len(steps) > 0 && steps[0].At <= t {
			t = steps[0].At
			reading = false
			for i := range at {
				if c := &at[i]; c.i < len(c.At) && c.At[c.i] == t {
					reading = true
				}
			}
		}
		if t == math.MaxInt64 {
			break
		}
		if t >= judge {
			r.begin(judge)
			r.pass(t)
		}
		var changed []int
		for len(steps) > 0 && steps[0].At == t {
			if slot, ok := r.o.Plan.Slot(steps[0].Name); ok {
				r.state.Advance(value.FromMillis(t))
				r.state.Set(slot, expr.Sample{Value: steps[0].Value})
				changed = append(changed, slot)
				r.quiet.known = false
			}
			steps = steps[1:]
		}
		when := value.FromMillis(t)
		if !reading {
			if len(changed) > 0 && t >= judge {
				r.assess(when, changed)
			}
			continue
		}
		if t >= judge {
			for _, w := range r.watches {
				if c, ok := w.Det.Advance(when, w.Timings()); ok {
					r.changed(w, c)
				}
			}
		}
		for i := range at {
			if c := &at[i]; c.i < len(c.At) && c.At[c.i] == t {
				r.state.Observe(c.slot, t, c.Values[c.i])
				r.quiet.last = t
				c.i++
				r.readings++
			}
		}
		if t >= judge {
			for _, w := range r.watches {
				r.judge(w, when)
			}
		}
	}
	if ms := until.UnixMilli(); ms > judge {
		r.begin(judge)
		r.pass(ms)
	}
}

// begin judges what stands when the judging begins.
func (r *Run) begin(judge int64) {
	if r.begun {
		return
	}
	r.begun = true
	r.state.Advance(value.FromMillis(judge))
	r.assess(value.FromMillis(judge), nil)
}

// pass lets time go on up to a moment, and stops at each at which something may change.
func (r *Run) pass(until int64) {
	for {
		next := r.next()
		if next >= until {
			return
		}
		next = max(next, r.state.Now())
		when := value.FromMillis(next)
		r.state.Advance(when)
		r.news = r.news[:0]
		for _, w := range r.watches {
			if c, ok := w.Det.Advance(when, w.Timings()); ok {
				r.changed(w, c)
			}
			if w.Answer.Until <= next || w.Rule.Looks(r.news) {
				r.judge(w, when)
			}
		}
		if r.next() <= next { // nothing got on by it; the next moment will
			r.state.Advance(value.FromMillis(next + 1))
			for _, w := range r.watches {
				r.judge(w, value.FromMillis(next+1))
			}
		}
	}
}

// assess judges the rules that look at some slots, all of them where slots is nil. One that
// asks about another is judged again after it.
func (r *Run) assess(at time.Time, slots []int) {
	for range len(r.watches) {
		r.news = nil
		for _, w := range r.watches {
			if slots == nil || w.Rule.Looks(slots) {
				r.judge(w, at)
			}
		}
		if slots = r.news; len(slots) == 0 {
			return
		}
	}
}

func (r *Run) judge(w *rule.Watch, at time.Time) {
	for _, c := range w.Assess(r.state, at) {
		r.changed(w, c)
	}
	if w == r.main {
		r.headspace(at.UnixMilli(), w.Answer)
	}
}

func (r *Run) changed(w *rule.Watch, c lifecycle.Change) {
	if slot, ok := r.asks[w.Rule.Name]; ok {
		r.state.Set(slot, expr.Sample{Value: value.OfBool(c.Up)})
		r.news = append(r.news, slot)
	}
	if w == r.main {
		r.change(w, r.state, c)
	}
}

// End returns what the rule did up to a time.
func (r *Run) End(to time.Time) Result { return r.end(to) }

func (k *keeper) change(w *rule.Watch, s *expr.State, c lifecycle.Change) {
	at := c.At.UnixMilli()
	if !c.Up {
		if k.up >= 0 {
			k.raised += max(at-max(k.up, k.from), 0)
			if n := len(k.spans); n > 0 && k.spans[n-1].To.IsZero() {
				k.spans[n-1].To = c.At
				if at <= k.from { // it was over before the begin
					k.spans = k.spans[:n-1]
				}
			}
		}
		k.up = -1
		return
	}
	k.up = at
	if at >= k.from {
		k.times = append(k.times, at)
		if n := len(k.times); n >= 3 && at-k.times[n-3] <= 60_000 {
			if n == 3 || k.times[n-2]-k.times[n-4] > 60_000 {
				k.chatter += 2
			}
			k.chatter++
		}
	}
	if len(k.spans) >= MaxSpans {
		return
	}
	x := Span{From: c.At, Value: math.NaN(), Limit: math.NaN()}
	a := w.Rule.Raises.Judge(s)
	if d, ok := w.Rule.Raises.Decider(s, a); ok {
		x.Value, x.Limit = d.Value, d.Limit
	}
	if p := w.Rule.Suppressing; p != nil && p.Truth(s) == expr.True {
		x.Suppressed = true
	}
	k.spans = append(k.spans, x)
}

// headspace adds up what of it is lost.
func (k *keeper) headspace(at int64, a expr.Answer) {
	if k.last >= 0 && !math.IsNaN(k.loss) && at > max(k.last, k.from) {
		ms := at - max(k.last, k.from)
		k.lost += k.loss * float64(ms)
		k.known += ms
	}
	k.last, k.loss = at, math.NaN()
	if h, known, _ := a.Headspace(); known {
		k.loss = 1 - h
	}
}

func (k *keeper) end(to time.Time) Result {
	if k.up >= 0 {
		k.raised += max(to.UnixMilli()-max(k.up, k.from), 0)
	}
	out := Result{Readings: k.readings, Alarms: len(k.times), Spans: k.spans, Raised: time.Duration(k.raised) * time.Millisecond, Chattering: k.chatter,
		Lost: math.NaN(), Known: time.Duration(k.known) * time.Millisecond}
	if k.known > 0 {
		out.Lost = k.lost / float64(k.known)
	}
	return out
}
