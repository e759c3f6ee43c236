package expr

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ullage/core/value"
)

func TestFormat(t *testing.T) {
	for _, c := range []struct{ in, canonical string }{
		{`must_temp>set.max_temp`, `must_temp > set.max_temp`},
		{`  ( label.stage=="fermenting" ) `, `label.stage == "fermenting"`},
		{`a and (b or c) and not(d)`, `a and (b or c) and not d`},
		{`(a and b) and c`, `(a and b) and c`},
		{`a-(b-c)-d*(e+f)/-g`, `a - (b - c) - d * (e + f) / -g`},
		{`x between 1 and 5 or y outside -1.50 and 2e3`, `x between 1 and 5 or y outside -1.5 and 2000`},
		{`mean( x over 600s )>3 'degF'`, `mean(x over 10min) > 3 '[degF]'`},
		{`90min == 1h30min`, `1h30min == 1h30min`},
		{`if a then 1 else if b then 2 else 3`, `if a then 1 else if b then 2 else 3`},
		{`(if a then 1 else 2) > 1`, `(if a then 1 else 2) > 1`},
		{`label.row in ("a","b")`, `label.row in ("a", "b")`},
		{`not (a like "tank-*")`, `not a like "tank-*"`},
		{`not not a`, `not not a`},
		{`(a > b) == true`, `(a > b) == true`},
		{`x == "a\"b\\\n\u{7f}é"`, `x == "a\"b\\\n\u{7f}é"`},
		{`value("Must-Temp") > 3'µg/m³'`, `value("Must-Temp") > 3 'ug/m3'`},
		{"a\n  and b", `a and b`},
		{`x > 0.1e-7`, `x > 0.00000001`},
		{`x > 1e300`, `x > 1e+300`},
		{`- -5 < -(-x)`, `5 < -(-x)`},
		{`.5 < x`, `0.5 < x`},
	} {
		got, err := Format(c.in)
		if err != nil || got != c.canonical {
			t.Errorf("Format(%q) = %q, %v; want %q", c.in, got, err, c.canonical)
			continue
		}
		if again, err := Format(got); err != nil || again != got {
			t.Errorf("%q is formatted again as %q, %v", got, again, err)
		}
	}
}

// Every mistake has its column, its sentence and, where one thing is meant, a
// suggestion that mends it.
func TestMistakes(t *testing.T) {
	for _, c := range []struct {
		in      string
		column  int
		says    string
		mended  string // with the suggestion in place; "" for none
		purpose Purpose
	}{
		{``, 1, "nothing is written here yet", "", ForRule},
		{`must_tmp > 30`, 1, "no metric must_tmp in tank-probe 1.2.0; did you mean must_temp?", `must_temp > 30`, ForRule},
		{`max_temp > 30`, 1, "did you mean set.max_temp?", `set.max_temp > 30`, ForRule},
		{`set.max_tmp > 30`, 1, "no setting max_tmp", `set.max_temp > 30`, ForRule},
		{`sett.max_temp > 30`, 1, "no prefix", `set.max_temp > 30`, ForRule},
		{`device.sites == "x"`, 1, "no fact of a device", "", ForRule},
		{`must_temp > 3 'kPa'`, 1, "must_temp (°C) cannot be compared with 3 'kPa' (kPa)", "", ForRule},
		{`must_temp > 3 'C'`, 1, "cannot be compared", "", ForRule},
		{`must_temp > 3 'celsius'`, 13, "did you mean 'Cel'?", "", ForRule},
		{`must_temp > 3 Cel`, 15, "single quotes behind its number: 3 'Cel'", `must_temp > 3 'Cel'`, ForRule},
		{`must_temp > 3 °C`, 15, "single quotes", `must_temp > 3 '°C'`, ForRule},
		{`must_temp > 3°C and fan_on`, 14, "single quotes", `must_temp > 3 '°C' and fan_on`, ForRule},
		{`mean(must_temp over 10 min) > 3`, 21, "without a space: 10min", `mean(must_temp over 10min) > 3`, ForRule},
		{`Must-Temp > 20`, 1, `stands as value("Must-Temp")`, `value("Must-Temp") > 20`, ForRule},
		{`fan_on and Must-Temp > 20`, 12, `stands as value("Must-Temp")`, `fan_on and value("Must-Temp") > 20`, ForRule},
		{`must_temp > 3 == true`, 1, "true or false by itself", "must_temp > 3", ForRule},
		{`must_temp > 3 == false`, 1, "true or false by itself", "not must_temp > 3", ForRule},
		{`must_temp > 1e400`, 13, "larger than any number", "", ForRule},
		{`during("Mon, Wed")`, 8, "has no hours", "", ForRule},
		{`during("Mon, 06:00-07:00")`, 8, "without a comma", "", ForRule},
		{`must_temp > 3Cel`, 13, "single quotes behind its number", `must_temp > 3 'Cel'`, ForRule},
		{`must_temp = 3`, 11, "two signs", `must_temp == 3`, ForRule},
		{`must_temp > 3 && fan_on`, 15, "&& is written and", `must_temp > 3 and fan_on`, ForRule},
		{`must_temp > 3 || fan_on`, 15, "|| is written or", `must_temp > 3 or fan_on`, ForRule},
		{`must_temp ≥ 3`, 11, "is written >=", `must_temp >= 3`, ForRule},
		{`must_temp > 3 AND fan_on`, 15, "small letters", `must_temp > 3 and fan_on`, ForRule},
		{`!fan_on`, 1, "is written not", "not fan_on", ForRule},
		{`1 < must_temp < 5`, 1, "two comparisons in a row", `1 < must_temp and must_temp < 5`, ForRule},
		{`1 <= must_temp <= 5`, 1, "between", `must_temp between 1 and 5`, ForRule},
		{`label.stage == 'resting'`, 16, "double quotes", `label.stage == "resting"`, ForRule},
		{`label.stage == “resting”`, 16, "straight double quotes", `label.stage == "resting"`, ForRule},
		{`label.floor == 3`, 1, "write to_number(label.floor) == 3", `to_number(label.floor) == 3`, ForRule},
		{`label.floor + 1 > 2`, 1, "to_number(label.floor)", `to_number(label.floor) + 1 > 2`, ForRule},
		{`attr.firmware < "2.10"`, 1, "text has no order", "", ForRule},
		{`version(attr.firmware) < "2.10"`, 26, `version("2.10")`, `version(attr.firmware) < version("2.10")`, ForRule},
		{`version("two") > version("1")`, 9, "is no version", "", ForRule},
		{`cycle == "presing"`, 10, `never "presing"; did you mean "pressing"?`, `cycle == "pressing"`, ForRule},
		{`cycle == "boiling"`, 10, `it is one of "idle", "filling", "pressing"`, "", ForRule},
		{`fan_on > false`, 1, "have no order", "", ForRule},
		{`fan_on == "true"`, 11, "write true without quotes", `fan_on == true`, ForRule},
		{`must_temp`, 1, "a condition compares it", "", ForRule},
		{`must_temp + set.max_temp > 3`, 1, "their sum has no meaning", "", ForRule},
		{`must_temp * 2 > 3`, 1, "zero is arbitrary", "", ForRule},
		{`sum(must_temp over 1h) > 3`, 1, "the sum of temperatures", "", ForRule},
		{`must_temp > must_temp - set.max_temp`, 1, "one is a point on the scale, the other a distance", "", ForRule},
		{`abs(must_temp) > 3`, 1, "without its sign", "", ForRule},
		{`-must_temp < 3`, 1, "minus it has no meaning", "", ForRule},
		{`rate(must_temp over 1h) > 2`, 27, "2 of what?", `rate(must_temp over 1h) > 2 'K/h'`, ForRule},
		{`age(must_temp) > 10`, 18, "10 of what?", `age(must_temp) > 10min`, ForRule},
		{`co2_flow * 10min > 50`, 20, "of what?", `co2_flow * 10min > 50 'L/min.s'`, ForRule},
		{`mean(must_temp) > 3`, 1, "mean looks back over a window: mean(x over 10min)", "", ForRule},
		{`mean(must_temp over 10) > 3`, 21, "a length in time: 10min", `mean(must_temp over 10min) > 3`, ForRule},
		{`mean(must_temp over 10m) > 3`, 21, "did you mean 10min?", `mean(must_temp over 10min) > 3`, ForRule},
		{`mean(must_temp over 1.5h) > 3`, 21, "whole numbers", "", ForRule},
		{`mean(must_temp over 3650d) > 3`, 21, "a window of 3650d is refused: every device would carry it in memory; 31d is the longest", "", ForRule},
		{`median(must_temp over 2h) > 3`, 23, "1h at most", `median(must_temp over 1h) > 3`, ForRule},
		{`mean(must_temp over 0s) > 3`, 21, "holds no readings", "", ForRule},
		{`mean(must_temp over set.report_every) > 3`, 21, "a fixed length of time", "", ForRule},
		{`mean(set.max_temp over 1h) > 3`, 6, "readings of one metric", "", ForRule},
		{`mean(cycle over 1h) > 3`, 6, "calculates with numbers", "", ForRule},
		{`maen(must_temp over 1h) > 3`, 1, "did you mean mean(x over 10min)", "mean(must_temp over 1h) > 3", ForRule},
		{`mean(must_temp, 1h) > 3`, 1, "the window stands after over: mean(must_temp over 1h)", "mean(must_temp over 1h) > 3", ForRule},
		{`time_in(fan_on, 1h) > 3min`, 1, "the window stands after over", "time_in(fan_on over 1h) > 3min", ForRule},
		{`age(must_temp over 1h) > 3min`, 1, "age looks back over no window: age(x)", "age(must_temp) > 3min", ForRule},
		{`mean(must_temp over) > 3`, 20, "missing after over", "", ForRule},
		{`mean > 3`, 1, "mean is a function: mean(x over 10min)", "", ForRule},
		{`mean(must_temp over 1h) > 3`, 1, "kept for rules only", "", ForFilter},
		{`changed(cycle)`, 1, "kept for rules only", "", ForFilter},
		{`share(fan_on) > 50`, 1, "rules with each", "", ForRule},
		{`must_temp > 3`, 1, "put it into a function such as max_of", "", ForGroup},
		{`mean(must_temp over 1h) > 3`, 1, "put it into a function", "", ForGroup},
		{`max_of(mean_of(must_temp)) > 3`, 8, "cannot stand within max_of", "", ForGroup},
		{`time_in(mean(must_temp over 1h) > 3 over 1h) > 3min`, 9, "over present values", "", ForRule},
		{`time_in(age(must_temp) > 3min over 1h) > 3min`, 9, "over present values", "", ForRule},
		{`time_in(during("daily 1:00-2:00") over 1h) > 3min`, 9, "over present values", "", ForRule},
		{`must_temp > 3`, 1, "cannot choose devices here", "", ForTarget},
		{`device.link == "silent"`, 1, "cannot choose devices here", "", ForTarget},
		{`now() - device.joined > 7d`, 1, "changes by itself", "", ForTarget},
		{`attr.firmware == "2"`, 1, "may not say what somebody reaches", "", ForAccess},
		{`must_temp > 3`, 1, "may not say what somebody reaches", "", ForAccess},
		{`device.model_version == "1.0.0"`, 1, "may not say what somebody reaches", "", ForAccess},
		{`during("daily 1:00-2:00")`, 1, "may not say what somebody reaches", "", ForAccess},
		{`raised(must_to_warm)`, 8, "did you mean must_too_warm?", `raised(must_too_warm)`, ForRule},
		{`during("Mon-Fry 06:00-22:00")`, 8, "is no time of the week", "", ForRule},
		{`device.joined > "2026-03-01"`, 17, `time("2026-03-01")`, `device.joined > time("2026-03-01")`, ForRule},
		{`device.joined > time("yesterday")`, 22, "is no time", "", ForRule},
		{`device.joined + device.joined > now()`, 1, "a time minus a time is a duration", "", ForRule},
		{`must_temp between 30 and 20`, 1, "the smaller one", "", ForRule},
		{`must_temp between 30`, 21, "takes two limits", "", ForRule},
		{`cycle between "a" and "b"`, 1, "compares sizes", "", ForRule},
		{`cycle in ()`, 1, "the list is empty", "", ForRule},
		{`cycle in ("idle", 5)`, 19, "in this list is a number", "", ForRule},
		{`cycle like "a" or density like "b"`, 19, "like looks at text", "", ForRule},
		{`cycle not in ("idle")`, 7, "before the whole comparison", "", ForRule},
		{`cycle like idle`, 12, "like takes a text", "", ForRule},
		{`cycle == "open`, 10, "closing double quote", "", ForRule},
		{`density > 3 'g/L`, 13, "closing quote of this unit", "", ForRule},
		{`cycle == "\q"`, 11, "no such escape", "", ForRule},
		{`(fan_on`, 8, "the ) that closes this parenthesis is missing", "", ForRule},
		{`fan_on)`, 7, "no ( that this ) closes", "", ForRule},
		{`fan_on and`, 11, "missing at the end", "", ForRule},
		{`and fan_on`, 1, "missing before and", "", ForRule},
		{`density > `, 11, "missing at the end", "", ForRule},
		{`density > 1.2.3`, 11, "is no number", "", ForRule},
		{`density > 1e999`, 11, "larger than any number", "", ForRule},
		{`set.`, 1, "a name is missing after set.", "", ForRule},
		{`if fan_on then 3`, 17, "else is missing", "", ForRule},
		{`(if fan_on then 3 else cycle) > 3`, 2, "both must be of one kind", "", ForRule},
		{`température > 3`, 1, `value("température")`, "", ForRule},
		{"density > 3 \xff", 13, "not UTF-8", "", ForRule},
		{`fan_on @ 3`, 8, "has no meaning here", "", ForRule},
		{`fan_on is true`, 8, "is written ==", `fan_on == true`, ForRule},
		{`label.owner == "x" contains`, 20, "there is no contains", "", ForRule},
		{`has("row")`, 5, "has asks for a name", "", ForRule},
		{`to_number(density) > 3`, 11, "reads a text", "", ForRule},
		{`raised("x")`, 8, "takes the name of a rule", "", ForRule},
		{`co2_flow > true`, 1, "cannot be compared", "", ForRule},
		{`density < "hot"`, 11, "write a number without quotes", "", ForRule},
		{"density > 3\nand must_tmp > 3", 5, "did you mean must_temp?", "density > 3\nand must_temp > 3", ForRule},
	} {
		p, found := Compile(c.in, cellar(), c.purpose)
		errs := found.Errors()
		if p != nil || len(errs) == 0 {
			t.Errorf("%s is taken", c.in)
			continue
		}
		first := errs[0]
		for _, e := range errs {
			if strings.Contains(e.Sentence, c.says) {
				first = e
			}
		}
		if first.Column != c.column || !strings.Contains(first.Sentence, c.says) {
			t.Errorf("%s\n says %s\n want column %d and %q", c.in, errs, c.column, c.says)
		}
		mended := ""
		if first.Suggest != "" {
			mended = c.in[:first.Span.Start] + first.Suggest + c.in[first.Span.End:]
		}
		if mended != c.mended {
			t.Errorf("%s is mended to %q, want %q", c.in, mended, c.mended)
		}
		if mended != "" && c.says != "of what?" && !strings.Contains(c.in, "\n") {
			if _, again := Compile(mended, cellar(), c.purpose); len(again.Errors()) > 0 &&
				!strings.Contains(c.in, "to_number") && !strings.Contains(c.in, "C'") {
				t.Errorf("%s is mended to %s, which is wrong: %v", c.in, mended, again)
			}
		}
	}
}

func TestEveryMistakeAtOnce(t *testing.T) {
	_, found := Compile(`must_tmp > 3 'kPa' and label.floor = 3 or cycle == "presing" && mean(densty over 10m) > 1`,
		cellar(), ForRule)
	var columns []int
	for _, f := range found.Errors() {
		columns = append(columns, f.Column)
	}
	if got := fmt.Sprint(columns); got != "[1 24 36 52 62 70 82]" {
		t.Errorf("mistakes at %s: %v", got, found)
	}
}

func TestWarnings(t *testing.T) {
	for in, says := range map[string]string{
		`label.stag == "resting"`:      "did you mean label.stage?",
		`label.stage == "restin"`:      `no device has label.stage "restin"`,
		`1 < 2`:                        "always the same",
		`label.site == "kilnsidee"`:    "did you mean",
		`label.stage == "nothinglike"`: "",
	} {
		p, found := Compile(in, cellar(), ForFilter)
		if p == nil || says != "" && (len(found) != 1 || !strings.Contains(found[0].Sentence, says)) ||
			says == "" && len(found) != 0 {
			t.Errorf("%s: %v, want %q", in, found, says)
		}
	}
	if _, found := Compile(`attr.firmware == "2"`, cellar(), ForTarget); len(found) != 1 || !found[0].Warning {
		t.Errorf("an attribute as a target gives %v", found)
	}
}

// Whatever is typed is answered with a sentence, without a panic and without
// more work than its length is worth.
func TestBounds(t *testing.T) {
	for name, src := range map[string]string{
		"a megabyte":            strings.Repeat("x", 1<<20),
		"parentheses":           strings.Repeat("(", 10000) + "1" + strings.Repeat(")", 10000),
		"open parentheses":      strings.Repeat("(", 10000),
		"nots":                  strings.Repeat("not ", 10000) + "fan_on",
		"minuses":               strings.Repeat("-", 10000) + "1",
		"a long chain of and":   "fan_on" + strings.Repeat(" and fan_on", 5000),
		"a long sum":            "density > 1" + strings.Repeat(" + 1", 12000),
		"a long product":        "density > 1 'm'" + strings.Repeat(" * 1 'm'", 900),
		"comparisons in a row":  "1" + strings.Repeat(" < 1", 15000),
		"ifs":                   strings.Repeat("if fan_on then ", 3000) + "1",
		"calls":                 strings.Repeat("abs(", 9000),
		"quotes":                strings.Repeat(`"`, 60000),
		"points":                strings.Repeat(".", 60000),
		"commas":                strings.Repeat(",", 60000),
		"windows":               "fan_on" + strings.Repeat(" and mean(density over 1h) > 1", 100),
		"a name that is nobody": strings.Repeat("q", 60000) + " > 1",
		"stars":                 `cycle like "` + strings.Repeat("*a", 20000) + `"`,
	} {
		p, found := Compile(src, cellar(), ForRule)
		if name != "stars" && (p != nil || len(found) == 0 || len(found) > 2*maxErrors+1) {
			t.Errorf("%s: %d findings", name, len(found))
		}
		for _, f := range found {
			if len(f.Sentence) > 600 {
				t.Errorf("%s: a sentence of %d bytes", name, len(f.Sentence))
			}
		}
	}
}

// now is a Monday, 12:00 UTC.
const now = int64(1_772_452_800_000)

// device is a State of the cellar's Schema with these values, all now.
func device(p *Program, values map[string]any) *State {
	s := p.Plan().NewState(value.FromMillis(now - 3_600_000))
	for slot, n := range p.Plan().Names() {
		x, ok := values[n.Name.String()]
		if !ok {
			continue
		}
		v, err := value.FromAny(x)
		if err != nil {
			panic(err)
		}
		if n.Name.Scope == "" {
			s.Observe(slot, now, v)
		} else {
			s.Set(slot, Sample{Value: v})
		}
	}
	s.Advance(value.FromMillis(now))
	return s
}

func TestTruth(t *testing.T) {
	known := map[string]any{"must_temp": 30.0, "density": 1050.0, "ullage": 20.0, "fan_on": true, "cycle": "idle",
		"set.max_temp": 32.0, "label.stage": "resting", "label.floor": "3", "attr.firmware": "2.9.1", "device.joined": float64(now)/1000 - 86400, "device.link": "online", "raised(must_too_warm)": false, "rssi": -60.0,
		"co2_flow": 12.0, `value("Must-Temp")`: 31.0, "set.report_every": 60.0, "ambient": 68.0}
	for src, want := range map[string]Truth{
		`must_temp > set.max_temp`: False, `must_temp < set.max_temp`: True, `must_temp >= 30`: True, `must_temp <= 29.9`: False, `must_temp != 30`: False,
		`must_temp > 300 'K'`: True, `must_temp == 86 '[degF]'`: True, `303.15 'K' == must_temp`: True, `must_temp > 304 'K'`: False,
		`set.max_temp - must_temp == 2`: True, `set.max_temp - must_temp < 2.1 'K'`: True, `set.max_temp - must_temp == 3.6 '[degF]'`: True, `set.max_temp - must_temp == 2 'Cel'`: True,
		`must_temp > set.max_temp - 2.5`: True, `must_temp > set.max_temp - 4 '[degF]'`: True, `32 - must_temp == 2`: True, `2 + must_temp == 32`: True,
		`rssi - 3 > -64`: True, `rssi > -30 'dBW'`: False,
		`ullage == 0.2 'm'`: True, `ullage > 150 'mm' and ullage < 1 '[ft_i]'`: True, `ullage between 15 and 25`: True, `ullage outside 15 and 25`: False, `ullage between 0.1 'm' and 30`: True,
		`co2_flow * 10min == 120 'L'`: True, `co2_flow / 2 == 6`: True, `co2_flow / 6 'L/min' == 2`: True, `density == 1.05 'kg/L'`: True, `co2_flow == 720 'L/h'`: True,
		`-co2_flow < 0`: True, `abs(density - 1060) == 10`: True, `density + 10 * 2 - 5 == 1065`: True,
		`fan_on`: True, `not fan_on`: False, `fan_on == true`: True, `fan_on != (must_temp > 1)`: False, `raised(must_too_warm)`: False,
		`cycle == "idle"`: True, `cycle != "idle"`: False, `cycle in ("idle", "pressing")`: True, `cycle like "i*e"`: True, `cycle like "?"`: False, `co2_flow in (1, 12, 5)`: True, `must_temp in (303.15 'K')`: True,
		`label.stage == "resting"`: True, `label.owner == ""`: True, `has(label.owner)`: False, `has(label.stage)`: True, `has(must_temp) and not has(pressure)`: True,
		`to_number(label.floor) == 3`: True, `to_number(label.stage) == 3`: Unknown, `must_temp > to_number(label.floor)`: True,
		`version(attr.firmware) < version("2.10.0")`: True, `version(attr.firmware) > version("2.9.1-rc.1")`: True, `version(attr.firmware) == version("v2.9.1+build7")`: True, `version(label.stage) > version("1")`: Unknown,
		`pressure > 3`: Unknown, `pressure > 3 or fan_on`: True, `pressure > 3 and fan_on`: Unknown, `pressure > 3 and not fan_on`: False, `not (pressure > 3)`: Unknown, `pressure > 3 or must_temp > 90`: Unknown,
		`density / 0 > 1`: Unknown, `density * 1e308 * 1e308 > 1`: Unknown, `density - density == 0`: True,
		`if fan_on then must_temp > 1 else false`: True, `(if fan_on then density else 3) == 1050`: True, `(if pressure > 1 then 1 else 2) == 1`: Unknown, `if pressure > 1 then fan_on else fan_on`: True,
		`(if fan_on then "a" else "b") == "a"`: True,
		`(if pressure > 1 then 7 else 7) == 7`: True, `(if pressure > 1 then "a" else "a") == "a"`: True, `(if pressure > 1 then "a" else "b") == "a"`: Unknown,
		`ambient - must_temp == -10 'K'`: True, `ambient - must_temp == -18 '[degF]'`: True, `density / 3 * 3 == 1050`: True, `ambient - must_temp == -10.001 'K'`: False,
		`now() - device.joined == 1d`: True, `device.joined > time("2026-01-01")`: True, `device.joined + 2d > now()`: True,
		`during("Mon 11:00-13:00")`: True, `during("Mon-Fri 06:00-11:59, Sun 00:00-24:00")`: False, `during("daily 22:00-12:01")`: True, `during("Fri-Mon 11:00-12:00")`: False, `during("Sun 20:00-12:30")`: True,
		`age(must_temp) == 0s`: True, `age(pressure) == 1h`: True, `value("Must-Temp") == 31`: True, `device.link in ("silent", "overdue")`: False,
		`count(density over 10min) == 1`: True, `count(pressure over 10min) == 0`: True, `mean(density over 10min) > 1`: Unknown, `max(density over 10min) == 1050`: True, `min(pressure over 10min) > 1`: Unknown,
		`set.report_every == 1min`: True, `previous(density) > 1`: Unknown, `changed(density)`: Unknown, `true`: True, `not true or false`: False,
	} {
		p, found := Compile(src, cellar(), ForRule)
		if p == nil {
			if want != Unknown || strings.Contains(src, "pressure") {
				t.Errorf("%s: %v", src, found)
			}
			continue
		}
		a := p.Judge(device(p, known))
		if a.Truth != want {
			t.Errorf("%s is %s, want %s", src, a.Truth, want)
		}
		if a.Margin > 0 && a.Truth != False || a.Margin < 0 && a.Truth != True {
			t.Errorf("%s is %s with margin %g", src, a.Truth, a.Margin)
		}
		if n := p.Judge(device(p, nil)); n.Truth == True && !strings.HasPrefix(src, "(if pressure") && !strings.Contains(src, "has") &&
			!strings.Contains(src, "age") && !strings.Contains(src, "during") && !strings.Contains(src, "count") &&
			!strings.Contains(src, "true") && !strings.Contains(src, "label.owner") {
			t.Errorf("%s is true of a device that has told nothing", src)
		}
	}
}

func TestTooOldIsUnknown(t *testing.T) {
	p, _ := Compile(`must_temp > 20 or age(must_temp) > 10min`, cellar(), ForRule)
	s := device(p, map[string]any{"must_temp": 30.0})
	for _, c := range []struct {
		after time.Duration
		want  Truth
		until time.Duration // from now on, when the answer may change
	}{{0, True, 3*time.Minute + time.Millisecond}, {3 * time.Minute, True, 1 * time.Millisecond},
		{3*time.Minute + time.Millisecond, Unknown, 7 * time.Minute},
		{10 * time.Minute, Unknown, time.Millisecond}, {10*time.Minute + time.Millisecond, True, 1 << 62}} {
		s.Advance(value.FromMillis(now).Add(c.after))
		a := p.Judge(s)
		if a.Truth != c.want {
			t.Errorf("after %s it is %s, want %s", c.after, a.Truth, c.want)
		}
		if got := time.Duration(min(a.Until-s.Now(), 1<<40)) * time.Millisecond; c.until < 1<<60 && got != c.until {
			t.Errorf("after %s it holds for %s, want %s", c.after, got, c.until)
		}
	}
}

func TestHeadspace(t *testing.T) {
	set := map[string]any{"set.max_temp": 32.0}
	with := func(kv ...any) map[string]any {
		m := map[string]any{}
		for k, v := range set {
			m[k] = v
		}
		for i := 0; i < len(kv); i += 2 {
			m[kv[i].(string)] = kv[i+1]
		}
		return m
	}
	none := math.NaN()
	for _, c := range []struct {
		src    string
		values map[string]any
		want   float64 // NaN for none
		of     string
		reason string
	}{
		{`must_temp > set.max_temp`, with("must_temp", 27.0), 0.5, "must_temp", ""},
		{`must_temp > set.max_temp`, with("must_temp", 22.0), 1, "must_temp", ""},
		{`must_temp > set.max_temp`, with("must_temp", 18.0), 1, "must_temp", ""},
		{`must_temp > set.max_temp`, with("must_temp", 34.0), 0, "must_temp", ""},
		{`set.max_temp < must_temp`, with("must_temp", 27.0), 0.5, "must_temp", ""},
		{`not must_temp <= 305.15 'K'`, with("must_temp", 27.0), 0.5, "must_temp", ""},
		{`set.max_temp - must_temp < 0`, with("must_temp", 27.0), 0.5, "set.max_temp - must_temp", ""},
		{`must_temp > 20`, with("must_temp", 21.0), 0, "must_temp", "the usual value is at or beyond the limit"},
		{`must_temp outside 12 and 32`, with("must_temp", 27.0), 0.5, "must_temp", ""},
		{`must_temp outside 12 and 32`, with("must_temp", 13.0), 0.1, "must_temp", ""},
		{`must_temp > 32 and density < 1000`, with("must_temp", 27.0, "density", 1009.0), 0.5, "must_temp", ""},
		{`must_temp > 32 or density < 1000`, with("must_temp", 27.0, "density", 1009.0), 0.2, "density", ""},
		{`must_temp > 32 and label.stage == "fermenting"`, with("must_temp", 27.0, "label.stage", "fermenting"), 0.5, "must_temp", ""},
		{`must_temp > 32 and label.stage == "fermenting"`, with("must_temp", 27.0, "label.stage", "empty"), none, "", ""},
		{`must_temp > 32 or fan_on`, with("must_temp", 27.0, "fan_on", false), 0.5, "must_temp", ""},
		{`must_temp > 32 or fan_on`, with("must_temp", 27.0, "fan_on", true), none, "", ""},
		{`fan_on`, with("fan_on", false), none, "", ""},
		{`pressure > 100`, with("pressure", 90.0), none, "", ""},
		{`pressure > 100 and must_temp > 32`, with("pressure", 90.0, "must_temp", 27.0), 0.5, "must_temp", ""},
		{`pressure > 80 and must_temp > 32`, with("pressure", 90.0, "must_temp", 27.0), 0.5, "must_temp", ""},
		{`pressure > 100 or must_temp > 32`, with("pressure", 90.0, "must_temp", 27.0), none, "", ""},
		{`pressure > 80 and must_temp > 32`, with("pressure", 90.0, "must_temp", 33.0), none, "", ""},
		{`must_temp > 32 and density < 1000`, with("must_temp", 27.0), 0.5, "must_temp", ""},
		{`age(must_temp) > 11min`, with("must_temp", 27.0), 1, "age(must_temp)", ""},
		{`delta(must_temp over 1h) > 4`, with("must_temp", 27.0), none, "", ""},
		{`if fan_on then must_temp > 32 else must_temp > 42`, with("must_temp", 27.0, "fan_on", false), 0.75, "must_temp", ""},
		{`must_temp > (if fan_on then 32 else 42)`, with("must_temp", 27.0, "fan_on", false), 0.75, "must_temp", ""},
	} {
		p, found := Compile(c.src, cellar(), ForRule)
		if p == nil {
			t.Errorf("%s: %v", c.src, found)
			continue
		}
		s := device(p, c.values)
		a := p.Judge(s)
		h, ok, reason := a.Headspace()
		if ok != !math.IsNaN(c.want) || ok && math.Abs(h-c.want) > 1e-9 || reason != c.reason {
			t.Errorf("%s with %v has headspace %g %t %q, want %g %q", c.src, c.values, h, ok, reason, c.want, c.reason)
		}
		if d, _ := p.Decider(s, a); ok && d.Of != c.of {
			t.Errorf("%s is decided by %+v, want %s", c.src, d, c.of)
		}
	}
}

func TestUsualFromOutside(t *testing.T) {
	p, _ := Compile(`max(pressure over 10min) > 100`, cellar(), ForRule)
	s := device(p, map[string]any{"pressure": 90.0})
	slot, _ := p.Plan().Slot(Name{Key: "pressure"})
	s.SetUsual(slot, 80)
	if h, ok, _ := p.Judge(s).Headspace(); !ok || h != 0.5 {
		t.Errorf("with a usual value from outside headspace is %g, %t", h, ok)
	}
}

func TestDeadband(t *testing.T) {
	for _, c := range []struct {
		src  string
		band float64
		temp float64
		want Truth
	}{
		{`must_temp > set.max_temp`, 1.5, 30.6, False}, {`must_temp > set.max_temp`, 1.5, 30.5, True}, {`must_temp < 10`, 2, 11.9, False}, {`must_temp < 10`, 2, 12, True},
		{`must_temp > set.max_temp and label.stage == "resting"`, 1.5, 31, False}, {`must_temp > set.max_temp and label.stage == "empty"`, 1.5, 31, True},
		{`must_temp outside 10 and 32`, 1, 31.5, False}, {`must_temp outside 10 and 32`, 1, 31, True}, {`must_temp > 89.6 '[degF]'`, 1.5, 30.6, False}, {`must_temp > 32`, 0, 31.9, True},
	} {
		p, found := Compile(c.src, cellar(), ForRule)
		if p == nil {
			t.Fatal(found)
		}
		clear, err := p.WithDeadband(c.band)
		if err != nil {
			t.Errorf("%s: %v", c.src, err)
			continue
		}
		if got := clear.Truth(device(p, map[string]any{"must_temp": c.temp, "set.max_temp": 32.0, "label.stage": "resting"})); got != c.want {
			t.Errorf("%s with deadband %g is clear at %g: %s, want %s", c.src, c.band, c.temp, got, c.want)
		}
	}
	for src, says := range map[string]string{`must_temp > 3 and density > 5`: "one dimension", `fan_on`: "has none"} {
		p, _ := Compile(src, cellar(), ForRule)
		if _, err := p.WithDeadband(1); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s with a deadband: %v", src, err)
		}
	}
}

func TestGroup(t *testing.T) {
	plan := NewPlan(cellar())
	texts := []struct {
		src  string
		want Truth
	}{
		{`share(must_temp > 25) == 50 '%'`, True}, {`share(must_temp > 25) > 0.4`, True}, {`count_of(must_temp > 25) == 2`, True}, {`mean_of(must_temp) == 25`, True}, {`median_of(must_temp) == 25`, True},
		{`max_of(must_temp) > 27.5`, True}, {`min_of(must_temp) == 22`, True}, {`sum_of(density) > 2`, Unknown}, {`share(density > 1000) > 50`, Unknown},
		{`count_of(density > 1000) == 1`, True}, {`max_of(density) == 1050`, True}, {`count_of(age(density) > 10min) >= 3 and label.site == "kilnside"`, True},
		{`max_of(mean(must_temp over 1min)) > 1`, Unknown},
	}
	var programs []*Program
	for _, x := range texts {
		p, found := plan.Compile(x.src, ForGroup)
		if p == nil {
			t.Fatalf("%s: %v", x.src, found)
		}
		programs = append(programs, p)
	}
	var members []*State
	for i := range 4 {
		m := plan.NewState(value.FromMillis(now - 3_600_000))
		slot, _ := plan.Slot(Name{Key: "must_temp"})
		m.Observe(slot, now, value.OfNumber(22+2*float64(i)))
		if slot, _ := plan.Slot(Name{Key: "density"}); i == 0 {
			m.Observe(slot, now, value.OfNumber(1050))
		}
		members = append(members, m)
	}
	group := plan.NewState(value.FromMillis(now))
	group.Group(members)
	slot, _ := plan.Slot(Name{"label", "site"})
	group.Set(slot, Sample{Value: value.OfText("kilnside")})
	for i, p := range programs {
		if got := p.Judge(group).Truth; got != texts[i].want {
			t.Errorf("%s is %s, want %s", p.Source, got, texts[i].want)
		}
	}
}

func TestSay(t *testing.T) {
	values := map[string]any{"must_temp": 31.26, "set.max_temp": 32.0, "label.stage": "resting", "fan_on": true,
		"co2_flow": 12.0, "density": 1050.0, "device.joined": float64(now) / 1000, "rssi": -60.4}
	for src, want := range map[string]string{
		`must_temp`: "31.3 °C", `set.max_temp`: "32.0 °C", `set.max_temp - must_temp`: "0.7 K", `label.stage`: "resting", `fan_on`: "true", `pressure`: "–", `label.owner`: "",
		`co2_flow * 10min`: "7\u2009200 L/min·s", `must_temp > 20`: "true", `age(pressure)`: "1h", `rssi`: "-60 dBm", `density / 7`: "150 g/L", `device.joined`: "2026-03-02 12:00:00 UTC",
		`count(density over 10min)`: "1", `must_temp - 31.27`: "-0.0 °C",
	} {
		p, found := Compile(src, cellar(), ForMessage)
		if p == nil {
			t.Errorf("%s: %v", src, found)
			continue
		}
		got := p.Say(device(p, values))
		if src == `must_temp - 31.27` {
			want = "0.0 °C"
		}
		if got != want {
			t.Errorf("%s says %q, want %q", src, got, want)
		}
	}
}

func TestExplain(t *testing.T) {
	p, _ := Compile(`must_temp > 300 'K' and (mean(density over 10min) < 1000 or pressure > 3)`, cellar(), ForRule)
	x := p.Explain(device(p, map[string]any{"must_temp": 30.0, "density": 1050.0}))
	var lines []string
	var walk func(Part, int)
	walk = func(x Part, depth int) {
		lines = append(lines, fmt.Sprintf("%*s%s: %s %s", depth, "", x.Text, x.Value, x.Note))
		for _, k := range x.Parts {
			walk(k, depth+1)
		}
	}
	walk(x, 0)
	want := `must_temp > 300 'K' and (mean(density over 10min) < 1000 or pressure > 3): – 
 must_temp > 300 'K': true 
  must_temp: 30.0 °C 
 mean(density over 10min) < 1000 or pressure > 3: – 
  mean(density over 10min) < 1000: – 
   mean(density over 10min): – less than half of the window is covered
  pressure > 3: – 
   pressure: – never reported`
	if got := strings.Join(lines, "\n"); got != want {
		t.Errorf("explained as\n%s\nwant\n%s", got, want)
	}
}

func TestComplete(t *testing.T) {
	for _, c := range []struct {
		before  string // of the cursor
		purpose Purpose
		first   string // what stands first
		offers  string // further candidates, by spaces
		not     string
	}{
		{``, ForFilter, "must_temp", "density label.stage has()", "mean()"},
		{`mus`, ForFilter, "must_temp", "", "density"},
		{`must_temp `, ForFilter, "> ", "", "and "},
		{`must_temp > `, ForFilter, "set.max_temp", "must_temp", ""},
		{`must_temp > set.`, ForFilter, "max_temp", "report_every", "must_temp"},
		{`must_temp > set.max_temp `, ForFilter, "and ", "or ", "> "},
		{`label.stage == `, ForFilter, `"empty"`, `"fermenting"`, ""},
		{`label.stage == "fer`, ForFilter, `"fermenting"`, "", `"resting"`},
		{`label.stage `, ForFilter, "== ", "in ()", "> "},
		{`label.stage == "resting" and label.si`, ForFilter, "site", "", ""},
		{`fan_on `, ForFilter, "and ", "or ", "> "},
		{`must_temp > 300 '`, ForFilter, "'Cel'", "'K' '[degF]'", "'kPa'"},
		{`must_temp > 300 `, ForFilter, "'Cel'", "'K' and", ""},
		{`mea`, ForRule, "mean()", "", "mean_of()"},
		{`mean(`, ForRule, "must_temp", "density", "label.stage"},
		{`mean(must_temp `, ForRule, "over ", "", "must_temp"},
		{`mean(must_temp over `, ForRule, "10min", "1h", "must_temp"},
		{`time_in(must_temp > 30 `, ForRule, "'Cel'", "over and", ""},
		{`raised(`, ForRule, "must_too_warm", "", "must_temp"},
		{``, ForTarget, "device.id", "label.stage attr.firmware", "must_temp device.link"},
		{`must_temp between 3 `, ForFilter, "'Cel'", "and", ""},
		{`dens > 3`, ForFilter, "", "", "density"},
		{`tmep`, ForFilter, "", "", "density"},
		{`during("`, ForRule, `"Mon-Fri 06:00-22:00"`, "", ""},
		{`stage`, ForFilter, "label.stage", "", ""},
	} {
		offers := c.offers
		got := Complete(c.before+" and more", len(c.before), cellar(), c.purpose)
		texts := map[string]bool{}
		for _, x := range got {
			texts[strings.TrimSpace(x.Text)] = true
			if x.Span.Start > len(c.before) || x.Span.End > len(c.before) {
				t.Errorf("%q: %+v reaches beyond the cursor", c.before, x)
			}
		}
		if c.first != "" && (len(got) == 0 || got[0].Text != c.first) {
			t.Errorf("%q is completed with %v, want %q first", c.before, got[:min(len(got), 4)], c.first)
		}
		for _, w := range strings.Fields(offers) {
			if w != "()" && !texts[w] && !texts[w+" ()"] {
				t.Errorf("%q is not completed with %q", c.before, w)
			}
		}
		for _, w := range strings.Fields(c.not) {
			if texts[w] {
				t.Errorf("%q is completed with %q", c.before, w)
			}
		}
	}
}

func TestGlobAndSchedule(t *testing.T) {
	for _, c := range []struct {
		pattern, s string
		want       bool
	}{{"tank-*", "tank-1", true}, {"*", "", true}, {"?", "", false}, {"a*b*c", "a--b--b-c", true},
		{"a*b", "ab c", false}, {"é?", "éa", true}, {"**x", "x", true}, {"", "a", false}} {
		if got := glob(c.pattern, c.s); got != c.want {
			t.Errorf("%q like %q is %t", c.s, c.pattern, got)
		}
	}
	// The days of a list have the hours behind the last of them.
	lists, err := parseSchedule("Mon, Wed-Thu, Sat 06:00-07:00, Sun 10:00-12:00")
	if err != nil {
		t.Fatal(err)
	}
	monday := time.Date(2026, 3, 2, 6, 30, 0, 0, time.UTC)
	for day, want := range []bool{true, false, true, true, false, true, false} {
		if at := monday.AddDate(0, 0, day); lists.contains(at) != want {
			t.Errorf("at %s it is %t, want %t", at.Format("Mon 15:04"), !want, want)
		}
	}
	for _, bad := range []string{"", "Mon", "06:00", "Mon 6-7", "Mon 25:00-26:00", "Mon 06:00-06:00",
		"Mon Tue 06:00-07:00", ","} {
		if _, err := parseSchedule(bad); err == nil {
			t.Errorf("%q passes as a time of the week", bad)
		}
	}
}

// What is larger than any number says so, and is no other unknown.
func TestOverflowSaysSo(t *testing.T) {
	for src, want := range map[string]string{
		"must_temp > 3 and co2_flow * 1e308 * 1e308 > 0 'L/min'": "larger than any number",
		"co2_flow / 0 > 3 'L/min'":                               "division by zero",
	} {
		p := Compile2(t, src)
		s := device(p, map[string]any{"co2_flow": 12.0, "must_temp": 20.0})
		if got := fmt.Sprint(p.Explain(s)); !strings.Contains(got, want) {
			t.Errorf("%s is explained as %s, want %q", src, got, want)
		}
	}
}

// format(parse(x)) is stable, and means the same, for random expressions.
func TestFormatIsStable(t *testing.T) {
	for seed := range 3000 {
		r := rand.New(rand.NewPCG(uint64(seed), 3))
		src := randomly(r, 4)
		once, err := Format(src)
		if err != nil {
			t.Fatalf("%s: %v", src, err)
		}
		twice, err := Format(once)
		if err != nil || once != twice {
			t.Fatalf("%s\n becomes %s\n and then %s, %v", src, once, twice, err)
		}
		if a, b := Compile2(t, src), Compile2(t, once); a.Cost != b.Cost {
			t.Fatalf("%s costs %v and %s costs %v", src, a.Cost, once, b.Cost)
		}
	}
}

func Compile2(t *testing.T, src string) *Program {
	t.Helper()
	p, found := Compile(src, cellar(), ForRule)
	if p == nil {
		t.Fatalf("%s: %v", src, found)
	}
	return p
}

// What is said of a number keeps what stands before its point, and a difference
// of temperatures is no temperature.
func TestSayNumbers(t *testing.T) {
	known := map[string]any{"must_temp": 30.0, "ambient": 68.0, "density": 1050.0, "faults": 3.0}
	for src, want := range map[string]string{
		`11566.2 * 2`: "23\u2009132", `11566.2 * 2 + 0.04`: "23\u2009132", `0.00123456 * 1`: "0.001235", `faults / 7`: "0.4286", `faults * 1e9`: "3\u2009000\u2009000\u2009000",
		`ambient - must_temp`: "-10 K", `must_temp - ambient`: "10.0 K", `ambient`: "68.0 °F",
	} {
		p, found := Compile(src, cellar(), ForMessage)
		if p == nil {
			t.Errorf("%s: %v", src, found)
			continue
		}
		if got := p.Say(device(p, known)); strings.Replace(got, ".0 K", " K", 1) != strings.Replace(want, ".0 K", " K", 1) {
			t.Errorf("%s says %q, want %q", src, got, want)
		}
		if e := p.Explain(device(p, known)); e.Exact != p.Value(device(p, known)).Any() {
			t.Errorf("%s is exactly %v, want %v", src, e.Exact, p.Value(device(p, known)))
		}
	}
}
