// Package value holds the common ground of every other package: a single
// value with its kind, and a reading, which is a value with its metric, time
// and quality.
package value

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Kind tells what a Value holds.
type Kind uint8

// The kinds of value. None is the zero Value: nothing was ever reported.
const (
	None Kind = iota
	Number
	Text
	Bool
)

// String returns the word people use for k.
func (k Kind) String() string {
	switch k {
	case Number:
		return "number"
	case Text:
		return "text"
	case Bool:
		return "boolean"
	}
	return "nothing"
}

// Value is a number, a text or a boolean. A boolean keeps 1 or 0 in Num.
// Values are comparable with ==, except that NaN never equals itself; no Value
// made by this package holds NaN or an infinity.
type Value struct {
	Kind Kind
	Num  float64
	Text string
}

// OfNumber returns the number n.
func OfNumber(n float64) Value { return Value{Kind: Number, Num: n} }

// OfText returns the text s.
func OfText(s string) Value { return Value{Kind: Text, Text: s} }

// OfBool returns the boolean b.
func OfBool(b bool) Value {
	if b {
		return Value{Kind: Bool, Num: 1}
	}
	return Value{Kind: Bool}
}

// SealedPrefix is what the text of a sealed secret begins with, Hidden what people see of
// it, and shortest how long such a text is at least.
const (
	SealedPrefix = "sealed:"
	Hidden       = "(secret)"
	shortest     = len(SealedPrefix) + 40 // nonce, tag and two bytes in Base64
)

// Sealed reports whether v is a secret that only the service can open: see package secret.
func (v Value) Sealed() bool {
	if v.Kind != Text || len(v.Text) < shortest || !strings.HasPrefix(v.Text, SealedPrefix) {
		return false
	}
	return strings.IndexFunc(v.Text[len(SealedPrefix):], func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '-' && r != '_'
	}) < 0
}

// Known reports whether v holds anything.
func (v Value) Known() bool { return v.Kind != None }

// Bool returns the truth of a boolean value; false for every other kind.
func (v Value) Bool() bool { return v.Kind == Bool && v.Num != 0 }

// Split returns what v holds, and nil for the kinds that it is not, as formats
// with a field for each kind want it.
func (v Value) Split() (number *float64, text *string, truth *bool) {
	switch v.Kind {
	case Number:
		number = &v.Num
	case Text:
		text = &v.Text
	case Bool:
		b := v.Bool()
		truth = &b
	}
	return number, text, truth
}

// Any returns v as the Go value that encoding/json would have decoded.
func (v Value) Any() any {
	switch v.Kind {
	case Number:
		return v.Num
	case Text:
		return v.Text
	case Bool:
		return v.Num != 0
	}
	return nil
}

// Shown is Any for whoever only looks: of a secret it says that it is one.
func (v Value) Shown() any {
	if v.Sealed() {
		return Hidden
	}
	return v.Any()
}

// FromAny returns the Value of a decoded JSON scalar: float64, json.Number,
// an integer, string, bool or nil. Anything else is an error, whose words are to
// stand behind "is".
func FromAny(x any) (Value, error) {
	switch x := x.(type) {
	case nil:
		return Value{}, nil
	case float64:
		return number(x)
	case int:
		return OfNumber(float64(x)), nil
	case int64:
		return OfNumber(float64(x)), nil
	case uint64:
		return OfNumber(float64(x)), nil
	case json.Number:
		f, err := strconv.ParseFloat(string(x), 64)
		if err != nil {
			return Value{}, fmt.Errorf("%s, which does not fit a 64-bit float", x)
		}
		return number(f)
	case string:
		return OfText(x), nil
	case bool:
		return OfBool(x), nil
	}
	return Value{}, fmt.Errorf("%s, and not a single value", JSONKind(x))
}

func number(f float64) (Value, error) {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return Value{}, fmt.Errorf("not a finite number")
	}
	return OfNumber(f), nil
}

// JSONKind names the JSON type of a decoded value, for messages.
func JSONKind(x any) string {
	switch x.(type) {
	case nil:
		return "null"
	case float64, json.Number, int, int64, uint64:
		return "a number"
	case string:
		return "text"
	case bool:
		return "true or false"
	case []any:
		return "an array"
	case map[string]any:
		return "an object"
	}
	return "something else"
}

// String writes v as people read it: the shortest number that reads back the
// same, the bare text, true or false, and a dash for nothing. A secret is hidden.
func (v Value) String() string {
	switch v.Kind {
	case Number:
		return strconv.FormatFloat(v.Num, 'f', -1, 64)
	case Text:
		if v.Sealed() {
			return Hidden
		}
		return v.Text
	case Bool:
		return strconv.FormatBool(v.Num != 0)
	}
	return "–"
}

// MarshalJSON writes v as a JSON scalar; nothing is null.
func (v Value) MarshalJSON() ([]byte, error) { return v.AppendJSON(make([]byte, 0, 24)) }

// AppendJSON appends v as MarshalJSON writes it. It is how documents of many values are
// written, for which encoding/json takes longer than the disk.
func (v Value) AppendJSON(b []byte) ([]byte, error) {
	switch {
	case v.Kind == None:
		return append(b, "null"...), nil
	case v.Kind == Bool:
		return strconv.AppendBool(b, v.Num != 0), nil
	case v.Kind == Number && (v.Num == 0 || math.Abs(v.Num) >= 1e-6 && math.Abs(v.Num) < 1e21):
		return strconv.AppendFloat(b, v.Num, 'f', -1, 64), nil
	case v.Kind == Text && quotable(v.Text):
		return append(append(append(b, '"'), v.Text...), '"'), nil
	}
	x, err := json.Marshal(v.Any())
	return append(b, x...), err
}

// quotable reports whether a text stands in JSON between quotes as it is.
func quotable(s string) bool {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			return false
		}
	}
	return true
}

// UnmarshalJSON reads a JSON scalar.
func (v *Value) UnmarshalJSON(b []byte) error {
	var x any
	if err := json.Unmarshal(b, &x); err != nil {
		return err
	}
	got, err := FromAny(x)
	if err != nil {
		return err
	}
	*v = got
	return nil
}

// Quality says what is known against a reading. The zero Quality is good.
type Quality uint8

// The marks a reading can carry; they combine.
const (
	// BeyondRange: outside the model's minimum and maximum, but possible.
	BeyondRange Quality = 1 << iota
	// ClockAhead: the device's clock was over two minutes ahead; At is the arrival.
	ClockAhead
	// ClockNotSet: the device's time was before 2015; At is the arrival.
	ClockNotSet
)

// marks are the words for each mark, from the lowest.
var marks = []string{"beyond range", "clock ahead", "clock not set"}

// Words returns the marks in words, in a fixed order; none for a good reading.
func (q Quality) Words() []string {
	var w []string
	for i, word := range marks {
		if q&(1<<i) != 0 {
			w = append(w, word)
		}
	}
	return w
}

// QualityOf returns the marks that Words would write so; other words say nothing.
func QualityOf(words []string) (q Quality) {
	for _, word := range words {
		if i := slices.Index(marks, word); i >= 0 {
			q |= 1 << i
		}
	}
	return q
}

// Reading is one value of one metric at one time.
type Reading struct {
	Metric  string
	At      time.Time // 1 ms resolution, UTC
	Value   Value
	Quality Quality
	// DeviceAt is the time the device gave where it was not believed, else zero.
	DeviceAt time.Time
}

// Millis returns t as milliseconds since 1970, the resolution of the store.
func Millis(t time.Time) int64 { return t.UnixMilli() }

// FromMillis returns the time of ms milliseconds since 1970, in UTC.
func FromMillis(ms int64) time.Time { return time.UnixMilli(ms).UTC() }

// Clip cuts a text that somebody else wrote to so many characters, for a
// sentence about it.
func Clip(s string, most int) string {
	if len(s) <= most {
		return s // no more characters than bytes
	}
	n := 0
	for i := range s { // no further than that, however long it is
		if n == most {
			return s[:i] + "…"
		}
		n++
	}
	return s
}

// Spaced puts thin spaces between the thousands of a number that is written in
// decimals, as the console and the command line show numbers to people.
func Spaced(number string) string {
	from := strings.IndexFunc(number, func(r rune) bool { return r >= '0' && r <= '9' })
	if from < 0 {
		return number
	}
	to := from
	for to < len(number) && number[to] >= '0' && number[to] <= '9' {
		to++
	}
	for i := to - 3; i > from; i -= 3 {
		number = number[:i] + "\u2009" + number[i:]
	}
	return number
}
