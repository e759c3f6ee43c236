package rule_test

import (
	"io/fs"
	"strings"
	"testing"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/examples/cellars"
	"ullage/test/scenario"
)

const warm = `rule: must_too_warm
models: [tank-probe]
devices: label.stage == "fermenting"
raise: must_temp > set.max_temp
on_delay: 10min
deadband: 1.5
off_delay: 5min
priority: high
message: "{label.tank}: must at {must_temp}, limit {set.max_temp}"
`

func TestScenarioRules(t *testing.T) {
	files, err := fs.Glob(cellars.Files, "rules/*.yaml")
	if err != nil || len(files) == 0 {
		t.Fatalf("no rules: %v", err)
	}
	for _, f := range files {
		b, err := cellars.Files.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		r, err := rule.Parse(b)
		if err != nil {
			t.Errorf("%s: %v", f, err)
			continue
		}
		for _, name := range r.Models {
			if _, err := r.For(expr.NewPlan(check.Schema(scenario.Model(t, name)))); err != nil {
				t.Errorf("%s: %v", f, err)
			}
		}
	}
}

func TestParseRefuses(t *testing.T) {
	change := func(old, new string) string { return strings.Replace(warm, old, new, 1) }
	for _, c := range []struct{ name, src, says string }{
		{"not YAML", "rule: [", "1"},
		{"a key that does not exist", warm + "color: red\n", "a rule has no \"color\""},
		{"a wrong duration", change("10min", "10 minutes"), "not a duration"},
		{"name", change("must_too_warm", "Must Too Warm"), "small letters"},
		{"no models", change("models: [tank-probe]", "models: []"), "names no models"},
		{"priority", change("high", "critical"), "urgent, high, medium or low"},
		{"no message", change("message:", "cause:"), "no message"},
		{"no raise", change("raise: must_temp > set.max_temp\n", ""), "has no raise"},
		{"raise", change("must_temp > set.max_temp", "must_temp >> 3"), "raise: column 12"},
		{"clear", change("deadband: 1.5", "clear: must_temp <"), "clear: column 12"},
		{"clear and deadband", warm + "clear: must_temp < 3\n", "both a deadband and clear"},
		{"devices", change(`label.stage == "fermenting"`, `label.stage = "fermenting"`), "two signs"},
		{"negative deadband", change("1.5", "-1"), "negative"},
		{"placeholder", change("{label.tank}", "{no such}"), "an operator is missing"},
		{"a brace that stays open", change("{label.tank}", "{label.tank"), "missing"},
		{"a brace at the end", change("{set.max_temp}", "{set.max_temp"), "is not closed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if _, err := rule.Parse([]byte(c.src)); err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("the error is %v, want one that says %q", err, c.says)
			}
		})
	}
	if _, err := rule.Parse(make([]byte, rule.MaxSource+1)); err == nil {
		t.Error("a file that is too large was read")
	}
}

func TestFor(t *testing.T) {
	m := scenario.Model(t, "tank-probe")
	for _, c := range []struct{ change, says string }{
		{"raise: must_tmp > 3", "did you mean must_temp?"},
		{"raise: must_temp > set.max_tmp", "did you mean set.max_temp?"},
		{"raise: must_temp > 3 'kPa'", "cannot be compared"},
		{"raise: must_temp > set.report_every", "cannot be compared"},
		{"raise: max_temp > 3", "did you mean set.max_temp?"},
		{"raise: must_temp > 300 'K'", ""},
		{"raise: mean(must_temp over 10min) > set.stir_at", ""},
		{"raise: must_temp > set.max_temp and battery < 3", "one dimension"},
		{"raise: raised(nobody)", "there is no rule nobody"},
		{"devices: must_temp > 3", "cannot choose devices"},
		{"message: '{must_tmp}'", "did you mean must_temp?"},
		{"message: '{set.max_temp - must_temp} left'", ""},
	} {
		src := warm
		key, _, _ := strings.Cut(c.change, ":")
		for _, line := range strings.Split(warm, "\n") {
			if strings.HasPrefix(line, key+":") {
				src = strings.Replace(src, line, c.change, 1)
			}
		}
		r, err := rule.Parse([]byte(src))
		if err == nil {
			_, err = r.For(expr.NewPlan(check.Schema(m)))
		}
		if c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: the error is %v, want %q", c.change, err, c.says)
		}
	}
}

// device is a State of a compiled rule with these values.
func device(c *rule.Compiled, values map[string]value.Value) *expr.State {
	plan := c.Raises.Plan()
	at := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)
	s := plan.NewState(at)
	for slot, n := range plan.Names() {
		if v, ok := values[n.Name.String()]; ok && n.Name.Scope == "" {
			s.Observe(slot, at.UnixMilli(), v)
		} else if ok {
			s.Set(slot, expr.Sample{Value: v})
		}
	}
	return s
}

func compiled(t *testing.T, src string) *rule.Compiled {
	t.Helper()
	r, err := rule.Parse([]byte(src))
	if err != nil {
		t.Fatal(err)
	}
	c, err := r.For(expr.NewPlan(check.Schema(scenario.Model(t, "tank-probe"))))
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestRaisesAndClears(t *testing.T) {
	deadband := compiled(t, warm)
	written := compiled(t, strings.Replace(warm, "deadband: 1.5", "clear: must_temp <= set.max_temp - 1.5", 1))
	plain := compiled(t, strings.Replace(warm, "deadband: 1.5\n", "", 1))
	for _, c := range []struct {
		v                    float64
		raise, clear, simple expr.Truth
	}{{33, expr.True, expr.False, expr.False}, {32, expr.False, expr.False, expr.True},
		{30.6, expr.False, expr.False, expr.True}, {30.5, expr.False, expr.True, expr.True}, {20, expr.False, expr.True, expr.True}} {
		values := map[string]value.Value{"must_temp": value.OfNumber(c.v), "set.max_temp": value.OfNumber(32)}
		for _, r := range []*rule.Compiled{deadband, written} {
			s := device(r, values)
			if raise, clear := r.Raises.Truth(s), r.Clears.Truth(s); raise != c.raise || clear != c.clear {
				t.Errorf("%g: raise %s, clear %s; want %s, %s", c.v, raise, clear, c.raise, c.clear)
			}
		}
		if clear := plain.Clears.Truth(device(plain, values)); clear != c.simple {
			t.Errorf("%g without deadband: clear %s, want %s", c.v, clear, c.simple)
		}
	}
	if s := device(deadband, map[string]value.Value{"must_temp": value.OfNumber(50)}); deadband.Raises.Truth(s) != expr.Unknown || deadband.Clears.Truth(s) != expr.Unknown {
		t.Error("without a limit the answer is known")
	}
	if on, off := deadband.Delays(); on != 10*time.Minute || off != 5*time.Minute {
		t.Errorf("delays are %s and %s", on, off)
	}
	if deadband.Metric != "must_temp" || len(deadband.Selects()) == 0 || !deadband.Names("tank-probe") ||
		deadband.Names("cellar-air") {
		t.Errorf("compiled as %+v", deadband)
	}
}

func TestSay(t *testing.T) {
	c := compiled(t, warm)
	values := map[string]value.Value{"label.tank": value.OfText("F7"), "set.max_temp": value.OfNumber(32),
		"must_temp": value.OfNumber(32.25)}
	if got, want := c.Say(device(c, values)), "F7: must at 32.2 °C, limit 32.0 °C"; got != want {
		t.Errorf("it says %q, want %q", got, want)
	}
	if got := c.Say(device(c, nil)); got != ": must at –, limit –" {
		t.Errorf("of unknown values it says %q", got)
	}
}

func TestAsks(t *testing.T) {
	r := rule.Rule{Raise: "raised(a) and must_temp > 3 or raised(b)", Clear: "not raised(a)"}
	if got := strings.Join(r.Asks(), " "); got != "a b" {
		t.Errorf("it asks about %q", got)
	}
}

func TestRank(t *testing.T) {
	for i, p := range rule.Priorities {
		if p.Rank() != i+1 {
			t.Errorf("%s has rank %d", p, p.Rank())
		}
	}
	if rule.Priority("x").Rank() != 5 {
		t.Error("an unknown priority ranks among the known")
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(warm))
	f.Add([]byte("rule: a\nmodels: [b]\nraise: c > 1\npriority: low\nmessage: '{'\n"))
	f.Add([]byte("&a [*a,*a]"))
	f.Fuzz(func(t *testing.T, src []byte) {
		r, err := rule.Parse(src)
		if err == nil && (r.Name == "" || r.Raise == "") {
			t.Errorf("%q was taken as %+v", src, r)
		}
	})
}
