package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/rollouts"
)

// RolloutNamed is the path of a rollout.
type RolloutNamed struct {
	ID string `path:"id" doc:"Its id" maxLength:"60"`
}

// mostMoved is how many entries of the journal are told with a rollout.
const mostMoved = 200

// mostRolled is how many devices of a rollout an answer holds.
const mostRolled = 10_000

func (s *server) rolloutRoutes() {
	type start struct{ Body client.RolloutStart }
	huma.Post(s.api, "/api/v1/rollout-previews", func(ctx context.Context, in *start) (*body[client.RolloutPlanned], error) {
		p, err := s.Fleet.PlanRollout(caller(ctx), in.Body.Layer, in.Body.Plan)
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.RolloutPlanned{Preview: s.previewOf(p.Preview), Soak: p.Soak.Seconds(), Takes: p.Takes.Seconds(), Offline: p.Offline,
			Waves: [][]string{}, Sizes: []int{}}
		if p.Known {
			out.Likely = p.Likely.Seconds()
		}
		for _, w := range p.Waves {
			out.Waves, out.Sizes = append(out.Waves, w[:min(len(w), manyShown)]), append(out.Sizes, len(w))
		}
		return &body[client.RolloutPlanned]{out}, nil
	}, describe("preview-rollout", "Who would be in which wave of a rollout, and how long it takes", "Rollouts"))
	type began struct {
		Status int
		Body   client.Rollout
	}
	huma.Post(s.api, "/api/v1/rollouts", func(ctx context.Context, in *start) (*began, error) {
		x, err := s.Fleet.StartRollout(ctx, caller(ctx), in.Body.Layer, in.Body.Plan, in.Body.Tag)
		if err != nil {
			return nil, s.failed(err)
		}
		return &began{http.StatusCreated, s.rolloutOf(ctx, x)}, nil
	}, describe("start-rollout", "Bring a version of a layer to its devices in waves", "Rollouts"), conditional, func(o *huma.Operation) {
		o.DefaultStatus = http.StatusCreated
	})
	huma.Get(s.api, "/api/v1/rollouts", func(ctx context.Context, _ *struct{}) (*body[[]client.Rollout], error) {
		out := []client.Rollout{}
		for _, x := range s.Fleet.Rollouts(caller(ctx)) {
			out = append(out, s.rolloutOf(ctx, x))
		}
		return &body[[]client.Rollout]{out}, nil
	}, describe("rollouts", "The rollouts, the newest first", "Rollouts"))
	huma.Get(s.api, "/api/v1/rollouts/{id}", func(ctx context.Context, in *RolloutNamed) (*body[client.Rollout], error) {
		x, err := s.Fleet.Rollout(caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		out := shownRollout(x)
		if x.Waves != nil { // whoever sees a part is told of that alone
			out.Plan, out.From, out.To = &x.Plan, x.From, &x.To
			fs, err := s.Fleet.Facts(ctx, caller(ctx), "", fact.Filter{Rollout: in.ID, Limit: mostMoved})
			if err != nil {
				return nil, s.failed(err)
			}
			out.Journal = entriesOf(fs)
		}
		for _, c := range x.Conditions {
			out.Gate = append(out.Gate, client.RolloutGate{Source: c.Source, Truth: c.Truth.String(), Says: c.Says})
		}
		for _, d := range x.Devices[:min(len(x.Devices), mostRolled)] {
			out.Devices = append(out.Devices, client.RolloutDevice{ID: d.ID, Wave: d.Wave + 1, State: d.State, Reason: d.Reason, Offered: optional(d.Offered)})
		}
		return &body[client.Rollout]{out}, nil
	}, describe("rollout", "One rollout, with its gate and its devices", "Rollouts"), notFound)
	type act struct {
		RolloutNamed
		Body client.RolloutAct
	}
	huma.Post(s.api, "/api/v1/rollouts/{id}", func(ctx context.Context, in *act) (*body[client.Rollout], error) {
		x, _, err := s.Fleet.ActOnRollout(ctx, caller(ctx), in.ID, in.Body.Act, in.Body.Device, in.Body.Why, in.Body.Force)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.Rollout]{s.rolloutOf(ctx, x)}, nil
	}, describe("act-on-rollout", "Approve, pause, resume, stop or undo a rollout, or leave a device out", "Rollouts"), notFound)
}

// rolloutOf is a rollout as lists show it.
func (s *server) rolloutOf(ctx context.Context, x *rollouts.Rollout) client.Rollout {
	shown, err := s.Fleet.Rollout(caller(ctx), x.ID)
	if err != nil {
		if !fault.Is(err, fault.NotFound) {
			s.Log.Error("a rollout could not be shown", "rollout", x.ID, "error", err)
		}
		shown = rollouts.Shown{Rollout: x}
	}
	return shownRollout(shown)
}

func shownRollout(x rollouts.Shown) client.Rollout {
	out := client.Rollout{ID: x.ID, Layer: x.Layer, State: string(x.Run.State), Why: x.Run.Why, Broke: x.Run.Broke, By: x.By, Asks: x.Asks() && x.Run.State.Open(), Approved: x.Approved, At: x.At, Since: x.Run.Since,
		Wave: x.Run.Wave + 1, Began: optional(x.Run.Began), Holds: optional(x.Run.Holds), Soak: x.Soak.Seconds(), EndedAt: optional(x.Run.Ended),
		Waves: []client.RolloutWave{}, Counts: map[string]int{}}
	for _, d := range x.Devices {
		for len(out.Waves) <= d.Wave {
			out.Waves = append(out.Waves, client.RolloutWave{Counts: map[string]int{}})
		}
		out.Waves[d.Wave].Devices++
		out.Waves[d.Wave].Counts[d.State]++
		out.Counts[d.State]++
	}
	for i, at := range x.WaveEnds {
		if i < len(out.Waves) {
			out.Waves[i].EndedAt = optional(at)
		}
	}
	return out
}
