// Package lifecycle holds the alarm state machine of ISA-18.2 / IEC 62682 and
// the delays before and after it. It keeps no clock: times come in.
package lifecycle

import (
	"time"

	"ullage/core/expr"
)

// State is where an alarm stands (ISA-18.2 clause 6.2).
type State string

// The states that exist so far.
const (
	Normal         State = "normal"
	Unacknowledged State = "unacknowledged"
	Acknowledged   State = "acknowledged"
	// Returned: the condition is gone and nobody has acknowledged it yet.
	Returned State = "returned unacknowledged"
)

// Open reports whether an alarm in s still wants something from people.
func (s State) Open() bool { return s != Normal }

// Holds reports whether the condition itself still stands.
func (s State) Holds() bool { return s == Unacknowledged || s == Acknowledged }

// Raise returns the state after the condition has come up.
func (s State) Raise() State { return Unacknowledged }

// Return returns the state after the condition has gone.
func (s State) Return() State {
	if s == Unacknowledged {
		return Returned
	}
	return Normal
}

// Acknowledge returns the state after a person has acknowledged, and whether
// there was anything to acknowledge.
func (s State) Acknowledge() (State, bool) {
	switch s {
	case Unacknowledged:
		return Acknowledged, true
	case Returned:
		return Normal, true
	}
	return s, false
}

// Detector turns judgements of single readings into raises and returns, after
// the on-delay and the off-delay. It can be stored and read back between any
// two calls. The zero Detector has seen nothing.
//
// A delay counts only time in which the condition is known. While it is
// unknown the delay stands still, and once the unknown time has lasted as long
// as the delay itself it starts afresh.
type Detector struct {
	// Up is whether the condition stands, delays taken into account.
	Up bool `json:"up"`
	// Running is whether a delay runs towards the other state.
	Running bool `json:"running,omitempty"`
	// Counted is how much known time the running delay has had, up to Upto.
	Counted time.Duration `json:"counted,omitempty"`
	Upto    time.Time     `json:"upto,omitzero"`
	// Known is until when the last judgement holds.
	Known time.Time `json:"known,omitzero"`
	// Seen is the time of the last reading judged. Older ones are not judged.
	Seen time.Time `json:"seen,omitzero"`
}

// Change is a raise (Up) or a return, with the time it took effect.
type Change struct {
	Up bool
	At time.Time
}

// Delays are the timings of one rule.
type Delays struct{ On, Off time.Duration }

func (d *Detector) delay(t Delays) time.Duration {
	if d.Up {
		return t.Off
	}
	return t.On
}

// Judge takes the judgement of a reading at a time and returns the changes up
// to and including that time, at most two. hold is how long the judgement is
// good for if nothing follows it. A reading not newer than Seen is ignored.
func (d *Detector) Judge(at time.Time, raise, clear expr.Truth, hold time.Duration, t Delays) []Change {
	if !at.After(d.Seen) {
		return nil
	}
	d.Seen = at
	return d.Assess(at, raise, clear, hold, t)
}

// Assess is Judge for a moment that no reading has: a setting has changed, or
// time alone has changed the answer. Seen stays what it is.
func (d *Detector) Assess(at time.Time, raise, clear expr.Truth, hold time.Duration, t Delays) []Change {
	var out []Change
	if c, ok := d.Advance(at, t); ok {
		out = append(out, c)
	}
	towards := raise
	if d.Up {
		towards = clear
	}
	switch towards {
	case expr.Unknown:
		d.Known = at
	case expr.False:
		d.Running, d.Counted, d.Known = false, 0, at.Add(hold)
	case expr.True:
		d.Known = at.Add(hold)
		if !d.Running {
			d.Running, d.Counted, d.Upto = true, 0, at
		}
		if c, ok := d.Advance(at, t); ok {
			out = append(out, c)
		}
	}
	return out
}

// Advance lets time pass until now and returns the change, if the running
// delay has come to its end.
func (d *Detector) Advance(now time.Time, t Delays) (Change, bool) {
	if !d.Running {
		return Change{}, false
	}
	delay := d.delay(t)
	known := now
	if d.Known.Before(known) {
		known = d.Known
	}
	if left := delay - d.Counted; known.Sub(d.Upto) >= left {
		c := Change{Up: !d.Up, At: d.Upto.Add(left)}
		d.Up, d.Running, d.Counted = c.Up, false, 0
		return c, true
	}
	if known.After(d.Upto) {
		d.Counted += known.Sub(d.Upto)
		d.Upto = known
	}
	if unknown := now.Sub(known); unknown > 0 && unknown >= delay {
		d.Running, d.Counted = false, 0
	} else if unknown > 0 {
		d.Upto = now
	}
	return Change{}, false
}

// Due returns when Advance would next have something to say if no reading
// came, and false if never.
func (d *Detector) Due(t Delays) (time.Time, bool) {
	if !d.Running {
		return time.Time{}, false
	}
	at := d.Upto.Add(d.delay(t) - d.Counted)
	return at, !at.After(d.Known)
}
