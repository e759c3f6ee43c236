package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/value"
	"ullage/fleet/access"
	"ullage/fleet/commands"
)

// commandJobRoutes give commands to many devices.
func (s *server) commandJobRoutes() {
	type many struct{ Body client.ManyCommands }
	type begun struct {
		Status int
		Body   client.CommandJob
	}
	huma.Post(s.api, "/api/v1/command-jobs", func(ctx context.Context, in *many) (*begun, error) {
		x := in.Body
		input, err := inputOf(x.NewCommand)
		if err != nil {
			return nil, s.failed(err)
		}
		e, err := commands.ParseExpiry(x.Expires)
		if err != nil {
			return nil, s.failed(err)
		}
		if x.Preview {
			p, err := s.Fleet.PlanCommand(caller(ctx), x.Devices, x.Where, x.Name, input)
			if err != nil {
				return nil, s.failed(err)
			}
			out := s.commandJobOf(caller(ctx), &commands.Job{Name: x.Name, Input: input, Expiry: e, AtOnce: x.AtOnce, Devices: p.Devices}, nil)
			out.Offline, out.Tag = p.Offline, p.Tag
			for _, l := range p.Left {
				out.Left = append(out.Left, client.LeftOut{Why: l.Why, Devices: len(l.Devices), Some: l.Devices[:min(len(l.Devices), maxShown)]})
			}
			return &begun{http.StatusOK, out}, nil
		}
		j, err := s.Fleet.GiveMany(ctx, caller(ctx), x.Devices, x.Where, x.Name, input, e, x.AtOnce, x.Tag)
		if err != nil {
			return nil, s.failed(err)
		}
		return &begun{http.StatusCreated, s.commandJobOf(caller(ctx), j, nil)}, nil
	}, describe("give-many", "Give a command to many devices", "Commands"), func(o *huma.Operation) { o.MaxBodyBytes = 8 << 20 })
	huma.Get(s.api, "/api/v1/command-jobs", func(ctx context.Context, _ *struct{}) (*body[[]client.CommandJob], error) {
		js := s.Fleet.CommandJobs(caller(ctx))
		counts, err := s.Fleet.CommandCounts(ctx, js)
		if err != nil {
			return nil, s.failed(err)
		}
		out := []client.CommandJob{}
		for _, j := range js {
			out = append(out, s.commandJobOf(caller(ctx), j, counts[j.ID]))
		}
		return &body[[]client.CommandJob]{out}, nil
	}, describe("command-jobs", "The latest commands for many devices, the newest first", "Commands"))
	type one struct {
		One
		Wait string `query:"wait" doc:"How long to wait for its end before answering, up to 60s" example:"10s"`
	}
	huma.Get(s.api, "/api/v1/command-jobs/{id}", func(ctx context.Context, in *one) (*body[client.CommandJob], error) {
		wait, err := patienceOf(in.Wait)
		if err != nil {
			return nil, s.failed(err)
		}
		j, err := s.Fleet.CommandJob(caller(ctx), in.ID)
		if err == nil && wait > 0 {
			patient, cancel := context.WithTimeout(ctx, wait)
			defer cancel()
			j, err = s.Fleet.AwaitJob(patient, caller(ctx), in.ID)
		}
		return s.commandJob(ctx, j, err)
	}, describe("command-job", "How far a command for many devices is", "Commands"), notFound)
	huma.Delete(s.api, "/api/v1/command-jobs/{id}", func(ctx context.Context, in *One) (*body[client.CommandJob], error) {
		j, err := s.Fleet.WithdrawJob(ctx, caller(ctx), in.ID)
		return s.commandJob(ctx, j, err)
	}, describe("withdraw-many", "Give up what of a command for many devices was not replied to", "Commands"), notFound)
}

func (s *server) commandJob(ctx context.Context, j *commands.Job, err error) (*body[client.CommandJob], error) {
	if err != nil {
		return nil, s.failed(err)
	}
	counts, err := s.Fleet.CommandCounts(ctx, []*commands.Job{j})
	if err != nil {
		return nil, s.failed(err)
	}
	return &body[client.CommandJob]{s.commandJobOf(caller(ctx), j, counts[j.ID])}, nil
}

// commandJobOf leaves out the ids of devices that whoever asks does not see any more.
func (s *server) commandJobOf(c access.Caller, j *commands.Job, counts commands.Counts) client.CommandJob {
	some := []string{}
	for _, id := range j.Devices {
		if len(some) == maxShown {
			break
		}
		if c.Sees(id) {
			some = append(some, id)
		}
	}
	out := client.CommandJob{ID: j.ID, Name: j.Name, Input: j.Input, AtOnce: j.AtOnce, By: j.By, At: optional(j.At.UTC()),
		Devices: len(j.Devices), Some: some, Given: j.Given, Counts: map[string]int{},
		WithdrawnAt: optional(j.WithdrawnAt.UTC()), WithdrawnBy: j.WithdrawnBy, EndedAt: optional(j.EndedAt.UTC())}
	switch {
	case j.Expiry.NextContact:
		out.Expires = "next contact"
	case j.Expiry.After > 0:
		out.Expires = value.Duration(j.Expiry.After).String()
	default:
		out.Expires = value.Duration(commands.Usually).String()
	}
	for phase, n := range counts {
		out.Counts[string(phase)] = n
	}
	return out
}
