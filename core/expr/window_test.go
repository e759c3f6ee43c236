package expr

import (
	"cmp"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"ullage/core/series"
	"ullage/core/value"
)

// windowed is a State with twenty readings a minute apart: ullage 1…20 cm, the
// fan on every fourth minute, and the cycle changing once.
func windowed(p *Program) *State {
	s := p.Plan().NewState(value.FromMillis(now - 3_600_000))
	for i := range 20 {
		at := now - int64(19-i)*60_000
		for slot, n := range p.Plan().Names() {
			switch n.Name.Key {
			case "ullage":
				s.Observe(slot, at, value.OfNumber(float64(i+1)))
			case "fan_on":
				s.Observe(slot, at, value.OfBool(i%4 == 3))
			case "cycle":
				s.Observe(slot, at, value.OfText(map[bool]string{true: "idle", false: "pressing"}[i < 19]))
			case "must_temp":
				s.Observe(slot, at, value.OfNumber(20+float64(i)/10))
			}
		}
	}
	s.Advance(value.FromMillis(now + 30_000))
	return s
}

// Every function over a window: its value, its unit beside another one, and
// where it is unknown.
func TestWindowFunctions(t *testing.T) {
	for src, want := range map[string]string{
		`mean(ullage over 10min)`: "15.5 cm", `weighted_mean(ullage over 10min)`: "15.0 cm", `min(ullage over 10min)`: "11.0 cm", `max(ullage over 10min)`: "20.0 cm", `sum(ullage over 10min)`: "155.0 cm",
		`count(ullage over 10min)`: "10", `delta(ullage over 10min)`: "9.0 cm", `rate(ullage over 10min)`: "60 cm/h", `stddev(ullage over 10min)`: "3.0 cm", `first(ullage over 10min)`: "11.0 cm", `last(ullage over 10min)`: "20.0 cm",
		`median(ullage over 10min)`: "15.5 cm", `median(ullage over 11min)`: "15.0 cm", `p95(ullage over 20min)`: "19.0 cm", `time_in(ullage > 14.5 over 10min)`: "5min30s", `mean(fan_on over 20min)`: "0.25", `sum(fan_on over 20min)`: "5", `weighted_mean(fan_on over 8min)`: "0.25",
		`count(cycle over 20min)`: "20", `previous(ullage)`: "19.0 cm", `previous(cycle)`: "idle", `changed(cycle)`: "true", `changed(fan_on)`: "true", `age(ullage)`: "30s",
		`delta(must_temp over 10min)`: "0.9 K", `rate(must_temp over 10min)`: "6 K/h", `mean(must_temp over 9min)`: "21.5 °C", `max(must_temp over 10min) - min(must_temp over 10min)`: "0.9 K", `abs(delta(ullage over 5min) - 10)`: "6.0 cm",
		// Beyond an hour, in panes: 90 s each for a window of 90 minutes.
		`max(ullage over 90min)`: "20.0 cm", `min(ullage over 90min)`: "1.0 cm", `count(ullage over 90min)`: "20",
		// Half of the window must be covered.
		`mean(ullage over 39min)`: "10.5 cm", `mean(ullage over 42min)`: "–", `weighted_mean(ullage over 42min)`: "–", `stddev(ullage over 42min)`: "–", `delta(ullage over 42min)`: "–", `rate(ullage over 42min)`: "–", `first(ullage over 42min)`: "–",
		`last(ullage over 42min)`: "–", `median(ullage over 42min)`: "–", `p95(ullage over 42min)`: "–", `sum(ullage over 42min)`: "–", `time_in(ullage > 14.5 over 42min)`: "–", `mean(ullage over 90min)`: "–",
		// These need only what they look at.
		`min(ullage over 42min)`: "1.0 cm", `max(ullage over 42min)`: "20.0 cm", `count(ullage over 42min)`: "20",
		// Of what never came.
		`mean(density over 10min)`: "–", `min(density over 10min)`: "–", `max(density over 10min)`: "–", `count(density over 10min)`: "0", `previous(density)`: "–", `changed(density)`: "–", `age(density)`: "1h30s", `time_in(density > 3 over 10min)`: "–",
		// Mixed units.
		`mean(ullage over 10min) > 154 'mm'`: "true", `mean(ullage over 10min) > 0.156 'm'`: "false", `rate(ullage over 10min) == 10 'mm/min'`: "true", `stddev(ullage over 10min) < 1 '[in_i]'`: "false", `delta(must_temp over 10min) between 1.61 '[degF]' and 1.63 '[degF]'`: "true",
		`time_in(ullage > 145 'mm' over 10min) > 5min`: "true", `sum(ullage over 10min) > 1.5 'm'`: "true", `p95(ullage over 20min) between 18 and 200 'mm'`: "true",
	} {
		p, found := Compile(src, cellar(), ForMessage)
		if p == nil {
			t.Errorf("%s: %v", src, found)
			continue
		}
		if got := p.Say(windowed(p)); got != want {
			t.Errorf("%s is %q, want %q", src, got, want)
		}
	}
}

// Every function stands in a table of the tests.
func TestEveryFunctionIsTested(t *testing.T) {
	var b []byte
	for _, name := range []string{"expr_test.go", "window_test.go"} {
		src, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		b = append(b, src...)
	}
	for _, f := range Functions {
		if n := strings.Count(string(b), f.Name+"("); n == 0 {
			t.Errorf("%s stands in no test", f.Name)
		}
	}
}

// TestSummariesFillLikeReadings fills one State from every reading and another
// from summaries of the far past and the readings of the near one; they answer
// alike, also as time goes on and readings follow.
func TestSummariesFillLikeReadings(t *testing.T) {
	sources := []string{
		`mean(ullage over 1d)`, `min(ullage over 1d)`, `max(ullage over 3d)`, `sum(ullage over 1d)`, `count(ullage over 7d)`, `first(ullage over 1d)`, `last(ullage over 20h)`, `delta(ullage over 1d)`, `mean(fan_on over 1d)`, `sum(fan_on over 16h)`, `count(fan_on over 90min)`, `mean(must_temp over 1d) - mean(must_temp over 1h)`,
		`mean(ullage over 10min)`, `median(must_temp over 30min)`, `previous(must_temp)`,
		// These look at single readings, however far back.
		`rate(density over 1d)`, `stddev(density over 1d)`, `weighted_mean(density over 2h)`, `count(cycle over 1d)`, `time_in(fan_on over 3h)`,
	}
	recalled := 0
	for seed := range 12 {
		r := rand.New(rand.NewPCG(uint64(seed), 11))
		plan := NewPlan(cellar())
		var programs []*Program
		asked := sources
		if seed%4 != 0 { // else what needs single readings makes the near past long
			asked = sources[:15]
		}
		for _, src := range asked {
			if seed%3 != 0 && r.IntN(2) == 0 {
				continue
			}
			p, found := plan.Compile(src, ForMessage)
			if p == nil {
				t.Fatalf("%s: %v", src, found)
			}
			programs = append(programs, p)
		}
		const begin, minute = int64(1_772_000_000_000), int64(60_000)
		until := begin + 9*24*60*minute
		var all []observation
		for slot, n := range plan.Names() {
			i := 0
			for at := begin + r.Int64N(minute); at < until+3*60*minute; at += minute/2 + r.Int64N(minute) {
				if seed%2 == 1 && r.IntN(500) == 0 {
					at += r.Int64N(4 * 60 * minute)
				}
				i++
				x := value.OfNumber(math.Round(200+50*math.Sin(float64(i)/300)+float64(r.IntN(20))) / 10)
				switch n.Type.Kind {
				case Bool:
					x = value.OfBool(i/50%3 == 0)
				case Text:
					x = value.OfText("idle")
				}
				all = append(all, observation{slot, at, x})
			}
		}
		slices.SortStableFunc(all, func(a, b observation) int { return cmp.Compare(a.at, b.at) })
		n, _ := slices.BinarySearchFunc(all, until, func(o observation, at int64) int { return cmp.Compare(o.at, at) })
		whole, part := plan.NewState(value.FromMillis(begin)), plan.NewState(value.FromMillis(begin))
		from, summaries := plan.Past(value.FromMillis(until))
		for _, s := range summaries {
			roller := series.NewRoller(series.Every(s.Width.Milliseconds()), plan.hold)
			for _, o := range all[:n] {
				if o.slot == s.Slot {
					roller.Add(o.at, o.v.Num)
				}
			}
			var past []Summary
			for _, x := range roller.Rollups() {
				if x.At >= s.From.UnixMilli() && x.At < s.Until.UnixMilli() {
					past = append(past, Summary(x))
					recalled++
				}
			}
			part.Recall(s, past)
		}
		for i, o := range all {
			whole.Observe(o.slot, o.at, o.v)
			if i >= n || o.at >= from.UnixMilli() {
				part.Observe(o.slot, o.at, o.v)
			}
			if i < n-1 || (i-n)%40 != 0 {
				continue
			}
			for k, p := range programs {
				a, b := p.Value(whole), p.Value(part)
				if a.Kind != b.Kind || !alike(a.Num, b.Num) {
					t.Fatalf("seed %d, %d readings later: expression %d is %v of all readings and %v of summaries",
						seed, i-n, k, a, b)
				}
			}
		}
	}
	if recalled < 1000 {
		t.Errorf("only %d summaries were recalled", recalled)
	}
}
