// Package query answers what the fleet's telemetry was over time: one question
// for one device or many, in single readings or summed up, each device by
// itself or all of a label together. It is the one way in which the API, the
// command line and the console read history.
package query

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ullage/core/exchange"
	"ullage/core/health"
	"ullage/core/model"
	"ullage/core/series"
	"ullage/core/unit"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/models"
)

// Bounds of one answer.
const (
	MaxLines = 500     // devices times metrics, or groups times metrics
	MaxSteps = 500_000 // over all lines
	MaxReads = 5_000   // series that are read for groups
)

// Aggregates are the ways to sum up a step of time.
var Aggregates = []string{"mean", "weighted_mean", "min", "max", "sum", "count", "first", "last"}

// Query is a question about history.
type Query struct {
	Devices []string // ids; those that Where is true for where empty
	Where   string
	// Among are, unless it is nil, the devices that are asked about where Devices is
	// empty; Where counts for nothing then.
	Among   []string
	Metrics []string
	Span    string // as series.ParseSpan reads it; the last day where empty
	// From and To are the span instead, where they are not zero.
	From, To time.Time
	Zone     *time.Location
	Step     time.Duration // width of a step; a round one that gives about Steps of them where zero
	Steps    int
	// Aggregate says what the value of a step is, one of Aggregates; the mean where empty.
	Aggregate string
	// GroupBy is a label: devices of one value of it become one line, whose steps
	// are those of the devices, aggregated by Then. "" gives each device a line.
	GroupBy string
	Then    string            // mean where empty; weighted_mean, first and last are not over devices
	Units   map[string]string // wanted units by metric
	// Preferred are the units of metrics that Units does not name.
	Preferred unit.Preferred
}

// Step is one point of a line. Min and Max keep the spikes that a mean hides.
type Step struct {
	At       time.Time
	Count    int64
	Value    float64     // as Aggregate asked for
	Min, Max float64     // the least and the greatest single reading, of all devices of a group
	Last     value.Value // the last reading; of texts and booleans what matters. Groups have none
}

// Line is one metric of one device or of one group.
type Line struct {
	Device   string // empty for a group
	Group    string // label=value, for a group
	Members  int    // devices of the group that have readings
	Metric   string
	Title    string
	Kind     value.Kind
	Unit     string // symbol
	Decimals int
	Steps    []Step // a gap has none
	Note     string // what could not be read; "" for nothing
}

// Answer is the answer to a Query.
type Answer struct {
	From, To time.Time
	Step     time.Duration
	Lines    []Line
}

// History reads what is stored.
type History interface {
	Readings
	// Cells sums numbers up; width is that of the narrowest cell, in ms.
	Cells(ctx context.Context, device, metric string, from, to time.Time, grid series.Grid,
		width int64) ([]series.Rollup, error)
	// Last returns the newest reading at or before a time.
	Last(ctx context.Context, device, metric string, at time.Time) (value.Reading, bool, error)
}

// Readings gives single readings.
type Readings interface {
	Readings(ctx context.Context, device, metric string, from, to time.Time, yield func(series.Point) error) error
}

// Limits tells how far a device is from the limits of its alarms now.
type Limits interface {
	Margins(device string) []health.Margin
}

// Queries answers queries. Make one with New.
type Queries struct {
	history  History
	devices  *devices.Registry
	models   *models.Catalogue
	limits   Limits
	upkeeps  upkeeps
	matching func(where string) (map[string]bool, error)
	zone     *time.Location
	zoneFor  func(device string) *time.Location
	now      func() time.Time
	outlooks outlooks
}

// Options are what Queries are made of.
type Options struct {
	History  History
	Devices  *devices.Registry
	Models   *models.Catalogue
	Limits   Limits
	Matching func(where string) (map[string]bool, error) // tells for which devices a condition is true
	Zone     *time.Location                              // of whatever is of no one site
	// ZoneFor gives the time zone of a device; Zone for all if it is nil.
	ZoneFor func(device string) *time.Location
	Now     func() time.Time
}

// New returns Queries.
func New(o Options) *Queries {
	return &Queries{history: o.History, devices: o.Devices, models: o.Models, limits: o.Limits, matching: o.Matching,
		zone: o.Zone, zoneFor: o.ZoneFor, now: o.Now}
}

// zoneOf is the zone in which the days of some devices are told: theirs, if it is
// the same for all of them.
func (c *Queries) zoneOf(ids []string) *time.Location {
	if len(ids) == 0 || c.zoneFor == nil {
		return c.zone
	}
	zone := c.zoneFor(ids[0])
	for _, id := range ids[1:] {
		if c.zoneFor(id).String() != zone.String() {
			return c.zone
		}
	}
	return zone
}

// Plan is a query made definite: which series are read, and how.
type Plan struct {
	Query
	From, To time.Time
	series   []one
}

// one is one series to read.
type one struct {
	device devices.Device
	metric string
	p      *model.Property // nil for telemetry that the model does not name
}

// Plan checks a query.
func (c *Queries) Plan(q Query) (*Plan, error) {
	p := &Plan{Query: q, From: q.From, To: q.To}
	if p.Zone == nil {
		p.Zone = c.zoneOf(q.Devices)
	}
	switch {
	case p.From.IsZero() != p.To.IsZero():
		return nil, fault.New(fault.Invalid, "a span has both a beginning and an end").
			Then("give both, or say it in words, like 6h or yesterday")
	case p.From.IsZero():
		if p.Span = strings.TrimSpace(p.Span); p.Span == "" {
			p.Span = "24h"
		}
		var err error
		if p.From, p.To, err = series.ParseSpan(p.Span, c.now(), p.Zone); err != nil {
			return nil, fault.New(fault.Invalid, "span: %s", err)
		}
	case !p.From.Before(p.To):
		return nil, fault.New(fault.Invalid, "the span ends at %s, before it starts at %s", p.To.Format(time.RFC3339),
			p.From.Format(time.RFC3339))
	}
	p.Aggregate, p.Then = cmp.Or(p.Aggregate, "mean"), cmp.Or(p.Then, "mean")
	if !slices.Contains(Aggregates, p.Aggregate) {
		return nil, fault.New(fault.Invalid, "%q is no way to sum up", p.Aggregate).
			Then("there are %s", strings.Join(Aggregates, ", "))
	}
	if across := []string{"mean", "min", "max", "sum", "count"}; !slices.Contains(across, p.Then) {
		return nil, fault.New(fault.Invalid, "%q is no way to sum devices up", p.Then).
			Then("there are %s", strings.Join(across, ", "))
	}
	if len(p.Metrics) == 0 {
		return nil, fault.New(fault.Invalid, "no metric is asked for").Then("name one, like must_temp")
	}
	if p.Steps <= 0 {
		p.Steps = 300
	}
	if p.Step == 0 {
		p.Step = series.NiceStep(p.To.Sub(p.From), p.Steps)
	}
	if _, err := series.GridOf(p.Step, p.Zone, p.From, p.To); err != nil {
		return nil, fault.New(fault.Invalid, "%s", err)
	}
	return p, c.pick(p)
}

// pick finds the series of a plan, in order of device and then of the metrics
// as they were asked for.
func (c *Queries) pick(p *Plan) error {
	ids := slices.Clone(p.Devices)
	switch {
	case len(ids) > 0:
	case p.Among != nil:
		ids = p.Among
	default:
		if strings.TrimSpace(p.Where) == "" {
			for _, d := range c.devices.List() {
				ids = append(ids, d.ID)
			}
		} else {
			set, err := c.matching(p.Where)
			if err != nil {
				return err
			}
			for id := range set {
				ids = append(ids, id)
			}
		}
		slices.Sort(ids)
	}
	named := map[string]bool{}
	for _, id := range ids {
		d, err := c.devices.Get(id)
		if err != nil {
			return err
		}
		m, err := c.models.Of(d.Model, d.Version)
		if err != nil && len(p.Devices) == 1 {
			return err
		} else if err != nil {
			continue // its model cannot be read, which is said elsewhere
		}
		for _, metric := range p.Metrics {
			prop, ok := m.Property(metric)
			if ok && prop.Role != model.Telemetry {
				return fault.New(fault.Invalid, "%s of %s is a %s, which has no history", metric, m.Name, prop.Role)
			}
			now, renamed := m.Called(metric)
			if !ok && renamed && len(p.Devices) == 1 {
				return fault.New(fault.NotFound, "%s is called %s in %s", metric, now.Name, m).Then("ask for that name")
			}
			if !ok && (renamed || !m.Additional) {
				// Among several devices some may be of models without it.
				if len(p.Devices) == 1 {
					e := fault.New(fault.NotFound, "%s has no metric %s", m, metric)
					if near := m.Nearest(metric, model.Telemetry); near != "" {
						e.Then("did you mean %s?", near)
					}
					return e
				}
				continue
			}
			named[metric] = true
			p.series = append(p.series, one{d, metric, prop})
		}
	}
	for _, metric := range p.Metrics {
		if !named[metric] && len(ids) > 0 {
			return fault.New(fault.NotFound, "none of these devices has a metric %s", metric).On("model")
		}
	}
	most, what := MaxLines, "lines"
	if p.GroupBy != "" {
		most, what = MaxReads, "series to read"
	}
	if len(p.series) > most {
		return fault.New(fault.Invalid, "that would be %d %s; at most %d are given", len(p.series), what, most).
			Then("narrow it with a condition, or take devices together by a label")
	}
	return nil
}

// Columns names what an export of the plan has, each metric with its unit, as
// a table with a column for each needs to know.
func (p *Plan) Columns() ([]string, error) {
	var out []string
	for i := range p.series {
		s := &p.series[i]
		_, symbol, err := s.unit(p)
		if err != nil {
			return nil, err
		}
		if c := exchange.Column(s.metric, symbol); !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out, nil
}

// Run answers a query. It ends early with the error of ctx.
func (c *Queries) Run(ctx context.Context, q Query) (*Answer, error) {
	p, err := c.Plan(q)
	if err != nil {
		return nil, err
	}
	a := &Answer{From: p.From, To: p.To, Step: p.Step, Lines: []Line{}}
	err = c.Each(ctx, p, func(l Line) error {
		a.Lines = append(a.Lines, l)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return a, nil
}

// Each answers a plan line by line: those of devices as each has been read,
// those of groups once all have. It ends with the error of ctx, or of yield.
func (c *Queries) Each(ctx context.Context, p *Plan, yield func(Line) error) error {
	grid, err := series.GridOf(p.Step, p.Zone, p.From, p.To)
	if err != nil {
		return err
	}
	groups := map[string]*gathering{}
	total := 0
	for _, s := range p.series {
		convert, symbol, err := s.unit(p)
		if err != nil {
			return err
		}
		cells, texts, err := c.read(ctx, p, grid, &s)
		lost, err := series.Whole(err)
		if err != nil {
			return err
		}
		if p.GroupBy != "" {
			key := cmp.Or(s.device.Labels[p.GroupBy], "none")
			g := groups[key+"\x00"+s.metric]
			if g == nil {
				l := s.line(symbol)
				l.Device, l.Group = "", p.GroupBy+"="+key
				g = &gathering{line: l, at: map[int64]*cellSum{}}
				groups[key+"\x00"+s.metric] = g
				if len(groups) > MaxLines {
					return fault.New(fault.Invalid, "the label %s has too many values; at most %d lines are given",
						p.GroupBy, MaxLines)
				}
			}
			g.line.note(s.device.ID, lost)
			if err := g.add(cells, texts, p, convert); err != nil {
				return err
			}
			continue
		}
		l := s.line(symbol)
		l.note(s.device.ID, lost)
		if texts != nil {
			l.Steps = texts
			l.Kind = texts[0].Last.Kind
		}
		for i := range cells {
			l.Steps = append(l.Steps, point(&cells[i], p.Aggregate, convert, l.Kind))
		}
		if total += len(l.Steps); total > MaxSteps {
			return fault.New(fault.Invalid, "that would be more than %d points", MaxSteps).
				Then("widen the step, or ask for fewer devices")
		}
		if err := yield(l); err != nil {
			return err
		}
	}
	for _, key := range slices.Sorted(maps.Keys(groups)) {
		if err := yield(groups[key].finish(p.Then)); err != nil {
			return err
		}
	}
	return nil
}

// note says in a line what could not be read of a device.
func (l *Line) note(device string, lost *series.Lost) {
	if lost == nil {
		return
	}
	if l.Note != "" {
		l.Note += "; "
	}
	l.Note += fmt.Sprintf("%s: %s", device, lost)
}

// read reads one series: cells of numbers, or points of texts.
func (c *Queries) read(ctx context.Context, p *Plan, grid series.Grid,
	s *one) (cells []series.Rollup, texts []Step, err error) {
	if s.p == nil || s.p.Kind != value.Text {
		width := p.Step.Milliseconds()
		if _, days := grid.(series.Days); days {
			width = 23 * time.Hour.Milliseconds() // the shortest day
		}
		if cells, err = c.history.Cells(ctx, s.device.ID, s.metric, p.From, p.To, grid, width); err != nil || len(cells) > 0 || s.p != nil { // a *series.Lost too
			return cells, nil, err
		}
	}
	err = c.history.Readings(ctx, s.device.ID, s.metric, p.From, p.To, func(x series.Point) error {
		if x.Value.Kind != value.Text {
			return nil
		}
		at, _ := grid.Cell(x.At.UnixMilli())
		if n := len(texts); n == 0 || texts[n-1].At.UnixMilli() != at {
			texts = append(texts, Step{At: value.FromMillis(at)})
		}
		k := &texts[len(texts)-1]
		k.Count++
		k.Last = x.Value
		return nil
	})
	return nil, texts, err
}

func (s *one) line(symbol string) Line {
	l := Line{Device: s.device.ID, Metric: s.metric, Unit: symbol, Decimals: -1, Kind: value.Number, Steps: []Step{}}
	if s.p != nil {
		l.Title, l.Kind, l.Decimals = s.p.Title, s.p.Kind, s.p.Decimals
		if from, err := unit.Lookup(s.p.Unit); err == nil && symbol != s.p.Unit {
			to, _ := unit.Lookup(symbol)
			l.Decimals = unit.Decimals(l.Decimals, from, to)
		}
	}
	return l
}

// unit returns the conversion to the unit that a plan wants, and the unit that comes out.
func (s *one) unit(p *Plan) (convert func(float64) float64, symbol string, err error) {
	own := ""
	if s.p != nil {
		own = s.p.Unit
	}
	want := cmp.Or(p.Units[s.metric], p.Preferred.Symbol(own))
	if want == "" || want == own {
		return func(x float64) float64 { return x }, own, nil
	}
	c, err := conversion(own, want)
	if err == nil {
		return c.Apply, want, nil
	}
	return nil, "", fault.New(fault.Invalid, "%s of %s is not given in %s: %s", s.metric, s.device.ID, want, err)
}

func conversion(from, to string) (unit.Conversion, error) {
	a, err := unit.Lookup(from)
	if err != nil {
		return unit.Conversion{}, err
	}
	b, err := unit.Lookup(to)
	if err != nil {
		return unit.Conversion{}, err
	}
	return a.To(b)
}

func point(r *series.Rollup, sum string, convert func(float64) float64, kind value.Kind) Step {
	x := Step{At: value.FromMillis(r.At), Count: r.N, Min: convert(r.Min), Max: convert(r.Max),
		Last: value.OfNumber(convert(r.Last))}
	if kind == value.Bool {
		x.Last = value.OfBool(r.Last != 0)
	}
	switch sum {
	case "weighted_mean":
		x.Value = convert(r.Weighted())
	case "min":
		x.Value = x.Min
	case "max":
		x.Value = x.Max
	case "sum":
		zero := convert(0) // a shifted scale shifts each
		x.Value = series.Tidy(r.Sum*(convert(1)-zero) + zero*float64(r.N))
	case "count":
		x.Value = float64(r.N)
	case "first":
		x.Value = convert(r.First)
	case "last":
		x.Value = convert(r.Last)
	default:
		x.Value = convert(r.Mean())
	}
	return x
}

// gathering sums the points of several devices up.
type gathering struct {
	line Line
	at   map[int64]*cellSum
}

type cellSum struct {
	n, count int64
	sum      float64
	min, max float64
}

func (g *gathering) add(cells []series.Rollup, texts []Step, p *Plan, convert func(float64) float64) error {
	if texts != nil {
		return fault.New(fault.Invalid, "%s is text, which is not summed up over devices", g.line.Metric)
	}
	if len(cells) > 0 {
		g.line.Members++
	}
	for i := range cells {
		x := point(&cells[i], p.Aggregate, convert, value.Number)
		k := g.at[cells[i].At]
		if k == nil {
			k = &cellSum{min: x.Min, max: x.Max}
			g.at[cells[i].At] = k
		}
		switch {
		case p.Then == "min" && k.n > 0:
			k.sum = min(k.sum, x.Value)
		case p.Then == "max" && k.n > 0:
			k.sum = max(k.sum, x.Value)
		default:
			k.sum += x.Value
		}
		k.n++
		k.count += x.Count
		k.min, k.max = min(k.min, x.Min), max(k.max, x.Max)
	}
	return nil
}

func (g *gathering) finish(across string) Line {
	l := g.line
	l.Kind = value.Number
	for at, k := range g.at {
		x := Step{At: value.FromMillis(at), Count: k.count, Value: k.sum, Min: k.min, Max: k.max}
		switch across {
		case "mean":
			x.Value = k.sum / float64(k.n)
		case "count":
			x.Value = float64(k.n)
		}
		l.Steps = append(l.Steps, x)
	}
	slices.SortFunc(l.Steps, func(a, b Step) int { return a.At.Compare(b.At) })
	return l
}

// Export gives every single reading that a query is about, one series after
// the other, each in order of time. Step, By and what goes with them say nothing.
// Where some are damaged it gives all the others, and an error of
// series.ErrDamaged at the end.
func (c *Queries) Export(ctx context.Context, q Query,
	yield func(device, metric, unit string, x series.Point) error) error {
	p, err := c.Plan(q)
	if err != nil {
		return err
	}
	var all Line
	for _, s := range p.series {
		convert, symbol, err := s.unit(p)
		if err != nil {
			return err
		}
		err = c.history.Readings(ctx, s.device.ID, s.metric, p.From, p.To, func(x series.Point) error {
			if x.Value.Kind == value.Number {
				x.Value.Num = convert(x.Value.Num)
			}
			return yield(s.device.ID, s.metric, symbol, x)
		})
		lost, err := series.Whole(err)
		if err != nil {
			return fmt.Errorf("reading %s of %s: %w", s.metric, s.device.ID, err)
		}
		all.note(s.metric+" of "+s.device.ID, lost)
	}
	if all.Note != "" {
		e := fault.New(fault.Internal, "%s", all.Note)
		e.Cause = series.ErrDamaged
		return e
	}
	return nil
}
