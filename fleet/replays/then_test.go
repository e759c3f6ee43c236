package replays_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/core/maintenance"
	"ullage/core/value"
	"ullage/fleet/noun"
	"ullage/fleet/replays"
	"ullage/test/rig"
)

// moves does something that live sees a second later.
func moves(r *rig.Rig, err error) {
	r.Must(err)
	r.Settle()
	r.Pass(time.Second)
	r.Pass(time.Second)
}

// breathes plays readings that go up and down around 1500 ppm, one in 10 s, for some
// monitors.
func breathes(r *rig.Rig, n int, monitors ...string) {
	for i := range n {
		for _, id := range monitors {
			r.Keep(id, fmt.Sprintf(`{"co2":%d}`, 1400+200*(i/3%2)))
		}
		for range 10 {
			r.Pass(time.Second)
		}
	}
}

// alike compares what live did with the replay; a group is judged by the second.
func alike(t *testing.T, r *rig.Rig, text, name, subject string, within time.Duration) {
	t.Helper()
	up, down := told(t, r, name, subject)
	got := run(t, r, replays.Ask{Rule: parse(t, text), From: rig.Start.Add(-time.Minute), To: r.Clock.Now()})[subject]
	if got == nil || len(up) < 2 {
		t.Fatalf("live raised %v, the replay is %+v", clip(up), got)
	}
	u, d := times(got.This.Spans)
	near := func(a, b []time.Time) bool {
		ok := len(a) == len(b)
		for i := 0; ok && i < len(a); i++ {
			ok = a[i].Sub(b[i]).Abs() <= within
		}
		return ok
	}
	if !near(up, u) || !near(down, d) {
		t.Errorf("%s: live raised %v and returned %v\nthe replay %v and %v", name, clip(up), clip(down), clip(u), clip(d))
	}
}

// A device counts in the group in which it was then, and in none while it was suspended; a
// group that nobody is left in has no alarm.
func TestGroupsOfThen(t *testing.T) {
	r := rig.New(t)
	var ids []string
	for i := range 3 {
		ids = append(ids, fmt.Sprintf("air-kilnside-%d", i))
		r.Onboard(ids[i], "cellar-air", map[string]string{"site": "Kilnside"})
	}
	text := strings.Replace(ruleOf("much_co2", "max_of(co2) > 1500", "each: label.site\n"), "'{co2}'", "much", 1)
	r.Rule(text)
	site := func(id, site string) {
		_, err := r.Devices.Label(t.Context(), id, map[string]string{"site": site}, "mara")
		moves(r, err)
	}
	high := func(n int, high string) {
		for range n {
			for _, id := range ids {
				co2 := 700
				if id == high {
					co2 = 1800
				}
				r.Keep(id, fmt.Sprintf(`{"co2":%d}`, co2))
			}
			for range 10 {
				r.Pass(time.Second)
			}
		}
	}
	high(6, ids[0])
	site(ids[0], "Fennimore") // the alarm goes with it
	high(6, ids[0])
	site(ids[0], "Kilnside")
	high(6, ids[0])
	_, err := r.Devices.SetStatus(t.Context(), ids[0], "suspended", "mara")
	moves(r, err)
	high(6, ids[1])
	site(ids[2], "Fennimore")
	site(ids[1], "Fennimore") // nobody is left
	high(6, ids[1])
	alike(t, r, text, "much_co2", "site=Kilnside", 3*time.Second)
}

// What a device said of itself then decides whether a rule is for it, and what it answers.
func TestAttributesOfThen(t *testing.T) {
	for name, more := range map[string][2]string{
		"selected": {"co2 > 1500", "devices: attr.firmware == \"B\"\n"},
		"asked":    {"co2 > 1500 and attr.firmware == \"B\"", ""},
	} {
		t.Run(name, func(t *testing.T) {
			r := rig.New(t)
			r.Onboard(monitor, "cellar-air", map[string]string{"site": "Kilnside"})
			text := ruleOf("co2_high", more[0], more[1])
			r.Rule(text)
			firmware := func(s string) {
				r.Devices.SetAttributes(monitor, map[string]value.Value{"firmware": value.OfText(s)}, nil)
				moves(r, nil)
			}
			breathes(r, 9, monitor)
			firmware("A")
			breathes(r, 9, monitor)
			firmware("B")
			breathes(r, 12, monitor)
			firmware("A")
			breathes(r, 9, monitor)
			alike(t, r, text, "co2_high", monitor, time.Millisecond)
		})
	}
}

// An alarm is out of service if a maintenance of then held for its device: not one that was
// made later, nor one that had ended, also where it is gone since.
func TestMaintenanceOfThen(t *testing.T) {
	r := rig.New(t)
	r.Onboard(monitor, "cellar-air", map[string]string{"site": "Kilnside"})
	r.Onboard("air-fennimore-1", "cellar-air", map[string]string{"site": "Fennimore"})
	text := ruleOf("co2_high", "co2 > 1500", "")
	r.Rule(text)
	put := func(where string) {
		_, err := r.Maintenances.Put(t.Context(), maintenance.Maintenance{Name: "cleaning", Devices: where, To: r.Clock.Now().Add(24 * time.Hour)}, noun.If{}, "engineer", true)
		moves(r, err)
	}
	breathes(r, 6, monitor, "air-fennimore-1") // one alarm each
	put(`label.site == "Kilnside"`)
	breathes(r, 12, monitor, "air-fennimore-1") // two
	put(`label.site == "Fennimore"`)
	breathes(r, 18, monitor, "air-fennimore-1") // three
	moves(r, r.Maintenances.Remove(t.Context(), "cleaning", noun.If{}, "engineer"))
	breathes(r, 24, monitor, "air-fennimore-1") // four
	r.Restart(true)
	got := run(t, r, replays.Ask{Rule: parse(t, text), From: rig.Start.Add(-time.Minute), To: r.Clock.Now()})
	for id, want := range map[string]int{monitor: 2, "air-fennimore-1": 3} {
		if x := got[id]; x == nil || x.This.Alarms != 10 || x.This.OutOfService != want {
			t.Errorf("%s: %+v, want 10 alarms of which %d were out of service", id, x, want)
		}
	}
}
