package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/value"
	"ullage/fleet/fault"
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
				LastAt: optional(a.LastAt), Messages: a.Up + a.Down, Bytes: a.UpBytes + a.DownBytes, Refused: a.Refused, Late: a.Late,
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
}
