// Package derived computes telemetry that a model derives from other telemetry:
// of every message as it comes in, and of the past on request.
package derived

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/ingest"
	"ullage/fleet/models"
	"ullage/fleet/present"
)

// History gives what was stored.
type History interface {
	// Last returns the newest reading at or before a moment.
	Last(ctx context.Context, device, metric string, at time.Time) (value.Reading, bool, error)
	// Readings calls yield for each reading in [from, to), the oldest first.
	Readings(ctx context.Context, device, metric string, from, to time.Time, yield func(series.Point) error) error
}

// Store keeps what was computed.
type Store interface {
	Append(ingest.Append) error
}

// Derivations computes derived telemetry.
type Derivations struct {
	devices *devices.Registry
	models  *models.Catalogue
	present *present.Fleet
	history History
	store   Store
	bus     *event.Bus
	now     func() time.Time
	log     *slog.Logger

	mu     sync.Mutex
	plans  map[*model.Model]*check.Derivation // nil for a model without any
	shards [event.Shards]shard

	jobs jobs
}

// shard holds the newest inputs of devices whose model derives something.
type shard struct {
	mu   sync.Mutex
	last map[string]*inputs
}

// inputs are the newest readings of a device that something is computed from;
// one without a time says that there is none. They are few, so that a search
// costs less than a map.
type inputs []value.Reading

func (in *inputs) find(metric string) *value.Reading {
	for i := range *in {
		if (*in)[i].Metric == metric {
			return &(*in)[i]
		}
	}
	return nil
}

// Options are what Derivations are made of.
type Options struct {
	Devices *devices.Registry
	Models  *models.Catalogue
	Present *present.Fleet
	History History
	Store   Store
	Bus     *event.Bus
	Log     *slog.Logger
	Now     func() time.Time
}

// New returns Derivations.
func New(o Options) *Derivations {
	w := &Derivations{devices: o.Devices, models: o.Models, present: o.Present, history: o.History, store: o.Store,
		bus: o.Bus, now: o.Now, log: o.Log, plans: map[*model.Model]*check.Derivation{}}
	for i := range w.shards {
		w.shards[i].last = map[string]*inputs{}
	}
	w.jobs.all = map[string]*Job{}
	return w
}

// plan returns what a model derives, nil for nothing.
func (w *Derivations) plan(m *model.Model) *check.Derivation {
	w.mu.Lock()
	defer w.mu.Unlock()
	p, known := w.plans[m]
	if !known {
		var wrong []check.DerivedFinding
		p, wrong = check.Derive(m)
		for _, f := range wrong {
			if !f.Finding.Warning {
				w.log.Error("derived telemetry cannot be computed", "model", m.String(), "metric", f.Property, "error",
					f.Finding.Sentence)
			}
		}
		w.plans[m] = p
	}
	return p
}

// Derive implements ingest.Deriver. Messages of one device come one at a time.
func (w *Derivations) Derive(device string, m *model.Model, readings []value.Reading) []value.Reading {
	p := w.plan(m)
	if p == nil {
		return nil
	}
	s := &w.shards[event.ShardOf(device)]
	s.mu.Lock()
	defer s.mu.Unlock()
	last := s.last[device]
	if last == nil {
		last = &inputs{}
		s.last[device] = last
	}
	out := p.Compute(readings, func(metric string, at time.Time) (value.Reading, bool) {
		known := last.find(metric)
		if known == nil { // not since the start, or not since the model derives something from it
			r := value.Reading{Metric: metric}
			if d, ok := w.present.Get(device); ok {
				r.At, r.Value = d.Latest[metric].At, d.Latest[metric].Value
			}
			*last = append(*last, r)
			known = last.find(metric)
		}
		if !known.At.After(at) {
			return *known, !known.At.IsZero()
		}
		// A late message: what counted then is in the store.
		r, ok, err := w.history.Last(context.Background(), device, metric, at)
		if err != nil {
			w.log.Error("the reading before a late one is not readable", "device", device, "metric", metric, "error",
				err)
		}
		return r, ok
	}, w.facts(device))
	for _, all := range [][]value.Reading{readings, out} {
		for _, r := range all {
			switch known := last.find(r.Metric); {
			case known == nil && p.Uses(r.Metric):
				*last = append(*last, r)
			case known != nil && !r.At.Before(known.At):
				*known = r
			}
		}
	}
	return out
}

func (w *Derivations) facts(device string) func(expr.Name) value.Value {
	get, _, ok := w.present.Lookup(device)
	if !ok {
		return func(expr.Name) value.Value { return value.Value{} }
	}
	return get
}

// Forget drops what is remembered of a device whose model has changed.
func (w *Derivations) Forget(device string) {
	s := &w.shards[event.ShardOf(device)]
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.last, device)
}
