package model_test

import (
	"bytes"
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"ullage/core/model"
	"ullage/examples/cellars"
	"ullage/test/scenario"
)

func official(t *testing.T, pkg, file string) *jsonschema.Schema {
	t.Helper()
	b, err := os.ReadFile(filepath.Join("..", "..", "test", "corpora", "node_modules", pkg, "schema", file))
	if err != nil {
		t.Fatalf("the official schema is not installed; run: scripts/setup.sh corpora (%v)", err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	if v := doc.(map[string]any)["version"]; v != "1.1-12-March-2025" {
		t.Fatalf("the schema is of version %v", v)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource(file, doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile(file)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func judge(t *testing.T, s *jsonschema.Schema, doc []byte) error {
	t.Helper()
	x, err := jsonschema.UnmarshalJSON(bytes.NewReader(doc))
	if err != nil {
		t.Fatalf("%v\n%s", err, doc)
	}
	return s.Validate(x)
}

func every(t *testing.T) []*model.Model {
	t.Helper()
	files, err := fs.Glob(cellars.Files, "models/*.tm.json")
	if err != nil || len(files) < 6 {
		t.Fatal(files, err)
	}
	var out []*model.Model
	for _, f := range files {
		b, err := cellars.Files.ReadFile(f)
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

func instance(id string) model.Instance {
	return model.Instance{ID: id, Service: "http://127.0.0.1:8460",
		Link: "http://127.0.0.1:8460/api/v1/models/x/source", MQTT: "mqtt://127.0.0.1:1883", HTTP: "http://127.0.0.1:8461"}
}

// What is written is judged by the official JSON Schema of Thing Descriptions,
// and by our own check, which knows what the schema lets through.
func TestThingDescriptions(t *testing.T) {
	schema := official(t, "wot-thing-description-types", "td-json-schema-validation.json")
	for _, m := range every(t) {
		td, err := m.Describe(instance("tank-fennimore-07"))
		if err != nil {
			t.Fatal(err)
		}
		if err := judge(t, schema, td); err != nil {
			t.Errorf("%s: %v\n%s", m, err, td)
		}
		if found := model.CheckThing(td); len(found) > 0 {
			t.Errorf("%s: %v", m, found)
		}
		var doc struct {
			Properties map[string]struct {
				ReadOnly bool             `json:"readOnly"`
				Forms    []map[string]any `json:"forms"`
			} `json:"properties"`
		}
		if err := json.Unmarshal(td, &doc); err != nil || len(doc.Properties) != len(m.Properties) {
			t.Errorf("%s: %d of %d properties are described, %v", m, len(doc.Properties), len(m.Properties), err)
		}
		for name, p := range doc.Properties {
			q, _ := m.Property(name)
			if want := 1 + map[bool]int{true: 1}[q.Role == model.Setting]; len(p.Forms) != want ||
				p.ReadOnly == (q.Role == model.Setting) {
				t.Errorf("%s of %s has %d forms, read only %t", name, m, len(p.Forms), p.ReadOnly)
			}
		}
	}
	if judge(t, schema, []byte(`{"title":"x"}`)) == nil {
		t.Error("the schema passes whatever it is given")
	}
}

func TestDescribeFillsAndLeavesOut(t *testing.T) {
	m, err := model.Parse([]byte(top + `"title":"Probe of {{OWNER}}","tm:optional":["/properties/flow"],"properties":{"temp":{"type":"number","readOnly":true},"flow":{"type":"number","readOnly":true}}}`))
	if err != nil {
		t.Fatal(err)
	}
	i := instance("tank-1")
	if _, err := m.Describe(i); err == nil || !strings.Contains(err.Error(), "no label or attribute owner") {
		t.Errorf("an open placeholder: %v", err)
	}
	i.Fill = map[string]string{"owner": "Kilnside"}
	i.Has = func(string) bool { return false }
	td, err := m.Describe(i)
	if err != nil || strings.Contains(string(td), "{{") || strings.Contains(string(td), "flow") ||
		!strings.Contains(string(td), `"temp"`) {
		t.Errorf("%v\n%s", err, td)
	}
}

// Examples of every model are taken by that model, in each form.
func TestExamplesAreTaken(t *testing.T) {
	at := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	models := every(t)
	more, err := model.Parse([]byte(top + `"title":"Odd","properties":{
		"inner":{"type":"object","readOnly":true,"properties":{"a":{"type":"integer","minimum":3,"maximum":4},"b":{"type":"string","format":"uuid"}}},
		"step":{"type":"number","readOnly":true,"multipleOf":0.25,"minimum":1,"maximum":2},"above":{"type":"number","readOnly":true,"exclusiveMinimum":0,"maximum":0.5,"ullage:decimals":2},
		"neg":{"type":"number","readOnly":true,"maximum":-10},"low":{"type":"number","readOnly":true,"minimum":500},"when":{"type":"string","readOnly":true,"format":"date-time"},
		"blob":{"type":"string","readOnly":true,"contentEncoding":"base64"},"mode":{"readOnly":true,"enum":["on","off"]},"only":{"readOnly":true,"const":5},"yes":{"type":"boolean","readOnly":true}}}`))
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range append(models, more) {
		x := m.Examples("tank-1", at)
		for name, body := range map[string]json.RawMessage{"readings": x.Readings, "timed": x.Timed} {
			got, err := m.Readings(body, at)
			if err != nil || len(got.Refused)+len(got.Marked) > 0 || len(got.Readings) == 0 {
				t.Errorf("%s: %s %s: %v, refused %v, marked %v", m, name, body, err, got.Refused, got.Marked)
			}
		}
		if !m.IsPack(x.Pack) {
			t.Errorf("%s: %s is not taken for SenML", m, x.Pack)
		}
		got, err := m.Pack(x.Pack, "tank-1", at)
		if err != nil || len(got.Refused)+len(got.Marked) > 0 {
			t.Errorf("%s: %s: %v, refused %v, marked %v", m, x.Pack, err, got.Refused, got.Marked)
		}
		if x.About != nil {
			if kept, refused, err := m.About(x.About); err != nil || len(refused) > 0 || len(kept) == 0 {
				t.Errorf("%s: about %s: %v %v", m, x.About, refused, err)
			}
		}
		for name, in := range x.Commands {
			var v any
			if err := json.Unmarshal(in, &v); err != nil {
				t.Fatal(err)
			}
			if a, ok := m.Action(name); !ok || a.Input != nil && len(a.Input.Check(v, "")) > 0 {
				t.Errorf("%s: the input %s of %s is refused: %v", m, in, name, a.Input.Check(v, ""))
			}
		}
	}
}

func TestPack(t *testing.T) {
	m := scenario.Model(t, "tank-probe")
	at := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	for _, c := range []struct{ name, body, kept, refused string }{
		{"own id before the name", `[{"bn":"tank-1/","n":"must_temp","v":20},{"n":"battery","v":3}]`, "must_temp=20 battery=3", ""},
		{"another device's", `[{"n":"tank-2/must_temp","v":20}]`, "", "/0/n"},
		{"converted", `[{"n":"must_temp","u":"K","v":293.15},{"n":"ullage","u":"m","v":0.314}]`, "must_temp=20 ullage=31.4", ""},
		{"not convertible", `[{"n":"must_temp","u":"V","v":3},{"n":"rssi","u":"parsnip","v":1}]`, "", "/0 /1"},
		{"a sum", `[{"n":"must_temp","s":3}]`, "", "/0"},
		{"a text", `[{"n":"must_temp","vs":"hot"}]`, "", "/0/n"},
	} {
		got, err := m.Pack([]byte(c.body), "tank-1", at)
		var kept []string
		for _, r := range got.Readings {
			kept = append(kept, r.Metric+"="+r.Value.String())
		}
		if err != nil || strings.Join(kept, " ") != c.kept || places(got.Refused) != c.refused {
			t.Errorf("%s: %v, kept %v, refused %v", c.name, err, kept, got.Refused)
		}
	}
	if m.IsPack([]byte(`[{"must_temp":3}]`)) || m.IsPack([]byte(`{"n":1}`)) || !m.IsPack([]byte(` [{"n":"x","v":1}]`)) {
		t.Error("what is SenML and what is not are mixed up")
	}
}

// What is made of a message takes that message.
func TestFromMessage(t *testing.T) {
	at := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	schema := official(t, "wot-thing-model-types", "tm-json-schema-validation.json")
	for body, want := range map[string]string{
		`{"cask_temp":12.4,"battery":3.31,"lid":{"open":true}}`:         "cask_temp:Cel:1 battery:V:2 lid_open::-1",
		`{"at":"2026-03-01T10:00:00Z","co2":640,"x":"a"}`:               "co2:ppm:0 x::-1",
		`[{"n":"must_temp","u":"Cel","v":21.45},{"n":"fan","vb":true}]`: "must_temp:Cel:2 fan::-1",
		`[{"load":1},{"load":1.25}]`:                                    "load:kg:2",
		`{"position":{"lat":48.1,"lng":11.25},"rssi":-87}`:              "position_lat:lat:6 position_lng:lon:6 rssi:dBm:0",
	} {
		src, err := model.FromMessage([]byte(body), "cask-lid")
		if err != nil {
			t.Errorf("%s: %v", body, err)
			continue
		}
		if err := judge(t, schema, src); err != nil {
			t.Errorf("%s gives no Thing Model: %v\n%s", body, err, src)
		}
		m, err := model.Parse(src)
		if err != nil {
			t.Fatalf("%v\n%s", err, src)
		}
		var got []string
		for _, p := range m.Properties {
			got = append(got, strings.Join([]string{p.Name, p.Unit, strings.TrimSpace(string(rune('0' + p.Decimals)))},
				":"))
		}
		if s := strings.ReplaceAll(strings.Join(got, " "), ":/", ":-1"); s != want {
			t.Errorf("%s gives %s; want %s", body, s, want)
		}
		for _, p := range m.Properties {
			if v := p.Example().Num; p.Unit == "dBm" && (v < -120 || v > -40) || p.Unit == "Cel" && (v < -20 || v > 60) {
				t.Errorf("%s: a sample value of %s is %g %s", body, p.Name, v, p.Unit)
			}
		}
		var c model.Checked
		if m.IsPack([]byte(body)) {
			c, err = m.Pack([]byte(body), "x", at)
		} else {
			c, err = m.Readings([]byte(body), at)
		}
		if err != nil || len(c.Refused) > 0 {
			t.Errorf("%s is not taken by its own model: %v %v", body, err, c.Refused)
		}
	}
	for body, says := range map[string]string{``: "cannot be read", `[]`: "no value", `{"a":`: "cannot be read",
		`12`: "no value"} {
		if _, err := model.FromMessage([]byte(body), "x"); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v; want %s", body, err, says)
		}
	}
	if _, err := model.FromMessage([]byte(`{"a":1}`), "Cask Lid"); err == nil {
		t.Error("a name that is none is taken")
	}
}

func TestReportedVersion(t *testing.T) {
	m := scenario.Model(t, "tank-probe")
	kept, refused, err := m.About([]byte(`{"serial":"TH-1","model_version":"1.3.0"}`))
	if err != nil || len(refused) > 0 || kept["model_version"].Text != "1.3.0" || len(kept) != 2 {
		t.Errorf("%v %v %v", kept, refused, err)
	}
	if _, refused, _ := m.About([]byte(`{"model_version":3}`)); len(refused) != 1 ||
		!strings.Contains(refused[0].Sentence, `like "1.2.0"`) {
		t.Errorf("a version that is none: %v", refused)
	}
}

func TestCompareAffordances(t *testing.T) {
	base := top + `"title":"Valve","ullage:name":"valve","version":{"model":"1.0.0"},"properties":{"lot":{"type":"string","readOnly":true,"pattern":"^A"},"x":{"type":"number","readOnly":true,"ullage:derived":"y"},"y":{"type":"number","readOnly":true}},
		"actions":{"go":{"input":{"type":"object","properties":{"n":{"type":"integer","minimum":1,"maximum":9},"m":{"type":"string"}},"required":["n"]},"output":{"type":"number"}},"stop":{}},"events":{"stuck":{"data":{"type":"string"}}}}`
	for _, c := range []struct{ name, from, to, weight, says string }{
		{"nothing", "", "", "safe", ""},
		{"input wider", `"maximum":9`, `"maximum":12`, "careful", "may refuse what is new"},
		{"input narrower", `"maximum":9`, `"maximum":5`, "breaking", "what is sent today may be refused"},
		{"input of another type", `"type":"integer"`, `"type":"string"`, "breaking", "is text"},
		{"input needs more", `"required":["n"]`, `"required":["n","m"]`, "breaking", "needs m from now on"},
		{"input member gone", `,"m":{"type":"string"}`, ``, "breaking", "has no m any more"},
		{"input member new", `"m":{"type":"string"}`, `"m":{"type":"string"},"o":{"type":"boolean"}`, "careful", "may have o"},
		{"output gone", `,"output":{"type":"number"}`, ``, "careful", "the output of go is gone"},
		{"command gone", `,"stop":{}`, ``, "breaking", "the command stop is gone"},
		{"command new", `"stop":{}`, `"stop":{},"more":{}`, "careful", "the command more is new"},
		{"event gone", `"events":{"stuck":{"data":{"type":"string"}}}`, `"events":{}`, "breaking", "the event stuck is gone"},
		{"event new", `"stuck":{`, `"loose":{},"stuck":{`, "safe", "the event loose is new"},
		{"event of another type", `"data":{"type":"string"}`, `"data":{"type":"number"}`, "breaking", "the data of stuck is a number"},
		{"pattern", `"pattern":"^A"`, `"pattern":"^B"`, "careful", "marked as beyond range"},
		{"derived otherwise", `"ullage:derived":"y"`, `"ullage:derived":"y * 2"`, "careful", "computed by y * 2 and was y"},
		{"kept shorter", `"y":{"type":"number",`, `"y":{"type":"number","ullage:retention":"30d",`, "careful", "are kept 30d"},
	} {
		old, err := model.Parse([]byte(base))
		if err != nil {
			t.Fatal(err)
		}
		next, err := model.Parse([]byte(strings.Replace(base, c.from, c.to, 1)))
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		got := model.Compare(old, next)
		if string(got.Weight) != c.weight || c.says == "" && len(got.Changes) > 0 ||
			c.says != "" && (len(got.Changes) == 0 || !strings.Contains(got.Changes[0].Sentence, c.says)) {
			t.Errorf("%s: %s %+v; want %s, %q", c.name, got.Weight, got.Changes, c.weight, c.says)
		}
	}
}
