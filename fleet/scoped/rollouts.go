package scoped

import (
	"context"
	"slices"

	"ullage/core/layering"
	"ullage/core/person"
	"ullage/core/waves"
	"ullage/fleet/access"
	"ullage/fleet/rollouts"
)

// Rollouts returns those that concern a device which the caller sees, the newest first.
func (f *Fleet) Rollouts(c access.Caller) []*rollouts.Rollout {
	out := []*rollouts.Rollout{}
	sees := seeing(c)
	for _, x := range f.o.Rollouts.List() {
		if sees == nil || slices.ContainsFunc(slices.Concat(x.Waves...), sees) {
			out = append(out, x)
		}
	}
	return out
}

// Rollout returns one of those, with how far each device is that the caller sees.
func (f *Fleet) Rollout(c access.Caller, id string) (rollouts.Shown, error) {
	sees := seeing(c)
	x, err := f.o.Rollouts.Show(id, sees)
	if err != nil {
		return x, err
	}
	if sees != nil && !(madeBy(c, x.To) && len(x.Devices) == len(slices.Concat(x.Waves...))) {
		if len(x.Devices) == 0 {
			return rollouts.Shown{}, rollouts.Unknown(id)
		}
		// What is computed over all, or names others, is for whoever sees all of them.
		part := *x.Rollout
		part.Waves, part.LeftOut, part.Late, part.Run.Why, part.To.Target, part.Plan.Waves, part.From = nil, nil, nil, "", "", nil, nil
		part.Plan.Gate.Conditions = nil
		x.Rollout, x.Conditions = &part, nil
	}
	return x, nil
}

// PlanRollout works out a rollout, and changes nothing. It needs a viewer of all devices, or
// the author of the layer.
func (f *Fleet) PlanRollout(c access.Caller, x layering.Layer, p waves.Plan) (rollouts.Planned, error) {
	x, err := f.rolled(c, person.Viewer, x, p)
	if err != nil {
		return rollouts.Planned{}, err
	}
	return f.o.Rollouts.Plan(x, p)
}

// StartRollout begins a rollout of a layer that the caller may change.
func (f *Fleet) StartRollout(ctx context.Context, c access.Caller, x layering.Layer, p waves.Plan, tag string) (*rollouts.Rollout, error) {
	x, err := f.rolled(c, person.Engineer, x, p)
	if err != nil {
		return nil, err
	}
	return f.o.Rollouts.Start(ctx, x, p, tag, c.Name)
}

// rolled returns the layer that a rollout would bring, with its author and what they reach.
// What the plan of somebody with some devices names is checked by what they see alone.
func (f *Fleet) rolled(c access.Caller, needs person.Role, x layering.Layer, p waves.Plan) (layering.Layer, error) {
	x, err := f.laid(c, needs, x)
	if err != nil || c.MayAll(needs) {
		return x, err
	}
	if err := f.asks(c, p.Conditions()...); err != nil {
		return x, err
	}
	for _, w := range p.Waves {
		if err := f.asks(c, w.Where); err != nil {
			return x, err
		}
		if w.Where != "" {
			if _, err := f.Expressions(c).Where(w.Where); err != nil {
				return x, err
			}
		}
		for _, id := range w.Devices {
			if err := f.reach(c, person.Engineer, id); err != nil {
				return x, err
			}
		}
	}
	return x, nil
}

// ActOnRollout approves, pauses, resumes or stops a rollout, undoes it or its wave, or leaves a device
// out of it.
func (f *Fleet) ActOnRollout(ctx context.Context, c access.Caller, id, act, device, why string, force bool) (*rollouts.Rollout, []rollouts.Conflict, error) {
	needs := person.Engineer
	if act == "pause" || act == "stop" {
		needs = person.Operator // who is on duty may always stop it
	}
	if err := f.acts(c, needs, id, act, device); err != nil {
		return nil, nil, err
	}
	var x *rollouts.Rollout
	var conflicts []rollouts.Conflict
	var err error
	switch act {
	case "pause":
		x, err = f.o.Rollouts.Pause(ctx, id, why, c.Name)
	case "stop":
		x, err = f.o.Rollouts.Stop(ctx, id, why, c.Name)
	case "approve":
		x, err = f.o.Rollouts.Approve(ctx, id, c.Name)
	case "resume":
		x, err = f.o.Rollouts.Resume(ctx, id, c.Name)
	case "undo":
		x, conflicts, err = f.o.Rollouts.Undo(ctx, id, force, c.Name)
	case "undo-wave":
		x, err = f.o.Rollouts.UndoWave(ctx, id, c.Name)
	default:
		x, err = f.o.Rollouts.LeaveOut(ctx, id, device, c.Name)
	}
	return x, conflicts, err
}

// acts returns an error unless the caller may do something about a rollout: whoever has the
// role for all devices, and the author of its layer while they reach any of its devices. An
// approval is never for the latter.
func (f *Fleet) acts(c access.Caller, needs person.Role, id, act, device string) error {
	x, err := f.o.Rollouts.Get(id)
	if err != nil || act == "approve" || !madeBy(c, x.To) || !c.Role().Does(person.Engineer) {
		return f.everywhere(c, needs)
	}
	if device != "" {
		return f.reach(c, person.Engineer, device)
	}
	return nil
}
