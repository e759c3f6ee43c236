package scoped

import (
	"context"
	"slices"
	"strings"

	"ullage/core/person"
	"ullage/core/rule"
	"ullage/fleet/access"
	"ullage/fleet/fault"
	"ullage/fleet/replays"
)

// Replay replays a rule over the devices that a caller sees and for which a condition is
// true now; that of a group over groups of which they see every device. What is told may be
// nil for a device that the rule is not for.
func (f *Fleet) Replay(ctx context.Context, c access.Caller, where string, a replays.Ask, told func(*replays.One, replays.Progress) error) error {
	if err := f.replayOver(c, where, &a); err != nil {
		return err
	}
	return f.o.Replays.Run(ctx, a, told)
}

// Acts returns the devices, of those that the caller sees, on which each response of a rule
// would act for an alarm on a device or group now.
func (f *Fleet) Acts(c access.Caller, r *rule.Rule, on string) [][]string {
	all := f.o.Alarms.Acts(r, on)
	if !c.MayAll(person.Viewer) {
		for i := range all {
			all[i] = slices.DeleteFunc(slices.Clone(all[i]), func(id string) bool { return !c.Sees(id) })
		}
	}
	return all
}

// Suggest computes suggestions for a rule over the same devices as Replay.
func (f *Fleet) Suggest(ctx context.Context, c access.Caller, where string, a replays.Ask) ([]replays.Suggestion, error) {
	if err := f.replayOver(c, where, &a); err != nil {
		return nil, err
	}
	return f.o.Replays.Suggest(ctx, a)
}

// replayOver narrows a replay to the devices that a caller sees and a condition chooses.
func (f *Fleet) replayOver(c access.Caller, where string, a *replays.Ask) error {
	among, list, err := f.Among(c, where)
	if err != nil {
		return err
	}
	if a.Devices != nil {
		for _, id := range a.Devices {
			if err := f.reach(c, person.Viewer, id); err != nil {
				return err
			}
		}
		if among != nil {
			a.Devices = slices.DeleteFunc(slices.Clone(a.Devices), func(id string) bool { return !among[id] })
		}
	} else {
		a.Devices = list
	}
	if !c.MayAll(person.Viewer) {
		return f.replayable(c, &a.Rule)
	}
	return nil
}

// replayable refuses a rule that would tell of what a caller does not see.
func (f *Fleet) replayable(c access.Caller, r *rule.Rule) error {
	if r.Each != "" {
		return f.everywhere(c, person.Viewer)
	}
	for _, m := range r.Models {
		if _, err := f.Model(c, m); err != nil {
			return err
		}
	}
	for _, name := range r.Asks() {
		if _, err := f.Rule(c, name); err != nil {
			return fault.New(fault.Invalid, "there is no rule %s to ask about", strings.TrimSpace(name)).On("rule")
		}
	}
	return nil
}
