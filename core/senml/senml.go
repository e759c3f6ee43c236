// Package senml reads Sensor Measurement Lists (RFC 8428) and resolves them:
// base fields are added to each record, times made absolute, names whole.
package senml

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"strings"
	"time"

	"ullage/core/value"
)

// MaxVersion is the newest version of SenML that is read.
const MaxVersion = 10

// Record is one resolved record.
type Record struct {
	Index int // its place in the pack, from 0
	Name  string
	Unit  string // empty where not given
	// One of these holds the value; none of them where there is only a sum.
	Number *float64
	Text   *string
	Truth  *bool
	Data   *string // base64url, without padding
	Sum    *float64
	// At is the time of the record; the zero time means now.
	At time.Time
}

// raw is a record as it stands in JSON (RFC 8428, table 4).
type raw struct {
	BaseName    *string          `json:"bn"`
	BaseTime    *float64         `json:"bt"`
	BaseUnit    *string          `json:"bu"`
	BaseValue   *float64         `json:"bv"`
	BaseSum     *float64         `json:"bs"`
	BaseVersion *json.RawMessage `json:"bver"`
	Name        string           `json:"n"`
	Unit        string           `json:"u"`
	Value       *float64         `json:"v"`
	Text        *string          `json:"vs"`
	Truth       *bool            `json:"vb"`
	Data        *string          `json:"vd"`
	Sum         *float64         `json:"s"`
	Time        float64          `json:"t"`
}

// Wrong is the error of a record that cannot be resolved: which one, and why.
type Wrong struct {
	Record   int // from 0
	Sentence string
	// Whole says that the rest of the pack cannot be understood without it: its
	// version, or a field that the records behind it build on.
	Whole bool
}

// Error says both.
func (w *Wrong) Error() string { return fmt.Sprintf("record %d: %s", w.Record, w.Sentence) }

// name is what a resolved name may be (RFC 8428, section 4.5.1).
var name = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_:./-]*$`)

// relative is the bound below which a time counts from now (section 4.5.3).
const relative = 1 << 28

// FromJSON reads a pack in JSON. Now is what relative times count from. Records
// that cannot be resolved are in wrong, each with the reason. The error is a
// *Wrong for the whole pack, or that of encoding/json.
func FromJSON(body []byte, now time.Time) (records []Record, wrong []*Wrong, err error) {
	var lines []json.RawMessage
	if err := json.Unmarshal(body, &lines); err != nil {
		return nil, nil, err
	}
	var r Resolver
	return all(lines, func(line json.RawMessage) (Record, bool, error) { return r.JSON(line, now) })
}

// all resolves the records of a pack.
func all[T any](lines []T, next func(T) (Record, bool, error)) (out []Record, wrong []*Wrong, err error) {
	out = make([]Record, 0, len(lines))
	for _, line := range lines {
		rec, keep, err := next(line)
		var bad *Wrong
		switch {
		case errors.As(err, &bad) && !bad.Whole:
			wrong = append(wrong, bad)
		case err != nil:
			return nil, nil, err
		case keep:
			out = append(out, rec)
		}
	}
	return out, wrong, nil
}

// Resolver resolves the records of one pack one by one. Its zero value is ready.
type Resolver struct {
	name, unit string
	time       float64
	value, sum *float64
	records    int // seen so far
}

// JSON resolves the next record; false says that it only sets base fields. The
// error is of type *Wrong.
func (r *Resolver) JSON(line []byte, now time.Time) (Record, bool, error) {
	i := r.records
	r.records++
	var x raw
	var mistyped *json.UnmarshalTypeError // the other fields are read all the same
	err := json.Unmarshal(line, &x)
	if err != nil && !errors.As(err, &mistyped) {
		return Record{}, false, &Wrong{i, "this is no SenML record: " + err.Error(), true}
	}
	// A label that ends in "_" must be understood (section 4.4).
	var all map[string]json.RawMessage
	if json.Unmarshal(line, &all) == nil {
		for k := range all {
			if k[max(len(k)-1, 0):] == "_" {
				return Record{}, false,
					&Wrong{i, fmt.Sprintf("the label %q must be understood to read this pack, and is not", k), true}
			}
		}
	}
	if mistyped != nil {
		r.base(&x)
		return Record{}, false, &Wrong{i, mistypedWords(mistyped, all), strings.HasPrefix(mistyped.Field, "b")}
	}
	return r.record(i, x, now)
}

// mistypedWords says which field of a record is of the wrong type.
func mistypedWords(err *json.UnmarshalTypeError, all map[string]json.RawMessage) string {
	if err.Field == "" {
		return "this is no SenML record, but " + err.Value
	}
	if strings.HasPrefix(err.Value, "number ") {
		return fmt.Sprintf("%s is %s, which is no number that can be kept", err.Field, value.Clip(string(all[err.Field]), 40))
	}
	return fmt.Sprintf("%s is of the wrong type: %s", err.Field, err.Value)
}

// record resolves a record that was read.
func (r *Resolver) record(i int, x raw, now time.Time) (Record, bool, error) {
	if x.BaseVersion != nil {
		var v int
		if json.Unmarshal(*x.BaseVersion, &v) != nil || v < 1 || v > MaxVersion {
			return Record{}, false, &Wrong{i, fmt.Sprintf("the version %s of SenML is not read; %d is the newest",
				value.Clip(string(*x.BaseVersion), 40), MaxVersion), true}
		}
	}
	r.base(&x)
	rec, keep, bad := r.resolve(x, now)
	if bad != "" {
		return Record{}, false, &Wrong{i, bad, false}
	}
	rec.Index = i
	return rec, keep, nil
}

// base takes up what the records that follow build on.
func (r *Resolver) base(x *raw) {
	if x.BaseName != nil {
		r.name = *x.BaseName
	}
	if x.BaseTime != nil {
		r.time = *x.BaseTime
	}
	if x.BaseUnit != nil {
		r.unit = *x.BaseUnit
	}
	if x.BaseValue != nil {
		r.value = x.BaseValue
	}
	if x.BaseSum != nil {
		r.sum = x.BaseSum
	}
}

func (r *Resolver) resolve(x raw, now time.Time) (Record, bool, string) {
	values := 0
	for _, there := range []bool{x.Value != nil, x.Text != nil, x.Truth != nil, x.Data != nil} {
		if there {
			values++
		}
	}
	if values > 1 {
		return Record{}, false, "a record has one value; this one has several"
	}
	// A record with base fields alone sets them and is no reading itself.
	if values == 0 && x.Sum == nil && x.Name == "" && x.Unit == "" {
		return Record{}, false, ""
	}
	out := Record{Name: r.name + x.Name, Unit: x.Unit, Text: x.Text, Truth: x.Truth, Data: x.Data}
	if out.Unit == "" {
		out.Unit = r.unit
	}
	switch {
	case x.Value != nil:
		out.Number = plus(x.Value, r.value)
	case values == 0 && x.Sum == nil && r.value != nil:
		out.Number = plus(nil, r.value)
	case values == 0 && x.Sum == nil:
		return Record{}, false, fmt.Sprintf("%q has no value", out.Name)
	}
	if x.Sum != nil {
		out.Sum = plus(x.Sum, r.sum)
	}
	if !name.MatchString(out.Name) {
		return Record{}, false, fmt.Sprintf("%q is no SenML name", out.Name)
	}
	t := r.time + x.Time
	switch {
	case math.IsNaN(t) || math.Abs(t) > 1e11:
		return Record{}, false, "the time is no time"
	case t >= relative:
		out.At = fromSeconds(t)
	case t != 0:
		out.At = now.Add(time.Duration(t * float64(time.Second)))
	}
	return out, true, ""
}

func plus(a, b *float64) *float64 {
	sum := 0.0
	if a != nil {
		sum = *a
	}
	if b != nil {
		sum += *b
	}
	return &sum
}

// fromSeconds keeps milliseconds, the most that a float64 holds well today.
func fromSeconds(t float64) time.Time {
	return time.UnixMilli(int64(math.Round(t * 1000))).UTC()
}
