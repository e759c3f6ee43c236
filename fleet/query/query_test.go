package query_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"ullage/core/health"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/query"
	"ullage/test/rig"
)

const day = 24 * time.Hour

// begin is two whole days before the rig's day.
var begin = time.Date(2026, 3, 7, 0, 0, 0, 0, time.UTC)

// limits are what a test says that the limits are.
type limits []health.Margin

func (l limits) Margins(string) []health.Margin { return l }

// damaged is a history of which one device has lost something.
type damaged struct {
	query.History
	device string
}

func (d damaged) Cells(ctx context.Context, device, metric string, from, to time.Time, grid series.Grid,
	width int64) ([]series.Rollup, error) {
	out, err := d.History.Cells(ctx, device, metric, from, to, grid, width)
	if err == nil && device == d.device {
		err = &series.Lost{From: from, To: from.Add(time.Hour), Chunks: 1}
	}
	return out, err
}

// season stores two days of three probes, an air monitor and a press: probe n
// is n °C above a wave between 20 and 22 °C, and tank 2 says nothing from 06:00
// to 12:00 of the first day.
func season(t *testing.T) (*rig.Rig, func(h query.History, l query.Limits) *query.Queries) {
	r := rig.New(t)
	put := func(id string, every time.Duration, readings []value.Reading) {
		t.Helper()
		done := make(chan error, 1)
		r.Must(r.Store.Append(ingest.Append{Device: id, Readings: readings, Every: every, Done: func(err error) {
			done <- err
		}}))
		r.Must(<-done)
	}
	for n := range 3 {
		id := fmt.Sprintf("tank-%d", n)
		r.Onboard(id, "tank-probe", map[string]string{"site": []string{"Fennimore", "Kilnside", "Kilnside"}[n]})
		var rs []value.Reading
		for m := range 2 * 24 * 60 {
			if n == 2 && m >= 6*60 && m < 12*60 {
				continue
			}
			rs = append(rs, value.Reading{Metric: "must_temp", At: begin.Add(time.Duration(m) * time.Minute),
				Value: value.OfNumber(float64(21+n) + math.Sin(2*math.Pi*float64(m)/1440))})
		}
		put(id, time.Minute, rs)
	}
	r.Onboard("air-1", "cellar-air", map[string]string{"site": "Kilnside"})
	r.Onboard("press-1", "press-scale", nil)
	var fan, cycle []value.Reading
	for h := range 48 {
		at := begin.Add(time.Duration(h) * time.Hour)
		fan = append(fan, value.Reading{Metric: "fan_on", At: at, Value: value.OfBool(h%4 == 0)})
		cycle = append(cycle, value.Reading{Metric: "cycle", At: at,
			Value: value.OfText([]string{"idle", "filling"}[h/24])})
	}
	put("air-1", time.Hour, fan)
	put("press-1", time.Hour, cycle)
	r.Store.Seal()
	matching := func(where string) (map[string]bool, error) {
		if where != "tanks" {
			return nil, fault.New(fault.Invalid, "%q is no condition", where)
		}
		return map[string]bool{"tank-0": true, "tank-1": true, "tank-2": true}, nil
	}
	return r, func(h query.History, l query.Limits) *query.Queries {
		if h == nil {
			h = r.Store.Telemetry
		}
		return query.New(query.Options{History: h, Devices: r.Devices, Models: r.Models, Limits: l, Matching: matching,
			Zone: time.UTC, Now: r.Clock.Now})
	}
}

// said writes an answer down: each line with its points as count@value.
func said(a *query.Answer) string {
	var b strings.Builder
	for _, l := range a.Lines {
		fmt.Fprintf(&b, "%s%s", l.Device, l.Group)
		if l.Members > 0 {
			fmt.Fprintf(&b, " of %d", l.Members)
		}
		for _, p := range l.Steps {
			if l.Kind == value.Text {
				fmt.Fprintf(&b, " %d@%s", p.Count, p.Last.Text)
			} else {
				fmt.Fprintf(&b, " %d@%.2f", p.Count, p.Value)
			}
		}
		if l.Unit != "" {
			b.WriteString(" " + l.Unit)
		}
		b.WriteString("; ")
	}
	return strings.TrimSuffix(b.String(), "; ")
}

func TestQueries(t *testing.T) {
	_, clerk := season(t)
	first, both := "2026-03-07", "2026-03-07..2026-03-08"
	for name, c := range map[string]struct {
		q    query.Query
		want string
	}{
		"days of a device":    {query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}, Span: both, Step: day}, "tank-0 1440@21.00 1440@21.00 Cel"},
		"the greatest":        {query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}, Span: both, Step: day, Aggregate: "max"}, "tank-0 1440@22.00 1440@22.00 Cel"},
		"in another unit":     {query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}, Span: first, Step: 12 * time.Hour, Aggregate: "min", Units: map[string]string{"must_temp": "K"}}, "tank-0 720@294.15 720@293.15 K"},
		"a sum of a scale":    {query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}, Span: "2026-03-07T00:00..2min", Step: time.Minute, Aggregate: "sum", Units: map[string]string{"must_temp": "[degF]"}}, "tank-0 1@69.80 1@69.81 [degF]"},
		"a gap has no point":  {query.Query{Devices: []string{"tank-2"}, Metrics: []string{"must_temp"}, Span: first, Step: 6 * time.Hour, Aggregate: "count"}, "tank-2 360@360.00 360@360.00 360@360.00 Cel"},
		"by a label":          {query.Query{Where: "tanks", Metrics: []string{"must_temp"}, Span: first, Step: 6 * time.Hour, Aggregate: "max", GroupBy: "site", Then: "max"}, "site=Fennimore of 1 360@22.00 360@22.00 360@21.00 360@21.00 Cel; site=Kilnside of 2 720@24.00 360@23.00 720@23.00 720@23.00 Cel"},
		"how many of a group": {query.Query{Where: "tanks", Metrics: []string{"must_temp"}, Span: first, Step: 6 * time.Hour, GroupBy: "site", Then: "count"}, "site=Fennimore of 1 360@1.00 360@1.00 360@1.00 360@1.00 Cel; site=Kilnside of 2 720@2.00 360@1.00 720@2.00 720@2.00 Cel"},
		"the least of many":   {query.Query{Where: "tanks", Metrics: []string{"must_temp"}, Span: first, Step: day, Aggregate: "last", GroupBy: "row", Then: "min"}, "row=none of 3 3960@21.00 Cel"},
		// A value holds until the next one, or until the end.
		"booleans by time":    {query.Query{Devices: []string{"air-1"}, Metrics: []string{"fan_on"}, Span: both, Step: day, Aggregate: "weighted_mean"}, "air-1 24@0.25 24@0.25"},
		"texts":               {query.Query{Devices: []string{"press-1"}, Metrics: []string{"cycle"}, Span: both, Step: day}, "press-1 24@idle 24@filling"},
		"all that have it":    {query.Query{Metrics: []string{"fan_on"}, Span: first, Step: day, Aggregate: "first"}, "air-1 24@1.00"},
		"nothing in the span": {query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}, Span: "2026-01-01", Step: day}, "tank-0 Cel"},
	} {
		a, err := clerk(nil, nil).Run(t.Context(), c.q)
		if err != nil {
			t.Errorf("%s: %v", name, err)
		} else if got := said(a); got != c.want {
			t.Errorf("%s: %s\nwant %s", name, got, c.want)
		}
	}
}

func TestQueriesThatAreRefused(t *testing.T) {
	r, clerk := season(t)
	for i := range 170 {
		r.Onboard(fmt.Sprintf("tank-kilnside-%03d", i), "tank-probe", nil)
	}
	for name, c := range map[string]struct {
		q    query.Query
		want string
	}{
		"a misspelt metric":   {query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_tmp"}}, "did you mean must_temp?"},
		"a setting":           {query.Query{Devices: []string{"tank-0"}, Metrics: []string{"max_temp"}}, "which has no history"},
		"nowhere known":       {query.Query{Metrics: []string{"colour"}}, "none of these devices has a metric colour"},
		"an unknown device":   {query.Query{Devices: []string{"tank-9"}, Metrics: []string{"must_temp"}}, "tank-9"},
		"nothing asked for":   {query.Query{Devices: []string{"tank-0"}}, "no metric is asked for"},
		"a strange sum":       {query.Query{Metrics: []string{"must_temp"}, Aggregate: "mode"}, `"mode" is no way to sum up`},
		"a sum across":        {query.Query{Metrics: []string{"must_temp"}, Then: "last"}, `"last" is no way to sum devices up`},
		"a strange span":      {query.Query{Metrics: []string{"must_temp"}, Span: "soon"}, "is no span"},
		"half a span":         {query.Query{Metrics: []string{"must_temp"}, From: begin}, "both a beginning and an end"},
		"a span backwards":    {query.Query{Metrics: []string{"must_temp"}, From: begin.Add(day), To: begin}, "before it starts"},
		"steps too small":     {query.Query{Metrics: []string{"must_temp"}, Span: "7d", Step: time.Second}, "at most 20000"},
		"another dimension":   {query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}, Units: map[string]string{"must_temp": "kPa"}}, "is not given in kPa"},
		"no such unit":        {query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}, Units: map[string]string{"must_temp": "hot"}}, "is not given in hot"},
		"texts of a group":    {query.Query{Devices: []string{"press-1"}, Metrics: []string{"cycle"}, Span: "2026-03-07", GroupBy: "site"}, "is text, which is not summed up"},
		"a wrong condition":   {query.Query{Where: "what", Metrics: []string{"must_temp"}}, "is no condition"},
		"more lines than fit": {query.Query{Metrics: []string{"must_temp", "density", "ullage"}}, "at most 500"},
	} {
		a, err := clerk(nil, nil).Run(t.Context(), c.q)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s gives %v and %v, want %q", name, a, err, c.want)
		}
	}
}

// TestAnswersAreAStream gives lines as they are read, stops when nobody
// listens, and goes on beside what is damaged.
func TestAnswersAreAStream(t *testing.T) {
	r, clerk := season(t)
	q := query.Query{Where: "tanks", Metrics: []string{"must_temp"}, Span: "2026-03-07", Step: day}
	c := clerk(nil, nil)
	p, err := c.Plan(q)
	r.Must(err)
	enough := errors.New("enough")
	var got []string
	if err := c.Each(t.Context(), p, func(l query.Line) error {
		if got = append(got, l.Device); len(got) == 2 {
			return enough
		}
		return nil
	}); err != enough || fmt.Sprint(got) != "[tank-0 tank-1]" {
		t.Errorf("stopped after two lines: %v, %v", got, err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	n := 0
	err = c.Each(ctx, p, func(query.Line) error { n++; cancel(); return nil })
	if !errors.Is(err, context.Canceled) || n != 1 {
		t.Errorf("cancelled after the first line: %d lines, %v", n, err)
	}
	for by, want := range map[string]string{"": "tank-0|tank-1 tank-1: the readings between 2026-03-07T00:00:00Z and 2026-03-07T01:00:00Z are damaged and were left out|tank-2|",
		"site": "site=Fennimore|site=Kilnside tank-1: the readings between 2026-03-07T00:00:00Z and 2026-03-07T01:00:00Z are damaged and were left out|"} {
		q.GroupBy = by
		a, err := clerk(damaged{r.Store.Telemetry, "tank-1"}, nil).Run(t.Context(), q)
		r.Must(err)
		out := ""
		for _, l := range a.Lines {
			if len(l.Steps) != 1 {
				t.Errorf("%s%s has %d points", l.Device, l.Group, len(l.Steps))
			}
			out += strings.TrimSpace(l.Device+l.Group+" "+l.Note) + "|"
		}
		if out != want {
			t.Errorf("beside damage: %s\nwant %s", out, want)
		}
	}
}

func TestColumnsAndExport(t *testing.T) {
	r, clerk := season(t)
	c := clerk(nil, nil)
	q := query.Query{Metrics: []string{"must_temp", "fan_on"}, Span: "2026-03-07",
		Units: map[string]string{"must_temp": "K"}}
	p, err := c.Plan(q)
	r.Must(err)
	if cols, err := p.Columns(); err != nil || fmt.Sprint(cols) != "[fan_on must_temp [K]]" {
		t.Errorf("the columns are %v, %v", cols, err)
	}
	n := map[string]int{}
	r.Must(c.Export(t.Context(), q, func(device, metric, unit string, x series.Point) error {
		n[device+" "+metric+" "+unit]++
		if metric == "must_temp" && (x.Value.Num < 293 || x.Value.Num > 298) {
			t.Fatalf("%s is %v K", device, x.Value)
		}
		return nil
	}))
	if fmt.Sprint(n) != "map[air-1 fan_on :24 tank-0 must_temp K:1440 tank-1 must_temp K:1440 tank-2 must_temp K:1080]" {
		t.Errorf("exported were %v", n)
	}
}

func TestFigures(t *testing.T) {
	r, clerk := season(t)
	f, err := clerk(nil, nil).Statistics(t.Context(),
		query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}, Span: "2026-03-07..2026-03-08"})
	r.Must(err)
	if s := f.Summary; s.N != 2880 || math.Abs(s.P50-21) > 0.01 || math.Abs(s.Min-20) > 0.01 ||
		math.Abs(s.Max-22) > 0.01 || !f.TrendKnown || math.Abs(f.Trend.Slope) > 0.05 || len(f.Histogram.Counts) < 10 {
		t.Errorf("%+v", f)
	}
	for want, q := range map[string]query.Query{
		"is no number":               {Devices: []string{"press-1"}, Metrics: []string{"cycle"}},
		"and not 3":                  {Where: "tanks", Metrics: []string{"must_temp"}},
		"has no number in this span": {Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}, Span: "2026-01-01"},
	} {
		if _, err := clerk(nil, nil).Statistics(t.Context(), q); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("it gives %v, want %q", err, want)
		}
	}
}

// TestForecastReachesLimits asks when a wave of two days gets to limits, in the
// unit of the model and in another.
func TestForecastReachesLimits(t *testing.T) {
	r, clerk := season(t)
	now := begin.Add(2 * day)
	r.Clock.Forward(now.Sub(r.Clock.Now())) // to midnight, when the wave rises through its mean
	c := clerk(nil, limits{
		{Rule: "warm", Of: "must_temp", Unit: "Cel", Limit: 21.6, Upward: true}, {Rule: "cold", Of: "must_temp", Unit: "K", Limit: 293.5}, {Rule: "hot", Of: "must_temp", Unit: "Cel", Limit: 40, Upward: true},
		{Rule: "fast", Of: "rate(must_temp over 1h)", Unit: "K/h", Limit: 1, Upward: true}, {Rule: "odd", Of: "must_temp", Unit: "kPa", Limit: 1},
	})
	o, err := c.Forecast(t.Context(), query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}}, day)
	r.Must(err)
	if !o.Seasonal || len(o.Limits) != 3 {
		t.Fatalf("it is by %s, seasonal %v, with %d limits", o.Method, o.Seasonal, len(o.Limits))
	}
	for i, want := range []struct {
		rule  string
		after time.Duration // 0 for never
	}{{"cold", 14*time.Hour + 44*time.Minute}, {"hot", 0}, {"warm", 2*time.Hour + 27*time.Minute}} {
		got := o.Limits[i]
		off := got.Likely.Sub(now) - want.after
		if got.Rule != want.rule || want.after == 0 && !got.Likely.IsZero() ||
			want.after != 0 && (off.Abs() > 45*time.Minute || got.Early.After(got.Likely)) {
			t.Errorf("%+v, want %s after %s", got, want.rule, want.after)
		}
	}
	o, err = c.Forecast(t.Context(), query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"},
		Units: map[string]string{"must_temp": "K"}}, day)
	if err != nil || len(o.Limits) != 3 || math.Abs(o.Limits[2].Limit-294.75) > 1e-9 || o.Limits[2].Likely.IsZero() {
		t.Errorf("in kelvin: %+v, %v", o, err)
	}
	for _, ahead := range []time.Duration{time.Minute, 15 * day} {
		if _, err := c.Forecast(t.Context(), query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}},
			ahead); err == nil {
			t.Errorf("a forecast of %s is given", ahead)
		}
	}
	r.Clock.Forward(60 * day)
	if _, err := c.Forecast(t.Context(), query.Query{Devices: []string{"tank-0"}, Metrics: []string{"must_temp"}}, day); err == nil || !strings.Contains(err.Error(), "nothing can be said") {
		t.Errorf("long after the last reading: %v", err)
	}
}
