package query

import (
	"context"
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
	convert, symbol, err := s.unit(p)
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
