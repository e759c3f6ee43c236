package replays_test

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/core/replay"
	"ullage/core/rule"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/replays"
	"ullage/test/rig"
)

const monitor = "air-kilnside-2"

func parse(t *testing.T, text string) rule.Rule {
	t.Helper()
	r, err := rule.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return *r
}

func ruleOf(name, raise, more string) string {
	return fmt.Sprintf("rule: %s\nmodels: [cellar-air]\nraise: %s\npriority: medium\nmessage: '{co2}'\n%s", name, raise, more)
}

// run replays and gathers, by subject.
func run(t *testing.T, r *rig.Rig, a replays.Ask) map[string]*replays.One {
	t.Helper()
	out := map[string]*replays.One{}
	r.Must(r.Replays.Run(t.Context(), a, func(o *replays.One, _ replays.Progress) error {
		if o != nil {
			out[o.Subject] = o
		}
		return nil
	}))
	return out
}

// told lists when live raised and returned the alarms of a rule, on some devices or groups.
func told(t *testing.T, r *rig.Rig, name string, of ...string) (up, down []time.Time) {
	t.Helper()
	fs, err := r.Facts.Facts(t.Context(), fact.Filter{Rule: name, Limit: 10_000})
	r.Must(err)
	for i := len(fs) - 1; i >= 0; i-- {
		if len(of) > 0 && !slices.Contains(of, fs[i].Device+fs[i].Group) {
			continue
		}
		switch fs[i].Kind {
		case fact.AlarmRaised:
			up = append(up, fs[i].At)
		case fact.AlarmReturned:
			down = append(down, fs[i].At)
		}
	}
	return up, down
}

func times(spans []replay.Span) (up, down []time.Time) {
	for _, s := range spans {
		up = append(up, s.From)
		if !s.To.IsZero() {
			down = append(down, s.To)
		}
	}
	return up, down
}

func same(a, b []time.Time) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if !a[i].Equal(b[i]) {
			return false
		}
	}
	return true
}

// What live does with readings on time, a replay does too, to the millisecond: delays,
// deadbands, windows, silence, hours of the day, rules that ask about others, and settings
// that change in between.
func TestLiveEqualsReplay(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	rules := map[string]string{
		"co2_high":   ruleOf("co2_high", "co2 > set.co2_warn", "deadband: 60\non_delay: 40s\noff_delay: 25s\n"),
		"co2_quick":  ruleOf("co2_quick", "co2 > 1500", ""),
		"co2_mean":   ruleOf("co2_mean", "mean(co2 over 3min) > 1480 and count(co2 over 2min) > 3", "on_delay: 10s\n"),
		"air_silent": ruleOf("air_silent", "age(co2) > 90s", ""),
		"co2_rising": ruleOf("co2_rising", "delta(co2 over 1min) > 150", "off_delay: 20s\n"),
		"at_noon":    ruleOf("at_noon", `co2 > 1400 and during("Mon 14:10-14:40")`, ""),
		"no_fan":     ruleOf("no_fan", "raised(co2_quick) and not fan_on", "on_delay: 15s\n"),
		"cleared":    ruleOf("cleared", "co2 > 1550", "clear: co2 < 1300\n"),
		"long_above": ruleOf("long_above", "time_in(co2 > 1500 over 5min) > 2min", ""),
	}
	for seed := range rig.Times(6, 2) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			r := rig.New(t)
			r.Onboard(monitor, "cellar-air", map[string]string{"site": "Kilnside"})
			for _, name := range slices.Sorted(maps.Keys(rules)) { // no_fan asks about one before it
				r.Rule(rules[name])
			}
			random := rand.New(rand.NewPCG(uint64(seed), 7))
			v := 1300.0
			for i := range 500 {
				v = min(max(v+random.NormFloat64()*70, 900), 1900)
				if random.IntN(25) > 0 {
					r.Keep(monitor, fmt.Sprintf(`{"co2":%.0f,"fan_on":%t}`, v, random.IntN(3) == 0))
				}
				if i%90 == 50 {
					_, err := r.Settings.Set(t.Context(), monitor, map[string]any{"co2_warn": 1300.0 + float64(random.IntN(4))*100}, nil, "mara")
					r.Must(err)
					r.Settle()
				}
				// Time goes on in the steps in which live sees it.
				for range 1 + random.IntN(12) {
					r.Pass(time.Second)
				}
				if random.IntN(40) == 0 {
					for range 120 {
						r.Pass(time.Second)
					}
				}
			}
			for name, text := range rules {
				up, down := told(t, r, name)
				a := replays.Ask{Rule: parse(t, text), From: rig.Start.Add(-time.Hour), To: r.Clock.Now(), Live: true}
				got := run(t, r, a)[monitor]
				if got == nil {
					t.Fatalf("%s is replayed on nothing", name)
				}
				u, d := times(got.This.Spans)
				if !same(u, up) || !same(d, down) {
					t.Errorf("%s: live raised %d and returned %d, the replay %d and %d\nlive   %v\nreplay %v\nlive returns   %v\nreplay returns %v", name, len(up), len(down), len(u), len(d), clip(up), clip(u), clip(down), clip(d))
				}
				if len(got.Live.Differences) != 0 || got.Live.Alarms != len(up) || got.InForce == nil || got.InForce.Alarms != got.This.Alarms {
					t.Errorf("%s: live is said to have raised %d, with the differences %+v", name, got.Live.Alarms, got.Live.Differences)
				}
			}
			if up, _ := told(t, r, "co2_high"); len(up) == 0 {
				t.Error("nothing was raised; the comparison compares nothing")
			}
		})
	}
}

func clip(ts []time.Time) []string {
	var out []string
	for _, t := range ts[:min(len(ts), 12)] {
		out = append(out, t.Format("15:04:05.000"))
	}
	return out
}

// What a changed rule would have done stands beside what the one in force would have.
func TestChangedRule(t *testing.T) {
	r := rig.New(t)
	for _, id := range []string{monitor, "air-fennimore-1"} {
		r.Onboard(id, "cellar-air", map[string]string{"site": strings.Split(id, "-")[1]})
	}
	text := ruleOf("co2_high", "co2 > 1500", "")
	r.Rule(text)
	for i := range 60 {
		r.Keep(monitor, fmt.Sprintf(`{"co2":%d}`, 1500+40*(1-2*(i%2))))
		r.Keep("air-fennimore-1", `{"co2":700}`)
		r.Pass(10 * time.Second)
	}
	got := run(t, r, replays.Ask{Rule: parse(t, text+"deadband: 120\n"), From: rig.Start.Add(-time.Minute), To: r.Clock.Now()})
	m := got[monitor]
	if m == nil || m.InForce == nil || m.InForce.Alarms != 30 || m.InForce.Chattering != 30 || m.This.Alarms != 1 || m.This.Chattering != 0 {
		t.Fatalf("it is %+v", m)
	}
	if m.This.Raised < 580*time.Second || m.InForce.Raised != 300*time.Second || m.InForce.Spans[0].Value != 1540 || m.InForce.Spans[0].Limit != 1500 {
		t.Errorf("raised for %s and %s; the first is %+v", m.This.Raised, m.InForce.Raised, m.InForce.Spans[0])
	}
	if f := got["air-fennimore-1"]; f == nil || f.This.Alarms != 0 || f.Readings == 0 {
		t.Errorf("the other is %+v", f)
	}
	// One that is in force nowhere has nothing beside it.
	got = run(t, r, replays.Ask{Rule: parse(t, ruleOf("co2_new", "co2 > 1600", "")), From: rig.Start.Add(-time.Minute), To: r.Clock.Now(), Devices: []string{monitor}})
	if len(got) != 1 || got[monitor].InForce != nil || got[monitor].This.Alarms != 0 {
		t.Errorf("a new rule is %+v", got)
	}
}

// A rule is for a device while it has the labels: those of then.
func TestLabelsOfThen(t *testing.T) {
	r := rig.New(t)
	r.Onboard(monitor, "cellar-air", map[string]string{"stage": "resting"})
	text := ruleOf("co2_high", "co2 > 1500", "devices: label.stage == \"fermenting\"\n")
	r.Rule(text)
	play := func(n int) {
		for i := range n {
			r.Keep(monitor, fmt.Sprintf(`{"co2":%d}`, 1400+200*(i%2)))
			r.Pass(10 * time.Second)
		}
	}
	play(20)
	_, err := r.Devices.Label(t.Context(), monitor, map[string]string{"stage": "fermenting"}, "mara")
	r.Must(err)
	r.Settle()
	r.Pass(time.Second)
	play(20)
	_, err = r.Devices.Label(t.Context(), monitor, map[string]string{"stage": "resting"}, "mara")
	r.Must(err)
	r.Pass(time.Second)
	play(20)
	up, _ := told(t, r, "co2_high")
	got := run(t, r, replays.Ask{Rule: parse(t, text), From: rig.Start.Add(-time.Hour), To: r.Clock.Now()})[monitor]
	if u, _ := times(got.This.Spans); len(up) < 10 || !same(u, up) {
		t.Errorf("live raised %v, the replay %v", clip(up), clip(u))
	}
}

func TestGroups(t *testing.T) {
	r := rig.New(t)
	for i := range 4 {
		r.Onboard(fmt.Sprintf("air-kilnside-%d", i), "cellar-air", map[string]string{"site": "Kilnside"})
	}
	text := ruleOf("much_co2", "mean_of(co2) > 1500", "each: label.site\non_delay: 30s\n")
	text = strings.Replace(text, "'{co2}'", "much", 1)
	r.Rule(text)
	for n := range 60 {
		for i := range 4 {
			r.Keep(fmt.Sprintf("air-kilnside-%d", i), fmt.Sprintf(`{"co2":%d}`, 1200+n%30*20+i))
		}
		for range 10 {
			r.Pass(time.Second)
		}
	}
	up, down := told(t, r, "much_co2")
	got := run(t, r, replays.Ask{Rule: parse(t, text), From: rig.Start.Add(-time.Minute), To: r.Clock.Now(), Live: true})["site=Kilnside"]
	if got == nil || len(up) != 2 || got.This.Alarms != 2 {
		t.Fatalf("live raised %v, the replay %+v", up, got)
	}
	u, d := times(got.This.Spans)
	for i := range up {
		if x := u[i].Sub(up[i]); x < -2*time.Second || x > 2*time.Second {
			t.Errorf("raised at %s, in the replay at %s", up[i], u[i])
		}
	}
	if len(d) != len(down) || len(got.Live.Differences) != 0 {
		t.Errorf("returned %v, in the replay %v; differences %+v", down, d, got.Live.Differences)
	}
}

func TestBounds(t *testing.T) {
	r := rig.New(t)
	r.Onboard(monitor, "cellar-air", nil)
	now := r.Clock.Now()
	for _, c := range []struct {
		a    replays.Ask
		says string
	}{
		{replays.Ask{Rule: parse(t, ruleOf("x", "co2 > 3", "")), From: now.Add(-3650 * 24 * time.Hour)}, "90 days at most"},
		{replays.Ask{Rule: parse(t, ruleOf("x", "co2 > 3", "")), From: now.Add(time.Hour)}, "ends before it begins"},
		{replays.Ask{Rule: rule.Rule{Name: "x"}, From: now.Add(-time.Hour)}, "names no models"},
		{replays.Ask{Rule: parse(t, ruleOf("x", "c02 > 3", "")), From: now.Add(-time.Hour)}, "did you mean co2"},
		{replays.Ask{Rule: parse(t, ruleOf("x", "co2 > 3 'K'", "")), From: now.Add(-time.Hour)}, "ppm"},
		{replays.Ask{Rule: parse(t, strings.Replace(ruleOf("x", "co2 > 3", ""), "cellar-air", "no-model", 1)), From: now.Add(-time.Hour)}, "no-model"},
	} {
		err := r.Replays.Run(t.Context(), c.a, func(*replays.One, replays.Progress) error { return nil })
		if err == nil || !strings.Contains(err.Error(), c.says) || fault.From(err).Code == fault.Internal {
			t.Errorf("%s gives %v, want %q", c.a.Rule.Raise, err, c.says)
		}
	}
	ctx, stop := context.WithCancel(t.Context())
	stop()
	if err := r.Replays.Run(ctx, replays.Ask{Rule: parse(t, ruleOf("x", "co2 > 3", "")), From: now.Add(-time.Hour)}, func(*replays.One, replays.Progress) error { return nil }); err == nil {
		t.Error("what was broken off goes on")
	}
}
