package alarms

import (
	"time"

	"ullage/core/value"
	"ullage/fleet/fact"
)

// What rises in readings of long ago is no alarm yet: the next part of the same
// backlog may say that it returned. It is one if it still stands at a reading
// that is recent; else it is told in the journal only, whatever way the backlog
// was cut into parts.

// recent reports whether the newest reading that a watch has judged is young
// enough for its condition to be taken as one that still holds: the device is not silent, or
// it reported within Lateness.
func (c *changes) recent(x *watch) bool {
	young := max(Lateness, 3*c.w.set.interval)
	if !c.clock {
		return c.e.now().UnixMilli()-x.judged <= young.Milliseconds()
	}
	// Time has gone on since its newest reading, which was young when it came.
	w := c.s.devices[c.w.id]
	return w == nil || w.heard.UnixMilli()-w.newest <= young.Milliseconds()
}

// hold keeps back what rose in a reading of long ago.
func (c *changes) hold(n changed) {
	n.x.held = &n
	if w := c.s.devices[c.w.id]; w != nil {
		if c.s.held == nil {
			c.s.held = map[*watch]*watchedDevice{}
		}
		c.s.held[n.x] = w
	}
}

// over tells the journal of a condition of long ago that has returned: all of it
// while it was held, else that it is over.
func (c *changes) over(n changed) {
	if up := n.x.held; up != nil {
		c.tellLate(*up)
		c.release(n.x)
	} else if !n.x.told {
		return // nothing was told of it
	}
	n.x.told = false
	c.s.unsaved.facts = append(c.s.unsaved.facts, about(c.of(n), fact.New(n.At, fact.Returned{
		Rule: n.x.Rule.Name, Why: n.x.Rule.Name + " had returned by itself when it was reported"})))
}

func (c *changes) tellLate(n changed) {
	c.s.unsaved.facts = append(c.s.unsaved.facts, about(c.of(n), fact.New(n.At, fact.Raised{
		Message: n.message, Priority: string(n.x.Rule.Priority), Late: true})))
}

func (c *changes) of(n changed) Alarm {
	of := Alarm{Rule: n.x.Rule.Name}
	of.Device, of.Group = c.w.about()
	return of
}

func (c *changes) release(x *watch) {
	x.held = nil
	delete(c.s.held, x)
}

// stand makes an alarm of what rose long ago and stands at a recent reading.
func (c *changes) stand() {
	if c.clock {
		return
	}
	for _, x := range c.w.watches {
		if !x.Det.Up || x.alarm != nil || x.held == nil && !x.told || !c.recent(x) {
			continue
		}
		n := changed{x: x, message: x.Rule.Say(c.w.state)}
		n.Up, n.At = true, value.FromMillis(x.judged)
		if x.held != nil {
			n = *x.held
		}
		c.release(x)
		x.told = false
		c.touch(x)
		c.e.apply(c.s, c.w, n)
	}
}

// tellHeld tells the journal of what was held once its backlog has ended: it is
// of long ago, and nothing says that it is over.
func (e *Engine) tellHeld(s *shard, now time.Time) {
	for x, w := range s.held {
		if w.catchingUp(now) {
			continue
		}
		c := newChanges(e, s, &w.subject)
		if x.held != nil {
			c.tellLate(*x.held)
			x.told = true
		}
		c.release(x)
	}
}
