package asof_test

import (
	"fmt"
	"testing"
	"time"

	"ullage/test/rig"
)

// TestFleetWithReadings: devices have the values of then, those that see part of them see
// those alone, and one that was onboarded later is there if it has readings of then.
func TestFleetWithReadings(t *testing.T) {
	r := rig.New(t)
	r.Onboard("tank-fennimore-07", "tank-probe", map[string]string{"site": "Fennimore"})
	r.Onboard("air-kilnside-1", "cellar-air", map[string]string{"site": "Kilnside"})
	r.Keep("tank-fennimore-07", `{"must_temp":21.5,"ullage":30}`)
	r.Keep("air-kilnside-1", `{"co2":640}`)
	r.Pass(10 * time.Minute)
	then := r.Clock.Now()
	r.Pass(10 * time.Minute)
	r.Keep("tank-fennimore-07", `{"must_temp":24}`)
	r.Onboard("tank-fennimore-08", "tank-probe", nil)
	r.Keep("tank-fennimore-08", fmt.Sprintf(`{"at":%q,"must_temp":19}`, then.Add(-time.Minute).Format(time.RFC3339)))
	r.Onboard("tank-fennimore-09", "tank-probe", nil)
	r.Settle()
	said := func(pass func(string) bool) string {
		ds, err := r.AsOf.Fleet(t.Context(), then, []string{"must_temp", "co2"}, pass)
		r.Must(err)
		out := ""
		for _, d := range ds {
			out += d.ID + ":"
			for _, m := range []string{"must_temp", "co2", "ullage"} {
				if v, ok := d.Latest[m]; ok {
					out += fmt.Sprintf(" %s %s", m, v.Value)
				}
			}
			if d.Later {
				out += " later"
			}
			out += "\n"
		}
		return out
	}
	if got, want := said(nil), "air-kilnside-1: co2 640\ntank-fennimore-07: must_temp 21.5\ntank-fennimore-08: must_temp 19 later\n"; got != want {
		t.Errorf("all of them were\n%swant\n%s", got, want)
	}
	if got, want := said(func(id string) bool { return id == "tank-fennimore-07" }), "tank-fennimore-07: must_temp 21.5\n"; got != want {
		t.Errorf("one of them was\n%swant\n%s", got, want)
	}
}
