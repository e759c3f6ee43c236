package unit

import (
	"math/big"
	"slices"
	"strings"
)

// atom is one entry of the table: so many base units.
type atom struct {
	factor string // a fraction or decimal that big.Rat reads
	like   string // another symbol it is a multiple of; empty for base
	base   Dimension
	offset string
	scale  bool
	metric bool // takes the metric prefixes
	binary bool // takes Ki, Mi, Gi, Ti as well
}

func base(b Base) (d Dimension) {
	d[b] = 1
	return d
}

// senml lists the registry of RFC 8428 and the secondary units of RFC 8798 with
// what IANA has added since. Symbols in here win over UCUM's reading of them.
var senml = map[string]atom{
	"m":        {base: base(Length), metric: true},
	"kg":       {base: base(Mass)},
	"g":        {factor: "1/1000", like: "kg", metric: true},
	"s":        {base: base(Time), metric: true},
	"A":        {base: base(Current), metric: true},
	"K":        {base: base(Temperature), metric: true, scale: true},
	"cd":       {base: base(Luminous), metric: true},
	"mol":      {base: base(Amount), metric: true},
	"rad":      {base: base(Angle), metric: true},
	"sr":       {base: base(SolidAngle), metric: true},
	"bit":      {base: base(Information), metric: true, binary: true},
	"Hz":       {like: "1/s", metric: true},
	"N":        {like: "kg.m/s2", metric: true},
	"Pa":       {like: "N/m2", metric: true},
	"J":        {like: "N.m", metric: true},
	"W":        {like: "J/s", metric: true},
	"C":        {like: "A.s", metric: true},
	"V":        {like: "W/A", metric: true},
	"F":        {like: "C/V", metric: true},
	"Ohm":      {like: "V/A", metric: true},
	"S":        {like: "A/V", metric: true},
	"Wb":       {like: "V.s", metric: true},
	"T":        {like: "Wb/m2", metric: true},
	"H":        {like: "Wb/A", metric: true},
	"Cel":      {like: "K", offset: "27315/100", scale: true},
	"lm":       {like: "cd.sr", metric: true},
	"lx":       {like: "lm/m2", metric: true},
	"Bq":       {like: "1/s", metric: true},
	"Gy":       {like: "J/kg", metric: true},
	"Sv":       {like: "J/kg", metric: true},
	"kat":      {like: "mol/s", metric: true},
	"l":        {factor: "1/1000", like: "m3", metric: true},
	"L":        {factor: "1/1000", like: "m3", metric: true},
	"lat":      {base: base(Latitude)},
	"lon":      {base: base(Longitude)},
	"pH":       {base: base(Acidity)},
	"dB":       {base: base(Level)},
	"dBW":      {base: base(Level), scale: true},
	"dBm":      {base: base(Level), offset: "-30", scale: true},
	"Bspl":     {base: base(Loudness)},
	"count":    {},
	"1":        {},
	"/":        {},
	"%":        {factor: "1/100"},
	"%RH":      {factor: "1/100"},
	"%EL":      {factor: "1/100"},
	"EL":       {like: "s"},
	"1/min":    {factor: "1/60", like: "1/s"},
	"beat/min": {factor: "1/60", like: "1/s"},
	"beats":    {},
	"B":        {factor: "8", like: "bit", metric: true, binary: true},
	"VA":       {base: Dimension{Length: 2, Mass: 1, Time: -3, Apparent: 1}, metric: true},
	"VAs":      {like: "VA.s"},
	"var":      {base: Dimension{Length: 2, Mass: 1, Time: -3, Reactive: 1}, metric: true},
	"vars":     {like: "var.s"},
	"deg":      {factor: "0.017453292519943295769236907684886127134428718885417", like: "rad"},
	"NTU":      {base: base(Turbidity)},
	"Ah":       {like: "A.h", metric: true},
	"Wh":       {like: "W.h", metric: true},
	"VAh":      {like: "VA.h", metric: true},
	"varh":     {like: "var.h", metric: true},
	"ppm":      {factor: "1/1000000"},
	"ppb":      {factor: "1/1000000000"},
	"ppt":      {factor: "1/1000000000000"},
	"/100":     {factor: "1/100"},
	"/1000":    {factor: "1/1000"},
}

// ucum lists the atoms of UCUM beyond those: what field devices use of them.
var ucum = map[string]atom{
	"min":      {factor: "60", like: "s"},
	"h":        {factor: "3600", like: "s"},
	"d":        {factor: "86400", like: "s"},
	"wk":       {factor: "604800", like: "s"},
	"[degF]":   {factor: "5/9", like: "K", offset: "45967/180", scale: true},
	"bar":      {factor: "100000", like: "Pa", metric: true},
	"atm":      {factor: "101325", like: "Pa"},
	"[psi]":    {factor: "44482216152605/6451600000", like: "Pa"},
	"m[Hg]":    {factor: "133322", like: "Pa", metric: true},
	"m[H2O]":   {factor: "980665/100", like: "Pa", metric: true},
	"[in_i]":   {factor: "254/10000", like: "m"},
	"[ft_i]":   {factor: "3048/10000", like: "m"},
	"[yd_i]":   {factor: "9144/10000", like: "m"},
	"[mi_i]":   {factor: "1609344/1000", like: "m"},
	"[nmi_i]":  {factor: "1852", like: "m"},
	"[kn_i]":   {factor: "1852/3600", like: "m/s"},
	"[lb_av]":  {factor: "45359237/100000000", like: "kg"},
	"[oz_av]":  {factor: "45359237/1600000000", like: "kg"},
	"[gal_us]": {factor: "3785411784/1000000000000", like: "m3"},
	"t":        {factor: "1000", like: "kg"},
	"har":      {factor: "10000", like: "m2"},
	"cal":      {factor: "4184/1000", like: "J", metric: true},
	"By":       {factor: "8", like: "bit", metric: true, binary: true},
	"[pH]":     {like: "pH"},
	"[ppth]":   {factor: "1/1000"},
	"[ppm]":    {factor: "1/1000000"},
	"[ppb]":    {factor: "1/1000000000"},
	"[g]":      {factor: "980665/100000", like: "m/s2"},
}

// listed are composed symbols that stand in the registries or that people use
// often; completion offers them beside the atoms.
var listed = []string{
	"m2", "m3", "m/s", "m/s2", "m3/s", "l/s", "W/m2", "cd/m2", "bit/s", "1/s", "S/m", "J/m", "kg/m3",
	"ms", "MHz", "kW", "kVA", "kvar", "kWh", "kvarh", "kVAh", "Wh/km", "KiB", "GB", "Mbit/s", "B/s", "MB/s",
	"mV", "mA", "ug/m3", "mm/h", "m/h", "hPa", "mm", "cm", "km", "km/h", "mg/L", "ug/L", "g/L",
	"kPa", "mbar", "L/min", "L/h", "mL/min", "m3/h", "kg/h", "K/h", "K/min", "uS/cm", "mS/cm", "umol/L", "mmol/L", "us", "kHz", "mg", "ug", "MPa", "MB", "kB", "mL", "kOhm", "mW", "MW", "kJ", "MJ",
}

// spelled are other spellings of units, taken as written by people.
var spelled = map[string]string{"°C": "Cel", "degC": "Cel", "°F": "[degF]", "degF": "[degF]", "Ω": "Ohm", "‰": "/1000",
	"°": "deg"}

// meant are symbols, in small letters, that people try and that do not exist.
var meant = map[string]string{
	"celsius": "Cel", "cel": "Cel", "fahrenheit": "[degF]", "f°": "[degF]", "c°": "Cel", "kelvin": "K",
	"percent": "%", "rh": "%RH", "lpm": "L/min", "l/m": "L/min", "slpm": "L/min", "sec": "s", "secs": "s", "second": "s", "seconds": "s",
	"minute": "min", "minutes": "min", "mins": "min", "hr": "h", "hrs": "h", "hour": "h", "hours": "h", "day": "d", "days": "d",
	"psi": "[psi]", "volt": "V", "volts": "V", "amp": "A", "amps": "A", "watt": "W", "watts": "W", "ohm": "Ohm", "ohms": "Ohm",
	"kwh": "kWh", "wh": "Wh", "kw": "kW", "mv": "mV", "ma": "mA", "pa": "Pa", "kpa": "kPa", "hpa": "hPa", "byte": "B", "bytes": "B",
	"liter": "L", "litre": "L", "gram": "g", "ft": "[ft_i]", "feet": "[ft_i]", "inch": "[in_i]", "in": "[in_i]", "lb": "[lb_av]", "lbs": "[lb_av]",
	"mph": "[mi_i]/h", "gal": "[gal_us]", "gpm": "[gal_us]/min", "kph": "km/h", "kmh": "km/h", "rpm": "1/min", "bpm": "beat/min", "ntu": "NTU", "hz": "Hz", "dbm": "dBm", "db": "dB", "ph": "pH",
	"mmhg": "mm[Hg]", "inhg": "[in_i]",
}

var displays = map[string]string{
	"Cel": "°C", "[degF]": "°F", "%RH": "%", "%EL": "%", "count": "", "1": "", "/": "", "/100": "%", "/1000": "‰",
	"l": "L", "deg": "°", "lat": "°", "lon": "°", "1/min": "/min", "1/s": "/s", "beat/min": "beats/min", "EL": "s",
	"By": "B", "[pH]": "pH", "[ppm]": "ppm", "[ppb]": "ppb", "[ppth]": "‰", "[psi]": "psi", "[g]": "g₀",
	"[in_i]": "in", "[ft_i]": "ft", "[yd_i]": "yd", "[mi_i]": "mi", "[nmi_i]": "nmi", "[kn_i]": "kn", "[lb_av]": "lb", "[oz_av]": "oz", "[gal_us]": "gal",
}

var prefixes = []struct {
	symbol string
	power  int
}{{"da", 1}, {"Y", 24}, {"Z", 21}, {"E", 18}, {"P", 15}, {"T", 12}, {"G", 9}, {"M", 6}, {"k", 3}, {"h", 2},
	{"d", -1}, {"c", -2}, {"m", -3}, {"u", -6}, {"n", -9}, {"p", -12}, {"f", -15}}

var binaries = []struct {
	symbol string
	power  uint
}{{"Ki", 10}, {"Mi", 20}, {"Gi", 30}, {"Ti", 40}}

// table holds every atom and every listed symbol, resolved.
var table = map[string]Unit{}

func init() {
	var resolve func(symbol string) Unit
	resolve = func(symbol string) Unit {
		if u, ok := table[symbol]; ok {
			return u
		}
		a, ok := senml[symbol]
		if !ok {
			a = ucum[symbol]
		}
		u := Unit{Symbol: symbol, Dimension: a.base, Scale: a.scale, factor: rat(a.factor, "1"),
			offset: rat(a.offset, "0")}
		if a.like != "" {
			for _, part := range symbolsOf(a.like) {
				resolve(part)
			}
			like, ok := compose(a.like)
			if !ok {
				panic("unit: " + symbol + " is like " + a.like + ", which does not exist")
			}
			u.Dimension = like.Dimension
			u.factor.Mul(u.factor, like.factor)
		}
		table[symbol] = u
		return u
	}
	resolve("1")
	for _, m := range []map[string]atom{senml, ucum} {
		for symbol := range m {
			resolve(symbol)
		}
	}
	for _, symbol := range listed {
		u, ok := compose(symbol)
		if !ok {
			panic("unit: " + symbol + " does not compose")
		}
		table[symbol] = u
	}
	one := table["1"]
	one.Symbol = ""
	table["1"] = one
	for symbol := range table {
		symbols = append(symbols, symbol)
	}
	slices.Sort(symbols)
}

var symbols []string

// Symbols returns the symbols that are listed by themselves, sorted. Composed
// ones, such as mg/dL, are known besides.
func Symbols() []string { return slices.Clone(symbols) }

func rat(s, empty string) *big.Rat {
	if s == "" {
		s = empty
	}
	r, ok := new(big.Rat).SetString(s)
	if !ok {
		panic("unit: " + s)
	}
	return r
}

// symbolsOf returns the atoms, without exponents, that a table entry is made of.
func symbolsOf(s string) []string {
	var out []string
	for _, p := range strings.FieldsFunc(s, func(r rune) bool { return r == '.' || r == '/' }) {
		p = strings.TrimRight(p, "0123456789")
		if _, ok := senml[p]; ok {
			out = append(out, p)
		} else if _, ok := ucum[p]; ok {
			out = append(out, p)
		}
	}
	return out
}

// find reads a symbol: as listed, as people spell it, or composed.
func find(symbol string) (Unit, bool) {
	if u, ok := table[symbol]; ok {
		return u, true
	}
	if s, ok := spelled[symbol]; ok {
		return table[s], true
	}
	plain := strings.NewReplacer("µ", "u", "μ", "u", "²", "2", "³", "3", "·", ".").Replace(symbol)
	if u, ok := table[plain]; ok {
		return u, true
	}
	return compose(plain)
}

// compose reads a UCUM term: components joined by "." and "/", from the left.
// A bare scale, such as mK, keeps being one; inside a composition it is a
// difference.
func compose(s string) (Unit, bool) {
	out := Unit{Symbol: s, factor: big.NewRat(1, 1), offset: new(big.Rat)}
	rest, sign, parts := s, int8(1), 0
	if after, ok := strings.CutPrefix(rest, "/"); ok {
		rest, sign = after, -1
	}
	for {
		end := strings.IndexAny(rest, "./")
		if open := strings.IndexByte(rest, '['); open >= 0 && end > open {
			if close := strings.IndexByte(rest, ']'); close > end {
				end = strings.IndexAny(rest[close:], "./")
				if end >= 0 {
					end += close
				}
			}
		}
		part := rest
		if end >= 0 {
			part = rest[:end]
		}
		u, exponent, ok := component(part)
		if !ok {
			return Unit{}, false
		}
		if parts++; parts > 8 {
			return Unit{}, false
		}
		if parts == 1 && end < 0 && exponent == 1 && sign == 1 {
			u.Symbol = s
			return u, true
		}
		factor := new(big.Rat).Set(u.factor)
		for i := int8(1); i < exponent || i < -exponent; i++ {
			factor.Mul(factor, u.factor)
		}
		if exponent*sign < 0 {
			factor.Inv(factor)
		}
		out.factor.Mul(out.factor, factor)
		for b, e := range u.Dimension {
			sum := int(out.Dimension[b]) + int(e)*int(exponent)*int(sign)
			if sum > 60 || sum < -60 {
				return Unit{}, false
			}
			out.Dimension[b] = int8(sum)
		}
		if end < 0 {
			return out, true
		}
		sign = 1
		if rest[end] == '/' {
			sign = -1
		}
		rest = rest[end+1:]
	}
}

// component reads one atom with prefix, exponent and annotation ({…}, which
// means nothing).
func component(s string) (u Unit, exponent int8, ok bool) {
	if open := strings.IndexByte(s, '{'); open >= 0 && strings.HasSuffix(s, "}") {
		if s = s[:open]; s == "" {
			return table["1"], 1, true
		}
	}
	name := strings.TrimRight(s, "0123456789")
	digits := s[len(name):]
	negative := strings.HasSuffix(name, "-")
	name = strings.TrimSuffix(name, "-")
	exponent = 1
	switch {
	case name == "" && digits == "1" && !negative:
		return table["1"], 1, true
	case len(digits) > 1 || digits == "0" || negative && digits == "":
		return Unit{}, 0, false
	case digits != "":
		exponent = int8(digits[0] - '0')
		if negative {
			exponent = -exponent
		}
	}
	u, ok = prefixed(name)
	return u, exponent, ok
}

func prefixed(name string) (Unit, bool) {
	if u, ok := table[name]; ok && !strings.ContainsAny(name, "./") {
		return u, true
	}
	for _, p := range binaries {
		if atomName, ok := strings.CutPrefix(name, p.symbol); ok && isAtom(atomName, func(a atom) bool {
			return a.binary
		}) {
			return scaled(atomName, new(big.Rat).SetInt(new(big.Int).Lsh(big.NewInt(1), p.power))), true
		}
	}
	for _, p := range prefixes {
		if atomName, ok := strings.CutPrefix(name, p.symbol); ok && isAtom(atomName, func(a atom) bool {
			return a.metric
		}) {
			ten := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(max(p.power, -p.power))), nil)
			by := new(big.Rat).SetInt(ten)
			if p.power < 0 {
				by.Inv(by)
			}
			return scaled(atomName, by), true
		}
	}
	return Unit{}, false
}

func isAtom(name string, is func(atom) bool) bool {
	if a, ok := senml[name]; ok {
		return is(a)
	}
	a, ok := ucum[name]
	return ok && is(a)
}

func scaled(name string, by *big.Rat) Unit {
	u := table[name]
	return Unit{Symbol: name, Dimension: u.Dimension, Scale: u.Scale, factor: new(big.Rat).Mul(u.factor, by),
		offset: new(big.Rat).Set(u.offset)}
}

var (
	columns = strings.NewReplacer("[Hg]", "Hg", "[H2O]", "H₂O")
	raised  = strings.NewReplacer("0", "⁰", "1", "¹", "2", "²", "3", "³", "4", "⁴", "5", "⁵", "6", "⁶", "7", "⁷", "8",
		"⁸", "9", "⁹")
)

// pretty writes a symbol as people do: m3 as m³, ug as µg, a dot as a product.
func pretty(s string) string {
	parts := strings.FieldsFunc(s, func(r rune) bool { return r == '.' || r == '/' })
	var b strings.Builder
	rest := s
	for _, p := range parts {
		at := strings.Index(rest, p)
		b.WriteString(strings.ReplaceAll(rest[:at], ".", "·"))
		rest = rest[at+len(p):]
		name := strings.TrimRight(p, "0123456789")
		digits := p[len(name):]
		if d, ok := displays[name]; ok && name != "1" {
			name = d
		} else if after, ok := strings.CutPrefix(name, "u"); ok && after != "" {
			name = "µ" + after
		} else if after, ok := strings.CutSuffix(name, "Ohm"); ok {
			name = after + "Ω"
		} else {
			name = columns.Replace(name)
		}
		if name == "" {
			name, digits = digits, ""
		}
		b.WriteString(name)
		b.WriteString(raised.Replace(digits))
	}
	return b.String() + rest
}
