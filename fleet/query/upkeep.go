package query

import (
	"context"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"ullage/core/health"
	"ullage/core/model"
	"ullage/core/series"
	"ullage/core/stats"
	"ullage/core/value"
	"ullage/fleet/devices"
)

// Upkeep is what keeps a device going: what its battery has left, and how well it is heard.
// Either is nil for a device whose model tells nothing of it, or that has told nothing yet.
type Upkeep struct {
	Device          string
	Battery, Signal *Reserve
}

// Reserve is how one of them went, by days.
type Reserve struct {
	Metric, Unit string
	Decimals     int
	Days         []Day // those with readings, the oldest first
	// Of a battery: PerMonth is what it loses in 30 days. Empty is when it gets down to the
	// limit of the rule that watches it; Likely is zero if it does not within maxEmpty, or if
	// Note says why that is not known. Replaced is the day of the last new, or charged, cell.
	PerMonth float64
	Rule     string
	Limit    float64
	Empty    health.ToLimit
	Replaced time.Time
	Note     string
}

// Day is what a metric was over a day of UTC, for which there are sums.
type Day struct {
	At              time.Time // its begin
	Mean, Low, High float64
	Last            float64
}

const (
	// upkeepBack is how far back batteries are looked at.
	upkeepBack = 400 * 24 * time.Hour
	// maxEmpty is how far ahead a day is told; nothing is known of what comes after that.
	maxEmpty = 10 * 365 * 24 * time.Hour
	// trendDays and trendPoints are how many days a trend is drawn through, and as how many
	// points: time grows with their square.
	trendDays   = 180
	trendPoints = 60
	// upkeepFresh is for how long what was worked out stands: it is about days.
	upkeepFresh = 10 * time.Minute
)

// upkeeps remember what was worked out, by device.
type upkeeps struct {
	mu    sync.Mutex
	all   map[string]keptUp
	swept time.Time
	era   int // how often it was forgotten
}

// Forget forgets what was worked out about batteries and signals: people have put readings of
// the past in, or deleted some.
func (c *Queries) Forget() {
	c.upkeeps.mu.Lock()
	defer c.upkeeps.mu.Unlock()
	c.upkeeps.all = nil
	c.upkeeps.era++
}

type keptUp struct {
	at time.Time
	Upkeep
}

// Upkeep tells what keeps a device going.
func (c *Queries) Upkeep(ctx context.Context, d devices.Device) (Upkeep, error) {
	now := c.now()
	c.upkeeps.mu.Lock()
	was, ok := c.upkeeps.all[d.ID]
	era := c.upkeeps.era
	c.upkeeps.mu.Unlock()
	if ok && now.Sub(was.at) < upkeepFresh {
		return was.Upkeep, nil
	}
	out := Upkeep{Device: d.ID}
	m, err := c.models.Of(d.Model, d.Version)
	if err != nil {
		return out, nil // removed under it; it has no telemetry then
	}
	for _, p := range m.With(model.Telemetry) {
		var into **Reserve
		switch {
		case p.Tells == model.Battery && out.Battery == nil:
			into = &out.Battery
		case p.Tells == model.Signal && out.Signal == nil:
			into = &out.Signal
		default:
			continue
		}
		r := &Reserve{Metric: p.Name, Unit: p.Unit, Decimals: p.Decimals}
		if r.Days, err = c.days(ctx, d.ID, p.Name, now); err != nil {
			return out, err
		}
		if len(r.Days) == 0 {
			continue
		}
		if p.Tells == model.Battery {
			c.empties(r, d.ID, p.Unit, now)
		}
		*into = r
	}
	c.upkeeps.mu.Lock()
	defer c.upkeeps.mu.Unlock()
	if c.upkeeps.era != era { // it may have been worked out of what was before
		return out, nil
	}
	if c.upkeeps.all == nil {
		c.upkeeps.all = map[string]keptUp{}
	}
	if now.Sub(c.upkeeps.swept) >= upkeepFresh { // a device that is gone leaves nothing for long
		c.upkeeps.swept = now
		maps.DeleteFunc(c.upkeeps.all, func(_ string, x keptUp) bool { return now.Sub(x.at) >= upkeepFresh })
	}
	c.upkeeps.all[d.ID] = keptUp{now, out}
	return out, nil
}

// days sums a metric up by days.
func (c *Queries) days(ctx context.Context, device, metric string, now time.Time) ([]Day, error) {
	const day = 24 * time.Hour
	grid := series.Every(day.Milliseconds())
	cells, err := c.history.Cells(ctx, device, metric, now.Truncate(day).Add(-upkeepBack), now, grid, day.Milliseconds())
	if _, err = series.Whole(err); err != nil { // what is damaged is a hole
		return nil, err
	}
	out := make([]Day, 0, len(cells))
	for i := range cells {
		x := &cells[i]
		if x.N > 0 {
			out = append(out, Day{At: value.FromMillis(x.At), Mean: x.Mean(), Low: x.Min, High: x.Max, Last: x.Last})
		}
	}
	return out, nil
}

// empties works out when a battery is empty: when the trend of its days gets to the limit of
// the rule that watches it, of several the one that is met first.
func (c *Queries) empties(r *Reserve, device, own string, now time.Time) {
	low := math.Inf(-1)
	for _, m := range c.limits.Margins(device) {
		if m.Upward || !about(m, r.Metric) {
			continue
		}
		limit := m.Limit
		if m.Unit != own {
			convert, err := conversion(m.Unit, own)
			if err != nil {
				continue
			}
			limit = convert.Apply(limit)
		}
		if limit > low {
			low, r.Limit, r.Rule = limit, limit, m.Rule
		}
	}
	begin := r.Days[0].At
	points := trendOf(r.Days, begin)
	x, ok := stats.RunsOut(points, low)
	at := func(days float64) time.Time { return begin.Add(time.Duration(days * 24 * float64(time.Hour))) }
	if x.Filled {
		r.Replaced = at(x.Since).Truncate(time.Hour)
	}
	switch {
	case !ok:
		r.Note = "known after eight days"
		return
	case r.Rule == "":
		r.Note = "no rule watches it"
	}
	r.PerMonth = max(0, -30*x.Trend.Slope)
	when := func(days float64) time.Time {
		if days > (now.Sub(begin)+maxEmpty).Hours()/24 {
			return time.Time{}
		}
		return at(days).Truncate(time.Hour)
	}
	if r.Rule != "" {
		r.Empty = health.ToLimit{Likely: when(x.Likely), Early: when(x.Early), Late: when(x.Late)}
		if r.Empty.Likely.IsZero() {
			r.Empty = health.ToLimit{}
			r.Note = "no end in sight"
		}
	}
}

// trendOf are the days that a trend is drawn through, as points of about equal weight.
func trendOf(days []Day, begin time.Time) []stats.Point {
	if i, _ := slices.BinarySearchFunc(days, days[len(days)-1].At.AddDate(0, 0, -trendDays), func(d Day, at time.Time) int {
		return d.At.Compare(at)
	}); i > 0 {
		days = days[i:]
	}
	each := (len(days) + trendPoints - 1) / trendPoints
	var out []stats.Point
	for i := 0; i < len(days); i += each {
		part := days[i:min(i+each, len(days))]
		var p stats.Point
		for _, d := range part {
			// The mean of a day stands at its noon.
			p.X += (d.At.Sub(begin).Hours()/24 + 0.5) / float64(len(part))
			p.Y += d.Mean / float64(len(part))
		}
		out = append(out, p)
	}
	return out
}
