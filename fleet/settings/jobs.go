package settings

import (
	"context"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"time"

	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// Job changes the override of many devices. That it is to be done is committed
// once; what follows for each device is committed in slices, and goes on after
// a crash where it stopped.
type Job struct {
	ID      string
	By      string
	At      time.Time
	Set     map[string]any
	Unset   []string
	Until   time.Time // when it ends by itself; zero for never
	Devices []string  // in order
	Done    int       // how many of them have been gone through
	Failed  int       // of those, how many could not be changed any more
	EndedAt time.Time
}

// Progress is how far a Job has come. It is stored apart from the job, whose
// list of devices stays as it is.
type Progress struct {
	Job          string // its id
	Done, Failed int
}

// sliceOf is how many devices one slice changes, so that it takes a few
// milliseconds. Between slices the writer rests and others get their turn.
const sliceOf = 40

// SetMany puts values into the override of many devices and takes the names in
// unset off it. Every device's model must allow all of it, or nothing is
// changed. It returns once that is decided; the Job tells how far it has come.
func (b *Settings) SetMany(ctx context.Context, ids []string, set map[string]any, unset []string,
	by string) (Job, error) {
	return b.SetManyUntil(ctx, ids, set, unset, time.Time{}, by)
}

// SetManyUntil is SetMany for values that end by themselves at a time; the zero time is for
// never.
func (b *Settings) SetManyUntil(ctx context.Context, ids []string, set map[string]any, unset []string,
	until time.Time, by string) (Job, error) {
	if err := b.checkUntil(until); err != nil {
		return Job{}, err
	}
	said, models, err := b.checkMany(ids, set, unset)
	if err != nil {
		return Job{}, err
	}
	if set, err = b.sealedForMany(models, set); err != nil {
		return Job{}, err
	}
	ids = slices.Compact(slices.Sorted(slices.Values(ids)))
	j := Job{ID: fact.NewID(b.now()), By: by, At: b.now(), Set: set, Unset: unset, Until: until, Devices: ids}
	err = b.commits.Do(ctx, func(tx *commit.Tx) error {
		tx.Put(j)
		b.jobs.Set(tx, j.ID, &j)
		tx.Tell(fact.New(j.At, fact.Settings{Set: said, Removed: unset, Devices: len(ids), Job: j.ID}).By(by))
		tx.After(func() { b.slice(j.ID) })
		return nil
	})
	return j, err
}

// CheckMany tells what is wrong with a change of many devices, and how people
// write its values.
func (b *Settings) CheckMany(ids []string, set map[string]any, unset []string) (map[string]string, error) {
	said, _, err := b.checkMany(ids, set, unset)
	return said, err
}

func (b *Settings) checkMany(ids []string, set map[string]any, unset []string) (map[string]string, map[*model.Model]bool, error) {
	if len(ids) == 0 {
		return nil, nil, fault.New(fault.Invalid, "no device is chosen, so nothing was changed").
			Then("choose devices by their ids or by a condition")
	}
	if len(set)+len(unset) == 0 {
		return nil, nil, fault.New(fault.Invalid, "no setting is named, so nothing was changed").
			Then("name one with its value, like max_temp=30")
	}
	said := map[string]string{}
	checked := map[*model.Model]bool{}
	for _, id := range ids {
		d, err := b.devices.Get(id)
		if err != nil {
			return nil, nil, err
		}
		m, err := b.models.Of(d.Model, d.Version)
		if err != nil {
			return nil, nil, err
		}
		if checked[m] {
			continue
		}
		checked[m] = true
		values, err := allowed(id, m, set, unset, giving)
		if err != nil {
			return nil, nil, err
		}
		for name, v := range values {
			p, _ := m.Property(name)
			said[name] = p.Say(v)
		}
	}
	return said, checked, nil
}

// slice queues the next devices of a job.
func (b *Settings) slice(id string) {
	b.commits.Go(func(tx *commit.Tx) error {
		was, ok := b.jobs.In(tx, id)
		if !ok || was.Done >= len(was.Devices) {
			return nil
		}
		j := *was
		models := map[*model.Model]map[string]value.Value{}
		for _, device := range was.Devices[was.Done:min(was.Done+sliceOf, len(was.Devices))] {
			if !b.one(tx, &j, device, models) {
				j.Failed++
			}
			j.Done++
			runtime.Gosched() // readings that have come meanwhile go first
		}
		if j.Done == len(j.Devices) {
			j.EndedAt = b.now()
			tx.Put(commit.Delete{Record: j})
		} else {
			tx.Put(Progress{j.ID, j.Done, j.Failed})
		}
		b.jobs.Set(tx, id, &j)
		tx.After(func() {
			if j.EndedAt.IsZero() {
				b.slice(id)
			}
		})
		return nil
	}, func(err error) {
		if err == nil || fault.Is(err, fault.Stopping) {
			return
		}
		b.log.Error("settings of many devices were not changed yet and will be tried again", "job", id, "error", err)
		time.AfterFunc(time.Second, func() { b.slice(id) })
	})
}

// one changes one device of a job. It reports false where the device cannot be
// changed so any more.
func (b *Settings) one(tx *commit.Tx, j *Job, id string, models map[*model.Model]map[string]value.Value) bool {
	d, ok := b.devices.In(tx, id)
	if !ok {
		return false
	}
	m, err := b.models.Of(d.Model, d.Version)
	if err != nil {
		return false
	}
	values, known := models[m]
	if !known {
		if values, err = allowed(id, m, j.Set, j.Unset); err != nil {
			return false
		}
		models[m] = values
	}
	was := b.in(tx, id)
	s := *was
	said, removed := b.override(&s, m, values, j.Unset, j.Until, j.By)
	return b.revise(tx, was, &s, d, m, j.By, "", said, removed) == nil
}

// Job returns a change of many devices.
func (b *Settings) Job(id string) (Job, error) {
	j, ok := b.jobs.Get(id)
	if !ok {
		return Job{}, NoJob(id)
	}
	return *j, nil
}

// NoJob is the error about a change of many devices that is not known.
func NoJob(id string) error {
	return fault.New(fault.NotFound, "there is no change of settings %q", value.Clip(id, 200))
}

// String says how far it is.
func (j Job) String() string {
	return fmt.Sprintf("%d of %d devices", j.Done, len(j.Devices))
}

// Names returns the settings that a job changes.
func (j Job) Names() []string {
	return slices.Sorted(slices.Values(append(slices.Collect(maps.Keys(j.Set)), j.Unset...)))
}
