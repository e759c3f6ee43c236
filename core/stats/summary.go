package stats

import (
	"math"
	"slices"
)

// Summary describes a set of values.
type Summary struct {
	N                      int
	Min, Max, Mean         float64
	Deviation              float64 // standard deviation of the sample
	P5, P25, P50, P75, P95 float64 // quantiles
}

// Summarise describes the values, which it sorts; false for none.
func Summarise(values []float64) (Summary, bool) {
	n := len(values)
	if n == 0 {
		return Summary{}, false
	}
	slices.Sort(values)
	s := Summary{N: n, Min: values[0], Max: values[n-1]}
	// Welford's recurrence keeps its digits where the mean is large.
	m2 := 0.0
	for i, v := range values {
		d := v - s.Mean
		s.Mean += d / float64(i+1)
		m2 += d * (v - s.Mean)
	}
	if n > 1 {
		s.Deviation = math.Sqrt(m2 / float64(n-1))
	}
	for p, to := range map[float64]*float64{0.05: &s.P5, 0.25: &s.P25, 0.5: &s.P50, 0.75: &s.P75, 0.95: &s.P95} {
		*to = quantile(values, p)
	}
	return s, true
}

// quantile returns the p-quantile of sorted values, between two of them by a
// straight line (Hyndman and Fan, Sample quantiles in statistical packages,
// 1996, definition 7). There must be one value at least, and p from 0 to 1.
func quantile(sorted []float64, p float64) float64 {
	at := p * float64(len(sorted)-1)
	i := int(at)
	if i >= len(sorted)-1 {
		return sorted[len(sorted)-1]
	}
	return sorted[i] + (at-float64(i))*(sorted[i+1]-sorted[i])
}

// Histogram counts values in bins of one width from Low on; the last one holds
// its upper end too.
type Histogram struct {
	Low, Width float64
	Counts     []int
}

// HistogramOf spreads sorted values over bins, so many as the rule of Freedman
// and Diaconis (1981) says and no more than most; false for none.
func HistogramOf(sorted []float64, most int) (Histogram, bool) {
	n := len(sorted)
	if n == 0 {
		return Histogram{}, false
	}
	span := sorted[n-1] - sorted[0]
	if span == 0 {
		return Histogram{Low: sorted[0], Width: 0, Counts: []int{n}}, true
	}
	bins := most
	if width := 2 * (quantile(sorted, 0.75) - quantile(sorted, 0.25)) / math.Cbrt(float64(n)); width > 0 {
		bins = min(max(int(math.Ceil(span/width)), 1), most)
	}
	h := Histogram{Low: sorted[0], Width: span / float64(bins), Counts: make([]int, bins)}
	for _, v := range sorted {
		h.Counts[min(int((v-h.Low)/h.Width), bins-1)]++
	}
	return h, true
}
