package rollouts

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ullage/core/layering"
	"ullage/core/waves"
	"ullage/fleet/commit"
	"ullage/fleet/event"
	"ullage/fleet/fault"
)

// Handle goes on with every rollout, once a second.
func (r *Rollouts) Handle(shard int, ev event.Event) {
	tick, ok := ev.(event.Tick)
	if !ok || shard != 0 {
		return
	}
	r.mu.Lock()
	due := tick.Now.Sub(r.asked) >= time.Second || tick.Now.Before(r.asked)
	if due {
		r.asked = tick.Now
	}
	r.mu.Unlock()
	if !due {
		return
	}
	for _, x := range r.List() { // a step reads the table itself, which All would have locked
		if s := x.Run.State; (s == waves.Running || s == waves.Waiting || s == waves.CatchingUp) && !x.Asks() {
			r.step(x)
		}
	}
}

// step goes on with a rollout.
func (r *Rollouts) step(x *Rollout) {
	r.mu.Lock()
	busy := r.stepped[x.ID]
	r.mu.Unlock()
	if busy {
		return
	}
	run := x.Run
	run.Once = slices.Clone(run.Once)
	now := r.o.Now()
	var s waves.Step
	members := r.members(x)
	if newer, _ := r.latest.Get(x.Layer); run.State == waves.CatchingUp && (newer != x.ID || !r.current(nil, x)) {
		s.Changed = run.Supersede(now)
	} else {
		var conditions []waves.Condition
		if run.State != waves.Waiting {
			conditions = r.conditions(x, members)
		}
		s = run.Step(&x.Plan, len(x.Waves), x.Soak, now, members, conditions)
	}
	if !s.Changed && len(s.Offer) == 0 {
		return
	}
	late := x.Late
	if run.Passed && !x.Run.Passed {
		for _, m := range members {
			if m.Offered.IsZero() {
				late = append(late, m.ID)
			}
		}
	}
	befores := x.Befores
	if s.Next || len(late) > len(x.Late) {
		next := *x
		next.Run, next.Late = run, late
		befores = r.befores(&next)
	}
	r.mu.Lock()
	r.stepped[x.ID] = true
	r.mu.Unlock()
	r.o.Commits.Go(func(tx *commit.Tx) error {
		is, ok := r.all.In(tx, x.ID)
		if !ok || is != x { // somebody has done something about it meanwhile
			return nil
		}
		next := *x
		next.Run, next.Late, next.Befores = run, late, befores
		r.stage(tx, x, &next, s, now)
		return nil
	}, func(err error) {
		r.mu.Lock()
		delete(r.stepped, x.ID)
		r.mu.Unlock()
		if err != nil && !fault.Is(err, fault.Stopping) {
			r.o.Log.Error("a step of a rollout was not stored and will be tried again", "rollout", x.ID, "error", err)
		}
	})
}

// stage makes a step part of a commit.
func (r *Rollouts) stage(tx *commit.Tx, was, next *Rollout, s waves.Step, now time.Time) {
	if len(s.Offer) > 0 {
		r.offer(tx, next.ID, s.Offer, now)
	}
	if s.Next {
		if next.Run.Wave > 0 {
			next.WaveEnds = append(slices.Clone(was.WaveEnds), now)
			r.tell(tx, was, fmt.Sprintf("passed the gate of wave %d", next.Run.Wave), "")
		}
		r.tell(tx, next, fmt.Sprintf("wave %d begins with %s", next.Run.Wave+1, plural(len(next.Waves[next.Run.Wave]), "device")), "")
	}
	if next.Run.Passed && !was.Run.Passed {
		next.WaveEnds = append(slices.Clone(was.WaveEnds), now)
		says := "passed its last gate; every device has it now"
		if n := len(next.Late); n > 0 {
			says = "passed its last gate; " + plural(n, "device") + " that could not be offered it yet will be when they are back"
		}
		r.tell(tx, next, says, "")
	}
	switch {
	case next.Run.State == waves.Done:
		if was.Run.Passed {
			says := "those that came late have it, too"
			if n := r.missing(tx, next); n > 0 {
				says = "something newer takes its place for " + plural(n, "device") + " that had not come back"
			}
			r.tell(tx, next, says, "")
		}
		r.drop(tx, next.ID)
	case next.Run.State == waves.Stopped && was.Run.State != waves.Stopped:
		next.Run.Why += r.refusers(next)
		r.tell(tx, next, "stopped by itself: "+next.Run.Why, "")
		switch next.Plan.Broken {
		case "undo":
			next.Run.Undo(now)
			r.back(tx, next, "")
			r.tell(tx, next, "was undone by itself, as its plan says", "")
		case "undo_wave":
			r.takeBack(tx, next, r.ofWave(next))
			r.tell(tx, next, fmt.Sprintf("wave %d was undone by itself, as its plan says", next.Run.Wave+1), "")
		}
	}
	tx.Put(*next)
	r.all.Set(tx, next.ID, next)
	touch := s.Offer
	if next.Run.State != was.Run.State {
		touch = slices.Concat(next.Waves...)
	}
	tx.After(func() { r.o.Settings.Touch(touch...) })
}

// missing counts those that were late and were never offered it.
func (r *Rollouts) missing(tx *commit.Tx, x *Rollout) int {
	offers, _ := r.offers.In(tx, x.ID)
	n := 0
	for _, id := range x.Late {
		if _, has := offers[id]; !has && !slices.Contains(x.LeftOut, id) {
			n++
		}
	}
	return n
}

// ofWave are the devices of the present wave, or those that come late.
func (r *Rollouts) ofWave(x *Rollout) []string {
	if x.Run.Passed {
		return x.Late
	}
	return x.Waves[x.Run.Wave]
}

// refusers names the devices of a rollout's present wave that have refused it.
func (r *Rollouts) refusers(x *Rollout) string {
	offers, _ := r.offers.Get(x.ID)
	var out []string
	for _, id := range r.ofWave(x) {
		if d := r.shownDevice(x, x.Run.Wave, id, offers[id]); d.State == "refused" {
			out = append(out, strings.TrimSuffix(id+" refused "+d.Reason, " refused "))
		}
	}
	const most = 3
	if len(out) > most {
		out = append(out[:most], fmt.Sprintf("and %d more", len(out)-most))
	}
	if len(out) == 0 {
		return ""
	}
	return "; " + strings.Join(out, "; ")
}

func (r *Rollouts) offer(tx *commit.Tx, id string, ids []string, now time.Time) {
	was, _ := r.offers.In(tx, id)
	next := maps.Clone(was)
	if next == nil {
		next = map[string]time.Time{}
	}
	for _, device := range ids {
		next[device] = now
		tx.Put(Offer{id, device, now})
	}
	r.offers.Set(tx, id, next)
}

// takeBack takes the offer back from devices; they have what they had.
func (r *Rollouts) takeBack(tx *commit.Tx, x *Rollout, ids []string) {
	was, _ := r.offers.In(tx, x.ID)
	next := maps.Clone(was)
	for _, device := range ids {
		if _, has := next[device]; has {
			delete(next, device)
			tx.Put(commit.Delete{Record: Offer{Rollout: x.ID, Device: device}})
		}
	}
	r.offers.Set(tx, x.ID, next)
}

// drop takes out the offers of a rollout that is over.
func (r *Rollouts) drop(tx *commit.Tx, id string) {
	tx.Put(commit.Delete{Record: Offer{Rollout: id}})
	r.offers.Drop(tx, id)
}

// back gives the layer the content that it had.
func (r *Rollouts) back(tx *commit.Tx, x *Rollout, by string) {
	if x.From != nil {
		from := *x.From
		if now, ok := r.o.Layers.FindIn(tx, x.Layer); ok {
			from = from.For(now)
		}
		_ = r.o.Layers.Stage(tx, []layering.Layer{from}, by) // it was checked when it was saved
	} else {
		_ = r.o.Layers.StageRemove(tx, x.Layer, by)
	}
	r.drop(tx, x.ID)
}
