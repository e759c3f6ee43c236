package api

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/sync/errgroup"

	"ullage/client"
	"ullage/core/lifecycle"
	"ullage/core/person"
	"ullage/core/rule"
	"ullage/core/unit"
	"ullage/core/value"
	"ullage/fleet/alarms"
	"ullage/fleet/fault"
	"ullage/fleet/scoped"
)

func (s *server) alarmRoutes() {
	type filter struct {
		Where
		Paging
		Device     string   `query:"device" doc:"Only of this device"`
		Rule       string   `query:"rule" maxLength:"63" doc:"Only of this rule"`
		All        bool     `query:"all" doc:"Closed ones too"`
		States     []string `query:"state" doc:"Only in these states, in which people see them"`
		Priorities []string `query:"priority" doc:"Only of these priorities"`
		Before     string   `query:"before" doc:"Only alarms older than this id"`
	}
	huma.Get(s.api, "/api/v1/alarms", func(ctx context.Context, f *filter) (*logged[client.Alarm], error) {
		c := caller(ctx)
		var states []lifecycle.State
		for _, x := range f.States {
			if !slices.Contains(lifecycle.States, lifecycle.State(x)) {
				return nil, s.failed(fault.New(fault.Invalid, "%q is no state of an alarm", value.Clip(x, 40)).Then("there are %s", statesSaid()))
			}
			states = append(states, lifecycle.State(x))
		}
		var priorities []rule.Priority
		for _, x := range f.Priorities {
			if !slices.Contains(rule.Priorities, rule.Priority(x)) {
				return nil, s.failed(fault.New(fault.Invalid, "%q is no priority", value.Clip(x, 40)).Then("there are urgent, high, medium and low"))
			}
			priorities = append(priorities, rule.Priority(x))
		}
		list, err := s.Fleet.Alarms(ctx, c, f.Where.Where, alarms.Filter{Device: f.Device, Rule: f.Rule, Open: !f.All, States: states, Priorities: priorities, Before: f.Before,
			Limit: f.ask()})
		if err != nil {
			return nil, s.failed(err)
		}
		own := s.ownUnits(ctx)
		out := make([]client.Alarm, len(list))
		for i, a := range list {
			out[i] = s.alarmOf(ctx, a, own)
		}
		return newest(out, f.Paging, func(a client.Alarm) string { return a.ID }), nil
	}, describe("alarms", "Open alarms, or the latest of all, the newest first", "Alarms"))
	type since struct {
		Since string `query:"since" default:"7d" doc:"How far back alarms are counted" example:"7d"`
	}
	huma.Get(s.api, "/api/v1/alarms/counts", func(ctx context.Context, in *since) (*body[[]client.RuleCount], error) {
		back, err := value.ParseDuration(in.Since)
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "since: %s", err))
		}
		counts, err := s.Fleet.AlarmCounts(ctx, caller(ctx), s.Now().Add(-back.Std()))
		if err != nil {
			return nil, s.failed(err)
		}
		out := []client.RuleCount{}
		for _, c := range counts {
			out = append(out, client.RuleCount(c))
		}
		return &body[[]client.RuleCount]{out}, nil
	}, describe("alarm-counts", "How many alarms each rule has raised", "Alarms"))
	huma.Get(s.api, "/api/v1/alarms/{id}", func(ctx context.Context, in *AlarmNamed) (*body[client.Alarm], error) {
		a, err := s.Fleet.Alarm(ctx, caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Alarm]{s.alarmOf(ctx, a, s.ownUnits(ctx))}, nil
	}, describe("alarm", "One alarm, open or closed", "Alarms"), notFound)
	huma.Get(s.api, "/api/v1/shelves", func(ctx context.Context, _ *struct{}) (*body[[]client.Shelf], error) {
		list, err := s.Fleet.Shelves(ctx, caller(ctx))
		if err != nil {
			return nil, s.failed(err)
		}
		out := []client.Shelf{}
		for _, x := range list {
			out = append(out, client.Shelf{Rule: x.Rule, Subject: x.Subject, By: x.By, Why: x.Why, At: x.At, Until: x.Until})
		}
		return &body[[]client.Shelf]{out}, nil
	}, describe("shelves", "What is shelved now, that which ends first first", "Alarms"))
	s.alarmActs()
	s.performanceRoutes()
}

// AlarmNamed is the path of one alarm.
type AlarmNamed struct {
	ID string `path:"id" doc:"Alarm id" maxLength:"26"`
}

// alarmActs serves what people do about alarms: about one, and about many at once.
func (s *server) alarmActs() {
	act := func(ctx context.Context, id string, a scoped.Act) (*body[client.Alarm], error) {
		out, err := s.Fleet.Act(ctx, caller(ctx), id, a)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.Alarm]{s.alarmOf(ctx, out, nil)}, nil
	}
	for verb, says := range map[string]string{"acknowledge": "Acknowledge an alarm", "unshelve": "Take an alarm off the shelf", "reset": "Reset a latched alarm"} {
		huma.Post(s.api, "/api/v1/alarms/{id}/"+verb, func(ctx context.Context, in *AlarmNamed) (*body[client.Alarm], error) {
			return act(ctx, in.ID, scoped.Act{Verb: verb})
		}, describe(verb+"-alarm", says, "Alarms"), notFound)
	}
	type shelve struct {
		AlarmNamed
		Body client.Shelve
	}
	huma.Post(s.api, "/api/v1/alarms/{id}/shelve", func(ctx context.Context, in *shelve) (*body[client.Alarm], error) {
		until, err := s.until(in.Body.For, in.Body.Until)
		if err != nil {
			return nil, s.failed(err)
		}
		return act(ctx, in.ID, scoped.Act{Verb: "shelve", Until: until, Text: in.Body.Why})
	}, describe("shelve-alarm", "Let an alarm stand aside until a time", "Alarms"), notFound)
	type comment struct {
		AlarmNamed
		Body client.Comment
	}
	huma.Post(s.api, "/api/v1/alarms/{id}/comments", func(ctx context.Context, in *comment) (*body[client.Alarm], error) {
		return act(ctx, in.ID, scoped.Act{Verb: "comment", Text: in.Body.Text})
	}, describe("comment-alarm", "Say something about an alarm", "Alarms"), notFound)
	type many struct{ Body client.AlarmActs }
	huma.Post(s.api, "/api/v1/alarm-acts", func(ctx context.Context, in *many) (*body[[]client.AlarmActed], error) {
		b := in.Body
		one := scoped.Act{Verb: b.Act, Text: b.Text}
		if b.Act == "shelve" {
			var err error
			if one.Until, err = s.until(b.For, b.Until); err != nil {
				return nil, s.failed(err)
			}
		}
		out := make([]client.AlarmActed, len(b.Alarms))
		// Each is committed alone; together they share the flushes.
		var each errgroup.Group
		each.SetLimit(64)
		for i, id := range b.Alarms {
			each.Go(func() error {
				out[i].Alarm = id
				a, err := s.Fleet.Act(ctx, caller(ctx), id, one)
				if err != nil {
					out[i].Error = fault.From(err).Error()
				} else {
					if out[i].State = string(a.Shown()); a.State.Open() {
						out[i].Response = a.Response
					}
				}
				return nil
			})
		}
		_ = each.Wait()
		s.Settle()
		return &body[[]client.AlarmActed]{out}, nil
	}, describe("act-on-alarms", "Do something about many alarms at once", "Alarms"))
}

// until reads until when something is shelved.
func (s *server) until(span string, until *time.Time) (time.Time, error) {
	switch {
	case span != "" && until != nil:
		return time.Time{}, fault.New(fault.Invalid, "both for and until are said").Then("say one of them")
	case until != nil:
		return *until, nil
	case span == "":
		return time.Time{}, nil
	}
	d, err := value.ParseDuration(span)
	if err != nil {
		return time.Time{}, fault.New(fault.Invalid, "for: %s", err)
	}
	return s.Now().Add(d.Std()), nil
}

// alarmOf is an alarm with what is measured now beside what was when it was raised.
func (s *server) alarmOf(ctx context.Context, a alarms.Alarm, own *ownUnits) client.Alarm {
	c := caller(ctx)
	out := client.Alarm{ID: a.ID, Rule: a.Rule, Device: a.Device, Group: a.Group, Priority: string(a.Priority),
		State: string(a.Shown()), Holds: a.State.Holds(), Waits: a.State.Waits(), Message: a.Message, Cause: a.Cause, Response: a.Response, Metric: a.Metric,
		Value: a.Value.Any(), Limit: a.Limit.Any(), Times: a.Times, RaisedAt: a.RaisedAt,
		ReturnedAt: optional(a.ReturnedAt), AcknowledgedAt: optional(a.AcknowledgedAt), AcknowledgedBy: a.AcknowledgedBy,
		RespondBy: optional(a.RespondBy), Comments: a.Comments, SuppressedBy: a.SuppressedBy, Maintenance: a.Maintenance}
	if !a.ShelvedUntil.IsZero() {
		out.Shelved = &client.Shelf{Rule: a.Rule, Subject: a.Subject(), By: a.ShelvedBy, Why: a.ShelvedWhy, Until: a.ShelvedUntil}
	}
	if n, err := s.Fleet.Suppressed(ctx, c, a); err == nil {
		out.Suppresses = n
	}
	out.MayAct = (c.MayAll(person.Operator) || a.Group == "" && c.May(person.Operator, a.Device))
	out.MayAcknowledge = out.MayAct && a.State.Waits()
	d, err := s.Fleet.Device(c, a.Device)
	if err != nil || a.Group != "" {
		return out
	}
	symbol := ""
	for _, m := range d.Margins {
		if m.Rule != a.Rule {
			continue
		}
		symbol = m.Unit
		if out.Display = unit.Display(m.Unit); a.State.Open() {
			out.Now, out.LimitNow = &m.Value, &m.Limit
		}
	}
	return own.alarm(out, symbol)
}

func statesSaid() string {
	var out []string
	for _, x := range lifecycle.States {
		out = append(out, string(x))
	}
	return strings.Join(out, ", ")
}
