// Package asof answers what was so at a past moment: links, alarms, settings,
// labels, versions and status by their validity, readings by their time.
package asof

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/models"
)

// Records holds validity.
type Records interface {
	// AsOf returns what had a value at a time, of a subject, or of all where it is
	// empty.
	AsOf(ctx context.Context, subject string, when time.Time) ([]commit.Validity, error)
}

// History holds readings.
type History interface {
	// Last returns the newest reading at or before a moment.
	Last(ctx context.Context, device, metric string, at time.Time) (value.Reading, bool, error)
}

// Options are what an AsOf is made of.
type Options struct {
	Records Records
	History History
	Devices *devices.Registry
	Models  *models.Catalogue
	Now     func() time.Time
}

// AsOf answers. Make one with New.
type AsOf struct{ o Options }

// New returns an AsOf.
func New(o Options) *AsOf { return &AsOf{o} }

// Alarm is one that was open.
type Alarm struct {
	ID, Rule, State string
	Since           time.Time // when it came into that state
}

// Held is a value and since when it was so.
type Held struct {
	Value string
	Since time.Time
}

// Device is one device, or one group, at a past moment.
type Device struct {
	ID       string
	Status   Held
	Model    string
	Version  Held
	Firmware Held // empty where none was told
	Link     Held // empty before it was heard for the first time
	Labels   map[string]Held
	Settings map[string]Setting
	Alarms   []Alarm
	Latest   map[string]value.Reading // only where one device is asked about, or metrics are named
	// Later says that it was onboarded after that moment and has readings of then all the
	// same, which were imported; its labels and model are those of now.
	Later bool
}

// Setting is what rules saw of a setting.
type Setting struct {
	Value value.Value
	Since time.Time
}

// Unknown is the error about a device that did not exist.
func Unknown(id string) error {
	return fault.New(fault.NotFound, "there was no device %q then", id).On("device")
}

// Now is the time up to which one may ask.
func (a *AsOf) Now() time.Time { return a.o.Now() }

// Device returns a device, or a group such as site=Kilnside, as of a time.
func (a *AsOf) Device(ctx context.Context, id string, when time.Time) (Device, error) {
	if err := a.check(when); err != nil {
		return Device{}, err
	}
	rows, err := a.o.Records.AsOf(ctx, id, when)
	if err != nil {
		return Device{}, err
	}
	all := gather(rows)
	d, ok := all[id]
	if !ok {
		if dev, err := a.o.Devices.Get(id); err == nil {
			return Device{}, fault.New(fault.NotFound, "%s was onboarded at %s, after that moment", id,
				dev.JoinedAt.UTC().Format(time.RFC3339))
		}
		return Device{}, Unknown(id)
	}
	if m, err := a.o.Models.Of(d.Model, d.Version.Value); err == nil {
		d.Latest = map[string]value.Reading{}
		for i := range m.Properties {
			r, found, err := a.o.History.Last(ctx, id, m.Properties[i].Name, when)
			if err != nil {
				return Device{}, err
			}
			if found {
				d.Latest[r.Metric] = r
			}
		}
	}
	return *d, nil
}

// Fleet returns every device, and every group with an open alarm, that passes, as of a
// time, by id; nil passes all. Of readings it has those of some metrics.
func (a *AsOf) Fleet(ctx context.Context, when time.Time, metrics []string, pass func(id string) bool) ([]Device, error) {
	if err := a.check(when); err != nil {
		return nil, err
	}
	rows, err := a.o.Records.AsOf(ctx, "", when)
	if err != nil {
		return nil, err
	}
	out := []Device{}
	held := gather(rows)
	for _, d := range held {
		if pass == nil || pass(d.ID) {
			out = append(out, *d)
		}
	}
	if len(metrics) > 0 {
		for _, d := range a.o.Devices.List() {
			if was := held[d.ID]; was != nil && was.Model != "" || d.Status == devices.Retired || pass != nil && !pass(d.ID) {
				continue
			}
			x := Device{ID: d.ID, Model: d.Model, Version: Held{Value: d.Version}, Labels: map[string]Held{}, Settings: map[string]Setting{}, Alarms: []Alarm{}, Later: true}
			if was := held[d.ID]; was != nil { // of imported readings an alarm may be known
				x.Alarms = was.Alarms
				out = slices.DeleteFunc(out, func(o Device) bool { return o.ID == d.ID })
			}
			for k, v := range d.Labels {
				x.Labels[k] = Held{Value: v}
			}
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(x, y Device) int { return strings.Compare(x.ID, y.ID) })
	if len(metrics) == 0 {
		return out, nil
	}
	var each sync.WaitGroup
	workers := runtime.GOMAXPROCS(0)
	failed := make([]error, workers)
	for w := range workers {
		each.Go(func() {
			for i := w; i < len(out) && failed[w] == nil && ctx.Err() == nil; i += workers {
				failed[w] = a.latest(ctx, &out[i], metrics, when)
			}
		})
	}
	each.Wait()
	out = slices.DeleteFunc(out, func(d Device) bool { return d.Later && len(d.Latest) == 0 })
	return out, errors.Join(append(failed, ctx.Err())...)
}

// latest fills in the newest readings of some metrics of a device at a time.
func (a *AsOf) latest(ctx context.Context, d *Device, metrics []string, when time.Time) error {
	m, err := a.o.Models.Of(d.Model, d.Version.Value)
	if err != nil {
		return nil // a group, or a model that is gone
	}
	for _, name := range metrics {
		if _, ok := m.Property(name); !ok {
			continue
		}
		r, found, err := a.o.History.Last(ctx, d.ID, name, when)
		if err != nil {
			return err
		}
		if found {
			if d.Latest == nil {
				d.Latest = map[string]value.Reading{}
			}
			d.Latest[name] = r
		}
	}
	return nil
}

func (a *AsOf) check(when time.Time) error {
	if ms := when.UnixMilli(); ms < 0 || ms > math.MaxInt64/2 {
		return fault.New(fault.Invalid, "%s is no time that can be asked about", when.Format(time.RFC3339))
	}
	if when.After(a.o.Now()) {
		return fault.New(fault.Invalid, "%s is in the future; what was so is asked about, not what will be",
			when.UTC().Format(time.RFC3339))
	}
	return nil
}

func gather(rows []commit.Validity) map[string]*Device {
	all := map[string]*Device{}
	for _, v := range rows {
		if v.Kind == commit.Maintenance {
			continue // of no device
		}
		d := all[v.Subject]
		if d == nil {
			d = &Device{ID: v.Subject, Labels: map[string]Held{}, Settings: map[string]Setting{}, Alarms: []Alarm{}}
			all[v.Subject] = d
		}
		held := Held{v.Value, v.From}
		switch v.Kind {
		case commit.Status:
			d.Status = held
		case commit.Version:
			model, version, _ := strings.Cut(v.Value, " ")
			d.Model, d.Version = model, Held{version, v.From}
		case commit.Firmware:
			d.Firmware = held
		case commit.Link:
			d.Link = held
		case commit.Label:
			d.Labels[v.Key] = held
		case commit.Setting:
			var x value.Value
			if json.Unmarshal([]byte(v.Value), &x) == nil {
				d.Settings[v.Key] = Setting{x, v.From}
			}
		case commit.Alarm:
			if i := strings.LastIndexByte(v.Value, ' '); i > 0 {
				d.Alarms = append(d.Alarms, Alarm{ID: v.Value[i+1:], Rule: v.Key, State: v.Value[:i], Since: v.From})
			}
		}
	}
	return all
}
