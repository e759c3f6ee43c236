package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/rule"
	"ullage/fleet/noun"
)

func (s *server) ruleRoutes() {
	serve(s, served[rule.Rule]{word: "rule", words: "rules", tag: "Rules", name: func(r rule.Rule) string {
		return r.Name
	},
		list: func(ctx context.Context) ([]rule.Rule, error) { return s.Fleet.Rules(caller(ctx)), nil },
		get:  func(ctx context.Context, name string) (rule.Rule, error) { return s.Fleet.Rule(caller(ctx), name) },
		put: func(ctx context.Context, r rule.Rule, cond noun.If) (noun.Saved[rule.Rule], error) {
			return s.Fleet.PutRule(ctx, caller(ctx), r, cond)
		},
		remove: func(ctx context.Context, name string, cond noun.If) error {
			return s.Fleet.RemoveRule(ctx, caller(ctx), name, cond)
		},
	})
	type atOnce struct{ Body rule.Rule }
	huma.Post(s.api, "/api/v1/rules/at-once", func(ctx context.Context, in *atOnce) (*body[client.AtOnce], error) {
		a, err := s.Fleet.AtOnce(ctx, caller(ctx), in.Body)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.AtOnce]{client.AtOnce{Of: a.Of, Asked: a.Asked, Devices: append([]string{}, a.Devices...), Many: a.Many()}}, nil
	}, describe("rule-at-once", "On which devices a rule would be raised at once", "Rules"))
	huma.Get(s.api, "/api/v1/rules/{name}/versions", func(ctx context.Context, in *ThingNamed) (*body[[]client.RuleVersion], error) {
		vs, err := s.Fleet.RuleVersions(ctx, caller(ctx), in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		out := []client.RuleVersion{}
		for i, v := range vs {
			x := client.RuleVersion{ID: v.ID, At: v.At, By: v.By, Verb: v.Verb, Rule: v.Rule, Changed: []string{}}
			if i+1 < len(vs) && v.Verb == "changed" {
				x.Changed = append(x.Changed, rule.Differences(&vs[i+1].Rule, &v.Rule)...)
			}
			out = append(out, x)
		}
		return &body[[]client.RuleVersion]{out}, nil
	}, describe("rule-versions", "The versions of a rule, the newest first", "Rules"), notFound)
}
