package model

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ullage/core/unit"
	"ullage/core/value"
)

// Limits of one message, as docs/devices.md states them.
const (
	// MaxReadings is how many readings one message may carry.
	MaxReadings = 1000
	// ClockSlack is how far ahead of the service a device's clock may be.
	ClockSlack = 2 * time.Minute
	// MaxText is the longest text value, in bytes.
	MaxText = 1024
)

// earliest is the first time that is believed; a clock before it was never set.
var earliest = time.Date(2015, 1, 1, 0, 0, 0, 0, time.UTC)

// Readings of other times than these have no place in the store.
var (
	firstTime = time.UnixMilli(0).UTC()
	lastTime  = time.Date(2248, 1, 1, 0, 0, 0, 0, time.UTC)
)

// Check returns x, a decoded JSON value, as a Value of p's kind. The error
// says what x is and what p wants. It does not judge the range: see OutOfRange
// and Impossible.
//
// A sealed secret is taken as it is, and nothing is repeated of another one.
func (p *Property) Check(x any) (value.Value, error) {
	v, err := value.FromAny(x)
	if v.Sealed() {
		if p.Secret {
			return v, nil
		}
		return value.Value{}, errors.New("is given a sealed secret, and it is none in the model; give its value itself")
	}
	if p.Secret && (err != nil || v.Kind != p.Kind) {
		return value.Value{}, fmt.Errorf("is %s; the model wants %s", value.JSONKind(x), p.kindWords())
	}
	if err != nil {
		return value.Value{}, fmt.Errorf("is %s; the model wants %s", err, p.kindWords())
	}
	if v.Kind != p.Kind {
		if v.Kind == value.Text {
			return value.Value{}, fmt.Errorf("is text (%q); the model wants %s", value.Clip(v.Text, 40), p.kindWords())
		}
		return value.Value{}, fmt.Errorf("is %s (%s); the model wants %s", value.JSONKind(x), v, p.kindWords())
	}
	if p.Integer && v.Num != math.Trunc(v.Num) {
		if p.Secret {
			return value.Value{}, errors.New("is no whole number; the model wants one")
		}
		return value.Value{}, fmt.Errorf("is %s; the model wants a whole number", v)
	}
	if v.Kind == value.Text && len(v.Text) > MaxText {
		return value.Value{}, fmt.Errorf("is text of %d bytes; %d are stored", len(v.Text), MaxText)
	}
	return v, nil
}

// OutOfRange reports whether v lies outside the model's minimum, maximum,
// lengths or enumeration. A sealed secret does not: it was judged before.
func (p *Property) OutOfRange(v value.Value) bool {
	if p.Secret && v.Sealed() {
		return false
	}
	switch v.Kind {
	case value.Number:
		if p.Min != nil && v.Num < *p.Min || p.Max != nil && v.Num > *p.Max {
			return true
		}
	case value.Text:
		n := utf8.RuneCountInString(v.Text)
		if len(p.Enum) > 0 && !slices.Contains(p.Enum, v.Text) || n < p.MinLength ||
			p.MaxLength > 0 && n > p.MaxLength {
			return true
		}
	}
	return p.strict && len(p.Schema.Check(v.Any(), "")) > 0
}

// Holds reports whether v can be a value of p: its kind and its range.
func (p *Property) Holds(v value.Value) bool {
	if v.Sealed() {
		return p.Secret
	}
	return v.Kind == p.Kind && !p.OutOfRange(v)
}

// Impossible reports whether v lies outside the accept span.
func (p *Property) Impossible(v value.Value) bool {
	return v.Kind == value.Number && p.Accept != nil && !p.Accept.Contains(v.Num)
}

// RangeWords says what is in range: "between -5 and 60 °C", "one of auto, on, off".
func (p *Property) RangeWords() string {
	u := unit.Display(p.Unit)
	if u != "" {
		u = " " + u
	}
	switch {
	case len(p.Enum) > 0:
		return "one of " + strings.Join(p.Enum, ", ")
	case p.Min != nil && p.Max != nil:
		return fmt.Sprintf("between %s and %s%s", num(*p.Min), num(*p.Max), u)
	case p.Min != nil:
		return fmt.Sprintf("at least %s%s", num(*p.Min), u)
	case p.Max != nil:
		return fmt.Sprintf("at most %s%s", num(*p.Max), u)
	case p.MaxLength > 0:
		return fmt.Sprintf("%d to %d characters", p.MinLength, p.MaxLength)
	case p.strict:
		return p.Schema.words()
	}
	return p.kindWords()
}

// Say writes v with p's decimals and unit, as on screen.
func (p *Property) Say(v value.Value) string {
	s := v.String()
	if p.Secret && v.Known() {
		return value.Hidden
	}
	if v.Kind == value.Number {
		if p.Decimals >= 0 {
			s = strconv.FormatFloat(v.Num, 'f', p.Decimals, 64)
		}
		if u := unit.Display(p.Unit); u != "" {
			s += " " + u
		}
	}
	return s
}

func (p *Property) kindWords() string {
	switch p.Kind {
	case value.Number:
		n := "a number"
		if p.Integer {
			n = "a whole number"
		}
		if u := unit.Display(p.Unit); u != "" {
			n += " in " + u
		}
		return n
	case value.Text:
		return "text"
	}
	return "true or false"
}

func num(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }

// believe returns the time that a reading is stored under: the device's own, or
// its arrival where the device's clock cannot be right.
func believe(when, arrived time.Time) (time.Time, time.Time, value.Quality) {
	switch {
	case when.After(arrived.Add(ClockSlack)):
		return arrived, when, value.ClockAhead
	case when.Before(earliest):
		return arrived, when, value.ClockNotSet
	}
	return when, time.Time{}, 0
}

func clockFinding(at string, q value.Quality, deviceAt, arrived time.Time) Finding {
	says := fmt.Sprintf("%s: the device says %s; stored at its arrival, %s",
		q.Words()[0], deviceAt.Format(time.RFC3339), arrived.UTC().Format(time.RFC3339))
	const year = 365 * 24 * time.Hour
	if d := time.Unix(deviceAt.UnixMilli(), 0).Sub(arrived); q&value.ClockNotSet != 0 && d.Abs() < year {
		says += "; it looks like seconds, and a time that is a number counts milliseconds"
	}
	return Finding{at, says}
}

// Sample is one decoded value of a message: a name and what encoding/json
// makes of a value.
type Sample struct {
	Name  string
	Value any
}

// Take checks decoded values of one moment and appends them to out, as readings
// or as refusals; like gives time and quality, prefix is the pointer of the
// object they stood in. It allocates nothing but what it appends, and reports
// false once out holds more than MaxReadings.
func (m *Model) Take(samples []Sample, prefix string, like value.Reading, out *Checked) bool {
	for i := range samples {
		if len(out.Readings) >= MaxReadings {
			return false
		}
		m.field(samples[i].Name, samples[i].Name, samples[i].Value, prefix, like, out)
	}
	return len(out.Readings) <= MaxReadings
}

// field takes one value; key is the last segment of its place, which differs
// from its name within an object.
func (m *Model) field(name, key string, x any, prefix string, r value.Reading, out *Checked) {
	i, ok := m.byName[name]
	if !ok {
		m.unnamed(name, key, x, prefix, r, out)
		return
	}
	p := &m.Properties[i]
	if p.Role != Telemetry || p.Derived != "" || p.Kind == value.None {
		m.notStored(p, key, x, prefix, out)
		return
	}
	v, err := p.Check(x)
	if err != nil {
		out.refuse(prefix, key, name, "%s", err)
		return
	}
	if p.Impossible(v) {
		out.refuse(prefix, key, name, "is %s; nothing outside %s to %s can be true, so it was not kept", p.Say(v),
			num(p.Accept.Low), num(p.Accept.High))
		return
	}
	if p.OutOfRange(v) {
		r.Quality |= value.BeyondRange
		out.Marked = append(out.Marked, Finding{prefix + "/" + escape(key),
			fmt.Sprintf("%s is %s, beyond the model's range (%s); kept and marked", name, p.Say(v), p.RangeWords())})
	}
	r.Metric, r.Value = p.Name, v
	out.Readings = append(out.Readings, r)
}

func (c *Checked) refuse(prefix, key, name, format string, args ...any) {
	c.Refused = append(c.Refused, Finding{prefix + "/" + escape(key),
		value.Clip(name, 40) + " " + fmt.Sprintf(format, args...)})
}

// notStored tells why a property that the model has is no reading here.
func (m *Model) notStored(p *Property, key string, x any, prefix string, out *Checked) {
	switch {
	case p.Role != Telemetry:
		out.refuse(prefix, key, p.Name, "is %s of %s, not telemetry; report it on %s", roleOf(p.Role), m,
			map[Role]string{Attribute: "about", Setting: "applied"}[p.Role])
	case p.Derived != "":
		out.refuse(prefix, key, p.Name, "is computed here as %s; a device does not send it", p.Derived)
	default:
		at := prefix + "/" + escape(key)
		if wrong := p.Schema.Check(x, at); len(wrong) > 0 {
			out.Refused = append(out.Refused, wrong...)
			return
		}
		out.Marked = append(out.Marked, Finding{at,
			p.Name + " is as the model wants it; such values are checked and not stored"})
	}
}

// unnamed takes what has no property of its name: an object whose members have
// properties, or telemetry that the model does not name.
func (m *Model) unnamed(name, key string, x any, prefix string, r value.Reading, out *Checked) {
	if members, ok := x.(map[string]any); ok && m.groups[name] {
		for _, k := range slices.Sorted(maps.Keys(members)) {
			m.field(name+"_"+k, k, members[k], prefix+"/"+escape(key), r, out)
		}
		return
	}
	now, renamed := m.Called(name)
	switch {
	case renamed:
		out.refuse(prefix, key, name, "is called %s in %s; send it under that name", now.Name, m)
		return
	case !m.Additional:
		hint := "add it to the model or stop sending it"
		if near := m.Nearest(name, Telemetry); near != "" {
			hint = "did you mean " + near + "?"
		}
		out.refuse(prefix, key, name, "is not in %s; %s", m, hint)
		return
	case !propertyName.MatchString(name):
		out.refuse(prefix, key, name, "is no name for telemetry; use small letters, digits and underscores")
		return
	}
	v, err := value.FromAny(x)
	if err != nil || !v.Known() || len(v.Text) > MaxText {
		out.refuse(prefix, key, name, "is not a single value")
		return
	}
	r.Metric, r.Value = name, v
	out.Readings = append(out.Readings, r)
}

// Object decodes a JSON object of scalars, such as attributes or settings, and
// checks each member against the properties of one role. Members that do not
// pass are refused with their place; the others are returned.
func (m *Model) Object(body []byte, r Role) (map[string]value.Value, []Finding, error) {
	var fields map[string]any
	if err := json.Unmarshal(body, &fields); err != nil || fields == nil {
		var te *json.UnmarshalTypeError
		if err == nil || errors.As(err, &te) {
			return nil, nil, &Problem{Finding{"", "the message must be a JSON object of values by name"}}
		}
		return nil, nil, notJSON(body, err)
	}
	kept, refused := m.Fields(fields, r)
	return kept, refused, nil
}

// ReportedVersion is the attribute by which a device says which version of its
// model it was built for; every model has it.
const ReportedVersion = "model_version"

// About decodes what a device reports about itself: attributes of the model,
// and ReportedVersion.
func (m *Model) About(body []byte) (map[string]value.Value, []Finding, error) {
	kept, refused, err := m.Object(body, Attribute)
	if err != nil {
		return nil, nil, err
	}
	for i, f := range refused {
		if f.Pointer != "/"+ReportedVersion {
			continue
		}
		var said map[string]json.RawMessage
		var version string
		if json.Unmarshal(body, &said) != nil || json.Unmarshal(said[ReportedVersion], &version) != nil ||
			!semver.MatchString(version) {
			refused[i].Sentence = `model_version is the version of the model that the device was built for, as text like "1.2.0"`
			break
		}
		kept[ReportedVersion] = value.OfText(version)
		refused = slices.Delete(refused, i, i+1)
		break
	}
	return kept, refused, nil
}

// Fields is Object over an already decoded object. Settings outside their
// range are refused; attributes outside theirs are kept.
func (m *Model) Fields(fields map[string]any, r Role) (map[string]value.Value, []Finding) {
	kept := map[string]value.Value{}
	var refused Findings
	for name, x := range fields {
		at := "/" + escape(name)
		p, ok := m.Property(name)
		if !ok || p.Role != r {
			hint := ""
			if near := m.Nearest(name, r); near != "" {
				hint = "; did you mean " + near + "?"
			}
			refused.add(at, "%s has no %s %s%s", m, r, value.Clip(name, 40), hint)
			continue
		}
		v, err := p.Check(x)
		switch {
		case err != nil:
			refused.add(at, "%s %s", name, err)
		case r == Setting && p.OutOfRange(v):
			refused.add(at, "%s is %s; the model allows %s", name, p.Say(v), p.RangeWords())
		default:
			kept[name] = v
		}
	}
	return kept, refused.sorted()
}
