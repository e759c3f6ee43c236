package store

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"ullage/core/series"
	"ullage/core/value"
)

// anySample makes a sample of any kind: of times that fit, are late, or are far off, and of numbers
// that are decimals, or none.
func anySample(r *rand.Rand, last int64) series.Sample {
	x := series.Sample{At: last + 10_000 + r.Int64N(9) - 4}
	switch r.IntN(12) {
	case 0:
		x.At = last
	case 1:
		x.At = last - r.Int64N(1e9)
	case 2:
		x.At = r.Int64()
	}
	switch r.IntN(8) {
	case 0:
		x.Value = value.OfText([]string{"", "ok", "ünderway \x00", string(make([]byte, 300))}[r.IntN(4)])
	case 1:
		x.Value = value.OfBool(r.IntN(2) == 0)
	case 2:
		x.Value = value.OfNumber([]float64{0, math.Copysign(0, -1), math.Pi, math.MaxFloat64, -math.SmallestNonzeroFloat64,
			1 << 53, -1<<48 + 1, 1e-7, 0.1 + 0.2, math.Inf(-1)}[r.IntN(10)])
	case 3:
		x.Value = value.OfNumber(math.Float64frombits(r.Uint64()))
	case 4: // no value
	default:
		x.Value = value.OfNumber(float64(r.IntN(20_000)-10_000) / math.Pow(10, float64(r.IntN(8))))
	}
	if r.IntN(5) == 0 {
		x.Quality = value.Quality(r.IntN(8))
	}
	if r.IntN(8) == 0 {
		x.DeviceAt = r.Int64N(4e12)
	}
	return x
}

func same(a, b series.Sample) bool {
	return a.At == b.At && a.Quality == b.Quality && a.DeviceAt == b.DeviceAt && a.Value.Kind == b.Value.Kind &&
		a.Value.Text == b.Value.Text && math.Float64bits(a.Value.Num) == math.Float64bits(b.Value.Num)
}

// What a series holds unsealed comes back as it was given, bit by bit, and is
// sorted and picked as a plain list of it would be.
func TestCellsKeepWhatTheyWereGiven(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	for range 400 {
		s := &stream{every: r.Int64N(600_000), sorted: true}
		var plain []series.Sample
		last := int64(1_790_000_000_000)
		for range r.IntN(60) {
			x := anySample(r, last)
			last = x.At
			s.add(&x)
			plain = append(plain, x)
		}
		if s.n != len(plain) {
			t.Fatalf("%d were added, it says %d", len(plain), s.n)
		}
		i := 0
		s.each(func(x *series.Sample) {
			if !same(*x, plain[i]) {
				t.Fatalf("reading %d: %+v, want %+v", i, *x, plain[i])
			}
			i++
		})
		if i != len(plain) {
			t.Fatalf("%d of %d came back", i, len(plain))
		}
		from, to := last-r.Int64N(1e6), last+r.Int64N(1e6)
		var want []series.Sample
		for i, x := range plain {
			again := func(y series.Sample) bool { return y.At == x.At }
			if x.At >= from && x.At < to && !slices.ContainsFunc(plain[i+1:], again) {
				want = append(want, x)
			}
		}
		slices.SortFunc(want, func(a, b series.Sample) int { return int(min(max(a.At-b.At, -1), 1)) })
		if got := s.unsealed(from, to); !slices.EqualFunc(got, want, same) {
			t.Fatalf("from %d to %d: %v, want %v", from, to, got, want)
		}
		all := s.unsealed(math.MinInt64, math.MaxInt64)
		if x, ok := s.newest(); ok != (len(all) > 0) || ok && !same(x, all[len(all)-1]) && all[len(all)-1].At != math.MaxInt64 {
			t.Fatalf("the newest is %+v (%v) of %v", x, ok, all)
		}
		if s.clear(); s.n != 0 || len(s.cells) != 0 {
			t.Fatal("something is left")
		}
		x := anySample(r, 0)
		s.add(&x)
		if got, _ := s.newest(); !same(got, x) {
			t.Fatalf("after what was sealed: %+v, want %+v", got, x)
		}
	}
}

// A device that measures every ten seconds, with a few decimals and a clock that is some
// milliseconds off each time, takes five bytes a reading.
func TestCellsAreSmall(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	s := &stream{every: 10_000, sorted: true}
	at := int64(1_790_000_000_000)
	for range 1000 {
		at += 10_000 + r.Int64N(101) - 50
		s.add(&series.Sample{At: at, Value: value.OfNumber(math.Round(1800+r.Float64()*800) / 100)})
	}
	if each := len(s.cells) / s.n; each > 5 {
		t.Errorf("a reading takes %d bytes", each)
	}
}

// BenchmarkCells is a reading that is packed, and unpacked with the others when they are sealed: decimals as
// devices send them, and averages, which are none.
func BenchmarkCells(b *testing.B) {
	for _, kind := range []string{"decimals", "averages"} {
		r := rand.New(rand.NewPCG(1, 2))
		var all []series.Sample
		for i := range int64(480) {
			v := math.Round(1800+r.Float64()*800) / 100
			if kind == "averages" {
				v /= 3
			}
			all = append(all, series.Sample{At: 1_790_000_000_000 + i*10_000 + r.Int64N(50), Value: value.OfNumber(v)})
		}
		s := &stream{every: 10_000, sorted: true}
		b.Run("pack/"+kind, func(b *testing.B) {
			for i := 0; b.Loop(); i++ {
				if i%len(all) == 0 {
					s.clear()
				}
				s.add(&all[i%len(all)])
			}
		})
		b.Run("unpack/"+kind, func(b *testing.B) {
			s.clear()
			for i := range all {
				s.add(&all[i])
			}
			for b.Loop() {
				s.unsealed(0, math.MaxInt64)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*s.n), "ns/reading")
		})
	}
}
