// Package alarms holds the rules in force and evaluates them over committed
// readings. Raises, returns and acknowledgements are stored together with the
// state of the delays, so that a restart goes on where it stopped.
package alarms

import (
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/lifecycle"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/core/vitals"
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
	Device         string
	Priority       rule.Priority
	State          lifecycle.State
	Message        string
	Cause          string
	Response       string
	Metric         string
	Value          value.Value // when it was raised
	Limit          value.Value
	Times          int // how often it came up
	RaisedAt       time.Time
	ReturnedAt     time.Time
	AcknowledgedAt time.Time
	AcknowledgedBy string
}

// Detection is the stored state of one rule on one device.
type Detection struct {
	Rule, Device string
	Detector     lifecycle.Detector
}

// Filter narrows a list of alarms.
type Filter struct {
	ID     string
	Device string
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

// History gives the readings of a series that are newer than a time, in order.
type History interface {
	Readings(device, metric string, from, to time.Time, yield func(series.Point) error) error
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
	present *present.Board
	bus     *event.Bus
	now     func() time.Time
	log     *slog.Logger

	rulesMu sync.RWMutex
	rules   map[string]*rule.Rule

	shards [event.Shards]shard
}

type shard struct {
	mu      sync.Mutex
	devices map[string]*watched
	unsaved batch
	saved   time.Time
}

// watched is one device with its watches.
type watched struct {
	watches  []*watch
	refusals []time.Time
	builtin  *Alarm
	margins  []vitals.Margin
}

// watch is one rule on one device.
type watch struct {
	rule  *rule.Rule
	det   lifecycle.Detector
	alarm *Alarm // nil while normal
	dirty bool
	last  value.Value // the value last judged
}

type batch struct {
	alarms     []Alarm
	detections []Detection
	entries    []journal.Entry
}

func (b *batch) empty() bool { return len(b.alarms)+len(b.detections)+len(b.entries) == 0 }

// Open reads rules, open alarms and detections, and evaluates the readings
// that were stored but not yet evaluated when the service stopped.
func Open(r Records, h History, d *devices.Registry, m *models.Catalogue, p *present.Board, bus *event.Bus, now func() time.Time, log *slog.Logger) (*Engine, error) {
	e := &Engine{records: r, history: h, devices: d, models: m, present: p, bus: bus, now: now, log: log, rules: map[string]*rule.Rule{}}
	stored, err := r.Rules()
	if err != nil {
		return nil, err
	}
	for _, x := range stored {
		if err := x.Compile(); err != nil {
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
		byKey[key{a.Rule, a.Device}] = &a
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
		w := &watched{builtin: byKey[key{RepeatedRefusals, dev.ID}]}
		if w.builtin != nil {
			w.refusals = []time.Time{now()}
			e.tell(*w.builtin)
		}
		s.devices[dev.ID] = w
		get, mod, ok := p.Lookup(dev.ID)
		if !ok {
			continue
		}
		for _, r := range e.watching(dev, get) {
			k := key{r.Name, dev.ID}
			x := &watch{rule: r, det: known[k], alarm: byKey[k]}
			delete(byKey, k)
			w.watches = append(w.watches, x)
			if x.alarm != nil {
				e.tell(*x.alarm)
			}
			if err := e.catchUp(s, dev.ID, x, mod, get); err != nil {
				return nil, err
			}
		}
		e.measure(dev.ID, w, mod, get)
	}
	for i := range e.shards {
		e.save(&e.shards[i])
	}
	return e, nil
}

// catchUp evaluates what is stored beyond what was evaluated.
func (e *Engine) catchUp(s *shard, id string, w *watch, m *model.Model, get rule.Lookup) error {
	var late []value.Reading
	err := e.history.Readings(id, w.rule.Metric(), w.det.Seen.Add(time.Millisecond), e.now().Add(model.ClockSlack), func(p series.Point) error {
		late = append(late, value.Reading{Metric: w.rule.Metric(), At: p.At, Value: p.Value, Quality: p.Quality})
		if len(late) == 5000 {
			e.judge(s, id, w, late, m, get)
			late = late[:0]
		}
		return nil
	})
	e.judge(s, id, w, late, m, get)
	return err
}

func (e *Engine) watching(d devices.Device, get rule.Lookup) []*rule.Rule {
	if d.Standing == devices.Retired {
		return nil
	}
	e.rulesMu.RLock()
	defer e.rulesMu.RUnlock()
	var out []*rule.Rule
	for _, r := range e.rules {
		if r.Watches(d.Model, get) {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b *rule.Rule) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Handle evaluates what the bus tells; it comes after the present board.
func (e *Engine) Handle(i int, ev event.Event) {
	s := &e.shards[i]
	s.mu.Lock()
	defer s.mu.Unlock()
	switch ev := ev.(type) {
	case event.Readings:
		w := s.devices[ev.Device]
		if w == nil || len(w.watches) == 0 {
			return
		}
		get, m, ok := e.present.Lookup(ev.Device)
		if !ok {
			return
		}
		touched := false
		for _, x := range w.watches {
			if rs := inOrder(ev.Readings, x.rule.Metric()); len(rs) > 0 {
				e.judge(s, ev.Device, x, rs, m, get)
				touched = true
			}
		}
		if touched {
			e.measure(ev.Device, w, m, get)
		}
	case event.Settings:
		if w := s.devices[ev.Device]; w != nil {
			if get, m, ok := e.present.Lookup(ev.Device); ok {
				e.measure(ev.Device, w, m, get)
			}
		}
	case event.Device:
		e.rewatch(s, ev.Device)
	case event.Rules, event.Models:
		for _, d := range e.devices.List() {
			if event.ShardOf(d.ID) == i {
				e.rewatch(s, d.ID)
			}
		}
	case event.Refused:
		e.refused(s, ev)
	case event.Tick:
		e.tick(s, ev.Now)
	}
	if len(s.unsaved.alarms)+len(s.unsaved.entries) > 0 {
		e.save(s)
	}
}

// rewatch finds the rules of a device again after it, a model or a rule has
// changed. Rules that watch it no longer let go of their alarm.
func (e *Engine) rewatch(s *shard, id string) {
	d, err := e.devices.Get(id)
	if err != nil {
		return
	}
	get, m, ok := e.present.Lookup(id)
	if !ok {
		return
	}
	w := s.devices[id]
	if w == nil {
		w = &watched{}
		s.devices[id] = w
	}
	old := w.watches
	w.watches = nil
	for _, r := range e.watching(d, get) {
		x := &watch{rule: r}
		if i := slices.IndexFunc(old, func(o *watch) bool { return o.rule.Name == r.Name }); i >= 0 {
			x = old[i]
			x.rule = r
			old = slices.Delete(old, i, i+1)
		} else {
			// A rule that is new to the device looks at what comes from now on.
			if at, ok := e.present.Latest(id, r.Metric()); ok {
				x.det.Seen = at.At
			}
			x.dirty = true
			s.unsaved.detections = append(s.unsaved.detections, Detection{r.Name, id, x.det})
		}
		w.watches = append(w.watches, x)
	}
	for _, x := range old {
		if x.alarm != nil && x.alarm.State.Open() {
			x.alarm.State, x.alarm.ReturnedAt = lifecycle.Normal, e.now()
			e.record(s, *x.alarm, journal.New(e.now(), journal.AlarmReturned, id, "", x.rule.Name+" no longer watches it; its alarm is closed"))
		}
	}
	e.measure(id, w, m, get)
	e.save(s)
}

func inOrder(rs []value.Reading, metric string) []value.Reading {
	var out []value.Reading
	for _, r := range rs {
		if r.Metric == metric {
			out = append(out, r)
		}
	}
	slices.SortStableFunc(out, func(a, b value.Reading) int { return a.At.Compare(b.At) })
	return out
}

// judge evaluates readings of one metric, in order, and turns the changes into
// alarms.
func (e *Engine) judge(s *shard, id string, w *watch, rs []value.Reading, m *model.Model, get rule.Lookup) {
	if len(rs) == 0 {
		return
	}
	limit := w.rule.Limit(m, get)
	on, off := w.rule.Delays()
	t := lifecycle.Delays{On: on, Off: off}
	first := w.det.Seen.IsZero()
	type change struct {
		lifecycle.Change
		value value.Value
	}
	var changes []change
	for _, r := range rs {
		raise, clear := w.rule.Judge(r.Value, limit)
		for _, c := range w.det.Judge(r.At, raise, clear, 3*m.Interval, t) {
			v := r.Value
			if c.At.Before(r.At) && w.last.Known() {
				v = w.last // the delay ended before this reading came
			}
			changes = append(changes, change{c, v})
		}
		w.last = r.Value
	}
	w.dirty = true
	old := e.now().Add(-Lateness)
	for i := 0; i < len(changes); i++ {
		c := changes[i]
		if c.Up && w.alarm == nil && c.At.Before(old) && i+1 < len(changes) {
			// Over before anybody could have known: the journal keeps both times.
			a := e.newAlarm(w, id, c.At, c.value, limit, m, get)
			s.unsaved.entries = append(s.unsaved.entries,
				journal.New(c.At, journal.AlarmRaised, id, "", a.Message+", reported late"),
				journal.New(changes[i+1].At, journal.AlarmReturned, id, "", w.rule.Name+" had returned by itself when it was reported"))
			i++
			continue
		}
		e.apply(s, id, w, c.Change, c.value, limit, m, get)
	}
	if len(changes) > 0 || first {
		s.unsaved.detections = append(s.unsaved.detections, Detection{w.rule.Name, id, w.det})
		w.dirty = false
	}
}

func (e *Engine) newAlarm(w *watch, id string, at time.Time, v, limit value.Value, m *model.Model, get rule.Lookup) *Alarm {
	r := w.rule
	return &Alarm{
		ID: journal.NewID(at), Rule: r.Name, Device: id, Priority: r.Priority, State: lifecycle.Normal.Raise(),
		Message: r.Say(m, rule.With(get, r.Metric(), v)), Cause: r.Cause, Response: r.Response,
		Metric: r.Metric(), Value: v, Limit: limit, Times: 1, RaisedAt: at,
	}
}

// apply makes one raise or return of a watch part of the record.
func (e *Engine) apply(s *shard, id string, w *watch, c lifecycle.Change, v, limit value.Value, m *model.Model, get rule.Lookup) {
	switch {
	case c.Up && w.alarm == nil:
		w.alarm = e.newAlarm(w, id, c.At, v, limit, m, get)
		e.record(s, *w.alarm, journal.New(c.At, journal.AlarmRaised, id, "", w.alarm.Message))
	case c.Up:
		w.alarm.State = w.alarm.State.Raise()
		w.alarm.Times++
		w.alarm.ReturnedAt = time.Time{}
		w.alarm.Value, w.alarm.Limit = v, limit
		w.alarm.Message = w.rule.Say(m, rule.With(get, w.rule.Metric(), v))
		e.record(s, *w.alarm, journal.New(c.At, journal.AlarmRaised, id, "", w.alarm.Message+", again"))
	case w.alarm != nil:
		w.alarm.State, w.alarm.ReturnedAt = w.alarm.State.Return(), c.At
		text := w.rule.Name + " returned"
		if p, ok := m.Property(w.rule.Metric()); ok {
			text += " with " + p.Name + " at " + p.Say(v)
		}
		e.record(s, *w.alarm, journal.New(c.At, journal.AlarmReturned, id, "", text))
		if !w.alarm.State.Open() {
			w.alarm = nil
		}
	}
}

func (e *Engine) record(s *shard, a Alarm, entry journal.Entry) {
	s.unsaved.alarms = append(s.unsaved.alarms, a)
	s.unsaved.entries = append(s.unsaved.entries, entry)
}

func (e *Engine) tell(a Alarm) {
	e.bus.Publish(event.Alarm{Device: a.Device, ID: a.ID, Rule: a.Rule, Message: a.Message,
		Priority: a.Priority, State: a.State, RaisedAt: a.RaisedAt})
}

// measure works out the margins of a device and tells them if they changed.
func (e *Engine) measure(id string, w *watched, m *model.Model, get rule.Lookup) {
	now := e.now()
	margins := make([]vitals.Margin, 0, len(w.watches))
	for _, x := range w.watches {
		if !x.rule.Op().Ordered() {
			continue
		}
		l, ok := e.present.Latest(id, x.rule.Metric())
		limit := x.rule.Limit(m, get)
		if !ok || !limit.Known() || l.Value.Kind != value.Number || now.Sub(l.At) > 24*time.Hour+3*m.Interval {
			continue
		}
		mg := vitals.Margin{Rule: x.rule.Name, Metric: x.rule.Metric(), Value: l.Value.Num, Limit: limit.Num, Upward: x.rule.Op().Upward()}
		if p, ok := m.Property(x.rule.Metric()); ok && p.Usual != nil {
			mg.Known = true
			mg.Headspace, mg.Reason = vitals.Headspace(mg.Value, mg.Limit, p.Usual.Middle(), mg.Upward)
		}
		margins = append(margins, mg)
	}
	if !slices.Equal(margins, w.margins) {
		w.margins = margins
		e.bus.Publish(event.Margins{Device: id, Margins: slices.Clone(margins)})
	}
}

func (e *Engine) tick(s *shard, now time.Time) {
	for id, w := range s.devices {
		for _, x := range w.watches {
			on, off := x.rule.Delays()
			t := lifecycle.Delays{On: on, Off: off}
			if at, due := x.det.Due(t); !due || at.After(now) {
				continue
			}
			get, m, ok := e.present.Lookup(id)
			if !ok {
				continue
			}
			if c, ok := x.det.Advance(now, t); ok {
				e.apply(s, id, x, c, x.lastOr(e, id), x.rule.Limit(m, get), m, get)
				s.unsaved.detections = append(s.unsaved.detections, Detection{x.rule.Name, id, x.det})
			}
		}
		e.calm(s, id, w, now)
	}
	if now.Sub(s.saved) >= 10*time.Second {
		e.flush(s)
	}
}

func (w *watch) lastOr(e *Engine, id string) value.Value {
	if w.last.Known() {
		return w.last
	}
	l, _ := e.present.Latest(id, w.rule.Metric())
	return l.Value
}

// flush stores the detections that moved without a change.
func (e *Engine) flush(s *shard) {
	for id, w := range s.devices {
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
	device := stored[0].Device
	s := &e.shards[event.ShardOf(device)]
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
	entry := journal.New(e.now(), journal.AlarmAcknowledged, device, by, by+" acknowledged "+a.Rule+": "+a.Message)
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
		return nil, nil
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
