package rule_test

import (
	"io/fs"
	"strings"
	"testing"
	"time"

	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/examples/cellars"
)

func probe(t testing.TB) *model.Model {
	t.Helper()
	b, err := cellars.Files.ReadFile("models/tank-probe.tm.json")
	if err != nil {
		t.Fatal(err)
	}
	m, err := model.Parse(b)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

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
			src, err := cellars.Files.ReadFile("models/" + name + ".tm.json")
			if err != nil {
				t.Fatal(err)
			}
			m, err := model.Parse(src)
			if err != nil {
				t.Fatal(err)
			}
			if err := r.CheckAgainst(m); err != nil {
				t.Errorf("%s: %v", f, err)
			}
		}
	}
}

func TestParseRefuses(t *testing.T) {
	change := func(old, new string) string { return strings.Replace(warm, old, new, 1) }
	for _, c := range []struct{ name, src, says string }{
		{"not YAML", "rule: [", "1"},
		{"a key that does not exist", warm + "color: red\n", "unknown field"},
		{"a wrong duration", change("10min", "10 minutes"), "not a duration"},
		{"name", change("must_too_warm", "Must Too Warm"), "small letters"},
		{"no models", change("models: [tank-probe]", "models: []"), "names no models"},
		{"priority", change("high", "critical"), "urgent, high, medium or low"},
		{"no message", change("message:", "cause:"), "no message"},
		{"raise", change("must_temp > set.max_temp", "must_temp >> 3"), "column"},
		{"a label on the left", change("must_temp > set.max_temp", `label.x == "y"`), "no telemetry"},
		{"an attribute as the limit", change("set.max_temp\n", "attr.max\n"), "a number or a setting"},
		{"deadband of an equality", change("must_temp > set.max_temp", `must_temp == 3`), "deadband"},
		{"negative deadband", change("1.5", "-1"), "negative"},
		{"selector by telemetry", change(`label.stage == "fermenting"`, `must_temp > 3`), "label. or device."},
		{"placeholder", change("{label.tank}", "{no such.thing}"), "is no name"},
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

func TestCheckAgainst(t *testing.T) {
	m := probe(t)
	for _, c := range []struct{ raise, says string }{
		{"must_tmp > 3", "did you mean must_temp?"},
		{"must_temp > set.max_tmp", "did you mean set.max_temp?"},
		{"must_temp > 3 'kPa'", "does not convert"},
		{"must_temp > set.report_every", "does not convert"},
		{`must_temp == "hot"`, "is number"},
		{"max_temp > 3", "no telemetry"},
		{"must_temp > set.display_unit", "is text"},
		{"must_temp > 300 'K'", ""},
		{"must_temp > set.stir_at", ""},
	} {
		r := rule.Rule{Name: "r", Models: []string{"tank-probe"}, Raise: c.raise, Priority: rule.Low, Message: "m"}
		if err := r.Compile(); err != nil {
			t.Errorf("%s: %v", c.raise, err)
			continue
		}
		err := r.CheckAgainst(m)
		if c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: the error is %v, want %q", c.raise, err, c.says)
		}
	}
}

func lookup(m map[string]value.Value) rule.Lookup {
	return func(n expr.Name) value.Value { return m[n.String()] }
}

func TestWatches(t *testing.T) {
	r, err := rule.Parse([]byte(warm))
	if err != nil {
		t.Fatal(err)
	}
	fermenting := lookup(map[string]value.Value{"label.stage": value.OfText("fermenting")})
	for _, c := range []struct {
		model string
		get   rule.Lookup
		want  bool
	}{{"tank-probe", fermenting, true}, {"cellar-air", fermenting, false}, {"tank-probe", lookup(nil), false}} {
		if got := r.Watches(c.model, c.get); got != c.want {
			t.Errorf("watches %s: %v", c.model, got)
		}
	}
	r.Devices = `label.stage != "empty"`
	if err := r.Compile(); err != nil {
		t.Fatal(err)
	}
	if !r.Watches("tank-probe", lookup(nil)) {
		t.Error("a label that is missing is not \"\"")
	}
}

func TestJudgeAndLimit(t *testing.T) {
	m := probe(t)
	r, err := rule.Parse([]byte(warm))
	if err != nil {
		t.Fatal(err)
	}
	limit := r.Limit(m, lookup(map[string]value.Value{"set.max_temp": value.OfNumber(32)}))
	for _, c := range []struct {
		v            float64
		raise, clear expr.Truth
	}{{33, expr.True, expr.False}, {32, expr.False, expr.False}, {31, expr.False, expr.False}, {30.6, expr.False, expr.False}, {30.5, expr.False, expr.True}, {20, expr.False, expr.True}} {
		raise, clear := r.Judge(value.OfNumber(c.v), limit)
		if raise != c.raise || clear != c.clear {
			t.Errorf("%g: raise %d, clear %d; want %d, %d", c.v, raise, clear, c.raise, c.clear)
		}
	}
	if raise, clear := r.Judge(value.OfNumber(50), value.Value{}); raise != expr.Unknown || clear != expr.Unknown {
		t.Error("without a limit the answer is known")
	}
	r.Raise = "must_temp > 305.15 'K'"
	if err := r.Compile(); err != nil {
		t.Fatal(err)
	}
	if got := r.Limit(m, lookup(nil)); got.Num < 31.999 || got.Num > 32.001 {
		t.Errorf("305.15 K is %v °C", got)
	}
	if on, off := r.Delays(); on != 10*time.Minute || off != 5*time.Minute {
		t.Errorf("delays are %s and %s", on, off)
	}
}

func TestLowerLimitHasItsDeadbandAbove(t *testing.T) {
	r := rule.Rule{Name: "r", Models: []string{"m"}, Raise: "battery < 2.5", Deadband: 0.1, Priority: rule.Low, Message: "m"}
	if err := r.Compile(); err != nil {
		t.Fatal(err)
	}
	for v, want := range map[float64]expr.Truth{2.4: expr.False, 2.55: expr.False, 2.61: expr.True} {
		if _, clear := r.Judge(value.OfNumber(v), value.OfNumber(2.5)); clear != want {
			t.Errorf("at %g clear is %d, want %d", v, clear, want)
		}
	}
}

func TestSay(t *testing.T) {
	r, err := rule.Parse([]byte(warm))
	if err != nil {
		t.Fatal(err)
	}
	got := r.Say(probe(t), rule.With(lookup(map[string]value.Value{"label.tank": value.OfText("F7"), "set.max_temp": value.OfNumber(32)}), "must_temp", value.OfNumber(32.25)))
	if want := "F7: must at 32.2 °C, limit 32.0 °C"; got != want {
		t.Errorf("it says %q, want %q", got, want)
	}
	if got := r.Say(probe(t), lookup(nil)); got != "–: must at –, limit –" {
		t.Errorf("of unknown values it says %q", got)
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
		if err == nil && (r.Name == "" || r.Metric() == "") {
			t.Errorf("%q was taken as %+v", src, r)
		}
	})
}
