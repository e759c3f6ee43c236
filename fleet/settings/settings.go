// Package settings keeps what the settings of each device should be, sends
// them out as numbered documents, and records what the device confirmed. The
// words intended and applied are those of RFC 8342.
package settings

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/journal"
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
	By string    `json:"by"`
	At time.Time `json:"at"`
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
	if s.Revision>>CountBits == b.epoch {
		s.Revision++
		return
	}
	s.Earlier = append(slices.Clone(s.Earlier), Span{s.First, s.Revision})
	s.Revision = b.epoch<<CountBits + 1
	s.First = s.Revision
}

// Confirmed reports whether the device has answered the newest revision.
func (s *State) Confirmed() bool { return s.AppliedRevision == s.Revision }

// Records stores the states.
type Records interface {
	SettingStates() ([]State, error)
	// Epoch is that of the store; every restore from a backup begins another.
	Epoch() (int64, error)
	SaveSettings(State, ...journal.Entry) error
}

// Settings holds the settings of every device.
type Settings struct {
	records Records
	devices *devices.Registry
	models  *models.Catalogue
	bus     *event.Bus
	now     func() time.Time
	epoch   int64

	mu      sync.RWMutex
	states  map[string]*State
	changed map[string]chan struct{} // closed when a device's revision changes
}

// Open reads every state.
func Open(r Records, d *devices.Registry, m *models.Catalogue, bus *event.Bus, now func() time.Time) (*Settings, error) {
	b := &Settings{records: r, devices: d, models: m, bus: bus, now: now, states: map[string]*State{}, changed: map[string]chan struct{}{}}
	stored, err := r.SettingStates()
	if err != nil {
		return nil, err
	}
	for _, s := range stored {
		b.states[s.Device] = &s
	}
	if b.epoch, err = r.Epoch(); err != nil {
		return nil, err
	}
	return b, nil
}

// Of returns the state of a device's settings, making the first revision where
// there is none yet. Its maps must not be changed.
func (b *Settings) Of(id string) (State, *model.Model, error) {
	d, err := b.devices.Get(id)
	if err != nil {
		return State{}, nil, err
	}
	m, err := b.models.Of(d.Model, d.Version)
	if err != nil {
		return State{}, nil, err
	}
	b.mu.RLock()
	s := b.states[id]
	b.mu.RUnlock()
	if s == nil {
		b.mu.Lock()
		defer b.mu.Unlock()
		if s = b.states[id]; s == nil {
			s = &State{Device: id, Revision: b.epoch<<CountBits + 1, First: b.epoch<<CountBits + 1, Override: layering.Settings{}, OverriddenBy: map[string]Overridden{},
				Intended: m.Defaults(false), IntendedAt: b.now(), Applied: layering.Settings{}, Refused: map[string]string{}}
			if err := b.records.SaveSettings(*s); err != nil {
				return State{}, nil, err
			}
			b.states[id] = s
		}
	}
	return *s, m, nil
}

// Set puts values into the override of a device and takes the names in unset off it. Values that the
// model does not allow refuse the whole change.
func (b *Settings) Set(id string, set map[string]any, unset []string, by string) (State, error) {
	_, m, err := b.Of(id)
	if err != nil {
		return State{}, err
	}
	values, wrong := m.Fields(set, model.Setting)
	for _, name := range unset {
		if p, ok := m.Property(name); !ok || p.Role != model.Setting {
			wrong = append(wrong, model.Finding{Pointer: "/unset", Sentence: fmt.Sprintf("%s has no setting %s", m, name)})
		}
	}
	if len(wrong) > 0 {
		e := fault.New(fault.Invalid, "%s was not changed: %s", id, model.Findings(wrong).Error())
		e.Findings = wrong
		return State{}, e.Then("see what %s allows with: ullage model show %s", m.Name, m.Name)
	}
	return b.revise(id, m, by, func(s *State, at time.Time) []string {
		s.Override, s.OverriddenBy = maps.Clone(s.Override), maps.Clone(s.OverriddenBy)
		var words []string
		for _, name := range slices.Sorted(maps.Keys(values)) {
			p, _ := m.Property(name)
			if old, ok := s.Override[name]; ok && old == values[name] {
				continue
			}
			s.Override[name], s.OverriddenBy[name] = values[name], Overridden{by, at}
			words = append(words, fmt.Sprintf("set %s to %s", name, p.Say(values[name])))
		}
		for _, name := range unset {
			if _, ok := s.Override[name]; ok {
				delete(s.Override, name)
				delete(s.OverriddenBy, name)
				words = append(words, "took "+name+" off")
			}
		}
		return words
	})
}

// Remodel works the intended settings of a device out again after its model
// has changed.
func (b *Settings) Remodel(id string) error {
	_, m, err := b.Of(id)
	if err != nil {
		return err
	}
	_, err = b.revise(id, m, "", func(*State, time.Time) []string { return nil })
	return err
}

// revise changes a copy of the state, gives it a new revision if the document
// for the device came out different, and stores it.
func (b *Settings) revise(id string, m *model.Model, by string, f func(*State, time.Time) []string) (State, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := *b.states[id]
	at := b.now()
	words := f(&s, at)
	intended := layering.Settings{}
	for name, v := range layering.Merge(m.Defaults(false), s.Override).Settings {
		if p, ok := m.Property(name); ok && p.Role == model.Setting && !p.KeptByService {
			intended[name] = v
		}
	}
	same := intended.Equal(s.Intended)
	if same && len(words) == 0 {
		return s, nil
	}
	if !same {
		b.next(&s)
		s.Intended, s.IntendedAt, s.DriftSince = intended, at, time.Time{}
		words = append(words, fmt.Sprintf("revision %d", s.Revision))
	}
	text := strings.Join(words, ", ")
	if by != "" {
		text = by + " " + text
	}
	if err := b.records.SaveSettings(s, journal.New(at, journal.SettingChanged, id, by, text)); err != nil {
		return State{}, err
	}
	b.states[id] = &s
	if !same {
		if c := b.changed[id]; c != nil {
			close(c)
			delete(b.changed, id)
		}
	}
	b.bus.Publish(event.Settings{Device: id})
	return s, nil
}

// Document is what is sent to a device: always the whole.
type Document struct {
	Revision int64             `json:"revision"`
	Intended layering.Settings `json:"intended"`
}

// Document returns the intended document of a device.
func (b *Settings) Document(id string) (Document, error) {
	s, _, err := b.Of(id)
	return Document{s.Revision, s.Intended}, err
}

// Changed returns a channel that is closed when the device's revision is no
// longer rev; it is closed already if it is not now.
func (b *Settings) Changed(id string, rev int64) <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s := b.states[id]; s == nil || s.Revision != rev {
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

// Apply records what a device says it has applied. Members that the model does
// not know are returned as findings; the rest is kept.
func (b *Settings) Apply(id string, body []byte) (kept int, wrong []model.Finding, err error) {
	_, m, err := b.Of(id)
	if err != nil {
		return 0, nil, err
	}
	var r report
	if err := json.Unmarshal(body, &r); err != nil || r.Revision == nil || r.Applied == nil && r.Refused == nil {
		return 0, nil, fault.New(fault.Invalid, "this is no report of applied settings").
			Then(`write it like {"revision":12,"applied":{"report_every":10},"refused":{}}`)
	}
	applied := layering.Settings{}
	for name, x := range r.Applied {
		p, ok := m.Property(name)
		if !ok || p.Role != model.Setting {
			wrong = append(wrong, model.Finding{Pointer: "/applied/" + name, Sentence: fmt.Sprintf("%s has no setting %s", m, name)})
			continue
		}
		v, err := p.Check(x)
		if err != nil {
			wrong = append(wrong, model.Finding{Pointer: "/applied/" + name, Sentence: fmt.Sprintf("%s %s", name, err)})
			continue
		}
		applied[name] = v
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	s := *b.states[id]
	at := b.now()
	if !s.Made(*r.Revision) {
		return 0, nil, fault.New(fault.Conflict, "revision %d was never sent to %s; the newest is %d", *r.Revision, id, s.Revision).
			Then("ask for the intended settings, apply them, and report that revision")
	}
	if s.AppliedRevision == *r.Revision && s.Applied.Equal(applied) && maps.Equal(s.Refused, r.Refused) && !s.AppliedAt.IsZero() {
		return len(applied), wrong, nil
	}
	s.AppliedRevision, s.Applied, s.AppliedAt = *r.Revision, applied, at
	s.Refused = map[string]string{}
	for name, reason := range r.Refused {
		s.Refused[name] = clip(reason)
	}
	var entries []journal.Entry
	if drift := s.Drift(); len(drift) == 0 {
		s.DriftSince = time.Time{}
		if s.Confirmed() {
			entries = append(entries, journal.New(at, journal.SettingApplied, id, "", fmt.Sprintf("it applied revision %d", s.Revision)))
		}
	} else {
		if s.DriftSince.IsZero() {
			s.DriftSince = at
		}
		var words []string
		for _, d := range drift {
			w := fmt.Sprintf("%s stayed %s instead of %s", d.Name, d.Applied, d.Intended)
			if d.Reason != "" {
				w += ": " + d.Reason
			}
			words = append(words, w)
		}
		entries = append(entries, journal.New(at, journal.SettingRefused, id, "", fmt.Sprintf("revision %d: %s", s.Revision, strings.Join(words, "; "))))
	}
	if err := b.records.SaveSettings(s, entries...); err != nil {
		return 0, nil, err
	}
	b.states[id] = &s
	b.bus.Publish(event.Settings{Device: id})
	return len(applied), wrong, nil
}

// Drift lists where the device is not as intended although it has confirmed
// the revision.
func (s *State) Drift() []layering.Difference {
	if !s.Confirmed() {
		return nil
	}
	return layering.Drift(s.Intended, s.Applied, s.Refused)
}

// Effective returns what a rule means by set.NAME: one kept by the service as intended,
// another as applied, and as intended before the first confirmation.
func (b *Settings) Effective(id string, m *model.Model, name string) value.Value {
	b.mu.RLock()
	s := b.states[id]
	b.mu.RUnlock()
	p, ok := m.Property(name)
	if !ok || p.Role != model.Setting {
		return value.Value{}
	}
	if s == nil {
		return p.Default
	}
	if p.KeptByService {
		return s.KeptByService(m)[name]
	}
	if v, ok := s.Applied[name]; ok && s.AppliedRevision > 0 {
		return v
	}
	return s.Intended[name]
}

// Intended returns the intended value of a setting, kept by the service or sent.
func (s *State) IntendedOf(m *model.Model, name string) value.Value {
	if p, ok := m.Property(name); ok && p.KeptByService {
		return s.KeptByService(m)[name]
	}
	return s.Intended[name]
}

// KeptByService returns the settings that live in the service only.
func (s *State) KeptByService(m *model.Model) layering.Settings {
	out := layering.Settings(m.Defaults(true))
	for name, v := range s.Override {
		if p, ok := m.Property(name); ok && p.KeptByService {
			out[name] = v
		}
	}
	return out
}

func clip(s string) string {
	if r := []rune(s); len(r) > 200 {
		return string(r[:200]) + "…"
	}
	return s
}
