package stats

import (
	"cmp"
	"errors"
	"math"
	"slices"
)

// Method is a way to go on from what was measured.
type Method string

// The methods. None of them fits curves: each says what its name says.
const (
	LastValue      Method = "last value"                         // it stays as it is
	Line           Method = "line"                               // along the median slope of the last values (Theil 1950)
	Smoothing      Method = "smoothing"                          // level and damped trend (Gardner and McKenzie 1985)
	SameBefore     Method = "same time before"                   // as it was a season ago, coming back from where it is
	SeasonSmoothed Method = "smoothing with the way of a season" // level and additive season (Winters 1960)
)

// Forecast is what probably comes. It was chosen by going back: from many
// moments of the history on, each method has forecast what is known by now, and
// the one that was least wrong over all steps goes on from the end.
type Forecast struct {
	// Mean, Low and High are of each step ahead. The band is made of the errors
	// of the method at that many steps ahead, so that 95 % of them lie in it:
	// split conformal prediction (Vovk, Gammerman and Shafer 2005), with younger
	// errors counting more (Barber, Candès, Ramdas and Tibshirani 2023).
	Mean, Low, High []float64
	Method          Method
	Error           float64 // mean absolute error over all steps ahead
	// Naive is the error that the same time a season ago would have had, or where
	// NaiveSeasonal is false, the last value.
	Naive         float64
	NaiveSeasonal bool
	Moments       int  // from which it was tried
	Seasonal      bool // the method knows the way of a season
}

// MinForecast is the least number of values that a forecast is made from.
const MinForecast = 16

// ErrTooLittle is the error of a history too short or too full of holes.
var ErrTooLittle = errors.New("there is too little history for a forecast")

// Predict forecasts values that stand one step apart, NaN where one is missing.
// Season is how many steps a season has; where two whole ones are not there, or
// it is 1, none is looked for.
//
// It fails with ErrTooLittle for fewer than MinForecast values, or where more
// than half are missing.
func Predict(values []float64, season, ahead int) (Forecast, error) {
	known := 0
	for _, v := range values {
		if !math.IsNaN(v) {
			known++
		}
	}
	if known < MinForecast || 2*known < len(values) || math.IsNaN(values[len(values)-1]) {
		return Forecast{}, ErrTooLittle
	}
	if season < 2 || len(values) < 2*season {
		season = 1
	}
	b := backtest{values: filled(values), real: values, ahead: ahead, from: min(max(2*season, 10), len(values)/2),
		weight: weights(len(values))}
	naive := trial{LastValue, func() walker { return &last{} }, 1}
	if season > 1 {
		naive = trial{SameBefore, func() walker { return newBefore(season, 1, 0, false) }, 1}
	}
	base := b.try(naive.make())
	best, least := naive, base.all
	for _, t := range trials(season) {
		// A method takes the place of a simpler one if it is clearly better.
		if e := b.try(t.make()); e.all < least*t.better && e.steadily(base) {
			best, least = t, e.all
		}
	}
	f := Forecast{Method: best.method, Error: least, Naive: base.all, NaiveSeasonal: season > 1, Seasonal: season > 1 && (best.method == SameBefore ||
		best.method == SeasonSmoothed)}
	f.Mean, f.Low, f.High, f.Moments = b.band(best.make())
	return f, nil
}

// filled returns values without holes, drawn straight from one known to the next.
func filled(values []float64) []float64 {
	out := slices.Clone(values)
	lastKnown := -1
	for i, v := range out {
		if math.IsNaN(v) {
			continue
		}
		for k := lastKnown + 1; k < i; k++ {
			if lastKnown < 0 {
				out[k] = v
			} else {
				out[k] = out[lastKnown] + (v-out[lastKnown])*float64(k-lastKnown)/float64(i-lastKnown)
			}
		}
		lastKnown = i
	}
	return out
}

// walker is a method that has taken some values in and can say what comes.
type walker interface {
	take(v float64)
	ahead(out []float64)
}

// trial is a method with its parameters.
type trial struct {
	method Method
	make   func() walker
	// better is which share of the error of a simpler one it may have at most.
	better float64
}

// A trend is the usual way for a forecast to be far off, so that it has to be
// better by more.
const (
	better        = 0.98
	clearlyBetter = 0.95
	muchBetter    = 0.9
)

// trials lists what is tried, the simpler before the less simple.
func trials(season int) (out []trial) {
	try := func(m Method, better float64, make func() walker) { out = append(out, trial{m, make, better}) }
	try(LastValue, better, func() walker { return &last{} })
	if season > 1 {
		for _, seasons := range []int{1, 2, 4} {
			for _, back := range []float64{0, 0.5, 0.8, 0.9, 0.95, 0.98, 1} {
				try(SameBefore, better, func() walker { return newBefore(season, seasons, back, false) })
			}
		}
		try(SameBefore, muchBetter, func() walker { return newBefore(season, 1, 0, true) })
	}
	for _, n := range []int{8, 16} {
		try(Line, muchBetter, func() walker { return &line{n: n} })
	}
	for _, alpha := range []float64{0.1, 0.3, 0.6, 0.9} {
		try(Smoothing, clearlyBetter, func() walker { return &smooth{alpha: alpha, damp: 1} })
		for _, beta := range []float64{0.1, 0.3} {
			for _, damp := range []float64{0.8, 0.9} {
				try(Smoothing, muchBetter, func() walker { return &smooth{alpha: alpha, beta: beta, damp: damp} })
			}
		}
	}
	if season > 1 {
		for _, alpha := range []float64{0.03, 0.1, 0.3, 0.7} {
			for _, gamma := range []float64{0.05, 0.15, 0.4} {
				try(SeasonSmoothed, better, func() walker { return &seasonal{alpha: alpha, gamma: gamma, season: season} })
			}
		}
	}
	return out
}

// backtest goes back over a history.
type backtest struct {
	values []float64 // without holes
	real   []float64 // with them
	ahead  int
	from   int // the first moment that a method may forecast from
	weight []float64
}

// weights returns how much each moment counts: half as much for each third of the
// history that it is older.
func weights(n int) []float64 {
	out := make([]float64, n)
	for i := range out {
		out[i] = math.Exp2(-3 * float64(n-1-i) / float64(n))
	}
	return out
}

// Of so many errors a method is judged, and its band made.
const (
	toJudge = 9_000
	forBand = 30_000
)

// walk has a method forecast from every moment, or from so many that about so
// many errors come at most, and yields each of them.
func (b *backtest) walk(w walker, most int, yield func(at, h int, err float64)) {
	out := make([]float64, b.ahead)
	stride := max(1, (len(b.values)-b.from)*b.ahead/most)
	for at, v := range b.values {
		w.take(v)
		if at < b.from || at == len(b.values)-1 || (len(b.values)-1-at)%stride != 0 {
			continue
		}
		n := min(b.ahead, len(b.values)-1-at)
		w.ahead(out[:n])
		for h := range n {
			if real := b.real[at+1+h]; !math.IsNaN(real) {
				yield(at, h, real-out[h])
			}
		}
	}
}

// blocks are the parts of the history that a method is judged in one by one.
const blocks = 4

// tried is how wrong a method was: over all, and in each part of the history.
type tried struct {
	all   float64
	parts [blocks]float64
}

// steadily reports whether one was less wrong than another in all parts but one.
// One that shines in a single part does so by chance.
func (a tried) steadily(b tried) bool {
	worse := 0
	for i := range a.parts {
		if a.parts[i] > b.parts[i] {
			worse++
		}
	}
	return worse <= 1
}

// try returns the mean absolute errors of a method over all steps ahead.
func (b *backtest) try(w walker) (out tried) {
	var sum, weights [blocks]float64
	moment, k, g := -1, 0, 0.0
	b.walk(w, toJudge, func(at, _ int, err float64) {
		if at != moment {
			moment, k, g = at, min((at-b.from)*blocks/max(len(b.values)-b.from, 1), blocks-1), b.weight[at]
		}
		sum[k] += g * math.Abs(err)
		weights[k] += g
	})
	all, total := 0.0, 0.0
	for k := range sum {
		all, total = all+sum[k], total+weights[k]
		if weights[k] > 0 {
			out.parts[k] = sum[k] / weights[k]
		}
	}
	if out.all = math.Inf(1); total > 0 {
		out.all = all / total
	}
	return out
}

// missed is an error with its weight.
type missed struct{ err, weight float64 }

// band forecasts from the end of the history, with the band of its errors.
func (b *backtest) band(w walker) (mean, low, high []float64, moments int) {
	errs := make([][]missed, b.ahead)
	b.walk(w, forBand, func(at, h int, err float64) {
		if h == 0 {
			moments++
		}
		errs[h] = append(errs[h], missed{err, b.weight[at]})
	})
	mean, low, high = make([]float64, b.ahead), make([]float64, b.ahead), make([]float64, b.ahead)
	w.ahead(mean)
	for h := range mean {
		l, u, ok := conformal(errs[h])
		if !ok && h > 0 { // nothing is known of so far ahead: as much wider as a random walk
			grown := math.Sqrt(float64(h+1) / float64(h))
			l, u = (low[h-1]-mean[h-1])*grown, (high[h-1]-mean[h-1])*grown
		}
		low[h], high[h] = mean[h]+l, mean[h]+u
	}
	return mean, low, high, moments
}

// conformal returns between which errors, given in order of time, the next one
// lies with 95 %. Errors that follow each other are alike and say the same more
// than once; where few are left that do not, the band is wider, at last that of
// a normal distribution over them.
func conformal(errs []missed) (low, high float64, ok bool) {
	if len(errs) < 4 {
		return 0, 0, false
	}
	alike := alikeness(errs)
	slices.SortFunc(errs, func(a, b missed) int { return cmp.Compare(a.err, b.err) })
	sum, squares, total := 0.0, 0.0, 0.0
	for _, e := range errs {
		total += e.weight
		squares += e.weight * e.weight
		sum += e.weight * e.err * e.err
	}
	// How many errors of their own the weighted ones are worth.
	own := max(total*total/squares*(1-alike)/(1+alike), 2)
	// The one that is to come may be the widest of all.
	share := max(0.025-0.25*0.975/own, 0.002)
	at := func(share float64) float64 {
		want, seen := share*total, 0.0
		for i, e := range errs {
			if seen+e.weight >= want {
				if i == 0 || e.weight == 0 {
					return e.err
				}
				before := errs[i-1].err
				return before + (e.err-before)*clamp((want-seen)/e.weight, 0, 1)
			}
			seen += e.weight
		}
		return errs[len(errs)-1].err
	}
	low, high = at(share), at(1-share)
	if own < 20 {
		// Too few for a quantile so far out.
		spread := 1.96 * (1 + 1.5/own) * math.Sqrt(sum/total) * math.Sqrt(1+1/own)
		low, high = min(low, -spread), max(high, spread)
	}
	return low, high, true
}

// alikeness is the correlation of each error with the next, from 0 to 0.99.
func alikeness(errs []missed) float64 {
	mean := 0.0
	for _, e := range errs {
		mean += e.err / float64(len(errs))
	}
	square, product := 0.0, 0.0
	for i, e := range errs {
		square += (e.err - mean) * (e.err - mean)
		if i > 0 {
			product += (e.err - mean) * (errs[i-1].err - mean)
		}
	}
	if square == 0 {
		return 0
	}
	return clamp(product/square, 0, 0.99)
}

func clamp(x, low, high float64) float64 { return math.Min(math.Max(x, low), high) }

// last stays where it is.
type last struct{ v float64 }

func (w *last) take(v float64) { w.v = v }
func (w *last) ahead(out []float64) {
	for i := range out {
		out[i] = w.v
	}
}

// before goes on as it was a season ago, or as the mean of some seasons was. How
// far the newest value is from that fades: after each step so much of it is left.
type before struct {
	season, seasons int
	back            float64
	drift           bool
	past            []float64
}

func newBefore(season, seasons int, back float64, drift bool) *before {
	return &before{season: season, seasons: seasons, back: back, drift: drift}
}

func (w *before) take(v float64) { w.past = append(w.past, v) }

// at is what is usual at an index, which may lie a season ahead.
func (w *before) at(i int) float64 {
	sum, n := 0.0, 0
	for k := i - w.season; k >= 0 && n < w.seasons; k -= w.season {
		if k < len(w.past) {
			sum += w.past[k]
			n++
		}
	}
	if n == 0 {
		return w.past[len(w.past)-1]
	}
	return sum / float64(n)
}

func (w *before) ahead(out []float64) {
	n := len(w.past)
	off := w.past[n-1] - w.at(n-1)
	slope := 0.0
	if w.drift && n >= 2*w.season {
		// Of two seasons some moments tell as much as all of them.
		var some [48]float64
		all := some[:0]
		for i, by := max(w.season, n-2*w.season), max(1, 2*w.season/len(some)+1); i < n; i += by {
			all = append(all, w.past[i]-w.past[i-w.season])
		}
		slope, _ = Median(all)
	}
	fade := 1.0
	for h := range out {
		fade *= w.back
		out[h] = w.at(n+h) + fade*off
		if w.drift {
			out[h] += slope * float64(1+h/w.season)
		}
	}
}

// line goes on along the median slope of the last n values.
type line struct {
	n    int
	past []float64
}

func (w *line) take(v float64) {
	w.past = append(w.past, v)
	if len(w.past) > 4*w.n {
		w.past = append(w.past[:0], w.past[len(w.past)-w.n:]...)
	}
}

func (w *line) ahead(out []float64) {
	past := w.past[max(0, len(w.past)-w.n):]
	var slopes [128]float64
	all := slopes[:0]
	for i := range past {
		for k := i + 1; k < len(past); k++ {
			all = append(all, (past[k]-past[i])/float64(k-i))
		}
	}
	slope, _ := Median(all)
	var levels [16]float64
	ends := levels[:0]
	for i, v := range past {
		ends = append(ends, v+slope*float64(len(past)-1-i))
	}
	level, _ := Median(ends)
	for h := range out {
		out[h] = level + slope*float64(h+1)
	}
}

// smooth keeps a level, and a trend that is damped.
type smooth struct {
	alpha, beta, damp float64
	level, trend      float64
	begun             bool
}

func (w *smooth) take(v float64) {
	if !w.begun {
		w.level, w.begun = v, true
		return
	}
	expected := w.level + w.damp*w.trend
	e := v - expected
	w.level = expected + w.alpha*e
	w.trend = w.damp*w.trend + w.alpha*w.beta*e
}

func (w *smooth) ahead(out []float64) {
	step, sum := w.trend, 0.0
	for h := range out {
		step *= w.damp
		sum += step
		out[h] = w.level + sum
	}
}

// seasonal keeps a level and the way of a season that is added to it.
type seasonal struct {
	alpha, gamma float64
	season       int
	level        float64
	way          []float64
	n            int
}

func (w *seasonal) take(v float64) {
	if w.n++; w.n <= w.season { // the first season is taken as it is
		w.way = append(w.way, v)
		if w.n == w.season {
			for _, x := range w.way {
				w.level += x / float64(w.season)
			}
			for i := range w.way {
				w.way[i] -= w.level
			}
		}
		return
	}
	k := (w.n - 1) % w.season
	e := v - w.level - w.way[k]
	w.level += w.alpha * e
	w.way[k] += w.gamma * (1 - w.alpha) * e
}

func (w *seasonal) ahead(out []float64) {
	for h := range out {
		out[h] = w.level + w.way[(w.n+h)%w.season]
	}
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
