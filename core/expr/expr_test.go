package expr_test

import (
	"errors"
	"strings"
	"testing"

	"ullage/core/expr"
	"ullage/core/value"
)

func TestParse(t *testing.T) {
	for _, c := range []struct{ in, canonical string }{
		{`must_temp > set.max_temp`, `must_temp > set.max_temp`},
		{`co2>=5000 'ppm'`, `co2 >= 5000 'ppm'`},
		{`  label.stage=="fermenting" `, `label.stage == "fermenting"`},
		{`battery < -2.5e-1`, `battery < -0.25`},
		{`fan_on == true`, `fan_on == true`},
		{`cycle != "a \"b\" \\ c"`, `cycle != "a \"b\" \\ c"`},
		{`device.model == "tank-probe"`, `device.model == "tank-probe"`},
		{`temp < 300'K'`, `temp < 300 'K'`},
	} {
		got, err := expr.Parse(c.in)
		if err != nil {
			t.Errorf("Parse(%q): %v", c.in, err)
			continue
		}
		if got.String() != c.canonical {
			t.Errorf("Parse(%q) is written %q, want %q", c.in, got, c.canonical)
		}
	}
}

func TestParseErrors(t *testing.T) {
	for _, c := range []struct {
		in     string
		column int
		says   string
	}{
		{``, 1, "missing at the end"},
		{`must_temp`, 10, "a comparison is missing"},
		{`must_temp = 3`, 11, "two signs"},
		{`must_temp >`, 12, "missing at the end"},
		{`32 < must_temp`, 1, "turn the comparison round"},
		{`must_temp > 32 and x < 3`, 16, "nothing more may follow"},
		{`1 < x < 5`, 1, "turn the comparison round"},
		{`x && y`, 3, "a comparison is missing"},
		{`x > 3 'furlong'`, 7, "not known"},
		{`x > 3 'Cel`, 7, "closing quote"},
		{`x == "open`, 6, "closing quote"},
		{`x == 'text'`, 6, "double quotes"},
		{`x > "hot"`, 1, "compares sizes"},
		{`ünit > 3`, 1, "neither a name nor a value"},
		{`ab.cd > 3`, 3, "no prefix"},
		{`label. == "x"`, 7, "a name is missing"},
		{`x > 1.2.3`, 5, "no number"},
		{`x == "\q"`, 6, "escape"},
	} {
		_, err := expr.Parse(c.in)
		var e *expr.Error
		if !errors.As(err, &e) {
			t.Errorf("Parse(%q) gives %v", c.in, err)
			continue
		}
		if e.Column != c.column || !strings.Contains(e.Sentence, c.says) {
			t.Errorf("Parse(%q) says %q; want column %d and %q", c.in, e, c.column, c.says)
		}
	}
	if _, err := expr.Parse(strings.Repeat("x", expr.MaxSource+1)); err == nil {
		t.Error("a megabyte was read")
	}
}

func TestCompare(t *testing.T) {
	n, s, b := value.OfNumber, value.OfText, value.OfBool
	for _, c := range []struct {
		left  value.Value
		op    expr.Op
		right value.Value
		want  expr.Truth
	}{
		{n(2), expr.Greater, n(1), expr.True}, {n(1), expr.Greater, n(1), expr.False}, {n(1), expr.AtLeast, n(1), expr.True},
		{n(1), expr.Less, n(2), expr.True}, {n(2), expr.AtMost, n(2), expr.True}, {n(3), expr.AtMost, n(2), expr.False},
		{s("a"), expr.Equal, s("a"), expr.True}, {s("a"), expr.NotEqual, s("b"), expr.True}, {b(true), expr.Equal, b(false), expr.False},
		{s("a"), expr.Less, s("b"), expr.Unknown}, {n(1), expr.Equal, s("1"), expr.Unknown},
		{value.Value{}, expr.Greater, n(1), expr.Unknown}, {n(1), expr.Greater, value.Value{}, expr.Unknown},
	} {
		if got := expr.Compare(c.left, c.op, c.right); got != c.want {
			t.Errorf("%v %s %v is %d, want %d", c.left, c.op, c.right, got, c.want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{`must_temp > set.max_temp`, `x == "a\"b"`, `co2 >= 5e3 'ppm'`, `label.`, `'`, `"`, `x > 1e`, "\xff"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		c, err := expr.Parse(s)
		if err != nil {
			var e *expr.Error
			if !errors.As(err, &e) || e.Column < 1 || e.Sentence == "" {
				t.Errorf("Parse(%q) fails with %v", s, err)
			}
			return
		}
		again, err := expr.Parse(c.String())
		if err != nil || again.String() != c.String() {
			t.Errorf("%q is written %q, which reads as %v, %v", s, c, again, err)
		}
	})
}
