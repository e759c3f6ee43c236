// Package settings keeps what the settings of each device should be, sends
// them out as numbered documents, and records what the device confirmed. The
// words intended and applied are those of RFC 8342.
package settings

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/secret"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/models"
)

// State is everything known about one device's settings.
type State struct {
	Device string
	// Revision is the number of Intended. Devices compare it for inequality. Its
	// lowest CountBits count; what is above them is the epoch of the store, which a
	// restore from a backup begins anew, so that no number comes twice.
	Revision     int64
	First        int64  // the first number of the epoch that Revision is of
	Earlier      []Span // numbers of earlier epochs
	Override     layering.Settings
	Intended     layering.Settings // without those kept by the service
	Kept         layering.Settings // those kept by the service
	IntendedAt   time.Time
	OverriddenBy map[string]Overridden

	AppliedRevision int64 // 0: nothing was ever confirmed
	Applied         layering.Settings
	AppliedAt       time.Time
	Refused         map[string]string
	DriftSince      time.Time // zero: no drift
}

// Overridden says who put a value on a device, and when.
type Overridden struct {
	By    string    `json:"by"`
	At    time.Time `json:"at"`
	Until time.Time `json:"until,omitzero"` // when it ends by itself; zero for never
}

// CountBits is how many bits of a revision count within an epoch. Together with
// an epoch of 37 bits a revision is an exact number in JSON (RFC 8259, section 6).
const CountBits = 16

// Span is a run of revisions, both ends included.
type Span struct{ First, Last int64 }

// Made reports whether a revision was ever made for the device.
func (s *State) Made(revision int64) bool {
	return revision >= s.First && revision <= s.Revision ||
		slices.ContainsFunc(s.Earlier, func(x Span) bool { return revision >= x.First && revision <= x.Last })
}

// next gives a state its next revision.
func (b *Settings) next(s *State) {
	if s.Revision>>CountBits >= b.epoch {
		s.Revision++
		return
	}
	s.Earlier = append(slices.Clone(s.Earlier), Span{s.First, s.Revision})
	s.Revision = b.epoch<<CountBits + 1
	s.First = s.Revision
}

// Confirmed reports whether the device has answered the newest revision.
func (s *State) Confirmed() bool { return s.AppliedRevision == s.Revision }

// Word says how far the device is with its settings: "applied", "pending", "refused" or
// "drift".
func (s *State) Word() string {
	switch {
	case !s.Confirmed() && len(s.Intended) > 0:
		return "pending"
	case len(s.Drift()) == 0:
		return "applied"
	case len(s.Refused) > 0:
		return "refused"
	}
	return "drift"
}

// Records reads what is stored. States are put into commits as State, what is
// to be changed on many devices as Job.
type Records interface {
	SettingStates(context.Context) ([]State, error)
	// Epoch is that of the store; every restore from a backup begins another.
	Epoch(context.Context) (int64, error)
	// Jobs returns those that are not done.
	Jobs(context.Context) ([]Job, error)
}

// Options are what Settings are made of.
type Options struct {
	Records Records
	Commits *commit.Writer
	Devices *devices.Registry
	Models  *models.Catalogue
	Bus     *event.Bus
	// Revisions is how many revisions a device gets in an hour at most, since its flash wears
	// out; what comes beyond is merged into the next one. No limit if it is 0.
	Revisions int
	// Drift says what is done about devices that are not as they have confirmed.
	Drift Drift
	// Secrets seals what nobody may read; without it no secret is taken.
	Secrets *secret.Box
	Log     *slog.Logger
	Now     func() time.Time
}

// Settings holds the settings of every device.
type Settings struct {
	commits *commit.Writer
	devices *devices.Registry
	models  *models.Catalogue
	bus     *event.Bus
	log     *slog.Logger
	now     func() time.Time
	secrets *secret.Box
	epoch   int64

	states *commit.Table[string, *State]
	jobs   *commit.Table[string, *Job]

	mu      sync.Mutex
	changed map[string]chan struct{} // closed when a device's revision changes

	revisions int
	recent    map[string][]time.Time // when revisions were made in the last hour; the writer's alone
	over      []laid
	stale     stale
	drift     Drift
	documents *documents
	looking   looking
}

// Open reads every state, and goes on with what was to be changed on many
// devices when the service stopped.
func Open(ctx context.Context, o Options) (*Settings, error) {
	b := &Settings{commits: o.Commits, devices: o.Devices, models: o.Models, bus: o.Bus, log: o.Log, now: o.Now, secrets: o.Secrets,
		revisions: o.Revisions, drift: o.Drift, recent: map[string][]time.Time{}, changed: map[string]chan struct{}{},
		documents: newDocuments()}
	stored, err := o.Records.SettingStates(ctx)
	if err != nil {
		return nil, err
	}
	if b.epoch, err = o.Records.Epoch(ctx); err != nil {
		return nil, err
	}
	states := make(map[string]*State, len(stored))
	for _, s := range stored {
		if s.Kept == nil { // of an earlier version, which had nothing between the model and the override
			s.Kept = b.keptBefore(&s)
		}
		b.documents.share(&s)
		states[s.Device] = &s
		if at := s.ends(); !at.IsZero() {
			b.noteEnd(s.Device, at)
		}
	}
	b.renew(states)
	b.states = commit.NewTable(states)
	b.devices.Changing(b.deviceChanges)
	jobs, err := o.Records.Jobs(ctx)
	if err != nil {
		return nil, err
	}
	open := map[string]*Job{}
	for _, j := range jobs {
		open[j.ID] = &j
	}
	b.jobs = commit.NewTable(open)
	return b, nil
}

// renew gives devices whose stored state cannot be read the defaults of their
// model, under revisions that they cannot have been sent. The store says that
// something is damaged; what was stored is overwritten when somebody sets
// something.
func (b *Settings) renew(states map[string]*State) {
	for _, d := range b.devices.List() {
		if states[d.ID] != nil {
			continue
		}
		m, err := b.models.Of(d.Model, d.Version)
		if err != nil {
			continue // nothing can be said of its settings at all
		}
		states[d.ID] = b.fresh(d.ID, m, max(b.epoch, EpochAt(b.now())))
		b.documents.share(states[d.ID])
	}
}

// fresh is the state of a device of which nothing was set yet.
func (b *Settings) fresh(id string, m *model.Model, epoch int64) *State {
	first := epoch<<CountBits + 1
	return &State{Device: id, Revision: first, First: first, Override: layering.Settings{},
		OverriddenBy: map[string]Overridden{}, Intended: m.Defaults(false), Kept: m.Defaults(true), IntendedAt: b.now(),
		Applied: layering.Settings{}, Refused: map[string]string{}}
}

// EpochTick is the time for which one epoch is enough.
const EpochTick = time.Second / 64

// EpochAt is an epoch that no device has seen before a time: that time in 64ths
// of a second since 2026.
func EpochAt(t time.Time) int64 {
	return int64(t.Sub(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)) / EpochTick)
}

// deviceChanges keeps the settings of a device in step with its model, in the
// commit in which that changes.
func (b *Settings) deviceChanges(tx *commit.Tx, old, d devices.Device) error {
	m, err := b.models.Of(d.Model, d.Version)
	if err != nil {
		return err
	}
	if old.ID != "" && old.Model == d.Model && old.Version == d.Version {
		if d.Status == devices.Retired {
			return nil
		}
		was := b.in(tx, d.ID)
		s := *was
		return b.revise(tx, was, &s, d, m, "", "since "+d.ID+" was changed", nil, nil)
	}
	if old.ID == "" {
		s := b.fresh(d.ID, m, b.epoch)
		s.Intended, s.Kept = b.merged(tx, d, m, s).split(m)
		b.hold(tx, nil, s, m, s.IntendedAt)
		b.documents.share(s)
		tx.Put(*s)
		b.states.Set(tx, d.ID, s)
		return nil
	}
	was := b.in(tx, d.ID)
	s := *was
	removed := b.without(&s, m)
	return b.revise(tx, was, &s, d, m, "", "since it is "+m.String()+" now", nil, removed)
}

// without takes values off that the model does not allow any more.
func (b *Settings) without(s *State, m *model.Model) (removed []string) {
	s.Override, s.OverriddenBy = maps.Clone(s.Override), maps.Clone(s.OverriddenBy)
	for name := range unfit(s.Override, m) {
		delete(s.Override, name)
		delete(s.OverriddenBy, name)
		removed = append(removed, name)
	}
	slices.Sort(removed)
	return removed
}

// unfit are the values that a model does not allow.
func unfit(values layering.Settings, m *model.Model) layering.Settings {
	out := layering.Settings{}
	for name, v := range values {
		if p, ok := m.Property(name); !ok || p.Role != model.Setting || !p.Holds(v) {
			out[name] = v
		}
	}
	return out
}

// Unfit returns what of a device's override a version of its model does not allow, as the
// use cases before have left it: a move to that version takes it off.
func (b *Settings) Unfit(tx *commit.Tx, id string, m *model.Model) layering.Settings {
	return unfit(b.in(tx, id).Override, m)
}

// Restore puts values back into the override of a device in a commit, as far as its model
// allows them and nobody has set them since.
func (b *Settings) Restore(tx *commit.Tx, id string, values layering.Settings, by string) error {
	d, ok := b.devices.In(tx, id)
	if !ok {
		return devices.Unknown(id)
	}
	m, err := b.models.Of(d.Model, d.Version)
	if err != nil {
		return err
	}
	was := b.in(tx, id)
	lost := unfit(values, m)
	back := map[string]value.Value{}
	for name, v := range values {
		if _, gone := lost[name]; gone {
			continue
		}
		if _, set := was.Override[name]; !set {
			back[name] = v
		}
	}
	if len(back) == 0 {
		return nil
	}
	s := *was
	said, removed := b.override(&s, m, back, nil, time.Time{}, by)
	return b.revise(tx, was, &s, d, m, by, "", said, removed)
}

// in returns the state of a device as the use cases before have left it.
func (b *Settings) in(tx *commit.Tx, id string) *State {
	if s, ok := b.states.In(tx, id); ok {
		return s
	}
	return &State{Device: id}
}

// Of returns the state of a device's settings. Its maps must not be changed.
func (b *Settings) Of(id string) (State, *model.Model, error) {
	d, err := b.devices.Get(id)
	if err != nil {
		return State{}, nil, err
	}
	m, err := b.models.Of(d.Model, d.Version)
	if err != nil {
		return State{}, nil, err
	}
	s, ok := b.states.Get(id)
	if !ok {
		return State{}, nil, fmt.Errorf("%s has no state of its settings", id)
	}
	return *s, m, nil
}

// Set puts values into the override of a device and takes the names in unset
// off it. Values that the model does not allow refuse the whole change.
func (b *Settings) Set(ctx context.Context, id string, set map[string]any, unset []string, by string) (State, error) {
	return b.SetUntil(ctx, id, set, unset, time.Time{}, by)
}

// SetUntil is Set for values that end by themselves at a time; the zero time is for never.
func (b *Settings) SetUntil(ctx context.Context, id string, set map[string]any, unset []string, until time.Time, by string) (State, error) {
	if err := b.checkUntil(until); err != nil {
		return State{}, err
	}
	d, err := b.devices.Get(id)
	if err != nil {
		return State{}, err
	}
	m, err := b.models.Of(d.Model, d.Version)
	if err != nil {
		return State{}, err
	}
	given, err := allowed(id, m, set, unset, giving)
	if err != nil {
		return State{}, err
	}
	var out State
	err = b.commits.Do(ctx, func(tx *commit.Tx) error {
		was := b.in(tx, id)
		s := *was
		values, err := b.sealed(m, s.Override, given)
		if err != nil {
			return err
		}
		said, removed := b.override(&s, m, values, unset, until, by)
		if now, ok := b.devices.In(tx, id); ok {
			d = now
		}
		if err := b.revise(tx, was, &s, d, m, by, "", said, removed); err != nil {
			return err
		}
		out = *b.in(tx, id)
		return nil
	})
	return out, err
}

// allowed checks values against a model, and with more.
func allowed(id string, m *model.Model, set map[string]any, unset []string, more ...func(map[string]value.Value) []model.Finding) (map[string]value.Value, error) {
	values, wrong := m.Fields(set, model.Setting)
	for _, check := range more {
		wrong = append(wrong, check(values)...)
	}
	for _, name := range unset {
		if p, ok := m.Property(name); !ok || p.Role != model.Setting {
			wrong = append(wrong, model.Finding{Pointer: "/unset",
				Sentence: fmt.Sprintf("%s has no setting %s", m, name)})
		}
	}
	if len(wrong) > 0 {
		e := fault.New(fault.Invalid, "%s was not changed: %s", id, model.Findings(wrong).Error()).On("model")
		e.Findings = wrong
		return nil, e
	}
	return values, nil
}

// override changes the override of a state and tells what was set and removed.
func (b *Settings) override(s *State, m *model.Model, values map[string]value.Value, unset []string,
	until time.Time, by string) (said map[string]string, removed []string) {
	s.Override, s.OverriddenBy = maps.Clone(s.Override), maps.Clone(s.OverriddenBy)
	at := b.now()
	said = map[string]string{}
	for name, v := range values {
		p, _ := m.Property(name)
		if old, ok := s.Override[name]; ok && b.same(name, old, v) && s.OverriddenBy[name].Until.Equal(until) {
			continue
		}
		s.Override[name], s.OverriddenBy[name] = v, Overridden{by, at, until}
		said[name] = p.Say(v)
		if !until.IsZero() {
			said[name] += " until " + until.UTC().Format(time.RFC3339)
		}
	}
	for _, name := range unset {
		if _, ok := s.Override[name]; ok {
			delete(s.Override, name)
			delete(s.OverriddenBy, name)
			removed = append(removed, name)
		}
	}
	return said, removed
}

// revise makes a changed state part of a commit, with a new revision if the
// document for the device comes out different.
//
// With neither why nor by it follows from what was told already, such as another version
// of a layer, and is not told again for each device.
func (b *Settings) revise(tx *commit.Tx, was, s *State, d devices.Device, m *model.Model, by, why string,
	said map[string]string, removed []string) error {
	at := b.now()
	intended, kept := b.merged(tx, d, m, s).split(m)
	same := intended.Equal(s.Intended)
	if !same && !b.mayRevise(tx, s.Device, at) {
		same = true // it is part of the next revision
	}
	if same && kept.Equal(s.Kept) && len(said) == 0 && len(removed) == 0 {
		return nil
	}
	c := fact.Settings{Set: said, Removed: removed}
	if by == "" {
		c.Why = why
	}
	if !same {
		b.next(s)
		s.Intended, s.IntendedAt, s.DriftSince = intended, at, time.Time{}
		c.Revision = s.Revision
	}
	s.Kept = kept
	if by != "" || why != "" || len(said)+len(removed) > 0 {
		tx.Tell(fact.New(at, c).Of(s.Device).By(by))
	}
	b.put(tx, was, s, m, at, !same)
	return nil
}

// put makes a state part of a commit.
func (b *Settings) put(tx *commit.Tx, was, s *State, m *model.Model, at time.Time, revised bool) {
	b.hold(tx, was, s, m, at)
	b.documents.share(s)
	tx.Put(*s)
	b.states.Set(tx, s.Device, s)
	tx.After(func() {
		if at := s.ends(); !at.IsZero() || was != nil && !was.ends().IsZero() {
			b.noteEnd(s.Device, at)
		}
		if revised {
			b.mu.Lock()
			if c := b.changed[s.Device]; c != nil {
				close(c)
				delete(b.changed, s.Device)
			}
			b.mu.Unlock()
		}
		b.bus.Publish(event.Settings{Device: s.Device})
	})
}

// hold notes from when on each setting has the value that rules see.
func (b *Settings) hold(tx *commit.Tx, was, s *State, m *model.Model, at time.Time) {
	for _, p := range m.With(model.Setting) {
		v := s.effective(m, p)
		if was != nil && was.Revision > 0 && was.effective(m, p) == v {
			continue
		}
		text, err := json.Marshal(v)
		if err != nil || !v.Known() {
			continue
		}
		tx.Hold(commit.Validity{Kind: commit.Setting, Subject: s.Device, Key: p.Name, From: at, Value: string(text)})
	}
}

// Document is what is sent to a device: always the whole.
type Document struct {
	Revision int64             `json:"revision"`
	Intended layering.Settings `json:"intended"`
}

// Document returns the intended document of a device.
func (b *Settings) Document(id string) (Document, error) {
	s, _, err := b.Of(id)
	return Document{s.Revision, b.opened(id, s.Intended)}, err
}

// Changed returns a channel that is closed when the device's revision is no
// longer rev; it is closed already if it is not now.
func (b *Settings) Changed(id string, rev int64) <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s, ok := b.states.Get(id); !ok || s.Revision != rev {
		c := make(chan struct{})
		close(c)
		return c
	}
	c := b.changed[id]
	if c == nil {
		c = make(chan struct{})
		b.changed[id] = c
	}
	return c
}

type report struct {
	Revision *int64            `json:"revision"`
	Applied  map[string]any    `json:"applied"`
	Refused  map[string]string `json:"refused"`
}

// Result is what a report of a device came to.
type Result struct {
	Kept    int
	Refused []model.Finding // members that the model does not know
}

// Apply records what a device says it has applied, and calls done when that is
// on disk, or will not be.
func (b *Settings) Apply(id string, body []byte, done func(Result, error)) {
	_, m, err := b.Of(id)
	if err != nil {
		done(Result{}, err)
		return
	}
	var r report
	if err := json.Unmarshal(body, &r); err != nil || r.Revision == nil || r.Applied == nil && r.Refused == nil {
		done(Result{}, fault.New(fault.Invalid, "this is no report of applied settings").
			Then(`write it like {"revision":12,"applied":{"report_every":10},"refused":{}}`))
		return
	}
	var out Result
	applied := layering.Settings{}
	for _, name := range slices.Sorted(maps.Keys(r.Applied)) {
		p, ok := m.Property(name)
		if !ok || p.Role != model.Setting {
			out.Refused = append(out.Refused, model.Finding{Pointer: "/applied/" + name,
				Sentence: fmt.Sprintf("%s has no setting %s", m, value.Clip(name, 200))})
			continue
		}
		v, err := p.Check(r.Applied[name])
		if err != nil {
			out.Refused = append(out.Refused, model.Finding{Pointer: "/applied/" + name,
				Sentence: fmt.Sprintf("%s %s", name, err)})
			continue
		}
		applied[name] = v
	}
	refused := map[string]string{}
	for name, reason := range r.Refused {
		if p, ok := m.Property(name); ok && p.Role == model.Setting {
			refused[name] = value.Clip(b.Hide(id, reason), 200)
		} else {
			out.Refused = append(out.Refused, model.Finding{Pointer: "/refused/" + name,
				Sentence: fmt.Sprintf("%s has no setting %s", m, value.Clip(name, 200))})
		}
	}
	out.Kept = len(applied)
	b.commits.Go(func(tx *commit.Tx) error {
		return b.confirm(tx, id, m, *r.Revision, applied, refused)
	}, func(err error) {
		if err != nil {
			out = Result{}
		}
		done(out, err)
	})
}

func (b *Settings) confirm(tx *commit.Tx, id string, m *model.Model, revision int64, applied layering.Settings,
	refused map[string]string) error {
	was := b.in(tx, id)
	b.reported(m, was, applied, refused)
	if !was.Made(revision) {
		return fault.New(fault.Conflict, "revision %d was never sent to %s; the newest is %d", revision, id,
			was.Revision).
			Then("ask for the intended settings, apply them, and report that revision")
	}
	if was.AppliedRevision == revision && was.Applied.Equal(applied) && maps.Equal(was.Refused, refused) &&
		!was.AppliedAt.IsZero() {
		return nil
	}
	s := *was
	at := b.now()
	s.AppliedRevision, s.Applied, s.AppliedAt, s.Refused = revision, applied, at, refused
	if drift := s.Drift(); len(drift) == 0 {
		s.DriftSince = time.Time{}
		if s.Confirmed() {
			tx.Tell(fact.New(at, fact.Applied{Revision: s.Revision}).Of(id))
		}
	} else {
		if s.DriftSince.IsZero() {
			s.DriftSince = at
		}
		c := fact.Refused{Revision: s.Revision}
		for _, d := range drift {
			c.Differences = append(c.Differences, fact.Difference{Name: d.Name, Intended: d.Intended.String(),
				Applied: d.Applied.String(), Reason: d.Reason})
		}
		tx.Tell(fact.New(at, c).Of(id))
	}
	b.put(tx, was, &s, m, at, false)
	return nil
}

// Drift lists where the device is not as intended although it has confirmed
// the revision.
func (s *State) Drift() []layering.Difference {
	if !s.Confirmed() {
		return nil
	}
	return layering.Drift(s.Intended, s.Applied, s.Refused)
}

// Effective returns what a rule means by set.NAME: one kept by the service as
// intended, another as applied, and as intended before the first confirmation.
func (b *Settings) Effective(id string, m *model.Model, name string) value.Value {
	p, ok := m.Property(name)
	if !ok || p.Role != model.Setting {
		return value.Value{}
	}
	s, ok := b.states.Get(id)
	if !ok {
		return p.Default
	}
	return s.effective(m, p)
}

func (s *State) effective(m *model.Model, p *model.Property) value.Value {
	if p.KeptByService {
		return s.Kept[p.Name]
	}
	if v, ok := s.Applied[p.Name]; ok && s.AppliedRevision > 0 {
		return v
	}
	return s.Intended[p.Name]
}

// IntendedOf returns the intended value of a setting, kept by the service or sent.
func (s *State) IntendedOf(m *model.Model, name string) value.Value {
	if p, ok := m.Property(name); ok && p.KeptByService {
		return s.Kept[name]
	}
	return s.Intended[name]
}
