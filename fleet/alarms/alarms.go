// Package alarms holds the rules in force and evaluates them over committed
// readings. Raises, returns and acknowledgements are stored together with the
// state of the delays, so that a restart goes on where it stopped.
package alarms

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/journal"
	"ullage/fleet/models"
	"ullage/fleet/present"
)

// Alarm is one occurrence on one device. If the condition comes up again
// before anybody has acknowledged, it is the same alarm, once more.
type Alarm struct {
	ID             string
	Rule           string
	Device         string // "" for the alarm of a group
	Group          string // such as site=Kilnside, of rules with each
	Priority       rule.Priority
	State          lifecycle.State
	Message        string
	Cause          string
	Response       string
	Metric         string      // the metric it is about
	Value          value.Value // of the metric when it was raised
	Limit          value.Value // what it was compared with, where that is one number
	Times          int         // how often it came up
	RaisedAt       time.Time
	ReturnedAt     time.Time
	AcknowledgedAt time.Time
	AcknowledgedBy string
}

// Subject returns what the alarm is about: a device, or a group. Ids of devices
// have no = in them.
func (a Alarm) Subject() string { return a.Device + a.Group }

// Detection is the stored state of one rule on one device or group.
type Detection struct {
	Rule, Device string
	Detector     lifecycle.Detector
}

// Filter narrows a list of alarms.
type Filter struct {
	ID     string
	Device string
	Among  []string // only of these devices, unless it is nil
	Open   bool
	Before string // only alarms with a lesser id
	Limit  int
}

// Records stores rules and alarms.
type Records interface {
	journal.Records
	SaveRule(rule.Rule, journal.Entry) error
	DeleteRule(name string, e journal.Entry) error
	Rules() ([]rule.Rule, error)
	// SaveAlarms stores alarms, detections and journal entries in one transaction.
	SaveAlarms([]Alarm, []Detection, []journal.Entry) error
	Alarms(Filter) ([]Alarm, error)
	Detections() ([]Detection, error)
}

// History gives the readings of a series between two times, in order, and sums
// of them.
type History interface {
	Readings(device, metric string, from, to time.Time, yield func(series.Point) error) error
	// Cells sums numbers up; width is that of the narrowest cell, in ms.
	Cells(ctx context.Context, device, metric string, from, to time.Time, grid series.Grid, width int64) ([]series.Rollup, error)
}

// Lateness is how old a batch may be for its raised-and-returned conditions to
// be alarms still; beyond it they go to the journal only.
const Lateness = 5 * time.Minute

// Engine evaluates the rules in force.
type Engine struct {
	records Records
	history History
	devices *devices.Registry
	models  *models.Catalogue
	present *present.Fleet
	bus     *event.Bus
	now     func() time.Time
	log     *slog.Logger

	rulesMu sync.RWMutex
	rules   map[string]*rule.Rule
	sets    map[string]*ruleset // by model and rules
	groups  groups

	shards [event.Shards]shard
}

type shard struct {
	mu      sync.Mutex
	devices map[string]*watched
	groups  grouped // of the first shard only
	wakes   wakes
	chores  []string // devices whose trends and usual values are to be worked out
	unsaved batch
	saved   time.Time
}

type batch struct {
	alarms     []Alarm
	detections []Detection
	entries    []journal.Entry
}

func (b *batch) empty() bool { return len(b.alarms)+len(b.detections)+len(b.entries) == 0 }

// Open reads rules, open alarms and detections, fills the windows from the
// history, and evaluates the readings that were stored but not yet evaluated
// when the service stopped.
func Open(r Records, h History, d *devices.Registry, m *models.Catalogue, p *present.Fleet, bus *event.Bus, now func() time.Time, log *slog.Logger) (*Engine, error) {
	e := &Engine{records: r, history: h, devices: d, models: m, present: p, bus: bus, now: now, log: log, rules: map[string]*rule.Rule{}, sets: map[string]*ruleset{}}
	stored, err := r.Rules()
	if err != nil {
		return nil, err
	}
	for _, x := range stored {
		if err := x.Check(); err != nil {
			return nil, err
		}
		e.rules[x.Name] = &x
	}
	open, err := r.Alarms(Filter{Open: true})
	if err != nil {
		return nil, err
	}
	detections, err := r.Detections()
	if err != nil {
		return nil, err
	}
	type key struct{ rule, device string }
	byKey := map[key]*Alarm{}
	for _, a := range open {
		byKey[key{a.Rule, a.Subject()}] = &a
	}
	known := map[key]lifecycle.Detector{}
	for _, x := range detections {
		known[key{x.Rule, x.Device}] = x.Detector
	}
	for i := range e.shards {
		e.shards[i].devices = map[string]*watched{}
	}
	for _, dev := range d.List() {
		s := &e.shards[event.ShardOf(dev.ID)]
		w := &watched{id: dev.ID, builtin: byKey[key{RepeatedRefusals, dev.ID}]}
		if w.builtin != nil {
			w.refusals = []time.Time{now()}
			e.tell(*w.builtin)
		}
		s.devices[dev.ID] = w
		e.choose(w, dev)
		for _, c := range w.rules() {
			k := key{c.Name, dev.ID}
			x := &watch{rule: c, det: known[k], alarm: byKey[k]}
			w.watches = append(w.watches, x)
			if x.alarm != nil {
				e.tell(*x.alarm)
			}
		}
		if err := e.refill(s, w, true); err != nil {
			return nil, err
		}
		e.settle(s, w)
	}
	e.groups.restore = func(rule, group string) (lifecycle.Detector, *Alarm) {
		return known[key{rule, group}], byKey[key{rule, group}]
	}
	e.regroup(&e.shards[0])
	for i := range e.shards {
		e.save(&e.shards[i])
	}
	return e, nil
}

// save stores what is unsaved. What the store does not take is kept and tried
// again with the next tick; a crash before that evaluates the readings again.
func (e *Engine) save(s *shard) {
	if s.unsaved.empty() {
		return
	}
	if err := e.records.SaveAlarms(s.unsaved.alarms, s.unsaved.detections, s.unsaved.entries); err != nil {
		e.log.Error("alarms were not stored and will be tried again", "error", err)
		return
	}
	told := s.unsaved.alarms
	s.unsaved = batch{}
	for _, a := range told {
		e.tell(a)
	}
}

func (e *Engine) record(s *shard, a Alarm, entry journal.Entry) {
	s.unsaved.alarms = append(s.unsaved.alarms, a)
	s.unsaved.entries = append(s.unsaved.entries, entry)
}

func (e *Engine) tell(a Alarm) {
	e.bus.Publish(event.Alarm{Device: a.Device, Group: a.Group, ID: a.ID, Rule: a.Rule, Message: a.Message,
		Priority: a.Priority, State: a.State, RaisedAt: a.RaisedAt})
}

// flush stores the detections that moved without a change.
func (e *Engine) flush(s *shard) {
	for id, w := range s.subjects() {
		for _, x := range w.watches {
			if x.dirty {
				x.dirty = false
				s.unsaved.detections = append(s.unsaved.detections, Detection{x.rule.Name, id, x.det})
			}
		}
	}
	e.save(s)
	s.saved = e.now()
}

// Flush stores everything; it is for a graceful stop, after the bus.
func (e *Engine) Flush() {
	for i := range e.shards {
		s := &e.shards[i]
		s.mu.Lock()
		e.flush(s)
		s.mu.Unlock()
	}
}

// Acknowledge marks an alarm as seen by a person.
func (e *Engine) Acknowledge(id, by string) (Alarm, error) {
	stored, err := e.records.Alarms(Filter{ID: id})
	if err != nil {
		return Alarm{}, err
	}
	if len(stored) == 0 {
		return Alarm{}, fault.New(fault.NotFound, "there is no alarm %q", id).Then("see: ullage alarm list")
	}
	device := stored[0].Subject()
	s := &e.shards[event.ShardOf(device)]
	if stored[0].Group != "" {
		s = &e.shards[0]
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	a, release := e.find(s, device, id)
	if a == nil {
		return stored[0], fault.New(fault.Conflict, "this alarm is %s; there is nothing to acknowledge", stored[0].State)
	}
	next, ok := a.State.Acknowledge()
	if !ok {
		return *a, fault.New(fault.Conflict, "%s has acknowledged this alarm at %s", a.AcknowledgedBy, a.AcknowledgedAt.Format(time.RFC3339))
	}
	changed := *a
	changed.State, changed.AcknowledgedAt, changed.AcknowledgedBy = next, e.now(), by
	entry := journal.New(e.now(), journal.AlarmAcknowledged, stored[0].Device, by, by+" acknowledged "+a.Rule+": "+a.Message)
	if err := e.records.SaveAlarms([]Alarm{changed}, nil, []journal.Entry{entry}); err != nil {
		return Alarm{}, err
	}
	*a = changed
	if !next.Open() {
		release()
	}
	e.tell(changed)
	return changed, nil
}

func (e *Engine) find(s *shard, device, id string) (*Alarm, func()) {
	w := s.devices[device]
	if w == nil {
		return s.groups.find(id)
	}
	if w.builtin != nil && w.builtin.ID == id {
		return w.builtin, func() { w.builtin = nil }
	}
	for _, x := range w.watches {
		if x.alarm != nil && x.alarm.ID == id {
			return x.alarm, func() { x.alarm = nil }
		}
	}
	return nil, nil
}

// List returns stored alarms, the newest first.
func (e *Engine) List(f Filter) ([]Alarm, error) { return e.records.Alarms(f) }
