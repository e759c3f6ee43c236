// Package lifecycle holds the alarm state machine of ISA-18.2 / IEC 62682 and
// the delays before and after it. It keeps no clock: times come in.
package lifecycle

import (
	"time"

	"ullage/core/expr"
)

// State is where an alarm stands (ISA-18.2 / IEC 62682, the alarm state transition
// diagram).
type State string

// The states that follow the condition and what people do about it.
const (
	Normal         State = "normal"
	Unacknowledged State = "unacknowledged"
	Acknowledged   State = "acknowledged"
	// Returned: the condition is gone and nobody has acknowledged it yet.
	Returned State = "returned unacknowledged"
	// LatchedUnacknowledged and Latched: the condition is gone, and the rule lets the alarm
	// stand until somebody resets it.
	LatchedUnacknowledged State = "latched unacknowledged"
	Latched               State = "latched"
)

// The states of an alarm that stands aside: it goes its way underneath, and nobody is
// called. See Aside.
const (
	Shelved      State = "shelved"
	Suppressed   State = "suppressed"
	OutOfService State = "out of service"
)

// States lists every state, in the order in which lists and filters show them.
var States = []State{Unacknowledged, Acknowledged, Returned, LatchedUnacknowledged, Latched, Shelved, Suppressed, OutOfService, Normal}

// Open reports whether an alarm in s still wants something from people.
func (s State) Open() bool { return s != Normal }

// Holds reports whether the condition itself still stands.
func (s State) Holds() bool { return s == Unacknowledged || s == Acknowledged }

// Waits reports whether somebody has to acknowledge.
func (s State) Waits() bool {
	return s == Unacknowledged || s == Returned || s == LatchedUnacknowledged
}

// Raise returns the state after the condition has come up.
func (s State) Raise() State { return Unacknowledged }

// Return returns the state after the condition has gone. An alarm that latches stays
// until it is reset. One that stands aside when its condition goes needs nobody any
// more: nobody was called.
func (s State) Return(latches, aside bool) State {
	switch {
	case !s.Holds():
		return s
	case latches && s == Unacknowledged:
		return LatchedUnacknowledged
	case latches:
		return Latched
	case s == Unacknowledged && !aside:
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
	case LatchedUnacknowledged:
		return Latched, true
	}
	return s, false
}

// Reset returns the state after a person has reset, and whether there was anything to
// reset: a latched alarm whose condition is gone.
func (s State) Reset() (State, bool) {
	switch s {
	case LatchedUnacknowledged:
		return Returned, true
	case Latched:
		return Normal, true
	}
	return s, false
}

// Aside says why an open alarm does not call anybody. It changes who is told and what
// stands out, and never what is so: the condition goes on underneath.
type Aside struct {
	OutOfService bool // maintenance
	Suppressed   bool // by design
	Shelved      bool // by a person, until a time
}

// Any reports whether the alarm stands aside.
func (a Aside) Any() bool { return a.OutOfService || a.Suppressed || a.Shelved }

// Shown returns the state in which people see an alarm that is in s underneath.
func (a Aside) Shown(s State) State {
	switch {
	case !s.Open():
		return s
	case a.OutOfService:
		return OutOfService
	case a.Suppressed:
		return Suppressed
	case a.Shelved:
		return Shelved
	}
	return s
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
