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
	if sees != nil {
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

// PlanRollout works out a rollout, and changes nothing. It needs a viewer of all devices.
func (f *Fleet) PlanRollout(c access.Caller, x layering.Layer, p waves.Plan) (rollouts.Planned, error) {
	if err := f.everywhere(c, person.Viewer); err != nil {
		return rollouts.Planned{}, err
	}
	return f.o.Rollouts.Plan(x, p)
}

// StartRollout begins a rollout. Layers are of the whole fleet: it needs an engineer for all
// devices, and so does whatever is done about it.
func (f *Fleet) StartRollout(ctx context.Context, c access.Caller, x layering.Layer, p waves.Plan, tag string) (*rollouts.Rollout, error) {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return nil, err
	}
	return f.o.Rollouts.Start(ctx, x, p, tag, c.Name)
}

// ActOnRollout approves, pauses, resumes or stops a rollout, undoes it or its wave, or leaves a device
// out of it.
func (f *Fleet) ActOnRollout(ctx context.Context, c access.Caller, id, act, device, why string, force bool) (*rollouts.Rollout, []rollouts.Conflict, error) {
	needs := person.Engineer
	if act == "pause" || act == "stop" {
		needs = person.Operator // who is on duty may always stop it
	}
	if err := f.everywhere(c, needs); err != nil {
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
