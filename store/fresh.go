package store

import (
	"slices"

	"ullage/core/series"
	"ullage/core/value"
)

// stream is one series: a metric of a device. What is not yet sealed is committed to
// the table of records and in no chunk yet.
type stream struct {
	id             int64
	device, metric string
	every          int64 // expected interval in ms
	kept           int64 // older readings were thrown away; 0 for none

	cells  []cell // unsealed readings in the order of arrival
	extras []extra
	sorted bool  // the cells are in ascending order of time
	since  int64 // sequence number of the oldest record that holds some of them
	sealed int64 // readings of records up to this one are in chunks

	// tail goes on summing up where the series ended when it was sealed last; nil
	// where that is not known. The writer's alone.
	tail *series.Roller
}

// cell is an unsealed reading; what most readings have not stands in an extra.
type cell struct {
	at      int64
	num     float64
	kind    value.Kind
	quality value.Quality
	extra   int32 // index of its extra plus one; 0 for none
}

type extra struct {
	text     string
	deviceAt int64
}

// firstCells is what a series begins with: nearly all have more readings before they are sealed.
const firstCells = 4

func (s *stream) add(x *series.Sample) {
	c := cell{at: x.At, num: x.Value.Num, kind: x.Value.Kind, quality: x.Quality}
	if x.DeviceAt != 0 || x.Value.Kind == value.Text {
		s.extras = append(s.extras, extra{x.Value.Text, x.DeviceAt})
		c.extra = int32(len(s.extras))
	}
	n := len(s.cells)
	if s.cells == nil {
		s.cells = make([]cell, 0, firstCells)
	}
	s.sorted = n == 0 || s.sorted && s.cells[n-1].at < c.at
	s.cells = append(s.cells, c)
}

func (s *stream) sample(c cell) series.Sample {
	x := series.Sample{At: c.at, Value: value.Value{Kind: c.kind, Num: c.num}, Quality: c.quality}
	if c.extra > 0 {
		e := &s.extras[c.extra-1]
		x.Value.Text, x.DeviceAt = e.text, e.deviceAt
	}
	return x
}

// unsealed returns the unsealed samples from a time up to, but without, another, in
// order of time. Of those at one time the last to arrive counts.
func (s *stream) unsealed(from, to int64) []series.Sample {
	var picked []cell
	for _, c := range s.cells {
		if c.at >= from && c.at < to {
			picked = append(picked, c)
		}
	}
	if !s.sorted {
		slices.SortStableFunc(picked, func(a, b cell) int {
			switch {
			case a.at < b.at:
				return -1
			case a.at > b.at:
				return 1
			}
			return 0
		})
	}
	out := make([]series.Sample, 0, len(picked))
	for i, c := range picked {
		if i+1 < len(picked) && picked[i+1].at == c.at {
			continue
		}
		out = append(out, s.sample(c))
	}
	return out
}

// newest returns the sample that unsealed ends with.
func (s *stream) newest() (series.Sample, bool) {
	if len(s.cells) == 0 {
		return series.Sample{}, false
	}
	best := s.cells[len(s.cells)-1]
	if !s.sorted {
		for _, c := range slices.Backward(s.cells) {
			if c.at > best.at { // of those at one time the last to arrive counts
				best = c
			}
		}
	}
	return s.sample(best), true
}

// keepCells is the smallest buffer that is used again. Smaller ones are quickly
// made anew, and a fleet has very many of them, most of them empty at any time.
const keepCells = 256

// clear forgets what has been sealed, and gives small and large buffers back.
func (s *stream) clear() {
	if c := cap(s.cells); c < keepCells || c > 2*chunkTarget {
		s.cells, s.extras = nil, nil
	}
	s.cells, s.extras, s.sorted, s.since = s.cells[:0], s.extras[:0], true, 0
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
