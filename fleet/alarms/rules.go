package alarms

import (
	"context"
	"slices"
	"strings"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/record"
	"ullage/core/rule"
	"ullage/fleet/commit"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// SetRule puts a rule in force whatever there was before, and reports whether
// anything changed.
func (e *Engine) SetRule(ctx context.Context, r rule.Rule, by string) (bool, error) {
	s, err := e.PutRule(ctx, r, noun.If{}, by)
	return s.Changed, err
}

// PutRule puts a rule in force, replacing one of the same name if the condition
// holds for that. It is checked against every model it names.
func (e *Engine) PutRule(ctx context.Context, r rule.Rule, cond noun.If,
	by string) (out noun.Saved[rule.Rule], err error) {
	out.Value = r
	if err := r.Check(); err != nil {
		return out, fault.New(fault.Invalid, "%s", err)
	}
	if builtin(r.Name) {
		return out, fault.New(fault.Conflict, "%s is built in", r.Name).Then("choose another name")
	}
	e.editing.Lock()
	defer e.editing.Unlock()
	if err := cond.Holds("rule", r.Name, e.ruleTag(r.Name)); err != nil {
		return out, err
	}
	changed, verb, err := e.judgeRule(&r)
	if err != nil || !changed {
		return out, err
	}
	out.Created, out.Changed = verb == "added", true
	return out, e.commits.Do(ctx, func(tx *commit.Tx) error {
		tx.Put(r)
		e.version(tx, r, verb, by)
		tx.Tell(e.ruleFact(fact.Rule{Verb: verb, Rule: r.Name, Raise: r.Raise}, by))
		tx.After(func() { e.inForce([]rule.Rule{r}, "") })
		return nil
	})
}

// ruleTag is the tag of the rule of a name; empty if there is none.
func (e *Engine) ruleTag(name string) string {
	r, err := e.Rule(name)
	if err != nil {
		return ""
	}
	return record.Tag(r)
}

func (e *Engine) ruleFact(c fact.Rule, by string) fact.Fact {
	f := fact.New(e.now(), c).By(by)
	f.Rule = c.Rule
	return f
}

// inForce puts stored rules in force and takes the removed one out.
func (e *Engine) inForce(set []rule.Rule, removed string) {
	of, names := map[string]bool{}, []string{}
	touch := func(r *rule.Rule) {
		if r != nil {
			names = append(names, r.Name)
			for _, m := range r.Models {
				of[m] = true
			}
		}
	}
	e.rulesMu.Lock()
	for _, r := range set {
		touch(e.rules[r.Name])
		e.rules[r.Name] = &r
		touch(&r)
	}
	touch(e.rules[removed])
	delete(e.rules, removed)
	e.forget(of, names)
	e.rulesMu.Unlock()
	e.bus.Publish(event.Rules{Models: of})
}

// judgeRule checks a rule against the models and the other rules, and tells
// whether it differs from the one in force.
func (e *Engine) judgeRule(r *rule.Rule) (changed bool, verb string, err error) {
	e.rulesMu.RLock()
	defer e.rulesMu.RUnlock()
	around := check.Around{Rules: append(e.names(), r.Name)}
	if r.Each != "" {
		if _, err := e.groupRule(r); err != nil {
			return false, "", invalid(err)
		}
	}
	var never *rule.Error
	ever := false
	for _, name := range r.Models {
		m, err := e.models.Get(name)
		if err != nil {
			return false, "", err
		}
		if r.Each != "" {
			continue
		}
		c, err := r.For(expr.NewPlan(around.With(check.Schema(m))))
		if err != nil {
			return false, "", fault.New(fault.Invalid, "%s", err)
		}
		if ever = ever || c.Never == nil; c.Never != nil {
			never = c.Never
		}
	}
	if never != nil && !ever {
		return false, "", fault.New(fault.Invalid, "%s", never).Then("look at the limit and its unit").On("raise")
	}
	for _, name := range r.Suppresses {
		if e.rules[name] == nil && !builtin(name) {
			return false, "", fault.New(fault.Invalid, "%s suppresses %s, and there is no such rule", r.Name, name).Then("name one of those in force").On("suppresses")
		}
	}
	others := []*rule.Rule{r}
	for _, o := range e.rules {
		if o.Name != r.Name {
			others = append(others, o)
		}
	}
	if circle := check.Cycle(others); circle != nil {
		return false, "", fault.New(fault.Invalid, "%s would ask about itself in a circle: %s", r.Name,
			strings.Join(circle, " asks "))
	}
	if len(r.Responses) > 0 {
		if err := check.Responses(r, e.models.List(), around); err != nil {
			return false, "", invalid(err)
		}
	}
	var layers []check.Layer
	if e.layers != nil {
		layers = e.layers()
	}
	for _, l := range layers {
		if slices.Contains(l.Asks, r.Name) && r.OffDelay == 0 {
			return false, "", fault.New(fault.Invalid, "the layer %s asks whether %s is raised, so it needs an off-delay, or its settings could come and go with every reading", l.Name, r.Name).
				Then("give it one, like off_delay: 5min").On("off_delay")
		}
	}
	if loop := check.Loop(others, layers, e.models.List()); loop != "" {
		return false, "", fault.New(fault.Invalid, "%s would raise and return by what it does itself: %s", r.Name, loop).
			Then("set another setting, or look at another").On("responses")
	}
	old := e.rules[r.Name]
	if old != nil && old.Same(r) {
		return false, "", nil
	}
	verb = "added"
	if old != nil {
		verb = "changed"
	}
	return true, verb, nil
}

func invalid(err error) error {
	if f := fault.From(err); f.Code != fault.Internal {
		return f
	}
	return fault.New(fault.Invalid, "%s", err)
}

// RemoveRule takes a rule out of force; its open alarms return.
func (e *Engine) RemoveRule(ctx context.Context, name string, cond noun.If, by string) error {
	e.editing.Lock()
	defer e.editing.Unlock()
	old, err := e.Rule(name)
	if err != nil {
		return err
	}
	if err := cond.Holds("rule", name, record.Tag(old)); err != nil {
		return err
	}
	for _, o := range e.Rules() {
		if o.Name != name && slices.Contains(o.Asks(), name) {
			return fault.New(fault.Conflict, "%s asks whether %s is raised", o.Name, name).
				Then("change or remove %s first", o.Name)
		}
	}
	if e.layers != nil {
		for _, l := range e.layers() {
			if slices.Contains(l.Asks, name) {
				return fault.New(fault.Conflict, "the layer %s asks whether %s is raised", l.Name, name).Then("change or remove the layer first")
			}
		}
	}
	return e.commits.Do(ctx, func(tx *commit.Tx) error {
		tx.Put(commit.Delete{Record: old})
		e.version(tx, old, "removed", by)
		tx.Tell(e.ruleFact(fact.Rule{Verb: "removed", Rule: name}, by))
		tx.After(func() { e.inForce(nil, name) })
		return nil
	})
}

// Rules returns every rule by name.
func (e *Engine) Rules() []rule.Rule {
	e.rulesMu.RLock()
	defer e.rulesMu.RUnlock()
	out := make([]rule.Rule, 0, len(e.rules))
	for _, r := range e.rules {
		out = append(out, *r)
	}
	slices.SortFunc(out, func(a, b rule.Rule) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Names returns the names of the rules in force, sorted.
func (e *Engine) Names() []string {
	e.rulesMu.RLock()
	defer e.rulesMu.RUnlock()
	return e.names()
}

// Rule returns the rule of that name.
func (e *Engine) Rule(name string) (rule.Rule, error) {
	e.rulesMu.RLock()
	defer e.rulesMu.RUnlock()
	if r := e.rules[name]; r != nil {
		return *r, nil
	}
	return rule.Rule{}, NoRule(name)
}

// NoRule is the error about a rule that does not exist.
func NoRule(name string) error {
	return fault.New(fault.NotFound, "there is no rule %q", name).On("rule")
}

// SetRules puts several rules in force that were checked together, see package
// check, in one commit with what with adds.
func (e *Engine) SetRules(ctx context.Context, rs []rule.Rule, by string, with func(*commit.Tx) error) error {
	e.editing.Lock()
	defer e.editing.Unlock()
	for _, r := range rs {
		if builtin(r.Name) {
			return fault.New(fault.Conflict, "%s is built in", r.Name).Then("choose another name")
		}
	}
	return e.commits.Do(ctx, func(tx *commit.Tx) error {
		if err := with(tx); err != nil {
			return err
		}
		for _, r := range rs {
			verb := "added"
			if _, err := e.Rule(r.Name); err == nil {
				verb = "changed"
			}
			tx.Put(r)
			e.version(tx, r, verb, by)
			tx.Tell(e.ruleFact(fact.Rule{Verb: verb, Rule: r.Name, Raise: r.Raise}, by))
		}
		tx.After(func() { e.inForce(rs, "") })
		return nil
	})
}
