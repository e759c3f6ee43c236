package settings_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/settings"
	"ullage/test/rig"
)

func many(t *testing.T, n int) (*rig.Rig, []string) {
	r := rig.New(t)
	ids := make([]string, n)
	for i := range ids {
		ids[i] = fmt.Sprintf("tank-saltmarsh-%03d", i)
		_, _, err := r.Devices.Create(t.Context(), devices.New{ID: ids[i], Model: "tank-probe"}, "mara")
		r.Must(err)
	}
	r.Settle()
	return r, ids
}

// changed counts the changes in the journal by device; one of many stands under "".
func changed(r *rig.Rig) map[string]int {
	fs, err := r.Facts.Facts(context.Background(), fact.Filter{Kind: fact.SettingChanged})
	r.Must(err)
	n := map[string]int{}
	for _, f := range fs {
		n[f.Device]++
	}
	return n
}

func ended(t *testing.T, r *rig.Rig, id string) settings.Job {
	t.Helper()
	for range 2000 {
		j, err := r.Settings.Job(id)
		r.Must(err)
		if !j.EndedAt.IsZero() {
			return j
		}
		time.Sleep(5 * time.Millisecond)
	}
	t.Fatal("the change never ended")
	return settings.Job{}
}

// TestManyDevices: one call changes many devices, each once, and says so once.
func TestManyDevices(t *testing.T) {
	n := rig.Times(400, 100)
	r, ids := many(t, n)
	ids = append(ids, ids[3], ids[4]) // named twice, changed once
	j, err := r.Settings.SetMany(t.Context(), ids, map[string]any{"max_temp": 28}, nil, "mara")
	r.Must(err)
	if j = ended(t, r, j.ID); j.Done != n || j.Failed != 0 {
		t.Errorf("the change came to %+v", j)
	}
	for _, id := range ids {
		s, _, err := r.Settings.Of(id)
		r.Must(err)
		if v := s.Override["max_temp"].Num; v != 28 {
			t.Fatalf("%s has %v", id, v)
		}
	}
	facts := changed(r)
	if len(facts) != n+1 || facts[""] != 1 {
		t.Errorf("the journal tells of %d devices, and %d times of all together", len(facts)-1, facts[""])
	}
	for id, n := range facts {
		if n != 1 {
			t.Errorf("the journal tells %d times of %q", n, id)
		}
	}
	if told := r.Journal(fact.SettingChanged); !strings.Contains(told[0], fmt.Sprintf("on %d devices", n)) {
		t.Errorf("the journal begins with %q", told[0])
	}
}

// TestManyIsAllOrNothing: where one device may not have the value, or does not
// exist, nothing is changed.
func TestManyIsAllOrNothing(t *testing.T) {
	r, ids := many(t, 3)
	r.Onboard("air-kilnside-2", "cellar-air", nil)
	for _, x := range []struct {
		ids  []string
		set  map[string]any
		want fault.Code
	}{
		{append(ids, "air-kilnside-2"), map[string]any{"max_temp": 28}, fault.Invalid}, // no such setting there
		{append(ids, "tank-nowhere"), map[string]any{"max_temp": 28}, fault.NotFound},
		{ids, map[string]any{"max_temp": "warm"}, fault.Invalid},
		{ids, nil, fault.Invalid},
		{nil, map[string]any{"max_temp": 28}, fault.Invalid},
	} {
		if _, err := r.Settings.SetMany(t.Context(), x.ids, x.set, nil, "mara"); rig.Code(err) != x.want {
			t.Errorf("%v of %v is answered %v", x.set, x.ids, err)
		}
	}
	for _, id := range ids {
		if s, _, err := r.Settings.Of(id); err != nil || len(s.Override) != 0 {
			t.Errorf("%s has %v, %v", id, s.Override, err)
		}
	}
}

// TestManyGoesOnAfterACrash: a change that was accepted comes to its end, also
// where the service dies in the middle.
func TestManyGoesOnAfterACrash(t *testing.T) {
	cut := 0
	for round := range rig.Times(4, 2) {
		r, ids := many(t, rig.Times(600, 200))
		j, err := r.Settings.SetMany(context.Background(), ids, map[string]any{"max_temp": 28}, nil, "mara")
		r.Must(err)
		time.Sleep(time.Duration(round) * 5 * time.Millisecond)
		r.Crash()
		if j, err := r.Settings.Job(j.ID); err == nil && j.EndedAt.IsZero() {
			cut++ // what is left of the service that died knows how far it was
		}
		r.Reopen()
		for end := time.Now().Add(30 * time.Second); ; time.Sleep(5 * time.Millisecond) {
			done := 0
			for _, id := range ids {
				if s, _, err := r.Settings.Of(id); err == nil && len(s.Override) == 1 {
					done++
				}
			}
			if done == len(ids) {
				break
			}
			if time.Now().After(end) {
				t.Fatalf("round %d: %d of %d devices were changed in the end", round, done, len(ids))
			}
		}
		for id, n := range changed(r) {
			if n != 1 {
				t.Errorf("round %d: the journal tells %d times of %q", round, n, id)
			}
		}
		r.Close()
	}
	if cut == 0 {
		t.Error("no crash was in the middle, so nothing was tested")
	}
}
