package waves

import (
	"fmt"
	"math"
	"strings"
	"time"

	"ullage/core/expr"
)

// State is how far a rollout is.
type State string

// The states. Done and Undone are ends.
const (
	Waiting State = "waiting" // for its start
	Running State = "running"
	// CatchingUp is behind the last gate: who was away is offered it as it returns.
	CatchingUp State = "catching up"
	Paused     State = "paused"
	Stopped    State = "stopped" // a gate broke, or somebody stopped it
	Done       State = "done"
	Undone     State = "undone"
)

// Open reports whether a rollout is not over.
func (s State) Open() bool { return s != Done && s != Undone }

// Run is the state of a rollout between two steps.
type Run struct {
	State State     `json:"state"`
	Wave  int       `json:"wave"`            // from 0
	Began time.Time `json:"began,omitzero"`  // the wave
	Out   time.Time `json:"out,omitzero"`    // when all of the wave had been offered the change
	Holds time.Time `json:"holds,omitzero"`  // since when the gate holds
	Once  []bool    `json:"once,omitempty"`  // by condition: it has been true in this wave
	Why   string    `json:"why,omitempty"`   // it stopped
	Ended time.Time `json:"ended,omitzero"`  // it is over
	Since time.Time `json:"since,omitzero"`  // it is in this state
	Broke bool      `json:"broke,omitempty"` // a gate stopped it, and nobody
	// Passed says that the last gate was passed, so that only who comes late is left.
	Passed bool `json:"passed,omitempty"`
}

// Member is a device of the present wave.
type Member struct {
	ID, Group string
	Offered   time.Time // zero for not yet
	Reached   bool      // it has been in contact since it was offered the change
	Settled   bool      // it has confirmed, or refused
	Open      bool      // its schedule lets it begin now
	Away      bool      // it is off line: it is offered the change when it is back
	Late      bool      // of a wave before, and was away then
}

// Condition is one condition of the gate, as it is now.
type Condition struct {
	Source   string
	Truth    expr.Truth
	Progress bool   // it asks who has confirmed, so that it is false until they have
	Says     string // what it is now
}

// Step is what a step of a rollout comes to.
type Step struct {
	Offer   []string // devices that are offered the change now
	Changed bool     // the Run is another one
	Next    bool     // a wave has begun
}

// Step goes on with a rollout of so many waves as far as it can at a time. The members are
// those of its present wave.
func (r *Run) Step(p *Plan, waves int, soak time.Duration, now time.Time, members []Member, conditions []Condition) Step {
	var out Step
	if r.State == Waiting && !now.Before(p.Start) {
		r.begin(now, 0)
		return Step{Changed: true, Next: true}
	}
	if r.State != Running && r.State != CatchingUp {
		return out
	}
	for len(r.Once) < len(conditions) {
		r.Once = append(r.Once, false)
	}
	if r.State == CatchingUp {
		return r.catchUp(p, soak, now, members, conditions)
	}
	reached, settled, own := 0, 0, 0
	busy := map[string]int{}
	all := true // of the wave who is there was offered it
	var mute Member
	for _, m := range members {
		if !m.Late {
			own++
			all = all && (m.Away || !m.Offered.IsZero())
		}
		if m.Offered.IsZero() {
			continue
		}
		if m.Reached && !m.Late {
			reached++
			if m.Settled {
				settled++
			}
		}
		if !m.Settled && !(m.Away && !m.Reached) {
			if busy[p.groupOf(m)]++; mute.ID == "" || m.Offered.Before(mute.Offered) {
				mute = m
			}
		}
	}
	enough := float64(reached) >= p.least()*float64(own)-1e-9
	hold := true
	var broke []string
	for i, c := range conditions {
		switch c.Truth {
		case expr.True:
			if !r.Once[i] {
				r.Once[i], out.Changed = true, true
			}
			continue
		case expr.False:
			if !c.Progress && r.Once[i] || c.Progress && all && enough && settled == reached && reached > 0 {
				broke = append(broke, fmt.Sprintf("%s, and it is %s", c.Source, c.Says))
			}
		}
		hold = false
	}
	if len(broke) > 0 {
		r.stop(now, fmt.Sprintf("in wave %d what must hold does not: %s", r.Wave+1, strings.Join(broke, "; ")))
		return Step{Changed: true}
	}
	out.Offer = p.offer(r, now, members, busy)
	if len(out.Offer) > 0 {
		return out
	}
	if all && r.Out.IsZero() {
		r.Out, out.Changed = now, true
	}
	if own == 0 || all && enough && hold {
		if r.Holds.IsZero() {
			r.Holds, out.Changed = now, true
		}
		if own == 0 || now.Sub(r.Holds) >= soak {
			if r.Wave+1 == waves {
				r.pass(now, members)
				return Step{Changed: true}
			}
			r.begin(now, r.Wave+1)
			return Step{Changed: true, Next: true}
		}
		return out
	}
	if !r.Holds.IsZero() {
		r.Holds, out.Changed = time.Time{}, true
	}
	if all && now.Sub(r.Out) > p.within(soak) {
		why := fmt.Sprintf("wave %d has not passed its gate within %s", r.Wave+1, p.within(soak))
		if !enough {
			why += fmt.Sprintf(": %d of %d devices were reached, and %.0f %% must be", reached, own, p.least()*100)
		}
		for _, c := range conditions {
			if c.Truth != expr.True {
				why += fmt.Sprintf("; %s, and it is %s", c.Source, c.Says)
			}
		}
		r.stop(now, why)
		return Step{Changed: true}
	}
	if mute.ID != "" && now.Sub(mute.Offered) > p.within(soak) && !all {
		r.stop(now, fmt.Sprintf("in wave %d %s has neither confirmed nor refused for %s, and others wait for it", r.Wave+1, mute.ID, p.within(soak)))
		return Step{Changed: true}
	}
	return out
}

// pass ends the last wave: it is done, unless somebody is still to come.
func (r *Run) pass(now time.Time, members []Member) {
	r.Passed, r.Since, r.Why, r.Holds, r.Once = true, now, "", time.Time{}, nil
	for _, m := range members {
		if m.Offered.IsZero() {
			r.State = CatchingUp
			return
		}
	}
	r.State, r.Ended = Done, now
}

// Judged reports whether what a device does still counts for those that come late: from when
// it was offered the change until the gate would have waited for it long enough.
func (p *Plan) Judged(m Member, soak time.Duration, now time.Time) bool {
	return !m.Offered.IsZero() && now.Sub(m.Offered) <= p.within(soak)
}

// catchUp offers the change to those who were away until all waves had passed. The members
// are those, and the conditions are over those of them that are Judged. What breaks among
// them stops the others.
func (r *Run) catchUp(p *Plan, soak time.Duration, now time.Time, members []Member, conditions []Condition) Step {
	var out Step
	busy := map[string]int{}
	ended, settled := true, true // each has come and was watched; each that came has said something
	for _, m := range members {
		if m.Offered.IsZero() {
			ended = false
			continue
		}
		if m.Settled {
			ended = ended && now.Sub(m.Offered) >= soak
			continue
		}
		ended = false
		if m.Reached {
			settled = false
		}
		if m.Away && !m.Reached {
			continue
		}
		if busy[p.groupOf(m)]++; now.Sub(m.Offered) > p.within(soak) {
			r.stop(now, fmt.Sprintf("%s came late, and has neither confirmed nor refused for %s", m.ID, p.within(soak)))
			return Step{Changed: true}
		}
	}
	var broke []string
	for i, c := range conditions {
		switch {
		case c.Truth == expr.True && !r.Once[i]:
			r.Once[i], out.Changed = true, true
		case c.Truth == expr.False && (r.Once[i] && !c.Progress || c.Progress && settled):
			broke = append(broke, fmt.Sprintf("%s, and it is %s", c.Source, c.Says))
		}
	}
	if len(broke) > 0 {
		r.stop(now, "among those that came late what must hold does not: "+strings.Join(broke, "; "))
		return Step{Changed: true}
	}
	if ended {
		r.State, r.Ended, r.Since = Done, now, now
		return Step{Changed: true}
	}
	out.Offer = p.offer(r, now, members, busy)
	return out
}

// Supersede ends one that still waits for devices, as something newer is on its way to them.
func (r *Run) Supersede(now time.Time) bool {
	if r.State != CatchingUp {
		return false
	}
	r.State, r.Ended, r.Since = Done, now, now
	return true
}

// offer chooses the devices of the wave that are offered the change now.
func (p *Plan) offer(r *Run, now time.Time, members []Member, busy map[string]int) []string {
	own := 0
	for _, m := range members {
		if !m.Late {
			own++
		}
	}
	due := own
	if spread := p.Spread.Std(); spread > 0 {
		due = min(due, 1+int(math.Floor(float64(now.Sub(r.Began))/float64(spread)*float64(own))))
	}
	var out []string
	for _, m := range members {
		if !m.Offered.IsZero() && !m.Late {
			due--
		}
	}
	for _, m := range members {
		if !m.Offered.IsZero() || !m.Open || m.Away || due <= 0 && !m.Late {
			continue
		}
		if g := p.groupOf(m); p.AtMost > 0 {
			if busy[g] >= p.AtMost {
				continue
			}
			busy[g]++
		}
		if out = append(out, m.ID); !m.Late {
			due--
		}
	}
	return out
}

func (p *Plan) groupOf(m Member) string {
	if p.Per == "" {
		return ""
	}
	return m.Group
}

func (r *Run) begin(now time.Time, wave int) {
	*r = Run{State: Running, Wave: wave, Began: now, Since: now}
}

func (r *Run) stop(now time.Time, why string) {
	r.State, r.Why, r.Since, r.Broke = Stopped, why, now, true
	r.Holds = time.Time{}
}

// Pause lets nothing go on until Resume. It reports whether there was something to pause.
func (r *Run) Pause(now time.Time, why string) bool {
	if r.State != Running && r.State != Waiting && r.State != CatchingUp {
		return false
	}
	r.State, r.Why, r.Since, r.Holds, r.Broke = Paused, why, now, time.Time{}, false
	return true
}

// Stop ends it as a gate that breaks would.
func (r *Run) Stop(now time.Time, why string) bool {
	if r.State != Running && r.State != Waiting && r.State != Paused && r.State != CatchingUp {
		return false
	}
	r.stop(now, why)
	r.Broke = false
	return true
}

// Resume goes on, also where a gate has stopped it: what did not hold is judged anew.
func (r *Run) Resume(now time.Time) bool {
	if r.State != Paused && r.State != Stopped {
		return false
	}
	r.Why, r.Since, r.Once, r.Broke = "", now, nil, false
	if r.Began.IsZero() {
		r.State = Waiting
		return true
	}
	if r.Passed {
		r.State = CatchingUp
		return true
	}
	r.State = Running
	if !r.Out.IsZero() {
		r.Out = now // the gate waits anew
	}
	return true
}

// Undo ends it; the devices have what they had.
func (r *Run) Undo(now time.Time) bool {
	if !r.State.Open() {
		return false
	}
	r.State, r.Ended, r.Since, r.Holds = Undone, now, now, time.Time{}
	return true
}
