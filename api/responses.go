package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/fleet/responses"
)

// responseRoutes tell what rules do by themselves, and stop it.
func (s *server) responseRoutes() {
	huma.Get(s.api, "/api/v1/responses", func(ctx context.Context, _ *struct{}) (*body[client.ResponseEntries], error) {
		return &body[client.ResponseEntries]{responsesOf(s.Fleet.Responses(caller(ctx)))}, nil
	}, describe("responses", "What rules keep on devices now, and whether they act", "Alarms"))
	huma.Post(s.api, "/api/v1/responses/release", func(ctx context.Context, in *struct{ Body client.ResponseRelease }) (*body[client.ResponseEntry], error) {
		e, err := s.Fleet.ReleaseResponse(ctx, caller(ctx), in.Body.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.ResponseEntry]{responseOf(e)}, nil
	}, describe("release-response", "Take what a response keeps off its devices", "Alarms"), notFound)
	huma.Put(s.api, "/api/v1/responses/switch", func(ctx context.Context, in *struct{ Body client.ResponsesTurn }) (*body[client.ResponseEntries], error) {
		if _, err := s.Fleet.TurnResponses(ctx, caller(ctx), in.Body.Stopped, in.Body.Release, in.Body.Why); err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.ResponseEntries]{responsesOf(s.Fleet.Responses(caller(ctx)))}, nil
	}, describe("switch-responses", "Stop all responses, or let them act again", "Alarms"))
}

func responsesOf(all []responses.Entry, s responses.Switch) client.ResponseEntries {
	out := client.ResponseEntries{Stopped: s.Off, Responses: []client.ResponseEntry{}}
	if s.Off {
		out.StoppedBy, out.StoppedAt, out.Why = s.By, optional(s.At), s.Why
	}
	for _, e := range all {
		out.Responses = append(out.Responses, responseOf(e))
	}
	return out
}

func responseOf(e responses.Entry) client.ResponseEntry {
	out := client.ResponseEntry{ID: e.ID, Rule: e.Rule, Subject: e.Subject, Alarm: e.Alarm, Set: e.Set, Devices: e.Devices, Since: e.Since,
		State: "holds", Left: e.Left, ReleasedBy: e.ReleasedBy, ReleasedAt: optional(e.Released)}
	switch {
	case !e.Gives():
		out.State = "released"
	case e.Left != "":
		out.State = "left"
	}
	return out
}
