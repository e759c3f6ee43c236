package scoped

import (
	"context"
	"slices"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/bulk"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/layers"
)

// Chosen devices of a change: those that are named, or else those for which a condition
// is true now, as far as the caller may change them.
func (f *Fleet) changeable(c access.Caller, ids []string, where string) ([]string, error) {
	for _, id := range ids {
		if err := f.reach(c, person.Engineer, id); err != nil {
			return nil, err
		}
	}
	if where == "" {
		return ids, nil
	}
	among, all, err := f.Among(c, where)
	if err != nil {
		return nil, err
	}
	if ids == nil {
		ids = all
	}
	return slices.DeleteFunc(slices.Clone(ids), func(id string) bool {
		d, err := f.o.Devices.Get(id)
		return !among[id] || !c.May(person.Engineer, id) || err != nil || d.Status == devices.Retired
	}), nil
}

// Plan returns the devices that a change would make other than they are. Whoever makes
// it has them before and after.
func (f *Fleet) PlanChange(c access.Caller, ids []string, where string, ch bulk.Change) ([]string, error) {
	if err := ch.Check(); err != nil {
		return nil, err
	}
	ids, err := f.changeable(c, ids, where)
	if err != nil {
		return nil, err
	}
	out := []string{}
	for _, id := range ids {
		d, err := f.o.Devices.Get(id)
		if err != nil {
			return nil, err
		}
		next, _, other := ch.Of(d)
		if !other {
			continue
		}
		if !c.Keeps(person.Engineer, next) {
			return nil, fault.New(fault.NotAllowed, "with these labels %s would not be within what %s may change any more", id, c.Name).
				Then("ask somebody who is engineer for all devices").On("label")
		}
		out = append(out, id)
	}
	return out, nil
}

// BeginChange decides a change of some devices. Labels by which layers give more devices other
// settings than change at once are refused, unless that is said.
func (f *Fleet) BeginChange(ctx context.Context, c access.Caller, ids []string, ch bulk.Change, atOnce bool) (*bulk.Job, error) {
	ids, err := f.PlanChange(c, ids, "", ch)
	if err != nil {
		return nil, err
	}
	if len(ids) == 0 {
		return nil, fault.New(fault.Conflict, "the devices are so already").On("change")
	}
	if len(ch.Labels) > 0 {
		if err := f.o.Layers.AtOnce(atOnce, layers.Proposal{Devices: ids, Labels: ch.Labels}); err != nil {
			return nil, err
		}
	}
	return f.o.Bulk.Begin(ctx, ids, ch, c.Name)
}

// mine reports whether a change is the caller's own, or theirs to see.
func mine(c access.Caller, j *bulk.Job) bool { return j.By == c.Name || c.MayAll(person.Engineer) }

// Changes returns the latest changes of many devices, the newest first.
func (f *Fleet) Changes(c access.Caller) []*bulk.Job {
	return slices.DeleteFunc(f.o.Bulk.List(), func(j *bulk.Job) bool { return !mine(c, j) })
}

// ChangeOf returns one of them.
func (f *Fleet) ChangeOf(c access.Caller, id string) (*bulk.Job, error) {
	j, err := f.o.Bulk.Get(id)
	if err == nil && !mine(c, j) {
		return nil, bulk.Unknown(id)
	}
	return j, err
}

// UndoChange takes a change back. Whoever does it has the devices now.
func (f *Fleet) UndoChange(ctx context.Context, c access.Caller, id string) (*bulk.Job, error) {
	j, err := f.ChangeOf(c, id)
	if err != nil {
		return nil, err
	}
	for _, device := range j.Devices {
		d, err := f.o.Devices.Get(device)
		if err != nil || !c.May(person.Engineer, device) {
			return nil, fault.New(fault.NotAllowed, "the change is of devices that %s may not change any more", c.Name).Then("ask somebody who is engineer for all devices")
		}
		was := bulk.Change{Labels: j.Before[device].Labels}
		if next, _, _ := was.Of(d); !c.Keeps(person.Engineer, next) {
			return nil, fault.New(fault.NotAllowed, "undone, %s would not be within what %s may change any more", device, c.Name).Then("ask somebody who is engineer for all devices")
		}
	}
	return f.o.Bulk.Undo(ctx, id, c.Name)
}
