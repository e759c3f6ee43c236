// Package rollouts brings a new version of a layer to its devices in waves, each followed by
// a gate that must hold before the next begins. What is decided is stored with each step, so
// that a stop of the service at any moment neither leaves a wave out nor repeats one.
package rollouts

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/health"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/record"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/core/waves"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/layers"
	"ullage/fleet/models"
	"ullage/fleet/present"
	"ullage/fleet/settings"
)

// Rollout brings a version of a layer to devices.
type Rollout struct {
	ID       string
	Layer    string
	From     *layering.Layer // nil for a layer that is new
	To       layering.Layer
	Plan     waves.Plan
	Waves    [][]string // devices of each, in the order in which they are offered it
	Soak     time.Duration
	Run      waves.Run
	By       string
	At       time.Time
	LeftOut  []string
	Befores  map[string]string // what before(x) stands for in this wave, by x
	WaveEnds []time.Time       // when each wave passed its gate
}

// Offer says that a device was offered a rollout's version. One without a device stands for
// all of a rollout.
type Offer struct {
	Rollout, Device string
	At              time.Time
}

// Records reads what is stored. What changes is put into commits as Rollout and Offer.
type Records interface {
	Rollouts(context.Context) ([]Rollout, error)
	Offers(context.Context) ([]Offer, error)
}

// Options are what Rollouts are made of.
type Options struct {
	Records  Records
	Commits  *commit.Writer
	Devices  *devices.Registry
	Models   *models.Catalogue
	Settings *settings.Settings
	Layers   *layers.Layers
	Present  *present.Fleet
	Rules    func() []string
	// Matching returns the ids of the devices for which a selector is true.
	Matching func(where string) (map[string]bool, error)
	Zone     func(device string) *time.Location
	Log      *slog.Logger
	Now      func() time.Time
}

// kept is how many rollouts that are over are kept.
const kept = 200

// Rollouts holds every rollout.
type Rollouts struct {
	o      Options
	all    *commit.Table[string, *Rollout]
	offers *commit.Table[string, map[string]time.Time] // by rollout, then by device
	latest *commit.Table[string, string]               // the latest rollout of each layer

	mu      sync.Mutex
	asked   time.Time
	stepped map[string]bool // a step of it is on its way
	gates   map[string]*gate
}

// gate is the conditions of a rollout's present wave, ready to be asked.
type gate struct {
	wave     int
	programs []*expr.Program
	sources  []string
}

// Open reads every rollout.
func Open(ctx context.Context, o Options) (*Rollouts, error) {
	stored, err := o.Records.Rollouts(ctx)
	if err != nil {
		return nil, err
	}
	offered, err := o.Records.Offers(ctx)
	if err != nil {
		return nil, err
	}
	slices.SortFunc(stored, func(a, b Rollout) int { return strings.Compare(a.ID, b.ID) })
	rows, latest, offers := map[string]*Rollout{}, map[string]string{}, map[string]map[string]time.Time{}
	for i := range stored {
		rows[stored[i].ID] = &stored[i]
		latest[stored[i].Layer] = stored[i].ID
	}
	for _, x := range offered {
		if offers[x.Rollout] == nil {
			offers[x.Rollout] = map[string]time.Time{}
		}
		offers[x.Rollout][x.Device] = x.At
	}
	r := &Rollouts{o: o, all: commit.NewTable(rows), offers: commit.NewTable(offers), latest: commit.NewTable(latest),
		stepped: map[string]bool{}, gates: map[string]*gate{}}
	o.Layers.Rolling(r.content, r.busy)
	return r, nil
}

// content tells which version of a layer a device has, where a rollout says so.
func (r *Rollouts) content(tx *commit.Tx, layer, device string) (content *layering.Layer, rolling bool) {
	latest, all, offers := r.latest.Get, r.all.Get, r.offers.Get
	if tx != nil {
		latest = func(k string) (string, bool) { return r.latest.In(tx, k) }
		all = func(k string) (*Rollout, bool) { return r.all.In(tx, k) }
		offers = func(k string) (map[string]time.Time, bool) { return r.offers.In(tx, k) }
	}
	id, ok := latest(layer)
	if !ok {
		return nil, false
	}
	x, ok := all(id)
	switch {
	case !ok || x.Run.State == waves.Undone:
		return nil, false
	case slices.Contains(x.LeftOut, device) && r.current(x):
		return x.From, true
	case x.Run.State == waves.Done:
		return nil, false
	}
	of, _ := offers(id)
	if _, has := of[device]; has {
		return &x.To, true
	}
	return x.From, true
}

// current reports whether the layer is still as a rollout has brought it.
func (r *Rollouts) current(x *Rollout) bool {
	now, err := r.o.Layers.Get(x.Layer)
	return err == nil && record.Tag(now) == record.Tag(x.To)
}

// busy refuses a change of a layer of which a rollout is under way.
func (r *Rollouts) busy(layer string) error {
	id, _ := r.latest.Get(layer)
	if x, ok := r.all.Get(id); ok && x.Run.State.Open() {
		return fault.New(fault.Conflict, "a rollout of the layer %s is %s", layer, x.Run.State).Then("let it end, or undo it, before the layer is changed again").On("rollout")
	}
	return nil
}

// List returns the rollouts, the newest first.
func (r *Rollouts) List() []*Rollout {
	var out []*Rollout
	for _, x := range r.all.All() {
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b *Rollout) int { return strings.Compare(b.ID, a.ID) })
	return out
}

// Get returns a rollout.
func (r *Rollouts) Get(id string) (*Rollout, error) {
	x, ok := r.all.Get(id)
	if !ok {
		return nil, Unknown(id)
	}
	return x, nil
}

// Unknown is the error about a rollout that does not exist.
func Unknown(id string) error {
	return fault.New(fault.NotFound, "there is no rollout %q", value.Clip(id, 60)).On("rollout")
}

// Planned is who would be in which wave.
type Planned struct {
	Preview layers.Preview
	Waves   [][]string
	Soak    time.Duration
	Offline int
	// Takes is how long it takes at least: the soaks, and the spreads.
	Takes time.Duration
}

// Plan works out a rollout of a version of a layer, and changes nothing.
func (r *Rollouts) Plan(x layering.Layer, p waves.Plan) (Planned, error) {
	if err := p.Check(); err != nil {
		return Planned{}, fault.New(fault.Invalid, "the plan is not right: %s", err).On("rollout")
	}
	if err := r.busy(x.Name); err != nil {
		return Planned{}, err
	}
	seen, err := r.o.Layers.Preview(layers.Proposal{Layer: &x}, nil)
	if err != nil {
		return Planned{}, err
	}
	out := Planned{Preview: seen}
	matching := make([]map[string]bool, len(p.Waves))
	for i, w := range p.Waves {
		if w.Where != "" {
			if matching[i], err = r.o.Matching(w.Where); err != nil {
				return out, err
			}
		}
		for _, id := range w.Devices {
			if _, err := r.o.Devices.Get(id); err != nil {
				return out, err
			}
			if matching[i] == nil {
				matching[i] = map[string]bool{}
			}
			matching[i][id] = true
		}
	}
	var all []waves.Candidate
	var slowest time.Duration
	seenModels := map[*model.Model]bool{}
	last := ""
	for _, d := range seen.Differences {
		if d.Device == last {
			continue
		}
		last = d.Device
		dev, err := r.o.Devices.Get(d.Device)
		if err != nil {
			continue
		}
		c := waves.Candidate{ID: d.Device, Group: dev.Labels[strings.TrimPrefix(p.Per, "label.")], Headspace: math.NaN()}
		if now, ok := r.o.Present.Get(d.Device); ok {
			slowest = max(slowest, now.Interval)
			if now.Least != nil && now.Least.Known {
				c.Headspace = now.Least.Headspace
			}
			if away(now) {
				out.Offline++
			}
		}
		for i := range p.Waves {
			c.Matches = append(c.Matches, matching[i][d.Device])
		}
		if m, err := r.o.Models.Of(dev.Model, dev.Version); err == nil {
			seenModels[m] = true
		}
		all = append(all, c)
	}
	out.Waves, out.Soak = p.Assign(all, x.Name), p.Soak(slowest)
	out.Waves = slices.DeleteFunc(out.Waves, func(w []string) bool { return len(w) == 0 })
	out.Takes = time.Duration(len(out.Waves)) * (out.Soak + p.Spread.Std())
	if _, err := r.compile(slices.Collect(maps.Keys(seenModels)), p.Conditions(), nil); err != nil {
		return out, fault.New(fault.Invalid, "%s", err).On("rollout")
	}
	return out, nil
}

func away(d *present.Device) bool { return d.Link == health.Silent || d.Link == health.Never }

// Start begins a rollout. With the tag of a preview it fails where something else would
// change by now.
func (r *Rollouts) Start(ctx context.Context, x layering.Layer, p waves.Plan, tag, by string) (*Rollout, error) {
	planned, err := r.Plan(x, p)
	if err != nil {
		return nil, err
	}
	if tag != "" && tag != planned.Preview.Tag {
		return nil, fault.New(fault.Unmet, "the fleet has changed since this was previewed: settings of %d devices would change now", planned.Preview.Devices).
			Then("look at the preview again").On("rollout")
	}
	if len(planned.Waves) == 0 {
		return nil, fault.New(fault.Invalid, "no device would have other settings, so there is nothing to roll out").Then("save the layer as it is").On("rollout")
	}
	now := r.o.Now()
	out := &Rollout{ID: fact.NewID(now), Layer: x.Name, To: x, Plan: p, Waves: planned.Waves, Soak: planned.Soak, By: by, At: now,
		Run: waves.Run{State: waves.Waiting, Since: now}}
	err = r.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		if err := r.busy(x.Name); err != nil {
			return err
		}
		out.From = nil
		if was, ok := r.o.Layers.FindIn(tx, x.Name); ok {
			out.From = &was
		}
		r.put(tx, out)
		r.latest.Set(tx, x.Name, out.ID)
		r.tell(tx, out, fmt.Sprintf("begins: %s in %s", plural(len(slices.Concat(out.Waves...)), "device"), plural(len(out.Waves), "wave")), by)
		r.forget(tx)
		return r.o.Layers.Stage(tx, []layering.Layer{x}, by)
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func (r *Rollouts) put(tx *commit.Tx, x *Rollout) {
	tx.Put(*x)
	r.all.Set(tx, x.ID, x)
	tx.After(func() { r.o.Settings.Touch(slices.Concat(x.Waves...)...) })
}

// forget takes out the oldest of those that are over.
func (r *Rollouts) forget(tx *commit.Tx) {
	var over []*Rollout
	for _, x := range r.all.All() {
		if latest, _ := r.latest.Get(x.Layer); !x.Run.State.Open() && latest != x.ID {
			over = append(over, x)
		}
	}
	slices.SortFunc(over, func(a, b *Rollout) int { return strings.Compare(a.ID, b.ID) })
	for len(over) > kept {
		tx.Put(commit.Delete{Record: *over[0]})
		r.all.Drop(tx, over[0].ID)
		over = over[1:]
	}
}

func (r *Rollouts) tell(tx *commit.Tx, x *Rollout, says, by string) {
	tx.Tell(fact.New(r.o.Now(), fact.RolloutMoved{Rollout: x.ID, Layer: x.Layer, Wave: x.Run.Wave + 1, State: string(x.Run.State), Says: says}).By(by))
}

// members are the devices of the present wave, and those of earlier ones that were away.
func (r *Rollouts) members(x *Rollout) []waves.Member {
	offers, _ := r.offers.Get(x.ID)
	week, err := expr.ParseWeek(x.Plan.During)
	now := r.o.Now()
	var out []waves.Member
	label := strings.TrimPrefix(x.Plan.Per, "label.")
	for i := 0; i <= x.Run.Wave && i < len(x.Waves); i++ {
		for _, id := range x.Waves[i] {
			d, ok := r.o.Present.Get(id)
			if !ok || slices.Contains(x.LeftOut, id) || d.Status == devices.Retired || d.Status == devices.Suspended {
				continue
			}
			m := waves.Member{ID: id, Group: d.Labels[label], Offered: offers[id], Late: i < x.Run.Wave, Away: away(d)}
			m.Open = x.Plan.During == "" || err == nil && week.Holds(now.In(r.o.Zone(id)))
			m.Reached, m.Settled, _, _ = r.fate(x, d, m.Offered)
			out = append(out, m)
		}
	}
	return out
}

// fate is how far a device is with the version that it was offered.
func (r *Rollouts) fate(x *Rollout, d *present.Device, offered time.Time) (reached, settled, applied, refused bool) {
	if offered.IsZero() {
		return
	}
	s, m, err := r.o.Settings.Of(d.ID)
	if err != nil {
		return
	}
	sent := false // something of the layer is sent to the device; the rest is in force at once
	names := map[string]bool{}
	for name := range x.To.Set {
		names[name] = true
	}
	if x.From != nil {
		for name := range x.From.Set {
			names[name] = true
		}
	}
	for name := range names {
		if p, ok := m.Property(name); ok && p.Role == model.Setting && !p.KeptByService {
			sent = true
		}
	}
	if !sent {
		return true, true, true, false
	}
	ms := offered.Truncate(time.Millisecond)
	if s.Confirmed() && (!s.IntendedAt.Before(ms) && !s.AppliedAt.Before(ms) || r.o.Settings.UpToDate(d.ID)) {
		for name := range names {
			refused = refused || s.Refused[name] != ""
		}
		return true, true, !refused && len(s.Drift()) == 0, refused
	}
	return d.LastAt.After(offered) && !away(d), false, false, false
}

// compile compiles the conditions of a gate over devices of some models.
func (r *Rollouts) compile(of []*model.Model, conditions []string, befores map[string]string) ([]*expr.Program, error) {
	slices.SortFunc(of, func(a, b *model.Model) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), model.CompareVersions(a.Version, b.Version))
	})
	s, err := check.GateSchema(of, check.Around{Rules: r.o.Rules()})
	if err != nil {
		return nil, err
	}
	return check.Gate(s, conditions, func(x string) (string, bool) { n, ok := befores[x]; return n, ok })
}

func (r *Rollouts) modelsOf(ids []string) []*model.Model {
	seen := map[*model.Model]bool{}
	for _, id := range ids {
		if d, err := r.o.Devices.Get(id); err == nil {
			if m, err := r.o.Models.Of(d.Model, d.Version); err == nil {
				seen[m] = true
			}
		}
	}
	return slices.Collect(maps.Keys(seen))
}

// group is the State of those devices of a wave that were reached.
func (r *Rollouts) group(x *Rollout, plan *expr.Plan, members []waves.Member, whole bool) *expr.State {
	now := r.o.Now()
	g := plan.NewState(now)
	var states []*expr.State
	for _, m := range members {
		if !whole && !m.Reached {
			continue
		}
		d, ok := r.o.Present.Get(m.ID)
		get, _, known := r.o.Present.Lookup(m.ID)
		if !ok || !known {
			continue
		}
		_, _, applied, refused := r.fate(x, d, m.Offered)
		s := plan.NewState(d.JoinedAt)
		s.In(r.o.Zone(m.ID))
		for slot, n := range plan.Names() {
			var v value.Value
			at := int64(0)
			switch n.Name {
			case expr.Name{Scope: "device", Key: check.GateApplied}:
				v = value.OfBool(applied)
			case expr.Name{Scope: "device", Key: check.GateRefused}:
				v = value.OfBool(refused)
			case expr.Name{Scope: "device", Key: check.GateAlarmed}:
				v = value.OfBool(alarmed(d, x.Run.Began))
			case expr.Name{Scope: "device", Key: check.GateHeadspace}:
				if d.Least != nil && d.Least.Known {
					v = value.OfNumber(d.Least.Headspace * 100)
				}
			default:
				v = get(n.Name)
				if l, ok := d.Latest[n.Name.Key]; ok && n.Name.Scope == "" {
					at = l.At.UnixMilli()
				}
			}
			s.Set(slot, expr.Sample{Value: v, At: at})
		}
		s.Advance(now)
		states = append(states, s)
	}
	g.Group(states)
	g.Advance(now)
	return g
}

// alarmed reports whether an urgent or high alarm was raised on a device since a time.
func alarmed(d *present.Device, since time.Time) bool {
	return slices.ContainsFunc(d.Alarms, func(a present.Alarm) bool {
		return a.Holds && (a.Priority == rule.Urgent || a.Priority == rule.High) && !a.RaisedAt.Before(since)
	})
}

// conditions works out what each condition of the gate is now.
func (r *Rollouts) conditions(x *Rollout, members []waves.Member) []waves.Condition {
	r.mu.Lock()
	g := r.gates[x.ID]
	r.mu.Unlock()
	sources := x.Plan.Conditions()
	if g == nil || g.wave != x.Run.Wave {
		programs, err := r.compile(r.modelsOf(slices.Concat(x.Waves...)), sources, x.Befores)
		if err != nil {
			r.o.Log.Error("the gate of a rollout cannot be asked", "rollout", x.ID, "error", err)
			return []waves.Condition{{Source: sources[0], Says: err.Error()}}
		}
		g = &gate{x.Run.Wave, programs, sources}
		r.mu.Lock()
		r.gates[x.ID] = g
		r.mu.Unlock()
	}
	var out []waves.Condition
	for i, p := range g.programs {
		s := r.group(x, p.Plan(), members, false)
		part := p.Explain(s)
		c := waves.Condition{Source: sources[i], Truth: p.Truth(s), Progress: check.IsProgress(sources[i]), Says: part.Value}
		if len(part.Parts) > 0 {
			c.Says = part.Parts[0].Value
		}
		if c.Truth == expr.Unknown && c.Says == "" {
			c.Says = "not known"
		}
		out = append(out, c)
	}
	return out
}

// befores works out what before(x) stands for as a wave begins.
func (r *Rollouts) befores(x *Rollout, wave int) map[string]string {
	out := map[string]string{}
	for _, src := range x.Plan.Conditions() {
		check.Befores(src, func(of string) {
			s, err := check.GateSchema(r.modelsOf(slices.Concat(x.Waves...)), check.Around{Rules: r.o.Rules()})
			if err != nil {
				return
			}
			p, _ := expr.Compile(of, s, expr.ForGroupMessage)
			if p == nil {
				return
			}
			next := *x
			next.Run.Wave, next.Run.Began = wave, r.o.Now()
			var members []waves.Member
			for _, m := range r.members(&next) {
				if !m.Late {
					members = append(members, m)
				}
			}
			v := p.Value(r.group(&next, p.Plan(), members, true))
			if v.Kind != value.Number {
				return
			}
			out[of] = fmt.Sprint(v.Num)
			if u := p.Type.Unit.Symbol; u != "" && !p.Type.Bare() {
				out[of] += " '" + u + "'"
			}
		})
	}
	return out
}

// Handle goes on with every rollout, once a second.
func (r *Rollouts) Handle(shard int, ev event.Event) {
	tick, ok := ev.(event.Tick)
	if !ok || shard != 0 {
		return
	}
	r.mu.Lock()
	due := tick.Now.Sub(r.asked) >= time.Second || tick.Now.Before(r.asked)
	if due {
		r.asked = tick.Now
	}
	r.mu.Unlock()
	if !due {
		return
	}
	for _, x := range r.all.All() {
		if x.Run.State == waves.Running || x.Run.State == waves.Waiting {
			r.step(x)
		}
	}
}

// step goes on with a rollout.
func (r *Rollouts) step(x *Rollout) {
	r.mu.Lock()
	busy := r.stepped[x.ID]
	r.mu.Unlock()
	if busy {
		return
	}
	members := r.members(x)
	var conditions []waves.Condition
	if x.Run.State == waves.Running {
		conditions = r.conditions(x, members)
	}
	run := x.Run
	run.Once = slices.Clone(run.Once)
	now := r.o.Now()
	s := run.Step(&x.Plan, len(x.Waves), x.Soak, now, members, conditions)
	if !s.Changed && len(s.Offer) == 0 {
		return
	}
	var befores map[string]string
	if s.Next {
		befores = r.befores(x, run.Wave)
	}
	r.mu.Lock()
	r.stepped[x.ID] = true
	r.mu.Unlock()
	r.o.Commits.Go(func(tx *commit.Tx) error {
		is, ok := r.all.In(tx, x.ID)
		if !ok || is != x { // somebody has done something about it meanwhile
			return nil
		}
		next := *x
		next.Run = run
		r.stage(tx, x, &next, s, befores, now)
		return nil
	}, func(err error) {
		r.mu.Lock()
		delete(r.stepped, x.ID)
		r.mu.Unlock()
		if err != nil && !fault.Is(err, fault.Stopping) {
			r.o.Log.Error("a step of a rollout was not stored and will be tried again", "rollout", x.ID, "error", err)
		}
	})
}

// stage makes a step part of a commit.
func (r *Rollouts) stage(tx *commit.Tx, was, next *Rollout, s waves.Step, befores map[string]string, now time.Time) {
	if len(s.Offer) > 0 {
		r.offer(tx, next.ID, s.Offer, now)
	}
	if s.Next {
		next.Befores = befores
		if next.Run.Wave > 0 {
			next.WaveEnds = append(slices.Clone(was.WaveEnds), now)
			r.tell(tx, was, fmt.Sprintf("passed the gate of wave %d", next.Run.Wave), "")
		}
		r.tell(tx, next, fmt.Sprintf("wave %d begins with %s", next.Run.Wave+1, plural(len(next.Waves[next.Run.Wave]), "device")), "")
	}
	switch {
	case next.Run.State == waves.Done:
		next.WaveEnds = append(slices.Clone(was.WaveEnds), now)
		r.tell(tx, next, "passed its last gate; every device has it now, and gets it when it returns", "")
		r.drop(tx, next.ID)
	case next.Run.State == waves.Stopped && was.Run.State != waves.Stopped:
		next.Run.Why += r.refusers(next)
		r.tell(tx, next, "stopped by itself: "+next.Run.Why, "")
		switch next.Plan.Broken {
		case "undo":
			next.Run.Undo(now)
			r.back(tx, next, "")
			r.tell(tx, next, "was undone by itself, as its plan says", "")
		case "undo_wave":
			r.takeBack(tx, next, next.Waves[next.Run.Wave])
			r.tell(tx, next, fmt.Sprintf("wave %d was undone by itself, as its plan says", next.Run.Wave+1), "")
		}
	}
	tx.Put(*next)
	r.all.Set(tx, next.ID, next)
	touch := s.Offer
	if next.Run.State != was.Run.State {
		touch = slices.Concat(next.Waves...)
	}
	tx.After(func() { r.o.Settings.Touch(touch...) })
}

// refusers names the devices of a rollout's present wave that have refused it.
func (r *Rollouts) refusers(x *Rollout) string {
	offers, _ := r.offers.Get(x.ID)
	var out []string
	for _, id := range x.Waves[x.Run.Wave] {
		if d := r.shownDevice(x, x.Run.Wave, id, offers[id]); d.State == "refused" {
			out = append(out, strings.TrimSuffix(id+" refused "+d.Reason, " refused "))
		}
	}
	const most = 3
	if len(out) > most {
		out = append(out[:most], fmt.Sprintf("and %d more", len(out)-most))
	}
	if len(out) == 0 {
		return ""
	}
	return "; " + strings.Join(out, "; ")
}

func (r *Rollouts) offer(tx *commit.Tx, id string, ids []string, now time.Time) {
	was, _ := r.offers.In(tx, id)
	next := maps.Clone(was)
	if next == nil {
		next = map[string]time.Time{}
	}
	for _, device := range ids {
		next[device] = now
		tx.Put(Offer{id, device, now})
	}
	r.offers.Set(tx, id, next)
}

// takeBack takes the offer back from devices; they have what they had.
func (r *Rollouts) takeBack(tx *commit.Tx, x *Rollout, ids []string) {
	was, _ := r.offers.In(tx, x.ID)
	next := maps.Clone(was)
	for _, device := range ids {
		if _, has := next[device]; has {
			delete(next, device)
			tx.Put(commit.Delete{Record: Offer{Rollout: x.ID, Device: device}})
		}
	}
	r.offers.Set(tx, x.ID, next)
}

// drop takes out the offers of a rollout that is over.
func (r *Rollouts) drop(tx *commit.Tx, id string) {
	tx.Put(commit.Delete{Record: Offer{Rollout: id}})
	r.offers.Drop(tx, id)
}

// back gives the layer the content that it had.
func (r *Rollouts) back(tx *commit.Tx, x *Rollout, by string) {
	if x.From != nil {
		_ = r.o.Layers.Stage(tx, []layering.Layer{*x.From}, by) // it was checked when it was saved
	} else {
		_ = r.o.Layers.StageRemove(tx, x.Layer, by)
	}
	r.drop(tx, x.ID)
}

// act has somebody do something about a rollout.
func (r *Rollouts) act(ctx context.Context, id, by string, do func(tx *commit.Tx, x *Rollout, now time.Time) (says string, err error)) (*Rollout, error) {
	var out *Rollout
	err := r.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		was, ok := r.all.In(tx, id)
		if !ok {
			return Unknown(id)
		}
		next := *was
		says, err := do(tx, &next, r.o.Now())
		if err != nil {
			return err
		}
		r.put(tx, &next)
		r.tell(tx, &next, says, by)
		out = &next
		return nil
	})
	if err == nil {
		r.mu.Lock()
		delete(r.gates, id)
		r.mu.Unlock()
	}
	return out, err
}

func cannot(x *Rollout, verb string) error {
	return fault.New(fault.Conflict, "the rollout is %s, so it cannot be %s", x.Run.State, verb).On("rollout")
}

// Pause lets a rollout rest: nothing is offered and no gate is passed until it is resumed.
func (r *Rollouts) Pause(ctx context.Context, id, why, by string) (*Rollout, error) {
	return r.act(ctx, id, by, func(_ *commit.Tx, x *Rollout, now time.Time) (string, error) {
		if !x.Run.Pause(now, why) {
			return "", cannot(x, "paused")
		}
		return "was paused" + because(why), nil
	})
}

// Stop stops a rollout as a gate that breaks would: devices that have it keep it.
func (r *Rollouts) Stop(ctx context.Context, id, why, by string) (*Rollout, error) {
	return r.act(ctx, id, by, func(_ *commit.Tx, x *Rollout, now time.Time) (string, error) {
		if !x.Run.Stop(now, why) {
			return "", cannot(x, "stopped")
		}
		return "was stopped" + because(why), nil
	})
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return ": " + why
}

// Resume goes on with a rollout that was paused, or that stopped.
func (r *Rollouts) Resume(ctx context.Context, id, by string) (*Rollout, error) {
	return r.act(ctx, id, by, func(_ *commit.Tx, x *Rollout, now time.Time) (string, error) {
		if !x.Run.Resume(now) {
			return "", cannot(x, "resumed")
		}
		return "goes on", nil
	})
}

// LeaveOut takes a device out of a rollout: it has what it had, until the layer is changed
// again.
func (r *Rollouts) LeaveOut(ctx context.Context, id, device, by string) (*Rollout, error) {
	return r.act(ctx, id, by, func(tx *commit.Tx, x *Rollout, _ time.Time) (string, error) {
		switch {
		case !x.Run.State.Open():
			return "", cannot(x, "changed")
		case !slices.Contains(slices.Concat(x.Waves...), device):
			return "", fault.New(fault.NotFound, "%s is in none of its waves", value.Clip(device, 63)).On("device")
		case slices.Contains(x.LeftOut, device):
			return "", fault.New(fault.Conflict, "%s is left out already", device).On("device")
		}
		x.LeftOut = append(slices.Clone(x.LeftOut), device)
		r.takeBack(tx, x, []string{device})
		return "leaves out " + device, nil
	})
}

// UndoWave gives the devices of the present wave what they had, and stops.
func (r *Rollouts) UndoWave(ctx context.Context, id, by string) (*Rollout, error) {
	return r.act(ctx, id, by, func(tx *commit.Tx, x *Rollout, now time.Time) (string, error) {
		if !x.Run.State.Open() || x.Run.State == waves.Waiting {
			return "", cannot(x, "undone")
		}
		if x.Run.State != waves.Stopped {
			x.Run.Stop(now, "")
		}
		x.Run.Out, x.Run.Once = time.Time{}, nil
		r.takeBack(tx, x, x.Waves[x.Run.Wave])
		return fmt.Sprintf("wave %d was undone", x.Run.Wave+1), nil
	})
}

// Conflict is a value that somebody has changed since a rollout brought it.
type Conflict struct {
	Setting        string
	Was, To, Is    any
	WasSet, IsThat bool // whether it was set before, and is now
}

// Undo takes a rollout back. One that is under way gives all devices what they had. One that
// is over becomes a new version of the layer that reverses only its own difference; what
// somebody has changed since is a conflict, which is returned and nothing changed, unless
// force takes it back too.
func (r *Rollouts) Undo(ctx context.Context, id string, force bool, by string) (*Rollout, []Conflict, error) {
	var conflicts []Conflict
	out, err := r.act(ctx, id, by, func(tx *commit.Tx, x *Rollout, now time.Time) (string, error) {
		if x.Run.State == waves.Undone {
			return "", cannot(x, "undone")
		}
		if x.Run.State != waves.Done {
			x.Run.Undo(now)
			r.back(tx, x, by)
			return "was undone: every device has what it had", nil
		}
		is, ok := r.o.Layers.FindIn(tx, x.Layer)
		if !ok {
			return "", fault.New(fault.Conflict, "the layer %s was removed since, so there is nothing to undo", x.Layer).On("layer")
		}
		var next layering.Layer
		if next, conflicts = Reverse(x.From, x.To, is, force); len(conflicts) > 0 && !force {
			return "", fault.New(fault.Conflict, "%s was changed since, so that undoing would take that back too: %s", x.Layer, said(conflicts)).
				Then("undo it all the same, or change the layer by hand").On("layer")
		}
		x.Run.State = waves.Undone
		if len(next.Set) == 0 {
			return "was undone: the layer is removed", r.o.Layers.StageRemove(tx, x.Layer, by)
		}
		return "was undone by a new version of the layer", r.o.Layers.Stage(tx, []layering.Layer{next}, by)
	})
	return out, conflicts, err
}

func said(cs []Conflict) string {
	var out []string
	for _, c := range cs {
		out = append(out, fmt.Sprintf("%s is %v now", c.Setting, c.Is))
	}
	return strings.Join(out, ", ")
}

// Reverse takes the difference between two versions of a layer out of a third. A value that
// is not as the second left it is a conflict, and stays unless force is true.
func Reverse(from *layering.Layer, to, is layering.Layer, force bool) (layering.Layer, []Conflict) {
	out := is
	out.Set = maps.Clone(is.Set)
	was := layering.Layer{}
	if from != nil {
		was = *from
	}
	var conflicts []Conflict
	names := map[string]bool{}
	for name := range was.Set {
		names[name] = true
	}
	for name := range to.Set {
		names[name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		a, had := was.Set[name]
		b, has := to.Set[name]
		c, now := is.Set[name]
		if had == has && a == b {
			continue
		}
		if now != has || c != b {
			conflicts = append(conflicts, Conflict{name, a, b, c, had, now})
			if !force {
				continue
			}
		}
		if had {
			out.Set[name] = a
		} else {
			delete(out.Set, name)
		}
	}
	if from != nil && was.Target != to.Target {
		if is.Target == to.Target || force {
			out.Target = was.Target
		} else {
			conflicts = append(conflicts, Conflict{Setting: "target", Was: was.Target, To: to.Target, Is: is.Target, WasSet: true, IsThat: true})
		}
	}
	return out, conflicts
}

// Shown is a rollout with how far each device is.
type Shown struct {
	*Rollout
	Devices    []ShownDevice
	Conditions []waves.Condition
}

// ShownDevice is a device of a rollout.
type ShownDevice struct {
	ID      string
	Wave    int    // from 0
	State   string // waiting, offered, confirmed, refused, off line, left out
	Reason  string
	Offered time.Time
}

// Show returns a rollout with how far each device is, of those that sees lets pass.
func (r *Rollouts) Show(id string, sees func(string) bool) (Shown, error) {
	x, err := r.Get(id)
	if err != nil {
		return Shown{}, err
	}
	out := Shown{Rollout: x}
	offers, _ := r.offers.Get(id)
	for i, wave := range x.Waves {
		for _, device := range wave {
			if sees != nil && !sees(device) {
				continue
			}
			out.Devices = append(out.Devices, r.shownDevice(x, i, device, offers[device]))
		}
	}
	if x.Run.State.Open() && x.Run.State != waves.Waiting {
		out.Conditions = r.conditions(x, r.members(x))
	}
	return out, nil
}

func (r *Rollouts) shownDevice(x *Rollout, wave int, id string, offered time.Time) ShownDevice {
	out := ShownDevice{ID: id, Wave: wave, State: "waiting", Offered: offered}
	d, ok := r.o.Present.Get(id)
	switch {
	case slices.Contains(x.LeftOut, id):
		out.State = "left out"
		return out
	case x.Run.State == waves.Undone || !ok:
		return out
	case x.Run.State == waves.Done && offered.IsZero():
		offered = x.Run.Began // its offers are not kept any more
		if s, _, err := r.o.Settings.Of(id); err == nil {
			offered = s.IntendedAt
		}
	}
	if offered.IsZero() {
		if away(d) {
			out.State = "off line"
		}
		return out
	}
	_, settled, applied, refused := r.fate(x, d, offered)
	switch {
	case refused:
		out.State = "refused"
		s, _, err := r.o.Settings.Of(id)
		for name := range x.To.Set {
			if err == nil && s.Refused[name] != "" {
				out.Reason = name + ": " + s.Refused[name]
			}
		}
	case applied:
		out.State = "confirmed"
	case settled:
		out.State, out.Reason = "refused", "it confirmed the revision and is otherwise all the same"
	case away(d):
		out.State = "off line"
	default:
		out.State = "offered"
	}
	return out
}
