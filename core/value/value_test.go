package value_test

import (
	"encoding/json"
	"math"
	"strings"
	"testing"
	"testing/quick"
	"time"

	"ullage/core/value"
)

func TestParseDuration(t *testing.T) {
	for _, c := range []struct {
		in   string
		want time.Duration
	}{
		{"90s", 90 * time.Second}, {"10min", 10 * time.Minute}, {"2h", 2 * time.Hour}, {"7d", 7 * 24 * time.Hour},
		{"1h30min", 90 * time.Minute}, {"0s", 0}, {"36500d", 36500 * 24 * time.Hour},
	} {
		got, err := value.ParseDuration(c.in)
		if err != nil || got.Std() != c.want {
			t.Errorf("ParseDuration(%q) = %s, %v; want %s", c.in, got.Std(), err, c.want)
		}
	}
	for _, in := range []string{"", "10", "min", "10 min", "-5s", "1.5h", "10m", "36501d", "99999999999999999999s",
		"5s5", "1hh"} {
		if got, err := value.ParseDuration(in); err == nil {
			t.Errorf("ParseDuration(%q) = %s, want an error", in, got)
		} else if !strings.Contains(err.Error(), "10min") {
			t.Errorf("ParseDuration(%q): %q does not show the right form", in, err)
		}
	}
}

func TestDurationComesBack(t *testing.T) {
	if err := quick.Check(func(n uint32) bool {
		d := value.Duration(time.Duration(n%3_000_000_000) * time.Second) // under 100 years
		got, err := value.ParseDuration(d.String())
		return err == nil && got == d
	}, nil); err != nil {
		t.Error(err)
	}
}

func TestFromAny(t *testing.T) {
	for _, c := range []struct {
		in   any
		want value.Value
	}{
		{1.5, value.OfNumber(1.5)}, {"x", value.OfText("x")}, {true, value.OfBool(true)}, {false, value.OfBool(false)},
		{nil, value.Value{}}, {json.Number("12"), value.OfNumber(12)}, {7, value.OfNumber(7)},
	} {
		if got, err := value.FromAny(c.in); err != nil || got != c.want {
			t.Errorf("FromAny(%v) = %v, %v; want %v", c.in, got, err, c.want)
		}
	}
	for _, in := range []any{math.NaN(), math.Inf(1), []any{1.0}, map[string]any{}, json.Number("1e999")} {
		if got, err := value.FromAny(in); err == nil {
			t.Errorf("FromAny(%v) = %v, want an error", in, got)
		}
	}
}

func TestValueJSONComesBack(t *testing.T) {
	if err := quick.Check(func(f float64, s string, b bool) bool {
		for _, v := range []value.Value{value.OfNumber(f), value.OfText(strings.ToValidUTF8(s, "")), value.OfBool(b),
			{}} {
			enc, err := json.Marshal(v)
			var back value.Value
			if err != nil || json.Unmarshal(enc, &back) != nil || back != v {
				return false
			}
		}
		return true
	}, nil); err != nil {
		t.Error(err)
	}
}

// What AppendJSON writes by itself is what encoding/json would write.
func TestValueJSONIsThatOfTheLibrary(t *testing.T) {
	values := []value.Value{{}, value.OfBool(true), value.OfBool(false)}
	for _, n := range []float64{0, math.Copysign(0, -1), 1, -1, 21.4, 1e-6, 9.9e-7, -1e-7, 1e20, 1e21, -1e21, 123456789012345678,
		math.MaxFloat64, math.SmallestNonzeroFloat64} {
		values = append(values, value.OfNumber(n))
	}
	for _, s := range []string{"", "auto", "a b", `a"b`, `a\b`, "<b>&", "a\nb", "ü", "\u2028", "\x7f", "\xff"} {
		values = append(values, value.OfText(s))
	}
	same := func(v value.Value) bool {
		got, err := v.AppendJSON([]byte("x"))
		want, wrong := json.Marshal(v.Any())
		if err != nil || wrong != nil || string(got) != "x"+string(want) {
			t.Errorf("%#v is %s, %v; encoding/json writes %s, %v", v, got, err, want, wrong)
			return false
		}
		return true
	}
	for _, v := range values {
		same(v)
	}
	if err := quick.Check(func(n float64, s string) bool { return same(value.OfNumber(n)) && same(value.OfText(s)) }, nil); err != nil {
		t.Error(err)
	}
	if b, err := value.OfNumber(math.NaN()).AppendJSON(nil); err == nil {
		t.Errorf("no number is written as %s", b)
	}
}

func TestQualityWords(t *testing.T) {
	q := value.BeyondRange | value.ClockNotSet
	if got := strings.Join(q.Words(), ","); got != "beyond range,clock not set" {
		t.Errorf("words are %q", got)
	}
	if value.Quality(0).Words() != nil {
		t.Error("a good reading has marks")
	}
}

func FuzzParseDuration(f *testing.F) {
	for _, s := range []string{"90s", "1h30min", "7d", "x", "9999999999d"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		d, err := value.ParseDuration(s)
		if err != nil {
			return
		}
		if d < 0 {
			t.Errorf("ParseDuration(%q) = %d is negative", s, d)
		}
		if again, err := value.ParseDuration(d.String()); err != nil || again != d {
			t.Errorf("%q reads as %s, which reads as %s, %v", s, d, again, err)
		}
	})
}

func TestClip(t *testing.T) {
	for _, c := range []struct {
		s    string
		most int
		want string
	}{{"", 3, ""}, {"abc", 3, "abc"}, {"abcd", 3, "abc…"}, {"北タンク", 4, "北タンク"}, {"北タンク", 2, "北タ…"}} {
		if got := value.Clip(c.s, c.most); got != c.want {
			t.Errorf("%q cut to %d is %q, want %q", c.s, c.most, got, c.want)
		}
	}
}

func TestSpaced(t *testing.T) {
	for in, want := range map[string]string{"": "", "5": "5", "999": "999", "1000": "1\u2009000", "-1234.5678": "-1\u2009234.5678",
		"1234567.25": "1\u2009234\u2009567.25", "NaN": "NaN", "0.12345": "0.12345"} {
		if got := value.Spaced(in); got != want {
			t.Errorf("%q becomes %q, want %q", in, got, want)
		}
	}
}
