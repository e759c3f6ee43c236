package ahead_test

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"ullage/core/health"
	"ullage/fleet/ahead"
	"ullage/fleet/event"
)

// forecasts answer for some devices.
type forecasts struct {
	of    map[string]map[string]health.ToLimit
	asked []string
}

func (f *forecasts) LimitsAhead(_ context.Context, device string) (map[string]health.ToLimit, error) {
	f.asked = append(f.asked, device)
	if device == "broken" {
		return nil, errors.New("it cannot be read")
	}
	return f.of[device], nil
}

// TestOrder works out those with the least headspace first, each once in a while,
// and tells also that nothing leads to a limit any more.
func TestOrder(t *testing.T) {
	now := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	soon := map[string]health.ToLimit{"warm": {Likely: now.Add(time.Hour)}}
	f := &forecasts{of: map[string]map[string]health.ToLimit{"near": soon, "far": soon}}
	bus := event.NewBus()
	var mu sync.Mutex // events of different devices come at once
	var heard []event.Ahead
	bus.Handle(func(_ int, e event.Event) {
		if a, ok := e.(event.Ahead); ok {
			mu.Lock()
			defer mu.Unlock()
			heard = append(heard, a)
		}
	})
	bus.Start()
	w := ahead.New(ahead.Options{Forecasts: f, Bus: bus, Log: slog.New(slog.DiscardHandler), Now: func() time.Time { return now }})
	margins := func(device string, headspace float64, approaching bool) {
		w.Handle(0, event.Margins{Device: device, Margins: []health.Margin{{Rule: "warm", Headspace: headspace, Known: true,
			Approaching: approaching}}})
	}
	all := func() []string {
		f.asked = nil
		for w.Next(t.Context()) {
		}
		return f.asked
	}
	margins("far", 0.7, true)
	margins("near", 0.1, true)
	margins("broken", 0.5, true)
	margins("level", 0.05, false)
	if got, want := all(), []string{"near", "broken", "far"}; !slices.Equal(got, want) {
		t.Errorf("worked out were %v, want %v", got, want)
	}
	margins("near", 0.1, true)
	if got := all(); len(got) != 0 {
		t.Errorf("at once again %v were worked out, want none", got)
	}
	// Where a trend leads to a limit and the forecast does not, it is asked again soon:
	// the history may have been filled in meanwhile.
	now = now.Add(30 * time.Second)
	margins("near", 0.1, true)
	margins("broken", 0.5, true)
	if got, want := all(), []string{"broken"}; !slices.Equal(got, want) {
		t.Errorf("soon after %v were worked out, want %v", got, want)
	}
	now = now.Add(6 * time.Minute)
	delete(f.of, "near")
	margins("near", 0.1, false) // it leads nowhere any more, but that has not been told
	if got, want := all(), []string{"near"}; !slices.Equal(got, want) {
		t.Errorf("later %v were worked out, want %v", got, want)
	}
	now = now.Add(6 * time.Minute)
	margins("near", 0.1, false)
	if got := all(); len(got) != 0 {
		t.Errorf("after it was told %v were worked out, want none", got)
	}
	bus.Stop()
	var said []string
	for _, a := range heard {
		said = append(said, a.Device)
	}
	slices.Sort(said)
	if want := []string{"far", "near", "near"}; !slices.Equal(said, want) {
		t.Errorf("told were %v, want %v", said, want)
	}
}
