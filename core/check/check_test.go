package check_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/examples/cellars"
	"ullage/test/scenario"
)

func models(t *testing.T, names ...string) []*model.Model {
	t.Helper()
	var out []*model.Model
	for _, n := range names {
		out = append(out, scenario.Model(t, n))
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
	schemas := check.Schemas(models(t, "cask-bung", "tank-probe", "cellar-air"),
		check.Around{Labels: map[string][]string{"site": {"Kilnside"}}})
	for _, c := range []struct{ src, models, says string }{
		{"must_temp > 3", "cask-bung cellar-air tank-probe", ""},
		{"must_temp > 3 and co2 > 5", "cask-bung cellar-air tank-probe", ""},
		{"must_tmp > 3", "", "no metric must_tmp in any model; did you mean must_temp?"},
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
	s.Renamed("temperature", "must_temp")
	good := &rule.Rule{Name: "good", Models: []string{"tank-probe"}, Raise: "must_temp > 3", Priority: rule.Low,
		Message: "m"}
	bad := &rule.Rule{Name: "bad", Models: []string{"tank-probe"}, Raise: "co2 > 3", Priority: rule.Low, Message: "m"}
	old := &rule.Rule{Name: "old", Models: []string{"tank-probe"}, Raise: "temperature > 3", Priority: rule.Low, Message: "m"}
	plan, compiled, wrong := check.Rules([]*rule.Rule{good, bad, old}, s)
	if !strings.Contains(wrong["old"].Error(), "temperature is called must_temp in tank-probe") {
		t.Errorf("a rule with the name before is told %v", wrong["old"])
	}
	if len(compiled) != 1 || len(wrong) != 2 || !strings.Contains(wrong["bad"].Error(), "no metric co2") ||
		len(plan.Names()) != 1 {
		t.Errorf("%d compiled, wrong %v, names %v", len(compiled), wrong, plan.Names())
	}
}

// scenario is the fleet folder of the scenario.
func exampleFolder(t testing.TB) []check.File {
	t.Helper()
	var out []check.File
	err := fs.WalkDir(cellars.Files, ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := cellars.Files.ReadFile(p)
		if p == "layers/hardware-b.yaml" { // of which alone there is something to say
			b = bytes.ReplaceAll(b, []byte(` and attr.hw_rev == "B"`), nil)
		}
		out = append(out, check.File{Path: p, Data: b})
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func TestFolderOfTheScenario(t *testing.T) {
	r := check.Folder(exampleFolder(t))
	if len(r.Findings) != 0 || r.Models != 6 || r.Rules != 11 || r.Layers != 5 {
		t.Errorf("of %d models, %d rules and %d layers it says %v", r.Models, r.Rules, r.Layers, r.Findings)
	}
}

// Every mistake is told at once, with its file, line and column.
func TestFolderFindings(t *testing.T) {
	for _, c := range []struct {
		name, file, old, new string
		want                 []string
	}{
		{"an unknown unit", "models/cask-bung.tm.json", `"unit": "kPa"`, `"unit": "kilopascal"`, []string{"models/cask-bung.tm.json:39:15: error: the unit 'kilopascal' is not known"}},
		{"a model that is not JSON", "models/cask-bung.tm.json", `"@context": [`, `"@context": [,`, []string{"models/cask-bung.tm.json:2:16: error: this is not JSON"}},
		{"names in an expression", "rules/must_too_warm.yaml", "must_temp > set.max_temp", "must_tmp > set.max_tmp", []string{
			"rules/must_too_warm.yaml:4:8: error: raise: no metric must_tmp in tank-probe 1.2.0; did you mean must_temp?",
			"rules/must_too_warm.yaml:4:19: error: raise: no setting max_tmp in tank-probe 1.2.0; did you mean set.max_temp?"}},
		{"a name in a message", "rules/must_too_warm.yaml", "{must_temp}", "{must_tem}", []string{"rules/must_too_warm.yaml:9:34: error: message: no metric must_tem"}},
		{"several keys", "rules/must_too_warm.yaml", "deadband: 1.5", "deadband: -1.5\nclear: must_temp <", []string{
			"rules/must_too_warm.yaml:6:11: error: must_too_warm has a negative deadband", "rules/must_too_warm.yaml:7:19: error: clear: a name or a value is missing at the end"}},
		{"a model that is not there", "rules/co2_high.yaml", "[cellar-air]", "[cellar-air, cellar-hair]", []string{"rules/co2_high.yaml:2:22: error: there is no model cellar-hair in this folder; did you mean cellar-air?"}},
		{"a duration", "rules/press_current_high.yaml", "on_delay: 2min", "on_delay: 2 minutes", []string{`rules/press_current_high.yaml:4:11: error: on_delay: "2 minutes" is not a duration`}},
		{"a key twice", "rules/supply_warm.yaml", "priority:", "priority: low\npriority:", []string{`rules/supply_warm.yaml:8:1: error: the key "priority" stands twice`}},
		{"a key that does not exist", "rules/supply_warm.yaml", "priority:", "colour: red\npriority:", []string{`rules/supply_warm.yaml:7:9: error: a rule has no "colour"; the keys are rule, models`}},
		{"a rule of the same name", "rules/supply_warm.yaml", "rule: supply_warm", "rule: must_too_warm", []string{"rules/supply_warm.yaml:1:7: error: must_too_warm is written in rules/must_too_warm.yaml already"}},
		{"an attribute as a target", "rules/must_too_warm.yaml", `label.stage == "fermenting"`, `attr.firmware == "2"`, []string{"rules/must_too_warm.yaml:3:10: warning: devices: attr.firmware is written by the device"}},
		{"a circle", "rules/co2_high.yaml", "co2 > set.co2_warn", "raised(co2_high)", []string{"rules/co2_high.yaml:3:8: error: rules ask about each other in a circle: co2_high asks co2_high"}},
		{"a group without a group", "rules/cellar_silent.yaml", "share(device.link in (", "(device.link in (", []string{"rules/cellar_silent.yaml:4:9: error: raise: device.link is of one device", "x"}},
	} {
		files := exampleFolder(t)
		changed := false
		for i := range files {
			if files[i].Path == c.file {
				src := strings.Replace(string(files[i].Data), c.old, c.new, 1)
				changed = src != string(files[i].Data)
				files[i].Data = []byte(src)
			}
		}
		if !changed {
			t.Errorf("%s: nothing was changed", c.name)
			continue
		}
		var got []string
		for _, f := range check.Folder(files).Findings {
			got = append(got, fmt.Sprintf("%s:%d:%d: %s: %s", f.File, f.Line, f.Column, f.Severity, f.Sentence))
		}
		for i, w := range c.want {
			if w != "x" && (i >= len(got) || !strings.HasPrefix(got[i], w)) || len(got) != len(c.want) {
				t.Errorf("%s: it says\n%s\nwant\n%s", c.name, strings.Join(got, "\n"), strings.Join(c.want, "\n"))
				break
			}
		}
	}
}

// The same model in YAML says the same, and its mistakes have their places.
func TestModelsInYAML(t *testing.T) {
	files := exampleFolder(t)
	for i := range files {
		if !strings.HasSuffix(files[i].Path, ".tm.json") {
			continue
		}
		b, err := yaml.JSONToYAML(files[i].Data)
		if err != nil {
			t.Fatal(err)
		}
		back, err := model.FromYAML(b)
		if err != nil {
			t.Fatal(err)
		}
		want, err := model.Parse(files[i].Data)
		if err != nil {
			t.Fatal(err)
		}
		got, err := model.Parse(back)
		if err != nil {
			t.Fatal(err)
		}
		got.Source, want.Source = nil, nil
		if fmt.Sprintf("%+v", got.Properties) == "" || got.String() != want.String() ||
			len(got.Properties) != len(want.Properties) || got.Properties[2].Name != want.Properties[2].Name {
			t.Errorf("%s is %+v in YAML", files[i].Path, got)
		}
		files[i] = check.File{Path: strings.Replace(files[i].Path, ".json", ".yaml", 1), Data: b}
	}
	if r := check.Folder(files); len(r.Findings) != 0 {
		t.Errorf("in YAML it says %v", r.Findings)
	}
	for i := range files {
		if strings.Contains(files[i].Path, "cask-bung") {
			files[i].Data = []byte(strings.Replace(string(files[i].Data), "unit: kPa", "unit: kilopascal", 1))
		}
	}
	r := check.Folder(files)
	if len(r.Findings) != 1 || r.Findings[0].Line < 10 || r.Findings[0].Column < 5 ||
		!strings.Contains(r.Findings[0].Sentence, "kilopascal") {
		t.Errorf("a mistake in YAML: %v", r.Findings)
	}
	for src, says := range map[string]string{
		"a: &x [1]\nb: *x\n":      "anchors and aliases",
		"a: 1\n---\nb: 2\n":       "one YAML document",
		"a: [":                    "",
		"a: !!binary x\n":         "",
		strings.Repeat("[", 5000): "",
		"\xff":                    "",
	} {
		r := check.Folder([]check.File{{Path: "models/x.tm.yaml", Data: []byte(src)}})
		if len(r.Findings) == 0 || !strings.Contains(r.Findings[0].Sentence, says) {
			t.Errorf("%.20q: %v, want %q", src, r.Findings, says)
		}
	}
}

func FuzzFolder(f *testing.F) {
	for _, file := range exampleFolder(f) {
		f.Add(file.Path, file.Data)
	}
	f.Add("models/x.tm.yaml", []byte("a: &x [1]\nb: *x"))
	f.Add("rules/x.yaml", []byte("rule: a\nmodels: [b]\nraise: '{'\nmessage: '{'"))
	f.Fuzz(func(t *testing.T, path string, data []byte) {
		if !check.IsModel(path) && !check.IsRule(path) {
			return
		}
		for _, x := range check.Folder([]check.File{{Path: path, Data: data}}).Findings {
			if x.Line < 1 || x.Column < 1 || x.Sentence == "" {
				t.Errorf("%+v", x)
			}
		}
	})
}

// BenchmarkFolder500 checks five hundred models at once.
func BenchmarkFolder500(b *testing.B) {
	files := exampleFolder(b)
	var many []check.File
	for i := range 500 {
		for _, f := range files {
			if strings.HasSuffix(f.Path, "tank-probe.tm.json") {
				many = append(many, check.File{Path: fmt.Sprintf("models/%d.tm.json", i),
					Data: []byte(strings.Replace(string(f.Data), `"tank-probe"`, fmt.Sprintf(`"tank-probe-%d"`, i),
						1))})
			}
		}
	}
	for b.Loop() {
		if r := check.Folder(many); len(r.Findings) != 0 || r.Models != 500 {
			b.Fatal(r.Findings)
		}
	}
}
