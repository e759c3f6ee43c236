package alarms

import (
	"cmp"
	"iter"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/lifecycle"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fact"
)

// groupEvery is how often rules with each are judged. They look at many devices
// at once, which report at different times, so they are judged by the clock.
const groupEvery = time.Second

// groups are the members of all rules with each. Readings reach them from every
// shard; they are judged in the first.
type groups struct {
	changed atomic.Bool
	// said is whether what devices say of themselves decides who is in a group.
	said    atomic.Bool
	mu      sync.RWMutex
	rules   []*groupRule
	restore func(rule, group string) (lifecycle.Detector, *Alarm)
	last    time.Time

	touchMu sync.Mutex
	touched map[string]bool // devices of which something other than readings has changed
}

// touch notes that labels, settings, attributes, links or alarms of a device
// have changed, so that its members look at them again.
func (g *groups) touch(device string) {
	if device == "" {
		return
	}
	g.touchMu.Lock()
	if g.touched == nil {
		g.touched = map[string]bool{}
	}
	g.touched[device] = true
	g.touchMu.Unlock()
}

// groupRule is one rule with each.
type groupRule struct {
	set     *ruleset
	rule    *rule.Compiled
	models  []*model.Model
	key     string // of the label
	mu      sync.Mutex
	members map[string]*member // by device
	order   []*member          // by the value of the label and the id; nil where they have to be sorted
	states  []*expr.State      // of the members in that order; room for the next tick
}

type member struct {
	subject
	value string // of the label
	seen  bool   // what is not telemetry was taken over
}

// group is the devices of one value of a label, as one rule with each sees them.
type group struct{ subject }

// grouped are the groups with their watches, by rule and group.
type grouped map[string]*group

// subjects yields everything that a shard watches.
func (s *shard) subjects() iter.Seq[*subject] {
	return func(yield func(*subject) bool) {
		for _, w := range s.devices {
			if !yield(&w.subject) {
				return
			}
		}
		for _, w := range s.groups {
			if !yield(&w.subject) {
				return
			}
		}
	}
}

// observe passes readings on to the groups that the device is in.
func (g *groups) observe(ev event.Readings) {
	g.mu.RLock()
	defer g.mu.RUnlock()
	for _, r := range g.rules {
		r.mu.Lock()
		if m := r.members[ev.Device]; m != nil {
			for _, x := range ev.Readings {
				if slot, ok := r.set.metrics[x.Metric]; ok {
					m.state.Observe(slot, value.Millis(x.At), x.Value)
				}
			}
		}
		r.mu.Unlock()
	}
}

// regroup finds the rules with each, and the members of their groups, again.
// Groups that are no more let go of their alarms.
func (e *Engine) regroup(s *shard) {
	e.rulesMu.RLock()
	var rules []*groupRule
	for _, r := range e.sorted() {
		if r.Each == "" || r.Disabled {
			continue
		}
		g, err := e.groupRule(r)
		if err != nil {
			e.log.Error("a rule does not fit its models any more and is not watched", "rule", r.Name, "error", err)
			continue
		}
		// A rule that is as it was keeps its members and their windows.
		for _, old := range e.groups.rules {
			if old.rule.Rule == r && slices.Equal(old.models, g.models) {
				g = old
			}
		}
		rules = append(rules, g)
	}
	e.rulesMu.RUnlock()
	seen := map[string]bool{}
	for _, g := range rules {
		g.mu.Lock()
		for _, d := range e.devices.List() {
			e.join(g, d)
		}
		for _, m := range g.members {
			seen[g.rule.Name+" "+g.key+"="+m.value] = true
		}
		g.mu.Unlock()
	}
	e.groups.mu.Lock()
	e.groups.rules = rules
	e.groups.said.Store(slices.ContainsFunc(rules, func(g *groupRule) bool { return asksAttributes(g.rule) }))
	e.groups.mu.Unlock()
	if s.groups == nil {
		s.groups = grouped{}
	}
	for key, w := range s.groups {
		if seen[key] {
			continue
		}
		for _, x := range w.watches {
			if x.alarm != nil && x.alarm.State.Open() {
				x.alarm.State, x.alarm.ReturnedAt = lifecycle.Normal, e.now()
				e.record(s, *x.alarm, e.now(), fact.Returned{Rule: x.Rule.Name,
					Why: x.Rule.Name + " no longer watches " + w.id + "; its alarm is closed"})
				what, why := e.ended(x.Rule.Name)
				e.follow(s, &w.subject, x, what, why)
			}
		}
		delete(s.groups, key)
	}
}

// groupRule compiles a rule with each; the rules are locked.
func (e *Engine) groupRule(r *rule.Rule) (*groupRule, error) {
	var of []*model.Model
	for _, name := range r.Models {
		m, err := e.models.Get(name)
		if err != nil {
			return nil, err
		}
		of = append(of, m)
	}
	plan, c, err := check.GroupRule(r, of, check.Around{Rules: e.names()})
	if err != nil {
		return nil, err
	}
	set := newRuleset(plan, nil, plan.Schema().Interval)
	set.rules = []*rule.Compiled{c}
	return &groupRule{set: set, rule: c, models: of, key: strings.TrimPrefix(r.Each, "label."),
		members: map[string]*member{}}, nil
}

// join makes a device a member of its group, if the rule is for it, and takes
// it out if it is not any more.
func (e *Engine) join(g *groupRule, d devices.Device) {
	label := d.Labels[g.key]
	get, _, ok := e.present.Lookup(d.ID)
	if !ok || label == "" || d.Status == devices.Retired || d.Status == devices.Suspended || !g.rule.Names(d.Model) ||
		!selects(g.rule.Selects(), get) {
		if delete(g.members, d.ID); g.order != nil {
			g.order = nil
		}
		return
	}
	m := g.members[d.ID]
	if m == nil {
		m = &member{subject: subject{id: d.ID, set: g.set}}
		e.refillMember(m)
		g.members[d.ID], g.order = m, nil
	}
	if m.value != label {
		g.order = nil
	}
	m.value, m.seen = label, false
}

func (e *Engine) refillMember(m *member) {
	if err := e.refill(nil, &m.subject, false); err != nil {
		e.log.Error("windows were not filled", "device", m.id, "error", err)
	}
}

// tickGroups judges every group.
func (e *Engine) tickGroups(s *shard, now time.Time) {
	g := &e.groups
	if now.Sub(g.last) < groupEvery {
		return
	}
	g.last = now
	if g.changed.Swap(false) {
		e.regroup(s)
	}
	g.touchMu.Lock()
	touched := g.touched
	g.touched = nil
	g.touchMu.Unlock()
	g.mu.RLock()
	defer g.mu.RUnlock()
	for _, r := range g.rules {
		e.judgeGroups(s, r, now, touched)
	}
	e.oversee(s)
}

// judgeGroups judges the groups of one rule, in the order of their labels.
func (e *Engine) judgeGroups(s *shard, r *groupRule, now time.Time, touched map[string]bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.order == nil {
		r.order = slices.SortedFunc(maps.Values(r.members), func(a, b *member) int {
			return cmp.Or(strings.Compare(a.value, b.value), strings.Compare(a.id, b.id))
		})
		r.states = make([]*expr.State, 0, len(r.order)) // a group that is no more keeps the ones it had
	}
	states := r.states[:0]
	for _, m := range r.order {
		if m.state.Late() {
			e.refillMember(m)
		}
		if !m.seen || touched[m.id] {
			e.outer(&m.subject)
			m.seen = true
		}
		m.state.Advance(now)
		states = append(states, m.state)
	}
	r.states = states
	for from, to := 0, 0; from < len(r.order); from = to {
		label := r.order[from].value
		for to < len(r.order) && r.order[to].value == label {
			to++
		}
		e.judgeGroup(s, r, label, states[from:to], now)
	}
}

// judgeGroup judges the devices of one value of a label.
func (e *Engine) judgeGroup(s *shard, r *groupRule, label string, members []*expr.State, now time.Time) {
	name := r.key + "=" + label
	key := r.rule.Name + " " + name
	w := s.groups[key]
	if w == nil {
		x := &watch{Watch: rule.Watch{Rule: r.rule}}
		if e.groups.restore != nil {
			x.Det, x.alarm = e.groups.restore(r.rule.Name, name)
		}
		w = &group{subject{id: name, watches: []*watch{x}}}
		s.groups[key] = w
		if x.alarm != nil {
			s.track(x.alarm, &w.subject, x, x.release)
		}
	}
	x := w.watches[0]
	if x.Rule != r.rule {
		x.Rule = r.rule
		if x.alarm != nil && x.alarm.State.Holds() {
			e.follow(s, &w.subject, x, Edited, "")
		}
	}
	w.set = r.set
	w.state = r.set.plan.NewState(now)
	w.state.In(e.present.ZoneOf(siteOf(r.key, label)))
	w.state.Group(members)
	if slot, ok := r.set.plan.Slot(expr.Name{Scope: "label", Key: r.key}); ok {
		w.state.Set(slot, expr.Sample{Value: value.OfText(label)})
	}
	w.state.Advance(now)
	c := newChanges(e, s, &w.subject)
	if change, ok := x.Det.Advance(now, x.Timings()); ok {
		c.add(x, change)
	}
	c.assess(x, now)
	x.Det.Seen, x.dirty = now, true
	c.apply()
}

// Groups returns the open alarms of groups.
func (e *Engine) Groups() []Alarm {
	e.openMu.RLock()
	out := slices.AppendSeq([]Alarm(nil), maps.Values(e.open))
	e.openMu.RUnlock()
	slices.SortFunc(out, func(a, b Alarm) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// siteOf is the site that a group is about; empty if its label is another one.
func siteOf(key, label string) string {
	if key == "site" {
		return label
	}
	return ""
}
