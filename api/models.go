package api

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/unit"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
)

// Named is the path of something with a name. It is exported because huma
// reads embedded structs only then.
type Named struct {
	Name string `path:"name" doc:"Name" maxLength:"63"`
}

func (s *server) modelRoutes() {
	huma.Get(s.api, "/api/v1/models", func(context.Context, *struct{}) (*body[[]client.Model], error) {
		out := []client.Model{}
		for _, m := range s.Models.List() {
			out = append(out, s.model(m))
		}
		return &body[[]client.Model]{out}, nil
	}, describe("models", "Every model in force", "Models"))
	huma.Get(s.api, "/api/v1/models/{name}", func(_ context.Context, in *Named) (*body[client.Model], error) {
		m, err := s.Models.Get(in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Model]{s.model(m)}, nil
	}, describe("model", "One model", "Models"), notFound)
	huma.Get(s.api, "/api/v1/models/{name}/source", func(_ context.Context, in *Named) (*body[json.RawMessage], error) {
		m, err := s.Models.Get(in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[json.RawMessage]{m.Source}, nil
	}, describe("model-source", "A model's Thing Model as it was loaded", "Models"), notFound)
	type source struct {
		RawBody []byte `contentType:"application/json"`
	}
	huma.Post(s.api, "/api/v1/models", func(ctx context.Context, in *source) (*body[client.ModelLoaded], error) {
		m, changed, err := s.Models.Load(in.RawBody, by(ctx).Person)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		for _, d := range s.Devices.List() {
			if changed && d.Model == m.Name {
				if err := s.Settings.Remodel(d.ID); err != nil {
					return nil, s.failed(err)
				}
			}
		}
		return &body[client.ModelLoaded]{client.ModelLoaded{Name: m.Name, Version: m.Version, Changed: changed}}, nil
	}, describe("load-model", "Put a Thing Model in force", "Models"), func(o *huma.Operation) {
		o.MaxBodyBytes = model.MaxSource + 1
		o.SkipValidateBody = true // model.Parse says more, and says it better
	})
}

func notFound(o *huma.Operation) { o.Errors = append(o.Errors, http.StatusNotFound) }

func (s *server) model(m *model.Model) client.Model {
	out := client.Model{Name: m.Name, Title: m.Title, Description: m.Description, Version: m.Version,
		Interval: value.Duration(m.Interval).String(), Properties: []client.Property{}, Commands: []string{}, LoadedAt: s.Models.LoadedAt(m.Name)}
	out.Commands = append(out.Commands, m.Commands()...)
	for i := range m.Properties {
		out.Properties = append(out.Properties, property(&m.Properties[i]))
	}
	for _, d := range s.Devices.List() {
		if d.Model == m.Name && d.Standing != devices.Retired {
			out.Devices++
		}
	}
	return out
}

func property(p *model.Property) client.Property {
	c := client.Property{Name: p.Name, Title: p.Title, Description: p.Description, Role: string(p.Role), Type: kindName(p),
		Unit: p.Unit, Display: unit.Display(p.Unit), Decimals: p.Decimals, Minimum: p.Min, Maximum: p.Max, Enum: p.Enum,
		Default: p.Default.Any(), Held: p.Held}
	if p.Usual != nil {
		c.Usual = []float64{p.Usual.Low, p.Usual.High}
	}
	return c
}

func kindName(p *model.Property) string {
	if p.Integer {
		return "integer"
	}
	return p.Kind.String()
}

func (s *server) ruleRoutes() {
	huma.Get(s.api, "/api/v1/rules", func(context.Context, *struct{}) (*body[[]rule.Rule], error) {
		return &body[[]rule.Rule]{s.Alarms.Rules()}, nil
	}, describe("rules", "Every alarm rule in force", "Rules"))
	huma.Get(s.api, "/api/v1/rules/{name}", func(_ context.Context, in *Named) (*body[rule.Rule], error) {
		r, err := s.Alarms.Rule(in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[rule.Rule]{r}, nil
	}, describe("rule", "One alarm rule", "Rules"), notFound)
	type put struct {
		Named
		Body rule.Rule
	}
	huma.Put(s.api, "/api/v1/rules/{name}", func(ctx context.Context, in *put) (*body[client.RuleSaved], error) {
		if in.Name != in.Body.Name {
			return nil, s.failed(fault.New(fault.Invalid, "the address says %s and the rule %s", in.Name, in.Body.Name).Then("make them the same"))
		}
		changed, err := s.Alarms.SetRule(in.Body, by(ctx).Person)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.RuleSaved]{client.RuleSaved{Rule: in.Name, Changed: changed}}, nil
	}, describe("set-rule", "Put an alarm rule in force", "Rules"))
	huma.Delete(s.api, "/api/v1/rules/{name}", func(ctx context.Context, in *Named) (*struct{}, error) {
		if err := s.Alarms.RemoveRule(in.Name, by(ctx).Person); err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return nil, nil
	}, describe("remove-rule", "Take an alarm rule out of force", "Rules"), notFound)
}
