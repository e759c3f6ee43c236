package unit_test

import (
	"bytes"
	"encoding/json"
	"math"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/quick"

	"ullage/core/unit"
)

func TestConvert(t *testing.T) {
	for _, c := range []struct {
		v        float64
		from, to string
		want     float64
	}{
		{0, "Cel", "K", 273.15}, {100, "Cel", "[degF]", 212}, {-40, "[degF]", "Cel", -40}, {300, "K", "Cel", 26.85},
		{1, "bar", "kPa", 100}, {12, "L/min", "l/s", 0.2}, {50, "%", "ppm", 500000}, {1013.25, "hPa", "kPa", 101.325},
		{2, "h", "min", 120}, {65, "%RH", "%", 65}, {1, "kWh", "MJ", 3.6}, {1, "kW.h", "kWh", 1}, {7, "[pH]", "pH", 7}, {1, "KiB", "B", 1024},
		{20, "°C", "K", 293.15}, {68, "degF", "Cel", 20}, {1, "µg/m³", "ug/m3", 1}, {3, "mK", "K", 0.003}, {1, "m3/h", "L/min", 1000.0 / 60}, {1, "umol/L", "mmol/m3", 1}, {-30, "dBW", "dBm", 0}, {5, "mm", "mm", 5},
	} {
		got, err := unit.Convert(c.v, c.from, c.to)
		if err != nil || math.Abs(got-c.want) > 1e-9*math.Max(1, math.Abs(c.want)) {
			t.Errorf("%g %s = %g %s, %v; want %g", c.v, c.from, got, c.to, err, c.want)
		}
	}
	for _, c := range [][2]string{{"Cel", "kPa"}, {"pH", "[ppm]"}, {"W", "VA"}, {"Cel", "K/h"}, {"V", "A"},
		{"Cel", "furlong"}, {"furlong", "m"}} {
		if got, err := unit.Convert(1, c[0], c[1]); err == nil {
			t.Errorf("%s converts to %s as %g, want an error", c[0], c[1], got)
		}
	}
}

func TestConvertThereAndBack(t *testing.T) {
	symbols := unit.Symbols()
	if err := quick.Check(func(a, b uint8, milli int32) bool {
		from, to := symbols[int(a)%len(symbols)], symbols[int(b)%len(symbols)]
		v := float64(milli) / 1000
		there, err := unit.Convert(v, from, to)
		if err != nil {
			return true // unlike dimensions
		}
		back, err := unit.Convert(there, to, from)
		return err == nil && math.Abs(back-v) <= 1e-6*math.Max(1, math.Abs(v))
	}, &quick.Config{MaxCount: 5000}); err != nil {
		t.Error(err)
	}
}

// The table is compared with a converter that others made, @lhncbc/ucum-lhc.
// Left out is what that one does not know or reads as UCUM alone would: pH as a
// picohenry, B as a bel, T% and the like.
func TestUnitsAgreeWithAnIndependentConverter(t *testing.T) {
	corpora := filepath.Join("..", "..", "test", "corpora")
	if _, err := os.Stat(filepath.Join(corpora, "node_modules", "@lhncbc", "ucum-lhc")); err != nil {
		t.Fatal("the independent converter is not installed; run: make setup")
	}
	type pair struct {
		From, To string
		Value    float64
	}
	// What UCUM writes differently; "" where it has no such unit.
	spelled := map[string]string{"B": "By", "KiB": "KiBy", "GB": "GBy", "MB": "MBy", "kB": "kBy", "MB/s": "MBy/s",
		"B/s": "By/s", "pH": "[pH]", "/": "1", "": "1", "count": "1", "beats": "1", "%RH": "%", "%EL": "%", "EL": "s", "beat/min": "/min", "1/min": "/min", "1/s": "/s",
		"/100": "%", "/1000": "[ppth]", "ppm": "[ppm]", "ppb": "[ppb]", "ppt": "[pptr]", "Wh": "W.h", "kWh": "kW.h", "Wh/km": "W.h/km", "Ah": "A.h",
		"dB": "", "dBW": "", "dBm": "", "Bspl": "", "NTU": "", "lat": "", "lon": "", "VA": "", "VAs": "", "var": "", "vars": "", "VAh": "", "varh": "",
		"kVA": "", "kvar": "", "kVAh": "", "kvarh": "", "bit/s": "bit/s", "Mbit/s": "Mbit/s"}
	other := func(symbol string) string {
		if s, ok := spelled[symbol]; ok {
			return s
		}
		return symbol
	}
	var ours, theirs []pair
	for _, a := range unit.Symbols() {
		for _, b := range unit.Symbols() {
			ua, err := unit.Lookup(a)
			if err != nil {
				t.Fatal(err)
			}
			ub, _ := unit.Lookup(b)
			if a == b || other(a) == "" || other(b) == "" || ua.Dimension != ub.Dimension || ua.Scale != ub.Scale ||
				ua.Dimension == (unit.Dimension{}) && ua.IsOne() {
				continue
			}
			for _, v := range []float64{1, 37.25, -4} {
				ours = append(ours, pair{a, b, v})
				theirs = append(theirs, pair{other(a), other(b), v})
			}
		}
	}
	in, err := json.Marshal(theirs)
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("node", "-e", `
		const u = require("@lhncbc/ucum-lhc").UcumLhcUtils.getInstance()
		const pairs = JSON.parse(require("fs").readFileSync(0, "utf8"))
		console.log(JSON.stringify(pairs.map(p => { const r = u.convertUnitTo(p.From, p.Value, p.To); return r.status === "succeeded" ? r.toVal : (r.msg || []).join(" ") })))`)
	cmd.Dir, cmd.Stdin = corpora, bytes.NewReader(in)
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	var answers []any
	if err := json.Unmarshal(out, &answers); err != nil {
		t.Fatal(err)
	}
	compared := map[string]bool{}
	for i, a := range answers {
		want, ok := a.(float64)
		if !ok {
			t.Errorf("the other converter does not know %s or %s: %v", theirs[i].From, theirs[i].To, a)
			continue
		}
		got, err := unit.Convert(ours[i].Value, ours[i].From, ours[i].To)
		if err != nil || math.Abs(got-want) > 1e-9*math.Max(math.Abs(want), 1e-300) && math.Abs(got-want) > 1e-10 {
			t.Errorf("%g %s is %v %s, %v; the other converter says %v", ours[i].Value, ours[i].From, got, ours[i].To,
				err, want)
		}
		compared[ours[i].From] = true
	}
	t.Logf("%d conversions of %d units compared", len(answers), len(compared))
	if len(compared) < 90 {
		t.Errorf("only %d units were compared", len(compared))
	}
}

// A conversion is exact to the last place: it is compared with rationals.
func TestConversionIsExact(t *testing.T) {
	for _, c := range []struct {
		from, to   string
		ratio, add string
	}{
		{"[degF]", "Cel", "5/9", "-160/9"}, {"Cel", "[degF]", "9/5", "32"}, {"Cel", "K", "1", "5463/20"}, {"L/min", "m3/h", "3/50", "0"},
		{"km/h", "m/s", "5/18", "0"}, {"mbar", "[psi]", "645160000000/44482216152605", "0"}, {"ms", "d", "1/86400000", "0"}, {"dBm", "dBW", "1", "-30"},
	} {
		ratio, _ := new(big.Rat).SetString(c.ratio)
		add, _ := new(big.Rat).SetString(c.add)
		if err := quick.Check(func(milli int32, scale uint8) bool {
			v := float64(milli) / math.Pow10(int(scale%7))
			got, err := unit.Convert(v, c.from, c.to)
			exact := new(big.Rat).SetFloat64(v)
			exact.Add(exact.Mul(exact, ratio), add)
			want, _ := exact.Float64()
			ulp := math.Abs(math.Nextafter(want, math.Inf(1)) - want)
			return err == nil && math.Abs(got-want) <= ulp
		}, &quick.Config{MaxCount: 3000}); err != nil {
			t.Errorf("%s to %s: %v", c.from, c.to, err)
		}
	}
}

func TestSymbolsThatArePeoples(t *testing.T) {
	for symbol, meant := range map[string]string{"celsius": "Cel", "lpm": "L/min", "kwh": "kWh", "PSI": "[psi]",
		"mins": "min", "rpm": "1/min"} {
		if _, err := unit.Lookup(symbol); err == nil || !strings.Contains(err.Error(), "'"+meant+"'") {
			t.Errorf("Lookup(%q) says %v, want a hint at %s", symbol, err, meant)
		}
	}
	for _, symbol := range []string{"furlong", "m//s", "kkg", "m0", "m-", "/", "..", "m.", "{x}m", "Kim", "kmin",
		"ünit", "[degF", "m99"} {
		if u, err := unit.Lookup(symbol); err == nil && symbol != "/" {
			t.Errorf("Lookup(%q) is %+v", symbol, u)
		}
	}
}

func TestTimesOver(t *testing.T) {
	must := func(s string) unit.Unit {
		u, err := unit.Lookup(s)
		if err != nil {
			t.Fatal(err)
		}
		return u
	}
	for _, c := range []struct {
		got       unit.Unit
		like      string
		dimension string
	}{
		{must("L/min").Times(must("min")), "L", "volume"}, {must("Cel").Over(must("h")), "K/h", "change of temperature over time"},
		{must("kPa").Over(must("Pa")), "[ppth]", "plain number"}, {must("V").Times(must("A")), "W", "power"}, {must("m").Over(must("m")), "1", "plain number"},
		{must("Cel").Difference(), "K", "temperature"}, {must("dBm").Difference(), "dB", "signal level"}, {must("L").Over(must("m3/s")), "ms", "time"},
	} {
		if c.got.Dimension.String() != c.dimension {
			t.Errorf("%s is a %s, want %s", c.got.Symbol, c.got.Dimension, c.dimension)
		}
		like := must(c.like)
		if c.like == "K" {
			like = like.Difference()
		}
		if _, err := c.got.To(like); err != nil {
			t.Errorf("%s: %v", c.got.Symbol, err)
		}
	}
	if must("Cel").Same(must("K")) || !must("°C").Same(must("Cel")) || !must("").IsOne() || must("%").IsOne() {
		t.Error("Same and IsOne are wrong")
	}
}

func FuzzLookup(f *testing.F) {
	for _, s := range []string{"Cel", "umol/L", "m3.s-1", "[degF]", "{rev}/min", "//", "kW.h", "µg/m³"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		u, err := unit.Lookup(s)
		if err != nil {
			return
		}
		if c, err := u.To(u); err != nil || !c.Identity() {
			t.Errorf("%q does not convert to itself: %v", s, err)
		}
		_ = u.Display()
		if again, err := unit.Lookup(u.Symbol); err != nil || !again.Same(u) {
			t.Errorf("%q is written %q, which is %+v, %v", s, u.Symbol, again, err)
		}
	})
}

func TestDisplay(t *testing.T) {
	for symbol, want := range map[string]string{"Cel": "°C", "[degF]": "°F", "ug/m3": "µg/m³", "umol/L": "µmol/L",
		"m3/h": "m³/h", "kOhm": "kΩ", "1/min": "/min", "mm[Hg]": "mmHg", "m.s": "m·s", "%RH": "%", "L/min": "L/min", "": "", "1": "", "unheard": "unheard"} {
		if got := unit.Display(symbol); got != want {
			t.Errorf("Display(%q) = %q, want %q", symbol, got, want)
		}
	}
}

// The whole registry of RFC 8428 and of RFC 8798 is known, and has the
// dimension that its description says.
func TestRegistry(t *testing.T) {
	for dimension, symbols := range map[string]string{
		"length": "m km cm mm", "mass": "kg g", "time": "s ms min h EL", "current": "A mA", "temperature": "K Cel", "luminous intensity": "cd", "amount of substance": "mol",
		"frequency": "Hz MHz 1/s 1/min beat/min Bq", "angle": "rad deg", "solid angle": "sr", "force": "N", "pressure": "Pa hPa", "energy": "J Wh kWh", "power": "W kW", "charge": "C Ah",
		"voltage": "V mV", "capacitance": "F", "resistance": "Ohm", "conductance": "S", "inductance": "H", "area": "m2", "volume": "m3 l", "speed": "m/s km/h mm/h m/h", "acceleration": "m/s2",
		"volume flow": "m3/s l/s", "irradiance": "W/m2", "amount of data": "bit B KiB GB", "data rate": "bit/s Mbit/s B/s MB/s", "latitude": "lat", "longitude": "lon", "acidity": "pH", "signal level": "dB dBW dBm",
		"sound level": "Bspl", "plain number": "count / % %RH %EL beats ppm /100 /1000", "conductivity": "S/m", "apparent power": "VA kVA", "reactive power": "var kvar", "density": "kg/m3 ug/m3", "illuminance": "lx", "turbidity": "NTU",
	} {
		for _, s := range strings.Fields(symbols) {
			if u, err := unit.Lookup(s); err != nil || u.Dimension.String() != dimension {
				t.Errorf("%s is a %s, %v; want %s", s, u.Dimension, err, dimension)
			}
		}
	}
	for _, s := range strings.Fields("Wb T lm Gy Sv kat cd/m2 VAs vars VAh kVAh varh kvarh Wh/km J/m ppb ppt") {
		if _, err := unit.Lookup(s); err != nil {
			t.Error(err)
		}
	}
}
