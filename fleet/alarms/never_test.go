package alarms_test

import (
	"strings"
	"testing"

	"ullage/core/rule"
	"ullage/fleet/fault"
	"ullage/test/rig"
)

// TestNever: a rule that can never be true, by what its models allow, is not put in force.
func TestNever(t *testing.T) {
	r := rig.New(t)
	for raise, want := range map[string]string{
		"must_temp > 500": "can never be true", "must_temp > 30 and must_temp < 20": "can never be true", "set.max_temp > 50": "can never be true",
		"must_temp > set.max_temp": "", "must_temp > 500 or density < 900": "",
	} {
		x, err := rule.Parse([]byte("rule: x\nmodels: [tank-probe]\nraise: " + raise + "\npriority: low\nmessage: x\n"))
		r.Must(err)
		_, err = r.Alarms.SetRule(t.Context(), *x, "mara")
		if want == "" && err != nil || want != "" && (rig.Code(err) != fault.Invalid || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v, want %q", raise, err, want)
		}
	}
}
