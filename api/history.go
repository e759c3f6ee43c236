package api

import (
	"context"
	"errors"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/query"
)

// Span says which part of a history is asked for.
type Span struct {
	One
	Metric string    `query:"metric" required:"true" doc:"Metric to read" example:"must_temp"`
	From   time.Time `query:"from" doc:"Start; a day before the end if left out"`
	To     time.Time `query:"to" doc:"End, not included; now if left out"`
}

// between fills in what was left out.
func (s *server) between(ctx context.Context, in *Span) (from, to time.Time, err error) {
	if err := s.Fleet.Exists(caller(ctx), in.ID); err != nil {
		return from, to, err
	}
	from, to = in.From, in.To
	if to.IsZero() {
		to = s.Now().Add(time.Millisecond)
	}
	if from.IsZero() {
		from = to.Add(-24 * time.Hour)
	}
	if !from.Before(to) {
		return from, to, fault.New(fault.Invalid, "the span ends at %s, before it starts at %s",
			to.Format(time.RFC3339), from.Format(time.RFC3339))
	}
	return from, to, nil
}

var errEnough = errors.New("enough")

func (s *server) historyRoutes() {
	type steps struct {
		Span
		Step  string `query:"step" doc:"Width of a step, like 10min; a round one that gives about the wished points if left out"`
		Steps int    `query:"steps" default:"300" minimum:"1" maximum:"5000" doc:"How many steps to aim at"`
	}
	huma.Get(s.api, "/api/v1/devices/{id}/history", func(ctx context.Context, in *steps) (*body[client.History], error) {
		from, to, err := s.between(ctx, &in.Span)
		if err != nil {
			return nil, s.failed(err)
		}
		step := series.NiceStep(to.Sub(from), in.Steps)
		if in.Step != "" {
			d, err := value.ParseDuration(in.Step)
			if err != nil {
				return nil, s.failed(fault.New(fault.Invalid, "step: %s", err))
			}
			step = d.Std()
		}
		a, err := s.Fleet.Query(ctx, caller(ctx), query.Query{Devices: []string{in.ID}, Metrics: []string{in.Metric}, From: from,
			To: to, Step: step, Preferred: s.ownUnits(ctx).preferred()})
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.History{Device: in.ID, Metric: in.Metric, From: from.UTC(), To: to.UTC(),
			Step: value.Duration(step).String(), Steps: []client.HistoryStep{}}
		for _, x := range a.Lines[0].Steps {
			out.Steps = append(out.Steps, client.HistoryStep{At: x.At, Count: int(x.Count), Min: x.Min, Max: x.Max,
				Mean: x.Value, Last: x.Last.Any()})
		}
		return &body[client.History]{out}, nil
	}, describe("history", "A metric over time, in steps with least, greatest and mean", "Readings"), notFound)
	type singles struct {
		Span
		Limit int `query:"limit" default:"1000" minimum:"1" maximum:"50000" doc:"At most this many"`
	}
	huma.Get(s.api, "/api/v1/devices/{id}/readings", func(ctx context.Context, in *singles) (*body[client.Readings], error) {
		from, to, err := s.between(ctx, &in.Span)
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.Readings{Device: in.ID, Metric: in.Metric, Readings: []client.Point{}}
		own, converts := change{}, false
		if _, m, err := s.Fleet.Registered(caller(ctx), in.ID); err == nil {
			if p, ok := m.Property(in.Metric); ok {
				own, converts = s.ownUnits(ctx).of(p.Unit)
			}
		}
		err = s.Fleet.Readings(ctx, caller(ctx), in.ID, in.Metric, from, to, func(p series.Point) error {
			if len(out.Readings) == in.Limit {
				out.More = true
				return errEnough
			}
			x := client.Point{At: p.At, Value: p.Value.Any(), Quality: p.Quality.Words()}
			if converts {
				x.Value = own.value(x.Value)
			}
			out.Readings = append(out.Readings, x)
			return nil
		})
		lost, err := series.Whole(err)
		if err != nil && !errors.Is(err, errEnough) {
			return nil, s.failed(err)
		}
		if lost != nil {
			out.Note = lost.Error()
		}
		return &body[client.Readings]{out}, nil
	}, describe("readings", "Single readings of a metric, in order of time", "Readings"), notFound)
}
