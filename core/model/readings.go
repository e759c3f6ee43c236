package model

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"

	"ullage/core/value"
)

// Checked is what a message of readings came to.
type Checked struct {
	Readings []value.Reading
	// Refused lists the fields that were not kept, and why.
	Refused []Finding
	// Marked lists the fields that were kept with a mark, and why.
	Marked []Finding
	// Untimed reports that at least one reading took the arrival as its time.
	Untimed bool

	disbelieved int  // rows whose clock was not believed
	history     bool // times are taken as they are
}

// Problem is the error of a message that could not be taken at all.
type Problem struct{ Finding }

// Error returns the sentence.
func (p *Problem) Error() string { return p.Sentence }

func notJSON(body []byte, err error) error {
	f := jsonFinding(body, err)
	says := strings.Replace(f.Sentence, "this is not JSON: ", "", 1)
	return &Problem{Finding{"", "the message is not JSON: " + strings.Replace(says, "the file ends", "it ends", 1)}}
}

var tooMany = &Problem{Finding{"", fmt.Sprintf("the message carries more than %d readings; send it in parts", MaxReadings)}}

// Members of a message that are no metric; a model may not name one so.
const (
	memberAt    = "at"
	memberEvery = "every"
)

// Readings decodes a message of readings in JSON or CBOR (RFC 8949) and checks
// each value against the model. The forms are
//
//	{"must_temp":21.4}                                   measured now
//	{"at":"2026-03-01T10:00:00Z","must_temp":21.4}       at a time
//	[{"at":…,"must_temp":21.4},{"at":…,"must_temp":21.5}]
//	{"at":[…,…],"must_temp":[21.4,21.5],"rssi":[-67,null]}
//	{"at":…,"every":"60s","must_temp":[21.4,21.5]}       the first at that time; without at, the last now
//
// A time is RFC 3339 text, or whole milliseconds since 1970. A message that is
// none of these is an error of type *Problem; values are refused one by one.
func (m *Model) Readings(body []byte, arrived time.Time) (Checked, error) {
	var x any
	switch first := firstByte(body); {
	case first == 0:
		return Checked{}, &Problem{Finding{"", `the message is empty; a reading is sent like {"must_temp":21.4}`}}
	case isCBOR(first):
		if err := decodeCBOR.Unmarshal(body, &x); err != nil {
			return Checked{},
				&Problem{Finding{"", "the message is not CBOR: " + strings.TrimPrefix(err.Error(), "cbor: ")}}
		}
	default:
		var err error
		if x, err = decodeJSON(body); err != nil {
			return Checked{}, notJSON(body, err)
		}
	}
	out := Checked{}
	if list, ok := x.([]any); ok {
		rows := 0
		for i, item := range list {
			place := "/" + strconv.Itoa(i)
			fields, ok := item.(map[string]any)
			if !ok {
				out.Refused = append(out.Refused, Finding{place,
					"a list of readings holds JSON objects of values by name; this is " + value.JSONKind(item)})
				continue
			}
			if m.columnar(fields) {
				out.Refused = append(out.Refused, Finding{place, "columns stand alone in a message, not within a list"})
				continue
			}
			rows++
			if err := m.row(fields, place, len(list) > 1, arrived, &out); err != nil {
				return Checked{}, err
			}
		}
		if rows == 0 && len(out.Refused) > 0 { // none of them is a reading
			return Checked{}, &Problem{out.Refused[0]}
		}
		return out, nil
	}
	fields, ok := x.(map[string]any)
	if !ok {
		return Checked{},
			&Problem{Finding{"", "readings are a JSON object of values by name, or a list of them; this is " + value.JSONKind(x)}}
	}
	var err error
	if m.columnar(fields) {
		err = m.columns(fields, arrived, &out)
	} else {
		err = m.row(fields, "", false, arrived, &out)
	}
	if err != nil {
		return Checked{}, err
	}
	return out, nil
}

// decodeJSON is json.Unmarshal for any value, where a number that is beyond a
// float64 does not fail the whole: it stays a json.Number, for its field to be
// refused.
func decodeJSON(body []byte) (x any, err error) {
	err = json.Unmarshal(body, &x)
	var beyond *json.UnmarshalTypeError
	if !errors.As(err, &beyond) {
		return x, err
	}
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	if err := d.Decode(&x); err != nil {
		return nil, err
	}
	return floats(x), nil
}

// floats makes the numbers of a decoded value float64, but for those that are
// beyond.
func floats(x any) any {
	switch v := x.(type) {
	case json.Number:
		if f, err := v.Float64(); err == nil {
			return f
		}
	case []any:
		for i := range v {
			v[i] = floats(v[i])
		}
	case map[string]any:
		for k := range v {
			v[k] = floats(v[k])
		}
	}
	return x
}

func firstByte(body []byte) byte {
	if body = bytes.TrimLeft(body, " \t\r\n"); len(body) > 0 {
		return body[0]
	}
	return 0
}

// IsCBOR reports whether a message is a list or a map in CBOR, by its first
// byte, with which no text in JSON begins.
func IsCBOR(body []byte) bool { return isCBOR(firstByte(body)) }

func isCBOR(first byte) bool { return first>>5 == 4 || first>>5 == 5 }

var decodeCBOR = func() cbor.DecMode {
	d, err := cbor.DecOptions{DupMapKey: cbor.DupMapKeyEnforcedAPF, MaxNestedLevels: 16, MaxArrayElements: 128 << 10,
		MaxMapPairs: 4096, DefaultMapType: reflect.TypeFor[map[string]any](), TimeTagToAny: cbor.TimeTagToRFC3339Nano}.DecMode()
	if err != nil {
		panic(err) // the options are constants
	}
	return d
}()

// columnar reports whether an object holds columns: lists of values with one
// place for each time. A list of a metric whose type is a list is one value.
func (m *Model) columnar(fields map[string]any) bool {
	if _, has := fields[memberEvery]; has {
		return true
	}
	for name, x := range fields {
		if _, isList := x.([]any); isList && !m.takesList(name) {
			return true
		}
	}
	return false
}

func (m *Model) takesList(name string) bool {
	p, ok := m.Property(name)
	return ok && p.Kind == value.None && p.Schema != nil && p.Schema.Type == "array"
}

// row takes the values of one moment. Where it is one of many, a time that
// cannot be read refuses it alone.
func (m *Model) row(fields map[string]any, at string, many bool, arrived time.Time, out *Checked) error {
	when := arrived
	if stated, has := fields[memberAt]; has {
		t, err := parseTime(stated)
		if err != nil && many {
			out.Refused = append(out.Refused, Finding{at + "/at", err.Error() + "; nothing of this reading was kept"})
			return nil
		} else if err != nil {
			return &Problem{Finding{at + "/at", err.Error()}}
		}
		when = t
	} else {
		out.Untimed = true
	}
	like := out.believe(when, arrived, at+"/at")
	var few [16]string // a row has seldom more, and they need no memory of their own
	names := few[:0]
	for name := range fields {
		names = append(names, name)
	}
	slices.Sort(names)
	if out.Readings == nil {
		out.Readings = make([]value.Reading, 0, len(fields)+m.derived)
	}
	for _, name := range names {
		if name == memberAt {
			continue
		}
		if len(out.Readings) >= MaxReadings {
			return tooMany
		}
		m.field(name, name, fields[name], at, like, out)
	}
	if len(out.Readings) > MaxReadings {
		return tooMany
	}
	return nil
}

// columns takes lists of values with one place for each time.
func (m *Model) columns(fields map[string]any, arrived time.Time, out *Checked) error {
	names := slices.Sorted(maps.Keys(fields))
	n := -1
	longest := ""
	for _, name := range names {
		if name == memberAt || name == memberEvery {
			continue
		}
		list, ok := fields[name].([]any)
		if !ok {
			return &Problem{Finding{"/" + escape(name), fmt.Sprintf("%s is %s beside columns; a single value has no time there, so send it as a list or in a message of its own", value.Clip(name, 40), value.JSONKind(fields[name]))}}
		}
		if m.takesList(name) {
			return &Problem{Finding{"/" + escape(name), fmt.Sprintf("a value of %s is a list itself, so it is sent in rows and not in columns", value.Clip(name, 40))}}
		}
		if n >= 0 && len(list) != n {
			return &Problem{Finding{"/" + escape(name), fmt.Sprintf("%s has %d values and %s has %d; columns have the same length, with null where there is no reading", value.Clip(name, 40), len(list), value.Clip(longest, 40), n)}}
		}
		n, longest = len(list), name
	}
	if n < 0 {
		return &Problem{Finding{"", "there are times and no column of values"}}
	}
	times, err := m.times(fields, n, longest, arrived, out)
	if err != nil {
		return err
	}
	out.Readings = make([]value.Reading, 0, min(n*max(len(names)-1, 1), MaxReadings))
	for i := range n {
		if times[i].IsZero() {
			continue // refused
		}
		where := "/at"
		if fields[memberEvery] == nil {
			where += "/" + strconv.Itoa(i)
		}
		like := out.believe(times[i], arrived, where)
		key := strconv.Itoa(i)
		for _, name := range names {
			if name == memberAt || name == memberEvery {
				continue
			}
			x := fields[name].([]any)[i]
			if x == nil {
				continue
			}
			if len(out.Readings) >= MaxReadings {
				return tooMany
			}
			m.field(name, key, x, "/"+escape(name), like, out)
		}
	}
	return nil
}

// times returns the times of columns of n places. One that cannot be read is
// refused and zero.
func (m *Model) times(fields map[string]any, n int, column string, arrived time.Time,
	out *Checked) ([]time.Time, error) {
	times := make([]time.Time, n)
	stated, timed := fields[memberAt]
	list, isList := stated.([]any)
	every, regular := fields[memberEvery]
	switch {
	case regular && isList:
		return nil,
			&Problem{Finding{"/at", "with every, at is the time of the first value alone; leave one of the two out"}}
	case regular:
		text, ok := every.(string)
		step, err := value.ParseDuration(text)
		if !ok || err != nil || step <= 0 {
			return nil,
				&Problem{Finding{"/every", `every is how far the values are apart, as text like "60s" or "10min"`}}
		}
		if step.Std() > math.MaxInt64/4/time.Duration(n+1) {
			return nil, &Problem{Finding{"/every", "the values are so far apart that the last one has no time"}}
		}
		first := arrived.Add(-time.Duration(max(n-1, 0)) * step.Std())
		if timed {
			if first, err = parseTime(stated); err != nil {
				return nil, &Problem{Finding{"/at", err.Error()}}
			}
		} else {
			out.Untimed = true
		}
		for i := range times {
			times[i] = first.Add(time.Duration(i) * step.Std())
		}
	case !timed:
		return nil,
			&Problem{Finding{"", `columns need times: "at" as a list of as many, or "every" as their distance, like "60s"`}}
	case !isList:
		return nil,
			&Problem{Finding{"/at", fmt.Sprintf(`at is one time and %s has %d values; write a list of times, or "every" as their distance`, value.Clip(column, 40), n)}}
	case len(list) != n:
		return nil,
			&Problem{Finding{"/at", fmt.Sprintf("at is a list of %d and %s one of %d; a column needs a time for each value", len(list), value.Clip(column, 40), n)}}
	default:
		for i, x := range list {
			t, err := parseTime(x)
			if err != nil {
				out.Refused = append(out.Refused, Finding{"/at/" + strconv.Itoa(i),
					err.Error() + "; nothing of this moment was kept"})
				continue
			}
			times[i] = t
		}
	}
	return times, nil
}

// believe returns what the readings of a moment have in common. Where the clock
// of the device cannot be right the time is that of the arrival; several such
// moments of one message stay in their order, a millisecond apart.
func (c *Checked) believe(when, arrived time.Time, at string) value.Reading {
	if c.history {
		return value.Reading{At: when.UTC().Truncate(time.Millisecond)}
	}
	when, deviceAt, quality := believe(when, arrived)
	if quality != 0 {
		c.Marked = append(c.Marked, clockFinding(at, quality, deviceAt, arrived))
		when = when.Add(time.Duration(c.disbelieved) * time.Millisecond)
		c.disbelieved++
	}
	return value.Reading{At: when.UTC().Truncate(time.Millisecond), Quality: quality, DeviceAt: deviceAt}
}

// parseTime reads a time: RFC 3339 text, or whole milliseconds since 1970.
func parseTime(x any) (time.Time, error) {
	var ms float64
	switch x := x.(type) {
	case string:
		t, err := time.Parse(time.RFC3339Nano, x)
		if err != nil {
			return time.Time{}, fmt.Errorf("%q is no RFC 3339 time with a zone, like 2026-03-01T10:00:00Z",
				value.Clip(x, 40))
		}
		return t, nil
	case float64:
		ms = x
	case int64:
		ms = float64(x)
	case uint64:
		ms = float64(x)
	case json.Number:
		return time.Time{}, fmt.Errorf("the time %s is beyond all times", value.Clip(string(x), 40))
	default:
		return time.Time{},
			fmt.Errorf(`the time is %s; write it as text like "2026-03-01T10:00:00Z", or as whole milliseconds since 1970`, value.JSONKind(x))
	}
	if ms != math.Trunc(ms) || math.Abs(ms) > 253402300799999 {
		return time.Time{}, errors.New("the time is a number, but not one of whole milliseconds since 1970")
	}
	return time.UnixMilli(int64(ms)), nil
}
