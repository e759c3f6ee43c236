package api

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/layering"
	"ullage/core/unit"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/layers"
	"ullage/fleet/noun"
)

// manyShown is how many entries of a long list an answer holds.
const manyShown = 1000

// SettingNamed is the path of a setting of a device.
type SettingNamed struct {
	One
	Setting string `path:"setting" doc:"Its name" maxLength:"200"`
}

func (s *server) layerRoutes() {
	serve(s, served[layering.Layer]{word: "layer", words: "layers", tag: "Layers", name: func(x layering.Layer) string { return x.Name },
		list: func(ctx context.Context) ([]layering.Layer, error) { return s.Fleet.Layers(caller(ctx)), nil },
		get: func(ctx context.Context, name string) (layering.Layer, error) {
			return s.Fleet.Layer(caller(ctx), name)
		},
		put: func(ctx context.Context, x layering.Layer, cond noun.If) (noun.Saved[layering.Layer], error) {
			return s.Fleet.PutLayer(ctx, caller(ctx), x, cond)
		},
		remove: func(ctx context.Context, name string, cond noun.If) error {
			return s.Fleet.RemoveLayer(ctx, caller(ctx), name, cond)
		},
	})
	huma.Get(s.api, "/api/v1/layers/{name}/versions", func(ctx context.Context, in *ThingNamed) (*body[[]client.LayerVersion], error) {
		vs, err := s.Fleet.LayerVersions(ctx, caller(ctx), in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		out := []client.LayerVersion{}
		for i, v := range vs {
			x := client.LayerVersion{ID: v.ID, At: v.At, By: v.By, Verb: v.Verb, Layer: v.Layer, Changed: []string{}}
			if i+1 < len(vs) && v.Verb == "changed" {
				x.Changed = layerDifferences(vs[i+1].Layer, v.Layer)
			}
			out = append(out, x)
		}
		return &body[[]client.LayerVersion]{out}, nil
	}, describe("layer-versions", "The versions of a layer, the newest first", "Layers"), notFound)
	huma.Get(s.api, "/api/v1/layer-summaries", func(ctx context.Context, _ *struct{}) (*body[[]client.LayerSummary], error) {
		c := caller(ctx)
		out := []client.LayerSummary{}
		for i, x := range s.Fleet.Layers(c) {
			st, err := s.Fleet.LayerStatus(c, x.Name)
			if err != nil {
				continue // it was removed meanwhile
			}
			out = append(out, client.LayerSummary{Layer: x, Place: i + 1, Devices: st.Scope, Spread: s.Fleet.LayerTouches(c, x.Name),
				AsIntended: st.AsIntended, Pending: st.Pending, Refused: st.Refused, Drifted: st.Drifted, Offline: st.Offline, Waiting: st.Waiting})
		}
		return &body[[]client.LayerSummary]{out}, nil
	}, describe("layer-summaries", "The layers in their order, with how far their devices are", "Layers"))
	type change struct{ Body client.LayerChange }
	huma.Post(s.api, "/api/v1/layer-previews", func(ctx context.Context, in *change) (*body[client.LayerPreview], error) {
		p, err := s.Fleet.PreviewLayers(caller(ctx), proposalOf(in.Body))
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.LayerPreview]{s.previewOf(p)}, nil
	}, describe("preview-layers", "What a change of layers, labels or versions would do", "Layers"))
	huma.Post(s.api, "/api/v1/layer-changes", func(ctx context.Context, in *change) (*body[[]layering.Layer], error) {
		if err := s.Fleet.ApplyLayers(ctx, caller(ctx), proposalOf(in.Body), in.Body.Tag, in.Body.AtOnce); err != nil {
			return nil, s.failed(err)
		}
		return &body[[]layering.Layer]{s.Fleet.Layers(caller(ctx))}, nil
	}, describe("change-layers", "Make, change, remove and order layers at once", "Layers"), conditional)
	type of struct {
		Layer string `query:"layer" maxLength:"63" doc:"A layer; the whole fleet where it is left out"`
	}
	huma.Get(s.api, "/api/v1/layer-status", func(ctx context.Context, in *of) (*body[client.LayerStatus], error) {
		st, err := s.Fleet.LayerStatus(caller(ctx), in.Layer)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.LayerStatus]{statusOf(st)}, nil
	}, describe("layer-status", "How far devices are with what they were given", "Layers"), notFound)
	type over struct {
		Layer string `query:"layer" maxLength:"63" doc:"A layer; the whole fleet where it is left out"`
		Span  string `query:"span" default:"24h" maxLength:"20" doc:"How far it goes back, such as 24h or 7d"`
	}
	huma.Get(s.api, "/api/v1/layer-status/over-time", func(ctx context.Context, in *over) (*body[client.LayerOverTime], error) {
		span, err := value.ParseDuration(in.Span)
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "the span: %s", err))
		}
		scope, points, err := s.Fleet.LayerOverTime(ctx, caller(ctx), in.Layer, span.Std())
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.LayerOverTime{Scope: scope, Points: []client.LayerMoment{}}
		for _, p := range points {
			out.Points = append(out.Points, client.LayerMoment(p))
		}
		return &body[client.LayerOverTime]{out}, nil
	}, describe("layer-over-time", "How devices came to have what is intended for them now", "Layers"), notFound)
	huma.Get(s.api, "/api/v1/forbidden-values", func(ctx context.Context, _ *struct{}) (*body[[]client.ForbiddenValue], error) {
		out := []client.ForbiddenValue{}
		for _, f := range s.Fleet.Forbids(caller(ctx)) {
			out = append(out, client.ForbiddenValue{Model: f.Model, Version: f.Version, Setting: f.Setting, Value: f.Value, Source: string(f.Origin.Source),
				Name: f.Origin.Name, Why: f.Why, Devices: f.Devices})
		}
		return &body[[]client.ForbiddenValue]{out}, nil
	}, describe("forbidden-values", "What devices would lose with the newest version of their model", "Layers"))
	huma.Get(s.api, "/api/v1/devices/{id}/settings/{setting}/explanation", func(ctx context.Context, in *SettingNamed) (*body[client.SettingExplained], error) {
		steps, p, err := s.Fleet.ExplainSetting(caller(ctx), in.ID, in.Setting)
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.SettingExplained{Device: in.ID, Setting: in.Setting, Display: unit.Display(p.Unit), Steps: []client.SettingStep{}}
		for _, x := range steps {
			out.Steps = append(out.Steps, client.SettingStep{Source: string(x.Source), Name: x.Name, Target: x.Target, Access: x.Access, Matches: x.Matches.String(),
				Gives: x.Gives.Shown(), Removes: x.Removes, Wins: x.Wins, Wrong: x.Wrong})
		}
		return &body[client.SettingExplained]{out}, nil
	}, describe("explain-setting", "Why a setting of a device has its value", "Settings"), notFound)
}

func proposalOf(c client.LayerChange) layers.Proposal {
	return layers.Proposal{Layer: c.Layer, Remove: c.Remove, Order: c.Order, Devices: c.Devices, Labels: c.Labels, Version: c.Version}
}

func (s *server) previewOf(p layers.Preview) client.LayerPreview {
	above := s.Fleet.WavesAbove()
	out := client.LayerPreview{Tag: p.Tag, Waves: above > 0 && p.Devices > above, WavesAbove: above, Scope: p.Scope, Devices: p.Devices, Settings: len(p.Differences), Differences: []client.SettingDifference{},
		Lacking: p.Lacking}
	offline, refused := map[string]bool{}, map[string]bool{}
	for _, x := range p.Differences {
		off := s.Fleet.OffLine(x.Device) && !x.Kept
		if off {
			offline[x.Device] = true
		}
		if x.Refused != "" {
			refused[x.Device] = true
		}
		if len(out.Differences) < manyShown {
			out.Differences = append(out.Differences, client.SettingDifference{Device: x.Device, Setting: x.Setting, From: x.From.Shown(), To: x.To.Shown(),
				Source: string(x.By.Source), Name: x.By.Name, Offline: off, Refused: x.Refused})
		}
	}
	out.Offline, out.RefusedEver = len(offline), len(refused)
	for _, f := range p.Warnings {
		out.Warnings = append(out.Warnings, f.Error())
	}
	return out
}

func statusOf(st layers.Status) client.LayerStatus {
	out := client.LayerStatus{Layer: st.Layer, Scope: st.Scope, AsIntended: st.AsIntended, Pending: st.Pending, Refused: st.Refused, Drifted: st.Drifted,
		Offline: st.Offline, Live: st.Live, Waiting: st.Waiting, Reasons: []client.RefusalReason{}, Values: []client.LayerValue{}, Devices: map[string][]string{}}
	for _, r := range st.Reasons {
		out.Reasons = append(out.Reasons, client.RefusalReason(r))
	}
	for _, f := range st.Fates {
		out.Values = append(out.Values, client.LayerValue{Setting: f.Setting, Value: f.Value.Shown(), Wins: f.Wins, Loses: f.Loses})
	}
	for state, ids := range st.Devices {
		out.Devices[state] = ids[:min(len(ids), manyShown)]
	}
	return out
}

// layerDifferences says what differs between two versions of a layer.
func layerDifferences(was, is layering.Layer) []string {
	out := []string{}
	for name, v := range is.Set { // one secret is shown as another
		if is, err := value.FromAny(v); err == nil && is.Sealed() && was.Set[name] != nil && was.Set[name] != v {
			out = append(out, name+": another secret")
		}
	}
	was, is = *was.Shown(), *is.Shown()
	say := func(set map[string]any, name string) string {
		v, ok := set[name]
		switch {
		case !ok:
			return "not set"
		case v == nil:
			return "taken off"
		}
		return fmt.Sprint(v)
	}
	text := func(s string) string {
		if s == "" {
			return "nothing"
		}
		return s
	}
	if was.Target != is.Target {
		out = append(out, fmt.Sprintf("target: %s → %s", text(was.Target), text(is.Target)))
	}
	names := slices.Collect(maps.Keys(was.Set))
	for name := range is.Set {
		if _, ok := was.Set[name]; !ok {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		if a, b := say(was.Set, name), say(is.Set, name); a != b {
			out = append(out, fmt.Sprintf("%s: %s → %s", name, a, b))
		}
	}
	if was.Why != is.Why {
		out = append(out, fmt.Sprintf("why: %s → %s", text(was.Why), text(is.Why)))
	}
	return out
}
