// Package models keeps the device types that the service knows.
package models

import (
	"context"
	"encoding/json"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/model"
	"ullage/fleet/commit"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// Record is one version of a model as it is stored.
type Record struct {
	Name    string
	Version string
	Source  []byte
	// Parts are the files that Source refers to, by name, as they were then.
	Parts    map[string]json.RawMessage
	LoadedAt time.Time
}

// Records reads what is stored. What is published is put into commits as Record.
type Records interface {
	Models(context.Context) ([]Record, error)
	// SetAside notes that a stored record cannot be used, and why.
	SetAside(noun, name string, why error)
}

// Options are what a Catalogue is made of.
type Options struct {
	Records Records
	Commits *commit.Writer
	Bus     *event.Bus
	Now     func() time.Time
}

// Catalogue holds every published version of every model.
type Catalogue struct {
	commits *commit.Writer
	bus     *event.Bus
	now     func() time.Time

	// publishing is held by whoever publishes, until it is on disk. Nobody else
	// waits for it.
	publishing sync.Mutex

	mu     sync.RWMutex
	models map[string][]Published // oldest version first
}

// Published is one version of a model as it stands in the catalogue.
type Published struct {
	*model.Model
	Parts    map[string]json.RawMessage
	LoadedAt time.Time
}

// Open reads every stored model.
func Open(ctx context.Context, o Options) (*Catalogue, error) {
	c := &Catalogue{commits: o.Commits, bus: o.Bus, now: o.Now, models: map[string][]Published{}}
	stored, err := o.Records.Models(ctx)
	if err != nil {
		return nil, err
	}
	// A model may extend another, which is then there in a version published
	// before it.
	slices.SortFunc(stored, func(a, b Record) int { return a.LoadedAt.Compare(b.LoadedAt) })
	for len(stored) > 0 {
		var later []Record
		for _, s := range stored {
			m, err := model.Read(s.Source, c.finder(s.Parts))
			if err != nil {
				later = append(later, s)
				continue
			}
			c.put(Published{m, s.Parts, s.LoadedAt})
		}
		if len(later) == len(stored) { // none of them fits any more
			for _, s := range later {
				_, err := model.Read(s.Source, c.finder(s.Parts))
				o.Records.SetAside("model", s.Name+"@"+s.Version, err)
			}
			break
		}
		stored = later
	}
	return c, nil
}

func (c *Catalogue) put(p Published) {
	all := slices.DeleteFunc(slices.Clone(c.models[p.Name]), func(o Published) bool { return o.Version == p.Version })
	all = append(all, p)
	slices.SortFunc(all, func(a, b Published) int { return model.CompareVersions(a.Version, b.Version) })
	c.models[p.Name] = all
}

// finder leads to the parts that came with a model, then to models that are
// published: probe-base.tm.json is probe-base, probe-base@1.0.0 that version.
func (c *Catalogue) finder(parts map[string]json.RawMessage) model.Finder {
	return func(href, _ string) ([]byte, string, bool) {
		name := path.Base(href)
		if src, ok := parts[name]; ok {
			return src, name, true
		}
		for _, end := range []string{".tm.json", ".tm.jsonld", ".tm.yaml", ".tm.yml", ".jsonld", ".json"} {
			if short, cut := strings.CutSuffix(name, end); cut {
				name = short
				break
			}
		}
		name, version, _ := strings.Cut(name, "@")
		if m := c.find(name, version); m != nil {
			return m.Whole, name, true
		}
		return nil, "", false
	}
}

// find returns a version of a model, the newest where version is empty; nil
// where there is none. The catalogue is locked.
func (c *Catalogue) find(name, version string) *model.Model {
	all := c.models[name]
	for i := len(all) - 1; i >= 0; i-- {
		if version == "" || all[i].Version == version {
			return all[i].Model
		}
	}
	return nil
}

// Read reads a model that is not published, with the parts it refers to.
func (c *Catalogue) Read(src []byte, parts map[string]json.RawMessage) (*model.Model, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return model.Read(src, c.finder(c.kept(src, parts)))
}

// kept returns the parts of the version before, where a model comes without
// any: whoever edits it has only its own text.
func (c *Catalogue) kept(src []byte, parts map[string]json.RawMessage) map[string]json.RawMessage {
	if len(parts) > 0 {
		return parts
	}
	var x struct {
		Name string `json:"ullage:name"`
	}
	if json.Unmarshal(src, &x) != nil {
		return nil
	}
	if all := c.models[x.Name]; len(all) > 0 {
		return all[len(all)-1].Parts
	}
	return nil
}

// Publish publishes a Thing Model, whose parts may come with it. It reports
// whether anything changed. Devices stay with the version they were given.
func (c *Catalogue) Publish(ctx context.Context, src []byte, parts map[string]json.RawMessage,
	by string) (*model.Model, bool, error) {
	c.publishing.Lock()
	defer c.publishing.Unlock()
	c.mu.RLock()
	parts = c.kept(src, parts)
	m, err := model.Read(src, c.finder(parts))
	var state State
	if err == nil {
		state, err = c.judge(m)
	}
	var same *model.Model
	if err == nil && state == Same {
		same = c.find(m.Name, m.Version)
	}
	c.mu.RUnlock()
	if err != nil || same != nil {
		return same, false, err
	}
	if !m.Composed {
		parts = nil // it stands alone
	}
	if err := c.commits.Do(ctx, func(tx *commit.Tx) error {
		c.stage(tx, m, parts, state, by, c.now())
		return nil
	}); err != nil {
		return nil, false, err
	}
	return m, true, nil
}

// stage makes a version of a model part of a commit.
func (c *Catalogue) stage(tx *commit.Tx, m *model.Model, parts map[string]json.RawMessage, s State, by string,
	at time.Time) {
	told := fact.Published{Model: m.Name, Version: m.Version}
	if s == Newer {
		if before, err := c.Of(m.Name, ""); err == nil {
			told.After = before.Version
		}
	}
	tx.Put(Record{m.Name, m.Version, m.Source, parts, at})
	tx.Tell(fact.New(at, told).By(by))
	tx.After(func() {
		c.mu.Lock()
		c.put(Published{m, parts, at})
		c.mu.Unlock()
		c.bus.Publish(event.Models{Name: m.Name})
	})
}

// State is what a file is to the catalogue.
type State string

// The states of a file.
const (
	New   State = "new"     // nothing of that name is published
	Newer State = "version" // another version is
	Same  State = "same"    // it is published as it stands
)

// judge says what a model is to the catalogue and refuses what would pull the
// ground from under devices in the field: another content under a version that
// is published already, and a breaking change without a new major number.
func (c *Catalogue) judge(m *model.Model) (State, error) {
	all := c.models[m.Name]
	if len(all) == 0 {
		return New, nil
	}
	var before *model.Model // the version that this one follows
	for _, p := range all {
		if p.Version == m.Version {
			if model.SameContent(p.Whole, m.Whole) {
				return Same, nil
			}
			needs := model.Compare(c.find(m.Name, ""), m).Needs
			return "", fault.New(fault.Conflict, "%s is published already and says something else", m).
				Then("give this file version %s", needs)
		}
		if model.CompareVersions(p.Version, m.Version) < 0 {
			before = p.Model
		}
	}
	if before == nil {
		return Newer, nil
	}
	d := model.Compare(before, m)
	if d.Weight == model.Breaking && !d.Enough {
		e := fault.New(fault.Conflict, "%s breaks what is in the field: %s", m, d.Changes[0].Sentence).
			Then("give it version %s, or take that change back", d.Needs)
		for _, x := range d.Changes {
			if x.Weight == model.Breaking {
				e.Findings = append(e.Findings, model.Finding{Pointer: x.Pointer, Sentence: x.Sentence})
			}
		}
		return "", e
	}
	return Newer, nil
}

// Judge says what a model is to the catalogue, as Publish would.
func (c *Catalogue) Judge(m *model.Model) (State, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.judge(m)
}

// Get returns the newest version of a model, or the one that is named with it:
// tank-probe, or tank-probe@1.2.0.
func (c *Catalogue) Get(name string) (*model.Model, error) {
	short, version, _ := strings.Cut(name, "@")
	return c.Of(short, version)
}

// Of returns one version of a model, the newest where version is empty.
func (c *Catalogue) Of(name, version string) (*model.Model, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if m := c.find(name, version); m != nil {
		return m, nil
	}
	if all := c.models[name]; len(all) > 0 {
		var versions []string
		for _, p := range all {
			versions = append(versions, p.Version)
		}
		return nil, fault.New(fault.NotFound, "there is no version %s of model %s", version, name).
			Then("there is %s", strings.Join(versions, ", "))
	}
	next := "publish one first"
	if len(c.models) > 0 {
		next = "there is " + strings.Join(slices.Sorted(maps.Keys(c.models)), ", ")
	}
	return nil, fault.New(fault.NotFound, "there is no model %q", name).Then("%s", next).On("model")
}

// Versions returns every version of a model, the oldest first.
func (c *Catalogue) Versions(name string) []Published {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return slices.Clone(c.models[name])
}

// List returns the newest version of every model by name.
func (c *Catalogue) List() []*model.Model {
	c.mu.RLock()
	defer c.mu.RUnlock()
	out := make([]*model.Model, 0, len(c.models))
	for _, name := range slices.Sorted(maps.Keys(c.models)) {
		out = append(out, c.find(name, ""))
	}
	return out
}
