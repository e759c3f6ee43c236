package settings_test

import (
	"testing"
	"time"

	"ullage/app"
	"ullage/core/value"
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
