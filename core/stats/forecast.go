package stats

import (
	"errors"
	"math"
)

// Forecast is what probably comes.
type Forecast struct {
	Mean, Low, High []float64 // of each step ahead; the band holds with 95 % probability
	Seasonal        bool      // there was enough to learn a season
	Alpha, Beta     float64   // how fast level and trend are learnt, 0 to 1
	Gamma           float64   // how fast the season is learnt
	Error           float64   // standard deviation of the errors one step ahead
}

// MinForecast is the least number of values that a forecast is made from.
const MinForecast = 16

// ErrTooLittle is the error of a history too short or too full of holes.
var ErrTooLittle = errors.New("there is too little history for a forecast")

// damping is how much of the trend is left after each step: a trend that goes
// on for ever is the usual way for a forecast to be far off (Gardner and
// McKenzie, Forecasting trends in time series, Management Science 31, 1985).
const damping = 0.98

// HoltWinters forecasts values that stand one step apart, NaN where one is
// missing, with level, damped trend and, where two whole seasons are there, a
// season of so many steps that is added (Winters, Forecasting sales by
// exponentially weighted moving averages, Management Science 6, 1960). The
// three rates are those with the least squares of the errors one step ahead.
// The band is that of the model's state-space form (Hyndman, Koehler, Ord and
// Snyder, Forecasting with Exponential Smoothing, 2008, table 6.1); it is
// honest as long as the errors are independent and alike.
//
// It fails with ErrTooLittle for fewer than MinForecast values, or where more
// than a third are missing.
func HoltWinters(values []float64, season, ahead int) (Forecast, error) {
	known := 0
	for _, v := range values {
		if !math.IsNaN(v) {
			known++
		}
	}
	if known < MinForecast || 3*known < 2*len(values) {
		return Forecast{}, ErrTooLittle
	}
	seasonal := season > 1 && len(values) >= 2*season
	if !seasonal {
		season = 1
	}
	f := Forecast{Seasonal: seasonal}
	best := math.Inf(1)
	try := func(a, b, g float64) {
		m := start(values, season, seasonal)
		if sse, n := m.run(values, a, b, g); n > 0 && sse/float64(n) < best {
			best, f.Alpha, f.Beta, f.Gamma = sse/float64(n), a, b, g
		}
	}
	gammas := []float64{0}
	if seasonal {
		gammas = []float64{0.02, 0.1, 0.3}
	}
	for _, a := range []float64{0.05, 0.2, 0.4, 0.7, 0.95} {
		for _, b := range []float64{0, 0.02, 0.1, 0.3} {
			for _, g := range gammas {
				try(a, b, g)
			}
		}
	}
	// From the best of the grid on, ever smaller steps along each rate.
	for step := 0.1; step > 0.005; step /= 2 {
		for moved := true; moved; {
			was := best
			a, b, g := f.Alpha, f.Beta, f.Gamma
			for _, d := range []float64{-step, step} {
				try(clamp(a+d, 0.01, 0.99), b, g)
				try(a, clamp(b+d, 0, 0.5), g)
				if seasonal {
					try(a, b, clamp(g+d, 0, 0.9))
				}
			}
			moved = best < was*0.9999
		}
	}
	m := start(values, season, seasonal)
	m.run(values, f.Alpha, f.Beta, f.Gamma)
	f.Error = math.Sqrt(best)
	// Each step adds what the errors of the steps before it still do.
	variance, phi := 1.0, 0.0
	for h := 1; h <= ahead; h++ {
		phi += math.Pow(damping, float64(h))
		mean := m.level + phi*m.trend + m.season[(len(values)+h-1)%season]
		band := 1.959963984540054 * f.Error * math.Sqrt(variance)
		f.Mean, f.Low, f.High = append(f.Mean, mean), append(f.Low, mean-band), append(f.High, mean+band)
		c := f.Alpha * (1 + f.Beta*phi)
		if seasonal && h%season == 0 {
			c += f.Gamma * (1 - f.Alpha)
		}
		variance += c * c
	}
	return f, nil
}

func clamp(x, low, high float64) float64 { return math.Min(math.Max(x, low), high) }

// smoother is the state of the model.
type smoother struct {
	level, trend float64
	season       []float64
	seasonal     bool
}

// start takes level, trend and season from the first seasons of the values.
func start(values []float64, season int, seasonal bool) *smoother {
	m := &smoother{season: make([]float64, season), seasonal: seasonal}
	mean := func(from, to int) (float64, bool) {
		sum, n := 0.0, 0
		for _, v := range values[from:min(to, len(values))] {
			if !math.IsNaN(v) {
				sum, n = sum+v, n+1
			}
		}
		return sum / float64(n), n > 0
	}
	span := season
	if !seasonal {
		span = min(8, len(values)/2)
	}
	first, ok := mean(0, span)
	second, also := mean(span, 2*span)
	if ok && also {
		m.trend = (second - first) / float64(span)
	}
	if !ok {
		first, _ = mean(0, len(values))
	}
	m.level = first - m.trend*float64(span+1)/2
	if !seasonal {
		return m
	}
	for i := range season {
		sum, n := 0.0, 0
		for k, base := range []float64{first, second} {
			if j := i + k*season; j < len(values) && !math.IsNaN(values[j]) && !math.IsNaN(base) {
				sum, n = sum+values[j]-base-m.trend*(float64(i)-float64(season-1)/2), n+1
			}
		}
		if n > 0 {
			m.season[i] = sum / float64(n)
		}
	}
	return m
}

// run takes the values in, and returns the sum of the squares of the errors,
// those of the first season left out, and how many there are.
func (m *smoother) run(values []float64, alpha, beta, gamma float64) (sse float64, n int) {
	for i, v := range values {
		k := i % len(m.season)
		expected := m.level + damping*m.trend
		if math.IsNaN(v) {
			m.level, m.trend = expected, damping*m.trend
			continue
		}
		e := v - expected - m.season[k]
		if i >= len(m.season) {
			sse, n = sse+e*e, n+1
		}
		m.level = expected + alpha*e
		m.trend = damping*m.trend + alpha*beta*e
		if m.seasonal {
			m.season[k] += gamma * (1 - alpha) * e
		}
	}
	return sse, n
}

// Crossing tells where values that stand one step apart first reach a limit
// from the side they begin on: 0 is at the first of them, and between two it is
// on the straight line through both. It reports false where none gets there.
func Crossing(values []float64, limit float64, upward bool) (at float64, ok bool) {
	beyond := func(v float64) bool { return upward && v >= limit || !upward && v <= limit }
	for i, v := range values {
		switch {
		case !beyond(v):
		case i == 0:
			return 0, true
		default:
			before := values[i-1]
			return float64(i-1) + (limit-before)/(v-before), true
		}
	}
	return 0, false
}
