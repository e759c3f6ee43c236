package vitals_test

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ullage/core/rule"
	"ullage/core/stats"
	"ullage/core/vitals"
)

var now = time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)

func TestLinkOf(t *testing.T) {
	for _, c := range []struct {
		ago  time.Duration
		want vitals.Link
		next time.Duration
	}{
		{0, vitals.Online, 90 * time.Second}, {89 * time.Second, vitals.Online, time.Second}, {90 * time.Second, vitals.Late, 90 * time.Second},
		{179 * time.Second, vitals.Late, time.Second}, {180 * time.Second, vitals.Silent, 0}, {time.Hour, vitals.Silent, 0},
	} {
		got, next := vitals.LinkOf(now.Add(-c.ago), now, time.Minute)
		if got != c.want || c.next > 0 && next.Sub(now) != c.next || c.next == 0 && !next.IsZero() {
			t.Errorf("%s ago is %s until %s; want %s for %s", c.ago, got, next, c.want, c.next)
		}
	}
	if got, _ := vitals.LinkOf(time.Time{}, now, time.Minute); got != vitals.Never {
		t.Errorf("never heard of is %s", got)
	}
}

func TestTimeToLimit(t *testing.T) {
	falling := func(perHour, noise float64) stats.Trend {
		r := rand.New(rand.NewPCG(1, 1))
		out := make([]stats.Point, 30)
		for i := range out {
			out[i] = stats.Point{X: float64(i) * 120, Y: 1 - perHour*float64(i)/30 + noise*r.NormFloat64()}
		}
		trend, _ := stats.TheilSen(out)
		return trend
	}
	got, ok := vitals.TimeToLimit(falling(0.25, 0), 0.5)
	if !ok || got.Likely != 2*time.Hour || got.Early != 2*time.Hour || got.Late != 2*time.Hour {
		t.Errorf("a straight fall gets there in %+v, %t", got, ok)
	}
	got, ok = vitals.TimeToLimit(falling(0.25, 0.02), 0.5)
	if !ok || got.Early >= got.Likely || got.Likely >= got.Late || got.Early < time.Hour || got.Late > 4*time.Hour {
		t.Errorf("a noisy fall gets there in %+v, %t", got, ok)
	}
	for name, trend := range map[string]stats.Trend{"rising": falling(-0.3, 0), "level": falling(0, 0), "all noise": falling(0.02, 0.3), "very slow": falling(0.001, 0), "none": {}} {
		if got, ok := vitals.TimeToLimit(trend, 0.9); ok {
			t.Errorf("%s gets there in %+v", name, got)
		}
	}
	if _, ok := vitals.TimeToLimit(falling(0.25, 0), 0); ok {
		t.Error("what is at the limit gets there later")
	}
}

func TestJudge(t *testing.T) {
	sound := vitals.Signs{Link: vitals.Online, LastAt: now, Interval: time.Minute}
	with := func(f func(*vitals.Signs)) vitals.Signs { s := sound; f(&s); return s }
	for _, c := range []struct {
		name  string
		signs vitals.Signs
		want  vitals.Health
		says  string
	}{
		{"sound", sound, vitals.Sound, ""},
		{"new", vitals.Signs{Link: vitals.Never}, vitals.Sound, ""},
		{"late is no ill health yet", with(func(s *vitals.Signs) { s.Link = vitals.Late }), vitals.Sound, ""},
		{"silent", with(func(s *vitals.Signs) { s.Link, s.LastAt = vitals.Silent, now.Add(-38*time.Minute) }), vitals.Dark, "silent for 38min, expected every 1min"},
		{"urgent", with(func(s *vitals.Signs) { s.Alarms = []vitals.Alarm{{"co2", rule.Urgent, true}} }), vitals.Poor, "urgent alarm co2"},
		{"low alarm", with(func(s *vitals.Signs) { s.Alarms = []vitals.Alarm{{"x", rule.Low, true}} }), vitals.Watch, "low alarm x"},
		{"a returned alarm", with(func(s *vitals.Signs) { s.Alarms = []vitals.Alarm{{"x", rule.Urgent, false}} }), vitals.Sound, ""},
		{"little headspace", with(func(s *vitals.Signs) { s.Least = &vitals.Margin{Metric: "co2", Headspace: 0.186, Known: true} }), vitals.Watch, "headspace 19 % on co2"},
		{"headspace enough", with(func(s *vitals.Signs) { s.Least = &vitals.Margin{Headspace: 0.2, Known: true} }), vitals.Sound, ""},
		{"headspace not known", with(func(s *vitals.Signs) { s.Least = &vitals.Margin{} }), vitals.Sound, ""},
		{"fresh drift", with(func(s *vitals.Signs) { s.DriftSince, s.Drifting = now.Add(-14*time.Minute), []string{"stir_at"} }), vitals.Sound, ""},
		{"drift", with(func(s *vitals.Signs) { s.DriftSince, s.Drifting = now.Add(-15*time.Minute), []string{"stir_at"} }), vitals.Watch, "stir_at has drifted for 15min"},
		{"refusals", with(func(s *vitals.Signs) { s.Refusals = 5 }), vitals.Watch, "5 refusals"},
		{"suspended", with(func(s *vitals.Signs) { s.Suspended, s.Link = true, vitals.Silent }), vitals.Sound, "suspended"},
		{"dark beats poor", with(func(s *vitals.Signs) {
			s.Link, s.LastAt, s.Alarms = vitals.Silent, now.Add(-time.Hour), []vitals.Alarm{{"x", rule.High, true}}
		}), vitals.Dark, "high alarm x"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, reasons := vitals.Judge(c.signs, now)
			if got != c.want || !strings.Contains(strings.Join(reasons, "; "), c.says) {
				t.Errorf("health is %s because of %q; want %s because of %q", got, reasons, c.want, c.says)
			}
			if got != vitals.Sound && len(reasons) == 0 {
				t.Error("no reason is given")
			}
		})
	}
}

func TestAgo(t *testing.T) {
	for d, want := range map[time.Duration]string{
		40 * time.Second: "40s", 38*time.Minute + 12*time.Second: "38min", 6*time.Hour + 12*time.Minute: "6h12min", 76 * time.Hour: "3d4h", 0: "0s",
	} {
		if got := vitals.Ago(d); got != want {
			t.Errorf("Ago(%s) = %s, want %s", d, got, want)
		}
	}
}
