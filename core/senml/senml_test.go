package senml_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/core/senml"
)

var now = time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)

func words(rs []senml.Record) string {
	var out []string
	for _, r := range rs {
		s := r.Name
		switch {
		case r.Number != nil:
			s += fmt.Sprintf("=%g", *r.Number)
		case r.Text != nil:
			s += "=" + *r.Text
		case r.Truth != nil:
			s += fmt.Sprintf("=%t", *r.Truth)
		case r.Data != nil:
			s += "=data:" + *r.Data
		}
		if r.Sum != nil {
			s += fmt.Sprintf(" sum %g", *r.Sum)
		}
		s += r.Unit
		if !r.At.IsZero() {
			s += r.At.Format(" 15:04:05.000")
		}
		out = append(out, s)
	}
	return strings.Join(out, "; ")
}

func TestResolve(t *testing.T) {
	for _, c := range []struct{ name, in, want string }{
		{"one", `[{"n":"must_temp","u":"Cel","v":21.4}]`, "must_temp=21.4Cel"},
		{"base name, time, unit", `[{"bn":"tank-7/","bt":1772359200,"bu":"Cel","n":"must_temp","v":21},{"n":"jacket","v":4,"t":-60}]`, "tank-7/must_temp=21Cel 10:00:00.000; tank-7/jacket=4Cel 09:59:00.000"},
		{"base value and sum", `[{"bv":20,"bs":100,"n":"x","v":1.5},{"n":"y","v":2,"s":3},{"n":"z"}]`, "x=21.5; y=22 sum 103; z=20"},
		{"kinds", `[{"n":"cycle","vs":"press"},{"n":"fan_on","vb":true},{"n":"blob","vd":"3q2-7w"},{"n":"litres","s":12,"u":"L"}]`, "cycle=press; fan_on=true; blob=data:3q2-7w; litres sum 12L"},
		{"relative", `[{"n":"x","v":1,"t":-10},{"n":"x","v":2}]`, "x=1 09:59:50.000; x=2"},
		{"milliseconds", `[{"n":"x","v":1,"t":1772359200.125}]`, "x=1 10:00:00.125"},
		{"base alone", `[{"bn":"a-","bver":10},{"n":"x","v":1}]`, "a-x=1"},
		{"base changes", `[{"bn":"a-","n":"x","v":1},{"bn":"b-","n":"x","v":2}]`, "a-x=1; b-x=2"},
		{"unknown labels", `[{"n":"x","v":1,"colour":"red"}]`, "x=1"},
		{"empty", `[]`, ""},
	} {
		got, err := whole(senml.FromJSON([]byte(c.in), now))
		if err != nil || words(got) != c.want {
			t.Errorf("%s: %s, %v; want %s", c.name, words(got), err, c.want)
		}
	}
}

// whole makes the first record that is wrong the error of the pack.
func whole(rs []senml.Record, wrong []*senml.Wrong, err error) ([]senml.Record, error) {
	if err == nil && len(wrong) > 0 {
		return rs, wrong[0]
	}
	return rs, err
}

// One record that is wrong leaves the others, with their places in the pack.
func TestGoodRecordsAreKept(t *testing.T) {
	for _, c := range []struct {
		name, in string
		kept     []int
		wrong    map[int]string
		fails    string
	}{
		{"a number beyond", `[{"bn":"t/","n":"a","v":1},{"n":"b","v":1e999},{"n":"c","v":3}]`, []int{0, 2}, map[int]string{1: "v is 1e999"}, ""},
		{"a time that is none", `[{"n":"a","v":1,"t":"noon"},{"n":"b","v":2}]`, []int{1}, map[int]string{0: "t is of the wrong type"}, ""},
		{"two values", `[{"n":"a","v":1,"vb":true},{"n":"b","v":2},{"n":"c"}]`, []int{1}, map[int]string{0: "several", 2: "no value"}, ""},
		{"only base fields between", `[{"bn":"t/"},{"n":"a","v":1},{"bt":1772359200},{"n":"b","v":1}]`, []int{1, 3}, nil, ""},
		{"a base that is wrong", `[{"n":"a","v":1},{"bt":1e999,"n":"b","v":1},{"n":"c","v":1}]`, nil, nil, "bt is 1e999"},
		{"a version", `[{"n":"a","v":1},{"bver":99,"n":"b","v":1}]`, nil, nil, "version 99"},
		{"bases of a record that is wrong count", `[{"bn":"t/","n":"a","v":"hot"},{"n":"b","v":1}]`, []int{1}, map[int]string{0: "wrong type"}, ""},
	} {
		rs, wrong, err := senml.FromJSON([]byte(c.in), now)
		if (c.fails != "") != (err != nil) || err != nil && !strings.Contains(err.Error(), c.fails) {
			t.Errorf("%s: fails with %v, want %q", c.name, err, c.fails)
			continue
		}
		var kept []int
		for _, r := range rs {
			kept = append(kept, r.Index)
		}
		if !slices.Equal(kept, c.kept) || len(wrong) != len(c.wrong) {
			t.Errorf("%s: kept are %v and wrong %v, want %v and %v", c.name, kept, wrong, c.kept, c.wrong)
		}
		for _, w := range wrong {
			if !strings.Contains(w.Sentence, c.wrong[w.Record]) || c.wrong[w.Record] == "" {
				t.Errorf("%s: record %d is %q, want %q", c.name, w.Record, w.Sentence, c.wrong[w.Record])
			}
		}
		if c.name == "bases of a record that is wrong count" && rs[0].Name != "t/b" {
			t.Errorf("the name behind it is %s, want t/b", rs[0].Name)
		}
	}
}

func TestRefuses(t *testing.T) {
	for in, says := range map[string]string{
		`[{"n":"x","v":1,"vs":"a"}]`:          "several",
		`[{"n":"x"}]`:                         "no value",
		`[{"n":"x","v":1},{"n":"a b","v":1}]`: "record 1: \"a b\" is no SenML name",
		`[{"v":1}]`:                           "no SenML name",
		`[{"n":"x","v":1,"bver":11}]`:         "version 11",
		`[{"n":"x","v":1,"bver":"ten"}]`:      "not read",
		`[{"n":"x","v":1,"must_":1}]`:         "must be understood",
		`[{"n":"x","v":"hot"}]`:               "v is of the wrong type",
		`[{"n":"x","v":1,"t":1e300}]`:         "no time",
		`{"n":"x","v":1}`:                     "cannot unmarshal",
		`[{"n":"x","v":1}`:                    "unexpected end",
	} {
		if got, err := whole(senml.FromJSON([]byte(in), now)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %s, %v; want %s", in, words(got), err, says)
		}
	}
}

func FuzzFromJSON(f *testing.F) {
	f.Add([]byte(`[{"bn":"tank-7/","bt":1772359200,"bu":"Cel","bv":1,"n":"must_temp","v":21},{"n":"jacket","vb":true,"t":-60}]`))
	f.Fuzz(func(t *testing.T, b []byte) {
		rs, err := whole(senml.FromJSON(b, now))
		if err != nil {
			return
		}
		for _, r := range rs {
			if r.Name == "" || r.Number == nil && r.Text == nil && r.Truth == nil && r.Data == nil && r.Sum == nil {
				t.Fatalf("%s gives an empty record %+v", b, r)
			}
		}
	})
}
