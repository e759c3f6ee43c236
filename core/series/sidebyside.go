package series

import (
	"math"

	"ullage/core/packed"
)

// scaled is a Rollup whose numbers are whole multiples of a power of ten.
type scaled struct{ n, min, max, sum, first, last, area, held int64 }

func (x *scaled) numbers() [6]*int64 {
	return [6]*int64{&x.min, &x.max, &x.sum, &x.first, &x.last, &x.area}
}

// numbers lists what of a Rollup has decimals.
func (r *Rollup) numbers() [6]*float64 {
	return [6]*float64{&r.Min, &r.Max, &r.Sum, &r.First, &r.Last, &r.Area}
}

// maxWhole bounds what a roll-up counts, and for how many ms its values held.
const maxWhole = 1 << 40

// scale finds the decimals that hold every number of some roll-ups exactly; it
// reports false where there are none.
func scale(rs []Rollup) (out []scaled, d int, ok bool) {
	for i := range rs {
		for _, v := range rs[i].numbers() {
			if _, d, ok = Scaled(*v, d); !ok {
				return nil, 0, false
			}
		}
	}
	out = make([]scaled, len(rs))
	for i := range rs {
		r, x := &rs[i], &out[i]
		if r.N < 1 || r.N > maxWhole || r.Held < 0 || r.Held > maxWhole {
			return nil, 0, false
		}
		x.n, x.held = r.N, r.Held
		to := x.numbers()
		for k, v := range r.numbers() {
			n := math.Round(*v * powers[d])
			if math.Abs(n) > 1<<53 || n/powers[d] != *v {
				return nil, 0, false
			}
			*to[k] = int64(n)
		}
	}
	return out, d, true
}

// likely makes a whole number of a guess; 0 where it would be none.
func likely(x float64) int64 {
	if math.Abs(x) < 1<<62 {
		return int64(x)
	}
	return 0
}

// likelySum is what x.sum would be if the values lay on a line from first to last.
func (x *scaled) likelySum() int64 {
	return likely(float64(x.n) / 2 * (float64(x.first) + float64(x.last)))
}

// likelyArea is what x.area would be if each value held as long.
func (x *scaled) likelyArea() int64 {
	return likely(float64(x.sum) / float64(x.n) * float64(x.held))
}

// differences are the columns of a block of scaled roll-ups: each is what is
// left of a number when those of the columns before it, and the roll-up before
// it, are known.
var differences = [columns]struct {
	of  func(x, before *scaled) int64
	set func(x, before *scaled, v int64)
}{
	{func(x, o *scaled) int64 { return x.n - o.n }, func(x, o *scaled, v int64) { x.n = o.n + v }},
	{func(x, o *scaled) int64 { return x.held - o.held }, func(x, o *scaled, v int64) { x.held = o.held + v }},
	{func(x, o *scaled) int64 { return x.first - o.last }, func(x, o *scaled, v int64) { x.first = o.last + v }},
	{func(x, _ *scaled) int64 { return x.last - x.first }, func(x, _ *scaled, v int64) { x.last = x.first + v }},
	{func(x, _ *scaled) int64 { return min(x.first, x.last) - x.min }, func(x, _ *scaled, v int64) { x.min = min(x.first, x.last) - v }},
	{func(x, _ *scaled) int64 { return x.max - max(x.first, x.last) }, func(x, _ *scaled, v int64) { x.max = max(x.first, x.last) + v }},
	{func(x, _ *scaled) int64 { return x.sum - x.likelySum() }, func(x, _ *scaled, v int64) { x.sum = x.likelySum() + v }},
	{func(x, _ *scaled) int64 { return x.area - x.likelyArea() }, func(x, _ *scaled, v int64) { x.area = x.likelyArea() + v }},
}

// sideBySide writes scaled roll-ups.
func (e *encoder) sideBySide(b []byte, xs []scaled, d int) []byte {
	b = append(b, codeRollups, byte(d))
	for _, column := range differences {
		e.ints = e.ints[:0]
		before := &scaled{}
		for i := range xs {
			e.ints = append(e.ints, column.of(&xs[i], before))
			before = &xs[i]
		}
		b = appendInts(b, e.ints)
	}
	return b
}

// sideBySide reads what it wrote, behind its code, into roll-ups that have
// their times.
func (d *decoder) sideBySide(out []Rollup, r *packed.Reader) {
	p := int(r.Byte())
	if p >= len(powers) {
		r.Bad = true
		return
	}
	d.ints = d.ints[:0]
	for k := range columns {
		d.ints = append(d.ints, readInts(r, make([]int64, 0, len(out)), len(out))...)
		if len(d.ints) != (k+1)*len(out) {
			r.Bad = true
			return
		}
	}
	var before scaled
	for i := range out {
		var x scaled
		for k, column := range differences {
			column.set(&x, &before, d.ints[k*len(out)+i])
		}
		if x.n < 1 || x.held < 0 {
			r.Bad = true
			return
		}
		out[i].N, out[i].Held = x.n, x.held
		to := out[i].numbers()
		for k, n := range x.numbers() {
			*to[k] = float64(*n) / powers[p]
		}
		before = x
	}
}
