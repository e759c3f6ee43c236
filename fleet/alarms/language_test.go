package alarms_test

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"ullage/core/health"
	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
	"ullage/fleet/query"
	"ullage/test/rig"
)

const air = "air-kilnside-2"

func onboard(t *testing.T, rules ...string) *rig.Rig {
	r := rig.New(t)
	r.Onboard(air, "cellar-air", map[string]string{"site": "Kilnside"})
	for _, x := range rules {
		r.Rule(x)
	}
	return r
}

func ruleOf(name, raise, more string) string {
	return fmt.Sprintf("rule: %s\nmodels: [cellar-air]\nraise: %s\npriority: medium\nmessage: '{device.id}: {co2}'\n%s",
		name, raise, more)
}

func co2(r *rig.Rig, v float64) { r.Keep(air, fmt.Sprintf(`{"co2":%g}`, v)) }

// Silence is raised at its moment although nothing arrives, and returns with
// the first reading.
func TestSilence(t *testing.T) {
	r := onboard(t, ruleOf("air_silent", "age(co2) > 5min", ""))
	co2(r, 700)
	for range 6 {
		r.Pass(50 * time.Second)
	}
	if as := r.OpenAlarms(); len(as) != 0 {
		t.Fatalf("after 5 minutes: %+v", as)
	}
	r.Pass(10 * time.Second)
	as := r.OpenAlarms()
	if len(as) != 1 || !as[0].RaisedAt.Equal(rig.Start.Add(5*time.Minute+time.Millisecond)) {
		t.Fatalf("after more than 5 minutes: %+v", as)
	}
	co2(r, 710)
	if as := r.OpenAlarms(); len(as) != 1 || as[0].State != lifecycle.Returned {
		t.Errorf("heard again: %+v", as)
	}
}

func TestNeverHeardIsSilentSinceItJoined(t *testing.T) {
	r := onboard(t, ruleOf("air_silent", "age(co2) > 5min", ""))
	r.Pass(5*time.Minute + time.Second)
	if as := r.OpenAlarms(); len(as) != 1 || as[0].Message != air+": –" {
		t.Errorf("a device that never reported has %+v", as)
	}
}

// A window rises with its readings, and goes by time alone.
func TestWindowAndClear(t *testing.T) {
	r := onboard(t, ruleOf("co2_for_long", "mean(co2 over 10min) > 1500",
		"clear: mean(co2 over 10min) < 1200 or age(co2) > 20min\n"))
	for range 12 {
		co2(r, 1000)
		r.Pass(time.Minute)
	}
	co2(r, 9000)
	if as := r.OpenAlarms(); len(as) != 1 || as[0].Value.Num != 9000 || as[0].Limit.Num != 1500 {
		t.Fatalf("the mean went over the limit: %+v", as)
	}
	if d := r.Device(air); len(d.Margins) != 1 || d.Margins[0].Of != "mean(co2 over 10min)" ||
		d.Margins[0].Metric != "co2" || !d.Margins[0].Known || d.Margins[0].Headspace != 0 {
		t.Errorf("margins are %+v", d.Margins)
	}
	for range 8 {
		r.Pass(time.Minute)
		co2(r, 1000)
	}
	if as := r.OpenAlarms(); len(as) != 1 || as[0].State != lifecycle.Unacknowledged {
		t.Fatalf("the mean is between clear and raise: %+v", as)
	}
	for range 4 {
		r.Pass(time.Minute)
		co2(r, 1000)
	}
	if as := r.OpenAlarms(); len(as) != 1 || as[0].State != lifecycle.Returned {
		t.Errorf("the peak has left the window: %+v", as)
	}
}

// With and without a restart in the middle of a window, the same happens.
func TestWindowsAfterARestart(t *testing.T) {
	happened := func(restart bool) string {
		r := onboard(t, ruleOf("co2_swings", "stddev(co2 over 30min) > 100 and time_in(co2 > 900 over 1h) > 10min",
			"on_delay: 3min\noff_delay: 2min\n"), ruleOf("co2_day", "max(co2 over 6h) - min(co2 over 6h) > 900", ""))
		for i := range 150 {
			co2(r, math.Round(800+400*math.Sin(float64(i)/7)+float64(i)))
			r.Pass(time.Minute)
			if restart && i%17 == 13 {
				r.Restart(i%2 == 0)
			}
		}
		var out []string
		for _, k := range []fact.Kind{fact.AlarmRaised, fact.AlarmReturned} {
			out = append(out, r.Journal(k)...)
		}
		for _, a := range r.OpenAlarms() {
			out = append(out, a.Rule+string(a.State)+a.RaisedAt.String())
		}
		return strings.Join(out, "\n")
	}
	without := happened(false)
	if with := happened(true); with != without || strings.Count(without, "\n") < 3 {
		t.Errorf("with restarts\n%s\nwithout\n%s", with, without)
	}
}

// Readings that come hours late go through the windows of their own time.
func TestLateReadingsThroughWindows(t *testing.T) {
	r := onboard(t, ruleOf("co2_for_long", "mean(co2 over 10min) > 1500", ""))
	co2(r, 700)
	for range 4 {
		r.Pass(time.Hour)
	}
	var parts []string
	for i := range 40 {
		v := 700
		if i >= 10 && i < 25 {
			v = 3000
		}
		parts = append(parts, fmt.Sprintf(`{"at":%q,"co2":%d}`, rig.Start.Add(time.Hour+time.Duration(i)*time.Minute).
			Format(time.RFC3339), v))
	}
	r.Keep(air, "["+strings.Join(parts, ",")+"]")
	up, down := r.Journal(fact.AlarmRaised), r.Journal(fact.AlarmReturned)
	if len(r.OpenAlarms()) != 0 || len(up) != 1 || len(down) != 1 || !strings.Contains(up[0], "reported late") {
		t.Errorf("the journal tells %q and %q; open are %+v", up, down, r.OpenAlarms())
	}
}

func TestAskingAboutAnotherRule(t *testing.T) {
	r := onboard(t, ruleOf("co2_high", "co2 > set.co2_warn", ""), ruleOf("fan_helpless", "raised(co2_high) and fan_on",
		""))
	r.Keep(air, `{"co2":1900,"fan_on":false}`)
	r.Pass(time.Second)
	if as := r.OpenAlarms(); len(as) != 1 || as[0].Rule != "co2_high" {
		t.Fatalf("open are %+v", as)
	}
	r.Keep(air, `{"co2":1900,"fan_on":true}`)
	if as := r.OpenAlarms(); len(as) != 2 {
		t.Errorf("with the fan on: %+v", as)
	}
	for _, c := range []struct{ src, says string }{
		{ruleOf("co2_high", "co2 > 1000 and not raised(fan_helpless)", ""), "in a circle: co2_high asks fan_helpless asks co2_high"},
		{ruleOf("x", "raised(co2_hihg)", ""), "did you mean co2_high?"},
	} {
		if _, err := r.Alarms.SetRule(t.Context(), must(rule.Parse([]byte(c.src))), "tester"); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("the error is %v, want %q", err, c.says)
		}
	}
	if err := r.Alarms.RemoveRule(t.Context(), "co2_high", noun.If{}, "tester"); rig.Code(err) != fault.Conflict ||
		!strings.Contains(err.Error(), "fan_helpless asks") {
		t.Errorf("removing what another asks about: %v", err)
	}
}

func TestSchedule(t *testing.T) {
	// It is Monday, 14:00 UTC, in the rig.
	r := onboard(t, ruleOf("co2_at_night", `co2 > 900 and during("daily 14:30-15:00")`, ""))
	for range 32 {
		co2(r, 1000)
		r.Pass(time.Minute)
	}
	as := r.OpenAlarms()
	if len(as) != 1 || !as[0].RaisedAt.Equal(rig.Start.Add(30*time.Minute)) {
		t.Fatalf("at 14:32: %+v", as)
	}
	for range 30 {
		co2(r, 1000)
		r.Pass(time.Minute)
	}
	if as := r.OpenAlarms(); len(as) != 1 || as[0].State != lifecycle.Returned ||
		!as[0].ReturnedAt.Equal(rig.Start.Add(time.Hour)) {
		t.Errorf("at 15:02: %+v", as)
	}
}

// A setting that changes is judged at once.
func TestSettingIsJudgedAtOnce(t *testing.T) {
	r := onboard(t, ruleOf("co2_high", "co2 > set.co2_warn", ""))
	co2(r, 1400)
	r.Pass(time.Second)
	if len(r.OpenAlarms()) != 0 {
		t.Fatal("raised below the limit")
	}
	_, err := r.Settings.Set(t.Context(), air, map[string]any{"co2_warn": 1300.0}, nil, "mara")
	r.Must(err)
	r.Settle()
	if as := r.OpenAlarms(); len(as) != 1 || as[0].Limit.Num != 1300 {
		t.Errorf("with a lower limit: %+v", as)
	}
}

func TestTimeToLimit(t *testing.T) {
	r := fermenting(t)
	for i := range 60 { // 3 K an hour towards 32
		temp(r, math.Round((24+0.05*float64(i))*10)/10)
		r.Pass(time.Minute)
	}
	// toLimit is when the page of the device says that it gets there.
	toLimit := func() health.ToLimit {
		t.Helper()
		for r.Ahead.Next(t.Context()) {
			r.Settle()
		}
		m := r.Device(tank).Margins
		if len(m) != 1 {
			t.Fatalf("there are %d margins, want 1", len(m))
		}
		return m[0].ToLimit
	}
	got := toLimit()
	if d := got.Likely.Sub(r.Clock.Now()); d < 85*time.Minute || d > 115*time.Minute || got.Early.After(got.Likely) ||
		!got.Late.IsZero() && got.Late.Before(got.Likely) {
		t.Fatalf("5 K below the limit at 3 K an hour: %+v", got)
	}
	// A forecast that is asked for says the same.
	o, err := r.Queries.Forecast(t.Context(), query.Query{Devices: []string{tank}, Metrics: []string{"must_temp"}}, 2*time.Hour)
	r.Must(err)
	if len(o.Limits) != 1 || o.Limits[0].ToLimit != got {
		t.Errorf("the forecast says %+v, the device %+v; want one answer", o.Limits, got)
	}
	r.Restart(false)
	r.Pass(time.Second)
	if after := toLimit(); after != got {
		t.Errorf("after a restart it is %+v, before %+v", after, got)
	}
	for range 70 {
		temp(r, 27)
		r.Pass(time.Minute)
	}
	if got := toLimit(); !got.Likely.IsZero() {
		t.Errorf("on a level it still gets to the limit: %+v", got)
	}
}

// What the model does not call usual is the median of the last days, once
// there is a day of them.
func TestUsualFromHistory(t *testing.T) {
	r := onboard(t)
	model := `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel","title":"Cellar air","version":{"model":"9.0.0"},"ullage:name":"cellar-air","ullage:interval":"10min",
		"properties":{"co2":{"type":"number","unit":"ppm","readOnly":true,"ullage:role":"telemetry"}}}`
	_, _, err := r.Models.Publish(t.Context(), []byte(model), nil, "tester")
	r.Must(err)
	_, err = r.Devices.Move(t.Context(), air, "9.0.0", "tester")
	r.Must(err)
	r.Settle()
	r.Rule(ruleOf("co2_high", "co2 > 2000", ""))
	for range 30 {
		co2(r, 500)
		r.Pass(10 * time.Minute)
	}
	if m := r.Device(air).Margins; len(m) != 1 || m[0].Known {
		t.Fatalf("after five hours usual is known: %+v", m)
	}
	for range 150 {
		co2(r, 500)
		r.Pass(10 * time.Minute)
	}
	co2(r, 1250)
	r.Pass(time.Second)
	if m := r.Device(air).Margins; len(m) != 1 || !m[0].Known || m[0].Headspace != 0.5 {
		t.Errorf("half way from the median to the limit: %+v", m)
	}
}

// While a backlog comes in, in pieces, nothing is raised for what the next
// piece may tell.
func TestBacklogInPieces(t *testing.T) {
	r := onboard(t, ruleOf("air_silent", "age(co2) > 5min", ""))
	co2(r, 700)
	r.Pass(time.Second)
	r.Pass(4 * time.Hour)
	if as := r.OpenAlarms(); len(as) != 1 {
		t.Fatalf("silent for hours: %+v", as)
	}
	at := rig.Start
	for piece := range 20 {
		if piece == 10 { // a rule that comes in between looks at the device's time
			r.Rule(ruleOf("air_silent_too", "age(co2) > 5min", ""))
		}
		var parts []string
		for range 12 {
			at = at.Add(time.Minute)
			parts = append(parts, fmt.Sprintf(`{"at":%q,"co2":700}`, at.Format(time.RFC3339)))
		}
		r.Keep(air, "["+strings.Join(parts, ",")+"]")
		r.Pass(time.Second)
	}
	if up := r.Journal(fact.AlarmRaised); len(up) != 1 {
		t.Errorf("the journal tells %q", up)
	}
	if as := r.OpenAlarms(); len(as) != 1 || as[0].State != lifecycle.Returned {
		t.Errorf("after the backlog: %+v", as)
	}
	r.Pass(10 * time.Minute)
	if as := r.OpenAlarms(); len(as) != 2 || as[1].State != lifecycle.Unacknowledged || as[1].Times != 2 {
		t.Errorf("silent again: %+v", as)
	}
}

// A device whose clock is behind lives in its own time; its readings are not
// late for it.
func TestClockBehind(t *testing.T) {
	r := onboard(t, ruleOf("co2_for_long", "mean(co2 over 10min) > 1500", ""),
		ruleOf("air_silent", "age(co2) > 5min", ""))
	at := func(v float64) {
		r.Keep(air, fmt.Sprintf(`{"at":%q,"co2":%g}`, r.Clock.Now().Add(-2*time.Minute).Format(time.RFC3339), v))
	}
	for range 14 {
		at(1000)
		r.Pass(30 * time.Second)
		r.Pass(30 * time.Second)
	}
	at(9000)
	if as := r.OpenAlarms(); len(as) != 1 || as[0].Rule != "co2_for_long" ||
		!as[0].RaisedAt.Equal(r.Clock.Now().Add(-2*time.Minute)) {
		t.Fatalf("open are %+v", as)
	}
	for range 12 {
		r.Pass(30 * time.Second)
	}
	silent := 0
	for _, a := range r.OpenAlarms() {
		if a.Rule == "air_silent" {
			silent++
		}
	}
	if silent != 1 {
		t.Errorf("after six minutes of silence open are %+v", r.OpenAlarms())
	}
}

// TestLongWindowsAfterRestart fills windows of days from roll-ups, and answers
// as if nothing had been stopped: after a crash, and when a late reading makes
// it begin again.
func TestLongWindowsAfterRestart(t *testing.T) {
	r := onboard(t, ruleOf("air_stale", "mean(co2 over 1d) > 1500", ""),
		ruleOf("air_peak", "max(co2 over 3d) > 2500 and count(co2 over 2d) > 100", ""), ruleOf("air_rising",
			"delta(co2 over 20h) > 2000", ""))
	for i := range 4 * 48 { // four days, a batch each half hour
		r.Clock.Forward(30 * time.Minute)
		var parts []string
		for m := range 30 {
			parts = append(parts, fmt.Sprintf(`{"at":%q,"co2":%d}`, r.Clock.Now().Add(time.Duration(m-30)*time.Minute).
				Format(time.RFC3339), 700+(i*i+7*m)%500))
		}
		r.Keep(air, "["+strings.Join(parts, ",")+"]")
	}
	r.Store.Seal()
	r.Clock.Forward(5 * time.Minute) // away from the marks at which panes begin
	co2(r, 801)
	margins := func() map[string]float64 {
		t.Helper()
		r.Pass(time.Second)
		out := map[string]float64{}
		for _, m := range r.Device(air).Margins {
			out[m.Of] = m.Value
		}
		return out
	}
	was := margins()
	if len(was) != 3 || was["mean(co2 over 1d)"] < 700 || was["max(co2 over 3d)"] < 1000 {
		t.Fatalf("the margins are %v", was)
	}
	same := func(when string) {
		t.Helper()
		is := margins()
		for of, v := range was {
			if math.Abs(is[of]-v) > 1e-6 {
				t.Errorf("%s, %s is %v, and was %v", when, of, is[of], v)
			}
		}
	}
	r.Restart(true)
	same("after a crash")
	// The second reading is of the time of the first: everything is as before.
	late := fmt.Sprintf(`{"at":%q,"co2":%d}`, r.Clock.Now().Add(-50*time.Hour).Format(time.RFC3339), 900)
	r.Keep(air, late)
	same("after a late reading")
	r.Restart(false)
	same("after a stop")
}
