// Package check puts together what models, rules and expressions say: it turns
// a model into the Schema that expressions are checked against, and compiles
// rules for the devices of one model.
package check

import (
	"fmt"
	"slices"
	"strings"

	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/unit"
	"ullage/core/value"
)

var kinds = map[value.Kind]expr.Kind{value.Number: expr.Number, value.Text: expr.Text, value.Bool: expr.Bool}

// Schema returns the names that expressions about devices of m may use: its
// telemetry, settings and attributes, and the facts of every device.
func Schema(m *model.Model) *expr.Schema {
	s := expr.NewSchema(m.String(), m.Interval)
	add := func(p *model.Property, scopes ...string) {
		for _, scope := range scopes {
			i := expr.Info{Name: expr.Name{Scope: scope, Key: p.Name}, Type: expr.Type{Kind: kinds[p.Kind]},
				Title: p.Title, Values: p.Enum, Closed: len(p.Enum) > 0, Decimals: p.Decimals}
			if p.Kind == value.Number {
				u, err := unit.Lookup(p.Unit)
				if err != nil {
					u = unit.One
				}
				i.Type.Unit = u
			}
			if a := p.Accept; a != nil && scope == "" {
				i.Low, i.High = &a.Low, &a.High
			}
			if scope == "set" || scope == "intended" {
				i.Low, i.High = p.Min, p.Max
			}
			if p.Usual != nil && scope == "" {
				middle := p.Usual.Middle()
				i.Usual = &middle
			}
			s.Add(i)
		}
	}
	for _, p := range m.With(model.Telemetry) {
		add(p, "")
		for _, was := range p.Was {
			s.Renamed(was, p.Name)
		}
	}
	for _, p := range m.With(model.Setting) {
		if !p.Secret { // what an expression compares, it tells
			add(p, "set", "intended")
		}
	}
	for _, p := range m.With(model.Attribute) {
		add(p, "attr")
	}
	return s
}

// Around is what expressions may speak of beyond a model: the labels that
// devices have, with the values seen, and the names of the rules.
type Around struct {
	Labels map[string][]string
	Rules  []string
}

// With adds what is around to a Schema.
func (a Around) With(s *expr.Schema) *expr.Schema {
	s.Labelled(a.Labels)
	for _, r := range a.Rules {
		s.Add(expr.Info{Name: expr.Name{Scope: "raised", Key: r}, Type: expr.Type{Kind: expr.Bool}, Decimals: -1})
	}
	return s
}

// Schemas returns a Schema for each model, each of which knows the names of the
// others as absent: an expression over a whole fleet may speak of what only
// some devices have.
func Schemas(models []*model.Model, a Around) map[string]*expr.Schema {
	own := make([]*expr.Schema, len(models))
	for i, m := range models {
		own[i] = a.With(Schema(m))
	}
	out := map[string]*expr.Schema{}
	for i, m := range models {
		s := a.With(Schema(m))
		for j := range models {
			if j != i {
				s.Borrow(own[j])
			}
		}
		out[m.Name] = s
	}
	return out
}

// Fleet compiles an expression for the devices of every model. It fails only
// if it is wrong for all of them; the findings are those of the model that
// comes closest. Of models for which it is wrong there is no Program.
func Fleet(src string, schemas map[string]*expr.Schema,
	purpose expr.Purpose) (map[string]*expr.Program, expr.Findings) {
	if len(schemas) == 0 {
		schemas = map[string]*expr.Schema{"": expr.NewSchema("this fleet", 0)}
	}
	names := make([]string, 0, len(schemas))
	for n := range schemas {
		names = append(names, n)
	}
	slices.Sort(names)
	out := map[string]*expr.Program{}
	var best, warned expr.Findings
	fewest := -1
	for _, name := range names {
		p, found := expr.Compile(src, schemas[name], purpose)
		if p != nil {
			out[name] = p
			if warned == nil || len(found) < len(warned) {
				warned = found
			}
			continue
		}
		// The model that comes closest has the fewest mistakes and, of those, the
		// most that can be mended.
		n := 2 * len(found.Errors()) * maxFindings
		for _, f := range found.Errors() {
			if f.Suggest != "" {
				n--
			}
		}
		if fewest < 0 || n < fewest {
			best, fewest = found, n
		}
	}
	if len(out) == 0 {
		if len(schemas) > 1 {
			for i := range best {
				best[i].Sentence = strings.ReplaceAll(best[i].Sentence, " in "+closest(schemas, best[i].Sentence),
					" in any model")
			}
		}
		return nil, best
	}
	return out, append(warned, differing(src, out)...)
}

func closest(schemas map[string]*expr.Schema, sentence string) string {
	for _, s := range schemas {
		if strings.Contains(sentence, " in "+s.Title) {
			return s.Title
		}
	}
	return "\x00"
}

// differing warns where a bare number stands beside a name that has different
// units in different models, so that it means different things.
func differing(src string, programs map[string]*expr.Program) expr.Findings {
	symbols := map[expr.Name]map[string]string{} // to a model that has it
	for name, p := range programs {
		for _, n := range p.Bare {
			slot, ok := p.Plan().Slot(n)
			if !ok || p.Plan().Names()[slot].Absent {
				continue
			}
			if symbols[n] == nil {
				symbols[n] = map[string]string{}
			}
			symbols[n][p.Plan().Names()[slot].Type.Unit.Symbol] = name
		}
	}
	tree, _ := expr.Parse(src)
	var out expr.Findings
	tree.Names(func(n expr.Name, span expr.Span) {
		if len(symbols[n]) < 2 {
			return
		}
		var parts []string
		for symbol, name := range symbols[n] {
			parts = append(parts, unit.Display(symbol)+" in "+name)
		}
		slices.Sort(parts)
		delete(symbols, n)
		out = append(out, expr.Finding{Span: span, Column: span.Start + 1, Line: 1, Warning: true,
			Sentence: fmt.Sprintf("%s is in %s; give the number its unit, or it means different things", n,
				strings.Join(parts, " and in "))})
	})
	return out
}

const maxFindings = 100

// Group returns the Schema of devices of several models together, for a rule
// with each. What has another type or unit in another model cannot be spoken of
// there: its name and the models are in the error only if mentions says so.
func Group(models []*model.Model, a Around, mentions func(expr.Name) bool) (*expr.Schema, error) {
	titles := make([]string, len(models))
	s := expr.NewSchema("", 0)
	for i, m := range models {
		titles[i] = m.Name
		s.Interval = max(s.Interval, m.Interval)
		for _, info := range Schema(m).All() {
			old, known := s.Find(info.Name)
			if known && info.Name.Scope != "label" && mentions(info.Name) &&
				(old.Type.Kind != info.Type.Kind || info.Type.Kind == expr.Number &&
					!old.Type.Unit.Same(info.Type.Unit)) {
				return nil,
					fmt.Errorf("%s is %s in %s and %s in another of its models; a rule with each needs one unit",
						info.Name, info.Type, m.Name, old.Type)
			}
			if !known {
				s.Add(info)
			}
		}
	}
	s.Title = strings.Join(titles, ", ")
	return a.With(s), nil
}

// GroupRule compiles a rule with each for the models that it names.
func GroupRule(r *rule.Rule, models []*model.Model, a Around) (*expr.Plan, *rule.Compiled, error) {
	s, err := Group(models, a, r.Mentions)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", r.Name, err)
	}
	plan := expr.NewPlan(s)
	c, err := r.For(plan)
	return plan, c, err
}

// Rules compiles rules for the devices of one model, windows shared. A rule
// that is wrong for the model is left out and reported.
func Rules(rules []*rule.Rule, s *expr.Schema) (*expr.Plan, []*rule.Compiled, map[string]error) {
	plan := expr.NewPlan(s)
	var out []*rule.Compiled
	wrong := map[string]error{}
	for _, r := range rules {
		c, err := r.For(plan)
		if err != nil {
			wrong[r.Name] = err
			continue
		}
		out = append(out, c)
	}
	return plan, out, wrong
}

// Cycle returns the rules, in order, that ask about each other in a circle
// through raised(…); nil if there are none.
func Cycle(rules []*rule.Rule) []string {
	asks := map[string][]string{}
	for _, r := range rules {
		asks[r.Name] = r.Asks()
	}
	state := map[string]int{} // 1 on the way, 2 done
	var path, found []string
	var visit func(name string) bool
	visit = func(name string) bool {
		switch state[name] {
		case 1:
			found = append(slices.Clone(path[slices.Index(path, name):]), name)
			return true
		case 2:
			return false
		}
		state[name] = 1
		path = append(path, name)
		for _, next := range asks[name] {
			if visit(next) {
				return true
			}
		}
		path = path[:len(path)-1]
		state[name] = 2
		return false
	}
	names := make([]string, 0, len(asks))
	for n := range asks {
		names = append(names, n)
	}
	slices.Sort(names)
	for _, n := range names {
		if visit(n) {
			return found
		}
	}
	return nil
}
