package scoped

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/commands"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
)

// CommandPlan is what giving a command to many devices would do.
type CommandPlan struct {
	Devices []string // in the order in which they would get it: first those of which something is heard
	Offline int      // how many of them are off line
	Left    []LeftOut
	// Tag names this list: a command that is given with it is refused where the list is
	// another one by now.
	Tag string
}

// LeftOut are devices that do not get a command, and why.
type LeftOut struct {
	Why     string
	Devices []string
}

// PlanCommand returns who would get a command: of the devices that are named, or else of
// those for which a condition is true now, those that the caller may command and that can
// have it.
func (f *Fleet) PlanCommand(c access.Caller, ids []string, where, name string, input json.RawMessage) (CommandPlan, error) {
	var out CommandPlan
	for _, id := range ids {
		if err := f.reach(c, person.Operator, id); err != nil {
			return out, err
		}
	}
	if ids == nil && strings.TrimSpace(where) == "" {
		return out, fault.New(fault.Invalid, "no device is chosen, so no command was given").Then("choose devices by their ids or by a condition")
	}
	if where != "" {
		among, all, err := f.Among(c, where)
		if err != nil {
			return out, err
		}
		if ids == nil {
			ids = all
		}
		ids = slices.DeleteFunc(slices.Clone(ids), func(id string) bool { return !among[id] || !c.May(person.Operator, id) })
	}
	if len(ids) == 0 {
		return out, fault.New(fault.Invalid, "the condition is true for no device that %s may command, so no command was given", c.Name).Then("see which there are with the same condition in the list of devices")
	}
	type kind struct {
		model, version string
		status         devices.Status
	}
	left := map[string]*LeftOut{}
	judged := map[kind]error{} // what fits one device fits all of its kind
	var reachable, offline []string
	var first error
	for _, id := range slices.Compact(slices.Sorted(slices.Values(ids))) {
		d, err := f.o.Devices.Get(id)
		if err != nil {
			return out, err
		}
		k := kind{d.Model, d.Version, d.Status}
		err, known := judged[k]
		if !known {
			_, err = f.o.Commands.Fits(id, name, input)
			judged[k] = err
		}
		switch {
		case err != nil:
			if first == nil {
				first = err
			}
			why := err.Error()
			if d.Status == devices.Suspended || d.Status == devices.Retired {
				why = "it is " + string(d.Status)
			}
			if left[why] == nil {
				left[why] = &LeftOut{Why: why}
			}
			left[why].Devices = append(left[why].Devices, id)
		case f.OffLine(id):
			offline = append(offline, id)
		default:
			reachable = append(reachable, id)
		}
	}
	out.Devices, out.Offline = append(reachable, offline...), len(offline)
	if len(out.Devices) == 0 {
		return out, first
	}
	for _, x := range left {
		out.Left = append(out.Left, *x)
	}
	slices.SortFunc(out.Left, func(a, b LeftOut) int {
		return cmp.Or(len(b.Devices)-len(a.Devices), strings.Compare(a.Why, b.Why))
	})
	// Who is off line changes by the minute, and is not what was agreed to.
	sum := sha256.New()
	fmt.Fprintf(sum, "%s\x00%s\x00%s", name, input, strings.Join(slices.Sorted(slices.Values(out.Devices)), "\x00"))
	out.Tag = hex.EncodeToString(sum.Sum(nil))[:16]
	return out, nil
}

// GiveMany gives a command to many devices, so many at a time (0 for all). A tag that is
// not empty names the list that it was agreed to.
func (f *Fleet) GiveMany(ctx context.Context, c access.Caller, ids []string, where, name string, input json.RawMessage,
	e commands.Expiry, atOnce int, tag string) (*commands.Job, error) {
	p, err := f.PlanCommand(c, ids, where, name, input)
	if err != nil {
		return nil, err
	}
	if tag != "" && tag != p.Tag {
		return nil, fault.New(fault.Unmet, "the devices are others by now: it would be %d, %d of them off line", len(p.Devices), p.Offline).
			Then("look at the list again").On("command")
	}
	return f.o.Commands.GiveMany(ctx, commands.Job{Devices: p.Devices, Name: name, Input: input, Expiry: e, AtOnce: atOnce,
		By: c.Name, Whole: c.MayAll(person.Operator)})
}

// theirs reports whether a command for many devices is the caller's own, or theirs to see.
func theirs(c access.Caller, j *commands.Job, needs person.Role) bool {
	return c.MayAll(needs) || j.By == c.Name
}

// CommandJobs returns the latest commands for many devices, the newest first.
func (f *Fleet) CommandJobs(c access.Caller) []*commands.Job {
	return slices.DeleteFunc(f.o.Commands.Jobs(), func(j *commands.Job) bool { return !theirs(c, j, person.Viewer) })
}

// CommandJob returns one of them.
func (f *Fleet) CommandJob(c access.Caller, id string) (*commands.Job, error) {
	j, err := f.o.Commands.Job(id)
	if err == nil && !theirs(c, j, person.Viewer) {
		return nil, commands.NoJob(id)
	}
	return j, err
}

// CommandCounts returns how many commands of jobs are in each phase.
func (f *Fleet) CommandCounts(ctx context.Context, js []*commands.Job) (map[string]commands.Counts, error) {
	ids := make([]string, len(js))
	for i, j := range js {
		ids[i] = j.ID
	}
	return f.o.Commands.Counts(ctx, ids)
}

// WithdrawJob gives up what of a command for many devices was not replied to yet.
func (f *Fleet) WithdrawJob(ctx context.Context, c access.Caller, id string) (*commands.Job, error) {
	j, err := f.CommandJob(c, id)
	if err != nil {
		return nil, err
	}
	if !theirs(c, j, person.Operator) {
		return nil, fault.New(fault.NotAllowed, "%s gave this command and %s may not withdraw it", j.By, c.Name).Then("ask somebody who is operator for all devices").On("command")
	}
	return f.o.Commands.WithdrawJob(ctx, id, c.Name)
}

// AwaitJob waits for the end of a command for many devices, or for the end of ctx.
func (f *Fleet) AwaitJob(ctx context.Context, c access.Caller, id string) (*commands.Job, error) {
	if _, err := f.CommandJob(c, id); err != nil {
		return nil, err
	}
	return f.o.Commands.AwaitJob(ctx, id)
}
