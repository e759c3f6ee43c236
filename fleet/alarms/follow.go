package alarms

import (
	"slices"
	"strings"
	"time"

	"ullage/core/rule"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
)

// What rules do by themselves follows the condition of their alarms, in the commit in which
// that is stored. Package responses does it.

// Doing is what became of an alarm that a response follows.
type Doing string

// What became of it.
const (
	Rose     Doing = "rose"
	Edited   Doing = "edited" // its rule is another, or responses act again
	Returned Doing = "returned"
	Turned   Doing = "turned" // it stands aside, or does not any more
	Gone     Doing = "gone"   // its rule was disabled or removed
)

// Follow says what became of an alarm whose rule does something by itself.
type Follow struct {
	Rule    *rule.Rule
	Subject string // the device or group
	Alarm   string
	What    Doing
	Aside   bool // the alarm is suppressed or out of service
	// Live says that a reading tells so which came on time.
	Live bool
	Why  string // of Gone
	// Devices are, for each response of the rule, those that it acts on; Missing says why
	// there are none.
	Devices [][]string
	Missing []string
}

// Responses does what rules do by themselves.
type Responses interface {
	// Follow runs in the writer, in the commit of the alarm.
	Follow(*commit.Tx, Follow) error
}

// onTime is how old a reading may be when it comes for a response to act on it.
const onTime = time.Minute

// follow has the responses of a watch follow what became of its alarm. What late, imported
// or caught-up readings raise is not acted on until one on time says the same.
func (e *Engine) follow(s *shard, w *subject, x *watch, what Doing, why string) {
	if e.responses == nil || len(x.Rule.Responses) == 0 && what != Edited || x.alarm == nil && what != Returned && what != Gone {
		return
	}
	live := !x.late && !s.importing
	if what == Rose && !live {
		return
	}
	f := Follow{Rule: x.Rule.Rule, Subject: w.id, What: what, Why: why, Live: live}
	if x.alarm != nil {
		f.Alarm = x.alarm.ID
		f.Aside = x.alarm.Aside.Suppressed || x.alarm.Aside.OutOfService
	}
	if what == Rose || what == Edited || what == Turned || what == Returned && slices.ContainsFunc(f.Rule.Responses, func(r rule.Response) bool { return r.When == rule.WhenReturned }) {
		if !e.choosing(&f, w) { // it cannot be asked yet; the next tick does
			s.owed = append(s.owed, owed{w, x, what})
			return
		}
	}
	s.unsaved.follows = append(s.unsaved.follows, f)
}

// owed is what could not be followed yet.
type owed struct {
	w    *subject
	x    *watch
	what Doing
}

func (e *Engine) payOwed(s *shard) {
	all := s.owed
	s.owed = nil
	for _, o := range all {
		e.follow(s, o.w, o.x, o.what, "")
	}
}

// Acts returns the devices on which each response of a rule, in force or not, would act for
// an alarm on a device or group now.
func (e *Engine) Acts(r *rule.Rule, on string) [][]string {
	f := Follow{Rule: r}
	e.choosing(&f, &subject{id: on})
	return f.Devices
}

// choosing fills in on which devices each response acts. It reports false where selectors
// cannot be answered yet.
func (e *Engine) choosing(f *Follow, w *subject) bool {
	labels := map[string]string{}
	device, group := w.about()
	if device != "" {
		if d, err := e.devices.Get(device); err == nil {
			labels = d.Labels
		}
	} else if label, value, ok := strings.Cut(group, "="); ok {
		labels[label] = value
	}
	f.Devices, f.Missing = make([][]string, len(f.Rule.Responses)), make([]string, len(f.Rule.Responses))
	for i := range f.Rule.Responses {
		r := &f.Rule.Responses[i]
		var ids []string
		switch {
		case r.Devices == "" && device != "":
			ids = []string{device}
		case r.Devices == "":
			ids = e.membersOf(f.Rule, group)
		default:
			src, missing := r.Bound(labels)
			if missing != "" {
				f.Missing[i] = w.id + " has no label " + missing
				continue
			}
			if e.matching == nil {
				return false
			}
			among, ready, err := e.matching(src)
			if !ready {
				return false
			}
			if err != nil {
				f.Missing[i] = err.Error()
				continue
			}
			for id := range among {
				ids = append(ids, id)
			}
		}
		if author := f.Rule.Author; author != "" && e.mayEngineer != nil {
			ids = slices.DeleteFunc(ids, func(id string) bool { return !e.mayEngineer(author, id) })
		}
		slices.Sort(ids)
		if len(ids) > rule.MostDevices {
			f.Missing[i] = "its selector chooses more devices than a response may act on, which is 1000"
			ids = nil
		}
		f.Devices[i] = ids
	}
	return true
}

// membersOf are the devices of a group of a rule. It is asked while groups are judged, whose
// lock is held then, so that it asks the registry.
func (e *Engine) membersOf(r *rule.Rule, group string) []string {
	label, value, _ := strings.Cut(group, "=")
	var out []string
	for _, d := range e.devices.List() {
		if d.Labels[label] == value && r.Names(d.Model) {
			if r.Devices != "" || r.Access != "" {
				get, m, ok := e.present.Lookup(d.ID)
				if !ok || !e.selected(r, m.Name, get) {
					continue
				}
			}
			out = append(out, d.ID)
		}
	}
	return out
}

// ended is what becomes of responses whose rule watches a subject no longer: nothing where
// the rule was disabled or removed, and its alarm has returned where it is in force.
func (e *Engine) ended(name string) (Doing, string) {
	r, err := e.Rule(name)
	switch {
	case err != nil:
		return Gone, "its rule was removed"
	case r.Disabled:
		return Gone, "its rule is disabled"
	}
	return Returned, ""
}

// responding has a shard go through its open alarms again, since responses act again.
type responding struct{}

// About implements event.Event.
func (responding) About() string { return "" }

// Respond has the responses of every alarm whose condition holds act, which were stopped
// when it was raised.
func (e *Engine) Respond() {
	for i := range e.shards {
		e.bus.Tell(i, responding{})
	}
}

func (e *Engine) respondAgain(s *shard) {
	for _, o := range s.open {
		if o.x != nil && o.a.State.Holds() {
			e.follow(s, o.w, o.x, Edited, "")
		}
	}
}

// RaisedOn reports whether a rule is raised on a device: its own alarm, or that of a group
// of which it is a member. It follows the condition, whoever is called.
func (e *Engine) RaisedOn(d devices.Device, name string) bool {
	if now, ok := e.present.Get(d.ID); ok {
		for _, a := range now.Alarms {
			if a.Rule == name && a.Holds {
				return true
			}
		}
	}
	e.openMu.RLock()
	defer e.openMu.RUnlock()
	for _, a := range e.open {
		if a.Rule != name || !a.State.Holds() {
			continue
		}
		label, value, _ := strings.Cut(a.Group, "=")
		if r, err := e.Rule(name); err == nil && d.Labels[label] == value && r.Names(d.Model) {
			return true
		}
	}
	return false
}
