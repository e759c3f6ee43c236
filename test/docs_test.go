package test

import (
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/value"
	folder "ullage/examples/cellars"
	"ullage/test/service"
)

var update = flag.Bool("update", false, "write what the docs take from the code")

func scenarioModels(t *testing.T) []*model.Model {
	t.Helper()
	files, err := fs.Glob(folder.Files, "models/*.tm.json")
	if err != nil {
		t.Fatal(err)
	}
	var out []*model.Model
	for _, f := range files {
		b, err := folder.Files.ReadFile(f)
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

// around is what the scenario's fleet has beside its models.
var around = check.Around{
	Labels: map[string][]string{"site": {"Alder Bank", "Coldharbour", "Fennimore", "High Orchard", "Kilnside", "Saltmarsh"}, "stage": {"empty", "fermenting", "resting", "ageing"}, "row": {"A", "B"}, "tank": {"F7"}, "floor": {"1"}},
	Rules:  []string{"must_too_warm", "co2_high"},
}

// Every example of the docs and of the functions is right, in its canonical
// form, for the models it is about.
func TestExamplesAreRight(t *testing.T) {
	models := scenarioModels(t)
	schemas := check.Schemas(models, around)
	if len(expr.Examples) != 15 {
		t.Errorf("there are %d examples", len(expr.Examples))
	}
	for _, x := range expr.Examples {
		of := schemas
		if x.Model != "" {
			of = map[string]*expr.Schema{x.Model: schemas[x.Model]}
		}
		programs, found := check.Fleet(x.Source, of, x.Purpose)
		if len(programs) == 0 || len(found) > 0 {
			t.Errorf("%s: %v", x.Source, found)
			continue
		}
		if got, err := expr.Format(x.Source); err != nil || got != x.Source {
			t.Errorf("%s is written %s, %v", x.Source, got, err)
		}
	}
	for _, f := range expr.Functions {
		purpose := expr.ForRule
		if f.Family == expr.FamilyGroup {
			purpose = expr.ForGroup
		}
		if f.Name == "value" { // no model of the scenario has such a name
			continue
		}
		programs, found := check.Fleet(f.Example, schemas, purpose)
		known := false
		for _, p := range programs {
			whole := true
			for _, n := range p.Plan().Names() {
				whole = whole && !n.Absent
			}
			known = known || whole
		}
		if !known {
			t.Errorf("%s: no model has what %s speaks of: %v", f.Name, f.Example, found)
		}
		if got, err := expr.Format(f.Example); err != nil || got != f.Example {
			t.Errorf("%s is written %s, %v", f.Example, got, err)
		}
	}
}

// The tables of the docs are those of the code.
func TestExpressionDocs(t *testing.T) {
	path := filepath.Join(service.Root(), "docs", "expressions.md")
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	var functions, examples strings.Builder
	for _, family := range expr.Families {
		fmt.Fprintf(&functions, "\n**%s**\n\n| function | gives | what | for example |\n|---|---|---|---|\n", family)
		for _, f := range expr.Functions {
			if f.Family == family {
				fmt.Fprintf(&functions, "| `%s` | %s | %s | `%s` |\n", f.Form, f.Gives, f.Doc, f.Example)
			}
		}
	}
	for i, x := range expr.Examples {
		where := map[expr.Purpose]string{expr.ForFilter: "filter", expr.ForRule: "rule",
			expr.ForGroup: "rule with each"}[x.Purpose]
		fmt.Fprintf(&examples, "\n%d. %s (%s)\n\n   ```\n   %s\n   ```\n\n   %s\n", i+1, x.Task, where, x.Source,
			x.Says)
	}
	want := between(t, string(b), "<!-- functions", functions.String())
	want = between(t, want, "<!-- examples", examples.String())
	if want == string(b) {
		return
	}
	if !*update {
		t.Fatal("docs/expressions.md is not what the code says; run: go test ./test -run TestExpressionDocs -update")
	}
	if err := os.WriteFile(path, []byte(want), 0o644); err != nil {
		t.Fatal(err)
	}
}

func between(t *testing.T, doc, mark, content string) string {
	t.Helper()
	start := strings.Index(doc, mark)
	if start < 0 {
		t.Fatalf("docs/expressions.md has no %s", mark)
	}
	start += strings.Index(doc[start:], "-->") + len("-->\n")
	end := start + strings.Index(doc[start:], "<!-- end -->")
	return doc[:start] + content + "\n" + doc[end:]
}

type values map[string]any

// each reading of a series: i of n, oldest first.
type series func(i, n int) any

// hits and misses are devices for which each example is and is not true.
var exampleDevices = map[string]struct {
	model     string
	hit, miss values
}{
	"Fermenting tanks that are close to their limit":         {"tank-probe", values{"must_temp": 30.0, "set.max_temp": 32.0, "label.stage": "fermenting"}, values{"must_temp": 28.0, "set.max_temp": 32.0, "label.stage": "fermenting"}},
	"Everything in one cellar that is not reporting":         {"cellar-hub", values{"label.site": "Saltmarsh", "device.link": "silent"}, values{"label.site": "Saltmarsh", "device.link": "online"}},
	"Casks and tanks with much ullage":                       {"cask-bung", values{"ullage": 201.0}, values{"ullage": 25.0}},
	"Probes on an old firmware":                              {"tank-probe", values{"attr.firmware": "2.3.1"}, values{"attr.firmware": "2.10.0"}},
	"Tanks somebody forgot to label":                         {"tank-probe", values{"device.model": "tank-probe"}, values{"device.model": "tank-probe", "label.stage": "empty"}},
	"Must that is too warm":                                  {"tank-probe", values{"must_temp": 32.1, "set.max_temp": 32.0}, values{"must_temp": 32.0, "set.max_temp": 32.0}},
	"Fermentation that runs away, before the limit":          {"tank-probe", values{"must_temp": series(func(i, n int) any { return 30 - float64(n-i)/20 })}, values{"must_temp": series(func(i, n int) any { return 30 - float64(n-i)/60 })}},
	"Carbon dioxide for a while, not for a moment":           {"cellar-air", values{"co2": 1600.0, "set.co2_warn": 1500.0}, values{"co2": series(func(i, n int) any { return map[bool]float64{true: 5000, false: 600}[i == n-1] }), "set.co2_warn": 1500.0}},
	"An air monitor that has fallen silent":                  {"cellar-air", values{}, values{"co2": 600.0}},
	"The fan does not help":                                  {"cellar-air", values{"fan_on": true, "co2": 1700.0}, values{"fan_on": true, "co2": series(func(i, n int) any { return map[bool]float64{true: 1700, false: 900}[i%3 == 0] })}},
	"A stuck sensor":                                         {"cellar-air", values{"co2": 731.0}, values{"co2": series(func(i, _ int) any { return 731 + float64(i%2) })}},
	"Coolant outside its band, during the day":               {"jacket-valve", values{"supply_temp": 12.5}, values{"supply_temp": 12.0}},
	"A battery that fades":                                   {"cask-bung", values{"battery": series(func(i, n int) any { return map[bool]float64{true: 2.45, false: 2.6}[i == n/2] }), "set.battery_low": 2.5}, values{"battery": 2.6, "set.battery_low": 2.5}},
	"A press that stopped in the middle of a cycle":          {"press-scale", values{"cycle": "pressing", "motor_current": 0.4}, values{"cycle": "idle", "motor_current": 0.4}},
	"Most of a cellar is silent: it is the hub or the power": {"tank-probe", values{"device.link": "silent"}, values{"device.link": "online"}},
}

func TestExamplesAnswer(t *testing.T) {
	at := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC) // a Monday afternoon
	schemas := check.Schemas(scenarioModels(t), around)
	for _, x := range expr.Examples {
		d, ok := exampleDevices[x.Task]
		if !ok {
			t.Errorf("no device answers %s", x.Task)
			continue
		}
		p, found := expr.Compile(x.Source, schemas[d.model], x.Purpose)
		if p == nil {
			t.Errorf("%s: %v", x.Source, found)
			continue
		}
		for want, vs := range map[bool]values{true: d.hit, false: d.miss} {
			s := p.Plan().NewState(at.Add(-48 * time.Hour))
			interval := p.Plan().Schema().Interval
			n := int(p.Plan().Reach()/interval) + 1
			for i := range n {
				for slot, info := range p.Plan().Names() {
					v, ok := vs[info.Name.String()]
					if !ok || info.Name.Scope != "" {
						continue
					}
					if f, isSeries := v.(series); isSeries {
						v = f(i, n)
					}
					y, err := value.FromAny(v)
					if err != nil {
						t.Fatal(err)
					}
					s.Observe(slot, at.Add(-time.Duration(n-1-i)*interval).UnixMilli(), y)
				}
			}
			for slot, info := range p.Plan().Names() {
				if v, ok := vs[info.Name.String()]; ok && info.Name.Scope != "" {
					y, err := value.FromAny(v)
					if err != nil {
						t.Fatal(err)
					}
					s.Set(slot, expr.Sample{Value: y})
				}
			}
			s.Advance(at)
			subject := s
			if x.Purpose == expr.ForGroup {
				subject = p.Plan().NewState(at)
				subject.Group([]*expr.State{s, s})
				subject.Advance(at)
			}
			if got := p.Truth(subject); (got == expr.True) != want {
				t.Errorf("%s\n with %v is %s", x.Source, vs, got)
			}
		}
	}
}
