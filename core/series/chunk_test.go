package series_test

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"ullage/core/series"
	"ullage/core/value"
)

// shapes are kinds of series as devices make them, and some that none would.
var shapes = map[string]func(r *rand.Rand, i int) value.Value{
	"one decimal": func(r *rand.Rand, i int) value.Value {
		return value.OfNumber(math.Round((20+3*math.Sin(float64(i)/90))*10+r.Float64()) / 10)
	},
	"constant":   func(*rand.Rand, int) value.Value { return value.OfNumber(3.41) },
	"integers":   func(r *rand.Rand, i int) value.Value { return value.OfNumber(float64(r.Int64N(1 << 53))) },
	"negative":   func(r *rand.Rand, i int) value.Value { return value.OfNumber(-math.Round(r.Float64()*1e4) / 100) },
	"any float":  func(r *rand.Rand, i int) value.Value { return value.OfNumber(finite(r)) },
	"minus zero": func(r *rand.Rand, i int) value.Value { return value.OfNumber(math.Copysign(0, float64(i%3)-1)) },
	"large and fine": func(r *rand.Rand, i int) value.Value {
		return value.OfNumber([]float64{9007199254740991, 0.1, 1e300, 0.30000000000000004}[i%4])
	},
	"booleans": func(r *rand.Rand, i int) value.Value { return value.OfBool(i/40%2 == 0) },
	"states": func(r *rand.Rand, i int) value.Value {
		return value.OfText([]string{"idle", "filling", "pressing", "emptying"}[i/25%4])
	},
	"texts": func(r *rand.Rand, i int) value.Value {
		return value.OfText(fmt.Sprintf("Fass %d „%c“", r.IntN(1000), rune('α'+i%20)))
	},
	"positions": func(r *rand.Rand, i int) value.Value {
		return value.OfNumber(math.Round((47.1234567+r.Float64()/1e4)*1e7) / 1e7)
	},
	"fifteen digits": func(r *rand.Rand, i int) value.Value {
		return value.OfNumber(math.Round((21+math.Sin(float64(i)/90)+r.Float64()/5)*1e13) / 1e13)
	},
	"seventeen digits": func(r *rand.Rand, i int) value.Value {
		return value.OfNumber(21 + math.Sin(float64(i)/90) + r.Float64()/5)
	},
	"of 32 bits": func(r *rand.Rand, i int) value.Value {
		return value.OfNumber(float64(float32(21 + math.Sin(float64(i)/90) + r.Float64()/5)))
	},
	"of a converter": func(r *rand.Rand, i int) value.Value {
		return value.OfNumber(float64(2100+int(100*math.Sin(float64(i)/90))+r.IntN(3)) * 0.0107421875 / 3.3)
	},
	"fahrenheit": func(r *rand.Rand, i int) value.Value {
		return value.OfNumber(float64(210+int(30*math.Sin(float64(i)/90))+r.IntN(3))*0.1*1.8 + 32)
	},
	"both signs": func(r *rand.Rand, i int) value.Value { return value.OfNumber(r.NormFloat64()) },
	"of all kinds": func(r *rand.Rand, i int) value.Value {
		return []value.Value{{}, value.OfNumber(1.5), value.OfText("x"), value.OfText(""),
			value.OfBool(true)}[r.IntN(5)]
	},
}

func finite(r *rand.Rand) float64 {
	for {
		if f := math.Float64frombits(r.Uint64()); !math.IsNaN(f) && !math.IsInf(f, 0) {
			return f
		}
	}
}

func made(r *rand.Rand, n int, v func(*rand.Rand, int) value.Value, regular bool) []series.Sample {
	at := int64(1772359200000) + r.Int64N(1e6)
	out := make([]series.Sample, n)
	for i := range out {
		out[i] = series.Sample{At: at, Value: v(r, i)}
		at += 60_000
		if !regular {
			at += 1 + r.Int64N(1<<r.IntN(30))
			if r.IntN(10) == 0 {
				out[i].Quality = value.Quality(r.IntN(8))
				out[i].DeviceAt = max(at+r.Int64N(1<<40)-1<<39, 1)
			}
		}
	}
	return out
}

func same(a, b series.Sample) bool {
	return a.At == b.At && a.Quality == b.Quality && a.DeviceAt == b.DeviceAt && a.Value.Kind == b.Value.Kind &&
		a.Value.Text == b.Value.Text &&
		math.Float64bits(a.Value.Num) == math.Float64bits(b.Value.Num)
}

// TestChunksGiveBackWhatWentIn holds for every shape, bit by bit.
func TestChunksGiveBackWhatWentIn(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for name, v := range shapes {
		for range 60 {
			in := made(r, 1+r.IntN(600), v, r.IntN(2) == 0)
			before := slices.Clone(in)
			out, err := series.Decode(nil, series.Encode(nil, in))
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			if !slices.EqualFunc(in, out, same) || !slices.EqualFunc(in, before, same) {
				t.Fatalf("%s: %d samples came out as %d others", name, len(in), len(out))
			}
		}
	}
}

// TestChunksAreSmall states what the shapes of a fleet cost.
func TestChunksAreSmall(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for name, most := range map[string]float64{"one decimal": 0.6, "constant": 0.1, "booleans": 0.2, "states": 0.3,
		"negative": 2.5, "any float": 8.2, "fifteen digits": 5.5, "seventeen digits": 6.2, "of 32 bits": 2.5,
		"of a converter": 1, "fahrenheit": 0.7} {
		in := made(r, 480, shapes[name], true)
		size := float64(len(series.Encode(nil, in))) / float64(len(in))
		if size > most {
			t.Errorf("%s costs %.2f bytes a sample, more than %.2f", name, size, most)
		}
	}
}

// TestRice gives back every number with every k, and finds a k that is about the
// best one.
func TestRice(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	edge := []int64{0, -1, 1, math.MaxInt64, math.MinInt64, 1 << 40, -1 << 20}
	for _, width := range []int{1, 3, 17, 43, 62} {
		xs := slices.Clone(edge)
		for range 480 {
			xs = append(xs, r.Int64N(1<<width)-1<<(width-1))
		}
		best := math.MaxInt
		for k := range 64 {
			out, size, whole := series.Riced(xs, k)
			if !whole || !slices.Equal(out, xs) {
				t.Fatalf("numbers of %d bits do not come back with %d lower ones", width, k)
			}
			best = min(best, size)
		}
		k, _ := series.RiceBits(xs)
		if _, size, _ := series.Riced(xs, k); float64(size) > 1.03*float64(best) {
			t.Errorf("of %d bits %d are taken as the lower ones: %d bytes, the least is %d", width, k, size, best)
		}
	}
	if out, size, whole := series.Riced(nil, 7); len(out) != 0 || size != 0 || !whole {
		t.Error("no number takes room")
	}
}

// TestDamageIsNoticed turns every bit of a chunk and cuts it at every length.
func TestDamageIsNoticed(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for name, v := range shapes {
		in := made(r, 40, v, false)
		chunk := series.Encode(nil, in)
		for i := range len(chunk) * 8 {
			bad := slices.Clone(chunk)
			bad[i/8] ^= 1 << (i % 8)
			if out, err := series.Decode(nil, bad); !errors.Is(err, series.ErrDamaged) &&
				!slices.EqualFunc(in, out, same) {
				t.Fatalf("%s: with bit %d turned other samples came out", name, i)
			}
		}
		for n := range chunk {
			if _, err := series.Decode(nil, chunk[:n]); !errors.Is(err, series.ErrDamaged) {
				t.Fatalf("%s: cut to %d bytes gives %v", name, n, err)
			}
		}
	}
}

func TestScaled(t *testing.T) {
	for _, c := range []struct {
		v  float64
		n  int64
		d  int
		ok bool
	}{
		{21.4, 214, 1, true}, {-0.05, -5, 2, true}, {0, 0, 0, true}, {1 << 53, 1 << 53, 0, true}, {1e300, 0, 0, false},
		{0.30000000000000004, 0, 0, false}, {math.Copysign(0, -1), 0, 0, false}, {1e-12, 1, 12, true}, {1e-13, 1, 13, true},
		{21.3333333333333, 213333333333333, 13, true}, {1e-23, 0, 0, false},
	} {
		if n, d, ok := series.Scaled(c.v, 0); n != c.n || d != c.d || ok != c.ok {
			t.Errorf("%v is %d with %d decimals, %v", c.v, n, d, ok)
		}
	}
}

func FuzzDecode(f *testing.F) {
	r := rand.New(rand.NewPCG(7, 8))
	for _, v := range shapes {
		f.Add(series.Encode(nil, made(r, 30, v, false)))
	}
	f.Fuzz(func(t *testing.T, chunk []byte) {
		for _, c := range [][]byte{chunk, series.Sealed(chunk)} { // most of what is made up fails at its checksum
			out, err := series.Decode(nil, c)
			if err != nil {
				continue
			}
			again, err := series.Decode(nil, series.Encode(nil, out))
			if err != nil || !slices.EqualFunc(out, again, same) {
				t.Fatalf("%d samples come out as %d others, %v", len(out), len(again), err)
			}
		}
	})
}

func BenchmarkChunk(b *testing.B) {
	for _, name := range []string{"one decimal", "fifteen digits", "seventeen digits", "of a converter"} {
		in := made(rand.New(rand.NewPCG(1, 2)), 480, shapes[name], true)
		chunk := series.Encode(nil, in)
		b.Run("encode/"+name, func(b *testing.B) {
			b.ReportAllocs()
			dst := make([]byte, 0, 4096)
			for b.Loop() {
				dst = series.Encode(dst[:0], in)
			}
			b.ReportMetric(float64(len(chunk))/480, "bytes/sample")
		})
		b.Run("decode/"+name, func(b *testing.B) {
			b.ReportAllocs()
			dst := make([]series.Sample, 0, 480)
			for b.Loop() {
				dst, _ = series.Decode(dst[:0], chunk)
			}
		})
	}
}
