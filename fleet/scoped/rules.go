package scoped

import (
	"context"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"ullage/core/expr"
	"ullage/core/person"
	"ullage/core/rule"
	"ullage/fleet/access"
	"ullage/fleet/alarms"
	"ullage/fleet/expressions"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// PutRule puts a rule in force. Whoever is engineer for some devices makes rules for
// those: what they reach is and-ed to its selector, and follows when that changes.
func (f *Fleet) PutRule(ctx context.Context, c access.Caller, r rule.Rule, cond noun.If) (noun.Saved[rule.Rule], error) {
	was, err := f.o.Alarms.Rule(r.Name)
	r.Author, r.Access = was.Author, was.Access
	if !c.MayAll(person.Engineer) {
		if err := f.ownRule(c, r.Name, err == nil && was.Author == c.Name); err != nil {
			return noun.Saved[rule.Rule]{}, err
		}
		if err := f.fits(c, &r); err != nil {
			return noun.Saved[rule.Rule]{}, err
		}
		r.Author = c.Name
		r.Access, _ = c.Access(person.Engineer)
	}
	return f.o.Alarms.PutRule(ctx, r, cond, c.Name)
}

// RuleVersions returns the versions of a rule that the caller sees, the newest first.
func (f *Fleet) RuleVersions(ctx context.Context, c access.Caller, name string) ([]alarms.RuleVersion, error) {
	if !c.MayAll(person.Viewer) {
		r, err := f.Rule(c, name)
		if err != nil {
			return nil, err
		}
		if r.Author != c.Name { // what others have written may name what is not seen
			return nil, f.everywhere(c, person.Viewer)
		}
	}
	return f.o.Alarms.RuleVersions(ctx, name)
}

// ownRule returns an error unless a rule is the caller's, or may become so. Names of
// theirs begin with their own, so that none of another's is in the way.
func (f *Fleet) ownRule(c access.Caller, name string, theirs bool) error {
	if !c.Role().Does(person.Engineer) {
		return f.everywhere(c, person.Engineer)
	}
	prefix := ownPrefix(c.Name, "_")
	if theirs || strings.HasPrefix(name, prefix) {
		return nil
	}
	return fault.New(fault.NotAllowed, "%s is engineer for some devices, and makes rules whose names begin with %s", c.Name, prefix).
		Then("call it %s%s, or ask somebody who is engineer for all devices", prefix, strings.TrimPrefix(name, prefix)).On("rule")
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// ownPrefix is what the names of what somebody with some devices makes begin with.
func ownPrefix(name, mark string) string { return notInNames.ReplaceAllString(name, mark) + mark }

var asked = regexp.MustCompile(`raised\s*\(\s*([a-z0-9_]+)`)

// fits checks a rule by what its author sees alone, so that no mistake is answered with
// what they do not.
func (f *Fleet) fits(c access.Caller, r *rule.Rule) error {
	if err := r.Check(); err != nil {
		return fault.New(fault.Invalid, "%s", err)
	}
	for _, m := range r.Models {
		if _, err := f.Model(c, m); err != nil {
			return err
		}
	}
	if len(r.Suppresses) > 0 {
		return fault.New(fault.NotAllowed, "a rule that suppresses the alarms of others needs an engineer for all devices").Then("leave suppresses out").On("rule")
	}
	if err := f.asks(c, r.Devices, r.Raise, r.Clear, r.Suppress, r.Message); err != nil {
		return err
	}
	for i := range r.Responses {
		src, _ := r.Responses[i].Bound(nil)
		if src == "" {
			continue
		}
		report, err := f.Expressions(c).Check(src, "", expr.ForTarget)
		if err != nil {
			return err
		}
		if report.Canonical == "" {
			return expressions.Wrong("responses", report.Findings)
		}
	}
	purpose := expr.ForRule
	if r.Each != "" {
		purpose = expr.ForGroup
	}
	for _, part := range []struct {
		name, src string
		purpose   expr.Purpose
	}{{"devices", r.Devices, expr.ForTarget}, {"raise", r.Raise, purpose}, {"clear", r.Clear, purpose}, {"suppress", r.Suppress, purpose}} {
		if part.src == "" {
			continue
		}
		report, err := f.Expressions(c).Check(part.src, r.Models[0], part.purpose)
		if err != nil {
			return err
		}
		if report.Canonical == "" {
			return expressions.Wrong(part.name, report.Findings)
		}
	}
	return nil
}

// RemoveRule takes a rule out.
func (f *Fleet) RemoveRule(ctx context.Context, c access.Caller, name string, cond noun.If) error {
	if !c.MayAll(person.Engineer) {
		was, err := f.o.Alarms.Rule(name)
		if err := f.ownRule(c, name, err == nil && was.Author == c.Name); err != nil {
			return err
		}
		for _, o := range f.o.Alarms.Rules() {
			if o.Author != c.Name && slices.Contains(o.Asks(), name) {
				return fault.New(fault.Conflict, "a rule of somebody else asks whether %s is raised", name).
					Then("ask somebody who is engineer for all devices").On("rule")
			}
		}
	}
	return f.o.Alarms.RemoveRule(ctx, name, cond, c.Name)
}

// Regranted lets the rules, layers and join keys of somebody follow what they reach now. Those of whoever
// was taken away stay as they are, and are anybody's who is engineer for all devices.
func (f *Fleet) Regranted(ctx context.Context, name string) error {
	c := f.o.Access.Caller(name, "")
	if c.Role() == "" {
		return nil
	}
	source, all := c.Access(person.Engineer)
	for _, r := range f.o.Alarms.Rules() {
		if r.Author != name || r.Access == source {
			continue
		}
		if r.Access = source; all {
			r.Author = ""
		}
		if _, err := f.o.Alarms.PutRule(ctx, r, noun.If{}, ""); err != nil {
			return err
		}
	}
	if err := f.o.Layers.Regranted(ctx, name, source); err != nil {
		return err
	}
	return f.o.Joining.Regranted(ctx, name, source)
}

// AtOnce is on which devices a rule would be raised if it were put in force now.
type AtOnce struct {
	Of      int      // devices that it is for and that the caller sees
	Asked   int      // those that were looked at: not all, where they are many and it looks back
	Devices []string // by id; without those on which the rule is raised already
}

// Many reports whether that is on more than a fifth of those that were looked at, which is
// rarely what somebody wants to wake people with.
func (a AtOnce) Many() bool { return 5*len(a.Devices) > a.Asked }

// mostLookedBack is on how many devices a condition that looks back is worked out for this, and
// lookFor for how long: somebody waits for the answer.
const (
	mostLookedBack = 300
	lookFor        = 2 * time.Second
)

// AtOnce works out on which devices a rule would be raised at once, whatever its delay. A rule
// of a group, or one that is off, is raised on none of them.
func (f *Fleet) AtOnce(ctx context.Context, c access.Caller, r rule.Rule) (AtOnce, error) {
	if r.Disabled || r.Each != "" || len(r.Models) == 0 {
		return AtOnce{}, nil
	}
	if !c.MayAll(person.Engineer) {
		if err := f.fits(c, &r); err != nil {
			return AtOnce{}, err
		}
	}
	among := func(where string) ([]string, error) {
		_, ids, err := f.Among(c, where)
		return ids, err
	}
	models := make([]string, len(r.Models))
	for i, m := range r.Models {
		models[i] = "device.model == " + strconv.Quote(m)
	}
	scope := "(" + strings.Join(models, " or ") + ")"
	for _, more := range []string{r.Devices, r.Access} {
		if strings.TrimSpace(more) != "" {
			scope += " and (" + more + ")"
		}
	}
	all, err := among(scope)
	if err != nil {
		return AtOnce{}, err
	}
	out := AtOnce{Of: len(all), Asked: len(all)}
	if out.Devices, err = among(scope + " and (" + r.Raise + ")"); err != nil {
		// A filter cannot look back, so each is worked out by itself, evenly chosen.
		if step := len(all)/mostLookedBack + 1; step > 1 {
			var some []string
			for i := 0; i < len(all); i += step {
				some = append(some, all[i])
			}
			all = some
		}
		out.Asked, out.Devices = 0, nil
		for begun := time.Now(); out.Asked < len(all) && time.Since(begun) < lookFor; out.Asked++ {
			id := all[out.Asked]
			x, err := f.Expressions(c).Explain(ctx, r.Raise, id, time.Time{}, nil)
			if err != nil {
				return AtOnce{}, err
			}
			if x.Part.Truth == "true" {
				out.Devices = append(out.Devices, id)
			}
		}
	}
	if was, err := f.Rule(c, r.Name); err == nil && !was.Disabled {
		raised, err := f.Expressions(c).Where("raised(" + r.Name + ")")
		if err != nil {
			return AtOnce{}, err
		}
		out.Devices = slices.DeleteFunc(out.Devices, func(id string) bool { return raised[id] })
	}
	return out, nil
}
