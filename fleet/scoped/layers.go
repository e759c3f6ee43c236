package scoped

import (
	"context"
	"slices"
	"strings"
	"time"

	"ullage/core/expr"
	"ullage/core/health"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/person"
	"ullage/core/rule"
	"ullage/fleet/access"
	"ullage/fleet/expressions"
	"ullage/fleet/fault"
	"ullage/fleet/layers"
	"ullage/fleet/noun"
)

// Layers returns those that concern a device which the caller sees, in their order, the
// lowest first.
func (f *Fleet) Layers(c access.Caller) []layering.Layer {
	out := []layering.Layer{}
	sees := seeing(c)
	var foreign, has map[string]bool
	for _, x := range f.o.Layers.Ordered() {
		if sees != nil && !madeBy(c, x) {
			on, err := f.o.Layers.Touches(x.Name, "site", sees)
			if err != nil || len(on) == 0 {
				continue
			}
			if foreign == nil {
				foreign, has = f.words(c), f.settings(c)
			}
			x = veiledLayer(x, foreign, has)
		}
		out = append(out, x)
	}
	return out
}

// veiledLayer leaves out of a layer of somebody else what names what is not seen: words of its
// target, what it is for, and settings that no model has which is seen.
func veiledLayer(x layering.Layer, foreign, has map[string]bool) layering.Layer {
	x.Target, x.Access = veil(x.Target, foreign), veil(x.Access, foreign)
	x.Author, x.Why = "", ""
	set := map[string]any{}
	for name, v := range x.Set {
		if has[name] {
			set[name] = v
		}
	}
	x.Set = set
	return x
}

// settings are the names of the settings of the models that a caller sees, in every version.
func (f *Fleet) settings(c access.Caller) map[string]bool {
	out := map[string]bool{}
	for _, m := range f.Models(c) {
		for _, v := range f.o.Models.Versions(m.Name) {
			for _, p := range v.Model.Properties {
				if p.Role == model.Setting {
					out[p.Name] = true
				}
			}
		}
	}
	return out
}

// Layer returns one of those.
func (f *Fleet) Layer(c access.Caller, name string) (layering.Layer, error) {
	for _, x := range f.Layers(c) {
		if x.Name == name {
			return x, nil
		}
	}
	return layering.Layer{}, f.o.Layers.Unknown(name)
}

// madeBy reports whether a layer is of the caller, who has some devices.
func madeBy(c access.Caller, x layering.Layer) bool { return x.Author == c.Name && c.Name != "" }

// PutLayer makes a layer, or changes the one of its name. Whoever is engineer for some
// devices makes layers for those: what they reach is and-ed to the target, and follows when
// that changes. The order is of the whole fleet: a new layer stands on top.
func (f *Fleet) PutLayer(ctx context.Context, c access.Caller, x layering.Layer, cond noun.If) (noun.Saved[layering.Layer], error) {
	x, err := f.laid(c, person.Engineer, x)
	if err != nil {
		return noun.Saved[layering.Layer]{}, err
	}
	return f.o.Layers.Put(ctx, x, cond, c.Name)
}

// RemoveLayer takes a layer out.
func (f *Fleet) RemoveLayer(ctx context.Context, c access.Caller, name string, cond noun.If) error {
	if err := f.ownLayer(c, person.Engineer, name); err != nil {
		return err
	}
	return f.o.Layers.Remove(ctx, name, cond, c.Name)
}

// laid returns a layer that somebody with a role would make, with its author and what they
// reach: those of the layer that is there, or the caller's own if they are engineer for some
// devices. Whoever sees everything may ask what another layer would do.
func (f *Fleet) laid(c access.Caller, needs person.Role, x layering.Layer) (layering.Layer, error) {
	was, _ := f.o.Layers.Find(x.Name)
	if x = x.For(was); c.MayAll(person.Engineer) {
		return x, nil
	}
	if f.ownLayer(c, person.Engineer, x.Name) != nil {
		return x, f.ownLayer(c, needs, x.Name)
	}
	x.Author = c.Name
	x.Access, _ = c.Access(person.Engineer)
	return x, f.knows(c, x)
}

// ownLayer returns an error unless a layer is the caller's, or may become so; whoever has the
// role for all devices has all layers. As of rules, names of theirs begin with their own.
func (f *Fleet) ownLayer(c access.Caller, needs person.Role, name string) error {
	if c.MayAll(needs) {
		return nil
	}
	if !c.Role().Does(person.Engineer) {
		return f.everywhere(c, needs)
	}
	prefix := ownPrefix(c.Name, "-")
	if was, there := f.o.Layers.Find(name); there && madeBy(c, was) || strings.HasPrefix(name, prefix) {
		return nil
	}
	return fault.New(fault.NotAllowed, "%s is engineer for some devices, and makes layers whose names begin with %s", c.Name, prefix).
		Then("call it %s%s, or ask somebody who is engineer for all devices", prefix, strings.TrimPrefix(name, prefix)).On("layer")
}

// knows checks the target of a layer by what its author sees alone, so that no mistake is
// answered with what they do not.
func (f *Fleet) knows(c access.Caller, x layering.Layer) error {
	if err := x.Check(); err != nil {
		return fault.New(fault.Invalid, "%s", err).On("layer")
	}
	if err := f.asks(c, x.Target); err != nil || strings.TrimSpace(x.Target) == "" {
		return err
	}
	report, err := f.Expressions(c).Check(x.Target, "", expr.ForLayer)
	if err == nil && report.Canonical == "" {
		err = expressions.Wrong("target", report.Findings)
	}
	return err
}

// asks returns an error where a condition asks for a rule that the caller does not see.
func (f *Fleet) asks(c access.Caller, conditions ...string) error {
	for _, src := range conditions {
		for _, m := range asked.FindAllStringSubmatch(src, -1) {
			if !slices.ContainsFunc(f.Rules(c), func(r rule.Rule) bool { return r.Name == m[1] }) {
				return fault.New(fault.Invalid, "there is no rule %s to ask about", m[1])
			}
		}
	}
	return nil
}

// LayerVersions returns the versions of a layer, the newest first.
func (f *Fleet) LayerVersions(ctx context.Context, c access.Caller, name string) ([]layers.Version, error) {
	if !c.MayAll(person.Viewer) {
		x, err := f.Layer(c, name)
		if err != nil {
			return nil, err
		}
		if !madeBy(c, x) {
			return nil, f.everywhere(c, person.Viewer) // earlier versions may name what is not seen
		}
	}
	return f.o.Layers.Versions(ctx, name)
}

// PreviewLayers works out what a change would do to the devices that the caller sees.
func (f *Fleet) PreviewLayers(c access.Caller, p layers.Proposal) (layers.Preview, error) {
	if err := f.proposes(c, person.Viewer, &p); err != nil {
		return layers.Preview{}, err
	}
	for _, id := range p.Devices {
		if err := f.reach(c, person.Viewer, id); err != nil {
			return layers.Preview{}, err
		}
	}
	return f.o.Layers.Preview(p, seeing(c))
}

// proposes returns an error unless the caller may propose a change of layers, and says of a
// layer in it whose it would be.
func (f *Fleet) proposes(c access.Caller, needs person.Role, p *layers.Proposal) error {
	if p.Order != nil {
		if err := f.everywhere(c, needs); err != nil {
			return err
		}
	}
	if p.Remove != "" {
		if err := f.ownLayer(c, needs, p.Remove); err != nil {
			return err
		}
	}
	if p.Layer != nil {
		x, err := f.laid(c, needs, *p.Layer)
		if err != nil {
			return err
		}
		p.Layer = &x
	}
	return nil
}

// ApplyLayers makes a change of layers so.
func (f *Fleet) ApplyLayers(ctx context.Context, c access.Caller, p layers.Proposal, tag string, atOnce bool) error {
	if err := f.proposes(c, person.Engineer, &p); err != nil {
		return err
	}
	if p.Layer == nil && p.Remove == "" {
		if err := f.everywhere(c, person.Engineer); err != nil {
			return err
		}
	}
	p.Devices, p.Labels, p.Version = nil, nil, ""
	return f.o.Layers.Apply(ctx, p, tag, atOnce, c.Name)
}

// WavesAbove is from how many devices on a change of layers goes out in waves; 0 for never.
func (f *Fleet) WavesAbove() int { return f.o.Layers.WavesAbove() }

// ExplainSetting says everything that could give a setting of a device, and what wins.
func (f *Fleet) ExplainSetting(c access.Caller, id, setting string) ([]layers.Step, *model.Property, error) {
	if err := f.reach(c, person.Viewer, id); err != nil {
		return nil, nil, err
	}
	steps, p, err := f.o.Layers.Explain(id, setting)
	if err == nil && !c.MayAll(person.Viewer) {
		steps = slices.Clone(steps)
		foreign := f.words(c)
		for i, step := range steps {
			x, _ := f.o.Layers.Find(step.Name)
			if step.Source != layering.FromLayer || !madeBy(c, x) {
				steps[i].Target, steps[i].Access = veil(step.Target, foreign), veil(step.Access, foreign)
			}
		}
	}
	return steps, p, err
}

// LayerStatus counts how far the devices are that a layer chooses, of those that the caller
// sees; of the whole fleet where the name is empty.
func (f *Fleet) LayerStatus(c access.Caller, name string) (layers.Status, error) {
	if name != "" {
		if _, err := f.Layer(c, name); err != nil {
			return layers.Status{}, err
		}
	}
	return f.o.Layers.Status(name, func(id string) (live, offline bool) {
		d, ok := f.o.Present.Get(id)
		if !ok {
			return false, true
		}
		return d.Link == health.Online, d.Link == health.Silent || d.Link == health.Never
	}, seeing(c))
}

// LayerOverTime tells how devices came to have what a layer, or everything, gives them.
func (f *Fleet) LayerOverTime(ctx context.Context, c access.Caller, name string, span time.Duration) (int, []layers.Moment, error) {
	if name != "" {
		if _, err := f.Layer(c, name); err != nil {
			return 0, nil, err
		}
	}
	return f.o.Layers.OverTime(ctx, name, span, seeing(c))
}

// Forbids tells what devices that the caller sees would lose with the newest version of their
// model.
func (f *Fleet) Forbids(c access.Caller) []layers.Forbidden { return f.o.Layers.Forbids(seeing(c)) }

// LayerTouches counts the devices of each site that a layer chooses.
func (f *Fleet) LayerTouches(c access.Caller, name string) map[string]int {
	out, err := f.o.Layers.Touches(name, "site", seeing(c))
	if err != nil {
		return nil
	}
	return out
}

// Deriving returns for how many devices the intended settings are being worked out again.
func (f *Fleet) Deriving() int { return f.o.Settings.Pending() }

// OffLine reports whether nothing is heard of a device that the caller sees.
func (f *Fleet) OffLine(id string) bool {
	d, ok := f.o.Present.Get(id)
	return !ok || d.Link == health.Silent || d.Link == health.Never
}
