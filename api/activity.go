package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/unit"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/query"
)

// knownAfter is for how long messages are counted before it is said what they would be in a
// month.
const knownAfter = 6 * time.Hour

func (s *server) activityRoutes() {
	type asked struct {
		Where
		Off  int    `query:"off" minimum:"0" maximum:"200" doc:"Tell so many of the times off line of each device, the newest; with a condition or a short span, as the answer grows by them"`
		Span string `query:"span" default:"30d" maxLength:"20" doc:"How far it goes back, such as 24h or 30d"`
	}
	huma.Get(s.api, "/api/v1/activity", func(ctx context.Context, in *asked) (*body[[]client.Activity], error) {
		span, err := value.ParseDuration(in.Span)
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "the span: %s", err))
		}
		all, err := s.Fleet.Activity(ctx, caller(ctx), in.Where.Where, span.Std())
		if err != nil {
			return nil, s.failed(err)
		}
		out := []client.Activity{}
		for _, a := range all {
			row := client.Activity{Device: a.Device, Model: a.Model, Version: a.Version, Firmware: a.Firmware, Site: a.Site, From: a.From,
				Online: 100 * a.Online, Spells: a.Spells, Longest: a.Longest.Seconds(), Total: a.Total.Seconds(), Link: string(a.Link),
				FirstAt: optional(a.FirstAt), LastAt: optional(a.LastAt), Messages: a.Up + a.Down, Bytes: a.UpBytes + a.DownBytes, Refused: a.Refused, Late: a.Late,
				Connects: a.Connects, Versions: a.Versions}
			if !a.Counted.IsZero() {
				row.Counted = optional(a.Counted)
				if long := s.Now().Sub(a.Counted); long >= knownAfter {
					row.Monthly = float64(row.Bytes) * float64(30*24*time.Hour) / float64(long)
				}
			}
			for _, x := range a.Off[max(0, len(a.Off)-in.Off):] {
				row.Off = append(row.Off, client.OffLine{From: x.From, To: optional(x.End)})
			}
			out = append(out, row)
		}
		return &body[[]client.Activity]{out}, nil
	}, describe("activity", "How devices were in contact over a span", "Devices"))
	type upkeep struct {
		Where
		Days int `query:"days" minimum:"0" maximum:"400" doc:"Tell so many of the newest days of each device, of the first 300 devices"`
	}
	huma.Get(s.api, "/api/v1/upkeep", func(ctx context.Context, in *upkeep) (*body[[]client.Upkeep], error) {
		all, err := s.Fleet.Upkeep(ctx, caller(ctx), in.Where.Where)
		if err != nil {
			return nil, s.failed(err)
		}
		out := []client.Upkeep{}
		for i, u := range all {
			days := in.Days
			if i >= 300 {
				days = 0
			}
			out = append(out, client.Upkeep{Device: u.Device, Site: u.Site, Model: u.Model, Battery: reserve(u.Battery, days), Signal: reserve(u.Signal, days)})
		}
		return &body[[]client.Upkeep]{out}, nil
	}, describe("upkeep", "What batteries have left and until when, and how well devices are heard", "Devices"))
	type course struct {
		Where
		Of   string `query:"of" enum:"firmware,model" default:"firmware" doc:"What is counted: what devices report as their firmware, or their model with its version"`
		Span string `query:"span" default:"90d" maxLength:"20" doc:"How far it goes back, such as 30d or 365d"`
	}
	huma.Get(s.api, "/api/v1/course", func(ctx context.Context, in *course) (*body[client.Course], error) {
		span, err := value.ParseDuration(in.Span)
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "the span: %s", err))
		}
		c, err := s.Fleet.Course(ctx, caller(ctx), in.Where.Where, in.Of, span.Std())
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.Course{At: c.At, Parts: []client.CoursePart{}}
		for _, p := range c.Parts {
			out.Parts = append(out.Parts, client.CoursePart{Name: p.Name, Counts: p.Counts, First: p.First})
		}
		return &body[client.Course]{out}, nil
	}, describe("course", "How many devices had which version over a span", "Devices"))
}

// reserve shows a battery or a signal, with so many of its days.
func reserve(r *query.Reserve, days int) *client.Reserve {
	if r == nil {
		return nil
	}
	const day = 24 * time.Hour
	newest := r.Days[len(r.Days)-1]
	out := &client.Reserve{Metric: r.Metric, Unit: r.Unit, Display: unit.Display(r.Unit), Decimals: r.Decimals, Value: newest.Mean, Low: newest.Low,
		From: r.Days[0].At, PerMonth: r.PerMonth, Rule: r.Rule, Likely: optional(r.Empty.Likely), Early: optional(r.Empty.Early),
		Late: optional(r.Empty.Late), Replaced: optional(r.Replaced), Note: r.Note}
	if r.Rule != "" {
		out.Limit = &r.Limit
	}
	first := newest.At.Add(-day * time.Duration(days-1))
	if first.Before(r.Days[0].At) {
		first = r.Days[0].At
	}
	if days > 0 {
		out.Days = make([]*float64, newest.At.Sub(first)/day+1)
	}
	for i := range r.Days {
		d := &r.Days[i]
		if newest.At.Sub(d.At) < 7*day {
			out.Low = min(out.Low, d.Low)
		}
		if days > 0 && !d.At.Before(first) {
			out.Days[d.At.Sub(first)/day] = &d.Mean
		}
	}
	return out
}
