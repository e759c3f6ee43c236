package api

import (
	"bytes"
	"cmp"
	"context"
	_ "embed"
	"fmt"
	"html/template"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/logline"
	"ullage/core/model"
	"ullage/core/plot"
	"ullage/core/series"
	"ullage/core/unit"
	"ullage/core/value"
	"ullage/fleet/access"
	"ullage/fleet/alarms"
	"ullage/fleet/commands"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/logs"
	"ullage/fleet/present"
	"ullage/fleet/query"
	"ullage/fleet/traffic"
)

// A snapshot is one file about one device, for a ticket or a supplier: it works without the
// service, has no script, and holds no secret.

//go:embed snapshot.html
var snapshotHTML string

var snapshotPage = template.Must(template.New("snapshot").Funcs(template.FuncMap{
	"clock": func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format("2006-01-02 15:04:05")
	},
	"exact": func(t time.Time) string { return t.UTC().Format("01-02 15:04:05.000") },
}).Parse(snapshotHTML))

// How much of each a snapshot holds.
const (
	snapshotMetrics = 60
	snapshotSteps   = 300
	snapshotFacts   = 300
	snapshotAlarms  = 200
	snapshotTraffic = 100
	snapshotLines   = 300
	snapshotSpan    = 92 * 24 * time.Hour
)

type snapshot struct {
	ID, Name, Health, Reasons, Status, By string
	From, To, Now                         time.Time
	Facts                                 []snapshotFact
	Metrics                               []snapshotMetric
	Revision                              int64
	SettingsState                         string
	Settings                              []snapshotSetting
	Alarms                                []alarms.Alarm
	Journal                               []fact.Fact
	JournalMore                           string
	Commands                              []snapshotCommand
	Traffic                               []traffic.Entry
	Log                                   []logs.Line
}

type snapshotFact struct{ Name, Value string }

type snapshotMetric struct {
	Title, Last, Unit, Note, Says string
	Drawn                         bool
	Low, High, Mean               string
	Line, Band                    string
}

type snapshotSetting struct{ Name, Intended, Applied, Unit, From, State, Reason string }

type snapshotCommand struct {
	commands.Command
	Input, Output string
}

func (s *server) snapshotRoutes() {
	type asked struct {
		One
		From time.Time `query:"from" doc:"Start of what is told; a day before the end if left out"`
		To   time.Time `query:"to" doc:"End of it; now if left out"`
	}
	type file struct {
		ContentType        string `header:"Content-Type"`
		ContentDisposition string `header:"Content-Disposition"`
		Policy             string `header:"Content-Security-Policy"`
		Body               []byte
	}
	huma.Get(s.api, "/api/v1/devices/{id}/snapshot", func(ctx context.Context, in *asked) (*file, error) {
		from, to, err := s.between(ctx, &Span{One: in.One, From: in.From, To: in.To})
		if err != nil {
			return nil, s.failed(err)
		}
		if to.Sub(from) > snapshotSpan {
			return nil, s.failed(fault.New(fault.Invalid, "a snapshot is of 92 days at most, and this is of %s", value.Duration(to.Sub(from).Round(time.Hour))))
		}
		x, err := s.snapshot(ctx, in.ID, from, to)
		if err != nil {
			return nil, s.failed(err)
		}
		var b bytes.Buffer
		if err := snapshotPage.Execute(&b, x); err != nil {
			return nil, s.failed(err)
		}
		name := fmt.Sprintf("%s-%s.html", in.ID, to.UTC().Format("20060102-1504"))
		return &file{"text/html; charset=utf-8", `attachment; filename="` + name + `"`, "default-src 'none'; style-src 'unsafe-inline'; sandbox", b.Bytes()}, nil
	}, describe("snapshot", "Everything about a device over a span, in one HTML file", "Devices"), notFound)
}

// snapshot gathers what there is to tell of a device over a span, as the caller may see it.
func (s *server) snapshot(ctx context.Context, id string, from, to time.Time) (*snapshot, error) {
	c := caller(ctx)
	d, err := s.Fleet.Device(c, id)
	if err != nil {
		return nil, err
	}
	_, m, err := s.Fleet.Registered(c, id)
	if err != nil {
		return nil, err
	}
	out := &snapshot{ID: d.ID, Name: d.Name, Health: string(d.Health), Reasons: strings.Join(d.Reasons, "; "), Status: string(d.Status), By: c.Name,
		From: from, To: to, Now: s.Now(), Facts: factsOf(d)}
	if out.Metrics, err = s.metricsIn(ctx, d, m, from, to); err != nil {
		return nil, err
	}
	if err := s.settingsIn(ctx, out, m); err != nil {
		return nil, err
	}
	return out, s.happenedIn(ctx, c, out)
}

// factsOf is what is known of a device, whenever.
func factsOf(d *present.Device) []snapshotFact {
	out := []snapshotFact{{"Model", d.Model + " " + d.ModelVersion}, {"Status", string(d.Status)}, {"Link", string(d.Link)}}
	add := func(name, v string) {
		if v != "" {
			out = append(out, snapshotFact{name, v})
		}
	}
	if !d.LastAt.IsZero() {
		add("Newest reading", d.LastAt.UTC().Format(time.RFC3339))
	}
	add("Expected every", value.Duration(d.Interval).String())
	add("Behind", d.Hub)
	for _, k := range slices.Sorted(maps.Keys(d.Labels)) {
		add(k, d.Labels[k])
	}
	for _, k := range slices.Sorted(maps.Keys(d.Attributes)) {
		add(k+" (reported)", d.Attributes[k].String())
	}
	return out
}

func (s *server) metricsIn(ctx context.Context, d *present.Device, m *model.Model, from, to time.Time) ([]snapshotMetric, error) {
	var out []snapshotMetric
	c, prefer, step := caller(ctx), s.ownUnits(ctx).preferred(), series.NiceStep(to.Sub(from), snapshotSteps)
	all := m.With(model.Telemetry)
	for _, p := range all[:min(len(all), snapshotMetrics)] {
		x := snapshotMetric{Title: cmp.Or(p.Title, p.Name), Says: "Nothing in this span."}
		a, err := s.Fleet.Query(ctx, c, query.Query{Devices: []string{d.ID}, Metrics: []string{p.Name}, From: from, To: to, Step: step, Preferred: prefer})
		if err != nil {
			return nil, err
		}
		if len(a.Lines) > 0 {
			x.draw(&a.Lines[0], from, to, max(3*d.Interval, 5*a.Step/2))
		}
		out = append(out, x)
	}
	return out, nil
}

// draw fills in what a metric was over a span. Of texts and booleans the last one is told.
func (x *snapshotMetric) draw(l *query.Line, from, to time.Time, gap time.Duration) {
	x.Unit, x.Note = unit.Display(l.Unit), l.Note
	n := len(l.Steps)
	if n == 0 {
		return
	}
	last := l.Steps[n-1]
	if l.Kind != value.Number {
		x.Last, x.Says = last.Last.String(), "since "+last.At.UTC().Format("2006-01-02 15:04")+" or before"
		return
	}
	var steps []plot.Step
	sum, count := 0.0, int64(0)
	for _, st := range l.Steps {
		steps = append(steps, plot.Step{At: st.At, Min: st.Min, Max: st.Max, Mean: st.Value})
		sum, count = sum+st.Value*float64(st.Count), count+st.Count
	}
	say := func(v float64) string { return strconv.FormatFloat(v, 'f', max(l.Decimals, 0), 64) }
	low, high := steps[0].Min, steps[0].Max
	for _, st := range steps {
		low, high = min(low, st.Min), max(high, st.Max)
	}
	f := plot.Fit(steps, from, to, 600, 100)
	x.Drawn, x.Line, x.Band = true, f.Line(steps, gap), f.Band(steps, gap)
	x.Last, x.Low, x.High, x.Mean = say(last.Value), say(low), say(high), say(sum/float64(max(count, 1)))
	if last.Last.Kind == value.Number {
		x.Last = say(last.Last.Num)
	}
}

func (s *server) settingsIn(ctx context.Context, out *snapshot, m *model.Model) error {
	st, _, err := s.Fleet.Settings(caller(ctx), out.ID)
	if err != nil {
		return err
	}
	now := s.settingsNow(ctx, st, m)
	out.Revision, out.SettingsState = now.Revision, now.State
	for _, x := range now.Settings {
		from := map[string]string{"model": "default of the model", "override": "set on this device"}[x.Source]
		out.Settings = append(out.Settings, snapshotSetting{Name: x.Name, Intended: shownValue(x, x.Intended), Applied: shownValue(x, x.Applied), Unit: x.Display,
			From: cmp.Or(from, strings.TrimSpace(x.Source+" "+x.From)), State: x.State, Reason: x.Reason})
	}
	return nil
}

func shownValue(x client.Setting, v any) string {
	switch {
	case v == nil:
		return ""
	case x.Secret:
		return "(secret)"
	}
	return fmt.Sprint(v)
}

// happenedIn gathers what happened in the span of a snapshot.
func (s *server) happenedIn(ctx context.Context, c access.Caller, out *snapshot) error {
	within := func(at time.Time) bool { return !at.Before(out.From) && at.Before(out.To) }
	as, err := s.Fleet.Alarms(ctx, c, "", alarms.Filter{Device: out.ID, Limit: snapshotAlarms})
	if err != nil {
		return err
	}
	for _, a := range as { // those that were open at some time of it
		if a.RaisedAt.Before(out.To) && (a.State.Open() || !a.ReturnedAt.Before(out.From)) {
			out.Alarms = append(out.Alarms, a)
		}
	}
	if out.Journal, err = s.Fleet.Facts(ctx, c, "", fact.Filter{Device: out.ID, Since: out.From, Until: out.To, Limit: snapshotFacts}); err != nil {
		return err
	}
	if len(out.Journal) == snapshotFacts {
		out.JournalMore = fmt.Sprintf("The newest %d entries; there may be more.", snapshotFacts)
	}
	given, err := s.Fleet.Commands(ctx, c, "", commands.Filter{Device: out.ID, Limit: 100})
	if err != nil {
		return err
	}
	for _, x := range given {
		if within(x.At) {
			out.Commands = append(out.Commands, snapshotCommand{x, string(x.Input), string(x.Output)})
		}
	}
	search, cancel := context.WithTimeout(ctx, searchFor)
	defer cancel()
	if out.Traffic, _, err = s.Fleet.PastTraffic(search, c, "", traffic.Filter{Device: out.ID, From: out.From, To: out.To, Limit: snapshotTraffic}); err != nil {
		return err
	}
	out.Log, err = s.Fleet.FindLog(ctx, c, logs.Filter{Device: out.ID, Level: logline.Debug, From: out.From, To: out.To, Limit: snapshotLines})
	return err
}
