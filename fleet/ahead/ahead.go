// Package ahead works out when devices get to the limits of their rules, for
// those that a trend leads there, and tells it to what is present.
package ahead

import (
	"cmp"
	"context"
	"log/slog"
	"math"
	"slices"
	"strings"
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
	// again is how long it stands that something leads to no limit while its trend
	// still says that it might: a history may be filled in meanwhile.
	again = 20 * time.Second
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

// overdue returns how many times over it is time for a device again; infinite for
// one that was never worked out.
func (t told) overdue(now time.Time) float64 {
	switch {
	case t.at.IsZero():
		return math.Inf(1)
	case t.leads:
		return now.Sub(t.at).Seconds() / each.Seconds()
	}
	return now.Sub(t.at).Seconds() / again.Seconds()
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
		if w.told[id].overdue(now) >= 1 {
			due = append(due, id)
		}
	}
	if len(due) == 0 {
		return ""
	}
	// Those with the least headspace come first of those that were never worked out;
	// then those that have waited for longest by what they may, so that nobody is
	// left out.
	id := slices.MinFunc(due, func(a, b string) int {
		return cmp.Or(cmp.Compare(w.told[b].overdue(now), w.told[a].overdue(now)), cmp.Compare(w.wanted[a], w.wanted[b]),
			strings.Compare(a, b))
	})
	delete(w.wanted, id) // its next reading wants it again
	return id
}
