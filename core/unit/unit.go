// Package unit knows units of measure: which dimension they have, how they
// convert, and how people write them.
//
// Symbols are those of SenML (RFC 8428 section 12.1 with the IANA registry, and
// the secondary units of RFC 8798) and of UCUM (the Unified Code for Units of
// Measure), which field devices mix. SenML is read first, so that pH is acidity
// and not a picohenry, and B a byte and not a bel. What SenML does not list is
// read as UCUM: an atom with a metric prefix and an exponent, joined by "." and
// "/", such as umol/L, m3/h or mg/dL.
package unit

import (
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"sync"
)

// Base is one base dimension. Beside those of the SI it has tags that keep
// apart what has the same SI dimension but must not be mixed, such as real and
// apparent power.
type Base uint8

// The base dimensions.
const (
	Length Base = iota
	Mass
	Time
	Current
	Temperature
	Amount
	Luminous
	Angle
	SolidAngle
	Information
	Acidity
	Level    // of power, logarithmic: dBm, dBW
	Apparent // beside power: VA
	Reactive // beside power: var
	Loudness
	Turbidity
	Latitude
	Longitude
	bases
)

// Dimension is the exponent of every base dimension. The zero Dimension is
// that of plain numbers.
type Dimension [bases]int8

var dimensionNames = map[Dimension]string{
	{}:                              "plain number",
	{Length: 1}:                     "length",
	{Length: 2}:                     "area",
	{Length: 3}:                     "volume",
	{Mass: 1}:                       "mass",
	{Time: 1}:                       "time",
	{Time: -1}:                      "frequency",
	{Current: 1}:                    "current",
	{Temperature: 1}:                "temperature",
	{Amount: 1}:                     "amount of substance",
	{Luminous: 1}:                   "luminous intensity",
	{Angle: 1}:                      "angle",
	{SolidAngle: 1}:                 "solid angle",
	{Information: 1}:                "amount of data",
	{Information: 1, Time: -1}:      "data rate",
	{Acidity: 1}:                    "acidity",
	{Level: 1}:                      "signal level",
	{Loudness: 1}:                   "sound level",
	{Turbidity: 1}:                  "turbidity",
	{Latitude: 1}:                   "latitude",
	{Longitude: 1}:                  "longitude",
	{Length: 1, Time: -1}:           "speed",
	{Length: 1, Time: -2}:           "acceleration",
	{Length: 3, Time: -1}:           "volume flow",
	{Mass: 1, Time: -1}:             "mass flow",
	{Length: -3, Mass: 1}:           "density",
	{Length: -3, Amount: 1}:         "concentration",
	{Length: 1, Mass: 1, Time: -2}:  "force",
	{Length: -1, Mass: 1, Time: -2}: "pressure",
	{Length: 2, Mass: 1, Time: -2}:  "energy",
	{Length: 2, Mass: 1, Time: -3}:  "power",
	{Length: 2, Mass: 1, Time: -3, Apparent: 1}: "apparent power",
	{Length: 2, Mass: 1, Time: -3, Reactive: 1}: "reactive power",
	{Length: 2, Mass: 1, Time: -3, Current: -1}: "voltage",
	{Length: 2, Mass: 1, Time: -3, Current: -2}: "resistance",
	{Length: -2, Mass: -1, Time: 3, Current: 2}: "conductance",
	{Length: -3, Mass: -1, Time: 3, Current: 2}: "conductivity",
	{Time: 1, Current: 1}:                       "charge",
	{Temperature: 1, Time: -1}:                  "change of temperature over time",
	{Length: -2, Luminous: 1, SolidAngle: 1}:    "illuminance",
	{Mass: 1, Time: -3}:                         "irradiance",
	{Length: -2, Mass: -1, Time: 4, Current: 2}: "capacitance",
	{Length: 2, Mass: 1, Time: -2, Current: -2}: "inductance",
}

var baseSymbols = [bases]string{"m", "kg", "s", "A", "K", "mol", "cd", "rad", "sr", "bit", "pH", "dBW", "VA/W", "var/W",
	"Bspl", "NTU", "lat", "lon"}

// String names d in words where there is one ("pressure"), else in base units.
func (d Dimension) String() string {
	if name, ok := dimensionNames[d]; ok {
		return name
	}
	var parts []string
	for b, e := range d {
		switch {
		case e == 1:
			parts = append(parts, baseSymbols[b])
		case e != 0:
			parts = append(parts, fmt.Sprintf("%s%d", baseSymbols[b], e))
		}
	}
	return strings.Join(parts, "·")
}

// Unit is one unit of measure. A value v in it is v·factor + offset in base
// units. Units are compared with Same, not with ==.
type Unit struct {
	Symbol    string // as in files: "Cel", "L/min"
	Dimension Dimension
	// Scale tells a point on a scale whose zero is arbitrary or far away, such
	// as a temperature, from a difference between two points. Points do not add.
	Scale bool

	factor, offset *big.Rat
}

// One is the unit of plain numbers; its symbol and its display are empty.
var One = Unit{factor: big.NewRat(1, 1), offset: new(big.Rat)}

// IsOne reports whether u is a plain number with factor 1.
func (u Unit) IsOne() bool {
	return u.Dimension == Dimension{} && u.factor != nil && u.factor.Cmp(One.factor) == 0
}

// Same reports whether values in u and v are the same numbers.
func (u Unit) Same(v Unit) bool {
	return u.Dimension == v.Dimension && u.Scale == v.Scale && u.factor.Cmp(v.factor) == 0 &&
		u.offset.Cmp(v.offset) == 0
}

// Difference returns the unit of the distance between two values in u: the
// kelvin for degrees Celsius, the decibel for dBm. For most units it is u.
func (u Unit) Difference() Unit {
	if !u.Scale {
		return u
	}
	u.Scale, u.offset = false, new(big.Rat)
	switch u.Symbol {
	case "Cel":
		u.Symbol = "K"
	case "dBm", "dBW":
		u.Symbol = "dB"
	}
	return u
}

// Times returns the unit of the product of a value in u and one in v.
func (u Unit) Times(v Unit) Unit { return u.combine(v, 1) }

// Over returns the unit of a value in u divided by one in v.
func (u Unit) Over(v Unit) Unit { return u.combine(v, -1) }

func (u Unit) combine(v Unit, sign int8) Unit {
	u, v = u.Difference(), v.Difference()
	if v.IsOne() {
		return u
	}
	out := Unit{factor: new(big.Rat), offset: new(big.Rat)}
	for b := range u.Dimension {
		out.Dimension[b] = u.Dimension[b] + sign*v.Dimension[b]
	}
	if sign > 0 {
		out.factor.Mul(u.factor, v.factor)
	} else {
		out.factor.Quo(u.factor, v.factor)
	}
	switch {
	case out.Dimension == Dimension{} && out.factor.Cmp(One.factor) == 0:
		return One
	case sign < 0:
		out.Symbol = u.Symbol + "/" + strings.ReplaceAll(v.Symbol, ".", "/")
	case u.Symbol == "":
		out.Symbol = v.Symbol
	default:
		out.Symbol = u.Symbol + "." + v.Symbol
	}
	return out
}

// Display returns how people write u: °C, L/min, µg/m³, nothing for a plain number.
func (u Unit) Display() string {
	if s, ok := displays[u.Symbol]; ok {
		return s
	}
	if s, ok := shown.Load(u.Symbol); ok {
		return s.(string)
	}
	s := pretty(u.Symbol)
	if len(u.Symbol) <= maxSymbol {
		shown.Store(u.Symbol, s)
	}
	return s
}

// shown holds how units are written that were asked for; there are no more of them than
// symbols that Lookup has found.
var shown sync.Map

// Name returns Display, or a word where that is empty.
func (u Unit) Name() string {
	if s := u.Display(); s != "" {
		return s
	}
	return "a plain number"
}

// Lookup returns the unit of a symbol. The empty symbol is One. The spellings
// °C, °F, degC and degF are taken as well, and µ for u.
func Lookup(symbol string) (Unit, error) {
	if symbol == "" {
		return One, nil
	}
	if u, ok := cache.Load(symbol); ok {
		return u.(Unit), nil
	}
	if len(symbol) > maxSymbol {
		return Unit{}, fmt.Errorf("a unit symbol of %d bytes is not read; at most %d are", len(symbol), maxSymbol)
	}
	u, ok := find(symbol)
	if !ok {
		if meant, ok := meant[strings.ToLower(symbol)]; ok {
			return Unit{}, fmt.Errorf("the unit '%s' is not known; did you mean '%s'?", symbol, meant)
		}
		return Unit{},
			fmt.Errorf("the unit '%s' is not known; use a SenML or UCUM symbol such as 'Cel', '%%RH', 'kPa' or 'L/min'",
				symbol)
	}
	if _, listed := table[u.Symbol]; listed { // what strangers make up is not kept
		cache.Store(symbol, u)
	}
	return u, nil
}

const maxSymbol = 60

var cache sync.Map // symbol to Unit

// Display returns how people write the unit of a symbol, or the symbol itself
// where it is not known.
func Display(symbol string) string {
	if u, err := Lookup(symbol); err == nil {
		return u.Display()
	}
	return symbol
}

// Conversion turns values of one unit into another: v·ratio + shift, exact to
// the last place because ratio and shift are carried in two floats each.
type Conversion struct {
	ratio, ratioLow float64
	shift, shiftLow float64
	identity        bool
}

// To returns the conversion of values in u to values in v. Units of unlike
// dimension, or a point on a scale and a difference, are an error that names
// both.
func (u Unit) To(v Unit) (Conversion, error) {
	if u.Dimension != v.Dimension {
		return Conversion{}, fmt.Errorf("%s (%s) does not convert to %s (%s)", u.Name(), u.Dimension, v.Name(),
			v.Dimension)
	}
	if u.Scale != v.Scale {
		return Conversion{}, fmt.Errorf("a %s does not convert to a difference of two", u.Dimension)
	}
	if u.Same(v) {
		return Conversion{ratio: 1, identity: true}, nil
	}
	ratio := new(big.Rat).Quo(u.factor, v.factor)
	shift := new(big.Rat).Sub(u.offset, v.offset)
	shift.Quo(shift, v.factor)
	var c Conversion
	c.ratio, c.ratioLow = split(ratio)
	c.shift, c.shiftLow = split(shift)
	return c, nil
}

func split(r *big.Rat) (high, low float64) {
	high, _ = r.Float64()
	rest := new(big.Rat).Sub(r, new(big.Rat).SetFloat64(high))
	low, _ = rest.Float64()
	return high, low
}

// Identity reports whether c changes nothing.
func (c Conversion) Identity() bool { return c.identity }

// Apply converts v. The error is within one unit in the last place: product
// and sum carry their rounding errors along (Dekker 1971).
func (c Conversion) Apply(v float64) float64 {
	if c.identity {
		return v
	}
	p := v * c.ratio
	if math.IsInf(p, 0) || math.IsNaN(p) {
		return p
	}
	e := math.FMA(v, c.ratio, -p) + v*c.ratioLow
	if c.shift == 0 {
		return p + e
	}
	s := p + c.shift
	b := s - p
	return s + ((p - (s - b)) + (c.shift - b) + e + c.shiftLow)
}

// Literal converts a number that a person has written: its shortest decimal
// form counts, not the binary float nearest to it, so that 303.15 K is 30 °C.
func (u Unit) Literal(v float64, to Unit) (float64, error) {
	c, err := u.To(to)
	if err != nil || c.identity {
		return v, err
	}
	r, ok := new(big.Rat).SetString(strconv.FormatFloat(v, 'g', -1, 64))
	if !ok {
		return c.Apply(v), nil
	}
	r.Mul(r, u.factor)
	r.Add(r, new(big.Rat).Sub(u.offset, to.offset))
	f, _ := r.Quo(r, to.factor).Float64()
	return f, nil
}

// Convert returns v, given in from, in to.
func Convert(v float64, from, to string) (float64, error) {
	f, err := Lookup(from)
	if err != nil {
		return 0, err
	}
	t, err := Lookup(to)
	if err != nil {
		return 0, err
	}
	c, err := f.To(t)
	if err != nil {
		return 0, err
	}
	return c.Apply(v), nil
}
