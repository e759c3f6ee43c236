package store

import (
	"cmp"
	"slices"

	"ullage/core/packed"
	"ullage/core/series"
)

// stream is one series: a metric of a device. What is not yet sealed is committed to
// the table of records and in no chunk yet.
type stream struct {
	id             int64
	device, metric string
	every          int64 // expected interval in ms; it stays what it is
	kept           int64 // older readings were thrown away; 0 for none

	cells  cells // unsealed readings in the order of arrival
	n      int   // how many there are
	last   int64 // time of the last of them
	since  int64 // sequence number of the oldest record that holds some of them
	sealed int64 // readings of records up to this one are in chunks
	sorted bool  // the cells are in ascending order of time
	usual  byte  // how the last number was written: its decimals, or as a float

	// tail goes on summing up where the series ended when it was sealed last; nil
	// where that is not known. The writer's alone.
	tail *series.Roller
}

func (s *stream) add(x *series.Sample) {
	if s.cells == nil {
		s.cells = make(cells, 0, firstBytes)
	}
	s.sorted = s.n == 0 || s.sorted && s.last < x.At
	head := len(s.cells)
	s.cells = s.cells.pack(x, s.expected(s.n, s.last), s.usual)
	if of := s.cells[head] & headValue; of <= headFloat {
		s.usual = of
	}
	s.last = x.At
	s.n++
}

// expected returns when the reading is due that follows so many, of which the last was at a time.
func (s *stream) expected(n int, last int64) int64 {
	if n == 0 {
		return 0
	}
	return last + s.every
}

// each gives the unsealed samples in the order of arrival; they are good until it returns.
func (s *stream) each(take func(*series.Sample)) {
	r := packed.Reader{Rest: s.cells}
	var x series.Sample
	for n := range s.n {
		x.At = s.expected(n, x.At)
		unpackCell(&r, &x)
		take(&x)
	}
}

// unsealed returns the unsealed samples from a time up to, but without, another, in
// order of time. Of those at one time the last to arrive counts.
func (s *stream) unsealed(from, to int64) []series.Sample {
	var all []series.Sample
	s.each(func(x *series.Sample) {
		if x.At >= from && x.At < to {
			if all == nil {
				all = make([]series.Sample, 0, min(s.n, 2*chunkTarget))
			}
			all = append(all, *x)
		}
	})
	if s.sorted {
		return all
	}
	slices.SortStableFunc(all, func(a, b series.Sample) int { return cmp.Compare(a.At, b.At) })
	out := all[:0]
	for i, x := range all {
		if i+1 == len(all) || all[i+1].At != x.At {
			out = append(out, x)
		}
	}
	return out
}

// newest returns the sample that unsealed ends with.
func (s *stream) newest() (best series.Sample, ok bool) {
	s.each(func(x *series.Sample) {
		if !ok || x.At >= best.At { // of those at one time the last to arrive counts
			best, ok = *x, true
		}
	})
	return best, ok
}

// A buffer of sizes between these is used again. Smaller ones are quickly made anew, and a
// fleet has very many of them, most of them empty at any time.
const (
	keepBytes = 1 << 10
	mostBytes = 8 << 10
)

// clear forgets what has been sealed, and gives small and large buffers back.
func (s *stream) clear() {
	if c := cap(s.cells); c < keepBytes || c > mostBytes {
		s.cells = nil
	}
	s.cells, s.n, s.last, s.sorted, s.since = s.cells[:0], 0, 0, true, 0
}

// merge puts two lists in order of time together; where both have a time, the
// second counts.
func merge(a, b []series.Sample) []series.Sample {
	if len(a) == 0 || len(b) == 0 || a[len(a)-1].At < b[0].At {
		return append(a[:len(a):len(a)], b...)
	}
	out := make([]series.Sample, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		switch {
		case a[0].At < b[0].At:
			out, a = append(out, a[0]), a[1:]
		case a[0].At > b[0].At:
			out, b = append(out, b[0]), b[1:]
		default:
			a = a[1:]
		}
	}
	return append(append(out, a...), b...)
}
