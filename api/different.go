package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/series"
	"ullage/core/unit"
	"ullage/fleet/fault"
	"ullage/fleet/scoped"
)

// SpanOf is a device and a span in words.
type SpanOf struct {
	One
	Metric string `query:"metric" maxLength:"400" doc:"Metric"`
	Span   string `query:"span" default:"24h" maxLength:"200" doc:"When: 6h until now, yesterday, 2026-03-01T10:00..12h"`
}

// times reads the span in the zone of the device's site.
func (s *server) times(in *SpanOf) (from, to time.Time, err error) {
	from, to, err = series.ParseSpan(in.Span, s.Now(), s.Fleet.ZoneOf(in.ID))
	if err != nil {
		err = fault.New(fault.Invalid, "%s", err).On("span")
	}
	return from, to, err
}

func (s *server) differentRoutes() {
	huma.Get(s.api, "/api/v1/devices/{id}/different", func(ctx context.Context, in *SpanOf) (*body[client.Different], error) {
		from, to, err := s.times(in)
		if err != nil {
			return nil, s.failed(err)
		}
		d, err := s.Fleet.Different(ctx, caller(ctx), in.ID, in.Metric, from, to, s.ownUnits(ctx).preferred())
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Different]{client.Different{From: d.From, To: d.To, Before: d.Before, Metric: d.Metric, Alike: d.Alike,
			Metrics: differingOf(d.Metrics), Peers: differingOf(d.Peers), Facts: entriesOf(d.Facts)}}, nil
	}, describe("different", "What was other on a device in a span than before it", "Readings"), notFound)
	type steps struct {
		SpanOf
		Steps int `query:"steps" default:"300" minimum:"1" maximum:"1000" doc:"How many steps to aim at"`
	}
	huma.Get(s.api, "/api/v1/devices/{id}/peers", func(ctx context.Context, in *steps) (*body[client.PeerBand], error) {
		from, to, err := s.times(&in.SpanOf)
		if err != nil {
			return nil, s.failed(err)
		}
		peers, band, err := s.Fleet.PeerBand(ctx, caller(ctx), in.ID, in.Metric, from, to, in.Steps, s.ownUnits(ctx).preferred())
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.PeerBand{Peers: peers, Steps: []client.PeerBandStep{}}
		for _, x := range band {
			out.Steps = append(out.Steps, client.PeerBandStep{At: x.At, Low: x.Low, Middle: x.Middle, High: x.High, Peers: x.Peers})
		}
		return &body[client.PeerBand]{out}, nil
	}, describe("peers", "Where the peers of a device lay in a metric", "Readings"), notFound)
}

func differingOf(all []scoped.Differing) []client.Differing {
	out := []client.Differing{}
	for _, x := range all {
		out = append(out, client.Differing{Device: x.Device, Metric: x.Metric, Title: x.Title, Unit: unit.Display(x.Unit), Decimals: x.Decimals,
			Was: x.Was, Is: x.Is, Spread: x.Spread, Deviation: x.Deviation})
	}
	return out
}
