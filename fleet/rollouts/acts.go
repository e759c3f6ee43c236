package rollouts

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ullage/core/layering"
	"ullage/core/value"
	"ullage/core/waves"
	"ullage/fleet/commit"
	"ullage/fleet/fault"
)

// act has somebody do something about a rollout.
func (r *Rollouts) act(ctx context.Context, id, by string, do func(tx *commit.Tx, x *Rollout, now time.Time) (says string, err error)) (*Rollout, error) {
	var out *Rollout
	err := r.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		was, ok := r.all.In(tx, id)
		if !ok {
			return Unknown(id)
		}
		next := *was
		says, err := do(tx, &next, r.o.Now())
		if err != nil {
			return err
		}
		r.put(tx, &next)
		r.tell(tx, &next, says, by)
		out = &next
		return nil
	})
	if err == nil {
		r.mu.Lock()
		delete(r.gates, id)
		r.mu.Unlock()
	}
	return out, err
}

func cannot(x *Rollout, verb string) error {
	return fault.New(fault.Conflict, "the rollout is %s, so it cannot be %s", x.Run.State, verb).On("rollout")
}

// Pause lets a rollout rest: nothing is offered and no gate is passed until it is resumed.
func (r *Rollouts) Pause(ctx context.Context, id, why, by string) (*Rollout, error) {
	return r.act(ctx, id, by, func(_ *commit.Tx, x *Rollout, now time.Time) (string, error) {
		if err := reason(why); err != nil {
			return "", err
		}
		if !x.Run.Pause(now, why) {
			return "", cannot(x, "paused")
		}
		return "was paused" + because(why), nil
	})
}

// Approve lets a rollout begin that waits for the approval of somebody else than who started
// it.
func (r *Rollouts) Approve(ctx context.Context, id, by string) (*Rollout, error) {
	return r.act(ctx, id, by, func(_ *commit.Tx, x *Rollout, now time.Time) (string, error) {
		switch {
		case !x.Asks() || !x.Run.State.Open():
			return "", fault.New(fault.Conflict, "the rollout waits for no approval").On("rollout")
		case by == x.By:
			return "", fault.New(fault.NotAllowed, "%s has started this rollout, so somebody else approves it", by).
				Then("ask another engineer").On("rollout")
		}
		x.Approved, x.ApprovedAt = by, now
		return "was approved", nil
	})
}

// Stop stops a rollout as a gate that breaks would: devices that have it keep it.
func (r *Rollouts) Stop(ctx context.Context, id, why, by string) (*Rollout, error) {
	return r.act(ctx, id, by, func(_ *commit.Tx, x *Rollout, now time.Time) (string, error) {
		if err := reason(why); err != nil {
			return "", err
		}
		if !x.Run.Stop(now, why) {
			return "", cannot(x, "stopped")
		}
		return "was stopped" + because(why), nil
	})
}

// reason checks what somebody says why.
func reason(why string) error {
	if wrong := value.Written(why, 400); wrong != "" {
		return fault.New(fault.Invalid, "the reason %s", wrong)
	}
	return nil
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return ": " + why
}

// Resume goes on with a rollout that was paused, or that stopped.
func (r *Rollouts) Resume(ctx context.Context, id, by string) (*Rollout, error) {
	return r.act(ctx, id, by, func(_ *commit.Tx, x *Rollout, now time.Time) (string, error) {
		if !x.Run.Resume(now) {
			return "", cannot(x, "resumed")
		}
		return "goes on", nil
	})
}

// LeaveOut takes a device out of a rollout: it has what it had, until the layer is changed
// again.
func (r *Rollouts) LeaveOut(ctx context.Context, id, device, by string) (*Rollout, error) {
	return r.act(ctx, id, by, func(tx *commit.Tx, x *Rollout, _ time.Time) (string, error) {
		switch {
		case !x.Run.State.Open():
			return "", cannot(x, "changed")
		case !slices.Contains(slices.Concat(x.Waves...), device):
			return "", fault.New(fault.NotFound, "%s is in none of its waves", value.Clip(device, 63)).On("device")
		case slices.Contains(x.LeftOut, device):
			return "", fault.New(fault.Conflict, "%s is left out already", device).On("device")
		}
		x.LeftOut = append(slices.Clone(x.LeftOut), device)
		r.takeBack(tx, x, []string{device})
		return "leaves out " + device, nil
	})
}

// UndoWave gives the devices of the present wave what they had, and stops.
func (r *Rollouts) UndoWave(ctx context.Context, id, by string) (*Rollout, error) {
	return r.act(ctx, id, by, func(tx *commit.Tx, x *Rollout, now time.Time) (string, error) {
		if !x.Run.State.Open() || x.Run.State == waves.Waiting {
			return "", cannot(x, "undone")
		}
		if x.Run.State != waves.Stopped {
			x.Run.Stop(now, "")
		}
		x.Run.Out, x.Run.Once = time.Time{}, nil
		r.takeBack(tx, x, r.ofWave(x))
		if x.Run.Passed {
			return "those that came late have what they had", nil
		}
		return fmt.Sprintf("wave %d was undone", x.Run.Wave+1), nil
	})
}

// Conflict is a value that somebody has changed since a rollout brought it.
type Conflict struct {
	Setting        string
	Was, To, Is    any
	WasSet, IsThat bool // whether it was set before, and is now
}

// Undo takes a rollout back. One that is under way gives all devices what they had. One that
// is over becomes a new version of the layer that reverses only its own difference; what
// somebody has changed since is a conflict, which is returned and nothing changed, unless
// force takes it back too.
func (r *Rollouts) Undo(ctx context.Context, id string, force bool, by string) (*Rollout, []Conflict, error) {
	var conflicts []Conflict
	out, err := r.act(ctx, id, by, func(tx *commit.Tx, x *Rollout, now time.Time) (string, error) {
		if x.Run.State == waves.Undone {
			return "", cannot(x, "undone")
		}
		if x.Run.State != waves.Done && !(x.Run.State == waves.CatchingUp && !r.current(tx, x)) {
			x.Run.Undo(now)
			r.back(tx, x, by)
			return "was undone: every device has what it had", nil
		}
		is, ok := r.o.Layers.FindIn(tx, x.Layer)
		if !ok {
			return "", fault.New(fault.Conflict, "the layer %s was removed since, so there is nothing to undo", x.Layer).On("layer")
		}
		var next layering.Layer
		if next, conflicts = Reverse(x.From, x.To, is, force); len(conflicts) > 0 && !force {
			return "", fault.New(fault.Conflict, "%s was changed since, so that undoing would take that back too: %s", x.Layer, said(conflicts)).
				Then("undo it all the same, or change the layer by hand").On("layer")
		}
		x.Run.State = waves.Undone
		if len(next.Set) == 0 {
			return "was undone: the layer is removed", r.o.Layers.StageRemove(tx, x.Layer, by)
		}
		return "was undone by a new version of the layer", r.o.Layers.Stage(tx, []layering.Layer{next}, by)
	})
	return out, conflicts, err
}

func said(cs []Conflict) string {
	var out []string
	for _, c := range cs {
		out = append(out, fmt.Sprintf("%s is %v now", c.Setting, c.Is))
	}
	return strings.Join(out, ", ")
}

// Reverse takes the difference between two versions of a layer out of a third. A value that
// is not as the second left it is a conflict, and stays unless force is true.
func Reverse(from *layering.Layer, to, is layering.Layer, force bool) (layering.Layer, []Conflict) {
	out := is
	out.Set = maps.Clone(is.Set)
	was := layering.Layer{}
	if from != nil {
		was = *from
	}
	var conflicts []Conflict
	names := map[string]bool{}
	for name := range was.Set {
		names[name] = true
	}
	for name := range to.Set {
		names[name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		a, had := was.Set[name]
		b, has := to.Set[name]
		c, now := is.Set[name]
		if had == has && a == b {
			continue
		}
		if now != has || c != b {
			conflicts = append(conflicts, Conflict{name, a, b, c, had, now})
			if !force {
				continue
			}
		}
		if had {
			out.Set[name] = a
		} else {
			delete(out.Set, name)
		}
	}
	if from != nil && was.Target != to.Target {
		if is.Target == to.Target || force {
			out.Target = was.Target
		} else {
			conflicts = append(conflicts, Conflict{Setting: "target", Was: was.Target, To: to.Target, Is: is.Target, WasSet: true, IsThat: true})
		}
	}
	return out, conflicts
}
