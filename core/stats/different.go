package stats

import (
	"cmp"
	"math"
	"slices"
)

// Difference is how far values are from what they were before.
type Difference struct {
	Was, Is float64 // the medians
	// Spread is how far values lay from Was before: 1.4826 times the median of their
	// distances, which is the standard deviation where they are normal.
	Spread float64
	// Deviation is Is less Was in spreads; above 0 it is higher than it was.
	Deviation float64
}

// MinDifferent is the least number of values on either side of a Difference.
const MinDifferent = 3

// Differ compares values with those before by medians and the median absolute deviation
// (Hampel, The influence curve and its role in robust estimation, JASA 69, 1974), so that a few
// wild values decide nothing. The spread is least at the least, which is what one digit of
// the value is worth: a value that never moved has none of its own. It reports false where
// either side has fewer than MinDifferent values.
func Differ(before, inside []float64, least float64) (Difference, bool) {
	if len(before) < MinDifferent || len(inside) < MinDifferent {
		return Difference{}, false
	}
	var d Difference
	d.Was, _ = Median(slices.Clone(before))
	d.Is, _ = Median(slices.Clone(inside))
	away := make([]float64, len(before))
	for i, v := range before {
		away[i] = math.Abs(v - d.Was)
	}
	mad, _ := Median(away)
	d.Spread = max(1.4826*mad, least, math.SmallestNonzeroFloat64)
	d.Deviation = (d.Is - d.Was) / d.Spread
	return d, !math.IsNaN(d.Deviation)
}

// Band is where the values of many lie, but for the lowest and the highest tenth.
type Band struct{ Low, Middle, High float64 }

// BandOf returns the 10th, 50th and 90th percentile of values, which it sorts, each between
// the two values next to it (method 7 of Hyndman and Fan, Sample quantiles in statistical
// packages, The American Statistician 50, 1996); false for none.
func BandOf(values []float64) (Band, bool) {
	if len(values) == 0 {
		return Band{}, false
	}
	slices.SortFunc(values, cmp.Compare[float64])
	at := func(p float64) float64 {
		x := p * float64(len(values)-1)
		i := int(x)
		if i+1 >= len(values) {
			return values[len(values)-1]
		}
		return values[i] + (x-float64(i))*(values[i+1]-values[i])
	}
	return Band{at(0.1), at(0.5), at(0.9)}, true
}
