package alarms

import (
	"container/heap"
	"math"
	"slices"
	"strings"
	"time"

	"ullage/core/expr"
	"ullage/core/health"
	"ullage/core/lifecycle"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fact"
)

// subject is what rules are judged on: a device, a group, or, for its windows
// only, a member of a group.
type subject struct {
	id      string // of the device, or of the group, such as site=Kilnside
	set     *ruleset
	state   *expr.State
	watches []*watch
}

// detections returns the states of its rules as they are stored; what has moved is clean then.
func (w *subject) detections() Detections {
	d := Detections{Subject: w.id}
	if _, group := w.about(); group != "" && len(w.watches) > 0 {
		d.Subject = w.watches[0].Rule.Name + " " + group
	}
	for _, x := range w.watches {
		x.dirty = false
		i := slices.IndexFunc(d.States, func(s RulesIn) bool { return s.State == x.Det })
		if i < 0 {
			i = len(d.States)
			d.States = append(d.States, RulesIn{State: x.Det})
		}
		d.States[i].Rules = append(d.States[i].Rules, x.Rule.Name)
	}
	return d
}

// about returns what an alarm on the subject is about. Ids of devices have no =.
func (w *subject) about() (device, group string) {
	if strings.Contains(w.id, "=") {
		return "", w.id
	}
	return w.id, ""
}

// watchedDevice is a device with its watches.
type watchedDevice struct {
	subject
	refusals []time.Time
	builtin  *Alarm
	margins  []health.Margin
	heard    time.Time // when readings came last
	newest   int64     // the time of the newest of them
	lag      int64     // how far its clock, or its way, is behind, in ms
	queued   int64     // for when it stands in the queue of wakes; 0 for not at all
	filled   bool      // trends have been filled from the history
	usualAt  time.Time
	joined   time.Time // of the device, and its zone: those of its state
	zone     *time.Location
}

func (w *subject) rules() []*rule.Compiled {
	if w.set == nil {
		return nil
	}
	return w.set.rules
}

// watch is one rule on one device.
type watch struct {
	rule.Watch
	alarm *Alarm // nil while normal
	dirty bool
	trend trend
	ahead health.ToLimit // as a forecast said last

	late   bool  // the newest reading it was judged at came late
	judged int64 // time of the newest reading it was judged at since the start, in ms

	held *changed // what rose in a reading of long ago, and was not told yet
	told bool     // it was told to the journal, and that it is over was not
}

func (x *watch) release() { x.alarm = nil }

// choose finds the rules that watch a device and makes it a State for them.
func (e *Engine) choose(s *shard, w *watchedDevice, d devices.Device) {
	w.set, w.state = nil, nil
	delete(s.linked, w.id)
	get, m, ok := e.present.Lookup(d.ID)
	if !ok || d.Status == devices.Retired {
		return
	}
	set := e.setFor(m, get)
	if len(set.rules) == 0 {
		return
	}
	w.set, w.state = set, set.plan.NewState(d.JoinedAt)
	w.joined, w.zone = d.JoinedAt, e.present.Zone(d.ID)
	w.state.In(w.zone)
	e.outer(&w.subject)
	if set.link >= 0 {
		s.linked[w.id] = w
	}
}

// outer takes over what is not telemetry: settings, labels, attributes, facts. It reports
// what of it is otherwise than before.
func (e *Engine) outer(w *subject) (changed []int) {
	get, _, ok := e.present.Lookup(w.id)
	if !ok || w.set == nil {
		return nil
	}
	set := func(slot int, v value.Value) {
		if next := (expr.Sample{Value: v}); w.state.Sample(slot) != next {
			w.state.Set(slot, next)
			changed = append(changed, slot)
		}
	}
	names := w.set.plan.Names()
	for _, slot := range w.set.outer {
		set(slot, get(names[slot].Name))
	}
	for name, slot := range w.set.asks {
		if len(w.watches) == 0 { // a member of a group; others watch it
			set(slot, get(names[slot].Name))
			continue
		}
		raised := slices.ContainsFunc(w.watches, func(x *watch) bool {
			return x.Rule.Name == name && x.Det.Up
		})
		set(slot, value.OfBool(raised))
	}
	return changed
}

// changes gathers what a run of evaluations changes, with what each alarm
// would say, and then makes it part of the record.
type changes struct {
	e    *Engine
	s    *shard
	w    *subject
	list []changed
	// arrived is when the readings came, where that was before a stop of the
	// service; zero for now.
	arrived time.Time
	// clock says that time alone makes the changes, and no reading.
	clock bool
	asked []int // slots of rules that have changed and that others ask about
}

type changed struct {
	x *watch
	lifecycle.Change
	message      string
	value, limit value.Value
	arrived      time.Time // zero for now
	aged         bool      // by what time alone makes of the condition, such as an age
}

func newChanges(e *Engine, s *shard, w *subject) *changes { return &changes{e: e, s: s, w: w} }

func (c *changes) touch(x *watch) {
	x.dirty = true
	c.s.touch(c.w)
}

func (c *changes) add(x *watch, change lifecycle.Change) {
	n := changed{x: x, Change: change, message: x.Rule.Say(c.w.state), arrived: c.arrived}
	if slot, ok := c.w.set.metrics[x.Rule.Metric]; ok {
		n.value = c.w.state.Sample(slot).Value
	}
	a := x.Rule.Raises.Judge(c.w.state)
	if d, ok := x.Rule.Raises.Decider(c.w.state, a); ok {
		n.limit = value.OfNumber(d.Limit)
	}
	c.list = append(c.list, n)
	// Other rules may ask whether this one stands.
	if slot, ok := c.w.set.asks[x.Rule.Name]; ok {
		c.w.state.Set(slot, expr.Sample{Value: value.OfBool(change.Up)})
		c.asked = append(c.asked, slot)
	}
}

// assess judges a watch at a time and notes what changes by it.
func (c *changes) assess(x *watch, at time.Time) {
	for _, change := range x.Assess(c.w.state, at) {
		c.add(x, change)
		c.list[len(c.list)-1].aged = c.clock
	}
	x.trend.add(at, x.Answer, c.w.set.interval)
}

// apply makes the changes part of the record. What rose and returned within a
// batch that is older than Lateness goes to the journal only.
func (c *changes) apply() {
	now := c.e.now()
	for i := 0; i < len(c.list); i++ {
		n := c.list[i]
		old := now.Add(-Lateness)
		if !n.arrived.IsZero() {
			old = n.arrived.Add(-Lateness)
		}
		c.touch(n.x)
		n.x.dirty = false
		if n.Up && n.x.alarm == nil && n.At.Before(old) {
			if k := slices.IndexFunc(c.list[i+1:], func(m changed) bool { return m.x == n.x }); k >= 0 {
				n.x.held = &n
				c.over(c.list[i+1+k])
				c.list = slices.Delete(c.list, i+1+k, i+2+k)
				continue
			}
			if !n.aged && !c.recent(n.x) {
				c.hold(n)
				continue
			}
		}
		if !n.Up && n.x.alarm == nil {
			c.over(n)
			continue
		}
		c.e.apply(c.s, c.w, n)
	}
	c.list = c.list[:0]
	c.stand()
}

// apply makes one raise or return of a watch part of the record.
func (e *Engine) apply(s *shard, w *subject, c changed) {
	x := c.x
	switch {
	case c.Up && x.alarm == nil:
		device, group := w.about()
		x.alarm = &Alarm{
			ID: fact.NewID(c.At), Rule: x.Rule.Name, Device: device, Group: group, Priority: x.Rule.Priority, State: lifecycle.Normal.Raise(),
			Message: c.message, Cause: x.Rule.Cause, Response: x.Rule.Response,
			Metric: x.Rule.Metric, Value: c.value, Limit: c.limit, Times: 1, RaisedAt: c.At, Latches: x.Rule.Latch,
		}
		if within := x.Rule.RespondWithin.Std(); within > 0 {
			x.alarm.RespondBy = c.At.Add(within)
		}
		s.track(x.alarm, w, x, x.release)
		*x.alarm = e.aside(s, s.open[x.alarm.ID], e.now())
		e.record(s, *x.alarm, c.At, fact.Raised{Message: x.alarm.Message, Priority: string(x.alarm.Priority), Aside: x.alarm.besides()})
		e.follow(s, w, x, Rose, "")
	case c.Up:
		x.alarm.State = x.alarm.State.Raise()
		x.alarm.Times++
		x.alarm.ReturnedAt, x.alarm.CameUpAt = time.Time{}, c.At
		x.alarm.Value, x.alarm.Limit, x.alarm.Message = c.value, c.limit, c.message
		e.record(s, *x.alarm, c.At, fact.Raised{Message: x.alarm.Message, Priority: string(x.alarm.Priority),
			Again: true, Aside: x.alarm.besides()})
		e.follow(s, w, x, Rose, "")
	case x.alarm != nil:
		x.alarm.State, x.alarm.ReturnedAt = x.alarm.State.Return(x.alarm.Latches, x.alarm.Aside.Any()), c.At
		told := fact.Returned{Rule: x.Rule.Name}
		if p, ok := w.property(x.Rule.Metric); ok && c.value.Known() {
			told.Metric, told.Value = p.Name, p.Say(c.value)
		}
		e.record(s, *x.alarm, c.At, told)
		e.follow(s, w, x, Returned, "")
		if !x.alarm.State.Open() {
			x.alarm = nil
		}
	}
}

func (w *subject) property(metric string) (*model.Property, bool) {
	if w.set.model == nil {
		return nil, false
	}
	return w.set.model.Property(metric)
}

// Handle evaluates what the bus tells; it comes after the present board.
func (e *Engine) Handle(i int, ev event.Event) {
	s := &e.shards[i]
	switch ev := ev.(type) {
	case event.Readings:
		e.groups.observe(ev)
		w := s.devices[ev.Device]
		if w == nil {
			return
		}
		w.arrived(ev)
		if w.set == nil {
			return
		}
		all := s.observed[:0]
		for _, r := range ev.Readings {
			if slot, ok := w.set.metrics[r.Metric]; ok {
				all = append(all, observed{slot, value.Millis(r.At), r.Value, true})
			}
		}
		if len(all) == 0 {
			return
		}
		sortObserved(all)
		if err := e.live(s, &w.subject, all); err != nil {
			e.log.Error("late readings were not evaluated", "device", ev.Device, "error", err)
		}
		e.measure(s, w)
		if clear(all); cap(all) <= roomForObserved {
			s.observed = all[:0]
		}
	case saved:
		e.settled(s, ev)
	case stands:
		e.stand(s, ev.Condition)
	case acting:
		e.acted(s, ev)
	case event.Link:
		e.groups.touch(ev.Device)
		if w := s.linked[ev.Device]; w != nil {
			if slots := e.outer(&w.subject); len(slots) > 0 {
				e.reassess(s, &w.subject, w.local(e.now()), slots)
				e.measure(s, w)
			}
		}
	case event.Alarm:
		e.groups.touch(ev.Device)
	case event.Settings, event.Attributes:
		if _, of := ev.(event.Attributes); of {
			if e.groups.said.Load() {
				e.groups.changed.Store(true)
			}
			e.reselect(s, ev.About())
		}
		e.groups.touch(ev.About())
		if w := s.devices[ev.About()]; w != nil && w.set != nil {
			if slots := e.outer(&w.subject); len(slots) > 0 {
				e.reassess(s, &w.subject, w.local(e.now()), slots)
				e.measure(s, w)
			}
		}
	case event.Backfilled:
		s.importing = true
		e.rewatch(s, ev.Device)
		s.importing = false
	case responding:
		e.respondAgain(s)
	case event.Ahead:
		if w := s.devices[ev.Device]; w != nil && w.set != nil {
			for _, x := range w.watches {
				x.ahead = ev.Limits[x.Rule.Name]
			}
			e.measure(s, w)
		}
	case event.Deleted:
		e.groups.touch(ev.Device)
		if w := s.devices[ev.Device]; w != nil {
			w.filled = false // its windows hold what is gone
		}
		e.rewatch(s, ev.Device)
	case event.Device:
		e.groups.changed.Store(true)
		e.retake(s, ev.Device)
	case event.Rules:
		e.groups.changed.Store(true)
		for id := range s.devices {
			e.rerule(s, id, ev.Models)
		}
	case event.Models:
		e.groups.changed.Store(true)
		for id := range s.devices {
			e.rewatch(s, id)
		}
	case event.Refused:
		e.refused(s, ev)
	case event.Tick:
		e.tick(s, ev.Now)
		if i == 0 {
			e.tickGroups(s, ev.Now)
		}
	}
	if len(s.unsaved.alarms)+len(s.unsaved.facts)+len(s.unsaved.follows) > 0 {
		e.save(s)
	}
}

// reassess judges the watches that look at some slots at a time that no reading has; all of
// them where slots is nil. A rule that asks about another is judged again after it.
func (e *Engine) reassess(s *shard, w *subject, at time.Time, slots []int) {
	w.state.Advance(at)
	at = value.FromMillis(w.state.Now())
	c := newChanges(e, s, w)
	for range len(w.watches) {
		c.asked = nil
		for _, x := range w.watches {
			if slots != nil && !x.Rule.Looks(slots) {
				continue
			}
			c.assess(x, at)
			x.dirty = true
		}
		if len(c.asked) == 0 {
			break
		}
		slots = c.asked
	}
	c.apply()
}

// retake takes over what has changed of a device. Where the same rules watch it as before, as
// when it has come for the first time, their windows stay filled.
func (e *Engine) retake(s *shard, id string) {
	d, err := e.devices.Get(id)
	w := s.devices[id]
	get, m, ok := e.present.Lookup(id)
	if err != nil || w == nil || w.state == nil || !ok || d.Status == devices.Retired ||
		!w.joined.Equal(d.JoinedAt) || w.zone != e.present.Zone(id) || e.setFor(m, get) != w.set {
		e.rewatch(s, id)
		return
	}
	if slots := e.outer(&w.subject); len(slots) > 0 {
		e.reassess(s, &w.subject, w.local(e.now()), slots)
		e.measure(s, w)
	}
}

// reselect finds the rules of a device again where what it says of itself decides which they
// are.
func (e *Engine) reselect(s *shard, id string) {
	d, err := e.devices.Get(id)
	get, m, ok := e.present.Lookup(id)
	if err != nil || !ok || d.Status == devices.Retired {
		return
	}
	e.rulesMu.Lock()
	said := e.compiled(m, nil).said
	e.rulesMu.Unlock()
	if !said {
		return
	}
	w, set := s.devices[id], e.setFor(m, get)
	if w != nil && w.set == set || (w == nil || w.set == nil) && len(set.rules) == 0 {
		return
	}
	e.rewatch(s, id)
}

// rerule finds the rules of a device again if rules for its model have changed,
// and leaves it alone if those that watch it have not: its windows stay filled.
func (e *Engine) rerule(s *shard, id string, of map[string]bool) {
	d, err := e.devices.Get(id)
	if err != nil || !of[d.Model] {
		return
	}
	w := s.devices[id]
	if get, m, ok := e.present.Lookup(id); ok && d.Status != devices.Retired {
		if set := e.setFor(m, get); set == w.set || w.set == nil && len(set.rules) == 0 {
			return
		}
	}
	e.rewatch(s, id)
}

// rewatch finds the rules of a device again after it, a model or a rule has
// changed. Rules that watch it no longer let go of their alarm.
func (e *Engine) rewatch(s *shard, id string) {
	d, err := e.devices.Get(id)
	if err != nil {
		return
	}
	w := s.devices[id]
	if w == nil {
		w = &watchedDevice{subject: subject{id: id}}
		s.devices[id] = w
	}
	was := w.set
	e.choose(s, w, d)
	old := w.watches
	w.watches = nil
	for _, c := range w.rules() {
		x := &watch{Watch: rule.Watch{Rule: c}}
		if i := slices.IndexFunc(old, func(o *watch) bool { return o.Rule.Name == c.Name }); i >= 0 {
			same := old[i].Rule.Rule == c.Rule
			x = old[i]
			x.Rule = c
			if !same {
				x.trend = trend{}
				if x.alarm != nil && x.alarm.State.Holds() {
					e.follow(s, &w.subject, x, Edited, "")
				}
			}
			old = slices.Delete(old, i, i+1)
		} else {
			// A rule that is new to the device looks at what comes from now on.
			x.Det.Seen = e.now()
			if at, ok := e.present.Latest(id, c.Metric); ok && at.At.Before(x.Det.Seen) {
				x.Det.Seen = at.At
			}
			x.dirty = true
			s.touch(&w.subject)
		}
		w.watches = append(w.watches, x)
	}
	if len(old) > 0 {
		s.touch(&w.subject)
	}
	for _, x := range old {
		if x.alarm != nil && x.alarm.State.Open() {
			x.alarm.State, x.alarm.ReturnedAt = lifecycle.Normal, e.now()
			e.record(s, *x.alarm, e.now(), fact.Returned{Rule: x.Rule.Name,
				Why: x.Rule.Name + " no longer watches it; its alarm is closed"})
			what, why := e.ended(x.Rule.Name)
			e.follow(s, &w.subject, x, what, why)
		}
	}
	if was != w.set {
		w.filled = false
	}
	if err := e.refill(s, &w.subject, false); err != nil {
		e.log.Error("windows were not filled", "device", id, "error", err)
	}
	e.settle(s, w)
}

// settle judges a device whose State was made anew.
func (e *Engine) settle(s *shard, w *watchedDevice) {
	if w.set != nil {
		e.reassess(s, &w.subject, w.local(e.now()), nil)
		if !w.filled {
			s.chores = append(s.chores, w.id)
		}
	}
	e.measure(s, w)
}

// measure works out the margins of a device, tells them if they changed, and
// queues the device for when time alone may change something.
func (e *Engine) measure(s *shard, w *watchedDevice) {
	margins := s.measured[:0]
	for _, x := range w.watches {
		d, ok := x.Rule.Raises.Decider(w.state, x.Answer)
		if !ok || !x.Asked {
			continue
		}
		m := health.Margin{Rule: x.Rule.Name, Metric: d.Metric, Of: d.Of, Unit: d.Unit.Symbol, Value: d.Value,
			Limit: d.Limit, Upward: d.Upward, Approaching: x.trend.approaching, ToLimit: x.ahead}
		m.Headspace, m.Known, m.Reason = x.Answer.Headspace()
		margins = append(margins, m)
	}
	if s.measured = margins; !slices.Equal(margins, w.margins) {
		w.margins = slices.Clone(margins) // nobody writes to them
		e.bus.Publish(event.Margins{Device: w.id, Margins: w.margins})
	}
	if wake := w.next(); wake < math.MaxInt64 && (w.queued == 0 || wake+w.lag < w.queued) {
		w.queued = wake + w.lag
		heap.Push(&s.wakes, wakeUp{w.queued, w.id})
	}
}
