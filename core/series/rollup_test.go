package series_test

import (
	"errors"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"ullage/core/series"
)

// slow sums one cell up millisecond by millisecond's worth: by definition.
func slow(ats []int64, vs []float64, from, to, hold int64) (r series.Rollup) {
	r.At = from
	for i, at := range ats {
		until := at + hold
		if i+1 < len(ats) {
			until = min(until, ats[i+1])
		} else {
			until = at // the newest holds for no time that is known
		}
		if w := min(until, to) - max(at, from); w > 0 {
			r.Area += vs[i] * float64(w)
			r.Held += w
		}
		if at < from || at >= to {
			continue
		}
		if r.N++; r.N == 1 {
			r.Min, r.Max, r.First = vs[i], vs[i], vs[i]
		}
		r.Min, r.Max, r.Sum, r.Last = min(r.Min, vs[i]), max(r.Max, vs[i]), r.Sum+vs[i], vs[i]
	}
	return r
}

func near(a, b float64) bool { return math.Abs(a-b) <= 1e-9*max(1, math.Abs(a), math.Abs(b)) }

func alike(a, b series.Rollup) bool {
	return a.At == b.At && a.N == b.N && a.Held == b.Held && a.Min == b.Min && a.Max == b.Max && a.First == b.First &&
		a.Last == b.Last &&
		near(a.Sum, b.Sum) && near(a.Area, b.Area)
}

// TestRollerAgainstItsDefinition compares with sums made the slow way, and the
// coarser levels made of finer ones with those made of samples.
func TestRollerAgainstItsDefinition(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	for range 300 {
		const width, hold = 900_000, 180_000
		at := int64(1772359200000) + r.Int64N(width)
		var ats []int64
		var vs []float64
		fine, coarse := series.NewRoller(series.Every(width), hold), series.NewRoller(series.Every(4*width), hold)
		for range 1 + r.IntN(200) {
			v := math.Round(r.NormFloat64()*1000) / 10
			ats, vs = append(ats, at), append(vs, v)
			fine.Add(at, v)
			coarse.Add(at, v)
			at += 1 + r.Int64N(60_000)
			if r.IntN(30) == 0 {
				at += r.Int64N(10 * width) // a gap
			}
		}
		for _, got := range fine.Rollups() {
			if want := slow(ats, vs, got.At, got.At+width, hold); !alike(got, want) {
				t.Fatalf("the cell is %+v, want %+v", got, want)
			}
		}
		if made := series.Coarser(fine.Rollups(), series.Every(4*width)); len(made) != len(coarse.Rollups()) {
			t.Fatalf("%d coarser cells, want %d", len(made), len(coarse.Rollups()))
		} else {
			for i, got := range made {
				want := coarse.Rollups()[i]
				// What held into a fine cell without a sample of its own is left out there.
				got.Area, got.Held, want.Area, want.Held = 0, min(got.Held, want.Held), 0, min(got.Held, want.Held)
				if !alike(got, want) {
					t.Fatalf("made of finer ones it is %+v, of samples %+v", got, want)
				}
			}
		}
		block := series.EncodeRollups(nil, fine.Rollups())
		back, err := series.DecodeRollups(nil, block)
		if err != nil || !slices.Equal(back, fine.Rollups()) {
			t.Fatalf("%d roll-ups came out as %d others, %v", len(fine.Rollups()), len(back), err)
		}
		bad := slices.Clone(block)
		bad[r.IntN(len(bad))] ^= 1 << r.IntN(8)
		if got, err := series.DecodeRollups(nil, bad); !errors.Is(err, series.ErrDamaged) && !slices.Equal(got, back) {
			t.Fatal("damage went unnoticed")
		}
	}
}

func TestLevels(t *testing.T) {
	for every, want := range map[int64]int{1000: 0, 60_000: 0, 90_000: 0, 90_001: 1, 360_000: 1, 1_800_000: 2,
		8_640_000: 2, 8_640_001: 3} {
		if got := series.LevelsOf(every); got != want {
			t.Errorf("every %d ms the finest level is %d, want %d", every, got, want)
		}
	}
}

// TestBlocksOfAnyNumbers writes and reads roll-ups of numbers that are decimals
// and of some that are not, and finds that the former take less room.
func TestBlocksOfAnyNumbers(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	sizes := map[string]int{}
	all := map[string]func(i int) float64{
		"decimals":      func(i int) float64 { return math.Round(220+30*math.Sin(float64(i)/20)+r.Float64()*4) / 10 },
		"whole":         func(int) float64 { return float64(r.IntN(5)) },
		"booleans":      func(i int) float64 { return float64(i / 7 % 2) },
		"thirds":        func(i int) float64 { return float64(i) / 3 },
		"huge":          func(int) float64 { return (r.Float64() - 0.5) * math.MaxFloat64 / 1e9 },
		"large decimal": func(i int) float64 { return 9e13 + float64(i) + 0.5 },
		"tiny":          func(int) float64 { return r.Float64() * 1e-300 },
		"minus zero":    func(int) float64 { return math.Copysign(0, -1) },
		"mixed":         func(i int) float64 { return []float64{1.5, -1e300, 1.0 / 7, 0}[i%4] },
	}
	for _, name := range slices.Sorted(maps.Keys(all)) { // in one order, or the gaps are others each time
		v := all[name]
		roller := series.NewRoller(series.Every(900_000), 180_000)
		at := int64(1_772_000_000_000)
		for i := range 3000 {
			roller.Add(at, v(i))
			if at += 60_000; r.IntN(100) == 0 {
				at += r.Int64N(1e7)
			}
		}
		in := roller.Rollups()
		block := series.EncodeRollups(nil, in)
		sizes[name] = len(block) * 1000 / len(in)
		out, err := series.DecodeRollups(nil, block)
		if err != nil || len(out) != len(in) {
			t.Fatalf("%s: %d of %d roll-ups came back, %v", name, len(out), len(in), err)
		}
		for i := range in {
			if in[i] != out[i] || math.Signbit(in[i].Sum) != math.Signbit(out[i].Sum) {
				t.Fatalf("%s: %+v came back as %+v", name, in[i], out[i])
			}
		}
	}
	if sizes["decimals"] > 11_000 || sizes["booleans"] > 6_000 || sizes["decimals"] > sizes["thirds"] || sizes["thirds"] > 17_000 {
		t.Errorf("thousandths of a byte a roll-up: %v", sizes)
	}
	// The extremes of what can be counted.
	edge := []series.Rollup{{At: 0, N: math.MaxInt64, Min: -1, Max: 1, Sum: 0, First: 1, Last: -1, Held: math.MaxInt64},
		{At: 900_000, N: 1, Min: 9007199254740992, Max: 9007199254740992, Sum: 9007199254740992, First: 9007199254740992, Last: -9007199254740992, Area: -9007199254740992, Held: 1 << 40}}
	for n := range edge {
		if out, err := series.DecodeRollups(nil, series.EncodeRollups(nil, edge[n:])); err != nil || !slices.Equal(out[1-n:], edge[1:]) {
			t.Errorf("%+v, %v", out, err)
		}
	}
}

func FuzzDecodeRollups(f *testing.F) {
	r := rand.New(rand.NewPCG(11, 12))
	for _, by := range []float64{10, 3} { // side by side, and in columns
		roller := series.NewRoller(series.Every(1000), 3000)
		for i := range 200 {
			roller.Add(int64(i)*700, math.Round(r.NormFloat64()*100)/by)
		}
		f.Add(series.EncodeRollups(nil, roller.Rollups()))
	}
	f.Fuzz(func(t *testing.T, block []byte) {
		if out, err := series.DecodeRollups(nil, series.Sealed(block)); err == nil && (len(out) == 0 || len(out) > series.MaxRollups) {
			t.Fatalf("%d roll-ups", len(out))
		}
	})
}

// TestTidy takes away what adding decimals leaves behind, and nothing else.
func TestTidy(t *testing.T) {
	for in, want := range map[float64]float64{
		0.1 + 0.2: 0.3, -0.1 - 0.2: -0.3, 21.4 + 21.4 + 21.4: 64.2, 1e11 + 0.1: 1e11 + 0.1, 123456.7 +
			0.1: 123456.8, 0: 0, 1.0 / 3: 1.0 / 3, 1e300: 1e300, 1e-300: 1e-300,
		math.Inf(1): math.Inf(1), 999.9999999999999: 1000, 0.09999999999999999: 0.09999999999999999, 0.1: 0.1, 1: 1, 99999999999.9: 99999999999.9,
	} {
		if got := series.Tidy(in); got != want {
			t.Errorf("%v becomes %v, want %v", in, got, want)
		}
	}
	// Twelve digits are counted from the first, whatever the magnitude.
	r := rand.New(rand.NewPCG(5, 5))
	for range 20_000 {
		x := (r.Float64() - 0.5) * math.Pow(10, float64(r.IntN(16)-2))
		want := x
		if d := 11 - int(math.Floor(math.Log10(math.Abs(x)))); d >= 0 && d <= 12 {
			p := math.Pow(10, float64(d))
			if y := math.Round(x*p) / p; math.Abs(y-x) <= 1e-13*math.Abs(x) {
				want = y
			}
		}
		if got := series.Tidy(x); got != want {
			t.Fatalf("%v becomes %v, want %v", x, got, want)
		}
	}
}
