package check_test

import (
	"strings"
	"testing"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/examples/cellars"
)

func models(t *testing.T, names ...string) []*model.Model {
	t.Helper()
	var out []*model.Model
	for _, n := range names {
		b, err := cellars.Files.ReadFile("models/" + n + ".tm.json")
		if err != nil {
			t.Fatal(err)
		}
		m, err := model.Parse(b)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, m)
	}
	return out
}

func TestSchema(t *testing.T) {
	s := check.Schema(models(t, "cask-bung")[0])
	for name, want := range map[expr.Name]string{
		{Key: "ullage"}: "length in mm", {Scope: "set", Key: "max_ullage"}: "length in mm", {Scope: "intended", Key: "battery_low"}: "voltage in V",
		{Scope: "device", Key: "link"}: "text", {Scope: "label", Key: "anything"}: "text", {Key: "cask_temp"}: "a temperature in °C",
	} {
		if i, ok := s.Find(name); !ok || i.Type.String() != want {
			t.Errorf("%s is %s, %t; want %s", name, i.Type, ok, want)
		}
	}
	if i, _ := s.Find(expr.Name{Key: "battery"}); i.Usual == nil || *i.Usual < 2.5 || *i.Usual > 4 {
		t.Errorf("the usual battery is %v", i.Usual)
	}
	if _, ok := s.Find(expr.Name{Key: "must_temp"}); ok {
		t.Error("a bung has a must_temp")
	}
}

func TestFleet(t *testing.T) {
	schemas := check.Schemas(models(t, "cask-bung", "tank-probe", "cellar-air"), check.Around{Labels: map[string][]string{"site": {"Kilnside"}}})
	for _, c := range []struct{ src, models, says string }{
		{"must_temp > 3", "cask-bung cellar-air tank-probe", ""},
		{"must_temp > 3 and co2 > 5", "cask-bung cellar-air tank-probe", ""},
		{"must_tmp > 3", "", "no telemetry must_tmp in any model; did you mean must_temp?"},
		{"ullage > 3 'kPa'", "", "cannot be compared"},
		{"ullage > 30", "cask-bung cellar-air tank-probe", "cm in tank-probe and in mm in cask-bung"},
		{"ullage > 30 'cm'", "cask-bung cellar-air tank-probe", ""},
		{"ullage > 0", "cask-bung cellar-air tank-probe", ""},
		{`label.site == "kilnsied"`, "cask-bung cellar-air tank-probe", "did you mean"},
	} {
		programs, found := check.Fleet(c.src, schemas, expr.ForFilter)
		if len(programs) != len(strings.Fields(c.models)) {
			t.Errorf("%s holds for %d models: %v", c.src, len(programs), found)
		}
		if c.says == "" && len(found) > 0 || c.says != "" && !strings.Contains(found.Error(), c.says) {
			t.Errorf("%s: %v, want %q", c.src, found, c.says)
		}
	}
	if programs, _ := check.Fleet(`device.id == "x"`, nil, expr.ForFilter); len(programs) != 1 {
		t.Error("without models nothing can be said")
	}
}

func TestCycle(t *testing.T) {
	rules := func(raises ...string) (out []*rule.Rule) {
		for i, r := range raises {
			out = append(out, &rule.Rule{Name: string(rune('a' + i)), Raise: r})
		}
		return out
	}
	for _, c := range []struct {
		rules []*rule.Rule
		want  string
	}{
		{rules("x > 1", "raised(a)", "raised(a) and raised(b)"), ""},
		{rules("raised(b)", "raised(a)"), "a b a"},
		{rules("raised(a)"), "a a"},
		{rules("x > 1", "raised(c)", "raised(d)", "raised(b) or raised(a)"), "b c d b"},
	} {
		if got := strings.Join(check.Cycle(c.rules), " "); got != c.want {
			t.Errorf("the circle is %q, want %q", got, c.want)
		}
	}
}

func TestRulesThatDoNotFit(t *testing.T) {
	s := check.Schema(models(t, "tank-probe")[0])
	good := &rule.Rule{Name: "good", Models: []string{"tank-probe"}, Raise: "must_temp > 3", Priority: rule.Low, Message: "m"}
	bad := &rule.Rule{Name: "bad", Models: []string{"tank-probe"}, Raise: "co2 > 3", Priority: rule.Low, Message: "m"}
	plan, compiled, wrong := check.Rules([]*rule.Rule{good, bad}, s)
	if len(compiled) != 1 || len(wrong) != 1 || !strings.Contains(wrong["bad"].Error(), "no telemetry co2") || len(plan.Names()) != 1 {
		t.Errorf("%d compiled, wrong %v, names %v", len(compiled), wrong, plan.Names())
	}
}
