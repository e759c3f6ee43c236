package model

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"ullage/core/value"
)

// Example returns a sane value of p: the middle of its usual range or of what
// is allowed, rounded to its decimals; the first word of an enumeration.
func (p *Property) Example() value.Value {
	switch {
	case p.Default.Known():
		return p.Default
	case p.Schema != nil && p.Schema.Const != nil:
		v, _ := value.FromAny(p.Schema.Const)
		return v
	case p.Schema != nil && len(p.Schema.Enum) > 0:
		v, _ := value.FromAny(p.Schema.Enum[0])
		return v
	}
	switch p.Kind {
	case value.Bool:
		return value.OfBool(false)
	case value.Text:
		return value.OfText(p.text())
	case value.Number:
		return value.OfNumber(p.At(0.5))
	}
	return value.Value{}
}

// At returns the number that lies at a fraction, 0 to 1, of the usual range of
// p, or of what is allowed where nothing is usual, as p writes it.
func (p *Property) At(fraction float64) float64 {
	low, high := 0.0, 100.0
	if usual, ok := plausible[p.Unit]; ok {
		low, high = usual[0], usual[1]
	}
	s := p.Schema
	if s == nil {
		s = &Schema{}
	}
	for _, x := range []*float64{p.Min, s.Above} {
		if x != nil {
			low = *x
			high = max(high, low+1)
		}
	}
	for _, x := range []*float64{p.Max, s.Below} {
		if x != nil {
			high = *x
			if p.Min == nil && s.Above == nil {
				low = min(low, high-1)
			}
		}
	}
	if p.Usual != nil {
		low, high = p.Usual.Low, p.Usual.High
	}
	v := low + fraction*(high-low)
	step := 0.0
	switch {
	case s.MultipleOf != nil:
		step = *s.MultipleOf
	case p.Integer:
		step = 1
	case p.Decimals >= 0:
		step = math.Pow(10, -float64(p.Decimals))
	default:
		step = 0.01
	}
	r := math.Round(v/step) * step
	if r < low {
		r += step
	}
	if r > high {
		r -= step
	}
	// Away what multiplying by a decimal leaves behind.
	r, _ = strconv.ParseFloat(strconv.FormatFloat(r, 'g', 12, 64), 64)
	return r
}

// text is a text that p allows, as far as its format tells.
func (p *Property) text() string {
	out := "text"
	if p.Schema != nil {
		switch p.Schema.Format {
		case "date-time":
			out = "2026-03-01T10:00:00Z"
		case "date":
			out = "2026-03-01"
		case "time":
			out = "10:00:00Z"
		case "ipv4":
			out = "192.0.2.7"
		case "ipv6":
			out = "2001:db8::7"
		case "uri":
			out = "https://tarn-hollow.example/"
		case "email":
			out = "cellar@tarn-hollow.example"
		case "uuid":
			out = "6f1c4e2a-93b0-4d6e-8a11-0c5d2b7e9f34"
		}
		if p.Schema.Encoding != "" {
			return "3q2+7w=="
		}
	}
	for len(out) < p.MinLength {
		out += "…"
	}
	if p.MaxLength > 0 {
		if r := []rune(out); len(r) > p.MaxLength {
			out = string(r[:p.MaxLength])
		}
	}
	return out
}

// Examples are payloads that a device of some model may send and get.
type Examples struct {
	// Readings is a message of readings as a flat object, Timed one with its
	// time, Pack the same as SenML (RFC 8428).
	Readings json.RawMessage `json:"readings"`
	Timed    json.RawMessage `json:"timed"`
	Pack     json.RawMessage `json:"senml"`
	// About is what a device reports about itself, Intended the settings it is
	// sent, and Applied its answer.
	About    json.RawMessage `json:"about,omitempty"`
	Intended json.RawMessage `json:"intended,omitempty"`
	Applied  json.RawMessage `json:"applied,omitempty"`
	// Commands are inputs by the name of the command, Events what goes with each
	// event by its name, and Reply what a device answers to a command.
	Commands map[string]json.RawMessage `json:"commands,omitempty"`
	Events   map[string]json.RawMessage `json:"events,omitempty"`
	Reply    json.RawMessage            `json:"reply,omitempty"`
}

// ExampleID stands in examples for the id of a command.
const ExampleID = "01KJM0Q3W5T7V9X1Z3B5D7F9H1"

// Examples returns payloads for a device, as of some moment.
func (m *Model) Examples(device string, at time.Time) Examples {
	stamp := at.UTC().Format("2006-01-02T15:04:05Z")
	readings := m.nested(Telemetry)
	timed := object()
	timed.set("at", textNode(stamp))
	for i, name := range readings.keys {
		timed.set(name, readings.kids[i])
	}
	x := Examples{Readings: readings.json(false), Timed: timed.json(false), Pack: m.pack(device, at),
		Commands: map[string]json.RawMessage{}}
	if about := m.nested(Attribute); len(about.keys) > 0 {
		x.About = about.json(false)
	}
	if len(m.Defaults(false)) > 0 || len(m.nested(Setting).keys) > 0 {
		settings := object()
		for _, p := range m.With(Setting) {
			if !p.KeptByService && p.Stored() {
				settings.set(p.Name, valueNode(p.Example()))
			}
		}
		if len(settings.keys) > 0 {
			document := func(member string) json.RawMessage {
				doc := object()
				doc.set("revision", &node{kind: '0', text: "1", num: 1})
				doc.set(member, settings)
				return doc.json(false)
			}
			x.Intended, x.Applied = document("intended"), document("applied")
		}
	}
	for _, a := range m.Actions {
		if v := a.Input.Example(); v != nil {
			if b, err := json.Marshal(v); err == nil {
				x.Commands[a.Name] = b
			}
		} else {
			x.Commands[a.Name] = json.RawMessage("{}")
		}
	}
	if len(m.Actions) > 0 {
		x.Reply = json.RawMessage(`{"id":"` + ExampleID + `"}`)
		if out := m.Actions[0].Output.Example(); out != nil {
			if b, err := json.Marshal(out); err == nil {
				x.Reply = json.RawMessage(`{"id":"` + ExampleID + `","output":` + string(b) + `}`)
			}
		}
	}
	for _, e := range m.Events {
		if x.Events == nil {
			x.Events = map[string]json.RawMessage{}
		}
		x.Events[e.Name] = json.RawMessage("{}")
		if v := e.Data.Example(); v != nil {
			if b, err := json.Marshal(v); err == nil {
				x.Events[e.Name] = b
			}
		}
	}
	return x
}

// nested returns example values of one role, members inside their objects.
func (m *Model) nested(r Role) *node {
	out := object()
	for i := range m.Properties {
		p := &m.Properties[i]
		if p.Role != r || !p.Stored() || p.Derived != "" || p.KeptByService {
			continue
		}
		in := out
		for _, step := range p.Path[:len(p.Path)-1] {
			if in.get(step) == nil {
				in.set(step, object())
			}
			in = in.get(step)
		}
		in.set(p.Path[len(p.Path)-1], valueNode(p.Example()))
	}
	return out
}

func valueNode(v value.Value) *node {
	switch v.Kind {
	case value.Number:
		return &node{kind: '0', text: num(v.Num), num: v.Num}
	case value.Bool:
		return &node{kind: 't', yes: v.Bool()}
	case value.Text:
		return textNode(v.Text)
	}
	return &node{kind: 'n'}
}

// pack writes the example readings as a SenML pack (RFC 8428, section 5).
func (m *Model) pack(device string, at time.Time) json.RawMessage {
	var records []string
	for i := range m.Properties {
		p := &m.Properties[i]
		if p.Role != Telemetry || !p.Stored() || p.Derived != "" {
			continue
		}
		var b strings.Builder
		b.WriteByte('{')
		if len(records) == 0 {
			fmt.Fprintf(&b, `"bn":%q,"bt":%d,`, device+"/", at.Unix())
		}
		fmt.Fprintf(&b, `"n":%q,`, p.Name)
		if p.Unit != "" {
			fmt.Fprintf(&b, `"u":%q,`, p.Unit)
		}
		key := map[value.Kind]string{value.Number: "v", value.Text: "vs", value.Bool: "vb"}[p.Kind]
		fmt.Fprintf(&b, `%q:%s}`, key, valueNode(p.Example()).json(false))
		records = append(records, b.String())
	}
	return json.RawMessage("[" + strings.Join(records, ",") + "]")
}

// Example returns a value that s allows, as encoding/json would have decoded
// it; nil where nothing is asked for.
func (s *Schema) Example() any {
	if s == nil {
		return nil
	}
	switch {
	case s.Default != nil:
		return s.Default
	case s.Const != nil:
		return s.Const
	case len(s.Enum) > 0:
		return s.Enum[0]
	case len(s.OneOf) > 0:
		return s.OneOf[0].Example()
	}
	p := Property{Schema: s, Min: s.Minimum, Max: s.Maximum, MinLength: s.MinLength, MaxLength: s.MaxLength,
		Decimals: -1, Integer: s.Type == "integer"}
	switch s.Type {
	case "number", "integer":
		return p.At(0.5)
	case "string":
		return p.text()
	case "boolean":
		return true
	case "object":
		out := map[string]any{}
		for _, f := range s.Fields {
			out[f.Name] = f.Schema.Example()
		}
		return out
	case "array":
		out := []any{}
		for i := 0; i < max(s.MinItems, 1) && len(s.Items) > 0; i++ {
			out = append(out, s.Items[min(i, len(s.Items)-1)].Example())
		}
		return out
	}
	return nil
}

// FromMessage makes a Thing Model of a message: a property for each value, of
// the type it has there, and guesses of unit and decimals where the name tells.
// The result is a beginning to be edited. Name is what the model is called.
func FromMessage(body []byte, name string) ([]byte, error) {
	if !modelName.MatchString(name) {
		return nil,
			Findings{{"", fmt.Sprintf("%q is no name for a model; use small letters, digits and hyphens, like tank-probe", value.Clip(name, 40))}}
	}
	n, bad := read(bytes.TrimSpace(body))
	if bad != nil {
		return nil, Findings{{bad.Pointer, "the message cannot be read: " + bad.Sentence}}
	}
	props := object()
	var wrong Findings
	collect(n, "", props, &wrong)
	if len(props.keys) == 0 {
		wrong.add("", "there is no value in this message to make a property of; paste what a device sends, like {\"must_temp\":21.4}")
		return nil, wrong
	}
	out := object()
	out.set("@context", list(textNode(standard), pairs("ullage", Namespace)))
	out.set("@type", textNode("tm:ThingModel"))
	out.set("title", textNode(strings.ToUpper(name[:1])+strings.ReplaceAll(name[1:], "-", " ")))
	out.set("version", pairs("model", "0.1.0"))
	out.set("ullage:name", textNode(name))
	out.set("ullage:interval", textNode("5min"))
	out.set("properties", props)
	return out.json(true), nil
}

// collect finds the values of a message in any of the forms that are taken.
func collect(n *node, at string, props *node, wrong *Findings) {
	switch n.kind {
	case '[':
		for i, k := range n.kids {
			collect(k, fmt.Sprintf("%s/%d", at, i), props, wrong)
		}
	case '{':
		if name := n.str("n"); name != "" { // a SenML record
			for _, k := range []string{"v", "vs", "vb"} {
				if v := n.get(k); v != nil {
					collectOne(name, n.str("u"), v, props)
				}
			}
			return
		}
		for i, k := range n.keys {
			if k == memberAt || k == memberEvery {
				continue
			}
			v := n.kids[i]
			if v.kind == '[' { // a column
				for _, x := range v.kids {
					collectOne(k, "", x, props)
				}
				continue
			}
			collectOne(k, "", v, props)
		}
	}
}

func collectOne(key, unit string, v *node, props *node) {
	name := propertyNameOf(key)
	if name == "" || v.kind == 'n' {
		return
	}
	p := object()
	p.set("title", textNode(strings.ToUpper(name[:1])+strings.ReplaceAll(name[1:], "_", " ")))
	switch v.kind {
	case '0':
		p.set("type", textNode("number"))
		if unit == "" {
			unit = unitOf(name)
		}
		if unit != "" {
			p.set("unit", textNode(unit))
		}
		_, fraction, _ := strings.Cut(v.text, ".")
		if most, ok := positions[unit]; ok {
			p.set("minimum", &node{kind: '0', text: num(-most), num: -most})
			p.set("maximum", &node{kind: '0', text: num(most), num: most})
			fraction = strings.Repeat("0", max(len(fraction), positionDecimals))
		}
		if old := props.get(name).get("ullage:decimals"); old != nil && int(old.num) > len(fraction) {
			p.set("ullage:decimals", old)
		} else {
			p.set("ullage:decimals", &node{kind: '0', text: strconv.Itoa(min(len(fraction), 15)),
				num: float64(len(fraction))})
		}
	case '"':
		p.set("type", textNode("string"))
	case 't':
		p.set("type", textNode("boolean"))
	case '{':
		p.set("type", textNode("object"))
		inner := object()
		for i, k := range v.keys {
			collectOne(k, "", v.kids[i], inner)
		}
		p.set("properties", inner)
		if all := union(nil, inner.keys); all != nil {
			p.set("required", all)
		}
	default:
		p.set("type", textNode("array"))
	}
	p.set("readOnly", &node{kind: 't', yes: true})
	p.set("ullage:role", textNode("telemetry"))
	props.set(name, p)
}

// positions are the units of positions on the earth, with how far they go.
var positions = map[string]float64{"lat": 90, "lon": 180}

// positionDecimals are those that a position has at least, whatever the one that
// was seen ended with: a tenth of a metre.
const positionDecimals = 6

// plausible is what a number of a unit usually is, where a model does not say.
var plausible = map[string][2]float64{"lat": {-90, 90}, "lon": {-180, 180}, "dBm": {-120, -40}, "Cel": {0, 40},
	"K": {273, 313}, "degF": {32, 104}, "%": {0, 100}, "%RH": {0, 100}, "V": {0, 5}, "A": {0, 2}, "ppm": {400, 1200},
	"hPa": {980, 1040}, "kPa": {0, 200}, "kg": {0, 1000}, "g/L": {900, 1100}, "lx": {0, 1000}}

// propertyNameOf keeps a name that may stand and mends one that may not.
func propertyNameOf(key string) string {
	if anyName.MatchString(key) {
		return key
	}
	return strings.Trim(strings.ReplaceAll(slug(key), "-", "_"), "_")
}

// unitOf guesses a unit from how people name things.
func unitOf(name string) string {
	words := strings.Split(strings.ToLower(name), "_")
	last := words[len(words)-1]
	for _, w := range []struct {
		words, unit string
	}{
		{"temp temperature cel celsius", "Cel"}, {"rh humidity", "%RH"}, {"volt volts voltage battery", "V"}, {"current amps", "A"},
		{"co2 ppm", "ppm"}, {"rssi dbm", "dBm"}, {"kpa", "kPa"}, {"hpa pressure", "hPa"}, {"cm", "cm"}, {"mm", "mm"}, {"kg load weight", "kg"},
		{"lat latitude", "lat"}, {"lon lng long longitude", "lon"}, {"uptime seconds", "s"}, {"percent pct", "%"}, {"lux", "lx"}, {"density", "g/L"}, {"flow", "L/min"},
	} {
		if strings.Contains(" "+w.words+" ", " "+last+" ") {
			return w.unit
		}
	}
	return ""
}
