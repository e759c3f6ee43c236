package scoped_test

import (
	"testing"
	"time"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/test/rig"
)

// TestActivity: what was off line comes first, with how often and how long.
func TestActivity(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	r := rig.New(t)
	for _, id := range []string{"tank-steady", "tank-lazy", "tank-mute"} {
		site := "Fennimore"
		if id == "tank-mute" {
			site = "Kilnside"
		}
		r.Onboard(id, "tank-probe", map[string]string{"site": site})
	}
	for minute := range 10 * 60 {
		r.Pass(time.Minute)
		r.Keep("tank-steady", `{"must_temp":20}`)
		if off := minute >= 120 && minute < 240 || minute >= 300 && minute < 360; !off {
			r.Keep("tank-lazy", `{"must_temp":20}`)
		}
	}
	r.Settle()
	all, err := r.Fleet.Activity(t.Context(), access.Whole("mara"), "", 24*time.Hour)
	r.Must(err)
	if len(all) != 3 || all[0].Device != "tank-mute" || all[1].Device != "tank-lazy" || all[2].Device != "tank-steady" {
		t.Fatalf("in this order: %+v", all)
	}
	if mute := all[0]; mute.Online > 0.01 || mute.Spells != 1 {
		t.Errorf("never heard of: %+v", mute)
	}
	// Three intervals pass until one counts as silent.
	if lazy := all[1]; lazy.Spells != 2 || lazy.Longest < 115*time.Minute || lazy.Longest > 121*time.Minute || lazy.Online < 0.68 || lazy.Online > 0.73 {
		t.Errorf("off line for three of ten hours: %+v", lazy)
	}
	if steady := all[2]; steady.Online < 0.99 || steady.Spells != 0 {
		t.Errorf("always there: %+v", steady)
	}
	// Of the last two hours it was always there.
	if all, err = r.Fleet.Activity(t.Context(), access.Whole("mara"), `label.site == "Fennimore"`, 2*time.Hour); err != nil || len(all) != 2 || all[0].Online < 0.99 {
		t.Errorf("of the last hours: %+v, %v", all, err)
	}
	r.Access.Grant("master", person.Grants{{Role: person.Viewer, Access: `label.site == "Kilnside"`}})
	if all, err = r.Fleet.Activity(t.Context(), r.Access.Caller("master", ""), "", 24*time.Hour); err != nil || len(all) != 1 || all[0].Device != "tank-mute" {
		t.Errorf("to somebody who sees Kilnside: %+v, %v", all, err)
	}
	if _, err = r.Fleet.Activity(t.Context(), access.Whole("mara"), "", time.Second); rig.Code(err) == "" {
		t.Error("a span of a second was taken")
	}
}
