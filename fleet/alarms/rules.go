package alarms

import (
	"fmt"
	"slices"
	"strings"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/rule"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/journal"
)

// SetRule puts a rule in force, replacing one of the same name. It is checked
// against every model it names. It reports whether anything changed.
func (e *Engine) SetRule(r rule.Rule, by string) (bool, error) {
	if err := r.Check(); err != nil {
		return false, fault.New(fault.Invalid, "%s", err)
	}
	if r.Name == RepeatedRefusals {
		return false, fault.New(fault.Conflict, "%s is built in", r.Name).Then("choose another name")
	}
	e.rulesMu.Lock()
	defer e.rulesMu.Unlock()
	around := check.Around{Rules: append(e.names(), r.Name)}
	if r.Each != "" {
		if _, err := e.groupRule(&r); err != nil {
			return false, invalid(err)
		}
	}
	for _, name := range r.Models {
		m, err := e.models.Get(name)
		if err != nil {
			return false, err
		}
		if r.Each != "" {
			continue
		}
		if _, err := r.For(expr.NewPlan(around.With(check.Schema(m)))); err != nil {
			return false, fault.New(fault.Invalid, "%s", err)
		}
	}
	others := []*rule.Rule{&r}
	for _, o := range e.rules {
		if o.Name != r.Name {
			others = append(others, o)
		}
	}
	if circle := check.Cycle(others); circle != nil {
		return false, fault.New(fault.Invalid, "%s would ask about itself in a circle: %s", r.Name, strings.Join(circle, " asks "))
	}
	old := e.rules[r.Name]
	if old != nil && old.Same(&r) {
		return false, nil
	}
	verb := "added"
	if old != nil {
		verb = "changed"
	}
	at := e.now()
	if err := e.records.SaveRule(r, journal.New(at, journal.RuleChanged, "", by, fmt.Sprintf("%s %s rule %s: %s", by, verb, r.Name, r.Raise))); err != nil {
		return false, err
	}
	e.rules[r.Name] = &r
	clear(e.sets)
	e.bus.Publish(event.Rules{})
	return true, nil
}

func invalid(err error) error {
	if f := fault.From(err); f.Code != fault.Internal {
		return f
	}
	return fault.New(fault.Invalid, "%s", err)
}

// RemoveRule takes a rule out of force; its open alarms return.
func (e *Engine) RemoveRule(name, by string) error {
	e.rulesMu.Lock()
	defer e.rulesMu.Unlock()
	if e.rules[name] == nil {
		return fault.New(fault.NotFound, "there is no rule %q", name).Then("see: ullage rule list")
	}
	for _, o := range e.sorted() {
		if o.Name != name && slices.Contains(o.Asks(), name) {
			return fault.New(fault.Conflict, "%s asks whether %s is raised", o.Name, name).Then("change or remove %s first", o.Name)
		}
	}
	if err := e.records.DeleteRule(name, journal.New(e.now(), journal.RuleChanged, "", by, fmt.Sprintf("%s removed rule %s", by, name))); err != nil {
		return err
	}
	delete(e.rules, name)
	clear(e.sets)
	e.bus.Publish(event.Rules{})
	return nil
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
	return rule.Rule{}, fault.New(fault.NotFound, "there is no rule %q", name).Then("see: ullage rule list")
}

// SetRules puts several rules in force that were checked together, see package
// check. Save stores them, with what the journal is told; nothing is changed if
// it fails.
func (e *Engine) SetRules(rs []rule.Rule, by string, save func([]journal.Entry) error) error {
	e.rulesMu.Lock()
	defer e.rulesMu.Unlock()
	at := e.now()
	var told []journal.Entry
	for _, r := range rs {
		if r.Name == RepeatedRefusals {
			return fault.New(fault.Conflict, "%s is built in", r.Name).Then("choose another name")
		}
		verb := "added"
		if e.rules[r.Name] != nil {
			verb = "changed"
		}
		told = append(told, journal.New(at, journal.RuleChanged, "", by, fmt.Sprintf("%s %s rule %s: %s", by, verb, r.Name, r.Raise)))
	}
	if err := save(told); err != nil {
		return err
	}
	for _, r := range rs {
		e.rules[r.Name] = &r
	}
	clear(e.sets)
	return nil
}

// Recompile makes devices be watched by the rules and models now in force.
func (e *Engine) Recompile() { e.bus.Publish(event.Rules{}) }
