package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/value"
	"ullage/fleet/fault"
)

func (s *server) activityRoutes() {
	type asked struct {
		Where
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
			out = append(out, client.Activity{Device: a.Device, Model: a.Model, Version: a.Version, Firmware: a.Firmware, Site: a.Site, From: a.From,
				Online: 100 * a.Online, Spells: a.Spells, Longest: a.Longest.Seconds(), Total: a.Total.Seconds(), Link: string(a.Link),
				LastAt: optional(a.LastAt), Refused: a.Refused, Versions: a.Versions})
		}
		return &body[[]client.Activity]{out}, nil
	}, describe("activity", "How devices were in contact over a span", "Devices"))
}
