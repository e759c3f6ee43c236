package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/rule"
	"ullage/fleet/fault"
)

func (s *server) ruleRoutes() {
	huma.Get(s.api, "/api/v1/rules", func(context.Context, *struct{}) (*body[[]rule.Rule], error) {
		return &body[[]rule.Rule]{s.Alarms.Rules()}, nil
	}, describe("rules", "Every alarm rule in force", "Rules"))
	huma.Get(s.api, "/api/v1/rules/{name}", func(ctx context.Context, in *Named) (*body[rule.Rule], error) {
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
		changed, err := s.Alarms.SetRule(ctx, in.Body, by(ctx).Person)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.RuleSaved]{client.RuleSaved{Rule: in.Name, Changed: changed}}, nil
	}, describe("set-rule", "Put an alarm rule in force", "Rules"))
	huma.Delete(s.api, "/api/v1/rules/{name}", func(ctx context.Context, in *Named) (*struct{}, error) {
		if err := s.Alarms.RemoveRule(ctx, in.Name, by(ctx).Person); err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return nil, nil
	}, describe("remove-rule", "Take an alarm rule out of force", "Rules"), notFound)
}
