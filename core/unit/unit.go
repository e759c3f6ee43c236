// Package unit knows the units that models and rules may name: their symbol
// (SenML, RFC 8428 section 12.1, or UCUM), dimension, factor to the base unit
// of that dimension, and how people write them.
package unit

import (
	"fmt"
	"sort"
)

// Unit is one unit of measure. A value v in it is v*Factor+Offset in the base
// unit of its dimension.
type Unit struct {
	Symbol    string // as in files: "Cel", "L/min"
	Display   string // as on screen: "°C", "L/min"
	Dimension string
	Factor    float64
	Offset    float64
}

// One is the unit of plain counts and ratios; its display is empty.
var One = Unit{Symbol: "1", Dimension: "ratio", Factor: 1}

var table = []Unit{
	One,
	{"Cel", "°C", "temperature", 1, 273.15},
	{"K", "K", "temperature", 1, 0},
	{"[degF]", "°F", "temperature", 5.0 / 9, 459.67 * 5 / 9},
	{"m", "m", "length", 1, 0},
	{"cm", "cm", "length", 0.01, 0},
	{"mm", "mm", "length", 0.001, 0},
	{"kg", "kg", "mass", 1, 0},
	{"g", "g", "mass", 0.001, 0},
	{"s", "s", "time", 1, 0},
	{"ms", "ms", "time", 0.001, 0},
	{"min", "min", "time", 60, 0},
	{"h", "h", "time", 3600, 0},
	{"d", "d", "time", 86400, 0},
	{"A", "A", "current", 1, 0},
	{"mA", "mA", "current", 0.001, 0},
	{"V", "V", "voltage", 1, 0},
	{"mV", "mV", "voltage", 0.001, 0},
	{"W", "W", "power", 1, 0},
	{"Pa", "Pa", "pressure", 1, 0},
	{"hPa", "hPa", "pressure", 100, 0},
	{"kPa", "kPa", "pressure", 1000, 0},
	{"bar", "bar", "pressure", 1e5, 0},
	{"l", "L", "volume", 0.001, 0},
	{"L", "L", "volume", 0.001, 0},
	{"m3", "m³", "volume", 1, 0},
	{"L/min", "L/min", "volume flow", 0.001 / 60, 0},
	{"l/s", "L/s", "volume flow", 0.001, 0},
	{"m3/s", "m³/s", "volume flow", 1, 0},
	{"kg/m3", "kg/m³", "density", 1, 0},
	{"g/L", "g/L", "density", 1, 0},
	{"%", "%", "ratio", 0.01, 0},
	{"/", "", "ratio", 1, 0},
	{"ppm", "ppm", "ratio", 1e-6, 0},
	{"%RH", "%", "relative humidity", 1, 0},
	{"%EL", "%", "energy level", 1, 0},
	{"dBm", "dBm", "signal level", 1, 0},
	{"dBW", "dBW", "signal level", 1, 30},
	{"Hz", "Hz", "frequency", 1, 0},
	{"lx", "lx", "illuminance", 1, 0},
	{"B", "B", "information", 1, 0},
	{"MB", "MB", "information", 1e6, 0},
	{"count", "", "ratio", 1, 0},
}

var bySymbol = func() map[string]Unit {
	m := make(map[string]Unit, len(table))
	for _, u := range table {
		m[u.Symbol] = u
	}
	return m
}()

// Lookup returns the unit of a symbol. The empty symbol is One.
func Lookup(symbol string) (Unit, error) {
	if symbol == "" {
		return One, nil
	}
	u, ok := bySymbol[symbol]
	if !ok {
		return Unit{}, fmt.Errorf("the unit %q is not known; use a SenML or UCUM symbol such as Cel, %%RH, kPa, L/min", symbol)
	}
	return u, nil
}

// Display returns how people write the unit of a symbol, or the symbol itself
// where it is not known.
func Display(symbol string) string {
	if u, err := Lookup(symbol); err == nil {
		return u.Display
	}
	return symbol
}

// Convert returns v, given in from, in to. Units of unlike dimension are an
// error that names both.
func Convert(v float64, from, to string) (float64, error) {
	f, err := Lookup(from)
	if err != nil {
		return 0, err
	}
	t, err := Lookup(to)
	if err != nil {
		return 0, err
	}
	if f.Dimension != t.Dimension {
		return 0, fmt.Errorf("%s (%s) does not convert to %s (%s)", name(f), f.Dimension, name(t), t.Dimension)
	}
	if f == t {
		return v, nil
	}
	return (v*f.Factor + f.Offset - t.Offset) / t.Factor, nil
}

func name(u Unit) string {
	if u.Display == "" {
		return u.Symbol
	}
	return u.Display
}

// Symbols returns every known symbol, sorted.
func Symbols() []string {
	s := make([]string, 0, len(table))
	for _, u := range table {
		s = append(s, u.Symbol)
	}
	sort.Strings(s)
	return s
}
