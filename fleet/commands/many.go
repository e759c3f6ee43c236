package commands

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// Job gives one command to many devices, so many at a time. That it is to be done is
// committed once; the devices get theirs one after the other, which goes on after a crash
// where it stopped.
type Job struct {
	ID     string
	Name   string
	Input  json.RawMessage
	Expiry Expiry // of each device's command, from when that is given
	// AtOnce is how many devices at most have the command without having replied; 0 for all.
	AtOnce int
	By     string
	// Whole says that whoever gave it was operator for all devices. Otherwise only those get
	// it which they may still operate when their turn comes.
	Whole   bool
	At      time.Time
	Devices []string // in the order in which they get it

	Given       int       // how many of them have been gone through
	WithdrawnAt time.Time // when somebody gave the rest up; zero for never
	WithdrawnBy string
	EndedAt     time.Time // when the last command of it had ended; zero while it goes on

	open int // how many of its commands are open
}

// JobProgress is how far a Job is. It is stored apart from the job, which is large.
type JobProgress struct {
	Job         string // its id
	Given       int
	WithdrawnAt time.Time
	WithdrawnBy string
	EndedAt     time.Time
}

// Counts is how many commands of a job there are in each phase.
type Counts map[Phase]int

const (
	// MostDevices is how many devices one job is for.
	MostDevices = 100_000
	jobsKept    = 50
	jobSlice    = 100 // devices that one commit goes through
)

// jobs are the commands for many devices.
type jobs struct {
	rows *commit.Table[string, *Job]
	// step is closed, and another made, each time a job has gone on.
	step atomic.Pointer[chan struct{}]
}

func (q *Queue) openJobs(ctx context.Context, open map[string][]Command) error {
	all, err := q.records.CommandJobs(ctx)
	if err != nil {
		return err
	}
	rows := map[string]*Job{}
	for i := range all {
		rows[all[i].ID] = &all[i]
	}
	for _, cs := range open {
		for _, c := range cs {
			if j := rows[c.Job]; j != nil {
				j.open++
			}
		}
	}
	q.jobs.rows = commit.NewTable(rows)
	q.jobs.wake()
	return nil
}

func (s *jobs) wake() {
	next := make(chan struct{})
	if was := s.step.Swap(&next); was != nil {
		close(*was)
	}
}

// Resume goes on with the jobs that were interrupted.
func (q *Queue) Resume() {
	for _, j := range q.Jobs() {
		if j.EndedAt.IsZero() {
			q.pump(j.ID)
		}
	}
}

// Fits says what keeps a device from being given a command, and the input as the device's
// model writes it.
func (q *Queue) Fits(device, name string, input json.RawMessage) (json.RawMessage, error) {
	d, err := q.devices.Get(device)
	if err != nil {
		return nil, err
	}
	return q.fits(d, name, input)
}

func (q *Queue) fits(d devices.Device, name string, input json.RawMessage) (json.RawMessage, error) {
	if d.Status == devices.Retired || d.Status == devices.Suspended {
		return nil, fault.New(fault.Conflict, "%s is %s, so it gets no commands", d.ID, d.Status)
	}
	m, err := q.models.Of(d.Model, d.Version)
	if err != nil {
		return nil, err
	}
	return check(m, name, input)
}

// GiveMany decides that devices are given a command as a job says, and returns once that is
// on the disk. Each of them must be able to have it.
func (q *Queue) GiveMany(ctx context.Context, asked Job) (*Job, error) {
	ids := asked.Devices
	switch {
	case len(ids) == 0:
		return nil, fault.New(fault.Invalid, "no device is chosen, so no command was given").Then("choose devices by their ids or by a condition")
	case len(ids) > MostDevices:
		return nil, fault.New(fault.TooLarge, "%d devices are too many at once; %d are the most", len(ids), MostDevices)
	case asked.AtOnce < 0:
		return nil, fault.New(fault.Invalid, "at most %d at a time is none", asked.AtOnce).Then("say a number from 1, or leave it out for all at once")
	}
	at := q.now()
	j := &Job{ID: fact.NewID(at), Name: asked.Name, Input: asked.Input, Expiry: asked.Expiry, AtOnce: asked.AtOnce, By: asked.By, Whole: asked.Whole, At: at}
	had := map[string]bool{}
	for _, id := range ids {
		if had[id] {
			continue
		}
		had[id] = true
		short, err := q.Fits(id, j.Name, asked.Input)
		if err != nil {
			return nil, err
		}
		j.Input, j.Devices = short, append(j.Devices, id)
	}
	err := q.commits.Do(ctx, func(tx *commit.Tx) error {
		tx.Put(*j)
		q.jobs.rows.Set(tx, j.ID, j)
		tx.Tell(fact.New(at, fact.Given{Command: j.Name, Input: j.Input, Job: j.ID, Devices: len(j.Devices)}).By(j.By))
		for _, old := range q.Jobs()[min(q.jobs.rows.Len(), jobsKept-1):] {
			if !old.EndedAt.IsZero() {
				tx.Put(commit.Delete{Record: *old})
				q.jobs.rows.Drop(tx, old.ID)
			}
		}
		tx.After(func() { q.pump(j.ID) })
		return nil
	})
	if err != nil {
		return nil, err
	}
	return j, nil
}

// pump queues the next commands of a job, as many as there is room for.
func (q *Queue) pump(id string) {
	q.commits.Go(func(tx *commit.Tx) error {
		was, ok := q.jobs.rows.In(tx, id)
		if !ok || !was.EndedAt.IsZero() {
			return nil
		}
		if was.WithdrawnAt.IsZero() {
			q.giveNext(tx, was)
		} else {
			q.withdrawNext(tx, was)
		}
		return nil
	}, func(err error) {
		if err == nil || fault.Is(err, fault.Stopping) {
			return
		}
		q.log.Error("a command for many devices was not given to all yet and will be tried again", "job", id, "error", err)
		time.AfterFunc(time.Second, func() { q.pump(id) })
	})
}

// allowed returns an error where whoever gave a job may not operate a device any more.
func (q *Queue) allowed(j *Job, device string) error {
	if j.Whole || q.mayOperate == nil || q.mayOperate(j.By, device) {
		return nil
	}
	return fault.New(fault.NotAllowed, "%s may not give it commands any more", j.By)
}

// giveNext gives the command to the devices whose turn it is.
func (q *Queue) giveNext(tx *commit.Tx, was *Job) {
	j := *was
	end := min(j.Given+jobSlice, len(j.Devices))
	for j.Given < end && (j.AtOnce == 0 || j.open < j.AtOnce) {
		device := j.Devices[j.Given]
		j.Given++
		err := q.allowed(&j, device)
		if err == nil {
			_, err = q.give(tx, device, j.Name, j.Input, j.Expiry, given{by: j.By, job: j.ID})
		}
		if err != nil {
			// It is kept as one that was never handed over, with the reason.
			at := q.now()
			tx.Put(Command{ID: fact.NewID(at), Device: device, Name: j.Name, Input: j.Input, By: j.By, Job: j.ID, Phase: Withdrawn,
				At: at, EndedAt: at, Error: err.Error()})
			continue
		}
		j.open++
	}
	more := j.Given < len(j.Devices) && (j.AtOnce == 0 || j.open < j.AtOnce)
	if j.Given == was.Given && j.Given < len(j.Devices) {
		return
	}
	q.putJob(tx, &j, more)
}

// withdrawNext gives up commands of a job that was withdrawn.
func (q *Queue) withdrawNext(tx *commit.Tx, was *Job) {
	var some []string
	for device, cs := range q.open.All() {
		if len(some) == jobSlice {
			break
		}
		if slices.ContainsFunc(cs, func(c Command) bool { return c.Job == was.ID }) {
			some = append(some, device)
		}
	}
	slices.Sort(some)
	for _, device := range some {
		open, _ := q.open.In(tx, device)
		for _, c := range slices.Clone(open) {
			if c.Job == was.ID {
				q.giveUp(tx, c, Withdrawn, q.now(), was.WithdrawnBy)
			}
		}
	}
	j, _ := q.jobs.rows.In(tx, was.ID)
	next := *j
	q.putJob(tx, &next, len(some) == jobSlice)
}

// putJob makes how far a job is part of a commit.
func (q *Queue) putJob(tx *commit.Tx, j *Job, more bool) {
	over := j.Given == len(j.Devices) || !j.WithdrawnAt.IsZero()
	if over && j.open == 0 && j.EndedAt.IsZero() {
		j.EndedAt = q.now()
	}
	tx.Put(JobProgress{j.ID, j.Given, j.WithdrawnAt, j.WithdrawnBy, j.EndedAt})
	q.jobs.rows.Set(tx, j.ID, j)
	tx.After(func() {
		q.jobs.wake()
		if more && j.EndedAt.IsZero() {
			q.pump(j.ID)
		}
	})
}

// ended takes into account that a command of a job is open no more.
func (q *Queue) ended(tx *commit.Tx, id string) {
	was, ok := q.jobs.rows.In(tx, id)
	if !ok || !was.EndedAt.IsZero() {
		return
	}
	j := *was
	j.open--
	if over := j.Given == len(j.Devices) || !j.WithdrawnAt.IsZero(); over {
		if j.open == 0 {
			q.putJob(tx, &j, false)
			return
		}
		q.jobs.rows.Set(tx, id, &j)
		tx.After(q.jobs.wake)
		return
	}
	q.jobs.rows.Set(tx, id, &j)
	tx.After(func() { q.jobs.wake(); q.pump(id) })
}

// WithdrawJob gives up what of a job was not replied to, and what was not given yet. What
// was handed over already, the devices may do all the same.
func (q *Queue) WithdrawJob(ctx context.Context, id, by string) (*Job, error) {
	var j Job
	err := q.commits.Do(ctx, func(tx *commit.Tx) error {
		was, ok := q.jobs.rows.In(tx, id)
		if !ok {
			return NoJob(id)
		}
		if !was.EndedAt.IsZero() || !was.WithdrawnAt.IsZero() {
			return fault.New(fault.Conflict, "nothing of the command for many devices waits any more").On("command")
		}
		j = *was
		j.WithdrawnAt, j.WithdrawnBy = q.now(), by
		tx.Tell(fact.New(j.WithdrawnAt, fact.Ended{Command: j.Name, Phase: string(Withdrawn), Job: id, Devices: len(j.Devices) - j.Given + j.open}).By(by))
		q.putJob(tx, &j, true)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return &j, nil
}

// Jobs returns the latest commands for many devices, the newest first.
func (q *Queue) Jobs() []*Job {
	var out []*Job
	for _, j := range q.jobs.rows.All() {
		out = append(out, j)
	}
	slices.SortFunc(out, func(x, y *Job) int { return cmp.Or(y.At.Compare(x.At), strings.Compare(y.ID, x.ID)) })
	return out
}

// Job returns one of them.
func (q *Queue) Job(id string) (*Job, error) {
	j, ok := q.jobs.rows.Get(id)
	if !ok {
		return nil, NoJob(id)
	}
	return j, nil
}

// Counts returns how many commands of jobs are in each phase, by the id of the job.
func (q *Queue) Counts(ctx context.Context, ids []string) (map[string]Counts, error) {
	return q.records.CommandCounts(ctx, ids)
}

// AwaitJob returns the job when it has ended, or as it is when ctx ends.
func (q *Queue) AwaitJob(ctx context.Context, id string) (*Job, error) {
	for {
		step := *q.jobs.step.Load()
		j, err := q.Job(id)
		if err != nil || !j.EndedAt.IsZero() {
			return j, err
		}
		select {
		case <-step:
		case <-ctx.Done():
			return j, nil
		}
	}
}

// NoJob is the error about a command for many devices that is not known.
func NoJob(id string) error {
	return fault.New(fault.NotFound, "there is no command for many devices %q; the latest %d are kept", value.Clip(id, 60), jobsKept).On("command")
}
