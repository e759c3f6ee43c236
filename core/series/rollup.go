package series

import (
	"fmt"
	"math"

	"ullage/core/value"
)

// Rollup sums up the numbers of one span of time. Booleans count as 0 and 1.
type Rollup struct {
	At          int64 // where the span begins, ms since 1970
	N           int64 // samples in it; at least one
	Min, Max    float64
	Sum         float64
	First, Last float64
	// Area is each value times how long it held, in ms, and Held how long that
	// was in all: Area/Held is the mean weighted by time. A value holds until the
	// next sample, and no longer than the roll-up was told.
	Area float64
	Held int64
}

// Mean returns the plain mean of the samples.
func (r *Rollup) Mean() float64 { return r.Sum / float64(r.N) }

// Weighted returns the mean weighted by time; the plain mean where no value
// held for any time yet.
func (r *Rollup) Weighted() float64 {
	if r.Held == 0 {
		return r.Mean()
	}
	return r.Area / float64(r.Held)
}

// Add takes in the roll-up of a later span.
func (r *Rollup) Add(o *Rollup) {
	if r.N == 0 {
		at := r.At
		*r = *o
		r.At = at
		return
	}
	r.N += o.N
	r.Min, r.Max = min(r.Min, o.Min), max(r.Max, o.Max)
	r.Sum = Tidy(r.Sum + o.Sum)
	r.Last = o.Last
	r.Area = Tidy(r.Area + o.Area)
	r.Held += o.Held
}

// mostTidied is how many decimals a number may have that Tidy looks at.
const mostTidied = 12

// Tidy takes away what binary fractions leave behind when decimals are added:
// it rounds to twelve digits where nothing but that is lost.
func Tidy(x float64) float64 {
	if x == 0 || math.IsInf(x, 0) {
		return x
	}
	d := 11 - magnitude(math.Abs(x))
	if d < 0 || d > mostTidied {
		return x
	}
	if y := math.Round(x*powers[d]) / powers[d]; math.Abs(y-x) <= 1e-13*math.Abs(x) {
		return y
	}
	return x
}

// magnitude returns the decimal exponent of x, which is above 0: 2 for 100 and
// for 999. Far from 1 it may be one too small.
func magnitude(x float64) int {
	const log2 = 1233 // of 4096: the logarithm of 2 to the base of 10
	g := (int(math.Float64bits(x)>>52) - 1023) * log2 >> 12
	switch {
	case g >= 0 && g+1 < len(powers) && x >= powers[g+1]:
		g++
	case g < 0 && -g-1 < len(powers) && x*powers[-g-1] >= 1:
		g++
	}
	return g
}

// Levels are the widths of the roll-ups that are kept, the finest first, in ms.
var Levels = [...]int64{15 * 60_000, 3600_000, 24 * 3600_000}

// LevelsOf returns the least index into Levels that is kept for readings that
// are expected every so many ms: a level is worth it from ten times that.
func LevelsOf(every int64) int {
	for i, width := range Levels {
		if width >= 10*every {
			return i
		}
	}
	return len(Levels)
}

// Grid says into which spans time is cut.
type Grid interface {
	// Cell returns the span that a time lies in, its end not included.
	Cell(at int64) (from, to int64)
}

// Every is the Grid of whole multiples of so many ms since 1970 (UTC).
type Every int64

// Cell implements Grid.
func (e Every) Cell(at int64) (from, to int64) {
	w := int64(e)
	from = at - (at%w+w)%w
	return from, from + w
}

// Roller sums samples up on a grid. Give it samples in order of time: Lead for
// one before the span that matters, if its value may hold on into it, Add for
// each within, and End for the first after it.
type Roller struct {
	grid Grid
	hold int64
	out  []Rollup
	end  int64 // of the cell of the newest roll-up
	// last is the newest value; it counts since lastAt and holds until holdsTo.
	last            float64
	lastAt, holdsTo int64
	any             bool
	carries         Rollup // what held into the cell that comes, before its first sample
}

// NewRoller returns a Roller. A value holds for hold ms at most.
func NewRoller(grid Grid, hold int64) *Roller { return &Roller{grid: grid, hold: hold} }

// Lead takes a sample from before the span, whose value counts from its start.
func (r *Roller) Lead(at int64, v float64, start int64) {
	r.last, r.lastAt, r.holdsTo, r.any = v, start, at+r.hold, true
}

// Add takes the next sample.
func (r *Roller) Add(at int64, v float64) {
	r.End(at)
	from, to := r.grid.Cell(at)
	if n := len(r.out); n == 0 || r.out[n-1].At != from {
		r.out = append(r.out, Rollup{At: from, Min: v, Max: v, First: v})
		if r.carries.Held > 0 && r.carries.At == from {
			r.out[n].Area, r.out[n].Held = r.carries.Area, r.carries.Held
		}
		r.end = to
	}
	k := &r.out[len(r.out)-1]
	k.N++
	k.Min, k.Max = min(k.Min, v), max(k.Max, v)
	k.Sum = Tidy(k.Sum + v)
	k.Last = v
	r.last, r.lastAt, r.holdsTo, r.any = v, at, at+r.hold, true
}

// End tells that another sample comes at a time, which ends what held, and
// does not count it.
func (r *Roller) End(at int64) {
	r.carries = Rollup{}
	if !r.any {
		return
	}
	until, begin := min(at, r.holdsTo), r.lastAt
	if n := len(r.out); n > 0 && begin < r.end {
		if own := min(until, r.end) - begin; own > 0 {
			k := &r.out[n-1]
			k.Area = Tidy(k.Area + r.last*float64(own))
			k.Held += own
		}
		begin = r.end
	}
	r.any = false
	if until <= begin {
		return
	}
	// A cell without a sample is a gap; what counts is the cell that it ends in.
	cell, _ := r.grid.Cell(until - 1)
	begin = max(begin, cell)
	r.carries = Rollup{At: cell, Area: Tidy(r.last * float64(until-begin)), Held: until - begin}
}

// Rollups returns what has come together so far.
func (r *Roller) Rollups() []Rollup { return r.out }

// Trim forgets all roll-ups but the newest, to which further samples may add.
func (r *Roller) Trim() {
	if n := len(r.out); n > 0 {
		r.out = []Rollup{r.out[n-1]}
	}
}

// Coarser sums roll-ups, given in order of time, up on a coarser grid whose
// cells are made of whole ones of theirs.
func Coarser(in []Rollup, grid Grid) []Rollup {
	var out []Rollup
	for i := range in {
		from, _ := grid.Cell(in[i].At)
		if n := len(out); n == 0 || out[n-1].At != from {
			out = append(out, Rollup{At: from})
		}
		out[len(out)-1].Add(&in[i])
	}
	return out
}

// MaxRollups is how many roll-ups one block may hold.
const MaxRollups = 4096

// columns of a roll-up, as they stand in a block.
const columns = 8

func (r *Rollup) column(i int) float64 {
	return [columns]float64{float64(r.N), r.Min, r.Max, r.Sum, r.First, r.Last, r.Area, float64(r.Held)}[i]
}

func (r *Rollup) setColumn(i int, x float64) {
	switch i {
	case 0:
		r.N = int64(x)
	case 7:
		r.Held = int64(x)
	default:
		*[columns]*float64{nil, &r.Min, &r.Max, &r.Sum, &r.First, &r.Last, &r.Area, nil}[i] = x
	}
}

// EncodeRollups appends a block of roll-ups to dst: framed like a chunk, the
// times as there, then, where all numbers are decimals, a byte 5, the decimals,
// and differences side by side; else each column as the values of a chunk: N,
// Min, Max, Sum, First, Last, Area, Held. They must be in ascending order of
// time, one to MaxRollups of them.
func EncodeRollups(dst []byte, rs []Rollup) []byte {
	e := encoders.Get().(*encoder)
	defer encoders.Put(e)
	b := e.times(len(rs), func(i int) int64 { return rs[i].At })
	if xs, d, ok := scale(rs); ok {
		return e.frame(dst, e.sideBySide(b, xs, d))
	}
	col := make([]Sample, len(rs))
	for c := range columns {
		for i := range rs {
			col[i].Value = value.OfNumber(rs[i].column(c))
		}
		b = e.values(b, col)
	}
	return e.frame(dst, b)
}

// DecodeRollups appends the roll-ups of a block to dst. It fails with
// ErrDamaged where the block is not as EncodeRollups wrote it.
func DecodeRollups(dst []Rollup, block []byte) ([]Rollup, error) {
	d := decoders.Get().(*decoder)
	defer decoders.Put(d)
	r, err := d.unframe(block)
	if err != nil {
		return dst, err
	}
	n := r.Uvarint()
	if n == 0 || n > MaxRollups {
		return dst, fmt.Errorf("%w: it says that it holds %d roll-ups", ErrDamaged, n)
	}
	first := len(dst)
	at := r.Varint()
	d.ints = readInts(&r, d.ints[:0], int(n)-1)
	step := int64(0)
	for i := range int(n) {
		if i > 0 && i <= len(d.ints) {
			step += d.ints[i-1]
			at += step
		}
		dst = append(dst, Rollup{At: at})
	}
	if len(r.Rest) > 0 && r.Rest[0] == codeRollups {
		r.Byte()
		d.sideBySide(dst[first:], &r)
	} else {
		col := make([]Sample, n)
		for c := range columns {
			d.values(col, &r)
			for i := range col {
				dst[first+i].setColumn(c, col[i].Value.Num)
			}
		}
	}
	if r.Bad || len(r.Rest) > 0 {
		return dst[:first], fmt.Errorf("%w: its body breaks off or goes on", ErrDamaged)
	}
	return dst, nil
}
