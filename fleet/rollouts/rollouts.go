// Package rollouts brings a new version of a layer to its devices in waves, each followed by
// a gate that must hold before the next begins. What is decided is stored with each step, so
// that a stop of the service at any moment neither leaves a wave out nor repeats one.
package rollouts

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/expr"
	"ullage/core/health"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/record"
	"ullage/core/value"
	"ullage/core/waves"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/layers"
	"ullage/fleet/links"
	"ullage/fleet/models"
	"ullage/fleet/present"
	"ullage/fleet/settings"
)

// Rollout brings a version of a layer to devices.
type Rollout struct {
	ID      string
	Layer   string
	From    *layering.Layer // nil for a layer that is new
	To      layering.Layer
	Plan    waves.Plan
	Waves   [][]string // devices of each, in the order in which they are offered it
	Soak    time.Duration
	Run     waves.Run
	By      string
	At      time.Time
	LeftOut []string
	// Late are the devices that were away until the last gate was passed.
	Late     []string
	Befores  map[string]string // what before(x) stands for in this wave, by x
	WaveEnds []time.Time       // when each wave passed its gate
	// Needs says that it begins once a second person has approved it: Approved by whom.
	Needs      bool
	Approved   string
	ApprovedAt time.Time
}

// Asks reports whether it waits for the approval of a second person.
func (x *Rollout) Asks() bool { return x.Needs && x.Approved == "" }

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
	// Since returns what everything of a kind was at a time, and every change of it after
	// that.
	Since(ctx context.Context, kind commit.ValidityKind, from time.Time) ([]commit.Validity, error)
}

// Options are what Rollouts are made of.
type Options struct {
	Records  Records
	Commits  *commit.Writer
	Devices  *devices.Registry
	Models   *models.Catalogue
	Settings *settings.Settings
	Layers   *layers.Layers
	// ApprovalAbove is from how many devices on a second person approves a rollout; never if
	// it is 0.
	ApprovalAbove int
	Present       *present.Fleet
	Rules         func() []string
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
	late     bool // of those that come late
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
	case x.Run.Passed && !r.current(tx, x): // somebody has changed the layer since
		return nil, false
	case slices.Contains(x.LeftOut, device):
		return x.From, true
	case x.Run.State == waves.Done || x.Run.Passed && !slices.Contains(x.Late, device):
		return nil, false
	}
	of, _ := offers(id)
	if _, has := of[device]; has {
		return &x.To, true
	}
	return x.From, true
}

// current reports whether the layer is still as a rollout has brought it.
func (r *Rollouts) current(tx *commit.Tx, x *Rollout) bool {
	if tx != nil {
		now, ok := r.o.Layers.FindIn(tx, x.Layer)
		return ok && record.Tag(now) == record.Tag(x.To.For(now))
	}
	now, err := r.o.Layers.Get(x.Layer)
	return err == nil && record.Tag(now) == record.Tag(x.To.For(now))
}

// busy refuses a change of a layer of which a rollout is under way.
func (r *Rollouts) busy(layer string) error {
	id, _ := r.latest.Get(layer)
	if x, ok := r.all.Get(id); ok && x.Run.State.Open() && x.Run.State != waves.CatchingUp {
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
	// Likely is how long it takes as the devices have been off line in the last 30 days; not
	// Known where too many of a wave have not come back in that time.
	Likely time.Duration
	Known  bool
}

// habit is how far back it is looked how long devices use to be off line.
const habit = 30 * 24 * time.Hour

// expect works out how long a planned rollout takes as its devices use to be off line.
func (r *Rollouts) expect(out *Planned, p *waves.Plan) error {
	now := r.o.Now()
	rows, err := r.o.Records.Since(context.Background(), commit.Link, now.Add(-habit))
	if err != nil {
		return err
	}
	spells := links.Spells(rows)
	reached := p.Gate.Reached
	if reached == 0 {
		reached = waves.UsualReached
	}
	out.Likely, out.Known = out.Takes, true
	for _, wave := range out.Waves {
		var waits []time.Duration
		unknown := 0
		for _, id := range wave {
			if d, ok := r.o.Present.Get(id); ok && d.Link == health.Never {
				unknown++
			} else if wait, known := waves.Wait(spells[id], now); known {
				waits = append(waits, wait)
			} else {
				unknown++
			}
		}
		wait, known := waves.Expected(waits, unknown, reached)
		out.Known = out.Known && known
		out.Likely += wait
	}
	return nil
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
				wrong := *fault.From(err)
				wrong.Sentence = fmt.Sprintf("wave %d, %s", i+1, wrong.Sentence)
				return out, &wrong
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
	return out, r.expect(&out, &p)
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
	if x, err = r.o.Layers.Sealed(x); err != nil {
		return nil, err
	}
	now := r.o.Now()
	out := &Rollout{ID: fact.NewID(now), Layer: x.Name, To: x, Plan: p, Waves: planned.Waves, Soak: planned.Soak, By: by, At: now,
		Run: waves.Run{State: waves.Waiting, Since: now}}
	n := len(slices.Concat(out.Waves...))
	out.Needs = r.o.ApprovalAbove > 0 && n > r.o.ApprovalAbove
	begins := "begins"
	if out.Needs {
		begins = "waits for a second person's approval"
	}
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
		r.tell(tx, out, fmt.Sprintf("%s: %s in %s", begins, plural(n, "device"), plural(len(out.Waves), "wave")), by)
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
			if !ok || x.Run.Passed && !slices.Contains(x.Late, id) || slices.Contains(x.LeftOut, id) || d.Status == devices.Retired || d.Status == devices.Suspended {
				continue
			}
			m := waves.Member{ID: id, Group: d.Labels[label], Offered: offers[id], Late: i < x.Run.Wave || x.Run.Passed, Away: away(d)}
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
