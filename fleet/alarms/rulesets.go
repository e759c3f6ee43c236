package alarms

import (
	"slices"
	"strings"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/present"
)

// ruleset is the rules that watch a device, compiled together for its model.
// Devices with the same model and the same rules share one.
type ruleset struct {
	plan     *expr.Plan
	model    *model.Model
	rules    []*rule.Compiled
	metrics  map[string]int // telemetry name to slot
	outer    []int          // slots that are not telemetry
	asks     map[string]int // rules asked about through raised(…), to their slot
	link     int            // slot of device.link, or -1
	said     bool           // whether what devices say of themselves decides whom a rule is for
	interval time.Duration
}

// setFor returns the rules that watch a device of a model that get describes.
func (e *Engine) setFor(m *model.Model, get present.Lookup) *ruleset {
	e.rulesMu.Lock()
	defer e.rulesMu.Unlock()
	all := e.compiled(m, nil)
	names := []string{}
	for _, c := range all.rules {
		if !selects(c.Selects(), get) {
			continue
		}
		names = append(names, c.Name)
	}
	if len(names) == len(all.rules) {
		return all
	}
	return e.compiled(m, names)
}

// selects answers selectors for one device: whether all of them are true.
func selects(ps []*expr.Program, get present.Lookup) bool {
	for _, p := range ps {
		s := p.Plan().NewState(time.Time{})
		for slot, n := range p.Plan().Names() {
			v := get(n.Name)
			if n.Name.Scope == "label" && v.Text == "" { // a label that is missing, for which accesses tell apart
				v = value.Value{}
			}
			s.Set(slot, expr.Sample{Value: v})
		}
		if p.Truth(s) != expr.True {
			return false
		}
	}
	return true
}

// asksAttributes reports whether whom a rule is for hangs on what devices say of themselves.
func asksAttributes(c *rule.Compiled) bool {
	return slices.ContainsFunc(c.Selects(), func(p *expr.Program) bool {
		return slices.ContainsFunc(p.Plan().Names(), func(n expr.Info) bool { return n.Name.Scope == "attr" })
	})
}

// compiled returns rules for a model, all of its rules where names is nil; the
// rules are locked.
func (e *Engine) compiled(m *model.Model, names []string) *ruleset {
	key := m.String() + " *"
	if names != nil {
		key = m.String() + " " + strings.Join(names, " ")
	}
	if set := e.sets[key]; set != nil && set.model == m {
		return set
	}
	var rules []*rule.Rule
	for _, r := range e.sorted() {
		if r.Each == "" && !r.Disabled && r.Names(m.Name) && (names == nil || slices.Contains(names, r.Name)) {
			rules = append(rules, r)
		}
	}
	if names == nil { // all of them may be those that some devices have had already
		its := make([]string, len(rules))
		for i, r := range rules {
			its[i] = r.Name
		}
		if set := e.sets[m.String()+" "+strings.Join(its, " ")]; set != nil && set.model == m {
			e.sets[key] = set
			return set
		}
	}
	plan, compiled, wrong := check.Rules(rules, check.Around{Rules: e.names()}.With(check.Schema(m)))
	for name, err := range wrong {
		e.log.Error("a rule does not fit its model any more and is not watched", "rule", name, "model", m.String(),
			"error", err)
	}
	set := newRuleset(plan, m, m.Interval)
	set.rules = compiled
	set.said = slices.ContainsFunc(compiled, asksAttributes)
	e.sets[key] = set
	return set
}

// forget drops the sets that rules of these names may be in; the rules are
// locked. The set of all other rules of a model stays, under its own names:
// devices that it watches need not be looked at again.
func (e *Engine) forget(of map[string]bool, names []string) {
	for key, set := range e.sets {
		if !of[set.model.Name] {
			continue
		}
		delete(e.sets, key)
		if slices.ContainsFunc(set.rules, func(c *rule.Compiled) bool { return slices.Contains(names, c.Name) }) {
			continue
		}
		var its []string
		for _, c := range set.rules {
			its = append(its, c.Name)
		}
		e.sets[set.model.String()+" "+strings.Join(its, " ")] = set
	}
}

func newRuleset(plan *expr.Plan, m *model.Model, interval time.Duration) *ruleset {
	set := &ruleset{plan: plan, model: m, metrics: map[string]int{}, asks: map[string]int{}, link: -1,
		interval: interval}
	for slot, n := range plan.Names() {
		switch {
		case n.Name.Scope == "":
			set.metrics[n.Name.Key] = slot
		case n.Name.Scope == "raised":
			set.asks[n.Name.Key] = slot
		default:
			set.outer = append(set.outer, slot)
			if n.Name == (expr.Name{Scope: "device", Key: "link"}) {
				set.link = slot
			}
		}
	}
	return set
}

func (e *Engine) sorted() []*rule.Rule {
	out := make([]*rule.Rule, 0, len(e.rules))
	for _, r := range e.rules {
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b *rule.Rule) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func (e *Engine) names() []string {
	var out []string
	for _, r := range e.sorted() {
		out = append(out, r.Name)
	}
	return out
}

// selected reports whether the selector of a rule, and what its author reaches, choose a
// device of a model.
func (e *Engine) selected(r *rule.Rule, modelName string, get present.Lookup) bool {
	m, err := e.models.Get(modelName)
	if err != nil {
		return false
	}
	s := check.Around{}.With(check.Schema(m))
	var ps []*expr.Program
	for _, part := range []struct {
		src     string
		purpose expr.Purpose
	}{{r.Devices, expr.ForTarget}, {r.Access, expr.ForAccess}} {
		if part.src == "" {
			continue
		}
		p, _ := expr.Compile(part.src, s, part.purpose)
		if p == nil {
			return false
		}
		ps = append(ps, p)
	}
	return selects(ps, get)
}
