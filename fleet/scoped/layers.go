package scoped

import (
	"context"
	"slices"
	"time"

	"ullage/core/health"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/layers"
	"ullage/fleet/noun"
)

// Layers returns those that concern a device which the caller sees, in their order, the
// lowest first.
func (f *Fleet) Layers(c access.Caller) []layering.Layer {
	out := []layering.Layer{}
	sees := seeing(c)
	for _, x := range f.o.Layers.Ordered() {
		if sees != nil {
			on, err := f.o.Layers.Touches(x.Name, "site", sees)
			if err != nil || len(on) == 0 {
				continue
			}
			x.Target, x.Why = "", "" // they may name what is not seen
		}
		out = append(out, x)
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

// PutLayer makes a layer, or changes the one of its name. Layers are of the whole fleet,
// and so is their order: they need an engineer for all devices.
func (f *Fleet) PutLayer(ctx context.Context, c access.Caller, x layering.Layer, cond noun.If) (noun.Saved[layering.Layer], error) {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return noun.Saved[layering.Layer]{}, err
	}
	return f.o.Layers.Put(ctx, x, cond, c.Name)
}

// RemoveLayer takes a layer out.
func (f *Fleet) RemoveLayer(ctx context.Context, c access.Caller, name string, cond noun.If) error {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return err
	}
	return f.o.Layers.Remove(ctx, name, cond, c.Name)
}

// LayerVersions returns the versions of a layer, the newest first.
func (f *Fleet) LayerVersions(ctx context.Context, c access.Caller, name string) ([]layers.Version, error) {
	if !c.MayAll(person.Viewer) {
		if _, err := f.Layer(c, name); err != nil {
			return nil, err
		}
		return nil, f.everywhere(c, person.Viewer) // earlier versions may name what is not seen
	}
	return f.o.Layers.Versions(ctx, name)
}

// PreviewLayers works out what a change would do to the devices that the caller sees.
func (f *Fleet) PreviewLayers(c access.Caller, p layers.Proposal) (layers.Preview, error) {
	if p.Layer != nil || p.Remove != "" || p.Order != nil {
		if err := f.everywhere(c, person.Viewer); err != nil {
			return layers.Preview{}, err
		}
	}
	for _, id := range p.Devices {
		if err := f.reach(c, person.Viewer, id); err != nil {
			return layers.Preview{}, err
		}
	}
	return f.o.Layers.Preview(p, seeing(c))
}

// ApplyLayers makes a change of layers so.
func (f *Fleet) ApplyLayers(ctx context.Context, c access.Caller, p layers.Proposal, tag string, atOnce bool) error {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return err
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
		for i := range steps {
			steps[i].Target = ""
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
