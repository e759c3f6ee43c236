package check

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ullage/core/expr"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/rule"
)

// SchemaAmong is the Schema of one model that knows the names of others as absent, for
// targets over a whole fleet.
func SchemaAmong(m *model.Model, others []*model.Model, a Around) *expr.Schema {
	s := a.With(Schema(m))
	for _, o := range others {
		if o.Name != m.Name {
			s.Borrow(a.With(Schema(o)))
		}
	}
	return s
}

// LayerFit is what a layer comes to over some models.
type LayerFit struct {
	// Lacking are, by setting, the models among its target that do not have it.
	Lacking  map[string][]string
	Warnings expr.Findings
}

// FitLayer checks a layer against the models that its target leaves, in every version that
// is in use, and against the rules. What a model does not allow is a mistake where a device
// of that version is, or may come to be, among its target, which scope tells; nil is for all.
func FitLayer(l *layering.Layer, models []*model.Model, scope func(*model.Model) bool, rules []*rule.Rule, a Around) (LayerFit, []model.Finding) {
	fit := LayerFit{Lacking: map[string][]string{}}
	var wrong []model.Finding
	refuse := func(pointer, format string, args ...any) {
		wrong = append(wrong, model.Finding{Pointer: pointer, Sentence: fmt.Sprintf(format, args...)})
	}
	if err := l.Check(); err != nil {
		refuse("", "%s", err)
		return fit, wrong
	}
	newest := map[string]*model.Model{}
	for _, m := range models {
		if old := newest[m.Name]; old == nil || model.CompareVersions(old.Version, m.Version) < 0 {
			newest[m.Name] = m
		}
	}
	one := slices.Collect(maps.Values(newest))
	among := models
	if strings.TrimSpace(l.Target) != "" {
		programs, found := Fleet(l.Target, Schemas(one, a), expr.ForLayer)
		if programs == nil {
			for _, f := range found.Errors() {
				refuse("/target", "%s", f.Error())
			}
			return fit, wrong
		}
		for _, f := range found {
			if f.Warning {
				fit.Warnings = append(fit.Warnings, f)
			}
		}
		tree, _ := expr.Parse(l.Target)
		if only, narrowed := tree.Only(deviceModel); narrowed {
			among = nil
			for _, m := range models {
				if slices.Contains(only, m.Name) {
					among = append(among, m)
				}
			}
		}
	}
	tree, _ := expr.Parse(l.Target)
	for _, name := range tree.Must("raised") { // it is raised on devices of its models alone
		if i := slices.IndexFunc(rules, func(r *rule.Rule) bool { return r.Name == name }); i >= 0 {
			among = slices.DeleteFunc(slices.Clone(among), func(m *model.Model) bool { return !rules[i].Names(m.Name) })
		}
	}
	for _, name := range l.Asks() {
		i := slices.IndexFunc(rules, func(r *rule.Rule) bool { return r.Name == name })
		if i >= 0 && rules[i].OffDelay == 0 {
			refuse("/target", "%s has no off-delay, so that what this layer gives could come and go with every reading; give the rule one, like off_delay: 5min", name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(l.Set)) {
		at := "/set/" + name
		has := 0
		said := map[string]bool{}
		for _, m := range among {
			p, ok := m.Property(name)
			if !ok || p.Role != model.Setting {
				if newest[m.Name] == m && (scope == nil || scope(m)) {
					fit.Lacking[name] = append(fit.Lacking[name], m.Name)
				}
				continue
			}
			has++
			if l.Set[name] == nil {
				continue
			}
			if scope != nil && !scope(m) {
				continue
			}
			_, found := m.Fields(map[string]any{name: l.Set[name]}, model.Setting)
			for _, f := range found {
				if text := fmt.Sprintf("%s: %s", m, f.Sentence); !said[text] {
					said[text] = true
					refuse(at, "%s", text)
				}
			}
		}
		if has > 0 {
			continue
		}
		hint := ""
		for _, m := range among {
			if near := m.Nearest(name, model.Setting); near != "" {
				hint = "; did you mean " + near + "?"
			}
		}
		refuse(at, "no model that the target leaves has a setting %s%s", name, hint)
	}
	return fit, wrong
}
