// Package models keeps the device types that the service knows.
package models

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/model"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/journal"
)

// Record is a model as it is stored.
type Record struct {
	Name     string
	Version  string
	Source   []byte
	LoadedAt time.Time
}

// Records stores models.
type Records interface {
	SaveModel(Record, journal.Entry) error
	Models() ([]Record, error)
}

// Catalogue holds the newest loaded version of every model.
type Catalogue struct {
	records Records
	bus     *event.Bus
	now     func() time.Time

	mu     sync.RWMutex
	models map[string]*model.Model
	loaded map[string]time.Time
}

// Open reads every stored model.
func Open(r Records, bus *event.Bus, now func() time.Time) (*Catalogue, error) {
	c := &Catalogue{records: r, bus: bus, now: now, models: map[string]*model.Model{}, loaded: map[string]time.Time{}}
	stored, err := r.Models()
	if err != nil {
		return nil, err
	}
	for _, s := range stored {
		m, err := model.Parse(s.Source)
		if err != nil {
			return nil, fmt.Errorf("the stored model %s cannot be read: %w", s.Name, err)
		}
		c.models[m.Name], c.loaded[m.Name] = m, s.LoadedAt
	}
	return c, nil
}

// Load reads a Thing Model and puts it in force, replacing the version that
// was there. It reports whether anything changed.
func (c *Catalogue) Load(src []byte, by string) (*model.Model, bool, error) {
	m, err := model.Parse(src)
	if err != nil {
		return nil, false, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	old := c.models[m.Name]
	if old != nil && model.SameContent(old.Source, m.Source) {
		return old, false, nil
	}
	if old != nil {
		if err := mayReplace(old, m); err != nil {
			return nil, false, err
		}
	}
	at := c.now()
	verb := "loaded"
	if old != nil {
		verb = "replaced " + old.Version + " of"
	}
	text := fmt.Sprintf("%s %s model %s", by, verb, m)
	if err := c.records.SaveModel(Record{m.Name, m.Version, m.Source, at}, journal.New(at, journal.ModelLoaded, "", by, text)); err != nil {
		return nil, false, err
	}
	c.models[m.Name], c.loaded[m.Name] = m, at
	c.bus.Publish(event.Models{Name: m.Name})
	return m, true, nil
}

// mayReplace refuses what would pull the ground from under devices in the
// field: another content under a version that is published already, and a
// breaking change without a new major number.
func mayReplace(old, m *model.Model) error {
	c := model.Compare(old, m)
	if m.Version == old.Version {
		return fault.New(fault.Conflict, "%s is published already and says something else", old).Then("give this file version %s", c.Needs)
	}
	if c.Weight == model.Breaking && !c.Enough {
		e := fault.New(fault.Conflict, "%s breaks what is in the field: %s", m, c.Changes[0].Sentence).Then("give it version %s, or take that change back", c.Needs)
		for _, x := range c.Changes {
			if x.Weight == model.Breaking {
				e.Findings = append(e.Findings, model.Finding{Pointer: x.Pointer, Sentence: x.Sentence})
			}
		}
		return e
	}
	return nil
}

// Get returns the model of that name.
func (c *Catalogue) Get(name string) (*model.Model, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if m := c.models[name]; m != nil {
		return m, nil
	}
	next := "load one with: ullage model load FILE"
	if len(c.models) > 0 {
		names := make([]string, 0, len(c.models))
		for n := range c.models {
			names = append(names, n)
		}
		slices.Sort(names)
		next = "there is " + strings.Join(names, ", ")
	}
	return nil, fault.New(fault.NotFound, "there is no model %q", name).Then("%s", next)
}

// LoadedAt returns when a model was put in force.
func (c *Catalogue) LoadedAt(name string) time.Time {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.loaded[name]
}

// List returns every model by name.
func (c *Catalogue) List() []*model.Model {
	c.mu.RLock()
	defer c.mu.RUnlock()
	out := make([]*model.Model, 0, len(c.models))
	for _, m := range c.models {
		out = append(out, m)
	}
	slices.SortFunc(out, func(a, b *model.Model) int { return strings.Compare(a.Name, b.Name) })
	return out
}
