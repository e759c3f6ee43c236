// Package alarms holds the rules in force and evaluates them over committed
// readings. Raises, returns and acknowledgements are stored together with the
// state of the delays, so that a restart goes on where it stopped.
package alarms

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"ullage/core/check"
	"ullage/core/health"
	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
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
	CameUpAt       time.Time // again, before anybody acknowledged; zero for not again
	RespondBy      time.Time // by when somebody is to have acknowledged; zero where the rule says nothing
	Latches        bool      // it stays until it is reset
	Comments       int

	// Aside says whether it stands aside, and what follows why.
	Aside        lifecycle.Aside
	ShelvedUntil time.Time
	ShelvedBy    string
	ShelvedWhy   string
	SuppressedBy string // ByDesign, or the rule and the group that suppress it
	Maintenance  string // its name

	changedAt time.Time
}

// Subject returns what the alarm is about: a device, or a group. Ids of devices
// have no = in them.
func (a Alarm) Subject() string { return a.Device + a.Group }

// Detections are the stored states of all rules on one subject: a device, or the group of a rule.
// Most of a device's rules have seen the same and wait for nothing, so that equal states are kept
// once, with the rules that are in them: a hundred rules on ten thousand devices are ten thousand
// records, not a million.
type Detections struct {
	Subject string // the id of a device, or a rule and its group, as "cellar_silent site=Kilnside"
	States  []RulesIn
}

// RulesIn are the rules of a subject that are in one state.
type RulesIn struct {
	State lifecycle.Detector `json:"state"`
	Rules []string           `json:"rules"`
}

// Filter narrows a list of alarms.
type Filter struct {
	ID     string
	Device string
	Rule   string
	Among  []string // only of these devices, unless it is nil
	// Groups are, beside Among, rules with groups whose alarms pass too, as
	// "cellar_silent site=Kilnside".
	Groups []string
	Open   bool
	// States narrows to some of the states in which people see them, unless it is empty.
	States []lifecycle.State
	// Priorities narrows to some priorities, unless it is empty.
	Priorities []rule.Priority
	// Suppressor narrows to the alarms that a rule and group suppress.
	Suppressor string
	Before     string // only alarms with a lesser id
	Limit      int
}

// Records reads what is stored. What changes is put into commits as rule.Rule,
// Alarm and Detections.
type Records interface {
	Rules(context.Context) ([]rule.Rule, error)
	// SetAside notes that a stored record cannot be used, and why.
	SetAside(noun, name string, why error)
	Alarms(context.Context, Filter) ([]Alarm, error)
	Detections(context.Context) ([]Detections, error)
	Shelves(context.Context) ([]Shelf, error)
	// RuleVersions returns those of a rule, the newest first, and RuleVersionIDs the ids of
	// all by rule, in order.
	RuleVersions(ctx context.Context, name string) ([]RuleVersion, error)
	RuleVersionIDs(context.Context) (map[string][]string, error)
	// AlarmCounts counts alarms by rule: those that are open, and those raised
	// since a time.
	AlarmCounts(ctx context.Context, since time.Time, f Filter) ([]Count, error)
	// SettingsAsOf returns the settings that rules saw at a time, by name.
	SettingsAsOf(ctx context.Context, device string, at time.Time) (map[string]value.Value, error)
	// SettingsChangedSince returns the devices whose settings have changed since.
	SettingsChangedSince(ctx context.Context, at time.Time) (map[string]bool, error)
}

// History gives the readings of a series between two times, in order, and sums
// of them.
type History interface {
	Readings(ctx context.Context, device, metric string, from, to time.Time, yield func(series.Point) error) error
	// Cells sums numbers up; width is that of the narrowest cell, in ms.
	Cells(ctx context.Context, device, metric string, from, to time.Time, grid series.Grid,
		width int64) ([]series.Rollup, error)
}

// Arrival tells when a reading came, by its time, both in ms since 1970.
type Arrival struct{ At, Arrived int64 }

// Lateness is how old a batch may be for its raised-and-returned conditions to
// be alarms still; beyond it they go to the journal only.
const Lateness = 5 * time.Minute

// Options are what an Engine is made of.
type Options struct {
	Records Records
	History History
	// Arrivals returns when the newest of the readings had come that were not yet
	// sealed when the store was opened, by device. It answers once.
	Arrivals func() map[string][]Arrival
	// Outages tells of maintenance; nil for none.
	Outages Outages
	// Responses does what rules do by themselves; nil for nobody.
	Responses Responses
	// Matching returns the ids of the devices for which a selector is true, and whether it
	// can be asked already. MayEngineer says whether somebody is engineer for a device.
	Matching    func(where string) (ids map[string]bool, ready bool, err error)
	MayEngineer func(person, device string) bool
	// Layers are what layers of settings have to do with rules; nil for none.
	Layers  func() []check.Layer
	Commits *commit.Writer
	Devices *devices.Registry
	Models  *models.Catalogue
	Present *present.Fleet
	Bus     *event.Bus
	Log     *slog.Logger
	Now     func() time.Time
}

// Engine evaluates the rules in force.
type Engine struct {
	records Records
	history History
	arrived func() map[string][]Arrival
	commits *commit.Writer
	devices *devices.Registry
	models  *models.Catalogue
	present *present.Fleet
	bus     *event.Bus
	now     func() time.Time
	log     *slog.Logger

	// editing is held by whoever changes rules, until that is on disk. Nobody else
	// waits for it.
	editing sync.Mutex

	versionsMu sync.Mutex
	versions   map[string][]string // ids of the versions of each rule, in order

	then then

	outages     Outages
	responses   Responses
	matching    func(where string) (map[string]bool, bool, error)
	mayEngineer func(person, device string) bool
	layers      func() []check.Layer
	// over is which rules of groups suppress what, see oversee.
	over atomic.Pointer[map[string]map[string]*groupRule]

	openMu sync.RWMutex
	open   map[string]Alarm // those of groups, by id

	rulesMu sync.RWMutex
	rules   map[string]*rule.Rule
	sets    map[string]*ruleset // by model and rules
	groups  groups

	refilled atomic.Uint64

	shards [event.Shards]shard
}

// Refilled returns how many times the windows of a device were filled from the
// history since the start.
func (e *Engine) Refilled() uint64 { return e.refilled.Load() }

// shard is the state of some devices. It is the alone of the goroutine that
// tells the news of the shard.
type shard struct {
	n        int
	devices  map[string]*watchedDevice
	linked   map[string]*watchedDevice // those of devices that have a rule about their link
	calming  map[string]*watchedDevice // those with a built-in alarm
	groups   grouped                   // of the first shard only
	service  map[string]*Alarm         // likewise: those of the service itself, by rule
	held     map[*watch]*watchedDevice // watches that hold back what rose long ago
	open     map[string]*opened        // alarms that are open, by id
	shelves  map[shelfKey]Shelf
	tended   time.Time // when the open alarms were looked at
	wakes    wakes
	chores   []string  // devices whose trends and usual values are to be worked out
	choresAt time.Time // when they were looked for
	unsaved  batch
	measured []health.Margin       // room for the margins of one device
	observed []observed            // room for the readings of one message
	touched  map[*subject]struct{} // whose detections are to be stored with it
	saving   bool                  // a batch is on its way to disk
	// importing says that what is judged now came from a file.
	importing bool
	owed      []owed
	saved     time.Time
}

// batch is what is to be stored together.
type batch struct {
	alarms     []Alarm
	detections []Detections
	shelves    []shelving
	follows    []Follow
	facts      []fact.Fact
	waiting    []func(error) // persons who wait for it
}

func (b *batch) empty() bool {
	return len(b.alarms)+len(b.detections)+len(b.shelves)+len(b.follows)+len(b.facts)+len(b.waiting) == 0
}

// ReadRules reads the stored rules; those that are wrong in themselves are set aside.
func ReadRules(ctx context.Context, r Records) ([]rule.Rule, error) {
	stored, err := r.Rules(ctx)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(stored, func(x rule.Rule) bool {
		err := x.Check()
		if err != nil {
			r.SetAside("rule", x.Name, err)
		}
		return err != nil
	}), nil
}

// Open reads rules, open alarms and detections, fills the windows from the
// history, and evaluates the readings that were stored but not yet evaluated
// when the service stopped.
func Open(ctx context.Context, o Options) (*Engine, error) {
	e := &Engine{records: o.Records, history: o.History, arrived: o.Arrivals, commits: o.Commits, devices: o.Devices, models: o.Models,
		present: o.Present, outages: o.Outages, responses: o.Responses, matching: o.Matching, mayEngineer: o.MayEngineer, layers: o.Layers, bus: o.Bus, now: o.Now, log: o.Log, open: map[string]Alarm{}, rules: map[string]*rule.Rule{}, sets: map[string]*ruleset{}}
	stored, err := ReadRules(ctx, o.Records)
	if err != nil {
		return nil, err
	}
	for _, x := range stored {
		e.rules[x.Name] = &x
	}
	open, err := o.Records.Alarms(ctx, Filter{Open: true})
	if err != nil {
		return nil, err
	}
	detections, err := o.Records.Detections(ctx)
	if err != nil {
		return nil, err
	}
	type key struct{ rule, device string }
	if e.versions, err = o.Records.RuleVersionIDs(ctx); err != nil {
		return nil, err
	}
	shelves, err := o.Records.Shelves(ctx)
	if err != nil {
		return nil, err
	}
	byKey := map[key]*Alarm{}
	for _, a := range open {
		byKey[key{a.Rule, a.Subject()}] = &a
	}
	known := map[key]lifecycle.Detector{}
	for _, x := range detections {
		_, group, ofGroup := strings.Cut(x.Subject, " ")
		for _, st := range x.States {
			for _, rule := range st.Rules {
				k := key{rule, x.Subject}
				if ofGroup {
					k.device = group
				}
				known[k] = st.State
			}
		}
	}
	for _, a := range open { // told before the service stopped; whoever shows them takes them from here
		if a.Group != "" {
			e.open[a.ID] = a
		} else {
			o.Present.Restore(a.Device, a.present())
		}
	}
	for i := range e.shards {
		e.shards[i] = shard{n: i, devices: map[string]*watchedDevice{}, linked: map[string]*watchedDevice{},
			calming: map[string]*watchedDevice{}}
	}
	for _, sh := range shelves {
		s := &e.shards[0]
		if !strings.Contains(sh.Subject, "=") {
			s = &e.shards[event.ShardOf(sh.Subject)]
		}
		if s.shelves == nil {
			s.shelves = map[shelfKey]Shelf{}
		}
		s.shelves[shelfKey{sh.Rule, sh.Subject}] = sh
	}
	e.restoreService(open)
	if err := e.wasThen(ctx); err != nil {
		return nil, err
	}
	// Devices of different shards know nothing of each other.
	var of [event.Shards][]devices.Device
	for _, dev := range o.Devices.List() {
		i := event.ShardOf(dev.ID)
		of[i] = append(of[i], dev)
	}
	var each errgroup.Group
	for i := range e.shards {
		each.Go(func() error {
			s := &e.shards[i]
			for _, dev := range of[i] {
				w := &watchedDevice{subject: subject{id: dev.ID}, builtin: byKey[key{RepeatedRefusals, dev.ID}]}
				if w.builtin != nil {
					w.refusals = []time.Time{e.now()}
					s.calming[dev.ID] = w
					s.track(w.builtin, &w.subject, nil, func() { w.builtin = nil })
				}
				s.devices[dev.ID] = w
				e.choose(s, w, dev)
				for _, c := range w.rules() {
					k := key{c.Name, dev.ID}
					x := &watch{Watch: rule.Watch{Rule: c, Det: known[k]}, alarm: byKey[k]}
					w.watches = append(w.watches, x)
					if x.alarm != nil {
						s.track(x.alarm, &w.subject, x, x.release)
					}
				}
				if err := e.refill(s, &w.subject, true); err != nil {
					return err
				}
				e.settle(s, w)
			}
			return nil
		})
	}
	if err := each.Wait(); err != nil {
		return nil, err
	}
	e.then = then{}
	e.groups.restore = func(rule, group string) (lifecycle.Detector, *Alarm) {
		return known[key{rule, group}], byKey[key{rule, group}]
	}
	e.regroup(&e.shards[0])
	for i := range e.shards {
		if err := e.saveNow(&e.shards[i]); err != nil {
			return nil, err
		}
	}
	return e, nil
}

func (a *Alarm) present() present.Alarm {
	return present.Alarm{ID: a.ID, Rule: a.Rule, Message: a.Message, Priority: a.Priority, State: a.Shown(), Holds: a.State.Holds(),
		RaisedAt: a.RaisedAt, By: a.AcknowledgedBy, Metric: a.Metric}
}

// touch has the detections of a subject stored with what is unsaved.
func (s *shard) touch(w *subject) {
	if s.touched == nil {
		s.touched = map[*subject]struct{}{}
	}
	s.touched[w] = struct{}{}
}

func (s *shard) nothing() bool { return s.unsaved.empty() && len(s.touched) == 0 }

// take returns what is unsaved, with the detections as they are now, and begins anew.
func (s *shard) take() batch {
	b := s.unsaved
	for w := range s.touched {
		b.detections = append(b.detections, w.detections())
	}
	s.unsaved, s.touched = batch{}, nil
	return b
}

// save sends what is unsaved on its way to disk, if nothing is on its way yet.
// What the store does not take is kept and tried again with the next tick; a
// crash before that evaluates the readings again.
func (e *Engine) save(s *shard) {
	if s.saving || s.nothing() {
		return
	}
	b := s.take()
	s.saving = true
	e.commits.Go(e.storing(&b), func(err error) { e.bus.Tell(s.n, saved{b, err}) })
}

// saveNow stores what is unsaved and waits for it, while the bus does not run.
func (e *Engine) saveNow(s *shard) error {
	if s.nothing() {
		return nil
	}
	b := s.take()
	err := e.commits.Do(context.Background(), e.storing(&b))
	if err != nil {
		e.log.Error("alarms were not stored", "error", err)
	}
	return err
}

// storing is the use case that stores a batch and tells its alarms.
func (e *Engine) storing(b *batch) func(*commit.Tx) error {
	return func(tx *commit.Tx) error {
		for _, a := range b.alarms {
			tx.Put(a)
			state := ""
			at := a.RaisedAt
			if a.State.Open() {
				state = string(a.Shown()) + " " + a.ID
			}
			if !a.changedAt.IsZero() {
				at = a.changedAt
			}
			tx.Hold(commit.Validity{Kind: commit.Alarm, Subject: a.Subject(), Key: a.Rule, From: at, Value: state})
			tx.After(func() { e.tell(a) })
		}
		for _, d := range b.detections {
			tx.Put(d)
		}
		for _, sh := range b.shelves {
			if sh.over {
				tx.Put(commit.Delete{Record: sh.Shelf})
			} else {
				tx.Put(sh.Shelf)
			}
		}
		tx.Tell(b.facts...)
		for _, f := range b.follows {
			if err := e.responses.Follow(tx, f); err != nil {
				return err
			}
		}
		return nil
	}
}

// saved tells a shard what became of a batch.
type saved struct {
	batch
	err error
}

// About implements event.Event.
func (saved) About() string { return "" }

func (e *Engine) settled(s *shard, x saved) {
	s.saving = false
	if x.err != nil {
		e.log.Error("alarms were not stored and will be tried again", "error", x.err)
		// What has changed since comes after it; of an alarm the last state stands.
		x.alarms = append(x.alarms, s.unsaved.alarms...)
		x.detections = append(x.detections, s.unsaved.detections...)
		x.shelves = append(x.shelves, s.unsaved.shelves...)
		x.follows = append(x.follows, s.unsaved.follows...)
		x.facts = append(x.facts, s.unsaved.facts...)
		waiting := x.waiting
		x.waiting = s.unsaved.waiting
		s.unsaved = x.batch
		for _, f := range waiting {
			f(x.err)
		}
		return
	}
	for _, f := range x.waiting {
		f(nil)
	}
	e.save(s)
}

// record notes a changed alarm and what is told of it.
func (e *Engine) record(s *shard, a Alarm, at time.Time, c fact.Content) {
	a.changedAt = at
	if !a.State.Open() {
		delete(s.open, a.ID)
	}
	s.unsaved.alarms = append(s.unsaved.alarms, a)
	s.unsaved.facts = append(s.unsaved.facts, about(a, fact.New(at, c)))
}

// about says which alarm a fact is about.
func about(a Alarm, f fact.Fact) fact.Fact {
	f.Device, f.Group, f.Alarm, f.Rule = a.Device, a.Group, a.ID, a.Rule
	return f
}

// tell tells of an alarm that is on disk.
func (e *Engine) tell(a Alarm) {
	if a.Group != "" {
		e.openMu.Lock()
		if delete(e.open, a.ID); a.State.Open() {
			e.open[a.ID] = a
		}
		e.openMu.Unlock()
	}
	e.bus.Publish(event.Alarm{Device: a.Device, Group: a.Group, ID: a.ID, Rule: a.Rule, Message: a.Message,
		Priority: a.Priority, State: a.Shown(), Holds: a.State.Holds(), RaisedAt: a.RaisedAt, By: a.AcknowledgedBy, Metric: a.Metric})
}

// saveEvery is how often what rules have seen is stored. What came since is
// judged again after a crash; a stop stores everything.
const saveEvery = 30 * time.Second

// flush stores the detections that moved without a change.
func (e *Engine) flush(s *shard) {
	for w := range s.subjects() {
		if slices.ContainsFunc(w.watches, func(x *watch) bool { return x.dirty }) {
			s.touch(w)
		}
	}
	s.saved = e.now()
}

// Flush stores everything; it is for a graceful stop, after the bus.
func (e *Engine) Flush() {
	for i := range e.shards {
		e.flush(&e.shards[i])
		_ = e.saveNow(&e.shards[i])
	}
}

// Unknown is the error about an alarm that does not exist.
func Unknown(id string) error {
	return fault.New(fault.NotFound, "there is no alarm %q", id).On("alarm")
}

// Count is how many alarms a rule has raised.
type Count struct {
	Rule         string
	Open, Raised int
}

// Counts counts the alarms of each rule that are open, and that were raised since
// a time. Of the filter, Among and Groups count.
func (e *Engine) Counts(ctx context.Context, since time.Time, f Filter) ([]Count, error) {
	return e.records.AlarmCounts(ctx, since, f)
}

// List returns stored alarms, the newest first.
func (e *Engine) List(ctx context.Context, f Filter) ([]Alarm, error) {
	return e.records.Alarms(ctx, f)
}
