// Package present is the one read model of every device now: its latest
// values, link, headspace, open alarms and health. The other use cases feed it
// by events; everything in it can be rebuilt from the store.
package present

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ullage/core/expr"
	"ullage/core/health"
	"ullage/core/lifecycle"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/models"
	"ullage/fleet/settings"
)

// Latest is the newest reading of one metric.
type Latest struct {
	At      time.Time
	Value   value.Value
	Quality value.Quality
}

// Alarm is one open alarm of a device.
type Alarm struct {
	ID       string
	Rule     string
	Message  string
	Priority rule.Priority
	State    lifecycle.State // as people see it
	Holds    bool            // its condition, whatever people do about it
	RaisedAt time.Time
	By       string // who has acknowledged it
	Metric   string // that it is about
}

// Device is everything known about one device now. A Device that was handed
// out does not change any more.
type Device struct {
	devices.Device
	ModelVersion string
	ModelTitle   string
	Interval     time.Duration
	Link         health.Link
	LastAt       time.Time // of the newest reading
	Health       health.Health
	Reasons      []string
	// Components are how the components that its model has are, each alone.
	Components []health.Component
	Latest     map[string]Latest
	Margins    []health.Margin
	Least      *health.Margin
	Alarms     []Alarm
	Revision   int64
	Applied    int64
	Drifting   []string
	DriftSince time.Time
	Refusals   int
	Seq        uint64 // grows with every change of any device
}

// Telemetry gives the newest reading of every metric of every device.
type Telemetry interface {
	Latest(ctx context.Context, yield func(device string, r value.Reading)) error
}

// Records knows what was told of links.
type Records interface {
	// Links returns what the link of each device was told to be last.
	Links(context.Context) (map[string]health.Link, error)
}

// Options are what a Fleet is made of.
type Options struct {
	Devices   *devices.Registry
	Models    *models.Catalogue
	Settings  *settings.Settings
	Telemetry Telemetry
	Records   Records
	Bus       *event.Bus
	// Zone gives the time zone of a site; UTC for all if it is nil.
	Zone func(site string) *time.Location
	Log  *slog.Logger
	Now  func() time.Time
}

// Fleet holds every device now. It only projects: it writes nothing.
type Fleet struct {
	devices  *devices.Registry
	models   *models.Catalogue
	settings *settings.Settings
	bus      *event.Bus
	now      func() time.Time
	log      *slog.Logger

	zone   func(site string) *time.Location
	base   uint64 // less than any seq of this run
	seq    atomic.Uint64
	shards [event.Shards]shard
	news   news

	visited atomic.Uint64 // devices that lists and conditions have looked at
}

type shard struct {
	mu      sync.RWMutex
	devices map[string]*entry
	byID    []*entry // the same, in order
	// due says of each device, by its slot, when time alone can change what it is, in
	// nanoseconds since 1970: a tick reads one list in order instead of every device.
	due    []int64
	slots  []*entry
	ticked int64 // the last tick
}

// touch notes that a device is not what it was: it has a new seq, and the next tick looks at it.
func (b *Fleet) touch(s *shard, e *entry) {
	e.dirty, e.Seq = true, b.seq.Add(1)
	s.due[e.slot] = 0
}

type entry struct {
	Device
	model    *model.Model
	slot     int // in the lists of its shard
	refusals []time.Time
	linkNext time.Time
	// ends is when its last credential ends; shared are two addresses from which one is
	// used at once, and sharedUntil how long that is shown.
	ends, sharedUntil time.Time
	shared            string
	heardAt           time.Time // arrival of the last message of readings
	missed            bool      // it was told that it fell silent
	known             bool      // it was heard before
	dirty             bool
	shown             *Device // what was handed out last; its Latest is the entry's own while lent
	lent              bool    // Latest was handed out and is not written to any more
}

// take notes a reading if it is not older than what is known. What was handed
// out does not change: the first reading after it goes into a copy.
func (e *entry) take(metric string, l Latest) {
	if old, ok := e.Latest[metric]; ok && l.At.Before(old.At) {
		return
	}
	if e.lent {
		e.Latest, e.lent = maps.Clone(e.Latest), false
	}
	e.Latest[metric] = l
}

// rename shows the newest reading of a metric that the model renames under the
// name that it has now.
func (e *entry) rename() {
	for i := range e.model.Properties {
		p := &e.model.Properties[i]
		for _, was := range p.Was {
			l, ok := e.Latest[was]
			if !ok {
				continue
			}
			if e.lent {
				e.Latest, e.lent = maps.Clone(e.Latest), false
			}
			delete(e.Latest, was)
			e.take(p.Name, l)
		}
	}
}

// Open fills what is present from the registries and the store.
func Open(ctx context.Context, o Options) (*Fleet, error) {
	b := &Fleet{devices: o.Devices, models: o.Models, settings: o.Settings, bus: o.Bus, now: o.Now, log: o.Log,
		zone: o.Zone}
	if b.zone == nil {
		b.zone = func(string) *time.Location { return time.UTC }
	}
	b.news.init()
	// Cursors of one run of the service are greater than those of the runs before.
	b.base = uint64(o.Now().UnixMilli()) << 20
	b.seq.Store(b.base)
	for i := range b.shards {
		b.shards[i].devices = map[string]*entry{}
	}
	for _, dev := range o.Devices.List() { // in order of id, so that nothing is inserted
		b.refresh(dev.ID)
	}
	told, err := o.Records.Links(ctx)
	if err != nil {
		return nil, err
	}
	err = o.Telemetry.Latest(ctx, func(device string, r value.Reading) {
		if e := b.shards[event.ShardOf(device)].devices[device]; e != nil {
			e.take(r.Metric, Latest{r.At, r.Value, r.Quality})
			if r.At.After(e.LastAt) {
				e.LastAt = r.At
			}
		}
	})
	for i := range b.shards {
		for _, e := range b.shards[i].devices {
			e.Link, e.linkNext = health.LinkOf(e.LastAt, o.Now(), e.Interval)
			e.missed = told[e.ID] == health.Silent
			e.known = e.Link != health.Never
			e.heardAt = o.Now() // as long as the service was away nobody could be heard
			b.judge(e)
		}
	}
	return b, err
}

// Restore puts an alarm that is open since before the start on a device.
func (b *Fleet) Restore(device string, a Alarm) {
	s := &b.shards[event.ShardOf(device)]
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.devices[device]; e != nil {
		b.alarm(e, event.Alarm{Device: device, ID: a.ID, Rule: a.Rule, Message: a.Message, Priority: a.Priority,
			State: a.State, Holds: a.Holds, RaisedAt: a.RaisedAt, By: a.By, Metric: a.Metric})
		b.touch(s, e)
	}
}

// Zone returns the time zone of a device: that of its site.
func (b *Fleet) Zone(id string) *time.Location {
	d, _ := b.devices.Get(id)
	return b.zone(d.Labels["site"])
}

// ZoneOf returns the time zone of a site.
func (b *Fleet) ZoneOf(site string) *time.Location { return b.zone(site) }

// Handle keeps what is present up to date; it is the first handler of the bus.
func (b *Fleet) Handle(i int, ev event.Event) {
	s := &b.shards[i]
	before := b.seq.Load()
	defer func() {
		if b.seq.Load() != before {
			b.news.tell()
		}
	}()
	s.mu.Lock()
	defer s.mu.Unlock()
	var e *entry
	if id := ev.About(); id != "" {
		if e = s.devices[id]; e == nil {
			if e = b.refresh(id); e == nil {
				return
			}
		}
		b.touch(s, e)
	}
	switch ev := ev.(type) {
	case event.Readings:
		for _, r := range ev.Readings {
			e.take(r.Metric, Latest{r.At, r.Value, r.Quality})
			if r.At.After(e.LastAt) {
				e.LastAt = r.At
			}
		}
		e.heardAt = ev.Arrived
		b.link(e, ev.Arrived, false)
	case event.Backfilled:
		for _, r := range ev.Latest {
			e.take(r.Metric, Latest{r.At, r.Value, r.Quality})
		}
	case event.Deleted:
		b.drop(e, ev)
	case event.Device, event.Attributes, event.Settings:
		b.refresh(e.ID)
	case event.Margins:
		e.Margins = ev.Margins
		e.Least = nil
		for k := range e.Margins {
			if m := &e.Margins[k]; m.Known && (e.Least == nil || m.Headspace < e.Least.Headspace) {
				e.Least = m
			}
		}
	case event.Alarm:
		if e != nil { // groups have no place on what is present
			b.alarm(e, ev)
		}
	case event.Refused:
		e.refusals = append(e.refusals, ev.At)
		if len(e.refusals) > 100 {
			e.refusals = slices.Delete(e.refusals, 0, len(e.refusals)-100)
		}
	case event.Models:
		for id, e := range s.devices {
			if e.Model == ev.Name {
				b.refresh(id)
			}
		}
	case event.Tick:
		now := ev.Now.UnixNano()
		if now < s.ticked { // the clock was put back: nothing that was reckoned with it holds
			clear(s.due)
		}
		s.ticked = now
		for slot, due := range s.due {
			if due <= now {
				s.due[slot] = b.tick(s.slots[slot], ev.Now).UnixNano()
			}
		}
	}
}

// drop lets go of readings that were deleted. Where all of them are gone it is as
// after a start: the device was never heard.
func (b *Fleet) drop(e *entry, ev event.Deleted) {
	e.Latest, e.lent = maps.Clone(e.Latest), false
	for _, m := range ev.Metrics {
		delete(e.Latest, m)
	}
	for _, r := range ev.Latest {
		e.take(r.Metric, Latest{r.At, r.Value, r.Quality})
	}
	e.LastAt = time.Time{}
	for _, l := range e.Latest {
		if l.At.After(e.LastAt) {
			e.LastAt = l.At
		}
	}
	b.link(e, b.now(), false)
}

// tick judges a device again whose time has come, and returns when that is next.
func (b *Fleet) tick(e *entry, now time.Time) (next time.Time) {
	if !e.linkNext.IsZero() && !now.Before(e.linkNext) {
		b.link(e, now, true)
	}
	if e.Link == health.Silent && !e.missed && now.Sub(e.heardAt) >= 3*e.Interval {
		// It began with a backlog, and nothing newer has followed.
		b.fellSilent(e, now)
	}
	if n := len(e.refusals); n > 0 && now.Sub(e.refusals[0]) > time.Hour {
		e.refusals = slices.DeleteFunc(e.refusals, func(t time.Time) bool { return now.Sub(t) > time.Hour })
	}
	b.judge(e)
	next = now.Add(time.Hour)
	sooner := func(t time.Time) {
		if t.Before(next) {
			next = t
		}
	}
	if !e.linkNext.IsZero() {
		sooner(e.linkNext)
	}
	if e.Link == health.Silent { // its reasons say for how long
		sooner(now.Add(health.Stays(now.Sub(e.LastAt))))
		if !e.missed {
			sooner(e.heardAt.Add(3 * e.Interval))
		}
	}
	if len(e.refusals) > 0 {
		sooner(e.refusals[0].Add(time.Hour))
	}
	if lasts := now.Sub(e.DriftSince); !e.DriftSince.IsZero() {
		if lasts < health.DriftGrace {
			sooner(e.DriftSince.Add(health.DriftGrace))
		} else {
			sooner(now.Add(health.Stays(lasts)))
		}
	}
	if e.shared != "" {
		sooner(e.sharedUntil)
	}
	return next
}

// link judges the link again and tells when a device is heard for the first
// time, falls silent, or comes back. Only the passing of time makes a device
// fall silent: one that begins with its backlog has not.
func (b *Fleet) link(e *entry, now time.Time, byTime bool) {
	old := e.Link
	e.Link, e.linkNext = health.LinkOf(e.LastAt, now, e.Interval)
	if e.Link == old {
		return
	}
	e.dirty, e.Seq = true, b.seq.Add(1)
	switch {
	case old == health.Never:
		b.tell(e, now, true)
	case e.Link == health.Silent && byTime && now.Sub(e.heardAt) >= 3*e.Interval && !e.missed:
		b.fellSilent(e, now)
	case e.Link == health.Online && e.missed:
		e.missed = false
		b.tell(e, now, true)
	default:
		b.tell(e, now, false)
	}
}

func (b *Fleet) fellSilent(e *entry, now time.Time) {
	e.missed = true
	b.tell(e, now, true)
}

func (b *Fleet) tell(e *entry, now time.Time, told bool) {
	first := told && !e.known
	e.known = true
	b.bus.Publish(event.Link{Device: e.ID, Link: e.Link, Last: e.LastAt, At: now, First: first, Told: told})
}

func (b *Fleet) alarm(e *entry, ev event.Alarm) {
	e.Alarms = slices.DeleteFunc(slices.Clone(e.Alarms), func(a Alarm) bool { return a.ID == ev.ID })
	if ev.State.Open() {
		e.Alarms = append(e.Alarms, Alarm{ev.ID, ev.Rule, ev.Message, ev.Priority, ev.State, ev.Holds, ev.RaisedAt, ev.By, ev.Metric})
		slices.SortFunc(e.Alarms, func(x, y Alarm) int {
			if d := x.Priority.Rank() - y.Priority.Rank(); d != 0 {
				return d
			}
			return strings.Compare(x.ID, y.ID)
		})
	}
}

// refresh takes over what the registries say about a device; the shard is
// locked or not yet shared.
func (b *Fleet) refresh(id string) *entry {
	s := &b.shards[event.ShardOf(id)]
	d, err := b.devices.Get(id)
	if err != nil {
		return nil
	}
	e := s.devices[id]
	if e == nil {
		e = &entry{Device: Device{Device: d, Latest: map[string]Latest{}, Link: health.Never}}
		s.devices[id] = e
		e.slot = len(s.slots)
		s.slots, s.due = append(s.slots, e), append(s.due, 0)
		i, _ := slices.BinarySearchFunc(s.byID, id, func(x *entry, id string) int { return strings.Compare(x.ID, id) })
		s.byID = slices.Insert(s.byID, i, e)
	}
	e.Device.Device = d
	now := b.now()
	if e.ends = b.devices.Ends(id, now); e.shared != "" {
		e.shared = ""
	}
	if one, other, ok := b.devices.Shared(id, now); ok {
		e.shared, e.sharedUntil = one+" and "+other, now.Add(time.Hour)
	}
	b.touch(s, e)
	if e.model, err = b.models.Of(d.Model, d.Version); err == nil {
		e.ModelVersion, e.ModelTitle, e.Interval = e.model.Version, e.model.Title, e.model.Interval
		e.rename()
	}
	if st, _, err := b.settings.Of(id); err == nil {
		e.Revision, e.Applied, e.DriftSince = st.Revision, st.AppliedRevision, st.DriftSince
		e.Drifting = nil
		for _, d := range st.Drift() {
			e.Drifting = append(e.Drifting, d.Name)
		}
	} else {
		b.log.Error("settings are not readable", "device", id, "error", err)
	}
	return e
}

func (b *Fleet) judge(e *entry) {
	now := b.now()
	e.dirty = false
	if n := len(e.refusals); n != e.Refusals {
		e.Refusals, e.Seq = n, b.seq.Add(1)
	}
	signs := health.Signs{
		Link: e.Link, LastAt: e.LastAt, Interval: e.Interval, Least: e.Least,
		DriftSince: e.DriftSince, Drifting: e.Drifting, Refusals: e.Refusals, Ends: e.ends,
	}
	var newest Latest
	for _, l := range e.Latest {
		if l.At.After(newest.At) {
			newest = l
		}
	}
	signs.Clock = newest.Quality
	if e.shared != "" && now.Before(e.sharedUntil) {
		signs.Shared = e.shared
	}
	if e.Status == devices.Suspended || e.Status == devices.Retired {
		signs.Out = string(e.Status)
	}
	signs.Alarms = standingOut(e.Alarms, nil)
	judged, reasons := health.Judge(signs, now)
	if judged != e.Health || !slices.Equal(reasons, e.Reasons) {
		e.Health, e.Reasons = judged, reasons
		e.Seq = b.seq.Add(1)
	}
	components := e.judgeComponents(signs.Out, now)
	if !slices.EqualFunc(components, e.Components, func(a, b health.Component) bool {
		return a.Name == b.Name && a.Health == b.Health && slices.Equal(a.Reasons, b.Reasons)
	}) {
		e.Components = components
		e.Seq = b.seq.Add(1)
	}
}

// standingOut are the open alarms that people look at: all, or those on the metrics of a component.
func standingOut(open []Alarm, of func(metric string) bool) []health.Alarm {
	var out []health.Alarm
	for _, a := range open {
		switch a.State {
		case lifecycle.Shelved, lifecycle.Suppressed, lifecycle.OutOfService:
			continue
		}
		if of == nil || of(a.Metric) {
			out = append(out, health.Alarm{Rule: a.Rule, Priority: a.Priority, Holds: a.Holds})
		}
	}
	return out
}

// judgeComponents judges each component of a device by what concerns it alone.
func (e *entry) judgeComponents(out string, now time.Time) []health.Component {
	if e.model == nil {
		return nil
	}
	names := e.model.Components()
	if len(names) == 0 {
		return nil
	}
	judged := make([]health.Component, len(names))
	for i, name := range names {
		of := func(property string) bool {
			p, ok := e.model.Property(property)
			return ok && p.Component == name
		}
		signs := health.Signs{Interval: e.Interval, Out: out, Alarms: standingOut(e.Alarms, of), DriftSince: e.DriftSince}
		var newest Latest
		for metric, l := range e.Latest {
			if l.At.After(newest.At) && of(metric) {
				newest = l
			}
		}
		signs.LastAt, signs.Clock = newest.At, newest.Quality
		for _, m := range e.Margins {
			if m.Known && of(m.Metric) && (signs.Least == nil || m.Headspace < signs.Least.Headspace) {
				signs.Least = &m
			}
		}
		for _, d := range e.Drifting {
			if of(d) {
				signs.Drifting = append(signs.Drifting, d)
			}
		}
		judged[i] = health.JudgeComponent(name, signs, now)
	}
	return judged
}

// Get returns a device now.
func (b *Fleet) Get(id string) (*Device, bool) {
	s := &b.shards[event.ShardOf(id)]
	s.mu.Lock()
	defer s.mu.Unlock()
	e := s.devices[id]
	if e == nil {
		return nil, false
	}
	return b.show(e), true
}

// Some returns the devices of some ids, in the order of the ids. Those that do not
// exist are left out.
func (b *Fleet) Some(ids []string) []*Device {
	out := make([]*Device, 0, len(ids))
	for _, id := range ids {
		if d, ok := b.Get(id); ok {
			out = append(out, d)
		}
	}
	b.visited.Add(uint64(len(ids)))
	return out
}

// Visited returns how many devices lists and conditions have looked at since the
// start.
func (b *Fleet) Visited() uint64 { return b.visited.Load() }

// Since returns the devices that have changed after seq, by id, and the seq to
// ask with next time. Zero asks for all.
func (b *Fleet) Since(seq uint64) ([]*Device, uint64) {
	next := b.seq.Load()
	runs := make([][]*Device, len(b.shards))
	for i := range b.shards {
		s := &b.shards[i]
		s.mu.Lock()
		if seq == 0 {
			runs[i] = make([]*Device, 0, len(s.byID))
		}
		b.visited.Add(uint64(len(s.byID)))
		for _, e := range s.byID {
			if e.Seq > seq || seq == 0 {
				runs[i] = append(runs[i], b.show(e))
			}
		}
		s.mu.Unlock()
	}
	for len(runs) > 1 { // each is in order; merging them is cheaper than sorting all
		half := len(runs) / 2
		for i := range half {
			runs[i] = merge(runs[i], runs[len(runs)-1-i])
		}
		runs = runs[:len(runs)-half]
	}
	return runs[0], next
}

// Seq returns the seq with which Since tells what changes from now on.
func (b *Fleet) Seq() uint64 { return b.seq.Load() }

// Remembers reports whether Since tells everything that has changed after a seq:
// it is one of this run.
func (b *Fleet) Remembers(seq uint64) bool { return seq > b.base && seq <= b.seq.Load() }

// merge puts two lists in order of id together.
func merge(x, y []*Device) []*Device {
	out := make([]*Device, 0, len(x)+len(y))
	for len(x) > 0 && len(y) > 0 {
		if x[0].ID < y[0].ID {
			out, x = append(out, x[0]), x[1:]
		} else {
			out, y = append(out, y[0]), y[1:]
		}
	}
	return append(append(out, x...), y...)
}

// Margins returns how far a device is from the limits of its rules now.
func (b *Fleet) Margins(id string) []health.Margin {
	s := &b.shards[event.ShardOf(id)]
	s.mu.RLock()
	defer s.mu.RUnlock()
	if e := s.devices[id]; e != nil {
		return e.Margins
	}
	return nil
}

// show returns the device as it is now. It is built once for each change,
// however often it is asked for, and whoever has it keeps it as it was.
func (b *Fleet) show(e *entry) *Device {
	if e.dirty {
		b.judge(e)
	}
	if e.shown == nil || e.shown.Seq != e.Seq {
		d := e.Device
		e.shown, e.lent = &d, true
	}
	return e.shown
}

// Latest returns the newest reading of one metric of a device.
func (b *Fleet) Latest(id, metric string) (Latest, bool) {
	s := &b.shards[event.ShardOf(id)]
	s.mu.RLock()
	defer s.mu.RUnlock()
	if e := s.devices[id]; e != nil {
		l, ok := e.Latest[metric]
		return l, ok
	}
	return Latest{}, false
}

// Match returns the devices, by id, for which a condition is true now. There is
// one Program for each model; devices of other models are not among them.
func (b *Fleet) Match(programs map[string]*expr.Program) map[string]bool {
	now := b.now()
	var found [event.Shards][]string
	var each sync.WaitGroup
	for i := range b.shards {
		each.Go(func() { found[i] = b.matchShard(&b.shards[i], programs, now) })
	}
	each.Wait()
	n := 0
	for _, ids := range found {
		n += len(ids)
	}
	out := make(map[string]bool, n)
	for _, ids := range found {
		for _, id := range ids {
			out[id] = true
		}
	}
	return out
}

// MatchAmong is Match over some devices alone. What carries a device is unknown where
// it is none of them.
func (b *Fleet) MatchAmong(programs map[string]*expr.Program, ids []string) map[string]bool {
	now, out := b.now(), map[string]bool{}
	states := statesOf(programs, now)
	among := make(map[string]bool, len(ids))
	for _, id := range ids {
		among[id] = true
	}
	for _, id := range ids {
		sh := &b.shards[event.ShardOf(id)]
		sh.mu.RLock()
		if e := sh.devices[id]; e != nil && e.model != nil && programs[e.Model] != nil {
			s := states[e.Model]
			s.Joined(e.JoinedAt)
			s.From(func(_ int, n *expr.Info) expr.Sample {
				if n.Name == (expr.Name{Scope: "device", Key: "hub"}) && !among[e.Hub] {
					return expr.Sample{Value: value.OfText("")}
				}
				return b.sample(e, n)
			})
			if programs[e.Model].Truth(s) == expr.True {
				out[id] = true
			}
		}
		sh.mu.RUnlock()
	}
	b.visited.Add(uint64(len(ids)))
	return out
}

func statesOf(programs map[string]*expr.Program, now time.Time) map[string]*expr.State {
	states := map[string]*expr.State{}
	for model, p := range programs {
		s := p.Plan().NewState(time.Time{})
		s.Advance(now)
		states[model] = s
	}
	return states
}

func (b *Fleet) matchShard(sh *shard, programs map[string]*expr.Program, now time.Time) []string {
	states := statesOf(programs, now)
	var e *entry
	look := func(_ int, n *expr.Info) expr.Sample { return b.sample(e, n) }
	var out []string
	sh.mu.RLock()
	defer sh.mu.RUnlock()
	b.visited.Add(uint64(len(sh.devices)))
	for _, e = range sh.devices {
		p := programs[e.Model]
		if p == nil || e.model == nil {
			continue
		}
		s := states[e.Model]
		s.Joined(e.JoinedAt)
		s.From(look)
		if p.Truth(s) == expr.True {
			out = append(out, e.ID)
		}
	}
	return out
}

// sample returns what a name stands for on a device whose shard is locked.
func (b *Fleet) sample(e *entry, n *expr.Info) expr.Sample {
	if n.Absent {
		return expr.Sample{}
	}
	switch n.Name.Scope {
	case "":
		l, ok := e.Latest[n.Name.Key]
		if !ok {
			return expr.Sample{}
		}
		return expr.Sample{Value: l.Value, At: l.At.UnixMilli()}
	case "label":
		return expr.Sample{Value: value.OfText(e.Labels[n.Name.Key])}
	case "attr":
		return expr.Sample{Value: e.Attributes[n.Name.Key]}
	case "set":
		return expr.Sample{Value: b.settings.Effective(e.ID, e.model, n.Name.Key)}
	case "intended":
		if st, m, err := b.settings.Of(e.ID); err == nil {
			return expr.Sample{Value: st.IntendedOf(m, n.Name.Key)}
		}
	case "raised":
		return expr.Sample{Value: value.OfBool(slices.ContainsFunc(e.Alarms, func(a Alarm) bool {
			return a.Rule == n.Name.Key && a.Holds
		}))}
	case "device":
		return expr.Sample{Value: b.fact(e, n.Name.Key)}
	}
	return expr.Sample{}
}

func (b *Fleet) fact(e *entry, key string) value.Value {
	switch key {
	case "id":
		return value.OfText(e.ID)
	case "name":
		return value.OfText(e.Name)
	case "hub":
		return value.OfText(e.Hub)
	case "model":
		return value.OfText(e.Model)
	case "model_version":
		return value.OfText(e.ModelVersion)
	case "settings":
		if st, _, err := b.settings.Of(e.ID); err == nil {
			return value.OfText(st.Word())
		}
	case "status":
		return value.OfText(string(e.Status))
	case "link":
		return value.OfText(string(e.Link))
	case "joined":
		return value.OfNumber(float64(e.JoinedAt.UnixMilli()) / 1000)
	case "zone":
		return value.OfText(b.zone(e.Labels["site"]).String())
	}
	return value.Value{}
}

// Lookup finds what a name stands for on one device; the zero Value where it
// is unknown.
type Lookup func(expr.Name) value.Value

// Lookup returns what names stand for on a device: telemetry, set., intended.,
// attr., label. and device.
func (b *Fleet) Lookup(id string) (Lookup, *model.Model, bool) {
	s := &b.shards[event.ShardOf(id)]
	s.mu.RLock()
	defer s.mu.RUnlock()
	e := s.devices[id]
	if e == nil || e.model == nil {
		return nil, nil, false
	}
	return func(n expr.Name) value.Value {
		s.mu.RLock()
		defer s.mu.RUnlock()
		return b.sample(e, &expr.Info{Name: n}).Value
	}, e.model, true
}

// news wakes those that follow what changes.
type news struct {
	mu      sync.Mutex
	changed chan struct{}
	waiting bool
}

func (n *news) init() { n.changed = make(chan struct{}) }

func (n *news) tell() {
	n.mu.Lock()
	if n.waiting {
		close(n.changed)
		n.changed, n.waiting = make(chan struct{}), false
	}
	n.mu.Unlock()
}

// Changed returns a channel that is closed when any device changes.
func (b *Fleet) Changed() <-chan struct{} {
	b.news.mu.Lock()
	defer b.news.mu.Unlock()
	b.news.waiting = true
	return b.news.changed
}
