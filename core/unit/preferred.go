package unit

import (
	"fmt"
	"maps"
	"math"
	"math/big"
	"slices"
	"strings"
)

// Preferred are the units in which somebody reads values, by the name of the
// dimension: {"temperature": "[degF]"}. What it does not name stays as it is.
type Preferred map[string]string

// choices are the dimensions for which people have different habits, each with the
// units that they are offered.
var choices = map[string][]string{
	"temperature": {"Cel", "[degF]", "K"},
	"length":      {"mm", "cm", "m", "[in_i]", "[ft_i]"},
	"pressure":    {"Pa", "hPa", "kPa", "bar", "[psi]"},
	"mass":        {"g", "kg", "t", "[lb_av]"},
	"volume":      {"L", "m3", "[gal_us]"},
	"volume flow": {"L/min", "L/h", "m3/h", "[gal_us]/min"},
	"density":     {"g/L", "kg/m3", "g/mL", "[lb_av]/[gal_us]"},
	"speed":       {"m/s", "km/h", "[mi_i]/h"},
	"energy":      {"J", "kJ", "Wh", "kWh"},
	"power":       {"W", "kW"},
}

// Choices returns the dimensions that Preferred may name, with the symbols of the
// units that are offered for each. Other units of the dimension are taken as well.
func Choices() map[string][]string { return maps.Clone(choices) }

// Check says what is wrong with p.
func (p Preferred) Check() error {
	for _, d := range slices.Sorted(maps.Keys(p)) {
		if choices[d] == nil {
			return fmt.Errorf("%q is no dimension for which a unit can be chosen; there are %s", clip(d),
				strings.Join(slices.Sorted(maps.Keys(choices)), ", "))
		}
		u, err := Lookup(p[d])
		if err != nil {
			return err
		}
		if u.Dimension.String() != d {
			return fmt.Errorf("%s is a unit of %s, and none of %s", u.Name(), u.Dimension, d)
		}
	}
	return nil
}

// Canonical returns p with the symbols as they stand in files: what people spell degF
// is [degF].
func (p Preferred) Canonical() Preferred {
	out := Preferred{}
	for d, s := range p {
		if u, err := Lookup(s); err == nil {
			s = u.Symbol
		}
		out[d] = s
	}
	return out
}

func clip(s string) string { return s[:min(len(s), 40)] }

// Symbol returns the symbol of the unit in which values in the unit of another symbol
// are read: that symbol itself where nothing is preferred.
func (p Preferred) Symbol(symbol string) string {
	if len(p) == 0 || symbol == "" {
		return symbol
	}
	from, err := Lookup(symbol)
	if err != nil {
		return symbol
	}
	want, ok := p[from.Dimension.String()]
	if !ok {
		return symbol
	}
	to, err := Lookup(want)
	if err != nil || from.Same(to) {
		return symbol
	}
	if _, err := from.To(to); err != nil { // such as the difference of two temperatures
		return symbol
	}
	return to.Symbol
}

// Decimals returns how many digits after the point tell values in the unit to as
// finely as so many tell those in the unit from. Less than none means as many as
// there are, and stays so.
func Decimals(decimals int, from, to Unit) int {
	if decimals < 0 || from.factor == nil || to.factor == nil || from.Dimension != to.Dimension {
		return decimals
	}
	ratio, _ := new(big.Rat).Quo(from.factor, to.factor).Float64()
	// A fifth of a digit is not worth another place: tenths of a degree Celsius stay
	// tenths in Fahrenheit.
	return min(max(decimals+int(math.Ceil(-math.Log10(ratio)-0.2)), 0), 9)
}
