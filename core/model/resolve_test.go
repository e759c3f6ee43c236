package model_test

import (
	"encoding/json"
	"fmt"
	"path"
	"strings"
	"testing"
	"time"

	"ullage/core/model"
	"ullage/core/value"
)

// folder finds models among texts by their names.
func folder(files map[string]string) model.Finder {
	return func(href, _ string) ([]byte, string, bool) {
		name := path.Base(href)
		src, ok := files[name]
		return []byte(src), name, ok
	}
}

const top = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel",`

var probes = map[string]string{
	"base.tm.json": top + `"title":"Probe","ullage:name":"base","version":{"model":"1.0.0"},
		"tm:optional":["/properties/rssi"],
		"properties":{"battery":{"title":"Battery","type":"number","unit":"V","minimum":0,"maximum":4,"readOnly":true,"ullage:decimals":2},
		"rssi":{"type":"number","unit":"dBm","readOnly":true},"depth":{"type":"number","readOnly":true},"fill":{"type":"number","readOnly":true,"ullage:derived":"depth - battery * 2 'V' + \"depth\""}}}`,
	"lib.tm.json":    top + `"title":"Library","properties":{"temp":{"title":"Temperature","type":"number","unit":"Cel","minimum":-20,"maximum":80},"alias":{"tm:ref":"#/properties/temp","title":"Alias"}}}`,
	"a.tm.json":      top + `"title":"A","links":[{"rel":"tm:extends","href":"b.tm.json"}]}`,
	"b.tm.json":      top + `"title":"B","links":[{"rel":"tm:extends","href":"a.tm.json"}]}`,
	"selfy.tm.json":  top + `"title":"S","properties":{"x":{"tm:ref":"#/properties/y"},"y":{"tm:ref":"#/properties/x"}}}`,
	"broken.tm.json": top + `"title":"Broken","properties":5}`,
}

func TestComposition(t *testing.T) {
	src := top + `"title":"Tank probe","ullage:name":"tank","version":{"model":"2.0.0"},
		"links":[{"rel":"tm:extends","href":"./base.tm.json"},{"rel":"tm:submodel","href":"./base.tm.json","instanceName":"jacket"},{"rel":"license","href":"https://example.com/l"}],
		"properties":{"battery":{"maximum":3.7,"ullage:usual":[3.2,3.6]},"depth":null,
			"must_temp":{"tm:ref":"./lib.tm.json#/properties/alias","maximum":60,"title":null,"readOnly":true}}}`
	m, err := model.Read([]byte(src), folder(probes))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, p := range m.Properties {
		names = append(names, p.Name)
	}
	if got := strings.Join(names, " "); got != "battery rssi fill must_temp jacket_battery jacket_rssi jacket_depth jacket_fill" {
		t.Errorf("the properties are %s", got)
	}
	if m.Name != "tank" || m.Version != "2.0.0" || m.Title != "Tank probe" {
		t.Errorf("it is %s, %q", m, m.Title)
	}
	battery, _ := m.Property("battery")
	if battery.Unit != "V" || *battery.Max != 3.7 || *battery.Min != 0 || battery.Usual == nil ||
		battery.Title != "Battery" || battery.Decimals != 2 {
		t.Errorf("battery came down as %+v", battery)
	}
	must, _ := m.Property("must_temp")
	if must.Unit != "Cel" || *must.Max != 60 || *must.Min != -20 || must.Title != "" {
		t.Errorf("must_temp came over as %+v", must)
	}
	rssi, _ := m.Property("jacket_rssi")
	if !rssi.Optional || battery.Optional {
		t.Error("what is optional in the part is not optional in the whole")
	}
	part, _ := m.Property("jacket_battery")
	if part.Title != "Jacket: Battery" {
		t.Errorf("the part's title is %q", part.Title)
	}
	fill, _ := m.Property("jacket_fill")
	if fill.Derived != `jacket_depth - jacket_battery * 2 'V' + "depth"` {
		t.Errorf("the part computes %s", fill.Derived)
	}
	var doc map[string]any
	if err := json.Unmarshal(m.Whole, &doc); err != nil || strings.Contains(string(m.Whole), "tm:ref") ||
		len(doc["links"].([]any)) != 1 {
		t.Errorf("the whole is not whole: %v\n%s", err, m.Whole)
	}
	again, err := model.Parse(m.Whole)
	if err != nil || len(again.Properties) != len(m.Properties) {
		t.Fatalf("the whole does not stand alone: %v", err)
	}
	for _, m := range []*model.Model{m, again} {
		if c := m.Components(); len(c) != 1 || c[0] != "jacket" || battery.Component != "" {
			t.Errorf("its components are %q", c)
		}
		if p, _ := m.Property("jacket_fill"); p.Component != "jacket" {
			t.Errorf("jacket_fill is of %q", p.Component)
		}
	}
}

// TestComponentsOfComponents names what is inside a component by both, and lets a model name a
// component without a file of its own.
func TestComponentsOfComponents(t *testing.T) {
	files := map[string]string{
		"valve.tm.json": top + `"title":"Valve","properties":{"opening":{"type":"number","readOnly":true,"ullage:role":"telemetry"}},"actions":{"exercise":{}}}`,
		"jacket.tm.json": top + `"title":"Jacket","links":[{"rel":"tm:submodel","href":"valve.tm.json","instanceName":"inlet"}],
			"properties":{"flow":{"type":"number","readOnly":true,"ullage:role":"telemetry"}}}`,
	}
	m, err := model.Read([]byte(top+`"title":"Great tank","ullage:name":"great-tank","version":{"model":"1.0.0"},
		"links":[{"rel":"tm:submodel","href":"jacket.tm.json","instanceName":"left"},{"rel":"tm:submodel","href":"jacket.tm.json","instanceName":"right"}],
		"properties":{"lid":{"type":"object","ullage:role":"telemetry","ullage:component":"top","properties":{"open":{"type":"boolean"}}},
			"must_temp":{"type":"number","readOnly":true,"ullage:role":"telemetry"}}}`), folder(files))
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"must_temp": "", "lid_open": "top", "left_flow": "left", "right_flow": "right", "left_inlet_opening": "left_inlet"} {
		if p, ok := m.Property(name); !ok || p.Component != want {
			t.Errorf("%s is of %+v, want %q", name, p, want)
		}
	}
	if a, ok := m.Action("right_inlet_exercise"); !ok || a.Component != "right_inlet" {
		t.Errorf("right_inlet_exercise is of %+v", a)
	}
	if c := strings.Join(m.Components(), " "); c != "top left left_inlet right right_inlet" {
		t.Errorf("the components are %s", c)
	}
}

func TestCompositionRefuses(t *testing.T) {
	for _, c := range []struct{ name, src, pointer, says string }{
		{"missing parent", `"links":[{"rel":"tm:extends","href":"./nowhere.tm.json"}]}`, "/links/0/href", "there is no model at"},
		{"elsewhere", `"links":[{"rel":"tm:extends","href":"https://example.com/x.tm.json"}]}`, "/links/0/href", "nothing is fetched"},
		{"two parents", `"links":[{"rel":"tm:extends","href":"base.tm.json"},{"rel":"tm:extends","href":"lib.tm.json"}]}`, "/links/1/rel", "extends one other"},
		{"loop of parents", `"links":[{"rel":"tm:extends","href":"a.tm.json"}]}`, "/links/0/href", "in a loop: a.tm.json → b.tm.json → a.tm.json"},
		{"loop of references", `"properties":{"x":{"tm:ref":"selfy.tm.json#/properties/x"}}}`, "", "in a loop"},
		{"own loop", `"properties":{"x":{"tm:ref":"#/properties/x"}}}`, "", "in a loop"},
		{"nothing there", `"properties":{"x":{"tm:ref":"lib.tm.json#/properties/nope"}}}`, "/properties/x/tm:ref", "nothing at /properties/nope"},
		{"no pointer", `"properties":{"x":{"tm:ref":"lib.tm.json"}}}`, "/properties/x/tm:ref", "a place in it"},
		{"broken parent", `"links":[{"rel":"tm:extends","href":"broken.tm.json"}]}`, "/links/0/href", "broken.tm.json is itself wrong: /properties"},
		{"other type", `"links":[{"rel":"tm:extends","href":"base.tm.json"}],"properties":{"battery":{"type":"string"}}}`, "/properties/battery/type", "narrow"},
		{"bad instance", `"links":[{"rel":"tm:submodel","href":"base.tm.json","instanceName":"a b"}]}`, "/links/0/instanceName", "no name for a component"},
		{"optional nothing", `"tm:optional":["/properties/x"]}`, "/tm:optional/0", "there is no /properties/x"},
		{"unknown term", `"properties":{"x":{"type":"number","ullage:usal":[1,2]}}}`, "/properties/x/ullage:usal", "did you mean ullage:usual"},
		{"retention", `"properties":{"x":{"type":"number","readOnly":true,"ullage:retention":"5s"}}}`, "/properties/x/ullage:retention", "one day at least"},
		{"derived setting", `"properties":{"x":{"type":"number","ullage:derived":"y"}}}`, "/properties/x/ullage:derived", "only telemetry is derived"},
		{"usual outside", `"properties":{"x":{"type":"number","maximum":5,"ullage:usual":[6,9]}}}`, "/properties/x/ullage:usual", "outside"},
		{"required nothing", `"actions":{"a":{"input":{"type":"object","properties":{"x":{"type":"number"}},"required":["y"]}}}}`, "/actions/a/input/required/0", "not among the properties"},
		{"no topic", `"events":{"a/b":{"data":{"type":"string"}}}}`, "/events/a~1b", "part of a topic"},
	} {
		_, err := model.Read([]byte(top+`"title":"T",`+c.src), folder(probes))
		found, _ := err.(model.Findings)
		ok := false
		for _, f := range found {
			ok = ok || (c.pointer == "" || f.Pointer == c.pointer) && strings.Contains(f.Sentence, c.says)
		}
		if !ok {
			t.Errorf("%s: found %v; want %q at %s", c.name, err, c.says, c.pointer)
		}
	}
}

// A few lines that stand for very much are refused, whatever way they take.
func TestBombs(t *testing.T) {
	files := map[string]string{}
	for i := range 12 {
		var b strings.Builder
		fmt.Fprintf(&b, `%s"title":"L%d","properties":{`, top, i)
		for k := range 10 {
			if k > 0 {
				b.WriteByte(',')
			}
			if i == 0 {
				fmt.Fprintf(&b, `"p%d":{"type":"number"}`, k)
			} else {
				fmt.Fprintf(&b, `"p%d":{"type":"object","properties":{"a":{"tm:ref":"l%d.tm.json#/properties/p%d"},"b":{"tm:ref":"l%d.tm.json#/properties/p%d"}}}`, k, i-1, k, i-1, k)
			}
		}
		b.WriteString("}}")
		files[fmt.Sprintf("l%d.tm.json", i)] = b.String()
	}
	var many strings.Builder
	many.WriteString(top + `"title":"Many","properties":{`)
	for i := range 10000 {
		fmt.Fprintf(&many, `"p%d":{"type":"number"},`, i)
	}
	many.WriteString(`"z":{"type":"number"}}}`)
	for name, src := range map[string]string{
		"references":        files["l11.tm.json"],
		"10,000 properties": many.String(),
		"deep":              top + `"title":"D","properties":{"x":` + strings.Repeat(`{"oneOf":[`, 20) + `{}` + strings.Repeat(`]}`, 20) + `}}`,
	} {
		if m, err := model.Read([]byte(src), folder(files)); err == nil {
			t.Errorf("%s were read: %d properties", name, len(m.Properties))
		}
	}
}

func TestDataSchemas(t *testing.T) {
	m, err := model.Parse([]byte(top + `"title":"Valve","properties":{
		"jacket":{"type":"object","readOnly":true,"required":["flow"],"properties":{"flow":{"type":"number","unit":"L/min","minimum":0,"maximum":60,"ullage:decimals":1},"open":{"type":"boolean"},"pump":{"type":"object","properties":{"speed":{"type":"integer"}}}}},
		"lot":{"type":"string","readOnly":true,"pattern":"^[A-Z]{2}[0-9]+$","maxLength":6},
		"step":{"type":"number","readOnly":true,"multipleOf":0.1},
		"above":{"type":"number","readOnly":true,"exclusiveMinimum":0,"exclusiveMaximum":5},
		"stamp":{"type":"string","readOnly":true,"format":"date-time"},
		"blob":{"type":"string","readOnly":true,"contentEncoding":"base64"},
		"mode":{"readOnly":true,"oneOf":[{"type":"string","const":"auto","title":"By itself"},{"type":"string","const":"off"}]},
		"gear":{"readOnly":true,"enum":[1,2,3]},
		"curve":{"type":"array","readOnly":true,"items":{"type":"number"},"maxItems":3}},
		"actions":{"exercise":{"input":{"type":"object","required":["cycles"],"properties":{"cycles":{"type":"integer","minimum":1,"maximum":10},"slow":{"type":"boolean"}}}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	for _, c := range []struct{ body, kept, refused, marked string }{
		{`{"jacket":{"flow":4.5,"open":true,"pump":{"speed":3}}}`, "jacket_flow=4.5 jacket_open=true jacket_pump_speed=3", "", ""},
		{`{"jacket":{"flow":"fast","opn":true}}`, "", "/jacket/flow /jacket/opn", ""},
		{`{"jacket":{"flow":99}}`, "jacket_flow=99", "", "/jacket/flow"},
		{`{"lot":"AB12","step":0.3,"above":5,"gear":2}`, "above=5 gear=2 lot=AB12 step=0.3", "", "/above"},
		{`{"lot":"ab12","step":0.35,"gear":4}`, "gear=4 lot=ab12 step=0.35", "", "/gear /lot /step"},
		{`{"stamp":"2026-03-01T10:00:00Z","blob":"AAECAw==","mode":"off"}`, "blob=AAECAw== mode=off stamp=2026-03-01T10:00:00Z", "", ""},
		{`{"stamp":"yesterday","blob":"%%","mode":"on"}`, "blob=%% mode=on stamp=yesterday", "", "/blob /mode /stamp"},
		{`{"curve":[1,2]}`, "", "", "/curve"},
		{`{"curve":[1,"x"]}`, "", "/curve/1", ""},
	} {
		got, err := m.Readings([]byte(c.body), at)
		if err != nil {
			t.Errorf("%s: %v", c.body, err)
			continue
		}
		var kept []string
		for _, r := range got.Readings {
			kept = append(kept, r.Metric+"="+r.Value.String())
		}
		if s := strings.Join(kept, " "); s != c.kept || places(got.Refused) != c.refused ||
			places(got.Marked) != c.marked {
			t.Errorf("%s: kept %q, refused %v, marked %v", c.body, s, got.Refused, got.Marked)
		}
	}
	exercise, _ := m.Action("exercise")
	for body, want := range map[string]string{
		`{"cycles":3}`: "", `{"cycles":3,"slow":true}`: "", `{}`: "cycles is missing", `{"cycles":2.5}`: "whole number",
		`{"cycles":11}`: "from 1 to 10", `{"cycles":1,"slwo":true}`: "did you mean slow?", `[]`: "the model wants an object",
	} {
		var x any
		if err := json.Unmarshal([]byte(body), &x); err != nil {
			t.Fatal(err)
		}
		found := exercise.Input.Check(x, "")
		if want == "" && len(found) > 0 || want != "" && (len(found) != 1 ||
			!strings.Contains(found[0].Sentence, want)) {
			t.Errorf("%s: found %v; want %q", body, found, want)
		}
	}
}

func places(f []model.Finding) string {
	var out []string
	for _, x := range f {
		out = append(out, x.Pointer)
	}
	return strings.Join(out, " ")
}

func TestPlaceholders(t *testing.T) {
	src := []byte(top + `"title":"Probe of {{OWNER}}","properties":{"temp":{"type":"number","readOnly":true,"maximum":"{{MAX}}","title":"In {{WHERE}}"}}}`)
	m, err := model.Parse(src)
	if err != nil || strings.Join(m.Open, " ") != "OWNER MAX WHERE" || m.Name != "probe-of" {
		t.Fatalf("%v, open %v, name %s", err, m.Open, m.Name)
	}
	if p, _ := m.Property("temp"); p.OutOfRange(value.OfNumber(1e9)) {
		t.Error("what is open binds already")
	}
	full, err := model.Fill(src, map[string]string{"MAX": "40", "OWNER": "Tarn & Hollow"})
	if err != nil {
		t.Fatal(err)
	}
	m, err = model.Parse(full)
	if err != nil || m.Title != "Probe of Tarn & Hollow" || strings.Join(m.Open, " ") != "WHERE" {
		t.Fatalf("%v, %q, open %v", err, m.Title, m.Open)
	}
	if p, _ := m.Property("temp"); p.Max == nil || *p.Max != 40 {
		t.Errorf("the maximum is %v", p.Max)
	}
	if _, err := model.Fill(src, map[string]string{"MIN": "1"}); err == nil || !strings.Contains(err.Error(), "no placeholder {{MIN}}") {
		t.Errorf("a value for nothing: %v", err)
	}
}

func FuzzRead(f *testing.F) {
	for _, src := range probes {
		f.Add([]byte(src))
	}
	f.Add([]byte(top + `"title":"T","links":[{"rel":"tm:extends","href":"base.tm.json"},{"rel":"tm:submodel","href":"lib.tm.json","instanceName":"x"}],"properties":{"y":{"tm:ref":"lib.tm.json#/properties/alias"}}}`))
	f.Fuzz(func(t *testing.T, src []byte) {
		m, err := model.Read(src, folder(probes))
		if err != nil {
			if found, ok := err.(model.Findings); !ok || len(found) == 0 {
				t.Fatalf("%q is refused with %v", src, err)
			}
			return
		}
		again, err := model.Parse(m.Whole)
		if err != nil {
			t.Fatalf("what was written out cannot be read: %v\n%s", err, m.Whole)
		}
		if c := model.Compare(m, again); len(c.Changes) > 0 {
			t.Fatalf("what was written out differs: %+v\n%s", c.Changes, m.Whole)
		}
	})
}
