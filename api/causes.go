package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
)

func (s *server) causeRoutes() {
	huma.Get(s.api, "/api/v1/causes", func(ctx context.Context, _ *struct{}) (*body[[]client.Cause], error) {
		out := []client.Cause{}
		for _, x := range s.Fleet.Causes(caller(ctx)) {
			out = append(out, client.Cause{ID: x.ID, Kind: string(x.Kind), Priority: string(x.Priority), Title: x.Title, Why: x.Why, Do: x.Do, Since: x.Since.UTC(),
				Devices: append([]string{}, x.Devices...), Alarm: x.Alarm, Rule: x.Rule, Setting: x.Setting, Site: x.Site, Acknowledged: x.Acknowledged, By: x.By})
		}
		return &body[[]client.Cause]{out}, nil
	}, describe("causes", "What needs somebody now, and why, the most pressing first", "Alarms"))
}
