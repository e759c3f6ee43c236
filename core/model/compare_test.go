package model_test

import (
	"strings"
	"testing"

	"ullage/core/model"
	"ullage/examples/cellars"
)

func TestCompare(t *testing.T) {
	b, err := cellars.Files.ReadFile("models/tank-probe.tm.json")
	if err != nil {
		t.Fatal(err)
	}
	src := string(b)
	old, err := model.Parse(b)
	if err != nil {
		t.Fatal(err)
	}
	property := func(name, member, value string) func(string) string {
		return func(s string) string { // replaces one member of one property
			i := strings.Index(s, `"`+name+`": {`)
			j := i + strings.Index(s[i:], `"`+member+`":`)
			end := j + strings.IndexAny(s[j:], ",\n")
			if s[end] == ',' && strings.Contains(s[j:end], "[") || strings.HasSuffix(s[j:end], "[") {
				end = j + strings.Index(s[j:], "]") + 1
			}
			return s[:j] + `"` + member + `": ` + value + s[end:]
		}
	}
	with := func(name string) func(string) string {
		return func(s string) string { return strings.Replace(s, `"properties": {`, `"properties": {`+name+`,`, 1) }
	}
	rename := func(from, to string) func(string) string {
		return func(s string) string { return strings.Replace(s, `"`+from+`": {`, `"`+to+`": {`, 1) }
	}
	for _, c := range []struct {
		name   string
		change func(string) string
		weight model.Weight
		needs  string
		says   string
	}{
		{"nothing", func(s string) string { return s }, model.Safe, "1.2.0", ""},
		{"spaces", func(s string) string { return strings.ReplaceAll(s, "  ", "\t") }, model.Safe, "1.2.0", ""},
		{"a title", property("must_temp", "title", `"Must"`), model.Safe, "1.2.1", "shown in another way"},
		{"new telemetry", with(`"ph": {"type": "number", "unit": "pH", "readOnly": true}`), model.Safe, "1.2.1", "the metric ph is new"},
		{"a new setting", with(`"sleep": {"type": "integer", "default": 5}`), model.Careful, "1.3.0", "every device gets a new revision with 5"},
		{"a new setting without default", with(`"sleep": {"type": "integer"}`), model.Careful, "1.3.0", "nobody is told it until it is set"},
		{"telemetry that is gone", rename("must_temp", "must_temperature"), model.Breaking, "2.0.0", "the metric must_temp is gone"},
		{"telemetry that is renamed", func(s string) string {
			return strings.Replace(s, `"must_temp": {`, `"must_temperature": { "ullage:was": "must_temp",`, 1)
		}, model.Breaking, "2.0.0", "the metric must_temp is called must_temperature: its history goes on"},
		{"a setting that is gone", rename("max_temp", "maximum_temp"), model.Breaking, "2.0.0", "the setting max_temp is gone"},
		{"another unit", property("ullage", "unit", `"mm"`), model.Breaking, "2.0.0", "ullage is in mm and was in cm: the same number from a device, and every stored one, means something else"},
		{"the same unit, written otherwise", property("co2_flow", "unit", `"l/min"`), model.Safe, "1.2.1", "it is the same"},
		{"another quantity", property("ullage", "unit", `"V"`), model.Breaking, "2.0.0", "another quantity"},
		{"another type", property("must_temp", "type", `"string"`), model.Breaking, "2.0.0", ""},
		{"a higher minimum of telemetry", property("must_temp", "minimum", `0`), model.Careful, "1.3.0", "more readings are marked"},
		{"a lower minimum", property("must_temp", "minimum", `-10`), model.Safe, "1.2.1", "leaves more room"},
		{"a narrower setting", property("max_temp", "maximum", `35`), model.Breaking, "2.0.0", "values that are set now may be refused"},
		{"another default", property("max_temp", "default", `30`), model.Careful, "1.3.0", "is 30.0 °C and was 32.0 °C"},
		{"a narrower accept", property("must_temp", "ullage:accept", `[-20, 125]`), model.Breaking, "2.0.0", "refused that were taken"},
		{"a wider accept", property("must_temp", "ullage:accept", `[-50, 125]`), model.Safe, "1.2.1", "physically possible"},
		{"another usual", property("must_temp", "ullage:usual", `[16, 26]`), model.Careful, "1.3.0", "another middle"},
		{"a shorter interval", func(s string) string { return strings.Replace(s, `"60s"`, `"30s"`, 1) }, model.Careful, "1.3.0", "late sooner"},
		{"a command that is gone", rename("identify", "blink"), model.Breaking, "2.0.0", "the command identify is gone"},
		{"another name", func(s string) string { return strings.Replace(s, `"tank-probe"`, `"vat-probe"`, 1) }, model.Breaking, "2.0.0", "another model"},
	} {
		next, err := model.Parse([]byte(c.change(src)))
		if err != nil {
			if c.name == "another type" { // bounds and units do not go with text
				continue
			}
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		got := model.Compare(old, next)
		first := ""
		if len(got.Changes) > 0 {
			first = got.Changes[0].Sentence
		}
		if got.Weight != c.weight || got.Needs != c.needs || !strings.Contains(first, c.says) ||
			(c.says == "") != (first == "") {
			t.Errorf("%s: %s, needs %s: %v; want %s, %s, %q", c.name, got.Weight, got.Needs, got.Changes, c.weight,
				c.needs, c.says)
		}
		if enough := c.needs == "1.2.0" || c.name == "another name"; got.Enough != enough {
			t.Errorf("%s: the old version is enough: %t", c.name, got.Enough)
		}
		for version, want := range map[string]bool{c.needs: true, "9.0.0": true} {
			next.Version = version
			if got := model.Compare(old, next); got.Enough != want {
				t.Errorf("%s with %s: %t", c.name, version, got.Enough)
			}
		}
		// What breaks one way may be safe the other, but nothing is lost.
		if back := model.Compare(next, old); len(back.Changes) == 0 && len(got.Changes) > 0 && c.name != "nothing" {
			t.Errorf("%s: backwards there is no change", c.name)
		}
	}
}
