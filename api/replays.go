package api

import (
	"context"
	"encoding/json"
	"math"
	"net/http"
	"reflect"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"ullage/client"
	"ullage/core/replay"
	"ullage/core/series"
	"ullage/fleet/fault"
	"ullage/fleet/replays"
)

// replayRoutes tell what rules would have done.
func (s *server) replayRoutes() {
	s.suggestionRoutes()
	type asked struct{ Body client.ReplayAsk }
	huma.Post(s.api, "/api/v1/replays", func(ctx context.Context, in *asked) (*huma.StreamResponse, error) {
		a, err := s.replayAsk(ctx, in.Body)
		if err != nil {
			return nil, s.failed(err)
		}
		// What is wrong is said before anything is sent.
		ctx, end := context.WithCancel(ctx)
		lines := make(chan client.ReplayLine)
		failed := make(chan error, 1)
		go func() {
			defer close(lines)
			failed <- s.replay(ctx, in.Body, a, func(l client.ReplayLine) error {
				select {
				case lines <- l:
					return nil
				case <-ctx.Done():
					return ctx.Err()
				}
			})
		}()
		first, ok := <-lines
		if !ok {
			end()
			return nil, s.failed(<-failed)
		}
		return &huma.StreamResponse{Body: func(c huma.Context) {
			defer end()
			c.SetHeader("Content-Type", "application/x-ndjson")
			c.SetStatus(http.StatusOK)
			rc := humagin.Unwrap(c).Writer
			out := json.NewEncoder(c.BodyWriter())
			flushed := time.Now()
			for l := first; ok; l, ok = <-lines {
				if out.Encode(l) != nil {
					return
				}
				if l.One == nil || time.Since(flushed) > 100*time.Millisecond {
					rc.Flush()
					flushed = time.Now()
				}
			}
			if err := <-failed; err != nil && ctx.Err() == nil {
				_ = out.Encode(client.ReplayLine{Error: fault.From(err).Error()})
			}
		}}, nil
	}, describe("replay", "What a rule would have done over past readings, beside the version in force", "Rules"), func(o *huma.Operation) {
		o.Responses = map[string]*huma.Response{"200": {Description: "A line for each device, with how far it is in between; the summary is the last",
			Content: map[string]*huma.MediaType{"application/x-ndjson": {Schema: s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[client.ReplayLine](), true, "ReplayLine")}}}}
	})
}

// suggestionRoutes tell how rules would do better.
func (s *server) suggestionRoutes() {
	type asked struct{ Body client.ReplayAsk }
	huma.Post(s.api, "/api/v1/suggestions", func(ctx context.Context, in *asked) (*body[[]client.Suggestion], error) {
		a, err := s.replayAsk(ctx, in.Body)
		if err != nil {
			return nil, s.failed(err)
		}
		found, err := s.Fleet.Suggest(ctx, caller(ctx), in.Body.Where, a)
		if err != nil {
			return nil, s.failed(err)
		}
		days := a.To.Sub(a.From).Hours() / 24
		out := []client.Suggestion{}
		for _, x := range found {
			out = append(out, client.Suggestion{Kind: x.Kind, Value: x.Value, Figures: x.Figures, Rule: x.Rule, Before: sideOf(x.Before, days, false),
				After: sideOf(x.After, days, false), JudgedOn: x.JudgedOn})
		}
		return &body[[]client.Suggestion]{out}, nil
	}, describe("suggest", "Changes of a rule that the data gives, each with its effect", "Rules"))
}

func (s *server) replayAsk(ctx context.Context, b client.ReplayAsk) (replays.Ask, error) {
	a := replays.Ask{Devices: b.Devices, Live: b.Live}
	switch {
	case b.Rule != nil:
		a.Rule = *b.Rule
	case b.Name == "":
		return a, fault.New(fault.Invalid, "neither a rule nor the name of one is said").Then("say one of them")
	default:
		var err error
		if a.Rule, err = s.Fleet.Rule(caller(ctx), b.Name); err != nil {
			return a, err
		}
	}
	span := b.Span
	if span == "" {
		span = "30d"
	}
	var err error
	if a.From, a.To, err = series.ParseSpan(span, s.Now(), time.UTC); err != nil {
		return a, fault.New(fault.Invalid, "span: %s", err)
	}
	return a, nil
}

// replay runs a replay and tells its lines.
func (s *server) replay(ctx context.Context, b client.ReplayAsk, a replays.Ask, told func(client.ReplayLine) error) error {
	begun := time.Now()
	var shown time.Time
	sum := client.ReplaySummary{From: a.From, To: a.To}
	days := a.To.Sub(a.From).Hours() / 24
	var known [2]time.Duration
	dry := replay.NewDry(&a.Rule)
	err := s.Fleet.Replay(ctx, caller(ctx), b.Where, a, func(one *replays.One, p replays.Progress) error {
		if one != nil {
			out := client.ReplayOne{Subject: one.Subject, Readings: one.Readings, This: sideOf(one.This, days, b.Spans)}
			sum.Devices++
			sum.Readings += one.Readings
			gather(&sum.This, &known[0], one.This)
			if len(a.Rule.Responses) > 0 && len(one.This.Spans) > 0 {
				dry.Add(one.This.Spans, s.Fleet.Acts(caller(ctx), &a.Rule, one.Subject), a.To)
			}
			if one.InForce != nil {
				x := sideOf(*one.InForce, days, b.Spans)
				out.InForce = &x
				if sum.InForce == nil {
					sum.InForce = &client.ReplaySide{}
				}
				gather(sum.InForce, &known[1], *one.InForce)
			}
			if one.Live != nil {
				out.Live = &one.Live.Alarms
				if sum.Live == nil {
					sum.Live = new(int)
				}
				*sum.Live += one.Live.Alarms
				sum.Differences += len(one.Live.Differences)
				for _, d := range one.Live.Differences[:min(len(one.Live.Differences), 100)] {
					only := "live"
					if d.Ideal {
						only = "replay"
					}
					out.Differences = append(out.Differences, client.ReplayDifference{At: d.At, Only: only, Cause: d.Cause})
				}
			}
			if err := told(client.ReplayLine{One: &out}); err != nil {
				return err
			}
		}
		if now := time.Now(); now.Sub(shown) > 100*time.Millisecond {
			shown = now
			return told(client.ReplayLine{Progress: &client.ReplayProgress{Done: p.Done, Of: p.Of, Readings: p.Readings}})
		}
		return nil
	})
	if err != nil {
		return err
	}
	sum.Seconds = time.Since(begun).Seconds()
	for _, x := range dry.Sum() {
		sum.Responses = append(sum.Responses, client.ReplayResponse{Does: x.Does, Acts: x.Acts, Devices: x.Devices, HeldBack: x.Held, Seconds: x.Lasted.Seconds(), Nowhere: x.Nowhere})
	}
	for _, x := range []*client.ReplaySide{&sum.This, sum.InForce} {
		if x != nil {
			x.ADay = float64(x.Alarms) / days
		}
	}
	return told(client.ReplayLine{Summary: &sum})
}

// gather adds a side up; known is for how long the headspace of those before was.
func gather(into *client.ReplaySide, known *time.Duration, x replays.Side) {
	into.Alarms += x.Alarms
	into.Chattering += x.Chattering
	if x.Chattering > 0 {
		into.Chatter++
	}
	into.Suppressed += x.Suppressed
	into.OutOfService += x.OutOfService
	into.Raised += x.Raised.Seconds()
	if math.IsNaN(x.Lost) || x.Known <= 0 {
		return
	}
	was := 0.0
	if into.Lost != nil {
		was = *into.Lost
	}
	mean := (was*float64(*known) + x.Lost*float64(x.Known)) / float64(*known+x.Known)
	*known += x.Known
	into.Lost = &mean
}

func sideOf(x replays.Side, days float64, spans bool) client.ReplaySide {
	out := client.ReplaySide{Alarms: x.Alarms, ADay: float64(x.Alarms) / days, Chattering: x.Chattering, Suppressed: x.Suppressed, OutOfService: x.OutOfService, Raised: x.Raised.Seconds()}
	if !math.IsNaN(x.Lost) {
		out.Lost = &x.Lost
	}
	if spans {
		for _, s := range x.Spans[:min(len(x.Spans), replay.MaxSpans)] {
			out.Spans = append(out.Spans, client.ReplaySpan{From: s.From, To: s.To, Value: figure(s.Value), Limit: figure(s.Limit), Suppressed: s.Suppressed, OutOfService: s.OutOfService})
		}
	}
	return out
}

func figure(x float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return &x
}
