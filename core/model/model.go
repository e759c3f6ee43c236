// Package model reads device types written as W3C Thing Models (WoT Thing
// Description 1.1, https://www.w3.org/TR/wot-thing-description11/#thing-model)
// in JSON, and checks values and messages against them.
//
// What the standard has no word for stands under one JSON-LD prefix, "ullage:",
// bound to Namespace, so that a model stays valid for any other WoT tool.
package model

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"ullage/core/value"
)

// Namespace is what the prefix "ullage:" stands for in the @context of a model.
const Namespace = "urn:ullage:vocabulary:"

// Role says what a property is to Ullage.
type Role string

// The roles of a property.
const (
	Telemetry Role = "telemetry" // a device measures it
	Attribute Role = "attribute" // a device reports it about itself
	Setting   Role = "setting"   // people choose it and the device obeys
)

// Span is a closed range of numbers.
type Span struct{ Low, High float64 }

// Contains reports whether v lies in s.
func (s Span) Contains(v float64) bool { return v >= s.Low && v <= s.High }

// Middle returns the centre of s.
func (s Span) Middle() float64 { return (s.Low + s.High) / 2 }

// Property is one metric, attribute or setting of a model.
type Property struct {
	Name          string
	Title         string
	Description   string
	Role          Role
	Kind          value.Kind
	Integer       bool
	Unit          string // symbol as in the file; empty for none
	Decimals      int    // digits after the point on screen; -1 where not given
	Min, Max      *float64
	MinLength     int
	MaxLength     int      // 0 where not given
	Enum          []string // the texts allowed; empty for any
	Usual         *Span    // where the value lives on a good day
	Accept        *Span    // what is physically possible
	Default       value.Value
	KeptByService bool // a setting that lives in the service only
	// Secret is a setting that is sent and shown to nobody: writeOnly in the standard's
	// words. Its values are sealed: see package secret.
	Secret bool
	// Path leads to the value in a message: the name alone, or of a member of an
	// object the names of its objects before its own.
	Path []string
	// Optional properties are not there on every device of the model.
	Optional bool
	// Retention is how long readings are kept; 0 for as long as the service does.
	Retention time.Duration
	// RollupRetention is how long their roll-ups are kept; 0 as above.
	RollupRetention time.Duration
	// Was names what this telemetry was called in versions before: its history goes
	// on from there.
	Was []string
	// Tells is what of the device itself this telemetry tells, if anything.
	Tells Tells
	// Component is what of the device it belongs to, such as left for the left one of two
	// jackets; empty for the device itself.
	Component string
	// Derived is the expression that computes this telemetry; a device does not
	// send it. Package check compiles it.
	Derived string
	// Schema is what the standard says of the value.
	Schema *Schema

	strict bool // Schema says more than what stands above
}

// Tells is what of a device itself telemetry can tell.
type Tells string

// What telemetry can tell of a device itself.
const (
	Battery Tells = "battery" // what its battery has left, in any unit that falls as it empties
	Signal  Tells = "signal"  // how well its radio is heard
	Neither Tells = "neither" // although the name or the unit look like it
)

// guessed is what telemetry tells of which the model does not say it: models from
// elsewhere do not know the word.
func (p *Property) guessed() Tells {
	switch name := p.Path[len(p.Path)-1]; {
	case p.Role != Telemetry || p.Kind != value.Number:
		return ""
	case slices.Contains([]string{"battery", "battery_voltage", "battery_level", "battery_percent", "battery_v"}, name):
		return Battery
	case p.Unit == "dBm" || name == "rssi":
		return Signal
	}
	return ""
}

// Stored reports whether readings of p can be kept: those of a single value.
func (p *Property) Stored() bool { return p.Kind != value.None }

// Action is something that a device does when told to: a command.
type Action struct {
	Name, Title, Description string
	Input, Output            *Schema // nil for none
	Safe, Idempotent         bool
	Optional                 bool
	Component                string // as of a Property
	// Renews says that the device renews what lets it in when it is given this command.
	Renews bool
}

// Event is something that a device tells when it happens.
type Event struct {
	Name, Title, Description string
	Data                     *Schema // nil for none
	Optional                 bool
}

// Model is one version of one device type.
type Model struct {
	Name        string
	Title       string
	Description string
	Version     string
	// Interval is how often a device of this type is expected to report.
	Interval time.Duration
	// LogLines and LogKeep say how much of the log of a device is kept; 0 where the model says
	// nothing.
	LogLines int
	LogKeep  time.Duration
	// Additional allows telemetry that the model does not name.
	Additional bool
	// Properties stand in the order of the file.
	Properties []Property
	// Actions and Events are sorted by name.
	Actions []Action
	Events  []Event
	// Open are the placeholders that have no value yet.
	Open []string
	// Source is the file as it was read.
	Source json.RawMessage
	// Whole is Source with all that it extends and imports written out.
	Whole json.RawMessage
	// Composed tells that Source refers to other models, or to places in itself.
	Composed bool
	// Warnings tell what is not wrong and may surprise.
	Warnings []Finding

	native  bool // written for Ullage: it says its name
	byName  map[string]int
	derived int             // how many properties are derived
	groups  map[string]bool // objects whose members are properties
	doc     *node
}

// Action returns the command of that name.
func (m *Model) Action(name string) (*Action, bool) {
	for i := range m.Actions {
		if m.Actions[i].Name == name {
			return &m.Actions[i], true
		}
	}
	return nil, false
}

// Commands returns the names of the actions.
func (m *Model) Commands() []string {
	out := make([]string, len(m.Actions))
	for i, a := range m.Actions {
		out[i] = a.Name
	}
	return out
}

// Property returns the property of that name.
func (m *Model) Property(name string) (*Property, bool) {
	i, ok := m.byName[name]
	if !ok {
		return nil, false
	}
	return &m.Properties[i], true
}

// Components returns the components of a device, in the order of the file: those that its
// properties name.
func (m *Model) Components() []string {
	var out []string
	for i := range m.Properties {
		if c := m.Properties[i].Component; c != "" && !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out
}

// Positions returns the names of the telemetry and attributes with which a device says where it is:
// those in lat and lon (SenML, RFC 8428), or that are called latitude and longitude.
func (m *Model) Positions() []string {
	var out []string
	for i := range m.Properties {
		switch p := &m.Properties[i]; {
		case p.Role == Setting:
		case p.Unit == "lat", p.Unit == "lon", p.Name == "latitude", p.Name == "longitude":
			out = append(out, p.Name)
		}
	}
	return out
}

// With returns the properties of one role, in the order of the file.
func (m *Model) With(r Role) []*Property {
	var out []*Property
	for i := range m.Properties {
		if m.Properties[i].Role == r {
			out = append(out, &m.Properties[i])
		}
	}
	return out
}

// String returns "name version".
func (m *Model) String() string { return m.Name + " " + m.Version }

// Defaults returns the settings that have a default, by name; those kept by the service
// only if kept is true, the others only if it is false.
func (m *Model) Defaults(kept bool) map[string]value.Value {
	out := map[string]value.Value{}
	for _, p := range m.With(Setting) {
		if p.Default.Known() && p.KeptByService == kept {
			out[p.Name] = p.Default
		}
	}
	return out
}

// Nearest returns the name of the given role that is closest to name, or ""
// where none is close. It serves the "did you mean" of messages.
func (m *Model) Nearest(name string, r Role) string {
	var names []string
	for _, p := range m.With(r) {
		names = append(names, p.Name)
	}
	return value.Nearest(name, names)
}

// Finding is one thing wrong with a file or a message: where, and what to do.
type Finding struct {
	Pointer  string `json:"pointer" doc:"JSON pointer (RFC 6901) to the place" example:"/must_temp"`
	Sentence string `json:"sentence" doc:"What is wrong there and what would be right"`
}

// Findings is an error that lists everything wrong at once.
type Findings []Finding

// Error joins the sentences.
func (f Findings) Error() string {
	parts := make([]string, len(f))
	for i, x := range f {
		parts[i] = x.Sentence
		if x.Pointer != "" {
			parts[i] = x.Pointer + ": " + x.Sentence
		}
	}
	return strings.Join(parts, "; ")
}

func (f *Findings) add(pointer, format string, args ...any) {
	*f = append(*f, Finding{pointer, fmt.Sprintf(format, args...)})
}

// sorted orders findings by place so that the same file gives the same list.
func (f Findings) sorted() Findings {
	sort.SliceStable(f, func(i, j int) bool { return f[i].Pointer < f[j].Pointer })
	return f
}
