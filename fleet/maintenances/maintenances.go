// Package maintenances keeps when devices are out of service, and tells which are now.
package maintenances

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ullage/core/maintenance"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// Records reads what is stored. What changes is put into commits as
// maintenance.Maintenance.
type Records interface {
	Maintenances(context.Context) ([]maintenance.Maintenance, error)
}

// Options are what Maintenances are made of.
type Options struct {
	Records Records
	Commits *commit.Writer
	Devices *devices.Registry
	// Matching returns the ids of the devices for which a selector is true. It is asked
	// from Refresh on.
	Matching func(where string) (map[string]bool, error)
	// MayOperate says whether somebody may operate a device, for what they have made who
	// may not do so for all.
	MayOperate func(person, device string) bool
	// Zone is that of a device.
	Zone func(device string) *time.Location
	Now  func() time.Time
}

// Maintenances holds every maintenance.
type Maintenances struct {
	*noun.Register[maintenance.Maintenance]
	o      Options
	stale  atomic.Bool
	looked time.Time  // by the first shard
	mu     sync.Mutex // held while who is in which is worked out
	asked  time.Time
	state  atomic.Pointer[state]
}

// state is who is in which maintenance.
type state struct {
	spans   []span
	of      map[string][]int // device to spans
	members []int            // of each span, how many
}

type span struct {
	name string
	when maintenance.Span
}

// Open reads every maintenance.
func Open(ctx context.Context, o Options) (*Maintenances, error) {
	stored, err := o.Records.Maintenances(ctx)
	if err != nil {
		return nil, err
	}
	m := &Maintenances{o: o}
	m.state.Store(&state{})
	m.stale.Store(true)
	m.Register = noun.New(noun.Options[maintenance.Maintenance]{Word: "maintenance", Name: func(x maintenance.Maintenance) string { return x.Name },
		Check: func(x maintenance.Maintenance) error {
			if err := x.Check(); err != nil {
				return fault.New(fault.Invalid, "%s", err)
			}
			return nil
		},
		Within: func(tx *commit.Tx, old, next *maintenance.Maintenance) error {
			v := commit.Validity{Kind: commit.Maintenance, From: o.Now()}
			if next == nil {
				v.Subject = old.Name
			} else {
				b, err := json.Marshal(next)
				if err != nil {
					return err
				}
				v.Subject, v.Value = next.Name, string(b)
			}
			tx.Hold(v)
			return nil
		},
		Most: 1000, Stored: stored, Commits: o.Commits, Now: o.Now,
		After: func(_, _ *maintenance.Maintenance) { m.stale.Store(true) }})
	return m, nil
}

// Put makes a maintenance, or changes the one of its name. The selector is checked.
func (m *Maintenances) Put(ctx context.Context, x maintenance.Maintenance, cond noun.If, by string, whole bool) (noun.Saved[maintenance.Maintenance], error) {
	x.Active, x.Count = false, 0
	x.By, x.Whole = by, whole
	if err := x.Check(); err != nil {
		return noun.Saved[maintenance.Maintenance]{}, fault.New(fault.Invalid, "%s", err)
	}
	if _, err := m.o.Matching(x.Devices); err != nil {
		return noun.Saved[maintenance.Maintenance]{}, err
	}
	if x.Span().Over(m.o.Now()) {
		return noun.Saved[maintenance.Maintenance]{}, fault.New(fault.Invalid, "%s is over already: it ends at %s", x.Name, x.To.Format(time.RFC3339)).Then("say an end to come")
	}
	return m.Register.Put(ctx, x, cond, by)
}

// Handle notes what may put other devices into a maintenance.
func (m *Maintenances) Handle(shard int, ev event.Event) {
	switch ev := ev.(type) {
	case event.Tick:
		if shard == 0 && (ev.Now.Sub(m.looked) >= time.Second || ev.Now.Before(m.looked)) {
			m.looked = ev.Now
			m.Refresh()
		}
	case event.Device, event.Attributes, event.Models:
		m.stale.Store(true)
	}
}

// again is how often who is in which is worked out although nothing has changed: a
// selector may ask for what readings say.
const again = time.Minute

// Refresh works out who is in which maintenance, if that may have changed.
func (m *Maintenances) Refresh() {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := m.o.Now()
	if !m.stale.Swap(false) && now.Sub(m.asked) < again && !now.Before(m.asked) {
		return
	}
	m.asked = now
	next := &state{of: map[string][]int{}}
	for _, x := range m.List() {
		when := x.Span()
		if when.Over(now) {
			continue
		}
		among, err := m.o.Matching(x.Devices)
		if err != nil {
			continue // what it asks for is gone, such as a model
		}
		i := len(next.spans)
		next.spans = append(next.spans, span{x.Name, when})
		next.members = append(next.members, 0)
		for id := range among {
			if !x.Whole && !m.o.MayOperate(x.By, id) {
				continue
			}
			next.of[id] = append(next.of[id], i)
			next.members[i]++
		}
	}
	m.state.Store(next)
}

// Out returns the name of the maintenance that a device is under now; empty for none.
func (m *Maintenances) Out(device string) string {
	s := m.state.Load()
	in := s.of[device]
	if len(in) == 0 {
		return ""
	}
	now, zone := m.o.Now(), m.o.Zone(device)
	for _, i := range in {
		if s.spans[i].when.Holds(now, zone) {
			return s.spans[i].name
		}
	}
	return ""
}

// OutGroup is Out for the devices that have a value of a label: all of them are under one.
func (m *Maintenances) OutGroup(label, value string) string {
	s := m.state.Load()
	if len(s.of) == 0 {
		return ""
	}
	ids := m.o.Devices.AtSite(value)
	if label != "site" {
		ids = nil
		for _, d := range m.o.Devices.List() {
			if d.Labels[label] == value {
				ids = append(ids, d.ID)
			}
		}
	}
	name := ""
	for _, id := range ids {
		if d, err := m.o.Devices.Get(id); err != nil || d.Status == devices.Retired {
			continue
		}
		if name = m.Out(id); name == "" {
			return ""
		}
	}
	return name
}

// Of returns the ids of the devices of a maintenance, sorted.
func (m *Maintenances) Of(name string) []string {
	s := m.state.Load()
	i := slices.IndexFunc(s.spans, func(x span) bool { return x.name == name })
	var out []string
	for id, in := range s.of {
		if slices.Contains(in, i) {
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out
}

// Coming is a maintenance that begins soon, or is on.
type Coming struct {
	maintenance.Maintenance
	Begins time.Time // zero if it is on
}

// Coming returns what is on, and what begins within a time, for some devices; all where
// sees is nil. The first are those that begin first.
func (m *Maintenances) Coming(within time.Duration, sees func(device string) bool) []Coming {
	var out []Coming
	now := m.o.Now()
	for _, x := range m.List() {
		c := Coming{Maintenance: x}
		on := false
		seen := map[string]bool{}
		for _, id := range m.Of(x.Name) {
			if sees != nil && !sees(id) {
				continue
			}
			c.Count++
			zone := m.o.Zone(id)
			if seen[zone.String()] {
				continue
			}
			seen[zone.String()] = true
			when := x.Span()
			if when.Holds(now, zone) {
				on = true
			} else if at, ok := when.Next(now, zone, within); ok && (c.Begins.IsZero() || at.Before(c.Begins)) {
				c.Begins = at
			}
		}
		if on {
			c.Begins = time.Time{}
		}
		if c.Active = on; on || !c.Begins.IsZero() {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b Coming) int {
		if d := a.Begins.Compare(b.Begins); d != 0 {
			return d
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out
}

// Shown fills in how many of the devices somebody sees, and whether it is on for any.
func (m *Maintenances) Shown(x maintenance.Maintenance, sees func(device string) bool) maintenance.Maintenance {
	when := x.Span()
	now := m.o.Now()
	x.Active, x.Count = false, 0
	for _, id := range m.Of(x.Name) {
		if sees != nil && !sees(id) {
			continue
		}
		x.Count++
		x.Active = x.Active || when.Holds(now, m.o.Zone(id))
	}
	return x
}
