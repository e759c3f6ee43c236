// Package stats holds the statistics that Ullage needs of its own readings.
package stats

import (
	"cmp"
	"math"
	"slices"
)

// Trend is a straight line through points, as its slope.
type Trend struct {
	Slope     float64 // change of y for one unit of x
	Low, High float64 // where the slope lies with 95 % confidence
	N         int     // points
}

// Point is one point of a Trend.
type Point struct{ X, Y float64 }

// MinTrend is the least number of points that a Trend is drawn through.
const MinTrend = 8

// TheilSen returns the trend of points: the median of the slopes between every
// two of them (Theil 1950), with Sen's interval from Kendall's statistic (Sen,
// Estimates of the regression coefficient based on Kendall's tau, JASA 63,
// 1968). Up to 29 % of the points may be wild without moving it. It reports
// false for fewer than MinTrend points, or if they have no extent in x. Time
// and memory grow with the square of the number of points.
func TheilSen(points []Point) (Trend, bool) {
	n := len(points)
	if n < MinTrend {
		return Trend{}, false
	}
	slopes := make([]float64, 0, n*(n-1)/2)
	ties := map[float64]int{}
	for i, p := range points {
		ties[p.Y]++
		for _, q := range points[i+1:] {
			if dx := q.X - p.X; dx != 0 {
				slopes = append(slopes, (q.Y-p.Y)/dx)
			}
		}
	}
	if len(slopes) == 0 {
		return Trend{}, false
	}
	slices.SortFunc(slopes, cmp.Compare[float64])
	m := len(slopes)
	median := slopes[m/2]
	if m%2 == 0 {
		median = (slopes[m/2-1] + slopes[m/2]) / 2
	}
	// The variance of Kendall's S, corrected for ties in y.
	f := float64(n)
	variance := f * (f - 1) * (2*f + 5)
	for _, t := range ties {
		g := float64(t)
		variance -= g * (g - 1) * (2*g + 5)
	}
	c := 1.959963984540054 * math.Sqrt(max(0, variance)/18)
	low := int(math.Floor((float64(m)-c)/2)) - 1
	high := int(math.Ceil((float64(m) + c) / 2))
	return Trend{Slope: median, Low: slopes[max(0, low)], High: slopes[min(m-1, high)], N: n}, true
}

// Median returns the middle of the values, which it sorts; false for none.
func Median(values []float64) (float64, bool) {
	n := len(values)
	if n == 0 {
		return 0, false
	}
	slices.SortFunc(values, cmp.Compare[float64])
	if n%2 == 1 {
		return values[n/2], true
	}
	return values[n/2-1] + (values[n/2]-values[n/2-1])/2, true
}
