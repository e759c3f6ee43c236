package alarms_test

import (
	"fmt"
	"testing"
	"time"

	"ullage/fleet/noun"
	"ullage/test/rig"
)

// TestDetectionsOfManyRules stores what forty rules have seen on a device as one record, with few
// states; a rule that comes again after it was removed knows nothing of before.
func TestDetectionsOfManyRules(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", nil)
	r.Onboard("air-kilnside-2", "cellar-air", nil)
	const hot = "rule: must_hot\nmodels: [tank-probe]\nraise: must_temp > 30\non_delay: 10min\npriority: low\nmessage: hot"
	r.Rule(hot)
	for i := range 40 {
		r.Rule(fmt.Sprintf("rule: many_%d\nmodels: [tank-probe]\nraise: must_temp > %d\npriority: low\nmessage: x", i, 40+i))
	}
	for range 5 {
		r.Pass(time.Minute)
		r.Keep(tank, `{"must_temp":33}`)
	}
	r.Restart(false)
	ds, err := r.Store.Records.Detections(t.Context())
	r.Must(err)
	rules, states := 0, 0
	for _, d := range ds {
		if d.Subject == tank {
			states += len(d.States)
			for _, s := range d.States {
				rules += len(s.Rules)
			}
		}
	}
	if rules != 41 || states > 3 {
		t.Errorf("%d rules in %d states are stored of the tank, want 41 in three at most", rules, states)
	}
	// The delay has run for four minutes; it goes on after the restart, and ends with ten.
	for range 4 {
		r.Pass(time.Minute)
		r.Keep(tank, `{"must_temp":33}`)
	}
	if n := len(r.OpenAlarms()); n != 0 {
		t.Errorf("%d alarms after eight minutes of a delay of ten", n)
	}
	for range 3 {
		r.Pass(time.Minute)
		r.Keep(tank, `{"must_temp":33}`)
	}
	if as := r.OpenAlarms(); len(as) != 1 || as[0].Rule != "must_hot" {
		t.Errorf("after eleven minutes there are %+v", as)
	}
	r.Must(r.Alarms.RemoveRule(t.Context(), "must_hot", noun.If{}, "tester"))
	r.Settle()
	r.Rule(hot)
	r.Restart(false)
	r.Pass(time.Minute)
	r.Keep(tank, `{"must_temp":33}`)
	if as := r.OpenAlarms(); len(as) != 0 {
		t.Errorf("it came again, and has %+v at once in spite of its delay", as)
	}
}
