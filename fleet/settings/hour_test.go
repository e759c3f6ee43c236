package settings_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/app"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/settings"
	"ullage/test/rig"
)

// TestRevisionsAnHour: a device gets so many revisions in an hour; what comes beyond is
// merged into the next one, and nothing of it is lost.
func TestRevisionsAnHour(t *testing.T) {
	r := rig.NewWith(t, app.Options{Revisions: 3})
	r.Onboard(tank, "tank-probe", nil)
	of := func() (int64, value.Value) {
		s, _, err := r.Settings.Of(tank)
		r.Must(err)
		return s.Revision, s.Intended["max_temp"]
	}
	first, _ := of()
	for i := range 10 {
		_, err := r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": float64(20 + i)}, nil, "mara")
		r.Must(err)
		r.Pass(time.Minute)
	}
	if rev, v := of(); rev != first+3 || v != value.OfNumber(22) {
		t.Errorf("after ten changes it is at revision %d with %v, want %d with 22", rev, v, first+3)
	}
	wanted, err := r.Settings.Wanted(tank)
	r.Must(err)
	if until := r.Settings.Waits(tank); until.IsZero() || wanted["max_temp"] != value.OfNumber(29) {
		t.Errorf("it waits until %s for %v", until, wanted["max_temp"])
	}
	r.Pass(51 * time.Minute)
	r.Settle()
	if rev, v := of(); rev != first+4 || v != value.OfNumber(29) {
		t.Errorf("an hour later it is at revision %d with %v, want %d with 29", rev, v, first+4)
	}
	if until := r.Settings.Waits(tank); !until.IsZero() {
		t.Errorf("it still waits until %s", until)
	}
	// A restart forgets how many there were, and not what is intended.
	for i := range 5 {
		_, err := r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": float64(30 + i)}, nil, "mara")
		r.Must(err)
	}
	r.Restart(true)
	r.Settle()
	if _, v := of(); v != value.OfNumber(34) {
		t.Errorf("after a restart it has %v, want 34", v)
	}
}

// TestOverridesThatEnd: what was set until a time goes by itself, also over a restart, and
// nothing else with it.
func TestOverridesThatEnd(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", nil)
	now := r.Clock.Now()
	for _, until := range []time.Time{now.Add(-time.Second), now.AddDate(2, 0, 0)} {
		if _, err := r.Settings.SetUntil(t.Context(), tank, map[string]any{"max_temp": 30.0}, nil, until, "mara"); rig.Code(err) != fault.Invalid {
			t.Errorf("until %s: %v", until, err)
		}
	}
	_, err := r.Settings.SetUntil(t.Context(), tank, map[string]any{"max_temp": 30.0}, nil, now.Add(time.Hour), "mara")
	r.Must(err)
	_, err = r.Settings.Set(t.Context(), tank, map[string]any{"report_every": 20.0}, nil, "mara")
	r.Must(err)
	_, err = r.Settings.SetManyUntil(t.Context(), []string{tank}, map[string]any{"stir_at": 20.0}, nil, now.Add(2*time.Hour), "mara")
	r.Must(err)
	of := func() string {
		s, _, err := r.Settings.Of(tank)
		r.Must(err)
		return fmt.Sprint(s.Intended["max_temp"], s.Intended["stir_at"], s.Intended["report_every"], len(s.OverriddenBy))
	}
	r.Settle()
	if got := of(); got != "30 20 20 3" {
		t.Errorf("set, it is %s", got)
	}
	r.Restart(true)
	r.Pass(61 * time.Minute)
	r.Settle()
	if got := of(); got != "32 20 20 2" {
		t.Errorf("after the first end it is %s", got)
	}
	// Whoever sets it again without an end keeps it.
	_, err = r.Settings.Set(t.Context(), tank, map[string]any{"stir_at": 20.0}, nil, "mara")
	r.Must(err)
	r.Pass(time.Hour)
	r.Settle()
	if got := of(); got != "32 20 20 2" {
		t.Errorf("set again without an end it is %s", got)
	}
}

// TestAgain: a device that has refused is sent the same once more, and one that has not is
// not.
func TestAgain(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", nil)
	state := func() settings.State { s, _, err := r.Settings.Of(tank); r.Must(err); return s }
	if _, err := r.Settings.Again(t.Context(), tank, "mara"); rig.Code(err) != fault.Conflict || !strings.Contains(err.Error(), "has not answered") {
		t.Errorf("before its answer: %v", err)
	}
	report := func(refused string) {
		var parts []string
		for _, name := range state().Intended.Names() {
			v, err := state().Intended[name].MarshalJSON()
			r.Must(err)
			if name != refused {
				parts = append(parts, fmt.Sprintf("%q:%s", name, v))
			}
		}
		r.SendMessage(ingest.Message{Device: tank, Kind: ingest.Applied, Transport: "mqtt",
			Body: fmt.Appendf(nil, `{"revision":%d,"applied":{%s},"refused":{%q:"sealed"}}`, state().Revision, strings.Join(parts, ","), refused)})
	}
	report("stir_at")
	was := state()
	s, err := r.Settings.Again(t.Context(), tank, "mara")
	r.Must(err)
	if s.Revision != was.Revision+1 || !s.Intended.Equal(was.Intended) || s.Confirmed() {
		t.Errorf("sent again it is %+v", s)
	}
	report("none")
	if _, err := r.Settings.Again(t.Context(), tank, "mara"); rig.Code(err) != fault.Conflict || !strings.Contains(err.Error(), "as intended") {
		t.Errorf("as intended: %v", err)
	}
}
