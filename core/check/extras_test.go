package check_test

import (
	"bytes"
	"encoding/json"
	"io/fs"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/examples/cellars"
)

const head = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel","title":"T","version":{"model":"1.0.0"},"ullage:name":"t","ullage:interval":"60s","properties":{"a":{"type":"number","unit":"cm","readOnly":true},"b":{"type":"number","unit":"mm","readOnly":true},"warm":{"type":"number","unit":"Cel","readOnly":true},"name":{"type":"string","readOnly":true},"depth":{"type":"number","unit":"m","default":3,"ullage:role":"setting"}`

func derive(t *testing.T, property string) (*model.Model, *check.Derivation, []check.DerivedFinding) {
	t.Helper()
	m, err := model.Parse([]byte(head + "," + property + "}}"))
	if err != nil {
		t.Fatal(err)
	}
	d, wrong := check.Derive(m)
	return m, d, wrong
}

func TestDerive(t *testing.T) {
	at := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	for _, c := range []struct{ unit, expression, a, b, want string }{
		{"cm", "a + b", "10", "30", "13"},
		{"mm", "a + b", "10", "30", "130"},
		{"m", "set.depth - a", "50", "", "2.5"},
		{"%", "a / set.depth", "150", "", "50"},
		{"%", "b / b", "150", "30", "100"},
		{"%", "if a > 3 then 70 else 0", "150", "30", "70"},
		{"cm", "a + b", "10", "", "nothing"},
		{"cm", "if has(label.deep) then a else b", "10", "20", "2"},
		{"Cel", "warm - 10 'Cel'", "", "", "11"},
		{"K", "warm - warm + 2", "", "", "2"},
		{"Cel", "warm + 2", "", "", "23"},
	} {
		unit := c.unit
		_, d, wrong := derive(t, `"x":{"type":"number","unit":"`+unit+`","readOnly":true,"ullage:derived":"`+
			c.expression+`"}`)
		if d == nil {
			t.Errorf("%s: %v", c.expression, wrong)
			continue
		}
		var in []value.Reading
		for metric, s := range map[string]string{"a": c.a, "b": c.b, "warm": "21"} {
			if s != "" {
				var f float64
				if err := json.Unmarshal([]byte(s), &f); err != nil {
					t.Fatal(err)
				}
				in = append(in, value.Reading{Metric: metric, At: at, Value: value.OfNumber(f)})
			}
		}
		got := "nothing"
		for _, r := range d.Compute(in, func(string, time.Time) (value.Reading, bool) {
			return value.Reading{}, false
		}, func(n expr.Name) value.Value {
			if n.Key == "depth" {
				return value.OfNumber(3)
			}
			return value.Value{}
		}) {
			got = r.Value.String()
		}
		if got != c.want {
			t.Errorf("%s in %s is %s; want %s", c.expression, c.unit, got, c.want)
		}
	}
}

func TestDeriveRefuses(t *testing.T) {
	for property, says := range map[string]string{
		`"x":{"type":"number","unit":"cm","readOnly":true,"ullage:derived":"a + c"}`:                                                                            "no metric c",
		`"x":{"type":"number","unit":"kPa","readOnly":true,"ullage:derived":"a + b"}`:                                                                           "x is in kPa",
		`"x":{"type":"number","unit":"cm","readOnly":true,"ullage:derived":"mean(a over 10min)"}`:                                                               "looks back over a window",
		`"x":{"type":"number","unit":"s","readOnly":true,"ullage:derived":"age(a)"}`:                                                                            "changes without a reading",
		`"x":{"type":"boolean","readOnly":true,"ullage:derived":"device.link == \"silent\""}`:                                                                   "changes without a reading",
		`"x":{"type":"number","unit":"cm","readOnly":true,"ullage:derived":"x + a"}`:                                                                            "computed from itself",
		`"x":{"type":"number","unit":"cm","readOnly":true,"ullage:derived":"y + a"},"y":{"type":"number","unit":"cm","readOnly":true,"ullage:derived":"x + a"}`: "computed from itself",
		`"x":{"type":"number","unit":"m","readOnly":true,"ullage:derived":"set.depth"}`:                                                                         "from no metric",
		`"x":{"type":"number","readOnly":true,"ullage:derived":"name"}`:                                                                                         "the expression gives",
		`"x":{"type":"number","readOnly":true,"ullage:derived":"a +"}`:                                                                                          "",
	} {
		_, _, wrong := derive(t, property)
		found := ""
		for _, w := range wrong {
			found += w.Finding.Sentence + "\n"
		}
		if len(wrong) == 0 || !strings.Contains(found, says) {
			t.Errorf("%s: found %q; want %q", property, found, says)
		}
	}
}

// A folder says where in the file a formula is wrong, and what an example that
// does not come out says.
func TestFolderExtras(t *testing.T) {
	m := strings.ReplaceAll(head, `,"`, ",\n\"") +
		",\n\"x\":{\"type\":\"number\",\"unit\":\"cm\",\"readOnly\":true,\n\"ullage:derived\":\"a + bb\"}}}"
	good := head + "}}"
	for _, c := range []struct {
		name  string
		files []check.File
		want  string
	}{
		{"formula", []check.File{{Path: "t.tm.json", Data: []byte(m)}}, "t.tm.json expression"},
		{"examples pass", []check.File{{Path: "t.tm.json", Data: []byte(good)}, {Path: "t.examples.yaml", Data: []byte("examples:\n  - payload: {a: 3}\n    gives: {a: 3}\n")}}, ""},
		{"example fails", []check.File{{Path: "t.tm.json", Data: []byte(good)}, {Path: "t.examples.yaml", Data: []byte("examples:\n  - name: one\n    payload: {a: 3}\n    gives: {a: 4}\n")}}, "t.examples.yaml example a is 3; expected 4"},
		{"not refused", []check.File{{Path: "t.tm.json", Data: []byte(good)}, {Path: "t.examples.yaml", Data: []byte("examples:\n  - payload: {a: 3}\n    refused: {/a: text}\n")}}, "/a was not refused"},
		{"no model", []check.File{{Path: "u.examples.yaml", Data: []byte("examples:\n  - payload: {a: 3}\n")}}, "there is no model u"},
		{"unknown key", []check.File{{Path: "t.examples.yaml", Data: []byte("examples:\n  - payload: {a: 3}\n    give: {}\n")}}, "t.examples.yaml file"},
		{"bomb", []check.File{{Path: "t.examples.yaml", Data: []byte("a: &a [x]\nexamples: [*a]\n")}}, "anchors and aliases"},
		{"parent missing", []check.File{{Path: "t.tm.json", Data: []byte(strings.Replace(good, `"title":"T"`, `"title":"T","links":[{"rel":"tm:extends","href":"p.tm.json"}]`, 1))}}, "there is no model at p.tm.json"},
		{"parent in YAML", []check.File{{Path: "m/t.tm.json", Data: []byte(strings.Replace(good, `"title":"T"`, `"title":"T","links":[{"rel":"tm:extends","href":"../lib/p.tm.yaml"}]`, 1))},
			{Path: "lib/p.tm.yaml", Data: []byte("'@context': https://www.w3.org/2022/wot/td/v1.1\n'@type': tm:ThingModel\ntitle: P\nproperties: {p: {type: number, readOnly: true}}\n")}}, ""},
	} {
		r := check.Folder(c.files)
		var found []string
		for _, f := range r.Findings {
			if f.Severity == "error" {
				found = append(found, f.File+" "+f.Kind+" "+f.Sentence)
			}
		}
		s := strings.Join(found, "\n")
		if c.want == "" && s != "" || c.want != "" && !containsAll(s, strings.Fields(c.want)) {
			t.Errorf("%s: found %q; want %q", c.name, s, c.want)
		}
		if c.name == "formula" && (r.Findings[0].Line < 8 || r.Findings[0].Column < 20) {
			t.Errorf("the formula is said to be wrong at %d:%d", r.Findings[0].Line, r.Findings[0].Column)
		}
	}
}

func containsAll(s string, words []string) bool {
	for _, w := range words {
		if !strings.Contains(s, w) {
			return false
		}
	}
	return true
}

// The JSON Schemas for editors pass the files of the scenario, and see a slip.
func TestFileSchemas(t *testing.T) {
	for kind, c := range map[string]struct{ glob, slip, instead string }{
		"model":    {"models/*.tm.json", `"ullage:role"`, `"ullage:rule"`},
		"rule":     {"rules/*.yaml", `"priority"`, `"prio"`},
		"examples": {"models/*.examples.yaml", `"payload"`, `"load"`},
	} {
		b, err := check.FileSchema(kind)
		if err != nil {
			t.Fatal(err)
		}
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
		if err != nil {
			t.Fatal(err)
		}
		compiler := jsonschema.NewCompiler()
		if err := compiler.AddResource("s.json", doc); err != nil {
			t.Fatal(err)
		}
		schema, err := compiler.Compile("s.json")
		if err != nil {
			t.Fatal(err)
		}
		files, err := fs.Glob(cellars.Files, c.glob)
		if err != nil || len(files) == 0 {
			t.Fatal(c.glob, err)
		}
		for _, f := range files {
			src, err := cellars.Files.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			if strings.HasSuffix(f, ".yaml") {
				if src, err = yaml.YAMLToJSON(src); err != nil {
					t.Fatal(err)
				}
			}
			for _, wrong := range []bool{false, true} {
				text := string(src)
				if wrong {
					text = strings.Replace(text, c.slip, c.instead, 1)
				}
				x, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
				if err != nil {
					t.Fatal(err)
				}
				if err := schema.Validate(x); (err != nil) != wrong {
					t.Errorf("%s (slip %t): %v", f, wrong, err)
				}
			}
		}
	}
	if _, err := check.FileSchema("callout"); err == nil {
		t.Error("there is a schema of what there is not")
	}
}

func FuzzExamples(f *testing.F) {
	b, err := cellars.Files.ReadFile("models/tank-probe.examples.yaml")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	src, err := cellars.Files.ReadFile("models/tank-probe.tm.json")
	if err != nil {
		f.Fatal(err)
	}
	m, err := model.Parse(src)
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		x, err := check.ReadExamples(b)
		if err != nil {
			return
		}
		if got := x.Run(m); len(got) != len(x.Examples) {
			t.Fatalf("%d results of %d examples", len(got), len(x.Examples))
		}
	})
}

// A key that a rule gets is in the schema of its files, too.
func TestRuleSchemaHasEveryKey(t *testing.T) {
	b, err := check.FileSchema("rule")
	if err != nil {
		t.Fatal(err)
	}
	var s struct {
		Properties map[string]any `json:"properties"`
	}
	if err := json.Unmarshal(b, &s); err != nil {
		t.Fatal(err)
	}
	for _, key := range rule.Keys() {
		if _, ok := s.Properties[key]; !ok {
			t.Errorf("the schema does not know %s", key)
		}
	}
	if len(s.Properties) != len(rule.Keys()) {
		t.Errorf("the schema has %d keys, a rule %d", len(s.Properties), len(rule.Keys()))
	}
}
