package api

import (
	"context"

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
}
