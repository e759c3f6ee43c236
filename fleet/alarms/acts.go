package alarms

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ullage/core/expr"
	"ullage/core/lifecycle"
	"ullage/core/value"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// What people do about alarms. Each act goes to the shard of the alarm, so that two people
// at once are one after the other, and ends when it is on the disk.

// Shelf lets the alarms of one rule on one device or group stand aside until a time.
type Shelf struct {
	Rule, Subject string
	By, Why       string
	At, Until     time.Time
}

const (
	// MaxShelved is how long an alarm may be shelved at once.
	MaxShelved = 31 * 24 * time.Hour
	// MaxComment is how many characters a comment may have.
	MaxComment = 2000
)

// acting asks a shard to do something about an alarm.
type acting struct {
	of     Alarm // as it was stored
	by     string
	do     func(*action) error
	done   func(Alarm, error)
	closed bool // it may be done about an alarm that is closed
}

// About implements event.Event.
func (acting) About() string { return "" }

// action is what an act works on: it changes the alarm and says what it did.
type action struct {
	e    *Engine
	s    *shard
	a    *Alarm // a copy; it is made part of the record if the act succeeds
	at   time.Time
	by   string
	told fact.Content
}

// act finds an alarm, has its shard do something about it, and waits for the disk.
func (e *Engine) act(ctx context.Context, id, by string, closed bool, do func(*action) error) (Alarm, error) {
	stored, err := e.records.Alarms(ctx, Filter{ID: id})
	if err != nil {
		return Alarm{}, err
	}
	if len(stored) == 0 {
		return Alarm{}, Unknown(id)
	}
	a := stored[0]
	type end struct {
		a   Alarm
		err error
	}
	ended := make(chan end, 1)
	e.bus.Tell(shardOf(a), acting{of: a, by: by, do: do, closed: closed, done: func(a Alarm, err error) { ended <- end{a, err} }})
	select {
	case x := <-ended:
		return x.a, x.err
	case <-ctx.Done():
		return a, ctx.Err()
	}
}

func shardOf(a Alarm) int {
	if a.Group != "" {
		return 0
	}
	return event.ShardOf(a.Device)
}

func (e *Engine) acted(s *shard, x acting) {
	o := s.open[x.of.ID]
	was := x.of
	if o != nil {
		was = *o.a
	} else if !x.closed {
		x.done(was, fault.New(fault.Conflict, "this alarm has returned and was acknowledged; there is nothing to do about it").On("alarm"))
		return
	}
	now := e.now()
	next := was
	n := &action{e: e, s: s, a: &next, at: now, by: x.by}
	if err := x.do(n); err != nil {
		x.done(was, err)
		return
	}
	if o != nil {
		*o.a = next
	}
	e.record(s, next, now, n.told)
	s.unsaved.facts[len(s.unsaved.facts)-1].Person = x.by
	s.unsaved.waiting = append(s.unsaved.waiting, func(err error) {
		if err != nil && o != nil && *o.a == next {
			*o.a = was // it is as if it had not been: the person was told so
		}
		if err != nil {
			x.done(was, err)
			return
		}
		x.done(next, nil)
	})
	if o != nil && !next.State.Open() {
		o.release()
	}
}

// Acknowledge marks an alarm as seen by a person.
func (e *Engine) Acknowledge(ctx context.Context, id, by string) (Alarm, error) {
	return e.act(ctx, id, by, false, func(n *action) error {
		next, ok := n.a.State.Acknowledge()
		if !ok {
			if n.a.AcknowledgedBy == "" {
				return fault.New(fault.Conflict, "this alarm is %s; there is nothing to acknowledge", n.a.State).On("alarm")
			}
			return fault.New(fault.Conflict, "%s has acknowledged this alarm at %s", n.a.AcknowledgedBy,
				n.a.AcknowledgedAt.Format(time.RFC3339)).On("alarm")
		}
		n.a.State, n.a.AcknowledgedAt, n.a.AcknowledgedBy = next, n.at, n.by
		n.told = fact.Acknowledged{Rule: n.a.Rule, Message: n.a.Message}
		return nil
	})
}

// Reset lets a latched alarm go whose condition is gone.
func (e *Engine) Reset(ctx context.Context, id, by string) (Alarm, error) {
	return e.act(ctx, id, by, false, func(n *action) error {
		next, ok := n.a.State.Reset()
		switch {
		case n.a.State.Holds():
			return fault.New(fault.Conflict, "what raised this alarm still holds, so there is nothing to reset").
				Then("it can be reset once the condition is gone").On("alarm")
		case !ok:
			return fault.New(fault.Conflict, "this alarm is not latched; it goes by itself").On("alarm")
		}
		n.a.State = next
		n.told = fact.AlarmReset{Rule: n.a.Rule}
		return nil
	})
}

// Shelve lets the alarms of a rule on the subject of an alarm stand aside until a time,
// those that come up meanwhile too.
func (e *Engine) Shelve(ctx context.Context, id string, until time.Time, why, by string) (Alarm, error) {
	now := e.now()
	switch {
	case until.IsZero():
		return Alarm{}, fault.New(fault.Invalid, "an alarm is shelved until a time, and none is said").Then("say for how long, like 2h")
	case !until.After(now):
		return Alarm{}, fault.New(fault.Invalid, "%s is over already", until.Format(time.RFC3339)).Then("say a time to come")
	case until.Sub(now) > MaxShelved:
		return Alarm{}, fault.New(fault.Invalid, "an alarm is shelved for 31 days at most").
			Then("shelve it again when they are over, plan maintenance, or change the rule")
	}
	if err := checkText("the reason", why, 400); err != nil {
		return Alarm{}, err
	}
	return e.act(ctx, id, by, true, func(n *action) error {
		sh := Shelf{Rule: n.a.Rule, Subject: n.a.Subject(), By: n.by, Why: strings.TrimSpace(why), At: n.at, Until: until}
		n.s.shelve(sh)
		if n.a.State.Open() {
			n.a.Aside.Shelved = true
			n.a.ShelvedUntil, n.a.ShelvedBy, n.a.ShelvedWhy = sh.Until, sh.By, sh.Why
		}
		n.told = fact.Shelved{Rule: sh.Rule, Until: sh.Until, Why: sh.Why}
		return nil
	})
}

// Unshelve brings an alarm back before its time.
func (e *Engine) Unshelve(ctx context.Context, id, by string) (Alarm, error) {
	return e.act(ctx, id, by, true, func(n *action) error {
		sh, ok := n.s.shelves[shelfKey{n.a.Rule, n.a.Subject()}]
		if !ok {
			return fault.New(fault.Conflict, "this alarm is not shelved").On("alarm")
		}
		n.s.unshelve(sh)
		n.a.unshelved()
		n.told = fact.Unshelved{Rule: sh.Rule}
		return nil
	})
}

// Comment says something about an alarm, open or closed.
func (e *Engine) Comment(ctx context.Context, id, text, by string) (Alarm, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return Alarm{}, fault.New(fault.Invalid, "the comment is empty").Then("say something")
	}
	if err := checkText("the comment", text, MaxComment); err != nil {
		return Alarm{}, err
	}
	return e.act(ctx, id, by, true, func(n *action) error {
		n.a.Comments++
		n.told = fact.Commented{Rule: n.a.Rule, Text: text}
		return nil
	})
}

func checkText(what, text string, most int) error {
	if wrong := value.Written(text, most); wrong != "" {
		return fault.New(fault.Invalid, "%s %s", what, wrong)
	}
	return nil
}

type shelfKey struct{ rule, subject string }

func (s *shard) shelve(sh Shelf) {
	if s.shelves == nil {
		s.shelves = map[shelfKey]Shelf{}
	}
	s.shelves[shelfKey{sh.Rule, sh.Subject}] = sh
	s.unsaved.shelves = append(s.unsaved.shelves, shelving{sh, false})
}

func (s *shard) unshelve(sh Shelf) {
	delete(s.shelves, shelfKey{sh.Rule, sh.Subject})
	s.unsaved.shelves = append(s.unsaved.shelves, shelving{sh, true})
}

// shelving is a shelf that begins, or is over.
type shelving struct {
	Shelf
	over bool
}

func (a *Alarm) unshelved() {
	a.Aside.Shelved = false
	a.ShelvedUntil, a.ShelvedBy, a.ShelvedWhy = time.Time{}, "", ""
}

// Shelves returns what is shelved now.
func (e *Engine) Shelves(ctx context.Context) ([]Shelf, error) { return e.records.Shelves(ctx) }

// opened is an open alarm of a shard.
type opened struct {
	a *Alarm
	w *subject // nil for alarms of the service
	x *watch   // nil for alarms of rules that are built in
	// release lets go of the alarm when it is normal.
	release func()
}

// track lets a shard know of an open alarm.
func (s *shard) track(a *Alarm, w *subject, x *watch, release func()) {
	if s.open == nil {
		s.open = map[string]*opened{}
	}
	s.open[a.ID] = &opened{a, w, x, release}
}

// Outages tells which devices are out of service now, for maintenance.
type Outages interface {
	// Out returns the name of the maintenance that a device is under; empty for none.
	Out(device string) string
	// OutGroup is Out for the devices that have a value of a label: all of them are.
	OutGroup(label, value string) string
}

// aside works out whether an alarm stands aside now, and why.
func (e *Engine) aside(s *shard, o *opened, now time.Time) (next Alarm) {
	a := o.a
	next = *a
	if sh, ok := s.shelves[shelfKey{a.Rule, a.Subject()}]; ok && now.Before(sh.Until) {
		next.Aside.Shelved, next.ShelvedUntil, next.ShelvedBy, next.ShelvedWhy = true, sh.Until, sh.By, sh.Why
	} else {
		next.unshelved()
	}
	next.SuppressedBy = e.suppressor(o)
	next.Aside.Suppressed = next.SuppressedBy != ""
	next.Maintenance = ""
	if out := e.outages; out != nil {
		if a.Device != "" {
			next.Maintenance = out.Out(a.Device)
		} else if label, value, ok := strings.Cut(a.Group, "="); ok && !strings.HasPrefix(a.Group, serviceGroup) {
			next.Maintenance = out.OutGroup(label, value)
		}
	}
	next.Aside.OutOfService = next.Maintenance != ""
	return next
}

// ByDesign is what an alarm is suppressed by where its own rule says so.
const ByDesign = "by design"

// suppressor says what suppresses an alarm; empty for nothing.
func (e *Engine) suppressor(o *opened) string {
	if o.x == nil {
		return ""
	}
	if p := o.x.Rule.Suppressing; p != nil && o.w.state != nil && p.Truth(o.w.state) == expr.True {
		return ByDesign
	}
	if o.a.Device == "" {
		return ""
	}
	over := e.over.Load()
	if over == nil {
		return ""
	}
	groups := (*over)[o.a.Rule]
	if len(groups) == 0 {
		return ""
	}
	d, err := e.devices.Get(o.a.Device)
	if err != nil {
		return ""
	}
	for key, g := range groups {
		label, value, _ := strings.Cut(key, "=")
		if d.Labels[label] == value && g.has(d.ID) {
			return g.rule.Name + " " + key
		}
	}
	return ""
}

// oversee notes which group alarms suppress the alarms of which rules on their members:
// by rule, then by group, the rule of the group. The groups are locked.
func (e *Engine) oversee(s *shard) {
	next := map[string]map[string]*groupRule{}
	for _, g := range e.groups.rules {
		if len(g.rule.Suppresses) == 0 {
			continue
		}
		for _, w := range s.groups {
			x := w.watches[0]
			if x.Rule.Name != g.rule.Name || x.alarm == nil || !x.alarm.State.Holds() {
				continue
			}
			for _, name := range g.rule.Suppresses {
				if next[name] == nil {
					next[name] = map[string]*groupRule{}
				}
				next[name][w.id] = g
			}
		}
	}
	e.over.Store(&next)
}

// has reports whether a device is a member of a group of the rule.
func (g *groupRule) has(device string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.members[device] != nil
}

// tend looks at the open alarms of a shard: what stands aside by now, what is back, and
// whose priority rises.
func (e *Engine) tend(s *shard, now time.Time) {
	if d := now.Sub(s.tended); d >= 0 && d < time.Second {
		return
	}
	s.tended = now
	for _, sh := range s.shelves {
		if now.Before(sh.Until) {
			continue
		}
		s.unshelve(sh)
		f := fact.New(sh.Until, fact.Unshelved{Rule: sh.Rule, Itself: true})
		a := Alarm{Rule: sh.Rule}
		if strings.Contains(sh.Subject, "=") {
			a.Group = sh.Subject
		} else {
			a.Device = sh.Subject
		}
		for _, o := range s.open {
			if o.a.Rule == sh.Rule && o.a.Subject() == sh.Subject {
				a.ID = o.a.ID
			}
		}
		s.unsaved.facts = append(s.unsaved.facts, about(a, f))
	}
	for _, o := range s.open {
		next := e.aside(s, o, now)
		if next != *o.a {
			e.turned(s, o, next, now)
		}
		e.rise(s, o, now)
	}
}

// turned makes it part of the record that an alarm stands aside otherwise than before.
func (e *Engine) turned(s *shard, o *opened, next Alarm, now time.Time) {
	was := *o.a
	*o.a = next
	tell := func(c fact.Content) { e.record(s, next, now, c) }
	switch {
	case was.SuppressedBy != next.SuppressedBy && next.SuppressedBy != "":
		tell(fact.Suppressed{Rule: next.Rule, By: next.SuppressedBy})
	case was.SuppressedBy != next.SuppressedBy:
		tell(fact.Suppressed{Rule: next.Rule, By: was.SuppressedBy, Over: true})
	}
	switch {
	case was.Maintenance != next.Maintenance && next.Maintenance != "":
		tell(fact.OutOfService{Rule: next.Rule, Maintenance: next.Maintenance})
	case was.Maintenance != next.Maintenance:
		tell(fact.OutOfService{Rule: next.Rule, Maintenance: was.Maintenance, Over: true})
	}
	if o.x != nil && (was.Aside.Suppressed != next.Aside.Suppressed || was.Aside.OutOfService != next.Aside.OutOfService) && next.State.Holds() {
		e.follow(s, o.w, o.x, Turned, "")
	}
	if was.Aside.Shelved != next.Aside.Shelved { // the shelf itself was told of
		next.changedAt = now
		s.unsaved.alarms = append(s.unsaved.alarms, next)
	}
}

// rise lets the priority of an open alarm go up, as its rule says.
func (e *Engine) rise(s *shard, o *opened, now time.Time) {
	if o.x == nil || !o.a.State.Open() || o.a.Aside.Any() {
		return
	}
	for _, r := range o.x.Rule.Rises {
		if r.To.Rank() >= o.a.Priority.Rank() {
			continue
		}
		why := ""
		switch {
		case r.After > 0 && o.a.State == lifecycle.Unacknowledged && now.Sub(o.a.since()) >= r.After.Std():
			why = fmt.Sprintf("nobody has acknowledged it for %s", r.After)
		case r.Beyond > 0 && o.a.State.Holds() && o.w != nil && o.w.state != nil:
			d, ok := o.x.Rule.Raises.Decider(o.w.state, o.x.Answer)
			far := d.Value - d.Limit
			if !d.Upward {
				far = -far
			}
			if !ok || !(far >= r.Beyond) {
				continue
			}
			why = fmt.Sprintf("%s is %.4g %s beyond the limit", d.Of, far, d.Unit.Symbol)
		default:
			continue
		}
		was := o.a.Priority
		o.a.Priority = r.To
		if o.a.State == lifecycle.Acknowledged {
			// Whoever acknowledged the one has not seen the other.
			o.a.State, o.a.AcknowledgedAt, o.a.AcknowledgedBy = lifecycle.Unacknowledged, time.Time{}, ""
		}
		e.record(s, *o.a, now, fact.PriorityRose{Rule: o.a.Rule, From: string(was), To: string(r.To), Why: strings.TrimSpace(why)})
	}
}

// since is when an alarm came up last.
func (a *Alarm) since() time.Time {
	if a.CameUpAt.After(a.RaisedAt) {
		return a.CameUpAt
	}
	return a.RaisedAt
}

// besides says why it calls nobody; empty if it does.
func (a *Alarm) besides() string {
	if !a.Aside.Any() {
		return ""
	}
	return string(a.Aside.Shown(lifecycle.Unacknowledged))
}

// Shown is the state in which people see an alarm.
func (a Alarm) Shown() lifecycle.State { return a.Aside.Shown(a.State) }
