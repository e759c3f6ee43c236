package query

import (
	"context"
	"errors"
	"math"
	"slices"
	"strings"
	"time"

	"ullage/core/series"
	"ullage/core/stats"
	"ullage/core/value"
	"ullage/fleet/fault"
)

// Statistics describe one metric of one device over a span.
type Statistics struct {
	Line      Line // without points
	From, To  time.Time
	Summary   stats.Summary
	Histogram stats.Histogram
	// Trend is the change in an hour, with its interval; TrendKnown is false
	// where there is too little for one.
	Trend      stats.Trend
	TrendKnown bool
}

// maxFigures is how many single readings are described; more are taken as the
// means of short spans.
const maxFigures = 200_000

// Statistics describes the numbers of one metric.
func (c *Queries) Statistics(ctx context.Context, q Query) (*Statistics, error) {
	p, s, err := c.single(q)
	if err != nil {
		return nil, err
	}
	convert, symbol, err := s.unit(p.Units[s.metric])
	if err != nil {
		return nil, err
	}
	f := &Statistics{Line: s.line(symbol), From: p.From, To: p.To}
	var values []float64
	err = c.history.Readings(ctx, s.device.ID, s.metric, p.From, p.To, func(x series.Point) error {
		if x.Value.Kind == value.Number && len(values) <= maxFigures {
			values = append(values, convert(x.Value.Num))
		}
		return nil
	})
	lost, err := series.Whole(err)
	if err != nil {
		return nil, err
	}
	f.Line.note(s.device.ID, lost)
	step := series.NiceStep(p.To.Sub(p.From), 200)
	cells, err := c.history.Cells(ctx, s.device.ID, s.metric, p.From, p.To, series.Every(step.Milliseconds()),
		step.Milliseconds())
	if _, err = series.Whole(err); err != nil { // it was said already
		return nil, err
	}
	if len(values) > maxFigures {
		values = values[:0]
		for i := range cells {
			values = append(values, convert(cells[i].Mean()))
		}
	}
	var ok bool
	if f.Summary, ok = stats.Summarise(values); !ok {
		return nil, fault.New(fault.NotFound, "%s of %s has no number in this span", s.metric, s.device.ID)
	}
	f.Histogram, _ = stats.HistogramOf(values, 20)
	var points []stats.Point
	for i := range cells {
		points = append(points, stats.Point{X: float64(cells[i].At-p.From.UnixMilli()) / 3600_000,
			Y: convert(cells[i].Mean())})
	}
	f.Trend, f.TrendKnown = stats.TheilSen(points)
	return f, nil
}

// single plans a query that is about one series.
func (c *Queries) single(q Query) (*Plan, *one, error) {
	p, err := c.Plan(q)
	if err != nil {
		return nil, nil, err
	}
	if len(p.series) != 1 {
		return nil, nil, fault.New(fault.Invalid, "this is about one metric of one device, and not %d", len(p.series))
	}
	if s := &p.series[0]; s.p != nil && s.p.Kind != value.Number {
		return nil, nil, fault.New(fault.Invalid, "%s is no number", s.metric)
	}
	return p, &p.series[0], nil
}

// Outlook is a forecast of one metric.
type Outlook struct {
	Line     Line // its points are the past that it was made from
	From     time.Time
	Step     time.Duration
	Steps    []Probable
	Seasonal bool // a day's way, or a week's, was learnt
	Error    float64
	Note     string // what to keep in mind
	Limits   []LimitAhead
}

// LimitAhead tells when a forecast gets to the limit of a rule.
type LimitAhead struct {
	Rule   string
	Limit  float64 // in the unit of the forecast
	Upward bool    // the alarm lies above it
	// Likely is when the mean gets there, and Early when the band does; zero
	// where they do not within the forecast.
	Likely, Early time.Time
}

// Probable is what a metric probably is at a time: within Low and High with 95 %.
type Probable struct {
	At              time.Time
	Mean, Low, High float64
}

// maxAhead is how far ahead a forecast looks.
const maxAhead = 14 * 24 * time.Hour

// Forecast tells what probably comes of one metric. The season is a day, or a
// week where days are one step.
func (c *Queries) Forecast(ctx context.Context, q Query, ahead time.Duration) (*Outlook, error) {
	if ahead < 5*time.Minute || ahead > maxAhead {
		return nil, fault.New(fault.Invalid, "a forecast looks 5 minutes to %d days ahead, and not %s",
			int(maxAhead.Hours()/24), value.Duration(ahead))
	}
	now := c.now()
	const day = 24 * time.Hour
	step := series.NiceStep(ahead, 48)
	for day%step != 0 {
		step = series.NiceStep(step+time.Second, 1)
	}
	season := int(day / step)
	if step >= 12*time.Hour {
		step, season = day, 7
	}
	back := max(8*time.Duration(season)*step, 4*ahead)
	if season > 300 { // a day of such short steps is too long a season to learn
		season, back = 1, 4*ahead
	}
	end := now.Truncate(step)
	q.From, q.To, q.Step = end.Add(-back), end, step
	p, s, err := c.single(q)
	if err != nil {
		return nil, err
	}
	convert, symbol, err := s.unit(p.Units[s.metric])
	if err != nil {
		return nil, err
	}
	cells, err := c.history.Cells(ctx, s.device.ID, s.metric, q.From, q.To, series.Every(step.Milliseconds()),
		step.Milliseconds())
	if _, err = series.Whole(err); err != nil { // what is damaged is a hole
		return nil, err
	}
	o := &Outlook{Line: s.line(symbol), From: end, Step: step}
	if len(cells) == 0 {
		return nil, fault.New(fault.NotFound,
			"%s of %s has no readings in the last %s, so nothing can be said of what comes", s.metric, s.device.ID, value.Duration(back))
	}
	// The history begins with its first reading, and ends with the last whole step.
	first := cells[0].At
	values := make([]float64, (end.UnixMilli()-first)/step.Milliseconds())
	for i := range values {
		values[i] = math.NaN()
	}
	for i := range cells {
		if k := (cells[i].At - first) / step.Milliseconds(); int(k) < len(values) {
			values[k] = convert(cells[i].Mean())
			o.Line.Steps = append(o.Line.Steps, point(&cells[i], "mean", convert, value.Number))
		}
	}
	f, err := stats.Predict(values, season, int((ahead+step-1)/step))
	if errors.Is(err, stats.ErrTooLittle) {
		return nil, fault.New(fault.Conflict,
			"%s of %s has %d steps of %s, which is too little, or has too many holes, to say what comes", s.metric, s.device.ID, len(cells), value.Duration(step)).
			Then("wait for more readings, or ask for a shorter time ahead")
	}
	if err != nil {
		return nil, err
	}
	o.Seasonal, o.Error = f.Seasonal, f.Error
	switch {
	case !f.Seasonal && season > 1:
		o.Note = "less than two whole days are known, so the way of a day is not in it"
	case !f.Seasonal:
		o.Note = "level and trend only; a day's way is not in it"
	}
	for i := range f.Mean {
		o.Steps = append(o.Steps, Probable{end.Add(time.Duration(i) * step), f.Mean[i], f.Low[i], f.High[i]})
	}
	for _, m := range c.limits.Margins(s.device.ID) {
		if m.Of != s.metric { // it is about something worked out of it
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
		nearer := f.Low
		if m.Upward {
			nearer = f.High
		}
		at := func(values []float64) time.Time {
			if k, ok := stats.Crossing(values, limit, m.Upward); ok {
				return end.Add(time.Duration(k * float64(step)))
			}
			return time.Time{}
		}
		o.Limits = append(o.Limits, LimitAhead{Rule: m.Rule, Limit: limit, Upward: m.Upward, Likely: at(f.Mean),
			Early: at(nearer)})
	}
	slices.SortFunc(o.Limits, func(a, b LimitAhead) int { return strings.Compare(a.Rule, b.Rule) })
	return o, nil
}
