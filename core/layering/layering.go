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

// Names returns the names in order.
func (s Settings) Names() []string { return slices.Sorted(maps.Keys(s)) }

// Source says where an intended value comes from.
type Source string

// The sources, the weakest first.
const (
	FromModel    Source = "model"
	FromOverride Source = "override"
)

// Merged is an intended document with the source of each value.
type Merged struct {
	Settings Settings
	Source   map[string]Source
}

// Merge lays a device's override over the model's defaults. Neither is changed.
func Merge(defaults, override Settings) Merged {
	m := Merged{Settings: Settings{}, Source: map[string]Source{}}
	for name, v := range defaults {
		m.Settings[name], m.Source[name] = v, FromModel
	}
	for name, v := range override {
		m.Settings[name], m.Source[name] = v, FromOverride
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
