package replays_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ullage/core/value"
	"ullage/fleet/replays"
	"ullage/test/rig"
)

// played is a rig with monitors that have measured something for a while: at gives what a
// monitor measures in a minute.
func played(t *testing.T, monitors, minutes int, at func(monitor, minute int) float64) *rig.Rig {
	t.Helper()
	r := rig.New(t)
	for i := range monitors {
		r.Onboard(fmt.Sprintf("air-saltmarsh-%d", i), "cellar-air", nil)
	}
	for i := range monitors {
		for from := 0; from < minutes; from += 500 {
			var ats, values []string
			for m := from; m < min(from+500, minutes); m++ {
				ats = append(ats, fmt.Sprintf("%q", rig.Start.Add(time.Duration(m-minutes)*time.Minute).Format(time.RFC3339)))
				values = append(values, fmt.Sprintf("%.0f", at(i, m)))
			}
			r.Keep(fmt.Sprintf("air-saltmarsh-%d", i), fmt.Sprintf(`{"at":[%s],"co2":[%s]}`, strings.Join(ats, ","), strings.Join(values, ",")))
		}
	}
	r.Pass(time.Second)
	return r
}

func suggested(t *testing.T, r *rig.Rig, text string) map[string]replays.Suggestion {
	t.Helper()
	found, err := r.Replays.Suggest(t.Context(), replays.Ask{Rule: parse(t, text), From: rig.Start.Add(-10 * 24 * time.Hour), To: r.Clock.Now()})
	r.Must(err)
	out := map[string]replays.Suggestion{}
	for _, s := range found {
		out[s.Kind] = s
	}
	return out
}

// A deadband is above the noise, whatever the value does slowly, and stops the chatter on
// devices that it was not computed from.
func TestSuggestsADeadband(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	random := rand.New(rand.NewPCG(1, 2))
	const sigma = 20
	r := played(t, 8, 3000, func(monitor, minute int) float64 {
		v := 1200 + 320*math.Sin(float64(minute)/400+float64(monitor)) + random.NormFloat64()*sigma
		if random.IntN(200) == 0 {
			v += 600 // a spike, which is no noise
		}
		return v
	})
	s, ok := suggested(t, r, ruleOf("co2_high", "co2 > 1450", ""))["deadband"]
	if !ok || s.Rule.Deadband < 2.5*sigma || s.Rule.Deadband > 5*sigma {
		t.Fatalf("it is %+v", s)
	}
	if s.Before.Alarms < 40 || s.After.Alarms > s.Before.Alarms/3 || !strings.Contains(s.JudgedOn, "devices that it was not computed from") {
		t.Errorf("%d → %d alarms, judged on %s", s.Before.Alarms, s.After.Alarms, s.JudgedOn)
	}
	// A rule that has it is told nothing.
	if s, ok := suggested(t, r, ruleOf("co2_high", "co2 > 1450", fmt.Sprintf("deadband: %g\n", s.Rule.Deadband)))["deadband"]; ok {
		t.Errorf("it is suggested again: %+v", s)
	}
	// One over something else than the metric itself has no use for its noise.
	if s, ok := suggested(t, r, ruleOf("air_silent", "age(co2) > 30s", ""))["deadband"]; ok {
		t.Errorf("an age gets a deadband: %+v", s)
	}
}

// A delay is longer than what is over at once, and no longer than what counts.
func TestSuggestsADelay(t *testing.T) {
	r := played(t, 2, 4000, func(_, minute int) float64 {
		switch {
		case minute%400 < 40: // lasts
			return 1700
		case minute%50 == 45: // is over at once
			return 1600
		}
		return 900
	})
	s, ok := suggested(t, r, ruleOf("co2_high", "co2 > 1500", ""))["on_delay"]
	if !ok || s.Rule.OnDelay != value.Duration(2*time.Minute) && s.Rule.OnDelay != value.Duration(5*time.Minute) {
		t.Fatalf("it is %+v", s)
	}
	if s.After.Alarms == 0 || s.After.Alarms > s.Before.Alarms/4 || s.JudgedOn == "" {
		t.Errorf("%d → %d alarms, judged on %s", s.Before.Alarms, s.After.Alarms, s.JudgedOn)
	}
}

func TestSuggestsALimit(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	r := played(t, 4, 2000, func(int, int) float64 { return 1000 + random.Float64()*500 })
	got := suggested(t, r, ruleOf("co2_high", "co2 > 1300", "off_delay: 5min\n"))
	s, ok := got["limit"]
	if !ok || s.Rule.Raise != "co2 > 1500" || s.After.Raised > s.Before.Raised/10 {
		t.Errorf("it is %+v", s)
	}
	if s, ok := suggested(t, r, ruleOf("co2_high", "co2 > 9000", ""))["never"]; !ok || !strings.Contains(s.Figures, "never have been raised") {
		t.Errorf("what is never raised: %+v", s)
	}
	if _, ok := suggested(t, r, ruleOf("co2_high", "co2 > 3", ""))["always"]; ok {
		t.Error("it is said to be always raised, and there are readings for a part of the time only")
	}
	all, err := r.Replays.Suggest(t.Context(), replays.Ask{Rule: parse(t, ruleOf("co2_high", "co2 > 3", "")), From: rig.Start.Add(-1990 * time.Minute), To: rig.Start})
	if err != nil || !strings.Contains(fmt.Sprint(all), "an alarm that is always there") {
		t.Errorf("what is always raised: %+v, %v", all, err)
	}
}
