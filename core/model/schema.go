package model

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math"
	"net/netip"
	"net/url"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"ullage/core/unit"
	"ullage/core/value"
)

// Schema is a data schema (W3C WoT TD 1.1, section 5.3.2): what a value may be.
// What is not given does not bind.
type Schema struct {
	Title, Description string
	Type               string // boolean, integer, number, string, object, array, null, or empty for any
	Unit               string
	Const              any // as encoding/json decodes it; nil for none
	Default            any
	Enum               []any
	OneOf              []*Schema
	Minimum, Maximum   *float64
	Above, Below       *float64 // exclusiveMinimum, exclusiveMaximum
	MultipleOf         *float64
	MinLength          int
	MaxLength          int // 0 where not given, as are those below
	Pattern            *regexp.Regexp
	Format             string
	Encoding           string // contentEncoding, such as base64
	Media              string // contentMediaType
	Items              []*Schema
	Each               bool // Items has one schema, for every item
	MinItems, MaxItems int
	Fields             []Field
	Required           []string
	ReadOnly           bool
	WriteOnly          bool
}

// Field is a member of an object, in the order of the file.
type Field struct {
	Name   string
	Schema *Schema
}

// schemaOf reads a data schema that was judged sound.
func schemaOf(n *node) *Schema {
	if n == nil || n.kind != '{' {
		return nil
	}
	s := &Schema{}
	for i, key := range n.keys {
		v := n.kids[i]
		switch key {
		case "title":
			s.Title = v.text
		case "description":
			s.Description = v.text
		case "type":
			s.Type = v.text
		case "unit":
			s.Unit = v.text
		case "const":
			s.Const = v.any()
		case "default":
			s.Default = v.any()
		case "enum":
			s.Enum, _ = v.any().([]any)
		case "oneOf":
			for _, k := range v.kids {
				s.OneOf = append(s.OneOf, schemaOf(k))
			}
		case "minimum":
			s.Minimum = v.number()
		case "maximum":
			s.Maximum = v.number()
		case "exclusiveMinimum":
			s.Above = v.number()
		case "exclusiveMaximum":
			s.Below = v.number()
		case "multipleOf":
			s.MultipleOf = v.number()
		case "minLength":
			s.MinLength = int(v.num)
		case "maxLength":
			s.MaxLength = int(v.num)
		case "minItems":
			s.MinItems = int(v.num)
		case "maxItems":
			s.MaxItems = int(v.num)
		case "pattern":
			s.Pattern, _ = regexp.Compile(v.text)
		case "format":
			s.Format = v.text
		case "contentEncoding":
			s.Encoding = v.text
		case "contentMediaType":
			s.Media = v.text
		case "items":
			if s.Each = v.kind == '{'; s.Each {
				s.Items = []*Schema{schemaOf(v)}
				break
			}
			for _, k := range v.kids {
				s.Items = append(s.Items, schemaOf(k))
			}
		case "properties":
			for j, k := range v.keys {
				s.Fields = append(s.Fields, Field{k, schemaOf(v.kids[j])})
			}
		case "required":
			s.Required = texts(v)
		case "readOnly":
			s.ReadOnly = v.yes
		case "writeOnly":
			s.WriteOnly = v.yes
		}
	}
	return s
}

func (n *node) number() *float64 {
	if n.kind != '0' {
		return nil // left open, to be filled in later
	}
	return &n.num
}

// Check holds a decoded JSON value against s and returns every place that does
// not fit; at is the pointer of x.
func (s *Schema) Check(x any, at string) Findings {
	var wrong Findings
	s.check(x, at, &wrong)
	return wrong
}

func (s *Schema) check(x any, at string, wrong *Findings) {
	if s == nil {
		return
	}
	if !s.typed(x) {
		wrong.add(at, "this is %s; the model wants %s", sayKind(x), s.words())
		return
	}
	if s.Const != nil && !reflect.DeepEqual(s.Const, x) {
		wrong.add(at, "this is %s; the model wants %s and nothing else", say1(x), say1(s.Const))
	}
	if len(s.Enum) > 0 && !slices.ContainsFunc(s.Enum, func(e any) bool { return reflect.DeepEqual(e, x) }) {
		wrong.add(at, "this is %s; the model wants %s", say1(x), s.words())
	}
	if len(s.OneOf) > 0 {
		fit := 0
		for _, o := range s.OneOf {
			if len(o.Check(x, at)) == 0 {
				fit++
			}
		}
		if fit != 1 {
			wrong.add(at, "this fits %s of the %d forms that the model allows; it must fit one", count(fit),
				len(s.OneOf))
		}
	}
	switch x := x.(type) {
	case float64:
		s.number(x, at, wrong)
	case string:
		s.text(x, at, wrong)
	case []any:
		if len(x) < s.MinItems || s.MaxItems > 0 && len(x) > s.MaxItems {
			wrong.add(at, "this has %d items; the model wants %s", len(x), between(s.MinItems, s.MaxItems))
		}
		for i, item := range x {
			switch {
			case s.Each:
				s.Items[0].check(item, fmt.Sprintf("%s/%d", at, i), wrong)
			case i < len(s.Items):
				s.Items[i].check(item, fmt.Sprintf("%s/%d", at, i), wrong)
			}
		}
	case map[string]any:
		for _, name := range s.Required {
			if _, ok := x[name]; !ok {
				wrong.add(at, "%s is missing", name)
			}
		}
		for _, f := range s.Fields {
			if v, ok := x[f.Name]; ok {
				f.Schema.check(v, at+"/"+escape(f.Name), wrong)
			}
		}
		if len(s.Fields) > 0 {
			names := make([]string, 0, len(x))
			for name := range x {
				names = append(names, name)
			}
			slices.Sort(names)
			for _, name := range names {
				if s.field(name) == nil {
					hint := ""
					if near := value.Nearest(name, s.fieldNames()); near != "" {
						hint = "; did you mean " + near + "?"
					}
					wrong.add(at+"/"+escape(name), "the model knows no %s here%s", value.Clip(name, 40), hint)
				}
			}
		}
	}
}

func (s *Schema) field(name string) *Schema {
	for _, f := range s.Fields {
		if f.Name == name {
			return f.Schema
		}
	}
	return nil
}

func (s *Schema) fieldNames() []string {
	var out []string
	for _, f := range s.Fields {
		out = append(out, f.Name)
	}
	return out
}

func (s *Schema) typed(x any) bool {
	switch s.Type {
	case "boolean":
		_, ok := x.(bool)
		return ok
	case "number":
		_, ok := x.(float64)
		return ok
	case "integer":
		f, ok := x.(float64)
		return ok && f == math.Trunc(f)
	case "string":
		_, ok := x.(string)
		return ok
	case "object":
		_, ok := x.(map[string]any)
		return ok
	case "array":
		_, ok := x.([]any)
		return ok
	case "null":
		return x == nil
	}
	return true
}

// beyond reports whether a number lies outside what s allows.
func (s *Schema) beyond(x float64) bool {
	return s.Minimum != nil && x < *s.Minimum || s.Maximum != nil && x > *s.Maximum ||
		s.Above != nil && x <= *s.Above || s.Below != nil && x >= *s.Below ||
		s.MultipleOf != nil && !multiple(x, *s.MultipleOf)
}

// multiple allows for what a decimal loses as a 64-bit float: 0.3 is a
// multiple of 0.1.
func multiple(x, step float64) bool {
	n := x / step
	return math.Abs(n-math.Round(n)) <= 1e-9*max(1, math.Abs(n))
}

func (s *Schema) number(x float64, at string, wrong *Findings) {
	if s.beyond(x) {
		wrong.add(at, "this is %s; the model wants %s", num(x), s.words())
	}
}

func (s *Schema) text(x, at string, wrong *Findings) {
	if n := utf8.RuneCountInString(x); n < s.MinLength || s.MaxLength > 0 && n > s.MaxLength {
		wrong.add(at, "this text has %d characters; the model wants %s", n, between(s.MinLength, s.MaxLength))
	}
	if s.Pattern != nil && !s.Pattern.MatchString(x) {
		wrong.add(at, "%q does not match the pattern %s", value.Clip(x, 40), s.Pattern)
	}
	if !wellFormatted(s.Format, x) {
		wrong.add(at, "%q is no %s", value.Clip(x, 40), s.Format)
	}
	if !encoded(s.Encoding, x) {
		wrong.add(at, "this text is not %s", s.Encoding)
	}
}

// wellFormatted checks the formats of JSON Schema that say something about a
// device's texts; others do not bind.
func wellFormatted(format, x string) bool {
	var err error
	switch format {
	case "date-time":
		_, err = time.Parse(time.RFC3339Nano, x)
	case "date":
		_, err = time.Parse(time.DateOnly, x)
	case "time":
		_, err = time.Parse("15:04:05.999999999Z07:00", x)
	case "email":
		return mailbox.MatchString(x)
	case "ipv4":
		a, e := netip.ParseAddr(x)
		return e == nil && a.Is4()
	case "ipv6":
		a, e := netip.ParseAddr(x)
		return e == nil && a.Is6()
	case "uri":
		u, e := url.Parse(x)
		return e == nil && u.IsAbs()
	case "uri-reference":
		_, err = url.Parse(x)
	case "uuid":
		return uuid.MatchString(x)
	}
	return err == nil
}

var mailbox = regexp.MustCompile(`^[^@\s]+@[^@\s]+$`)

var uuid = regexp.MustCompile(`^[0-9a-fA-F]{8}-([0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}$`)

// encoded checks the encodings of RFC 4648 by their names in JSON Schema.
func encoded(encoding, x string) bool {
	var err error
	switch encoding {
	case "base64":
		_, err = base64.StdEncoding.DecodeString(x)
	case "base64url":
		_, err = base64.RawURLEncoding.DecodeString(strings.TrimRight(x, "="))
	case "base16", "hex":
		_, err = hex.DecodeString(x)
	}
	return err == nil
}

// words says what s wants: "a number from 0 to 100 %", "one of auto, on, off".
func (s *Schema) words() string {
	if len(s.Enum) > 0 {
		var all []string
		for _, e := range s.Enum {
			all = append(all, fmt.Sprint(e))
		}
		return "one of " + strings.Join(all, ", ")
	}
	what := map[string]string{"boolean": "true or false", "integer": "a whole number", "number": "a number",
		"string": "text", "object": "an object", "array": "a list", "null": "null"}[s.Type]
	if what == "" {
		what = "a value"
	}
	u := unit.Display(s.Unit)
	if u != "" {
		u = " " + u
	}
	switch {
	case s.Minimum != nil && s.Maximum != nil:
		what += fmt.Sprintf(" from %s to %s%s", num(*s.Minimum), num(*s.Maximum), u)
	case s.Minimum != nil:
		what += fmt.Sprintf(", at least %s%s", num(*s.Minimum), u)
	case s.Maximum != nil:
		what += fmt.Sprintf(", at most %s%s", num(*s.Maximum), u)
	case u != "":
		what += " in" + u
	}
	if s.Above != nil {
		what += " above " + num(*s.Above)
	}
	if s.Below != nil {
		what += " below " + num(*s.Below)
	}
	if s.MultipleOf != nil {
		what += " in steps of " + num(*s.MultipleOf)
	}
	if s.MaxLength > 0 || s.MinLength > 0 {
		what += " of " + between(s.MinLength, s.MaxLength) + " characters"
	}
	return what
}

// Words says what a value of s is, for people: "a number from 0 to 400 cm".
func (s *Schema) Words() string {
	if s == nil {
		return "nothing"
	}
	return s.words()
}

func between(low, high int) string {
	switch {
	case high == 0:
		return fmt.Sprintf("at least %d", low)
	case low == high:
		return fmt.Sprint(low)
	}
	return fmt.Sprintf("%d to %d", low, high)
}

func count(n int) string {
	if n == 0 {
		return "none"
	}
	return fmt.Sprint(n)
}

func sayKind(x any) string {
	switch x := x.(type) {
	case string:
		return fmt.Sprintf("text (%q)", value.Clip(x, 40))
	case float64:
		return "the number " + num(x)
	}
	return value.JSONKind(x)
}

func say1(x any) string {
	switch x := x.(type) {
	case string:
		return fmt.Sprintf("%q", value.Clip(x, 40))
	case float64:
		return num(x)
	case bool:
		return fmt.Sprint(x)
	}
	return value.JSONKind(x)
}
