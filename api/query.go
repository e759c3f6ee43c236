package api

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"ullage/client"
	"ullage/core/exchange"
	"ullage/core/series"
	"ullage/core/unit"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/query"
)

// Asked is a query as the parameters of a URL.
type Asked struct {
	Where
	Device    []string `query:"device" doc:"Ids of devices; those of the condition where not given"`
	Metric    []string `query:"metric" required:"true" doc:"Metrics to read" example:"must_temp"`
	Span      string   `query:"span" default:"24h" doc:"When: 6h or 7d until now, today, yesterday, this week, last month, 2026-03-01, 2026-03-01..2026-03-03, 2026-03-01T10:00..12h" example:"yesterday"`
	Zone      string   `query:"zone" doc:"Time zone of local days; that of the service where not given" example:"Pacific/Chatham"`
	Step      string   `query:"step" doc:"Width of a step, like 15min; 1d is a local day; a round one that gives about so many steps as wished where not given"`
	Steps     int      `query:"steps" default:"300" minimum:"1" maximum:"5000" doc:"How many steps to aim at"`
	Aggregate string   `query:"aggregate" default:"mean" enum:"mean,weighted_mean,min,max,sum,count,first,last" doc:"What the value of a step is; weighted_mean is the mean weighted by time"`
	GroupBy   string   `query:"group_by" doc:"Devices that share this label become one line" example:"site"`
	Then      string   `query:"then" default:"mean" enum:"mean,min,max,sum,count" doc:"How the devices of a group are then aggregated"`
	Unit      []string `query:"unit" doc:"Wanted units, as metric=unit" example:"must_temp=degF"`
}

func (a *Asked) query(own *ownUnits) (query.Query, error) {
	q := query.Query{Devices: a.Device, Where: a.Where.Where, Metrics: a.Metric, Span: a.Span, Steps: a.Steps,
		Aggregate: a.Aggregate, GroupBy: a.GroupBy, Then: a.Then, Units: map[string]string{}, Preferred: own.preferred()}
	if a.Zone != "" {
		zone, err := time.LoadLocation(a.Zone)
		if err != nil {
			return q, fault.New(fault.Invalid, "%q is no time zone that is known", a.Zone).
				Then("write a name of the IANA database, such as UTC or Pacific/Chatham")
		}
		q.Zone = zone
	}
	if a.Step != "" {
		d, err := value.ParseDuration(a.Step)
		if err != nil {
			return q, fault.New(fault.Invalid, "step: %s", err)
		}
		q.Step = d.Std()
	}
	for _, u := range a.Unit {
		metric, symbol, ok := strings.Cut(u, "=")
		if !ok {
			return q, fault.New(fault.Invalid, "%q is no wanted unit", u).Then("write it like must_temp=degF")
		}
		q.Units[metric] = symbol
	}
	return q, nil
}

func (s *server) queryRoutes() {
	huma.Get(s.api, "/api/v1/query", func(ctx context.Context, in *Asked) (*huma.StreamResponse, error) {
		q, err := in.query(s.ownUnits(ctx))
		if err != nil {
			return nil, s.failed(err)
		}
		p, err := s.Fleet.Plan(caller(ctx), q)
		if err != nil {
			return nil, s.failed(err)
		}
		return &huma.StreamResponse{Body: func(c huma.Context) { s.answer(c, p) }}, nil
	}, describe("query", "Metrics over time, of one device or of many, line by line as they are read", "Readings"),
		notFound)
	api := s.api.OpenAPI()
	api.Paths["/api/v1/query"].Get.Responses["200"].Content = map[string]*huma.MediaType{
		"application/json": {Schema: api.Components.Schemas.Schema(reflect.TypeFor[client.Answer](), true, "Answer")}}
	type export struct {
		Asked
		Raw    bool   `query:"raw" doc:"Texts in CSV as they are, also those that a spreadsheet would take for a formula; else those have a quote before them, which an import takes off"`
		Format string `query:"format" default:"csv" enum:"csv,wide,jsonl,senml,cbor,parquet" doc:"CSV (RFC 4180), a row a reading or a row a time; JSON Lines; SenML in JSON or CBOR (RFC 8428); Apache Parquet"`
	}
	huma.Get(s.api, "/api/v1/export", func(ctx context.Context, in *export) (*huma.StreamResponse, error) {
		q, err := in.query(s.ownUnits(ctx))
		var columns []string
		if err == nil {
			var p *query.Plan
			if p, err = s.Fleet.Plan(caller(ctx), q); err == nil { // what is wrong is said before anything is sent
				columns, err = p.Columns()
			}
		}
		if err != nil {
			return nil, s.failed(err)
		}
		return &huma.StreamResponse{Body: func(c huma.Context) {
			s.export(c, q, exchange.Format(in.Format), in.Raw, columns)
		}}, nil
	}, describe("export", "Every single reading of a query, as a stream in an open format", "Readings"), notFound)
}

func (s *server) figureRoutes() {
	huma.Get(s.api, "/api/v1/statistics", func(ctx context.Context, in *Asked) (*body[client.Statistics], error) {
		q, err := in.query(s.ownUnits(ctx))
		if err != nil {
			return nil, s.failed(err)
		}
		f, err := s.Fleet.Statistics(ctx, caller(ctx), q)
		if err != nil {
			return nil, s.failed(err)
		}
		x := f.Summary
		out := client.Statistics{Note: f.Line.Note, Device: f.Line.Device, Metric: f.Line.Metric,
			Display: unit.Display(f.Line.Unit), Decimals: f.Line.Decimals, From: f.From.UTC(), To: f.To.UTC(),
			N: x.N, Min: x.Min, P5: x.P5, P25: x.P25, P50: x.P50, P75: x.P75, P95: x.P95, Max: x.Max, Mean: x.Mean, Deviation: x.Deviation, Bins: []client.Bin{}}
		if f.TrendKnown {
			out.Trend = &client.Trend{Slope: f.Trend.Slope, Low: f.Trend.Low, High: f.Trend.High}
		}
		for i, n := range f.Histogram.Counts {
			from := f.Histogram.Low + float64(i)*f.Histogram.Width
			out.Bins = append(out.Bins, client.Bin{From: from, To: from + f.Histogram.Width, Count: n})
		}
		return &body[client.Statistics]{out}, nil
	}, describe("statistics", "Quantiles, histogram and trend of one metric of one device", "Readings"), notFound)
	type ahead struct {
		Asked
		Ahead string `query:"ahead" default:"12h" doc:"How far, from 5min to 14d"`
	}
	huma.Get(s.api, "/api/v1/forecast", func(ctx context.Context, in *ahead) (*body[client.Forecast], error) {
		q, err := in.query(s.ownUnits(ctx))
		if err != nil {
			return nil, s.failed(err)
		}
		d, err := value.ParseDuration(in.Ahead)
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "ahead: %s", err))
		}
		o, err := s.Fleet.Forecast(ctx, caller(ctx), q, d.Std())
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.Forecast{Device: o.Line.Device, Metric: o.Line.Metric, Display: unit.Display(o.Line.Unit),
			Decimals: o.Line.Decimals, Step: value.Duration(o.Step).
					String(), Seasonal: o.Seasonal, Method: string(o.Method), Error: o.Error, Naive: o.Naive, NaiveSeasonal: o.NaiveSeasonal, Moments: o.Moments, Note: o.Note, Steps: make([]client.Probable,
				len(o.Steps)), Limits: make([]client.LimitAhead, len(o.Limits))}
		for i, r := range o.Limits {
			out.Limits[i] = client.LimitAhead{Rule: r.Rule, Limit: r.Limit, Upward: r.Upward, Beyond: r.Beyond,
				Likely: optional(r.Likely), Early: optional(r.Early), Late: optional(r.Late)}
		}
		for i, p := range o.Steps {
			out.Steps[i] = client.Probable{At: p.At.UTC(), Mean: p.Mean, Low: p.Low, High: p.High}
		}
		return &body[client.Forecast]{out}, nil
	}, describe("forecast", "What probably comes of one metric of one device, with a band of 95 %", "Readings"),
		notFound)
}

// FileBody is a request body of any length, read as it comes.
type FileBody struct{ r io.Reader }

// Resolve implements huma.Resolver.
func (f *FileBody) Resolve(ctx huma.Context) []error {
	f.r = ctx.BodyReader()
	return nil
}

func (s *server) importRoutes() {
	type file struct {
		FileBody
		Format   string `query:"format" default:"csv" enum:"csv,wide,jsonl,senml,cbor,parquet" doc:"As of an export"`
		Evaluate bool   `query:"evaluate" doc:"Let the alarms judge the readings, into the journal where they are over"`
	}
	huma.Post(s.api, "/api/v1/import", func(ctx context.Context, in *file) (*body[client.Imported], error) {
		r, err := exchange.NewReader(in.r, exchange.Format(in.Format), s.Now())
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "the file cannot be read: %s", err))
		}
		res, err := s.Fleet.Import(ctx, caller(ctx), r, in.Evaluate)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		out := client.Imported{Rows: res.Rows, Kept: res.Kept, Refused: res.Refused, Devices: res.Devices,
			Findings: make([]client.ImportFinding, len(res.Findings))}
		for i, f := range res.Findings {
			out.Findings[i] = client.ImportFinding{Line: f.Line, Sentence: f.Sentence}
		}
		return &body[client.Imported]{out}, nil
	}, describe("import", "Take readings of the past in, with the checks of live ones", "Readings"))
	s.api.OpenAPI().Paths["/api/v1/import"].Post.RequestBody = &huma.RequestBody{Required: true,
		Description: "The file", Content: map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: "string"}}}}
}

// problemTrailer tells that a stream broke off, after what was sent.
const problemTrailer = "Ullage-Problem"

// answer writes an answer whose lines go out as they are read, so that a long
// one neither gathers here nor is worked on after nobody listens.
func (s *server) answer(c huma.Context, p *query.Plan) {
	var w io.Writer
	begin := func() error {
		if w != nil {
			_, err := io.WriteString(w, ",")
			return err
		}
		c.SetHeader("Content-Type", "application/json")
		head, err := json.Marshal(client.Answer{From: p.From.UTC(), To: p.To.UTC(),
			Step: value.Duration(p.Step).String(), Lines: []client.Line{}})
		if err == nil {
			w = c.BodyWriter()
			_, err = w.Write(bytes.TrimSuffix(head, []byte("]}")))
		}
		return err
	}
	err := s.Fleet.Each(c.Context(), p, func(l query.Line) error {
		b, err := json.Marshal(lineOf(&l))
		if err == nil {
			err = begin()
		}
		if err == nil {
			_, err = w.Write(b)
		}
		return err
	})
	if err == nil && w == nil { // no line at all
		err = begin()
	}
	switch {
	case err == nil:
		io.WriteString(w, "]}\n")
	case c.Context().Err() != nil: // nobody listens any more
	case w == nil:
		s.refuse(humagin.Unwrap(c), fault.From(err))
	default:
		s.brokeOff(c, err)
	}
}

func lineOf(l *query.Line) client.Line {
	x := client.Line{Device: l.Device, Group: l.Group, Members: l.Members, Metric: l.Metric, Title: l.Title,
		Type: l.Kind.String(), Unit: l.Unit, Display: unit.Display(l.Unit), Decimals: l.Decimals, Note: l.Note, Steps: make([]client.LineStep,
			len(l.Steps))}
	for k, p := range l.Steps {
		x.Steps[k] = client.LineStep{At: p.At, Count: p.Count, Value: p.Value, Min: p.Min, Max: p.Max,
			Last: p.Last.Any()}
	}
	return x
}

// brokeOff tells in a trailer that a stream ends before its end.
func (s *server) brokeOff(c huma.Context, err error) {
	s.Log.Error("an answer broke off", "error", err)
	c.SetHeader(http.TrailerPrefix+problemTrailer, fault.From(err).Error())
}

func (s *server) export(c huma.Context, q query.Query, f exchange.Format, raw bool, columns []string) {
	c.SetHeader("Content-Type", f.MediaType())
	c.SetHeader("Content-Disposition", fmt.Sprintf(`attachment; filename="readings.%s"`,
		map[exchange.Format]string{exchange.CSV: "csv", exchange.Wide: "csv", exchange.CBOR: "senml.cbor",
			exchange.Lines: "jsonl", exchange.SenML: "senml.json", exchange.Parquet: "parquet"}[f]))
	w, err := exchange.NewWriter(c.BodyWriter(), f, columns...)
	if err == nil && raw {
		w = exchange.Raw(w)
	}
	if err == nil {
		err = s.Fleet.Export(c.Context(), caller(c.Context()), q, func(device, metric, symbol string, x series.Point) error {
			return w.Write(device, metric, symbol, x)
		})
	}
	if err == nil || errors.Is(err, series.ErrDamaged) { // then all the rest is there
		err = cmp.Or(w.Close(), err)
	}
	if err != nil && c.Context().Err() == nil {
		s.brokeOff(c, err)
	}
}
