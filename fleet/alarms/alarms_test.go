package alarms_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/fleet/alarms"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
	"ullage/test/rig"
)

const warm = `rule: must_too_warm
models: [tank-probe]
devices: label.stage == "fermenting"
raise: must_temp > set.max_temp
on_delay: 10min
deadband: 1.5
off_delay: 5min
priority: high
message: "must at {must_temp}, limit {set.max_temp}"
response: Open the jacket valve
`

const quick = `rule: co2_high
models: [cellar-air]
raise: co2 > set.co2_warn
priority: medium
message: "CO2 at {co2}"
`

const tank = "tank-fennimore-07"

func fermenting(t *testing.T) *rig.Rig {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", map[string]string{"stage": "fermenting"})
	r.Rule(warm)
	return r
}

// temp sends a reading now.
func temp(r *rig.Rig, v float64) { r.Keep(tank, fmt.Sprintf(`{"must_temp":%g}`, v)) }

func TestRaiseAcknowledgeReturn(t *testing.T) {
	r := fermenting(t)
	for range 12 {
		temp(r, 32.5)
		r.Pass(time.Minute)
	}
	as := r.OpenAlarms()
	if len(as) != 1 || as[0].State != lifecycle.Unacknowledged || !as[0].RaisedAt.Equal(rig.Start.Add(10*time.Minute)) {
		t.Fatalf("after 12 minutes over the limit: %+v", as)
	}
	if as[0].Message != "must at 32.5 °C, limit 32.0 °C" || as[0].Response == "" || as[0].Priority != rule.High {
		t.Errorf("the alarm is %+v", as[0])
	}
	if d := r.Device(tank); d.Health != "poor" || len(d.Alarms) != 1 {
		t.Errorf("the device is %s with %v", d.Health, d.Alarms)
	}
	a, err := r.Alarms.Acknowledge(t.Context(), as[0].ID, "mara")
	if err != nil || a.State != lifecycle.Acknowledged || a.AcknowledgedBy != "mara" {
		t.Fatalf("acknowledged: %+v, %v", a, err)
	}
	if _, err := r.Alarms.Acknowledge(t.Context(), as[0].ID, "ben"); rig.Code(err) != fault.Conflict ||
		!strings.Contains(err.Error(), "mara") {
		t.Errorf("a second time: %v", err)
	}
	for range 7 {
		temp(r, 30)
		r.Pass(time.Minute)
	}
	if as := r.OpenAlarms(); len(as) != 0 {
		t.Errorf("after it returned: %+v", as)
	}
	if d := r.Device(tank); d.Health != "sound" || len(d.Alarms) != 0 {
		t.Errorf("the device is %s with %v", d.Health, d.Alarms)
	}
	if got := r.Journal(fact.AlarmReturned); len(got) != 1 || !strings.Contains(got[0], "30.0 °C") {
		t.Errorf("the journal tells %q", got)
	}
	if _, err := r.Alarms.Acknowledge(t.Context(), "01ARZ3NDEKTSV4RRFFQ69G5FAV", "mara"); rig.Code(err) != fault.NotFound {
		t.Errorf("an alarm that does not exist: %v", err)
	}
}

func TestRaisedByTheClock(t *testing.T) {
	r := fermenting(t)
	temp(r, 33)
	r.Pass(2 * time.Minute) // the reading holds for three minutes, the delay is ten
	if len(r.OpenAlarms()) != 0 {
		t.Fatal("raised too early")
	}
	r.Rule(strings.Replace(warm, "10min", "2min30s", 1))
	r.Pass(29 * time.Second)
	if len(r.OpenAlarms()) != 0 {
		t.Error("raised too early")
	}
	r.Pass(2 * time.Second)
	if as := r.OpenAlarms(); len(as) != 1 || !as[0].RaisedAt.Equal(rig.Start.Add(150*time.Second)) {
		t.Errorf("by the clock: %+v", as)
	}
}

func TestUnacknowledgedReturnAndAgain(t *testing.T) {
	r := rig.New(t)
	r.Onboard("air-kilnside-2", "cellar-air", nil)
	r.Rule(quick)
	for i, v := range []int{1600, 900, 1700, 900} {
		r.Keep("air-kilnside-2", fmt.Sprintf(`{"co2":%d}`, v))
		r.Pass(10 * time.Second)
		as := r.OpenAlarms()
		if len(as) != 1 || as[0].Times != i/2+1 {
			t.Fatalf("step %d: %+v", i, as)
		}
	}
	as := r.OpenAlarms()
	if as[0].State != lifecycle.Returned || as[0].Message != "CO2 at 1\u2009700 ppm" {
		t.Errorf("it is %+v", as[0])
	}
	if a, err := r.Alarms.Acknowledge(t.Context(), as[0].ID, "mara"); err != nil || a.State != lifecycle.Normal ||
		len(r.OpenAlarms()) != 0 {
		t.Errorf("acknowledging what has returned gives %+v, %v", a, err)
	}
}

func TestDeadbandStopsChatter(t *testing.T) {
	raises := func(deadband string) int {
		r := rig.New(t)
		r.Onboard("air-alder-bank-1", "cellar-air", nil)
		r.Rule(quick + deadband)
		for i := range 40 {
			r.Keep("air-alder-bank-1", fmt.Sprintf(`{"co2":%d}`, 1500+30*(1-2*(i%2))))
			r.Pass(10 * time.Second)
		}
		return len(r.Journal(fact.AlarmRaised))
	}
	if n := raises(""); n != 20 {
		t.Errorf("without a deadband it was raised %d times, want 20", n)
	}
	if n := raises("deadband: 120\n"); n != 1 {
		t.Errorf("with a deadband it was raised %d times, want once", n)
	}
}

// TestRestartsChangeNothing plays the same readings with crashes and graceful
// stops at random places and without; the journals must be the same.
func TestRestartsChangeNothing(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	play := func(seed uint64, restarts bool) (raised, returned []string) {
		r := fermenting(t)
		rng, when := rand.New(rand.NewPCG(seed, 1)), rand.New(rand.NewPCG(seed, 2))
		v := 31.5
		for range 120 {
			v += rng.NormFloat64() * 0.8
			v = min(max(v, 29), 34)
			temp(r, float64(int(v*10))/10)
			r.Pass(time.Minute)
			if restarts && when.IntN(12) == 0 {
				r.Restart(when.IntN(2) == 0)
			}
		}
		return r.Journal(fact.AlarmRaised), r.Journal(fact.AlarmReturned)
	}
	some := 0
	for seed := range uint64(rig.Times(4, 2)) {
		up, down := play(seed, false)
		upAgain, downAgain := play(seed, true)
		if strings.Join(up, "|") != strings.Join(upAgain, "|") || strings.Join(down, "|") != strings.Join(downAgain,
			"|") {
			t.Errorf("seed %d:\nwithout restarts %q %q\nwith them        %q %q", seed, up, down, upAgain, downAgain)
		}
		some += len(up)
	}
	if some == 0 {
		t.Error("nothing was ever raised, so nothing was tested")
	}
}

// TestCrashBeforeEvaluation stores readings behind the back of the engine, as
// a crash between commit and evaluation leaves them.
func TestCrashBeforeEvaluation(t *testing.T) {
	r := rig.New(t)
	r.Onboard("air-kilnside-2", "cellar-air", nil)
	r.Rule(quick)
	r.Keep("air-kilnside-2", `{"co2":800}`)
	r.Bus.Stop() // nobody is told from here on
	r.Clock.Forward(time.Minute)
	done := make(chan struct{})
	r.Intake.Accept(message("air-kilnside-2", `{"co2":1900}`), func(o outcome) { close(done) })
	<-done
	r.Must(r.Store.Close())
	r.Reopen()
	if as := r.OpenAlarms(); len(as) != 1 || as[0].Value.Num != 1900 {
		t.Errorf("after the restart: %+v", as)
	}
}

func TestLateBatches(t *testing.T) {
	r := rig.New(t)
	r.Onboard("air-kilnside-2", "cellar-air", nil)
	r.Rule(quick)
	r.Keep("air-kilnside-2", fmt.Sprintf(`{"at":%q,"co2":700}`, rig.Start.Add(-8*time.Hour).Format(time.RFC3339)))
	batch := func(from time.Duration, values ...int) {
		var parts []string
		for i, v := range values {
			parts = append(parts, fmt.Sprintf(`{"at":%q,"co2":%d}`, rig.Start.Add(from+time.Duration(i)*time.Minute).
				Format(time.RFC3339), v))
		}
		r.Keep("air-kilnside-2", "["+strings.Join(parts, ",")+"]")
	}
	batch(-6*time.Hour, 700, 1900, 2000, 800)
	if len(r.OpenAlarms()) != 0 {
		t.Error("what was over before anybody knew is an alarm")
	}
	if up, down := r.Journal(fact.AlarmRaised), r.Journal(fact.AlarmReturned); len(up) != 1 || len(down) != 1 ||
		!strings.Contains(up[0], "reported late") {
		t.Errorf("the journal tells %q and %q", up, down)
	}
	batch(-9*time.Minute, 800, 1900, 1950, 1900, 1900, 1900, 1900, 1900, 1900)
	as := r.OpenAlarms()
	if len(as) != 1 || !as[0].RaisedAt.Equal(rig.Start.Add(-8*time.Minute)) {
		t.Errorf("what still stands at a recent end is %+v, want an alarm of 8 minutes ago", as)
	}
	batch(-5*time.Hour, 300, 300, 300)
	if as := r.OpenAlarms(); len(as) != 1 || as[0].State != lifecycle.Unacknowledged {
		t.Errorf("readings older than the last evaluated changed the alarm: %+v", as)
	}
	if n := len(r.Points("air-kilnside-2", "co2")); n != 17 {
		t.Errorf("%d readings are stored, want 17", n)
	}
}

func TestRulesComeAndGo(t *testing.T) {
	r := fermenting(t)
	r.Rule(quick)
	for range 12 {
		temp(r, 33)
		r.Pass(time.Minute)
	}
	if len(r.OpenAlarms()) != 1 {
		t.Fatal("not raised")
	}
	if changed, err := r.Alarms.SetRule(t.Context(), must(rule.Parse([]byte(warm))), "tester"); err != nil || changed {
		t.Errorf("the same rule again: %v, %v", changed, err)
	}
	_, err := r.Devices.Label(t.Context(), tank, map[string]string{"stage": "resting"}, "tester")
	r.Must(err)
	r.Settle()
	if as := r.OpenAlarms(); len(as) != 0 {
		t.Errorf("the tank is not watched any more and has %+v", as)
	}
	if d := r.Device(tank); len(d.Margins) != 0 || d.Health != "sound" {
		t.Errorf("it still has %v and is %s", d.Margins, d.Health)
	}
	r.Must(r.Alarms.RemoveRule(t.Context(), "must_too_warm", noun.If{}, "tester"))
	if err := r.Alarms.RemoveRule(t.Context(), "must_too_warm", noun.If{}, "tester"); rig.Code(err) != fault.NotFound {
		t.Errorf("removed twice: %v", err)
	}
	r.Restart(false)
	if rs := r.Alarms.Rules(); len(rs) != 1 || rs[0].Name != "co2_high" {
		t.Errorf("after a restart the rules are %v", rs)
	}
	for _, c := range []struct{ src, says string }{
		{strings.Replace(quick, "co2 >", "co3 >", 1), "did you mean co2?"},
		{strings.Replace(quick, "cellar-air", "cellar-hair", 1), "there is no model"},
		{strings.Replace(quick, "co2_high", "repeated_refusals", 1), "built in"},
	} {
		if _, err := r.Alarms.SetRule(t.Context(), must(rule.Parse([]byte(c.src))), "tester"); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("the error is %v, want %q", err, c.says)
		}
	}
}

// A new rule looks at what is so now, as of now, and not at what was before.
func TestNewRuleLooksForward(t *testing.T) {
	r := rig.New(t)
	r.Onboard("air-kilnside-2", "cellar-air", nil)
	r.Keep("air-kilnside-2", `{"co2":4000}`)
	r.Pass(time.Minute)
	r.Rule(quick)
	if as := r.OpenAlarms(); len(as) != 1 || !as[0].RaisedAt.Equal(rig.Start.Add(time.Minute)) ||
		as[0].Value.Num != 4000 {
		t.Errorf("of what stands already a new rule says %+v", as)
	}
	r.Onboard("air-kilnside-1", "cellar-air", nil)
	r.Keep("air-kilnside-1", `{"co2":4000}`)
	r.Keep("air-kilnside-1", `{"co2":400}`)
	r.Pass(time.Minute)
	r.Rule(strings.Replace(quick, "co2_high", "co2_higher", 1))
	if as := r.OpenAlarms(); len(as) != 3 {
		t.Errorf("of what was over before it was made a new rule says %+v", as)
	}
}

func TestHeadspaceFollowsTheSetting(t *testing.T) {
	r := fermenting(t)
	temp(r, 27)
	if d := r.Device(tank); d.Least == nil || d.Least.Headspace != 0.5 || !d.Least.Upward || d.Least.Limit != 32 {
		t.Fatalf("the least headspace is %+v", d.Least)
	}
	r.SendMessage(applied(tank, `{"revision":1,"applied":{"max_temp":27.5,"report_every":10,"stir_at":28,"display_unit":"Cel"}}`))
	if d := r.Device(tank); d.Least.Limit != 27.5 || d.Health != "watch" {
		t.Errorf("with another limit applied it is %+v and %s", d.Least, d.Health)
	}
}

func TestRetiredDevicesAreNotWatched(t *testing.T) {
	r := fermenting(t)
	for range 12 {
		temp(r, 33)
		r.Pass(time.Minute)
	}
	_, err := r.Devices.SetStatus(t.Context(), tank, devices.Retired, "tester")
	r.Must(err)
	r.Settle()
	if as := r.OpenAlarms(); len(as) != 0 {
		t.Errorf("a retired device has %+v", as)
	}
	if all, err := r.Alarms.List(t.Context(), alarms.Filter{Device: tank}); err != nil || len(all) != 1 {
		t.Errorf("its history is %v, %v", all, err)
	}
}
