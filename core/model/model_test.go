package model_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"

	"ullage/core/model"
	"ullage/core/value"
	"ullage/examples/cellars"
	"ullage/test/scenario"
)

func TestScenarioModels(t *testing.T) {
	files, err := fs.Glob(cellars.Files, "models/*.tm.json")
	if err != nil || len(files) != 6 {
		t.Fatalf("there are %d models, %v; want 6", len(files), err)
	}
	for _, f := range files {
		name := strings.TrimSuffix(strings.TrimPrefix(f, "models/"), ".tm.json")
		m := scenario.Model(t, name)
		if m.Name != name || len(m.With(model.Telemetry)) == 0 || len(m.With(model.Setting)) == 0 {
			t.Errorf("%s reads as %s with %d telemetry and %d settings", f, m.Name, len(m.With(model.Telemetry)),
				len(m.With(model.Setting)))
		}
	}
	probe := scenario.Model(t, "tank-probe")
	p, ok := probe.Property("must_temp")
	if !ok || p.Unit != "Cel" || p.Decimals != 1 || *p.Usual != (model.Span{Low: 18, High: 26}) ||
		probe.Interval != time.Minute {
		t.Errorf("must_temp reads as %+v, interval %s", p, probe.Interval)
	}
	if got := probe.With(model.Telemetry)[0].Name; got != "must_temp" {
		t.Errorf("the first telemetry is %s; the order of the file is lost", got)
	}
	if !slices.Equal(probe.Commands(), []string{"identify", "zero_level"}) {
		t.Errorf("commands are %v", probe.Commands())
	}
	bung := scenario.Model(t, "cask-bung")
	if len(bung.Defaults(false)) != 0 || len(bung.Defaults(true)) != 2 {
		t.Errorf("the bung's settings are %v and %v; both must be kept by the service", bung.Defaults(false),
			bung.Defaults(true))
	}
}

const head = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel","title":"T","version":{"model":"1.0.0"},"ullage:name":"t",`

func TestParseRefuses(t *testing.T) {
	for _, c := range []struct{ name, src, pointer, says string }{
		{"empty", ``, "", "ends too early"},
		{"not JSON", `{"a":`, "/a", "ends too early"},
		{"a second comma", "{\n\"a\":1,,}", "", "line 2"},
		{"twice", `{"title":"a","title":"b"}`, "/title", "written twice"},
		{"no type", strings.Replace(head, `"tm:ThingModel"`, `"Thing"`, 1) + `"properties":{}}`, "/@type", "tm:ThingModel"},
		{"no prefix", strings.Replace(head, `{"ullage":"urn:ullage:vocabulary:"}`, `{}`, 1) + `"properties":{}}`, "/@context", "prefix"},
		{"name", strings.Replace(head, `"ullage:name":"t"`, `"ullage:name":"Tank Probe"`, 1) + `"properties":{}}`, "/ullage:name", "small letters"},
		{"version", strings.Replace(head, `1.0.0`, `one`, 1) + `"properties":{}}`, "/version/model", "semantic version"},
		{"unit", head + `"properties":{"a":{"type":"number","unit":"furlong","ullage:role":"telemetry"}}}`, "/properties/a/unit", "furlong"},
		{"unit of a text", head + `"properties":{"a":{"type":"string","unit":"Cel","ullage:role":"telemetry"}}}`, "/properties/a/unit", "only numbers"},
		{"role", head + `"properties":{"a":{"type":"number","ullage:role":"knob"}}}`, "/properties/a/ullage:role", "knob"},
		{"range", head + `"properties":{"a":{"type":"number","minimum":5,"maximum":1}}}`, "/properties/a/minimum", "above the maximum"},
		{"accept", head + `"properties":{"a":{"type":"number","minimum":0,"ullage:accept":[1,2]}}}`, "/properties/a/ullage:accept", "hold everything"},
		{"default", head + `"properties":{"a":{"type":"number","maximum":3,"default":9,"ullage:role":"setting"}}}`, "/properties/a/default", "at most 3"},
		{"property name", head + `"properties":{"Must Temp":{"type":"number"}}}`, "/properties/Must Temp", "small letters"},
		{"type", head + `"properties":{"a":{"type":"thing"}}}`, "/properties/a/type", "boolean, integer"},
		{"member of a wrong type", head + `"properties":{"a":{"type":"number","minimum":"low"}}}`, "/properties/a/minimum", "wants a number"},
		{"interval", head + `"ullage:interval":"1 minute","properties":{}}`, "/ullage:interval", "60s"},
		{"telemetry kept by the service", head + `"properties":{"a":{"type":"number","ullage:role":"telemetry","ullage:kept_by_service":true}}}`, "/properties/a/ullage:kept_by_service", "only a setting"},
		{"a name before that is there now", head + `"properties":{"a":{"type":"number","readOnly":true,"ullage:was":"b"},"b":{"type":"number","readOnly":true}}}`, "/properties/a/ullage:was", "there is a property of that name"},
		{"a name before of two", head + `"properties":{"a":{"type":"number","readOnly":true,"ullage:was":"c"},"b":{"type":"number","readOnly":true,"ullage:was":["c"]}}}`, "/properties/b/ullage:was", "both a and b"},
		{"a name before of a setting", head + `"properties":{"a":{"type":"number","ullage:role":"setting","ullage:was":"c"}}}`, "/properties/a/ullage:was", "only telemetry"},
		{"no name before", head + `"properties":{"a":{"type":"number","readOnly":true,"ullage:was":[]}}}`, "/properties/a/ullage:was", "a list of at most"},
		{"a word for what it tells", head + `"properties":{"a":{"type":"number","readOnly":true,"ullage:tells":"power"}}}`, "/properties/a/ullage:tells", "battery, signal or neither"},
		{"no name of a component", head + `"properties":{"a":{"type":"number","readOnly":true,"ullage:component":"the left"}}}`, "/properties/a/ullage:component", "letters, digits and underscores"},
		{"a component that is a number", head + `"properties":{"a":{"type":"number","readOnly":true}},"actions":{"b":{"ullage:component":2}}}`, "/actions/b/ullage:component", "such as \"left\""},
		{"a renewal with an input", head + `"properties":{"a":{"type":"number","readOnly":true}},"actions":{"b":{"ullage:renews":true,"input":{"type":"number"}}}}`, "/actions/b/ullage:renews", "has no input"},
		{"a renewal that is a text", head + `"properties":{"a":{"type":"number","readOnly":true}},"actions":{"b":{"ullage:renews":"token"}}}`, "/actions/b/ullage:renews", "this is true"},
		{"a slip in a command", head + `"properties":{"a":{"type":"number","readOnly":true}},"actions":{"b":{"ullage:renew":true}}}`, "/actions/b/ullage:renew", "ullage:renews"},
		{"a setting that tells", head + `"properties":{"a":{"type":"number","ullage:role":"setting","ullage:tells":"battery"}}}`, "/properties/a/ullage:tells", "only telemetry"},
		{"a text that tells", head + `"properties":{"a":{"type":"string","readOnly":true,"ullage:tells":"signal"}}}`, "/properties/a/ullage:tells", "only a number"},
		{"a number before", head + `"properties":{"a":{"type":"number","readOnly":true,"ullage:was":4}}}`, "/properties/a/ullage:was", "a list of at most"},
		{"a name before that is none", head + `"properties":{"a":{"type":"number","readOnly":true,"ullage:was":"x\u0007"}}}`, "/properties/a/ullage:was", "no name of a metric"},
		{"too deep", strings.Repeat(`[`, 40), "", "nested"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := model.Parse([]byte(c.src))
			var found model.Findings
			if !errors.As(err, &found) {
				t.Fatalf("the error is %v, want findings", err)
			}
			for _, f := range found {
				if (c.pointer == "" || f.Pointer == c.pointer) && strings.Contains(f.Sentence, c.says) {
					return
				}
			}
			t.Errorf("found %+v; want %q at %q", found, c.says, c.pointer)
		})
	}
	if _, err := model.Parse(make([]byte, model.MaxSource+1)); err == nil {
		t.Error("a file that is too large was read")
	}
}

func TestParseFindsEverythingAtOnce(t *testing.T) {
	_, err := model.Parse([]byte(head + `"properties":{"a":{"type":"number","unit":"x"},"b":{"type":"list"},"C D":{"type":"number"}}}`))
	var found model.Findings
	if !errors.As(err, &found) || len(found) != 3 {
		t.Errorf("found %v; want three places", err)
	}
}

var arrived = time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)

func TestReadings(t *testing.T) {
	m := scenario.Model(t, "tank-probe")
	for _, c := range []struct {
		name, body      string
		kept            string // metric=value@seconds from arrival, comma separated
		refused, marked string // pointers
		untimed         bool
	}{
		{"flat", `{"must_temp":21.4,"ullage":3}`, "must_temp=21.4@0,ullage=3@0", "", "", true},
		{"timed", `{"at":"2026-03-01T09:59:00Z","must_temp":21.4}`, "must_temp=21.4@-60", "", "", false},
		{"array", `[{"at":"2026-03-01T09:00:00+00:00","ullage":1},{"at":"2026-03-01T09:01:00Z","ullage":2}]`, "ullage=1@-3600,ullage=2@-3540", "", "", false},
		{"array of flat", `[{"ullage":1}]`, "ullage=1@0", "", "", true},
		{"milliseconds", `{"at":1772359140000,"ullage":1}`, "ullage=1@-60", "", "", false},
		{"a time alone", `{"at":"2026-03-01T09:59:00Z"}`, "", "", "", false},
		{"one row of a list with no time", `[{"at":"noon","ullage":1},{"at":"2026-03-01T09:59:00Z","ullage":2}]`, "ullage=2@-60", "/0/at", "", false},
		{"columns", `{"at":["2026-03-01T09:58:00Z",1772359140000],"ullage":[1,2],"rssi":[null,-60]}`, "ullage=1@-120,rssi=-60@-60,ullage=2@-60", "", "", false},
		{"columns from a time on", `{"at":"2026-03-01T09:00:00Z","every":"60s","ullage":[1,2,3]}`, "ullage=1@-3600,ullage=2@-3540,ullage=3@-3480", "", "", false},
		{"columns until now", `{"every":"10min","ullage":[1,2,3]}`, "ullage=1@-1200,ullage=2@-600,ullage=3@0", "", "", true},
		{"a wrong place of a column", `{"every":"1min","ullage":[1,"x",3],"must_temp":[20,21,300]}`, "must_temp=20@-120,ullage=1@-120,must_temp=21@-60,ullage=3@0", "/ullage/1,/must_temp/2", "", true},
		{"a time of a column that is none", `{"at":["2026-03-01T09:58:00Z","noon"],"ullage":[1,2]}`, "ullage=1@-120", "/at/1", "", false},
		{"a column that is not in the model", `{"every":"1min","ullage":[1],"colour":["red"]}`, "ullage=1@0", "/colour/0", "", true},
		{"empty columns", `{"every":"1min","ullage":[]}`, "", "", "", true},
		{"another zone", `{"at":"2026-03-01T10:59:00+01:00","ullage":1}`, "ullage=1@-60", "", "", false},
		{"wrong type", `{"must_temp":"hot","ullage":3,"rssi":-60}`, "rssi=-60@0,ullage=3@0", "/must_temp", "", true},
		{"unknown field", `{"must_tmp":21,"ullage":3}`, "ullage=3@0", "/must_tmp", "", true},
		{"a setting", `{"max_temp":21}`, "", "/max_temp", "", true},
		{"null", `{"ullage":null}`, "", "/ullage", "", true},
		{"nested", `{"ullage":{"v":1}}`, "", "/ullage", "", true},
		{"beyond range", `{"must_temp":75}`, "must_temp=75@0", "", "/must_temp", true},
		{"impossible", `{"must_temp":300}`, "", "/must_temp", "", true},
		{"clock a little ahead", `{"at":"2026-03-01T10:01:59Z","ullage":1}`, "ullage=1@119", "", "", false},
		{"clock ahead", `{"at":"2026-03-01T10:05:00Z","ullage":1}`, "ullage=1@0", "", "/at", false},
		{"clock not set", `{"at":"1970-01-01T00:00:09Z","ullage":1}`, "ullage=1@0", "", "/at", false},
		{"something beside", `{"at":"2026-03-01T10:00:00Z","ullage":1,"qos":2}`, "ullage=1@0", "/qos", "", false},
		{"clocks that were never set keep their order", `[{"at":1000,"ullage":1},{"at":2000,"ullage":2}]`, "ullage=1@0,ullage=2@0", "", "/0/at,/1/at", false},
		{"a number beyond a float", `[{"ullage":1},{"ullage":1e999,"rssi":-60},{"at":1e999,"ullage":2}]`, "ullage=1@0,rssi=-60@0", "/1/ullage,/2/at", "", true},
		{"what is no reading", `[{"ullage":1},5,{"every":"60s","ullage":[1]},null]`, "ullage=1@0", "/1,/2,/3", "", true},
		{"an escaped name", `{"a/b~c":1}`, "", "/a~1b~0c", "", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := m.Readings([]byte(c.body), arrived)
			if err != nil {
				t.Fatal(err)
			}
			var kept []string
			for _, r := range got.Readings {
				kept = append(kept, fmt.Sprintf("%s=%s@%d", r.Metric, r.Value, int(r.At.Sub(arrived).Seconds())))
			}
			if s := strings.Join(kept, ","); s != c.kept {
				t.Errorf("kept %s, want %s", s, c.kept)
			}
			if s := pointers(got.Refused); s != c.refused {
				t.Errorf("refused %s, want %s: %v", s, c.refused, got.Refused)
			}
			if s := pointers(got.Marked); s != c.marked {
				t.Errorf("marked %s, want %s: %v", s, c.marked, got.Marked)
			}
			if got.Untimed != c.untimed {
				t.Errorf("untimed is %v", got.Untimed)
			}
		})
	}
}

// TestReadingsInCBOR takes the same forms in CBOR: what comes of them is the same.
func TestReadingsInCBOR(t *testing.T) {
	m := scenario.Model(t, "tank-probe")
	for _, body := range []string{`{"must_temp":21.4,"ullage":3}`,
		`{"at":"2026-03-01T09:59:00Z","must_temp":21.4,"rssi":"near"}`, `[{"at":1772359140000,"ullage":1},{"ullage":2}]`,
		`{"at":["2026-03-01T09:58:00Z","2026-03-01T09:59:00Z"],"ullage":[1,2],"rssi":[null,-60]}`, `{"every":"60s","ullage":[1,2,3]}`} {
		var x any
		if err := json.Unmarshal([]byte(body), &x); err != nil {
			t.Fatal(err)
		}
		packed, err := cbor.Marshal(x)
		if err != nil {
			t.Fatal(err)
		}
		if !model.IsCBOR(packed) || m.IsPack(packed) {
			t.Errorf("%s is not recognised", body)
		}
		want, err1 := m.Readings([]byte(body), arrived)
		got, err2 := m.Readings(packed, arrived)
		if err1 != nil || err2 != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s gives %+v, %v; in CBOR %+v, %v", body, want, err1, got, err2)
		}
	}
	tagged, _ := cbor.Marshal(map[string]any{"at": cbor.Tag{Number: 1, Content: 1772359140}, "ullage": 1})
	if got, err := m.Readings(tagged, arrived); err != nil || len(got.Readings) != 1 ||
		!got.Readings[0].At.Equal(arrived.Add(-time.Minute)) {
		t.Errorf("a time with its tag gives %+v, %v", got, err)
	}
}

func pointers(fs []model.Finding) string {
	var out []string
	for _, f := range fs {
		out = append(out, f.Pointer)
	}
	return strings.Join(out, ",")
}

func TestReadingsRefusesWhole(t *testing.T) {
	m := scenario.Model(t, "tank-probe")
	many := `[` + strings.Repeat(`{"ullage":1},`, model.MaxReadings) + `{"ullage":1}]`
	for _, c := range []struct{ body, says string }{
		{``, "empty"}, {`{"ullage":1`, "not JSON"}, {`hello`, "not JSON"}, {`{"ullage":NaN}`, "not JSON"}, {`[1,2]`, "JSON objects"}, {`"x"`, "JSON object"}, {`null`, "JSON object"},
		{`{"at":"yesterday","ullage":1}`, "RFC 3339"}, {`{"at":5.5,"ullage":1}`, "whole milliseconds"}, {`{"at":true,"ullage":1}`, "as text"},
		{`{"ullage":[1,2]}`, "need times"}, {`{"at":"2026-03-01T10:00:00Z","ullage":[1,2]}`, "at is one time and ullage has 2 values"}, {`{"at":["2026-03-01T10:00:00Z"],"ullage":[1,2]}`, "at is a list of 1 and ullage one of 2"},
		{`{"every":"60s","ullage":[1,2],"rssi":[1]}`, "ullage has 2 values and rssi has 1"}, {`{"every":"60s","ullage":[1,2],"rssi":1}`, "rssi is a number beside columns"}, {`{"every":"60s","ullage":1}`, "beside columns"},
		{`{"every":"60s","at":["2026-03-01T10:00:00Z"],"ullage":[1]}`, "leave one of the two out"}, {`{"every":60,"ullage":[1]}`, "as text"}, {`{"every":"-60s","ullage":[1]}`, "as text"}, {`{"every":"60s"}`, "no column"},
		{`{"every":"9000000000d","ullage":[1,2]}`, "every"}, {`[{"every":"60s","ullage":[1]}]`, "stand alone"}, {`{"every":"1s","ullage":[` + strings.Repeat("1,", model.MaxReadings) + `1]}`, "more than 1000"},
		{"\xa1\x66ullage", "not CBOR"}, {"\x82\x01\x02", "holds JSON objects"},
		{many, "more than 1000"},
	} {
		_, err := m.Readings([]byte(c.body), arrived)
		var p *model.Problem
		if !errors.As(err, &p) || !strings.Contains(p.Sentence, c.says) {
			t.Errorf("%.40q gives %v, want a problem that says %q", c.body, err, c.says)
		}
	}
}

// A message that is no JSON is told where it ceases to be, and what was meant there.
func TestMessagesThatAreNearlyJSON(t *testing.T) {
	m := scenario.Model(t, "tank-probe")
	for body, want := range map[string]string{
		`hot`:                      "line 1, column 1: 'h' cannot begin a value; texts stand in double quotes, numbers begin with a digit or a minus",
		`{"ullage":21,4}`:          "line 1, column 14: a number has a point for its decimals, not a comma",
		`{"ullage":21`:             "line 1, column 13: it ends too early; a bracket or a quote is not closed",
		`{"ullage":21.5.3}`:        "line 1, column 15: a comma or a closing bracket is missing before '.'",
		`{ullage:21}`:              "line 1, column 2: 'u' cannot begin a name; names stand in double quotes",
		`{'ullage':21}`:            `line 1, column 2: '\'' cannot begin a name; names stand in double quotes`,
		`{"ullage":21}}`:           "line 1, column 14: '}' stands behind the end of it",
		"{\n\"ullage\":21,\n}":     "line 3, column 1: there is a comma too many before '}'",
		`[{"ullage":21},]`:         "line 1, column 16: there is a comma too many before ']'",
		`{"ullage":+5}`:            "line 1, column 11: '+' cannot begin a value; texts stand in double quotes, numbers begin with a digit or a minus",
		`[{"ullage":1} {}]`:        "line 1, column 15: a comma or a closing bracket is missing before '{'",
		"{\"ullage\":\"a\nb\"}":    `line 1, column 13: invalid character '\n' in string literal`,
		`{"ullage":1e999,"a":}`:    "line 1, column 21: '}' cannot begin a value; texts stand in double quotes, numbers begin with a digit or a minus",
		`{"ullage":1}` + "\x00":    "line 1, column 13: '\\x00' stands behind the end of it",
		"\n\n  {\"ullage\": nope}": "line 3, column 15: invalid character 'o' in literal null (expecting 'u')",
	} {
		_, err := m.Readings([]byte(body), arrived)
		if got := fmt.Sprint(err); got != "the message is not JSON: "+want {
			t.Errorf("%q is told\n%s, want\n%s", body, got, want)
		}
	}
}

// A clock that is not set is told apart from a time in seconds.
func TestTimesInSeconds(t *testing.T) {
	m := scenario.Model(t, "tank-probe")
	for body, seconds := range map[string]bool{
		fmt.Sprintf(`{"at":%d,"ullage":1}`, arrived.Unix()):              true,
		fmt.Sprintf(`{"at":%d,"ullage":1}`, arrived.Unix()-86400):        true,
		`{"at":9000,"ullage":1}`:                                         false,
		`{"at":"1970-01-01T00:00:09Z","ullage":1}`:                       false,
		fmt.Sprintf(`{"at":%d,"ullage":1}`, arrived.Unix()-2*365*86400):  false,
		fmt.Sprintf(`{"at":%d,"ullage":1}`, arrived.UnixMilli()+3600000): false,
	} {
		got, err := m.Readings([]byte(body), arrived)
		if err != nil || len(got.Marked) != 1 || strings.Contains(got.Marked[0].Sentence, "looks like seconds") != seconds {
			t.Errorf("%s is told %+v, %v; seconds: %v", body, got.Marked, err, seconds)
		}
	}
}

func TestSentencesTeach(t *testing.T) {
	m := scenario.Model(t, "tank-probe")
	got, err := m.Readings([]byte(`{"must_temp":"hot","must_tmp":1,"battery":9,"density":{"v":1},"ullage":1e999}`), arrived)
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{
		"battery is 9.00 V; nothing outside 0 to 6 can be true, so it was not kept",
		"density is an object, and not a single value; the model wants a number in g/L",
		`must_temp is text ("hot"); the model wants a number in °C`,
		"must_tmp is not in tank-probe 1.2.0; did you mean must_temp?",
		"ullage is 1e999, which does not fit a 64-bit float; the model wants a number in cm",
	} {
		if got.Refused[i].Sentence != want {
			t.Errorf("sentence %d is %q, want %q", i, got.Refused[i].Sentence, want)
		}
	}
}

// TestRenamed tells a device that still uses the name before which one there is
// now, also where the model takes what it does not name.
func TestRenamed(t *testing.T) {
	for _, additional := range []string{"", `"ullage:additional":true,`} {
		m, err := model.Parse([]byte(head + additional +
			`"properties":{"must_temp":{"type":"number","readOnly":true,"ullage:was":["must_temperature","temp"]}}}`))
		if err != nil {
			t.Fatal(err)
		}
		got, err := m.Readings([]byte(`{"must_temp":20,"temp":21}`), arrived)
		if err != nil {
			t.Fatal(err)
		}
		if len(got.Readings) != 1 || len(got.Refused) != 1 ||
			got.Refused[0].Sentence != "temp is called must_temp in t 1.0.0; send it under that name" {
			t.Errorf("kept are %v and refused %v", got.Readings, got.Refused)
		}
	}
}

func TestFields(t *testing.T) {
	m := scenario.Model(t, "tank-probe")
	kept, wrong := m.Fields(map[string]any{"max_temp": 30.0, "report_every": 2.5, "stir_at": 99.0,
		"display_unit": "Cel", "max_tmp": 3.0}, model.Setting)
	if len(kept) != 2 || kept["max_temp"] != value.OfNumber(30) || kept["display_unit"] != value.OfText("Cel") {
		t.Errorf("kept %v", kept)
	}
	if got := pointers(wrong); got != "/max_tmp,/report_every,/stir_at" {
		t.Errorf("refused %s: %v", got, wrong)
	}
	if _, wrong = m.Fields(map[string]any{"display_unit": "Kelvin"}, model.Setting); len(wrong) != 1 ||
		!strings.Contains(wrong[0].Sentence, "one of Cel, [degF]") {
		t.Errorf("an enumeration is not explained: %v", wrong)
	}
}

func FuzzParse(f *testing.F) {
	files, _ := fs.Glob(cellars.Files, "models/*.tm.json")
	for _, name := range files {
		b, _ := cellars.Files.ReadFile(name)
		f.Add(b)
	}
	f.Add([]byte(head + `"properties":{"a":{"type":"number","ullage:usual":[1]}}}`))
	f.Fuzz(func(t *testing.T, src []byte) {
		m, err := model.Parse(src)
		if err != nil {
			return
		}
		if again, err := model.Parse(m.Source); err != nil || again.String() != m.String() ||
			len(again.Properties) != len(m.Properties) {
			t.Errorf("what was read cannot be read again: %v", err)
		}
	})
}

func FuzzReadings(f *testing.F) {
	m := scenario.Model(f, "tank-probe")
	for _, s := range []string{`{"must_temp":1}`, `[{"at":"2026-03-01T10:00:00Z","ullage":1}]`, `{"at":1}`, `[[`,
		`{"at":[1],"ullage":[1]}`, `{"every":"1s","ullage":[1,null]}`, "\xa1\x66ullage\x18\x1e", "\x81\xa1\x66ullage\x01"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		got, err := m.Readings(body, arrived)
		if err != nil {
			return
		}
		if len(got.Readings) > model.MaxReadings {
			t.Errorf("%d readings were kept", len(got.Readings))
		}
		for _, r := range got.Readings {
			p, ok := m.Property(r.Metric)
			if !ok || p.Kind != r.Value.Kind || r.At.After(arrived.Add(model.ClockSlack)) {
				t.Errorf("kept %+v", r)
			}
		}
	})
}

func BenchmarkReadings(b *testing.B) {
	m := scenario.Model(b, "tank-probe")
	body := []byte(`{"must_temp":21.4,"density":1045.2,"ullage":31,"co2_flow":12.1,"battery":3.41,"rssi":-67}`)
	for b.Loop() {
		if _, err := m.Readings(body, arrived); err != nil {
			b.Fatal(err)
		}
	}
}

// TestTells: what a metric tells of the device itself is as the model says, or as its name and
// its unit let one guess.
func TestTells(t *testing.T) {
	m, err := model.Parse([]byte(`{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel","title":"Probe",
		"version":{"model":"1.0.0"},"ullage:name":"probe","properties":{
		"battery":{"type":"number","unit":"V","readOnly":true},
		"cell":{"type":"number","unit":"V","readOnly":true,"ullage:tells":"battery"},
		"rssi":{"type":"number","unit":"dBm","readOnly":true},
		"noise":{"type":"number","unit":"dBm","readOnly":true,"ullage:tells":"neither"},
		"heard":{"type":"number","unit":"dBm","readOnly":true},
		"level":{"type":"number","unit":"cm","readOnly":true},
		"power":{"type":"object","properties":{"battery_level":{"type":"number","unit":"%","readOnly":true}},"readOnly":true},
		"battery_low":{"type":"number","unit":"V"}}}`))
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]model.Tells{"battery": model.Battery, "cell": model.Battery, "rssi": model.Signal, "noise": model.Neither,
		"heard": model.Signal, "level": "", "battery_low": ""} {
		if p, ok := m.Property(name); !ok || p.Tells != want {
			t.Errorf("%s tells %q, want %q", name, p.Tells, want)
		}
	}
	for _, p := range m.Properties {
		if p.Path[len(p.Path)-1] == "battery_level" && p.Tells != model.Battery {
			t.Errorf("%s tells %q", p.Name, p.Tells)
		}
	}
}
