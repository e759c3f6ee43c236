package senml_test

import (
	"fmt"
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
		got, err := senml.FromJSON([]byte(c.in), now)
		if err != nil || words(got) != c.want {
			t.Errorf("%s: %s, %v; want %s", c.name, words(got), err, c.want)
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
		`[{"n":"x","v":"hot"}]`:               "no SenML record",
		`[{"n":"x","v":1,"t":1e300}]`:         "no time",
		`{"n":"x","v":1}`:                     "cannot unmarshal",
		`[{"n":"x","v":1}`:                    "unexpected end",
	} {
		if got, err := senml.FromJSON([]byte(in), now); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %s, %v; want %s", in, words(got), err, says)
		}
	}
}

func FuzzFromJSON(f *testing.F) {
	f.Add([]byte(`[{"bn":"tank-7/","bt":1772359200,"bu":"Cel","bv":1,"n":"must_temp","v":21},{"n":"jacket","vb":true,"t":-60}]`))
	f.Fuzz(func(t *testing.T, b []byte) {
		rs, err := senml.FromJSON(b, now)
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
