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
		list: func(context.Context) ([]rule.Rule, error) { return s.Alarms.Rules(), nil },
		get:  func(_ context.Context, name string) (rule.Rule, error) { return s.Alarms.Rule(name) },
		put: func(ctx context.Context, r rule.Rule, c noun.If, by string) (noun.Saved[rule.Rule], error) {
			return s.Alarms.PutRule(ctx, r, c, by)
		},
		remove: func(ctx context.Context, name string, c noun.If, by string) error {
			return s.Alarms.RemoveRule(ctx, name, c, by)
		},
	})
}
