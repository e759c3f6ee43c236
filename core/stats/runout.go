package stats

import "math"

// RunOut tells when what is used up gets to a limit, on the axis of its points.
type RunOut struct {
	// Likely is when the trend gets there, Early and Late when the steepest and the flattest do
	// that the points allow for with 95 % confidence; +Inf for never.
	Likely, Early, Late float64
	Trend               Trend
	// Level is where the trend is at the last point.
	Level float64
	// Since is the first point that counts: the last time that it was filled up, or replaced,
	// lies before it. Filled reports whether there was one.
	Since  float64
	Filled bool
}

// refill is how many times the usual step from one point to the next, and which share of all
// that was ever there, is no noise but a new battery.
const (
	refillSteps = 6
	refillShare = 0.3
)

// RunsOut draws the trend of what was used up since it was last filled, and says when it gets
// down to a limit. The points are in order of x, about evenly spaced; it fails for less than
// MinTrend since then. Points that follow each other are alike, which makes Sen's interval too
// narrow: it is widened by their correlation, as Yue and Wang (Water Resources Management 18,
// 2004) do for Kendall's statistic. Time grows with the square of the number of points.
func RunsOut(points []Point, limit float64) (RunOut, bool) {
	out := RunOut{Likely: math.Inf(1), Early: math.Inf(1), Late: math.Inf(1)}
	if len(points) == 0 {
		return out, false
	}
	begin := filledAt(points)
	out.Filled, out.Since = begin > 0, points[begin].X
	points = points[begin:]
	t, ok := TheilSen(points)
	if !ok {
		return out, false
	}
	xs, ys := make([]float64, len(points)), make([]float64, len(points))
	for i, p := range points {
		xs[i], ys[i] = p.X, p.Y-t.Slope*p.X
	}
	r := correlation(ys)
	x, _ := Median(xs)
	off, _ := Median(ys)
	y := off + t.Slope*x // the middle, about which lines of other slopes turn
	wider := math.Sqrt((1 + r) / (1 - r))
	t.Low, t.High = t.Slope-(t.Slope-t.Low)*wider, t.Slope+(t.High-t.Slope)*wider
	end := points[len(points)-1].X
	out.Trend, out.Level = t, y+t.Slope*(end-x)
	down := func(slope float64) float64 {
		at := x + (limit-y)/slope
		switch {
		case y+slope*(end-x) <= limit:
			return end
		case slope >= 0:
			return math.Inf(1)
		}
		return at
	}
	out.Likely, out.Early, out.Late = down(t.Slope), down(t.Low), down(t.High)
	return out, true
}

// filledAt returns the first point after the last leap upwards, 0 if there is none.
func filledAt(points []Point) int {
	steps := make([]float64, 0, len(points))
	low, high := points[0].Y, points[0].Y
	for i, p := range points {
		low, high = min(low, p.Y), max(high, p.Y)
		if i > 0 {
			steps = append(steps, math.Abs(p.Y-points[i-1].Y))
		}
	}
	usual, _ := Median(steps)
	for i := len(points) - 1; i > 0; i-- {
		if leap := points[i].Y - points[i-1].Y; leap > refillSteps*usual && leap > refillShare*(high-low) {
			// A single wild point comes back at once.
			if i+1 < len(points) && points[i+1].Y < points[i-1].Y+leap/2 {
				continue
			}
			if wild := i > 1 && points[i-2].Y > points[i].Y-leap/2; wild {
				continue
			}
			return i
		}
	}
	return 0
}

// correlation returns how alike values are that follow each other, from 0 to 0.9 (their
// lag-one autocorrelation).
func correlation(values []float64) float64 {
	mean := 0.0
	for _, v := range values {
		mean += v / float64(len(values))
	}
	var with, all float64
	for i, v := range values {
		all += (v - mean) * (v - mean)
		if i > 0 {
			with += (v - mean) * (values[i-1] - mean)
		}
	}
	if all == 0 {
		return 0
	}
	// Values about a line that was drawn through them look less alike than they are
	// (Marriott and Pope, Biometrika 41, 1954).
	n := float64(len(values))
	return min(max((with/all*n+1)/max(n-4, 1), 0), 0.9)
}
