// Package bulk changes the labels, the status and the version of the model of many devices at once: what is to be
// done is decided in one commit, carried out in parts that go on after a crash, and can
// be undone.
package bulk

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/models"
	"ullage/fleet/settings"
)

// Change is what is made of each device.
type Change struct {
	Labels map[string]string `json:"labels,omitempty"` // an empty text takes one away
	Status devices.Status    `json:"status,omitempty"` // empty leaves it
	// Version of their model that devices of Model get; empty leaves it.
	Model   string `json:"model,omitempty"`
	Version string `json:"version,omitempty"`
	// Override is what a device had set that the Version did not allow. It is only of what was
	// before, and given back with the version.
	Override layering.Settings `json:"override,omitempty"`
}

// Job is a change of many devices.
type Job struct {
	ID      string
	By      string
	At      time.Time
	Change  Change
	Devices []string // in order
	// Before is what was so of each before, of what the job changes; where Undoes is not
	// empty it is what each gets back.
	Before   map[string]Change
	Undoes   string // the job that this one undoes
	UndoneBy string // the job that has undone this one
	Done     int    // how many of the devices have been gone through
	Failed   int    // of those, how many stayed as they were since they could not be changed
	EndedAt  time.Time
}

// Progress is how far a Job is. It is stored apart from the job, which is large.
type Progress struct {
	Job          string
	Done, Failed int
	EndedAt      time.Time
}

// Records reads what is stored. What changes is put into commits as Job and Progress.
type Records interface {
	BulkJobs(context.Context) ([]Job, error)
}

// Options are what Changes are made of.
type Options struct {
	Records Records
	Commits *commit.Writer
	Devices *devices.Registry
	Models  *models.Catalogue
	// Settings give back what a version did not allow.
	Settings *settings.Settings
	// Moved is told of every device that was given another version, after that is on the
	// disk; nil for nobody.
	Moved func(device string)
	Log   *slog.Logger
	Now   func() time.Time
}

// Changes holds the latest changes of many devices.
type Changes struct {
	o    Options
	jobs *commit.Table[string, *Job]
	// step is closed, and another made, each time a job has gone on.
	step atomic.Pointer[chan struct{}]
}

const (
	// sliceOf is how many devices one commit changes; between them others get their turn.
	sliceOf = 100
	// kept is how many jobs are kept, to be undone.
	kept = 50
	// Most is how many devices one job changes.
	Most = 100_000
)

// Open reads the jobs, and goes on with those that were interrupted, from Start on.
func Open(ctx context.Context, o Options) (*Changes, error) {
	jobs, err := o.Records.BulkJobs(ctx)
	if err != nil {
		return nil, err
	}
	rows := map[string]*Job{}
	for i := range jobs {
		rows[jobs[i].ID] = &jobs[i]
	}
	b := &Changes{o: o, jobs: commit.NewTable(rows)}
	b.wake()
	return b, nil
}

func (b *Changes) wake() {
	next := make(chan struct{})
	if was := b.step.Swap(&next); was != nil {
		close(*was)
	}
}

// Wait returns a job when it is over.
func (b *Changes) Wait(ctx context.Context, id string) (*Job, error) {
	for {
		step := *b.step.Load()
		j, err := b.Get(id)
		if err != nil || !j.EndedAt.IsZero() {
			return j, err
		}
		select {
		case <-step:
		case <-ctx.Done():
			return j, ctx.Err()
		}
	}
}

// Resume goes on with what was interrupted.
func (b *Changes) Resume() {
	for _, j := range b.List() {
		if j.EndedAt.IsZero() {
			b.slice(j.ID)
		}
	}
}

// List returns the jobs, the newest first.
func (b *Changes) List() []*Job {
	var out []*Job
	for _, j := range b.jobs.All() {
		out = append(out, j)
	}
	slices.SortFunc(out, func(x, y *Job) int { return cmp.Or(y.At.Compare(x.At), strings.Compare(y.ID, x.ID)) })
	return out
}

// Get returns one job.
func (b *Changes) Get(id string) (*Job, error) {
	j, ok := b.jobs.Get(id)
	if !ok {
		return nil, Unknown(id)
	}
	return j, nil
}

// Unknown is the error about a change that is not known.
func Unknown(id string) error {
	return fault.New(fault.NotFound, "there is no change of devices %q; the latest %d are kept", value.Clip(id, 60), kept).On("change")
}

// Check says what is wrong with a change, whichever devices it is of.
func (c Change) Check() error {
	if len(c.Labels) == 0 && c.Status == "" && c.Version == "" {
		return fault.New(fault.Invalid, "neither labels nor a status are named, so nothing would change").Then("name one with its value, like row=B")
	}
	if err := devices.CheckLabels(c.Labels); err != nil {
		return err
	}
	switch c.Status {
	case "", devices.Active, devices.Suspended, devices.Retired:
		return nil
	}
	return fault.New(fault.Invalid, "%q is no status that devices can be given", value.Clip(string(c.Status), 40)).Then("there are active, suspended and retired")
}

// Of returns the device as the change leaves it, and what of it was otherwise before;
// ok is false where nothing would change.
func (c Change) Of(d devices.Device) (next devices.Device, was Change, ok bool) {
	next = d
	for k, v := range c.Labels {
		if d.Labels[k] == v {
			continue
		}
		if was.Labels == nil {
			was.Labels, next.Labels = map[string]string{}, map[string]string{}
			maps.Copy(next.Labels, d.Labels)
		}
		was.Labels[k] = d.Labels[k]
		if next.Labels[k] = v; v == "" {
			delete(next.Labels, k)
		}
	}
	if s := c.Status; s != "" && d.Status != s && d.Status != devices.Retired && !(s == devices.Active && d.Status == devices.Expected) {
		was.Status, next.Status = d.Status, s
	}
	if v := c.Version; v != "" && d.Model == c.Model && d.Version != v && d.Status != devices.Retired {
		was.Model, was.Version, next.Version = d.Model, d.Version, v
	}
	return next, was, len(was.Labels) > 0 || was.Status != "" || was.Version != ""
}

// Begin decides a change of some devices, and returns once that is on the disk. Those
// of which nothing would change are left out.
func (b *Changes) Begin(ctx context.Context, ids []string, c Change, by string) (*Job, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	if len(ids) > Most {
		return nil, fault.New(fault.TooLarge, "%d devices are too many at once; %d are the most", len(ids), Most)
	}
	j := &Job{ID: fact.NewID(b.o.Now()), By: by, At: b.o.Now(), Change: c, Before: map[string]Change{}}
	ids = slices.Compact(slices.Sorted(slices.Values(ids)))
	var to *model.Model
	if c.Version != "" {
		var err error
		if to, err = b.o.Models.Of(c.Model, c.Version); err != nil {
			return nil, err
		}
	}
	err := b.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		j.Devices, j.Before = nil, map[string]Change{}
		for _, id := range ids {
			d, ok := b.o.Devices.In(tx, id)
			if !ok {
				return devices.Unknown(id)
			}
			if _, was, other := c.Of(d); other {
				if was.Version != "" {
					was.Override = b.o.Settings.Unfit(tx, id, to)
				}
				j.Devices = append(j.Devices, id)
				j.Before[id] = was
			}
		}
		if len(j.Devices) == 0 {
			return fault.New(fault.Conflict, "all %d devices are so already", len(ids)).On("change")
		}
		return b.stage(tx, j)
	})
	if err != nil {
		return nil, err
	}
	return j, nil
}

// Undo gives the devices of a job back what it has changed, but for what was changed
// again since. Whoever was retired stays so.
func (b *Changes) Undo(ctx context.Context, id, by string) (*Job, error) {
	j := &Job{ID: fact.NewID(b.o.Now()), By: by, At: b.o.Now(), Undoes: id}
	err := b.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		was, ok := b.jobs.In(tx, id)
		switch {
		case !ok:
			return Unknown(id)
		case was.EndedAt.IsZero():
			return fault.New(fault.Conflict, "the change is not over yet").Then("wait until it is").On("change")
		case was.UndoneBy != "":
			return fault.New(fault.Conflict, "the change was undone already").On("change")
		case was.Undoes != "":
			return fault.New(fault.Conflict, "this change took another one back").Then("make that change again").On("change")
		case was.Change.Status == devices.Retired:
			return fault.New(fault.Conflict, "devices that are retired stay so").Then("onboard them again under other ids").On("change")
		}
		j.Change, j.Devices, j.Before = was.Change, was.Devices, was.Before
		undone := *was
		undone.UndoneBy = j.ID
		tx.Put(undone)
		b.jobs.Set(tx, id, &undone)
		return b.stage(tx, j)
	})
	if err != nil {
		return nil, err
	}
	return j, nil
}

// stage makes a job part of a commit, and lets it begin after that.
func (b *Changes) stage(tx *commit.Tx, j *Job) error {
	tx.Put(*j)
	b.jobs.Set(tx, j.ID, j)
	tx.Tell(fact.New(j.At, fact.ManyChanged{Job: j.ID, Devices: len(j.Devices), Labels: j.Change.Labels, Status: string(j.Change.Status), Model: j.Change.Model, Version: j.Change.Version, Undoes: j.Undoes}).By(j.By))
	for _, old := range b.List()[min(b.jobs.Len(), kept-1):] {
		if !old.EndedAt.IsZero() {
			tx.Put(commit.Delete{Record: *old})
			b.jobs.Drop(tx, old.ID)
		}
	}
	tx.After(func() { b.slice(j.ID) })
	return nil
}

// slice queues the next devices of a job.
func (b *Changes) slice(id string) {
	b.o.Commits.Go(func(tx *commit.Tx) error {
		was, ok := b.jobs.In(tx, id)
		if !ok || !was.EndedAt.IsZero() {
			return nil
		}
		j := *was
		var moved []string
		for _, device := range was.Devices[was.Done:min(was.Done+sliceOf, len(was.Devices))] {
			if err := b.one(tx, &j, device); err != nil {
				j.Failed++
			} else if j.Change.Version != "" {
				moved = append(moved, device)
			}
			j.Done++
			runtime.Gosched() // readings that have come meanwhile go first
		}
		if j.Done == len(j.Devices) {
			j.EndedAt = b.o.Now()
		}
		tx.Put(Progress{j.ID, j.Done, j.Failed, j.EndedAt})
		b.jobs.Set(tx, id, &j)
		tx.After(func() {
			for _, device := range moved {
				if b.o.Moved != nil {
					b.o.Moved(device)
				}
			}
			b.wake()
			if j.EndedAt.IsZero() {
				b.slice(id)
			}
		})
		return nil
	}, func(err error) {
		if err == nil || fault.Is(err, fault.Stopping) {
			return
		}
		b.o.Log.Error("many devices were not changed yet and will be tried again", "change", id, "error", err)
		time.AfterFunc(time.Second, func() { b.slice(id) })
	})
}

// one changes one device of a job.
func (b *Changes) one(tx *commit.Tx, j *Job, id string) error {
	c := j.Change
	if j.Undoes == "" && c.Version != "" {
		if d, ok := b.o.Devices.In(tx, id); !ok || d.Model != c.Model {
			return devices.Unknown(id) // onboarded anew under the same id
		}
	}
	if j.Undoes != "" {
		d, ok := b.o.Devices.In(tx, id)
		if !ok {
			return devices.Unknown(id)
		}
		c = Change{Status: j.Before[id].Status, Labels: map[string]string{}}
		if d.Model == j.Change.Model && d.Version == j.Change.Version {
			c.Version, c.Override = j.Before[id].Version, j.Before[id].Override
		}
		if c.Status != "" && d.Status != j.Change.Status {
			c.Status = "" // somebody has changed it since
		}
		for k, v := range j.Before[id].Labels {
			if d.Labels[k] == j.Change.Labels[k] {
				c.Labels[k] = v
			}
		}
	}
	if c.Version != "" {
		if err := b.o.Devices.MoveIn(tx, id, c.Version, j.By); err != nil {
			return err
		}
		if err := b.o.Settings.Restore(tx, id, c.Override, j.By); err != nil {
			return err
		}
	}
	return b.o.Devices.ChangeIn(tx, id, c.Labels, c.Status, j.By)
}

// Sentence says what a job does.
func (c Change) Sentence() string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(c.Labels)) {
		if v := c.Labels[k]; v == "" {
			out = append(out, "label "+k+" taken away")
		} else {
			out = append(out, fmt.Sprintf("label %s=%s", k, v))
		}
	}
	if c.Status != "" {
		out = append(out, "status "+string(c.Status))
	}
	if c.Version != "" {
		out = append(out, c.Model+" "+c.Version)
	}
	return strings.Join(out, ", ")
}
