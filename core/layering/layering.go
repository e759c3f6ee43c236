// Package layering works out what a device's settings are intended to be, from
// the model's defaults up to its own override, and how far what the device applied
// is from that. The words intended and applied are those of RFC 8342 (NMDA).
package layering

import (
	"maps"
	"slices"

	"ullage/core/value"
)

// Settings are values by name.
type Settings map[string]value.Value

// Equal reports whether two documents hold the same.
func (s Settings) Equal(o Settings) bool { return maps.Equal(s, o) }

// MarshalJSON writes the document as an object, its names in order; none is null.
func (s Settings) MarshalJSON() ([]byte, error) {
	if s == nil {
		return []byte("null"), nil
	}
	b := append(make([]byte, 0, 2+32*len(s)), '{')
	for i, name := range s.Names() {
		if i > 0 {
			b = append(b, ',')
		}
		var err error
		if b, err = value.OfText(name).AppendJSON(b); err != nil {
			return nil, err
		}
		if b, err = s[name].AppendJSON(append(b, ':')); err != nil {
			return nil, err
		}
	}
	return append(b, '}'), nil
}

// Names returns the names in order.
func (s Settings) Names() []string { return slices.Sorted(maps.Keys(s)) }

// Source says what kind of thing an intended value comes from.
type Source string

// The sources, the weakest first.
const (
	FromModel    Source = "model"
	FromLayer    Source = "layer"
	FromResponse Source = "response"
	FromOverride Source = "override"
)

// Rank orders sources, the weakest first.
func (s Source) Rank() int {
	return slices.Index([]Source{FromModel, FromLayer, FromResponse, FromOverride}, s)
}

// Origin says where a value comes from: of a layer its name, of a response its rule.
type Origin struct {
	Source Source `json:"source" enum:"model,layer,response,override" doc:"What gives the value, the weakest first"`
	Name   string `json:"name,omitempty" doc:"Of a layer its name, of a response its rule"`
}

// Part is what one thing gives a device. A name in Removes takes off what weaker parts than
// it give, so that the model's default is there again.
type Part struct {
	Origin
	Gives   Settings
	Removes []string
}

// Merged is an intended document with the origin of each value.
type Merged struct {
	Settings Settings
	Origin   map[string]Origin
}

// Merge lays parts, the weakest first, over the model's defaults. Nothing of what it is
// given is changed.
func Merge(defaults Settings, parts ...Part) Merged {
	m := Merged{Settings: make(Settings, len(defaults)), Origin: make(map[string]Origin, len(defaults))}
	for name, v := range defaults {
		m.Settings[name], m.Origin[name] = v, Origin{Source: FromModel}
	}
	for _, p := range parts {
		for name, v := range p.Gives {
			m.Settings[name], m.Origin[name] = v, p.Origin
		}
		for _, name := range p.Removes {
			if v, ok := defaults[name]; ok {
				m.Settings[name], m.Origin[name] = v, Origin{Source: FromModel}
			} else {
				delete(m.Settings, name)
				delete(m.Origin, name)
			}
		}
	}
	return m
}

// Difference is one setting in which applied is not intended.
type Difference struct {
	Name     string
	Intended value.Value
	Applied  value.Value
	// Reason is what the device said when it refused; empty if it said nothing.
	Reason string
}

// Drift lists where applied differs from intended, by name. It is for a device
// that has confirmed the current revision; before that, changes are on their
// way and nothing has drifted.
func Drift(intended, applied Settings, refused map[string]string) []Difference {
	var out []Difference
	for _, name := range intended.Names() {
		if a := applied[name]; a != intended[name] {
			out = append(out, Difference{name, intended[name], a, refused[name]})
		}
	}
	return out
}
