package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/lifecycle"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/fault"
)

// performanceRoutes tell how well the alarms themselves work, and what the next shift has
// to know.
func (s *server) performanceRoutes() {
	type asked struct {
		Span      string `query:"span" default:"7d" maxLength:"80" doc:"Over which time" example:"7d"`
		Operators int    `query:"operators" default:"1" minimum:"1" maximum:"1000" doc:"How many operators share the alarms"`
	}
	huma.Get(s.api, "/api/v1/alarm-performance", func(ctx context.Context, in *asked) (*body[client.AlarmPerformance], error) {
		from, to, err := series.ParseSpan(in.Span, s.Now(), time.UTC)
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "span: %s", err))
		}
		if now := s.Now(); to.After(now) {
			to = now
		}
		p, err := s.Fleet.Performance(ctx, caller(ctx), from, to, in.Operators)
		if err != nil {
			return nil, s.failed(err)
		}
		out := performanceOf(p)
		h, err := s.Fleet.Handover(ctx, caller(ctx), s.Now(), 0)
		if err != nil {
			return nil, s.failed(err)
		}
		out.Shelved = len(h.Shelves)
		for _, a := range h.Aside {
			switch a.Shown() {
			case lifecycle.Suppressed:
				out.Suppressed++
			case lifecycle.OutOfService:
				out.OutOfService++
			}
		}
		return &body[client.AlarmPerformance]{out}, nil
	}, describe("alarm-performance", "How well the alarms themselves work", "Alarms"))
	type shift struct {
		Hours string `query:"for" default:"8h" maxLength:"40" doc:"How long the shift was" example:"8h"`
	}
	huma.Get(s.api, "/api/v1/handover", func(ctx context.Context, in *shift) (*body[client.Handover], error) {
		d, err := value.ParseDuration(in.Hours)
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "for: %s", err))
		}
		now := s.Now()
		h, err := s.Fleet.Handover(ctx, caller(ctx), now.Add(-d.Std()), 24*time.Hour)
		if err != nil {
			return nil, s.failed(err)
		}
		own := s.ownUnits(ctx)
		out := client.Handover{From: now.Add(-d.Std()), To: now, Raised: h.Raised, Returned: h.Returned, Open: []client.Alarm{}, Aside: []client.Alarm{},
			Comments: []client.HandoverComment{}, Coming: []client.HandoverMaintenance{}}
		for _, a := range h.Open {
			out.Open = append(out.Open, s.alarmOf(ctx, a, own))
		}
		for _, a := range h.Aside {
			out.Aside = append(out.Aside, s.alarmOf(ctx, a, own))
		}
		for _, x := range h.Comments {
			out.Comments = append(out.Comments, client.HandoverComment{At: x.At, Person: x.Person, On: x.Device + x.Group, Alarm: x.Alarm, Text: x.Sentence()})
		}
		for _, m := range h.Coming {
			out.Coming = append(out.Coming, client.HandoverMaintenance{Maintenance: m.Name, Why: m.Why, Begins: optional(m.Begins), To: optional(m.To), Devices: m.Devices})
		}
		return &body[client.Handover]{out}, nil
	}, describe("handover", "What the next shift has to know", "Alarms"))
}

func performanceOf(p lifecycle.Performance) client.AlarmPerformance {
	out := client.AlarmPerformance{From: p.From, To: p.To, Operators: p.Operators, Alarms: p.Alarms, ADay: p.ADay, AnHour: p.AnHour, Peak: p.Peak, PeakAt: optional(p.PeakAt),
		Floods: p.Floods, InFlood: p.InFlood.Seconds(), FloodShare: p.FloodShare, Chattering: p.Chattering, Fleeting: p.Fleeting, Stale: p.Stale, Acknowledged: p.Acknowledged,
		TimeToAck: p.TimeToAck.Seconds(), TimeToAck95: p.TimeToAck95.Seconds(), TopTen: p.TopTen, Days: p.Days, Rules: []client.WorstOf{}, Devices: []client.WorstOf{},
		Priorities: map[string]int{}, Targets: client.AlarmTargets{ADay: lifecycle.TargetADay, MostADay: lifecycle.MostADay, Peak: lifecycle.TargetInTen, FloodShare: lifecycle.TargetFlood,
			TopTen: lifecycle.TargetTopTen, Stale: lifecycle.TargetStale, Priorities: map[string]float64{}}}
	for i, name := range []string{"urgent", "high", "medium", "low"} {
		out.Priorities[name] = p.Priorities[i]
		out.Targets.Priorities[name] = lifecycle.TargetPriorities[i]
	}
	for _, w := range p.Rules {
		out.Rules = append(out.Rules, client.WorstOf(w))
	}
	for _, w := range p.Devices {
		out.Devices = append(out.Devices, client.WorstOf(w))
	}
	return out
}
