package expr

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ullage/core/unit"
	"ullage/core/value"
)

// Kind is the type of a value, apart from its unit.
type Kind uint8

// The kinds. A version is made by version(), a time by now(), time() and
// device.joined.
const (
	NoKind Kind = iota // of what could not be typed; it is compatible with everything
	Bool
	Number
	Text
	Time
	Version
)

// String returns the word for k.
func (k Kind) String() string {
	switch k {
	case Bool:
		return "true or false"
	case Number:
		return "a number"
	case Text:
		return "text"
	case Time:
		return "a time"
	case Version:
		return "a version"
	}
	return "nothing"
}

// Type is the type of a value: its kind and, for numbers, its unit.
type Type struct {
	Kind Kind
	Unit unit.Unit
	// bare: a number that takes the unit of what it meets.
	bare bool
	// derived: the unit was computed, so nobody can know what a bare number
	// beside it is meant to be in.
	derived bool
}

func numberIn(u unit.Unit) Type { return Type{Kind: Number, Unit: u} }

var plainNumber = numberIn(unit.One)

func durationType() Type {
	u, _ := unit.Lookup("s")
	return Type{Kind: Number, Unit: u, derived: true}
}

// Bare reports whether t is a number as it was written, without a unit: it
// takes that of what it meets.
func (t Type) Bare() bool { return t.bare }

// String names t as in messages: "a number in °C".
func (t Type) String() string {
	switch {
	case t.Kind != Number || t.bare:
		return t.Kind.String()
	case t.Unit.Scale:
		return "a " + t.Unit.Dimension.String() + " in " + t.Unit.Name()
	case t.Unit.Dimension == unit.Dimension{unit.Temperature: 1}, t.Unit.Dimension == unit.Dimension{unit.Level: 1}:
		return "a difference of " + t.Unit.Dimension.String() + "s in " + t.Unit.Name()
	case t.Unit.Dimension == unit.Dimension{}:
		if t.Unit.Display() != "" {
			return "a number in " + t.Unit.Display()
		}
		return "a plain number"
	}
	return t.Unit.Dimension.String() + " in " + t.Unit.Name()
}

// Info is what a Schema knows of one name.
type Info struct {
	Name  Name
	Type  Type
	Title string // for people
	// Values are the texts it can have; Closed says that there are no others.
	Values []string
	Closed bool
	// Usual is where a number lives on a good day; nil where that is not known.
	Usual *float64
	// Low and High are between what a number can be; nil where that is not known.
	Low, High *float64
	// Decimals after the point, for messages; -1 where not given.
	Decimals int
	// Absent names are known elsewhere, but not here: their value is unknown.
	Absent bool
}

// Purpose says what an expression is for, and so what may stand in it.
type Purpose uint8

// The purposes.
const (
	// ForFilter: a condition over a device's present values, without windows.
	ForFilter Purpose = iota
	// ForRule: with windows over the device's own readings.
	ForRule
	// ForGroup: a rule with each; share() and the like stand over the group.
	ForGroup
	// ForTarget: what a layer or a rule applies to; labels, attributes and
	// device facts that do not change by themselves.
	ForTarget
	// ForLayer: as ForTarget, and whether alarms are raised, and the hours of the week.
	ForLayer
	// ForAccess: what a person reaches; labels, device.id and device.model. A label
	// that a device lacks is unknown there, so that no comparison with it is true,
	// whichever way it is written.
	ForAccess
	// ForMessage: any value, to be shown.
	ForMessage
	// ForGroupMessage: any value of a group, to be shown.
	ForGroupMessage
	// ForDerived: telemetry computed from present values of the same device.
	ForDerived
)

// PurposeOf reads the word for a purpose; "" is a filter.
func PurposeOf(word string) (Purpose, error) {
	switch word {
	case "", "filter":
		return ForFilter, nil
	case "rule":
		return ForRule, nil
	case "group":
		return ForGroup, nil
	case "target":
		return ForTarget, nil
	case "layer":
		return ForLayer, nil
	case "access":
		return ForAccess, nil
	case "value":
		return ForMessage, nil
	case "derived":
		return ForDerived, nil
	}
	return 0, fmt.Errorf("%q is no purpose; it is filter, rule, group, target, access, value or derived", word)
}

// Schema is what expressions know of a device type: names with their types.
type Schema struct {
	Title    string        // as in messages: "tank-probe 1.2.0"
	Interval time.Duration // expected between readings; 0 where not known
	Each     string        // key of the label by which devices are grouped, in rules with each
	names    map[Name]Info
	plain    bool // of a record: bare names are fields of it, and no metrics
	order    []Name
	was      map[string]string // metrics by a name that they had in a version before
}

// Renamed tells what a metric was called before, so that an expression that still
// calls it so can be told the name it has now.
func (s *Schema) Renamed(was, is string) {
	if s.was == nil {
		s.was = map[string]string{}
	}
	s.was[was] = is
}

// NewPlainSchema returns a Schema that knows no names: of a record that is no
// device.
func NewPlainSchema(title string) *Schema {
	return &Schema{Title: title, plain: true, names: map[Name]Info{}}
}

// NewSchema returns a Schema that knows the facts of every device.
func NewSchema(title string, interval time.Duration) *Schema {
	s := &Schema{Title: title, Interval: interval, names: map[Name]Info{}}
	for _, d := range []struct {
		key, title string
		values     []string
		kind       Kind
	}{
		{"id", "Id", nil, Text},
		{"name", "Name", nil, Text},
		{"hub", "Hub that carries it", nil, Text},
		{"model", "Model", nil, Text},
		{"model_version", "Version of the model", nil, Text},
		{"link", "Link", []string{"online", "overdue", "silent", "never"}, Text},
		{"settings", "How far it is with its settings", []string{"applied", "pending", "refused", "drift"}, Text},
		{"status", "Status", []string{"expected", "active", "suspended", "retired"}, Text},
		{"joined", "Joined", nil, Time},
		{"zone", "Time zone", nil, Text},
	} {
		s.Add(Info{Name: Name{"device", d.key}, Type: Type{Kind: d.kind}, Title: d.title, Values: d.values,
			Closed: d.values != nil, Decimals: -1})
	}
	return s
}

// Add makes a name known, or replaces it. The unit of a number without one is
// that of plain numbers.
func (s *Schema) Add(i Info) {
	if i.Type.Kind == Number && i.Type.Unit.Symbol == "" {
		i.Type.Unit = unit.One
	}
	if _, ok := s.names[i.Name]; !ok {
		s.order = append(s.order, i.Name)
	}
	s.names[i.Name] = i
}

// Find returns what is known of a name. Every label is known: one that nobody
// has given is empty.
func (s *Schema) Find(n Name) (Info, bool) {
	i, ok := s.names[n]
	if !ok && n.Scope == "label" {
		return Info{Name: n, Type: Type{Kind: Text}, Decimals: -1}, true
	}
	return i, ok
}

// All returns everything that is known, in the order it was added.
func (s *Schema) All() []Info {
	out := make([]Info, 0, len(s.order))
	for _, n := range s.order {
		out = append(out, s.names[n])
	}
	return out
}

// Labelled makes label keys known, with the values seen so far.
func (s *Schema) Labelled(labels map[string][]string) {
	keys := make([]string, 0, len(labels))
	for k := range labels {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		s.Add(Info{Name: Name{"label", k}, Type: Type{Kind: Text}, Values: labels[k], Decimals: -1})
	}
}

// Borrow takes over from another Schema the names that s lacks; on the devices
// of s they are unknown.
func (s *Schema) Borrow(from *Schema) {
	for _, n := range from.order {
		if _, ok := s.names[n]; !ok {
			i := from.names[n]
			i.Absent = true
			s.Add(i)
		}
	}
}

// unquoted looks for names that have to stand in value("…") and do not, such as
// Must-Temp, which reads as a difference. What was found wrong within one is
// replaced by that.
func (s *Schema) unquoted(src string, found Findings) Findings {
	if len(found) == 0 {
		return found
	}
	for _, n := range s.order {
		if n.Scope != "" || plainName(n.Key) || n.Key == "" {
			continue
		}
		for at := 0; at < len(src); {
			i := strings.Index(src[at:], n.Key)
			if i < 0 {
				break
			}
			from, to := at+i, at+i+len(n.Key)
			at = to
			inside := strings.Count(src[:from], `"`)%2 == 1
			part := from > 0 && wordByte(src[from-1]) || to < len(src) && wordByte(src[to])
			if inside || part {
				continue
			}
			rest := found[:0:0]
			for _, f := range found {
				if f.Span.Start < from || f.Span.Start > to || f.Span.Start == to && f.Span.End > to {
					rest = append(rest, f)
				}
			}
			if len(rest) == len(found) {
				continue // nothing is wrong with it
			}
			suggest := "value(" + quote(n.Key) + ")"
			found = append(rest, Finding{Span: Span{from, to}, Suggest: suggest,
				Sentence: fmt.Sprintf("a name with other signs than a to z, 0 to 9 and _ stands as %s", clip(suggest))})
		}
	}
	return found
}

// plainName reports whether a name can stand as it is.
func plainName(s string) bool {
	for i := 0; i < len(s); i++ {
		if !wordByte(s[i]) {
			return false
		}
	}
	return s != "" && (s[0] < '0' || s[0] > '9') && !keywords[s]
}

// nearest returns the known name of a scope that is closest to key, or "".
func (s *Schema) nearest(scope, key string) string {
	var names []string
	for _, n := range s.order {
		if n.Scope == scope && !s.names[n].Absent {
			names = append(names, n.Key)
		}
	}
	return value.Nearest(key, names)
}
