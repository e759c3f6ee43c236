// Package record looks at the nouns that people make, such as sites and rules,
// field by field: what a list is ordered and filtered by, and the tag that says
// whether somebody has changed one meanwhile.
package record

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"reflect"
	"slices"
	"strings"
	"time"

	"ullage/core/expr"
	"ullage/core/unit"
	"ullage/core/value"
)

// Field is one field of a struct, by its JSON name.
type Field struct {
	Name  string
	Title string // the doc tag
	Kind  expr.Kind
	// List says that it has several values, which stand with commas between them.
	List bool
	// Kept says that the service fills it in, and people do not.
	Kept  bool
	index []int
}

var timeType = reflect.TypeFor[time.Time]()

// Fields returns the fields of T that a list can be ordered and filtered by:
// texts, numbers, booleans, times, lists of texts, and pointers to them. Those
// of embedded structs count as T's own.
func Fields[T any]() []Field {
	var out []Field
	for _, f := range reflect.VisibleFields(reflect.TypeFor[T]()) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous || !f.IsExported() || name == "" || name == "-" {
			continue
		}
		if kind := kindOf(f.Type); kind != expr.NoKind {
			out = append(out, Field{Name: name, Title: f.Tag.Get("doc"), Kind: kind, List: f.Type.Kind() == reflect.Slice,
				Kept: f.Tag.Get("readOnly") == "true", index: f.Index})
		}
	}
	return out
}

func kindOf(t reflect.Type) expr.Kind {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch {
	case t == timeType:
		return expr.Time
	case t.Kind() == reflect.String, t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.String:
		return expr.Text
	case t.Kind() == reflect.Bool:
		return expr.Bool
	case t.Kind() == reflect.Int64 && t.PkgPath() != "": // a duration: it is written as text, and means a number
		return expr.NoKind
	case t.Kind() >= reflect.Int && t.Kind() <= reflect.Float64:
		return expr.Number
	}
	return expr.NoKind
}

// Of returns the value of the field in x, the zero Value if it has none. A time
// is its milliseconds since 1970; a list is its texts with commas between.
func (f Field) Of(x any) value.Value {
	v := reflect.ValueOf(x)
	if v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	v, err := v.FieldByIndexErr(f.index)
	if err != nil {
		return value.Value{}
	}
	if v.Kind() == reflect.Pointer {
		if v.IsNil() {
			return value.Value{}
		}
		v = v.Elem()
	}
	switch {
	case v.Type() == timeType:
		if t := v.Interface().(time.Time); !t.IsZero() {
			return value.OfNumber(float64(t.UnixMilli()))
		}
	case v.Kind() == reflect.String:
		if v.String() != "" {
			return value.OfText(v.String())
		}
	case v.Kind() == reflect.Slice:
		parts := make([]string, v.Len())
		for i := range parts {
			parts[i] = v.Index(i).String()
		}
		return value.OfText(strings.Join(parts, ", "))
	case v.Kind() == reflect.Bool:
		return value.OfBool(v.Bool())
	case v.CanInt():
		return value.OfNumber(float64(v.Int()))
	case v.CanUint():
		return value.OfNumber(float64(v.Uint()))
	case v.CanFloat():
		return value.OfNumber(v.Float())
	}
	return value.Value{}
}

// Sortable writes a value so that texts sort as the values do: what is unknown
// last, numbers before texts.
func Sortable(v value.Value) string {
	switch v.Kind {
	case value.Number, value.Bool:
		return fmt.Sprintf("1%016x", floatBits(v.Num))
	case value.Text:
		return "2" + strings.ToLower(v.Text)
	}
	return "3"
}

// Filter says which records pass a condition.
type Filter struct {
	program *expr.Program
	state   *expr.State
	fields  map[string]Field
}

// NewFilter reads a condition over the fields of a record, such as
// zone == "UTC" and devices > 10. The word is what one record is called.
func NewFilter(word, src string, fields []Field) (*Filter, expr.Findings) {
	s := Schema(word, fields)
	p, found := expr.NewPlan(s).Compile(src, expr.ForFilter)
	if p == nil {
		return nil, found
	}
	f := &Filter{program: p, state: p.Plan().NewState(time.Time{}), fields: map[string]Field{}}
	for _, x := range fields {
		f.fields[x.Name] = x
	}
	return f, nil
}

// Schema says what a condition over the fields of a record may speak of.
func Schema(word string, fields []Field) *expr.Schema {
	s := expr.NewPlainSchema(word)
	for _, f := range fields {
		i := expr.Info{Name: expr.Name{Key: f.Name}, Type: expr.Type{Kind: f.Kind}, Title: f.Title, Decimals: -1}
		if f.Kind == expr.Number {
			i.Type.Unit = unit.One
		}
		s.Add(i)
	}
	return s
}

// Passes reports whether the condition is true for x at a time.
func (f *Filter) Passes(x any, now time.Time) bool {
	f.state.Advance(now)
	f.state.From(func(_ int, n *expr.Info) expr.Sample {
		return expr.Sample{Value: f.fields[n.Name.Key].Of(x), At: now.UnixMilli()}
	})
	return f.program.Truth(f.state) == expr.True
}

// Tag returns what tells one state of a record from another: the beginning of
// the SHA-256 of its JSON.
func Tag(x any) string {
	b, err := json.Marshal(x)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:8])
}

// floatBits turns a number into bits that sort as the numbers do.
func floatBits(f float64) uint64 {
	bits := math.Float64bits(f)
	if bits>>63 != 0 {
		return ^bits
	}
	return bits | 1<<63
}

// Difference lists the fields, by their JSON names, in which two records of one
// type differ, each as "zone: UTC → Europe/Berlin".
func Difference(a, b any) []string {
	x, y := members(a), members(b)
	names := slices.Sorted(maps.Keys(x))
	for name := range y {
		if _, ok := x[name]; !ok {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	var out []string
	for _, name := range names {
		if was, is := x[name], y[name]; was != is {
			out = append(out, fmt.Sprintf("%s: %s → %s", name, orNothing(was), orNothing(is)))
		}
	}
	return out
}

func members(x any) map[string]string {
	b, err := json.Marshal(x)
	var raw map[string]json.RawMessage
	if err != nil || json.Unmarshal(b, &raw) != nil {
		return nil
	}
	out := map[string]string{}
	for k, v := range raw {
		var text string
		if json.Unmarshal(v, &text) != nil {
			text = string(v)
		}
		out[k] = text
	}
	// What has words of its own is told in them.
	v := reflect.Indirect(reflect.ValueOf(x))
	for _, f := range reflect.VisibleFields(v.Type()) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if x, err := v.FieldByIndexErr(f.Index); err == nil && f.IsExported() && out[name] != "" {
			if w, ok := x.Interface().(interface{ Words() string }); ok {
				out[name] = w.Words()
			}
		}
	}
	return out
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	if r := []rune(s); len(r) > 80 {
		return string(r[:80]) + "…"
	}
	return s
}
