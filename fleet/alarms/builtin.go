package alarms

import (
	"fmt"
	"slices"
	"time"

	"ullage/core/health"
	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/event"
	"ullage/fleet/fact"
)

// RepeatedRefusals is the built-in alarm on a device whose messages keep being
// refused.
const RepeatedRefusals = "repeated_refusals"

func (e *Engine) refused(s *shard, ev event.Refused) {
	w := s.devices[ev.Device]
	if w == nil {
		return
	}
	w.refusals = append(w.refusals, ev.At)
	if n := len(w.refusals) - health.RefusalsToWatch; n > 0 {
		w.refusals = slices.Delete(w.refusals, 0, n)
	}
	if len(w.refusals) < health.RefusalsToWatch || ev.At.Sub(w.refusals[0]) > time.Hour {
		return
	}
	switch a := w.builtin; {
	case a == nil:
		w.builtin = &Alarm{
			ID: fact.NewID(ev.At), Rule: RepeatedRefusals, Device: ev.Device, Priority: rule.Low,
			State: lifecycle.Normal.Raise(), Times: 1, RaisedAt: ev.At,
			Message:  fmt.Sprintf("%d messages of %s were refused within an hour", health.RefusalsToWatch, ev.Device),
			Cause:    "Its firmware sends what its model does not know, or sends it in the wrong form",
			Response: "Read the reasons on its traffic; correct the model or the firmware",
			Value:    value.OfNumber(health.RefusalsToWatch), Limit: value.OfNumber(health.RefusalsToWatch),
		}
		s.calming[w.id] = w
		s.track(w.builtin, &w.subject, nil, func() { w.builtin = nil })
		*w.builtin = e.aside(s, s.open[w.builtin.ID], ev.At)
		e.record(s, *w.builtin, ev.At, fact.Raised{Message: w.builtin.Message, Priority: string(rule.Low)})
	case a.State == lifecycle.Returned:
		a.State, a.ReturnedAt = a.State.Raise(), time.Time{}
		a.Times++
		e.record(s, *a, ev.At, fact.Raised{Message: a.Message, Priority: string(a.Priority), Again: true})
	}
}

// calm returns the built-in alarm once an hour has passed without a refusal.
func (e *Engine) calm(s *shard, w *watchedDevice, now time.Time) {
	a := w.builtin
	if a == nil {
		delete(s.calming, w.id)
		return
	}
	if !a.State.Holds() || len(w.refusals) > 0 && now.Sub(w.refusals[len(w.refusals)-1]) < time.Hour {
		return
	}
	a.State, a.ReturnedAt = a.State.Return(false, a.Aside.Any()), now
	e.record(s, *a, now, fact.Returned{Rule: a.Rule, Why: "nothing was refused for an hour"})
	if !a.State.Open() {
		w.builtin = nil
	}
}
