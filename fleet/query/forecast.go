package query

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/health"
	"ullage/core/series"
	"ullage/core/stats"
	"ullage/core/value"
	"ullage/fleet/fault"
)

// Outlook is a forecast of one metric.
type Outlook struct {
	Line   Line // its steps are the past that it was made from
	From   time.Time
	Step   time.Duration
	Steps  []Probable // the first is the newest reading itself
	Method stats.Method
	// Seasonal says that the way of a day, or a week, is in it.
	Seasonal bool
	// Error is how far off the method was on average, and Naive how far the value
	// of the same time a day before, or the last value, from Moments of the past.
	Error, Naive  float64
	NaiveSeasonal bool // Naive is that of the same time before
	Moments       int
	Note          string // what to keep in mind
	Limits        []LimitAhead
}

// LimitAhead tells when a metric gets to the limit of a rule.
type LimitAhead struct {
	Rule   string
	Limit  float64 // in the unit of the forecast
	Upward bool    // the alarm lies above it
	Beyond bool    // it is over it already
	health.ToLimit
}

// Probable is what a metric probably is at a time: within Low and High with 95 %.
type Probable struct {
	At              time.Time
	Mean, Low, High float64
}

// horizons are how far the forecasts look that everything is read from, so that
// what is drawn and what is said of a limit agree. The longest is maxAhead.
var horizons = []time.Duration{2 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 14 * 24 * time.Hour}

const (
	minAhead = 5 * time.Minute
	maxAhead = 14 * 24 * time.Hour
	// limitsWithin is how far ahead a limit is announced: up to that horizon.
	limitsWithin = 7 * 24 * time.Hour
	// remembered is how many forecasts are kept, and fresh for how long one that is
	// older than the newest reading is still good.
	remembered = 2000
	fresh      = time.Minute
	// singly is up to how many readings a forecast is made from one by one.
	singly = 150_000
)

// seen is a forecast that was made, in the metric's own unit.
type seen struct {
	newest time.Time // reading
	made   time.Time
	step   time.Duration
	value  float64 // of the newest reading
	f      stats.Forecast
	cells  []series.Rollup
	near   string // how the first of it was made, where that is not like the rest
}

// informative says how much less wrong than the naive one a forecast of a shorter
// horizon must have been for a longer one to begin with it.
const informative = 0.8

// begin has a forecast begin with that of a shorter horizon, if that knows much,
// and go on from where it ends: the ways of both are one then.
func (x *seen) begin(with *seen, horizon time.Duration) {
	if with.near == "" && with.f.Error > informative*with.f.Naive || x.newest.Sub(with.newest) > fresh {
		return
	}
	at := func(values []float64, t time.Duration) float64 {
		i := float64(t)/float64(with.step) - 1
		if i < 0 { // between the newest reading and the first step
			return with.value + (values[0]-with.value)*(i+1)
		}
		k := min(int(i), len(values)-1)
		next := min(k+1, len(values)-1)
		return values[k] + (values[next]-values[k])*(i-float64(k))
	}
	off := 0.0
	for k := range x.f.Mean {
		t := time.Duration(k+1) * x.step
		if t <= horizon {
			off = at(with.f.Mean, t) - x.f.Mean[k]
			x.f.Mean[k], x.f.Low[k], x.f.High[k] = at(with.f.Mean, t), at(with.f.Low, t), at(with.f.High, t)
			continue
		}
		x.f.Mean[k], x.f.Low[k], x.f.High[k] = x.f.Mean[k]+off, x.f.Low[k]+off, x.f.High[k]+off
	}
	x.near = fmt.Sprintf("the first %s are by %s", value.Duration(horizon), with.f.Method)
	if with.near != "" {
		x.near = with.near + ", then " + value.Duration(horizon).String() + " by " + string(with.f.Method)
	}
}

type outlookKey struct {
	device, metric string
	horizon        time.Duration
	until          int64 // in ms, of a forecast from a past moment; 0 for now
}

// outlooks remember forecasts for a while.
type outlooks struct {
	mu  sync.Mutex
	all map[outlookKey]*seen
}

func (o *outlooks) get(k outlookKey, newest, now time.Time) *seen {
	o.mu.Lock()
	defer o.mu.Unlock()
	if s := o.all[k]; s != nil && (s.newest.Equal(newest) || now.Sub(s.made) < fresh) {
		return s
	}
	return nil
}

func (o *outlooks) put(k outlookKey, s *seen) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.all == nil || len(o.all) >= remembered {
		o.all = map[outlookKey]*seen{}
	}
	o.all[k] = s
}

// Forecast tells what probably comes of one metric: from its newest reading on,
// or, where the query has an end, from the newest before it.
func (c *Queries) Forecast(ctx context.Context, q Query, ahead time.Duration) (*Outlook, error) {
	if ahead < minAhead || ahead > maxAhead {
		return nil, fault.New(fault.Invalid, "a forecast looks 5 minutes to %d days ahead, and not %s",
			int(maxAhead.Hours()/24), value.Duration(ahead))
	}
	until := q.To
	if q.To.IsZero() || q.To.After(c.now().Add(-fresh)) {
		q.To = c.now()
		until = time.Time{}
	}
	q.From, q.Step = q.To.Add(-ahead), 0
	p, s, err := c.single(q)
	if err != nil {
		return nil, err
	}
	convert, symbol, err := s.unit(p)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(horizons, func(h time.Duration) bool { return h >= ahead })
	x, err := c.look(ctx, s, horizons[i], until)
	if err != nil {
		return nil, err
	}
	scale := math.Abs(convert(1) - convert(0))
	o := &Outlook{Line: s.line(symbol), From: x.newest, Step: x.step, Method: x.f.Method, Seasonal: x.f.Seasonal,
		Error: x.f.Error * scale, Naive: x.f.Naive * scale, NaiveSeasonal: x.f.NaiveSeasonal, Moments: x.f.Moments}
	for k := range x.cells {
		o.Line.Steps = append(o.Line.Steps, point(&x.cells[k], "last", convert, value.Number))
	}
	now := convert(x.value)
	o.Steps = append(o.Steps, Probable{x.newest, now, now, now})
	for k := range x.f.Mean {
		at := x.newest.Add(time.Duration(k+1) * x.step)
		o.Steps = append(o.Steps, Probable{at, convert(x.f.Mean[k]), convert(x.f.Low[k]), convert(x.f.High[k])})
		if !at.Before(x.newest.Add(ahead)) {
			break
		}
	}
	var notes []string
	if !x.f.Seasonal {
		notes = append(notes, "the way of a day is not in it")
	}
	if x.near != "" {
		notes = append(notes, x.near)
	}
	o.Note = strings.Join(notes, "; ")
	limits, err := c.limitsAhead(ctx, s, until)
	if err != nil {
		return nil, err
	}
	for _, l := range limits {
		l.Limit = convert(l.Limit)
		l.Beyond = l.Upward && now > l.Limit || !l.Upward && now < l.Limit
		o.Limits = append(o.Limits, l)
	}
	return o, nil
}

// LimitsAhead tells when a device probably gets to the limits of its rules. It
// is the one answer to that question, wherever it is shown.
func (c *Queries) LimitsAhead(ctx context.Context, device string) (map[string]health.ToLimit, error) {
	out := map[string]health.ToLimit{}
	done := map[string]bool{}
	for _, m := range c.limits.Margins(device) {
		if done[m.Metric] || m.Metric == "" {
			continue
		}
		done[m.Metric] = true
		_, s, err := c.single(Query{Devices: []string{device}, Metrics: []string{m.Metric}, From: c.now().Add(-time.Hour),
			To: c.now()})
		if err != nil {
			continue // no number, or not of its model any more
		}
		limits, err := c.limitsAhead(ctx, s, time.Time{})
		if err != nil {
			return nil, err
		}
		for _, l := range limits {
			if !l.Likely.IsZero() {
				out[l.Rule] = l.ToLimit
			}
		}
	}
	return out, nil
}

// limitsAhead tells when a metric gets to the limits of rules, in its own unit:
// as the nearest horizon says in which it does.
func (c *Queries) limitsAhead(ctx context.Context, s *one, until time.Time) ([]LimitAhead, error) {
	_, symbol, err := s.unit(&Plan{})
	if err != nil {
		return nil, err
	}
	var out []LimitAhead
	for _, m := range c.limits.Margins(s.device.ID) {
		if !about(m, s.metric) {
			continue
		}
		limit := m.Limit
		if m.Unit != symbol {
			convert, err := conversion(m.Unit, symbol)
			if err != nil {
				continue
			}
			limit = convert.Apply(limit)
		}
		out = append(out, LimitAhead{Rule: m.Rule, Limit: limit, Upward: m.Upward})
	}
	slices.SortFunc(out, func(a, b LimitAhead) int { return strings.Compare(a.Rule, b.Rule) })
	for _, h := range horizons {
		if h > limitsWithin || !slices.ContainsFunc(out, func(l LimitAhead) bool { return l.Likely.IsZero() }) {
			break
		}
		x, err := c.look(ctx, s, h, until)
		if fault.Is(err, fault.Conflict) || fault.Is(err, fault.NotFound) {
			continue // its steps are too short for the readings, or too long for what is known
		}
		if err != nil {
			return nil, err
		}
		for i := range out {
			l := &out[i]
			nearer, further := x.f.High, x.f.Low
			if !l.Upward {
				nearer, further = further, nearer
			}
			likely, early := x.crossing(x.f.Mean, l.Limit, l.Upward), x.crossing(nearer, l.Limit, l.Upward)
			if !likely.IsZero() && l.Likely.IsZero() {
				l.ToLimit = health.ToLimit{Likely: likely, Early: early, Late: x.crossing(further, l.Limit, l.Upward)}
			} else if l.Early.IsZero() {
				l.Early = early
			}
		}
	}
	return out, nil
}

// about reports whether a margin is about a metric itself, or about what follows
// it closely: a value of it over a window.
func about(m health.Margin, metric string) bool {
	if m.Of == metric {
		return true
	}
	fn, rest, ok := strings.Cut(m.Of, "(")
	return ok && slices.Contains([]string{"mean", "weighted_mean", "median", "min", "max", "first", "last", "p95"}, fn) &&
		strings.HasPrefix(rest, metric+" over ") && strings.Count(m.Of, "(") == 1 && strings.HasSuffix(rest, ")")
}

// crossing returns when values that follow the newest reading get to a limit;
// zero if they do not.
func (x *seen) crossing(values []float64, limit float64, upward bool) time.Time {
	k, ok := stats.Crossing(append([]float64{x.value}, values...), limit, upward)
	if !ok {
		return time.Time{}
	}
	return x.newest.Add(time.Duration(k * float64(x.step)).Round(time.Second)).UTC()
}

// ending is a grid of steps the last of which ends with a time, in ms.
type ending struct{ end, width int64 }

// Cell implements series.Grid.
func (g ending) Cell(at int64) (from, to int64) {
	from, to = series.Every(g.width).Cell(at - g.end)
	return from + g.end, to + g.end
}

// look makes a forecast for one of the horizons, or finds the one that was made.
func (c *Queries) look(ctx context.Context, s *one, horizon time.Duration, until time.Time) (*seen, error) {
	now := until
	key := outlookKey{device: s.device.ID, metric: s.metric, horizon: horizon}
	if until.IsZero() {
		now = c.now()
	} else {
		key.until = until.UnixMilli()
	}
	newest, ok, err := c.history.Last(ctx, s.device.ID, s.metric, now)
	if err != nil {
		return nil, err
	}
	if !ok || newest.Value.Kind != value.Number {
		return nil, fault.New(fault.NotFound, "%s of %s has no readings, so nothing can be said of what comes", s.metric,
			s.device.ID)
	}
	if old := now.Sub(newest.At); old > horizon {
		return nil, fault.New(fault.NotFound, "the newest reading of %s of %s is %s old, so nothing can be said of what comes",
			s.metric, s.device.ID, value.Duration(old.Round(time.Minute)))
	}
	if x := c.outlooks.get(key, newest.At, now); x != nil {
		return x, nil
	}
	var before *seen
	if i := slices.Index(horizons, horizon); i > 0 {
		if before, err = c.look(ctx, s, horizons[i-1], until); fault.Is(err, fault.Conflict) || fault.Is(err, fault.NotFound) {
			before, err = nil, nil
		}
		if err != nil {
			return nil, err
		}
	}
	steps := stepsFor(horizon)
	for i, step := range steps {
		x, thin, err := c.lookIn(ctx, s, newest, horizon, step, i == len(steps)-1)
		if err != nil {
			return nil, err
		}
		if x != nil {
			if x.made = now; before != nil {
				x.begin(before, horizons[slices.Index(horizons, horizon)-1])
			}
			c.outlooks.put(key, x)
			return x, nil
		}
		if !thin {
			break
		}
	}
	return nil, fault.New(fault.Conflict,
		"too little is known of %s of %s for a forecast of %s: %d steps of readings are needed at least", s.metric, s.device.ID,
		value.Duration(horizon), stats.MinForecast).Then("wait for more readings")
}

// stepsFor returns the widths of steps that a horizon may be told in, the shortest
// first. Readings that come seldom need a longer one.
func stepsFor(horizon time.Duration) []time.Duration {
	var out []time.Duration
	for _, step := range []time.Duration{time.Minute, 2 * time.Minute, 3 * time.Minute, 5 * time.Minute, 10 * time.Minute,
		15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 3 * time.Hour, 4 * time.Hour, 6 * time.Hour, 24 * time.Hour} {
		if n := horizon / step; n <= 48 && n >= 2 {
			out = append(out, step)
		}
	}
	return out
}

// lookIn makes a forecast in steps of a width. Without an error there is none
// where too little is known; thin says that readings come more seldom than that,
// and the last of the widths is taken all the same.
func (c *Queries) lookIn(ctx context.Context, s *one, newest value.Reading, horizon, step time.Duration,
	last bool) (x *seen, thin bool, err error) {
	const day = 24 * time.Hour
	season := int(day / step)
	switch {
	case step >= day:
		season = 7
	case season > 300: // too many of too short steps to learn a day from
		season = 1
	}
	back := max(8*time.Duration(season)*step, 4*horizon)
	if steps := int(back / step); steps < 160 { // what is cheap to look at is looked at
		back = min(160*step, 400*day)
	}
	end := newest.At.UnixMilli() + 1
	// From sums, where there would be too many readings to go through one by one.
	if l := series.Levels[0]; int64(back)/max(int64(c.interval(s)), 1) > singly && step.Milliseconds()%l == 0 {
		end = (end + l - 1) / l * l
	}
	from := end - back.Milliseconds()
	cells, err := c.history.Cells(ctx, s.device.ID, s.metric, value.FromMillis(from), value.FromMillis(end),
		ending{end, step.Milliseconds()}, step.Milliseconds())
	if _, err = series.Whole(err); err != nil { // what is damaged is a hole
		return nil, false, err
	}
	if len(cells) == 0 {
		return nil, true, nil
	}
	if !last && seldom(cells, step.Milliseconds()) {
		return nil, true, nil
	}
	// The history begins with its first reading.
	first := cells[0].At
	values := make([]float64, (end-first)/step.Milliseconds())
	for i := range values {
		values[i] = math.NaN()
	}
	for i := range cells {
		if k := (cells[i].At - first) / step.Milliseconds(); k >= 0 && int(k) < len(values) && cells[i].N > 0 {
			values[k] = cells[i].Last
			cells[i].At += step.Milliseconds() // its last value is of its end
		}
	}
	f, err := stats.Predict(values, season, int((horizon+step-1)/step))
	if errors.Is(err, stats.ErrTooLittle) {
		return nil, len(cells) < stats.MinForecast || 2*len(cells) < len(values), nil
	}
	if err != nil {
		return nil, false, err
	}
	return &seen{newest: newest.At, step: step, value: newest.Value.Num, f: f, cells: cells}, false, nil
}

// seldom reports whether most readings follow each other by more than a step.
func seldom(cells []series.Rollup, step int64) bool {
	wide := 0
	for i := 1; i < len(cells); i++ {
		if cells[i].At-cells[i-1].At > step {
			wide++
		}
	}
	return 2*wide > len(cells)-1
}

// interval is how often a device is expected to report.
func (c *Queries) interval(s *one) time.Duration {
	if m, err := c.models.Of(s.device.Model, s.device.Version); err == nil {
		return m.Interval
	}
	return time.Minute
}
