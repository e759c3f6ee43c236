package settings_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"ullage/app"
	"ullage/fleet/event"
	"ullage/fleet/settings"
	"ullage/test/rig"
)

// keeps confirms the newest revision, but for max_temp, which stays 35.
func keeps(r *rig.Rig, refused string) {
	s, _, err := r.Settings.Of(tank)
	r.Must(err)
	body := fmt.Sprintf(`{"revision":%d,"applied":{"max_temp":35,"report_every":10,"stir_at":28,"display_unit":"Cel"}`, s.Revision)
	if refused != "" {
		body += fmt.Sprintf(`,"refused":{"max_temp":%q}`, refused)
	}
	if o := report(r, body+"}"); o.Err != nil {
		r.T.Fatal(o.Err)
	}
}

// TestWhoDoesNotAnswerIsToldAgain: after a minute, two, four …, and not any more once it has
// answered.
func TestWhoDoesNotAnswerIsToldAgain(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", nil)
	var mu sync.Mutex
	var told []time.Duration
	var since time.Time
	r.Bus.Handle(func(_ int, e event.Event) {
		if s, ok := e.(event.Settings); ok && s.Again {
			mu.Lock()
			told = append(told, r.Clock.Now().Sub(since).Truncate(time.Minute))
			mu.Unlock()
		}
	})
	_, err := r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": 28.0}, nil, "mara")
	r.Must(err)
	since = r.Clock.Now()
	for range 20 * 6 {
		r.Pass(10 * time.Second)
	}
	mu.Lock()
	if want := "[1m0s 3m0s 7m0s 15m0s]"; fmt.Sprint(told) != want {
		t.Errorf("it was told again after %v, want %s", told, want)
	}
	told = nil
	mu.Unlock()
	keeps(r, "")
	r.Pass(3 * time.Hour)
	mu.Lock()
	defer mu.Unlock()
	if len(told) > 0 {
		t.Errorf("after it has answered it was told %d times", len(told))
	}
}

// TestDriftIsRepaired sends what is intended again where that is wanted, so often and no
// more, and never what the device has refused.
func TestDriftIsRepaired(t *testing.T) {
	for _, c := range []struct {
		drift   settings.Drift
		refused string
		want    int
	}{
		{settings.Drift{}, "", 0},
		{settings.Drift{SendAgain: true, Most: 2}, "", 2},
		{settings.Drift{SendAgain: true, Most: 0}, "", 0},
		{settings.Drift{SendAgain: true, Most: 2}, "sealed", 0},
	} {
		r := rig.NewWith(t, app.Options{Drift: c.drift})
		r.Onboard(tank, "tank-probe", nil)
		first, _, err := r.Settings.Of(tank)
		r.Must(err)
		for range 30 {
			if s, _, err := r.Settings.Of(tank); err != nil || !s.Confirmed() {
				keeps(r, c.refused) // whatever it is told
			}
			r.Pass(time.Minute)
			r.Settle()
		}
		s, _, err := r.Settings.Of(tank)
		r.Must(err)
		again := int(s.Revision - first.Revision)
		if again != c.want {
			t.Errorf("%+v, refused %q: sent again %d times, want %d", c.drift, c.refused, again, c.want)
		}
	}
}
