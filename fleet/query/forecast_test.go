package query_test

import (
	"fmt"
	"math"
	"testing"
	"time"

	"ullage/core/value"
	"ullage/fleet/ingest"
	"ullage/fleet/query"
	"ullage/test/rig"
)

// TestForecastOfSeldomReadings forecasts readings that come once an hour, or
// every eleven minutes with some missing, although the model expects one a minute.
func TestForecastOfSeldomReadings(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	for name, c := range map[string]struct {
		every time.Duration
		lacks func(i int) bool
		ahead time.Duration
		step  time.Duration
	}{
		"once an hour":            {time.Hour, func(int) bool { return false }, 12 * time.Hour, time.Hour},
		"once an hour, for a day": {time.Hour, func(int) bool { return false }, 24 * time.Hour, time.Hour},
		"every eleven minutes":    {11 * time.Minute, func(i int) bool { return i%7 == 3 }, 12 * time.Hour, 30 * time.Minute},
		"every minute":            {time.Minute, func(int) bool { return false }, 12 * time.Hour, 30 * time.Minute},
		"a day, for a week":       {time.Hour, func(int) bool { return false }, 7 * 24 * time.Hour, 4 * time.Hour},
	} {
		r, clerk := season(t)
		id := "tank-seldom"
		r.Onboard(id, "tank-probe", nil)
		way := func(at time.Time) float64 { return 20 + 3*math.Sin(2*math.Pi*at.Sub(begin).Hours()/24) }
		var rs []value.Reading
		at := begin
		for i := 0; at.Before(begin.Add(20 * day)); i++ {
			if !c.lacks(i) {
				rs = append(rs, value.Reading{Metric: "must_temp", At: at, Value: value.OfNumber(way(at))})
			}
			at = at.Add(c.every)
		}
		newest := rs[len(rs)-1]
		store(t, r, id, rs)
		r.Clock.Forward(newest.At.Add(20 * time.Second).Sub(r.Clock.Now()))
		o, err := clerk(nil, limits{}).Forecast(t.Context(), query.Query{Devices: []string{id}, Metrics: []string{"must_temp"}}, c.ahead)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if !o.Seasonal || o.Step != c.step {
			t.Errorf("%s: it is by %s in steps of %s, want the way of a day in steps of %s", name, o.Method, o.Step, c.step)
		}
		first, last := o.Steps[0], o.Steps[len(o.Steps)-1]
		if !first.At.Equal(newest.At) || first.Mean != newest.Value.Num || first.Low != first.Mean || first.High != first.Mean {
			t.Errorf("%s: it begins with %+v, want the newest reading, %v at %s", name, first, newest.Value, newest.At)
		}
		if off := last.At.Sub(newest.At.Add(c.ahead)); off < 0 || off >= o.Step {
			t.Errorf("%s: it ends at %s, want %s after the newest reading", name, last.At, c.ahead)
		}
		for _, x := range o.Steps {
			if want := way(x.At); math.Abs(x.Mean-want) > 0.8 {
				t.Errorf("%s: at %s it says %.2f, want %.2f", name, x.At, x.Mean, want)
				break
			}
		}
	}
}

// TestForecastFromThePast forecasts from a moment that is over.
func TestForecastFromThePast(t *testing.T) {
	r, clerk := season(t)
	r.Clock.Forward(begin.Add(2 * day).Sub(r.Clock.Now()))
	c := clerk(nil, limits{})
	end := begin.Add(36*time.Hour + 20*time.Second)
	o, err := c.Forecast(t.Context(), query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}, From: begin, To: end}, 2*time.Hour)
	r.Must(err)
	if want := begin.Add(36 * time.Hour); !o.Steps[0].At.Equal(want) {
		t.Errorf("it begins at %s, want %s", o.Steps[0].At, want)
	}
	now, err := c.Forecast(t.Context(), query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}}, 2*time.Hour)
	r.Must(err)
	if fmt.Sprint(now.Steps[1]) == fmt.Sprint(o.Steps[1]) {
		t.Error("the forecast from the past is that of now")
	}
}

func store(t *testing.T, r *rig.Rig, device string, rs []value.Reading) {
	t.Helper()
	done := make(chan error, 1)
	r.Must(r.Store.Append(ingest.Append{Device: device, Readings: rs, Every: time.Minute, Done: func(err error) { done <- err }}))
	r.Must(<-done)
}

// TestForecastsAreOneWay has what comes within two hours at the beginning of what
// comes within a day: three days of a level, and then a steady rise to a limit.
func TestForecastsAreOneWay(t *testing.T) {
	r, clerk := season(t)
	id := "tank-rising"
	r.Onboard(id, "tank-probe", nil)
	var rs []value.Reading
	for i := range 3*24*60 + 240 {
		v := 24 + 0.3*math.Sin(float64(i)/97)
		if i > 3*24*60 {
			v += 0.9 / 60 * float64(i-3*24*60)
		}
		rs = append(rs, value.Reading{Metric: "must_temp", At: begin.Add(time.Duration(i) * time.Minute), Value: value.OfNumber(math.Round(v*10) / 10)})
	}
	store(t, r, id, rs)
	newest := rs[len(rs)-1]
	r.Clock.Forward(newest.At.Sub(r.Clock.Now()))
	c := clerk(nil, limits{{Rule: "warm", Metric: "must_temp", Of: "must_temp", Unit: "Cel", Value: newest.Value.Num, Limit: newest.Value.Num + 1, Upward: true}})
	var all []*query.Outlook
	for _, ahead := range []time.Duration{2 * time.Hour, 12 * time.Hour, 7 * day} {
		o, err := c.Forecast(t.Context(), query.Query{Devices: []string{id}, Metrics: []string{"must_temp"}}, ahead)
		r.Must(err)
		all = append(all, o)
	}
	if got := all[0].Limits[0].Likely.Sub(newest.At); got < 45*time.Minute || got > 90*time.Minute {
		t.Errorf("the limit is reached in %s, want about 1h7min", got)
	}
	if all[0].Limits[0].Beyond {
		t.Error("it is said to be beyond a limit that it is short of")
	}
	for upward, off := range map[bool]float64{true: -1, false: 1} {
		c := clerk(nil, limits{{Rule: "past", Metric: "must_temp", Of: "must_temp", Unit: "Cel", Value: newest.Value.Num, Limit: newest.Value.Num + off, Upward: upward}})
		o, err := c.Forecast(t.Context(), query.Query{Devices: []string{id}, Metrics: []string{"must_temp"}}, time.Hour)
		r.Must(err)
		if !o.Limits[0].Beyond {
			t.Errorf("a limit that is passed (upward: %t) is %+v", upward, o.Limits[0])
		}
	}
	for _, o := range all[1:] {
		if o.Limits[0] != all[0].Limits[0] {
			t.Errorf("in steps of %s it says %+v, want %+v", o.Step, o.Limits[0], all[0].Limits[0])
		}
		last := all[0].Steps[len(all[0].Steps)-1]
		for _, x := range o.Steps[1:] {
			if !x.At.Before(last.At) && x.Mean < last.Mean-0.3 {
				t.Errorf("in steps of %s it says %.2f at %s, below the %.2f that it has come to two hours ahead", o.Step, x.Mean, x.At, last.Mean)
				break
			}
			if x.Low > x.Mean || x.High < x.Mean {
				t.Fatalf("in steps of %s the band does not hold its middle: %+v", o.Step, x)
			}
		}
	}
}
