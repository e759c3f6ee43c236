package check

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ullage/core/expr"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/rule"
)

var deviceModel = expr.Name{Scope: "device", Key: "model"}

// Acted returns the models on whose devices a response may act, as far as its rule says so:
// the rule's own, or those that its selector leaves.
func Acted(r *rule.Rule, x *rule.Response, models []*model.Model) []*model.Model {
	only := r.Models
	if x.Devices != "" {
		tree, _ := expr.Parse(x.Devices)
		said, narrowed := tree.Only(deviceModel)
		if only = said; !narrowed {
			return models
		}
	}
	var out []*model.Model
	for _, m := range models {
		if slices.Contains(only, m.Name) {
			out = append(out, m)
		}
	}
	return out
}

// Responses checks what a rule does by itself against all models.
func Responses(r *rule.Rule, models []*model.Model, a Around) error {
	var wrong rule.Errors
	for i := range r.Responses {
		x := &r.Responses[i]
		refuse := func(format string, args ...any) {
			wrong = append(wrong, &rule.Error{Rule: r.Name, Key: "responses", Sentence: fmt.Sprintf("%s, responses: ", r.Name) + fmt.Sprintf(format, args...)})
		}
		if x.Devices != "" {
			src, _ := x.Bound(nil)
			if programs, found := Fleet(src, Schemas(models, a), expr.ForTarget); programs == nil {
				wrong = append(wrong, &rule.Error{Rule: r.Name, Key: "responses", Piece: x.Devices, Findings: found.Errors()})
				continue
			}
		}
		acted := Acted(r, x, models)
		if len(acted) == 0 {
			refuse("there is no model on whose devices it could act")
		}
		input, _ := json.Marshal(x.Input)
		if x.Input == nil {
			input = nil
		}
		var why error
		fits := 0
		for _, m := range acted {
			var found []model.Finding
			var err error
			if x.Command != "" {
				_, found, err = m.Input(x.Command, input)
			} else {
				if _, found = m.Fields(x.Set, model.Setting); len(found) == 0 {
					found = secrets(m, x.Set)
				}
			}
			if len(found) > 0 {
				err = model.Findings(found)
			}
			if err == nil {
				fits++
			} else if why == nil || x.Devices == "" {
				why = fmt.Errorf("it %s, and of %s: %w", x.Does(), m, err)
			}
		}
		if fits == 0 && why != nil || x.Devices == "" && fits < len(acted) {
			refuse("%s", why)
		}
	}
	if len(wrong) == 0 {
		return nil
	}
	return wrong
}

// secrets are those among what is set: who reads the rule would read them.
func secrets(m *model.Model, set map[string]any) (found []model.Finding) {
	for name := range set {
		if p, ok := m.Property(name); ok && p.Secret {
			found = append(found, model.Finding{Pointer: "/" + name, Sentence: name + " is a secret, which no rule sets; give it by a layer"})
		}
	}
	return found
}

// Layer is what a layer says that rules may have to do with.
type Layer struct {
	Name  string
	Asks  []string // rules whose alarms choose its devices
	Gives []string // settings
}

// LayerOf returns what a layer says of that kind.
func LayerOf(l *layering.Layer) Layer {
	return Layer{Name: l.Name, Asks: l.Asks(), Gives: slices.Sorted(maps.Keys(l.Set))}
}

// looks are the settings that a rule looks at to tell whether it is raised.
func looks(r *rule.Rule) map[string]bool {
	out := map[string]bool{}
	for _, src := range []string{r.Devices, r.Raise, r.Clear} {
		tree, _ := expr.Parse(src)
		tree.Names(func(n expr.Name, _ expr.Span) {
			if n.Scope == "set" || n.Scope == "intended" {
				out[n.Key] = true
			}
		})
	}
	return out
}

// Loop looks for rules that would raise and return by what they do themselves: a rule sets a
// setting, or lets a layer give one, at which it looks, by itself or by way of other rules.
// It returns the first such circle as a sentence; empty for none.
func Loop(rules []*rule.Rule, layers []Layer, models []*model.Model) string {
	type edge struct{ to, says string }
	edges := map[string][]edge{}
	link := func(from, to *rule.Rule, says string) {
		edges[from.Name] = append(edges[from.Name], edge{to.Name, says})
	}
	having := func(name string) []string {
		var out []string
		for _, m := range models {
			if p, ok := m.Property(name); ok && p.Role == model.Setting {
				out = append(out, m.Name)
			}
		}
		return out
	}
	looked, asks := map[string]map[string]bool{}, map[string][]string{}
	acting := false
	for _, r := range rules {
		looked[r.Name], asks[r.Name] = looks(r), r.Asks()
		acting = acting || len(r.Responses) > 0
	}
	if !acting && len(layers) == 0 {
		return "" // that rules ask about each other in a circle is another mistake
	}
	overlap := func(a, b []string) bool {
		return slices.ContainsFunc(a, func(x string) bool { return slices.Contains(b, x) })
	}
	for _, from := range rules {
		for _, to := range rules {
			if slices.Contains(asks[to.Name], from.Name) {
				link(from, to, fmt.Sprintf("%s asks whether %s is raised", to.Name, from.Name))
			}
			for i := range from.Responses {
				x := &from.Responses[i]
				for _, name := range slices.Sorted(maps.Keys(x.Set)) {
					var acted []string
					for _, m := range Acted(from, x, models) {
						acted = append(acted, m.Name)
					}
					if looked[to.Name][name] && overlap(acted, to.Models) {
						link(from, to, fmt.Sprintf("%s sets %s, at which %s looks", from.Name, name, to.Name))
					}
				}
			}
			for _, l := range layers {
				if !slices.Contains(l.Asks, from.Name) {
					continue
				}
				for _, name := range l.Gives {
					if looked[to.Name][name] && overlap(having(name), to.Models) {
						link(from, to, fmt.Sprintf("%s brings the layer %s, which gives %s, at which %s looks", from.Name, l.Name, name, to.Name))
					}
				}
			}
		}
	}
	done := map[string]bool{}
	var names, says []string
	var visit func(name string) string
	visit = func(name string) string {
		if i := slices.Index(names, name); i >= 0 {
			return strings.Join(says[i:], ", and ")
		}
		if done[name] {
			return ""
		}
		names = append(names, name)
		for _, e := range edges[name] {
			says = append(says, e.says)
			if circle := visit(e.to); circle != "" {
				return circle
			}
			says = says[:len(says)-1]
		}
		names = names[:len(names)-1]
		done[name] = true
		return ""
	}
	for _, name := range slices.Sorted(maps.Keys(edges)) {
		if circle := visit(name); circle != "" {
			return circle
		}
	}
	return ""
}
