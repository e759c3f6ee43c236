// Package geo is about positions on the earth.
package geo

import (
	"fmt"
	"strconv"
	"strings"

	"ullage/core/value"
)

// Position is a place on the earth, in degrees (WGS 84): north and east are positive.
type Position struct {
	Latitude  float64 `json:"latitude" minimum:"-90" maximum:"90" doc:"Degrees north (WGS 84)" example:"47.5881"`
	Longitude float64 `json:"longitude" minimum:"-180" maximum:"180" doc:"Degrees east (WGS 84)" example:"8.2622"`
}

// Check refuses what is no place on the earth, and 0/0, which receivers say without a fix.
func (p Position) Check() error {
	wrong := func(key, format string, args ...any) error { return &Error{key, fmt.Sprintf(format, args...)} }
	switch {
	case !(p.Latitude >= -90 && p.Latitude <= 90):
		return wrong("latitude", "the latitude is %g; it is from -90 to 90 degrees, north is positive", p.Latitude)
	case !(p.Longitude >= -180 && p.Longitude <= 180):
		return wrong("longitude", "the longitude is %g; it is from -180 to 180 degrees, east is positive", p.Longitude)
	case p == Position{}:
		return wrong("latitude", "0, 0 is in the sea, and what a receiver without a fix says; nothing stands there")
	}
	return nil
}

// Error is what is wrong with a position, at one of its members.
type Error struct{ Key, Sentence string }

// Error implements error.
func (e *Error) Error() string { return e.Sentence }

// String writes it as ParsePosition reads it.
func (p Position) String() string {
	n := func(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }
	return n(p.Latitude) + ", " + n(p.Longitude)
}

// ParsePosition reads a latitude and a longitude in degrees with a comma between, such as
// 47.5881,8.2622.
func ParsePosition(s string) (Position, error) {
	lat, lon, both := strings.Cut(s, ",")
	a, errA := strconv.ParseFloat(strings.TrimSpace(lat), 64)
	b, errB := strconv.ParseFloat(strings.TrimSpace(lon), 64)
	if !both || errA != nil || errB != nil {
		return Position{}, &Error{"position", fmt.Sprintf("%q is no position; write latitude and longitude in degrees, such as 47.5881,8.2622", value.Clip(s, 60))}
	}
	p := Position{a, b}
	return p, p.Check()
}
