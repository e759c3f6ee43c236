package derived

import (
	"container/heap"
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"ullage/core/check"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
)

// Job computes derived telemetry of the past. Its fields are read through View.
type Job struct {
	ID      string
	Model   string
	By      string
	Started time.Time
	since   time.Time
	devices []string
	cancel  context.CancelFunc

	mu       sync.Mutex
	done     int
	readings int
	ended    time.Time
	err      error
}

// View is a Job at one moment.
type View struct {
	ID        string
	Model     string
	Devices   int
	Done      int
	Readings  int
	StartedAt time.Time
	EndedAt   time.Time
	Error     string
}

// View returns the job now.
func (j *Job) View() View {
	j.mu.Lock()
	defer j.mu.Unlock()
	v := View{ID: j.ID, Model: j.Model, Devices: len(j.devices), Done: j.done, Readings: j.readings,
		StartedAt: j.Started, EndedAt: j.ended}
	if j.err != nil {
		v.Error = j.err.Error()
	}
	return v
}

// jobs holds the jobs since the start; only one runs at a time.
type jobs struct {
	mu  sync.Mutex
	all map[string]*Job
}

// Backfill computes the derived telemetry of devices of a model again, from
// some moment on; of every device with that model where ids is empty. It
// returns at once; the job is asked for with Job. Settings and labels count
// with their values of now.
func (w *Derivations) Backfill(modelName string, ids []string, since time.Time, by string) (View, error) {
	m, err := w.models.Get(modelName)
	if err != nil {
		return View{}, err
	}
	var chosen []string
	derives := false
	for _, d := range w.devices.List() {
		if d.Model != m.Name || d.Status == devices.Retired || len(ids) > 0 && !slices.Contains(ids, d.ID) {
			continue
		}
		if of, err := w.models.Of(d.Model, d.Version); err == nil && w.plan(of) != nil {
			derives = true
			chosen = append(chosen, d.ID)
		}
	}
	if !derives {
		return View{}, fault.New(fault.Invalid, "no device of %s has derived telemetry in the version it was given",
			m.Name).
			Then("move devices to a version that derives something")
	}
	w.jobs.mu.Lock()
	defer w.jobs.mu.Unlock()
	for _, j := range w.jobs.all {
		if v := j.View(); v.EndedAt.IsZero() {
			return View{}, fault.New(fault.Conflict, "history is being computed already, of %s, begun by %s", j.Model,
				j.By).Then("wait until it is done, or stop it")
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	j := &Job{ID: fact.NewID(w.now()), Model: m.Name, By: by, Started: w.now(), since: since, devices: chosen,
		cancel: cancel}
	w.jobs.all[j.ID] = j
	go w.run(ctx, j)
	return j.View(), nil
}

// Job returns a job that was begun since the start of the service.
func (w *Derivations) Job(id string) (View, error) {
	w.jobs.mu.Lock()
	defer w.jobs.mu.Unlock()
	if j := w.jobs.all[id]; j != nil {
		return j.View(), nil
	}
	return View{}, NoJob(id)
}

// NoJob is the error about a job that is not known.
func NoJob(id string) error {
	return fault.New(fault.NotFound, "there is no such job %q", id).
		Then("jobs are forgotten when the service stops; begin it again")
}

// Stop ends a job, or every job where id is empty; what it has stored stays.
func (w *Derivations) Stop(id string) {
	w.jobs.mu.Lock()
	defer w.jobs.mu.Unlock()
	for _, j := range w.jobs.all {
		if id == "" || j.ID == id {
			j.cancel()
		}
	}
}

func (w *Derivations) run(ctx context.Context, j *Job) {
	defer j.cancel()
	for _, id := range j.devices {
		n, err := w.one(ctx, id, j.since)
		j.mu.Lock()
		j.readings += n
		if err != nil {
			j.err = fmt.Errorf("%s: %w", id, err)
			j.ended = w.now()
			j.mu.Unlock()
			return
		}
		j.done++
		j.mu.Unlock()
	}
	j.mu.Lock()
	j.ended = w.now()
	j.mu.Unlock()
}

// batch is how many readings are computed and stored at a time, so that
// devices' messages do not wait long behind them.
const batch = 500

// one computes the history of one device: its inputs are read side by side in
// the order of their times.
func (w *Derivations) one(ctx context.Context, id string, since time.Time) (int, error) {
	d, err := w.devices.Get(id)
	if err != nil {
		return 0, err
	}
	m, err := w.models.Of(d.Model, d.Version)
	if err != nil {
		return 0, err
	}
	p := w.plan(m)
	if p == nil {
		return 0, nil
	}
	until := w.now().Add(time.Millisecond)
	inputs, err := w.inputs(ctx, id, p, since, until)
	if err != nil {
		return 0, err
	}
	last, newest := map[string]value.Reading{}, map[string]value.Reading{}
	facts := w.facts(id)
	stored := 0
	var part []value.Reading
	flush := func() error {
		out := p.Compute(part, func(metric string, at time.Time) (value.Reading, bool) {
			r, ok := last[metric]
			return r, ok
		}, facts)
		for _, r := range part {
			last[r.Metric] = r
		}
		part = part[:0]
		if len(out) == 0 {
			return nil
		}
		done := make(chan error, 1)
		if err := w.store.Append(ingest.Append{Device: id, Readings: out, Done: func(err error) {
			done <- err
		}}); err != nil {
			return err
		}
		select {
		case err := <-done:
			if err != nil {
				return err
			}
		case <-ctx.Done():
			return errStopped
		}
		stored += len(out)
		for _, r := range out {
			newest[r.Metric] = r
		}
		return nil
	}
	for inputs.Len() > 0 {
		if ctx.Err() != nil {
			return stored, errStopped
		}
		at := (*inputs)[0].readings[0].At
		// Readings of one moment stay together.
		if len(part) >= batch && !part[len(part)-1].At.Equal(at) {
			if err := flush(); err != nil {
				return stored, err
			}
		}
		x := (*inputs)[0]
		part = append(part, x.readings[0])
		if x.readings = x.readings[1:]; len(x.readings) == 0 {
			heap.Pop(inputs)
		} else {
			heap.Fix(inputs, 0)
		}
	}
	if err := flush(); err != nil {
		return stored, err
	}
	// Rules do not judge the past again; windows are filled anew from the store.
	w.bus.Publish(event.Backfilled{Device: id, Latest: slices.Collect(maps.Values(newest))})
	return stored, nil
}

var errStopped = fault.New(fault.Stopping, "it was stopped").
	Then("what was computed until then is stored; begin it again for the rest")

// queue holds the inputs of one device by the time of their next reading.
type queue []*input

type input struct{ readings []value.Reading }

func (q queue) Len() int           { return len(q) }
func (q queue) Less(i, j int) bool { return q[i].readings[0].At.Before(q[j].readings[0].At) }
func (q queue) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)        { *q = append(*q, x.(*input)) }
func (q *queue) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}

func (w *Derivations) inputs(ctx context.Context, id string, p *check.Derivation,
	since, until time.Time) (*queue, error) {
	q := &queue{}
	for _, metric := range p.Inputs() {
		x := &input{}
		err := w.history.Readings(ctx, id, metric, since, until, func(pt series.Point) error {
			if ctx.Err() != nil {
				return errStopped
			}
			x.readings = append(x.readings, value.Reading{Metric: metric, At: pt.At, Value: pt.Value,
				Quality: pt.Quality})
			return nil
		})
		if _, err = series.Whole(err); err != nil { // what is damaged is a gap
			return nil, err
		}
		if len(x.readings) > 0 {
			*q = append(*q, x)
		}
	}
	heap.Init(q)
	return q, nil
}
