// Package ahead works out when devices get to the limits of their rules, for
// those that a trend leads there, and tells it to what is present.
package ahead

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"ullage/core/health"
	"ullage/fleet/event"
)

// Forecasts tell when a device gets to the limits of its rules.
type Forecasts interface {
	LimitsAhead(ctx context.Context, device string) (map[string]health.ToLimit, error)
}

// Options are what a Watcher is made of.
type Options struct {
	Forecasts Forecasts
	Bus       *event.Bus
	Log       *slog.Logger
	Now       func() time.Time
}

const (
	// each is how long what was worked out for a device stands.
	each = 5 * time.Minute
	// Every is how often one device is worked out: a forecast takes some hundredths
	// of a second of a core, and what devices send comes first.
	Every = time.Second
	// most is how many devices wait at most.
	most = 20_000
)

// Watcher works forecasts out, those with the least headspace first.
type Watcher struct {
	o  Options
	mu sync.Mutex
	// wanted are devices that something leads to a limit, with their headspace;
	// told when each was worked out last, and whether it then led to a limit.
	wanted map[string]float64
	told   map[string]told
}

type told struct {
	at    time.Time
	leads bool
}

// New returns a Watcher.
func New(o Options) *Watcher {
	return &Watcher{o: o, wanted: map[string]float64{}, told: map[string]told{}}
}

// Handle hears which devices near a limit.
func (w *Watcher) Handle(_ int, ev event.Event) {
	e, ok := ev.(event.Margins)
	if !ok {
		return
	}
	least, near := 1.0, false
	for _, m := range e.Margins {
		if m.Approaching {
			near = true
		}
		if m.Known {
			least = min(least, m.Headspace)
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if near || w.told[e.Device].leads {
		if _, waits := w.wanted[e.Device]; waits || len(w.wanted) < most {
			w.wanted[e.Device] = least
		}
		return
	}
	delete(w.wanted, e.Device)
}

// Run works forecasts out until ctx ends.
func (w *Watcher) Run(ctx context.Context) {
	t := time.NewTicker(Every)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			w.Next(ctx)
		}
	}
}

// Next works out the device that most needs it, and reports whether one did.
func (w *Watcher) Next(ctx context.Context) bool {
	device := w.pick()
	if device == "" {
		return false
	}
	limits, err := w.o.Forecasts.LimitsAhead(ctx, device)
	if err != nil {
		if ctx.Err() == nil {
			w.o.Log.Error("it was not worked out when a limit is reached", "device", device, "error", err)
		}
		limits = nil
	}
	w.mu.Lock()
	led := w.told[device].leads
	w.told[device] = told{w.o.Now(), len(limits) > 0}
	if len(w.told) > 2*most { // devices come and go
		clear(w.told)
	}
	w.mu.Unlock()
	if len(limits) > 0 || led {
		w.o.Bus.Publish(event.Ahead{Device: device, Limits: limits})
	}
	return true
}

// pick returns the device to work out next, or "".
func (w *Watcher) pick() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := w.o.Now()
	var due []string
	for id := range w.wanted {
		if now.Sub(w.told[id].at) >= each {
			due = append(due, id)
		}
	}
	if len(due) == 0 {
		return ""
	}
	id := slices.MinFunc(due, func(a, b string) int {
		switch x, y := w.wanted[a], w.wanted[b]; {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	})
	delete(w.wanted, id) // its next reading wants it again
	return id
}
