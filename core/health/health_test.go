package health_test

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ullage/core/health"
	"ullage/core/rule"
	"ullage/core/stats"
	"ullage/core/value"
)

var now = time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)

func TestLinkOf(t *testing.T) {
	for _, c := range []struct {
		ago  time.Duration
		want health.Link
		next time.Duration
	}{
		{0, health.Online, 90 * time.Second}, {89 * time.Second, health.Online, time.Second}, {90 * time.Second, health.Overdue, 90 * time.Second},
		{179 * time.Second, health.Overdue, time.Second}, {180 * time.Second, health.Silent, 0}, {time.Hour, health.Silent, 0},
	} {
		got, next := health.LinkOf(now.Add(-c.ago), now, time.Minute)
		if got != c.want || c.next > 0 && next.Sub(now) != c.next || c.next == 0 && !next.IsZero() {
			t.Errorf("%s ago is %s until %s; want %s for %s", c.ago, got, next, c.want, c.next)
		}
	}
	if got, _ := health.LinkOf(time.Time{}, now, time.Minute); got != health.Never {
		t.Errorf("never heard of is %s", got)
	}
}

func TestApproaching(t *testing.T) {
	falling := func(perHour, noise float64) stats.Trend {
		r := rand.New(rand.NewPCG(1, 1))
		out := make([]stats.Point, 30)
		for i := range out {
			out[i] = stats.Point{X: float64(i) * 120, Y: 1 - perHour*float64(i)/30 + noise*r.NormFloat64()}
		}
		trend, _ := stats.TheilSen(out)
		return trend
	}
	for name, trend := range map[string]stats.Trend{"a straight fall": falling(0.25, 0), "a noisy fall": falling(0.25, 0.02)} {
		if !health.Approaching(trend, 0.5) {
			t.Errorf("%s does not lead to the limit", name)
		}
		if health.Approaching(trend, 0) {
			t.Errorf("%s leads there from the limit itself", name)
		}
	}
	for name, trend := range map[string]stats.Trend{"rising": falling(-0.3, 0), "level": falling(0, 0),
		"all noise": falling(0.02, 0.3), "very slow": falling(0.001, 0), "none": {}} {
		if health.Approaching(trend, 0.9) {
			t.Errorf("%s leads to the limit", name)
		}
	}
}

func TestJudge(t *testing.T) {
	sound := health.Signs{Link: health.Online, LastAt: now, Interval: time.Minute}
	with := func(f func(*health.Signs)) health.Signs { s := sound; f(&s); return s }
	for _, c := range []struct {
		name  string
		signs health.Signs
		want  health.Health
		says  string
	}{
		{"sound", sound, health.Sound, ""},
		{"new", health.Signs{Link: health.Never}, health.Awaited, "never connected"},
		{"new with an alarm", health.Signs{Link: health.Never, Alarms: []health.Alarm{{"never_seen", rule.High, true}}}, health.Poor, "never_seen"},
		{"overdue is no ill health yet", with(func(s *health.Signs) { s.Link = health.Overdue }), health.Sound, ""},
		{"silent", with(func(s *health.Signs) { s.Link, s.LastAt = health.Silent, now.Add(-38*time.Minute) }), health.Dark, "silent for 38min, expected every 1min"},
		{"urgent", with(func(s *health.Signs) { s.Alarms = []health.Alarm{{"co2", rule.Urgent, true}} }), health.Poor, "urgent alarm co2"},
		{"low alarm", with(func(s *health.Signs) { s.Alarms = []health.Alarm{{"x", rule.Low, true}} }), health.Watch, "low alarm x"},
		{"a returned alarm", with(func(s *health.Signs) { s.Alarms = []health.Alarm{{"x", rule.Urgent, false}} }), health.Poor, "returned and not acknowledged"},
		{"little headspace", with(func(s *health.Signs) { s.Least = &health.Margin{Metric: "co2", Headspace: 0.186, Known: true} }), health.Watch, "headspace 19 % on co2"},
		{"headspace enough", with(func(s *health.Signs) { s.Least = &health.Margin{Headspace: 0.2, Known: true} }), health.Sound, ""},
		{"headspace not known", with(func(s *health.Signs) { s.Least = &health.Margin{} }), health.Sound, ""},
		{"fresh drift", with(func(s *health.Signs) { s.DriftSince, s.Drifting = now.Add(-14*time.Minute), []string{"stir_at"} }), health.Sound, ""},
		{"drift", with(func(s *health.Signs) { s.DriftSince, s.Drifting = now.Add(-15*time.Minute), []string{"stir_at"} }), health.Watch, "stir_at has drifted for 15min"},
		{"refusals", with(func(s *health.Signs) { s.Refusals = 5 }), health.Watch, "5 refusals"},
		{"no clock", with(func(s *health.Signs) { s.Clock = value.ClockNotSet | value.BeyondRange }), health.Watch, "its clock is not set"},
		{"beyond range is no clock", with(func(s *health.Signs) { s.Clock = value.BeyondRange }), health.Sound, ""},
		{"suspended", with(func(s *health.Signs) { s.Out, s.Link = "suspended", health.Silent }), health.None, "suspended"},
		{"dark beats poor", with(func(s *health.Signs) {
			s.Link, s.LastAt, s.Alarms = health.Silent, now.Add(-time.Hour), []health.Alarm{{"x", rule.High, true}}
		}), health.Dark, "high alarm x"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, reasons := health.Judge(c.signs, now)
			if got != c.want || !strings.Contains(strings.Join(reasons, "; "), c.says) {
				t.Errorf("health is %s because of %q; want %s because of %q", got, reasons, c.want, c.says)
			}
			if got != health.Sound && len(reasons) == 0 {
				t.Error("no reason is given")
			}
		})
	}
}

func TestAgo(t *testing.T) {
	for d, want := range map[time.Duration]string{
		40 * time.Second: "40s", 38*time.Minute + 12*time.Second: "38min", 6*time.Hour +
			12*time.Minute: "6h12min", 76 * time.Hour: "3d4h", 0: "0s",
	} {
		if got := health.Ago(d); got != want {
			t.Errorf("Ago(%s) = %s, want %s", d, got, want)
		}
	}
}

// TestStays: a length of time is written the same until it has grown by what Stays says, and otherwise then.
func TestStays(t *testing.T) {
	for _, d := range []time.Duration{0, 1, 999 * time.Millisecond, 59*time.Second + 1, time.Minute, 3*time.Minute + 59*time.Second,
		24*time.Hour - 1, 24 * time.Hour, 76*time.Hour + 11*time.Minute} {
		until := d + health.Stays(d)
		if health.Ago(d) != health.Ago(until-1) || health.Ago(d) == health.Ago(until) {
			t.Errorf("%s is written %s, %s just before %s, and %s then", d, health.Ago(d), health.Ago(until-1), until, health.Ago(until))
		}
	}
}
