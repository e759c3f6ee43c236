package expr

import (
	"os"
	"strings"
	"testing"

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
		`avg(ullage, 10min)`: "15.5 cm", `mean_t(ullage, 10min)`: "15.0 cm", `min(ullage, 10min)`: "11.0 cm", `max(ullage, 10min)`: "20.0 cm", `sum(ullage, 10min)`: "155.0 cm",
		`count(ullage, 10min)`: "10", `delta(ullage, 10min)`: "9.0 cm", `rate(ullage, 10min)`: "60 cm/h", `stddev(ullage, 10min)`: "3.0 cm", `first(ullage, 10min)`: "11.0 cm", `last(ullage, 10min)`: "20.0 cm",
		`median(ullage, 10min)`: "15.5 cm", `median(ullage, 11min)`: "15.0 cm", `p95(ullage, 20min)`: "19.0 cm", `time_in(ullage > 14.5, 10min)`: "5min30s", `avg(fan_on, 20min)`: "0.25", `sum(fan_on, 20min)`: "5", `mean_t(fan_on, 8min)`: "0.25",
		`count(cycle, 20min)`: "20", `previous(ullage)`: "19.0 cm", `previous(cycle)`: "idle", `changed(cycle)`: "true", `changed(fan_on)`: "true", `age(ullage)`: "30s",
		`delta(must_temp, 10min)`: "0.9 K", `rate(must_temp, 10min)`: "6 K/h", `avg(must_temp, 9min)`: "21.5 °C", `max(must_temp, 10min) - min(must_temp, 10min)`: "0.9 K", `abs(delta(ullage, 5min) - 10)`: "6.0 cm",
		// Beyond an hour, in panes: 90 s each for a window of 90 minutes.
		`max(ullage, 90min)`: "20.0 cm", `min(ullage, 90min)`: "1.0 cm", `count(ullage, 90min)`: "20",
		// Half of the window must be covered.
		`avg(ullage, 39min)`: "10.5 cm", `avg(ullage, 42min)`: "–", `mean_t(ullage, 42min)`: "–", `stddev(ullage, 42min)`: "–", `delta(ullage, 42min)`: "–", `rate(ullage, 42min)`: "–", `first(ullage, 42min)`: "–",
		`last(ullage, 42min)`: "–", `median(ullage, 42min)`: "–", `p95(ullage, 42min)`: "–", `sum(ullage, 42min)`: "–", `time_in(ullage > 14.5, 42min)`: "–", `avg(ullage, 90min)`: "–",
		// These need only what they look at.
		`min(ullage, 42min)`: "1.0 cm", `max(ullage, 42min)`: "20.0 cm", `count(ullage, 42min)`: "20",
		// Of what never came.
		`avg(density, 10min)`: "–", `min(density, 10min)`: "–", `max(density, 10min)`: "–", `count(density, 10min)`: "0", `previous(density)`: "–", `changed(density)`: "–", `age(density)`: "1h30s", `time_in(density > 3, 10min)`: "–",
		// Mixed units.
		`avg(ullage, 10min) > 154 'mm'`: "true", `avg(ullage, 10min) > 0.156 'm'`: "false", `rate(ullage, 10min) == 10 'mm/min'`: "true", `stddev(ullage, 10min) < 1 '[in_i]'`: "false", `delta(must_temp, 10min) between 1.61 '[degF]' and 1.63 '[degF]'`: "true",
		`time_in(ullage > 145 'mm', 10min) > 5min`: "true", `sum(ullage, 10min) > 1.5 'm'`: "true", `p95(ullage, 20min) between 18 and 200 'mm'`: "true",
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
