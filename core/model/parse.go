package model

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"ullage/core/unit"
	"ullage/core/value"
)

// MaxSource is the largest model file that is read, in bytes.
const MaxSource = 1 << 20

var (
	modelName    = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)
	propertyName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)
	semver       = regexp.MustCompile(`^(0|[1-9]\d*)\.(0|[1-9]\d*)\.(0|[1-9]\d*)(-[0-9A-Za-z.-]+)?(\+[0-9A-Za-z.-]+)?$`)
)

// file is the part of a Thing Model that Ullage reads. Members it does not
// know are kept in Source and otherwise left alone, as the standard asks.
type file struct {
	Context     any                        `json:"@context"`
	Type        any                        `json:"@type"`
	Title       string                     `json:"title"`
	Description string                     `json:"description"`
	Version     map[string]any             `json:"version"`
	Name        string                     `json:"ullage:name"`
	Interval    string                     `json:"ullage:interval"`
	Additional  bool                       `json:"ullage:additional"`
	Properties  map[string]json.RawMessage `json:"properties"`
	Actions     map[string]json.RawMessage `json:"actions"`
}

type property struct {
	Title       string    `json:"title"`
	Description string    `json:"description"`
	Type        string    `json:"type"`
	Unit        string    `json:"unit"`
	Minimum     *float64  `json:"minimum"`
	Maximum     *float64  `json:"maximum"`
	MinLength   int       `json:"minLength"`
	MaxLength   int       `json:"maxLength"`
	Enum        []any     `json:"enum"`
	Default     any       `json:"default"`
	ReadOnly    bool      `json:"readOnly"`
	Role        Role      `json:"ullage:role"`
	Decimals    *int      `json:"ullage:decimals"`
	Usual       []float64 `json:"ullage:usual"`
	Accept      []float64 `json:"ullage:accept"`
	Held        bool      `json:"ullage:held"`
}

// Parse reads a Thing Model. The error is of type Findings and names every
// place that is wrong.
func Parse(src []byte) (*Model, error) {
	var wrong Findings
	if len(src) > MaxSource {
		return nil, Findings{{"", fmt.Sprintf("the file has %d bytes; a model may have %d", len(src), MaxSource)}}
	}
	if err := wellFormed(src); err != nil {
		return nil, Findings{*err}
	}
	var f file
	if err := json.Unmarshal(src, &f); err != nil {
		return nil, Findings{jsonFinding(src, err)}
	}
	if !isThingModel(f.Type) {
		wrong.add("/@type", `a Thing Model has "@type": "tm:ThingModel"`)
	}
	checkContext(f.Context, &wrong)
	m := &Model{
		Name: f.Name, Title: f.Title, Description: f.Description, Additional: f.Additional,
		Source: json.RawMessage(bytes.Clone(src)), byName: map[string]int{},
	}
	if !modelName.MatchString(f.Name) {
		wrong.add("/ullage:name", "a model is named in small letters, digits and hyphens, like tank-probe; this one is %q", f.Name)
	}
	if f.Title == "" {
		wrong.add("/title", "the title is missing; write what people call this device")
	}
	m.Version, _ = f.Version["model"].(string)
	if !semver.MatchString(m.Version) {
		wrong.add("/version/model", `a model carries a semantic version, like "version": {"model": "1.0.0"}`)
	}
	m.Interval = 5 * time.Minute
	if f.Interval != "" {
		d, err := value.ParseDuration(f.Interval)
		if err != nil || d <= 0 {
			wrong.add("/ullage:interval", "%q is not how long a device may take between readings; write it like 60s or 15min", f.Interval)
		} else {
			m.Interval = d.Std()
		}
	}
	for _, name := range keysInOrder(src, "properties") {
		p := parseProperty(name, f.Properties[name], &wrong)
		m.byName[name] = len(m.Properties)
		m.Properties = append(m.Properties, p)
	}
	for name := range f.Actions {
		if !propertyName.MatchString(name) {
			wrong.add("/actions/"+escape(name), "commands are named in small letters, digits and underscores")
		}
		m.Actions = append(m.Actions, name)
	}
	sort.Strings(m.Actions)
	if len(wrong) > 0 {
		return nil, wrong.sorted()
	}
	return m, nil
}

func parseProperty(name string, raw json.RawMessage, wrong *Findings) Property {
	at := "/properties/" + escape(name)
	p := Property{Name: name, Decimals: -1}
	var f property
	if err := json.Unmarshal(raw, &f); err != nil {
		var te *json.UnmarshalTypeError
		if errors.As(err, &te) && te.Field != "" {
			wrong.add(at+"/"+strings.ReplaceAll(te.Field, ".", "/"), "this is %s; the standard wants %s", te.Value, te.Type)
		} else {
			wrong.add(at, "a property is an object")
		}
		return p
	}
	if !propertyName.MatchString(name) {
		wrong.add(at, "telemetry, attributes and settings are named in small letters, digits and underscores, starting with a letter")
	}
	p.Title, p.Description, p.Unit, p.Held = f.Title, f.Description, f.Unit, f.Held
	p.Min, p.Max, p.MinLength, p.MaxLength = f.Minimum, f.Maximum, f.MinLength, f.MaxLength
	switch f.Role {
	case Telemetry, Attribute, Setting:
		p.Role = f.Role
	case "":
		p.Role = Telemetry
		if !f.ReadOnly {
			p.Role = Setting
		}
	default:
		wrong.add(at+"/ullage:role", "%q is no role; it is telemetry, attribute or setting", f.Role)
	}
	switch f.Type {
	case "number":
		p.Kind = value.Number
	case "integer":
		p.Kind, p.Integer = value.Number, true
	case "string":
		p.Kind = value.Text
	case "boolean":
		p.Kind = value.Bool
	case "":
		wrong.add(at+"/type", "the type is missing; it is number, integer, string or boolean")
	default:
		wrong.add(at+"/type", "type %q cannot be stored yet; number, integer, string and boolean can", f.Type)
	}
	if p.Unit != "" {
		if p.Kind != value.Number {
			wrong.add(at+"/unit", "only numbers have a unit")
		}
		if _, err := unit.Lookup(p.Unit); err != nil {
			wrong.add(at+"/unit", "%s", err)
		}
	}
	if f.Decimals != nil {
		if p.Decimals = *f.Decimals; p.Decimals < 0 || p.Decimals > 15 {
			wrong.add(at+"/ullage:decimals", "a number shows between 0 and 15 decimals, not %d", *f.Decimals)
		}
	}
	if p.Min != nil && p.Max != nil && *p.Min > *p.Max {
		wrong.add(at+"/minimum", "the minimum %g is above the maximum %g", *p.Min, *p.Max)
	}
	p.Usual = span(f.Usual, at+"/ullage:usual", wrong)
	p.Accept = span(f.Accept, at+"/ullage:accept", wrong)
	if p.Accept != nil {
		if p.Min != nil && *p.Min < p.Accept.Low || p.Max != nil && *p.Max > p.Accept.High {
			wrong.add(at+"/ullage:accept", "the accept span must hold everything between minimum and maximum")
		}
	}
	for i, e := range f.Enum {
		s, ok := e.(string)
		if !ok || p.Kind != value.Text {
			wrong.add(fmt.Sprintf("%s/enum/%d", at, i), "an enumeration lists texts")
			continue
		}
		p.Enum = append(p.Enum, s)
	}
	if p.Held && p.Role != Setting {
		wrong.add(at+"/ullage:held", "only a setting can be held by the service")
	}
	if f.Default != nil {
		v, err := p.Check(f.Default)
		switch {
		case err != nil:
			wrong.add(at+"/default", "the default %s", err)
		case p.OutOfRange(v):
			wrong.add(at+"/default", "the default %s is not %s", p.Say(v), p.RangeWords())
		default:
			p.Default = v
		}
	}
	return p
}

func span(s []float64, at string, wrong *Findings) *Span {
	if s == nil {
		return nil
	}
	if len(s) != 2 || s[0] > s[1] {
		wrong.add(at, "a span is two numbers, the lower first, like [24, 29]")
		return nil
	}
	return &Span{s[0], s[1]}
}

func isThingModel(t any) bool {
	switch t := t.(type) {
	case string:
		return t == "tm:ThingModel"
	case []any:
		return slices.Contains(t, any("tm:ThingModel"))
	}
	return false
}

func checkContext(c any, wrong *Findings) {
	const standard = "https://www.w3.org/2022/wot/td/v1.1"
	list, ok := c.([]any)
	if !ok {
		list = []any{c}
	}
	found, prefix := false, false
	for _, x := range list {
		if x == standard {
			found = true
		}
		if o, ok := x.(map[string]any); ok && o["ullage"] == Namespace {
			prefix = true
		}
	}
	if !found {
		wrong.add("/@context", "the context must name %s", standard)
	}
	if !prefix {
		wrong.add("/@context", `the context must bind the prefix: {"ullage": %q}`, Namespace)
	}
}

// wellFormed checks syntax, that no object names a member twice, and depth.
func wellFormed(src []byte) *Finding {
	d := json.NewDecoder(bytes.NewReader(src))
	type level struct {
		keys map[string]bool // nil in an array
		key  string
		want bool // the next token is a key
		n    int
	}
	var stack []level
	path := func() string {
		var b strings.Builder
		for _, l := range stack {
			b.WriteByte('/')
			if l.keys == nil {
				fmt.Fprint(&b, l.n)
			} else {
				b.WriteString(escape(l.key))
			}
		}
		return b.String()
	}
	for {
		t, err := d.Token()
		if err == io.EOF && len(stack) == 0 {
			return nil
		}
		if err != nil {
			f := jsonFinding(src, err)
			f.Pointer = path()
			return &f
		}
		top := len(stack) - 1
		if top >= 0 && stack[top].want {
			if key, ok := t.(string); ok {
				if stack[top].keys[key] {
					stack[top].key = key
					return &Finding{path(), fmt.Sprintf("%q is written twice; one of the two would be lost", key)}
				}
				stack[top].keys[key], stack[top].key, stack[top].want = true, key, false
				continue
			}
		}
		if delim, ok := t.(json.Delim); ok && (delim == '{' || delim == '[') {
			if len(stack) == 32 {
				return &Finding{path(), "the file is nested more than 32 deep"}
			}
			l := level{}
			if delim == '{' {
				l.keys, l.want = map[string]bool{}, true
			}
			stack = append(stack, l)
			continue
		}
		if _, closing := t.(json.Delim); closing {
			stack = stack[:top]
			top--
		}
		if top >= 0 {
			stack[top].n++
			stack[top].want = stack[top].keys != nil
		}
	}
}

func jsonFinding(src []byte, err error) Finding {
	offset := int64(len(src))
	pointer := ""
	sentence := "the file ends too early; a bracket or a quote is not closed"
	var se *json.SyntaxError
	var te *json.UnmarshalTypeError
	switch {
	case errors.As(err, &te):
		offset = te.Offset
		pointer = "/" + strings.ReplaceAll(te.Field, ".", "/")
		sentence = fmt.Sprintf("this is %s; the standard wants %s", te.Value, te.Type)
	case errors.As(err, &se):
		offset, sentence = se.Offset, "this is not JSON: "+se.Error()
	case err != io.EOF && err != io.ErrUnexpectedEOF:
		sentence = "this is not JSON: " + err.Error()
	}
	offset = min(max(offset, 0), int64(len(src)))
	line := bytes.Count(src[:offset], []byte("\n")) + 1
	column := int(offset) - bytes.LastIndexByte(src[:offset], '\n')
	return Finding{pointer, fmt.Sprintf("line %d, column %d: %s", line, column, sentence)}
}

// keysInOrder lists the member names of a top-level object in file order.
func keysInOrder(src []byte, member string) []string {
	d := json.NewDecoder(bytes.NewReader(src))
	if _, err := d.Token(); err != nil {
		return nil
	}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return nil
		}
		if key != member {
			var skip json.RawMessage
			if d.Decode(&skip) != nil {
				return nil
			}
			continue
		}
		if t, err := d.Token(); err != nil || t != json.Delim('{') {
			return nil
		}
		var keys []string
		for d.More() {
			k, err := d.Token()
			var skip json.RawMessage
			if err != nil || d.Decode(&skip) != nil {
				return nil
			}
			keys = append(keys, k.(string))
		}
		return keys
	}
	return nil
}

// escape writes a member name as a JSON pointer segment (RFC 6901 section 3).
func escape(s string) string {
	return strings.ReplaceAll(strings.ReplaceAll(s, "~", "~0"), "/", "~1")
}
