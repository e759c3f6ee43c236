package alarms_test

import (
	"fmt"
	"testing"

	"ullage/fleet/noun"
	"ullage/test/rig"
)

// counted tells how many readings rules have read from the history.
func counted(r *rig.Rig, f func()) uint64 {
	before := r.Alarms.Refilled()
	f()
	r.Settle()
	return r.Alarms.Refilled() - before
}

func TestRuleChangeRefillsOnlyWhatItTouches(t *testing.T) {
	r := rig.New(t)
	for i := range 4 {
		r.Onboard(fmt.Sprintf("tank-fennimore-%02d", i), "tank-probe",
			map[string]string{"stage": []string{"fermenting", "resting"}[i%2]})
		r.Onboard(fmt.Sprintf("air-kilnside-%d", i), "cellar-air", nil)
	}
	r.Rule("rule: air_damp\nmodels: [cellar-air]\nraise: mean(humidity over 10min) > 90 '%'\npriority: low\nmessage: damp")
	r.Rule("rule: must_warm\nmodels: [tank-probe]\nraise: mean(must_temp over 10min) > 30\npriority: low\nmessage: warm")
	fermenting := "rule: must_hot\nmodels: [tank-probe]\ndevices: label.stage == \"fermenting\"\nraise: mean(must_temp over 5min) > 31\npriority: low\nmessage: hot"
	if n := counted(r, func() { r.Rule(fermenting) }); n != 2 {
		t.Errorf("a rule for two of eight devices refilled %d, want 2", n)
	}
	if n := counted(r, func() { r.Rule(fermenting + "!") }); n != 2 {
		t.Errorf("changing it refilled %d, want 2", n)
	}
	if n := counted(r, func() { r.Must(r.Alarms.RemoveRule(t.Context(), "must_hot", noun.If{}, "tester")) }); n != 2 {
		t.Errorf("removing it refilled %d, want 2", n)
	}
}

func TestRuleThatIsOff(t *testing.T) {
	r := rig.New(t)
	r.Onboard("tank-fennimore-07", "tank-probe", nil)
	hot := "rule: must_hot\nmodels: [tank-probe]\nraise: must_temp > 31\npriority: high\nmessage: hot\n"
	r.Rule(hot)
	r.Keep("tank-fennimore-07", `{"must_temp":32}`)
	if n := len(r.OpenAlarms()); n != 1 {
		t.Fatalf("%d alarms are open, want 1", n)
	}
	r.Rule(hot + "disabled: true\n")
	if n := len(r.OpenAlarms()); n != 0 {
		t.Errorf("%d alarms are open of a rule that is off", n)
	}
	r.Keep("tank-fennimore-07", `{"must_temp":33}`)
	if n := len(r.OpenAlarms()); n != 0 {
		t.Errorf("a rule that is off raised %d alarms", n)
	}
	r.Restart(true)
	if x, err := r.Alarms.Rule("must_hot"); err != nil || !x.Disabled {
		t.Errorf("after a restart it is %+v, %v", x, err)
	}
	r.Rule(hot)
	r.Keep("tank-fennimore-07", `{"must_temp":34}`)
	if n := len(r.OpenAlarms()); n != 1 {
		t.Errorf("%d alarms are open once it is on again, want 1", n)
	}
}
