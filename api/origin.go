package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/unit"
)

func (s *server) originRoutes() {
	type asked struct {
		OneValue
		At time.Time `query:"at" doc:"The newest reading at or before that; of now if left out"`
	}
	huma.Get(s.api, "/api/v1/devices/{id}/values/{name}/origin", func(ctx context.Context, in *asked) (*body[client.Origin], error) {
		o, err := s.Fleet.Origin(ctx, caller(ctx), in.ID, in.Name, in.At)
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.Origin{Device: in.ID, Metric: o.Metric, At: o.At, Value: o.Value.Shown(), Unit: unit.Display(o.Property.Unit), Quality: o.Quality.Words(),
			Message: o.Message, Gone: o.Gone, Derived: o.Property.Derived}
		if o.Message != nil {
			out.Arrived = optional(o.Message.At)
		}
		for _, x := range o.Inputs {
			out.Inputs = append(out.Inputs, client.OriginInput{Metric: x.Metric, At: x.At, Value: x.Value.Shown()})
		}
		for _, x := range o.Limits {
			out.Limits = append(out.Limits, client.OriginLimit{Rule: x.Rule, Of: x.Of, Limit: x.Limit, Upward: x.Upward})
		}
		return &body[client.Origin]{out}, nil
	}, describe("origin", "Where a reading is from: its message, or what it was derived from", "Readings"), notFound)
}
