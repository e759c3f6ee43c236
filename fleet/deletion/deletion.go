// Package deletion deletes readings because a person wants it: of a device, of
// some of its metrics, of a span, or all of a device with its traffic. What is
// thrown away for its age is the business of package retention.
package deletion

import (
	"context"
	"errors"
	"slices"
	"time"

	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/traffic"
)

// Series says what of one metric is in a span.
type Series struct {
	Metric      string
	Readings    int64
	First, Last time.Time // of the readings
	Damaged     int       // chunks that cannot be read
}

// Span is what is to be deleted. At least one of Metrics, From and To is given,
// or All is true, so that nothing left out deletes everything.
type Span struct {
	Device  string
	Metrics []string  // all of the device's if it is empty
	From    time.Time // since the beginning if it is zero
	To      time.Time // not included; to the end if it is zero
	All     bool      // everything, and the traffic with it
}

// Deletion tells what is in a span, or was.
type Deletion struct {
	Series   []Series // with something in it, by their metric
	Readings int64
	Traffic  int // messages in the traffic log
}

// Store holds readings.
type Store interface {
	// Metrics returns the metrics of a device that something is stored of.
	Metrics(device string) []string
	Stored(ctx context.Context, device, metric string, from, to time.Time) (Series, error)
	// Delete deletes readings, with what was summed up of them, and returns how
	// many there were.
	Delete(ctx context.Context, device, metric string, from, to time.Time) (int64, error)
	// Last returns the newest reading at or before a time.
	Last(ctx context.Context, device, metric string, at time.Time) (value.Reading, bool, error)
}

// Options are what a Deleter is made of.
type Options struct {
	Store   Store
	Devices *devices.Registry
	// Names returns the names that a metric of a device has and had; all are
	// deleted with it.
	Names   func(device, metric string) []string
	Commits *commit.Writer
	Logs    interface{ Forget(device string) error }
	// Activity is what is counted of devices.
	Activity interface{ Drop(device string) error }
	Traffic  *traffic.Log
	Bus      *event.Bus
	// Forget drops what was derived from readings of a device and is remembered.
	Forget func(device string)
	Now    func() time.Time
}

// Deleter deletes readings.
type Deleter struct{ o Options }

// New returns a Deleter.
func New(o Options) *Deleter { return &Deleter{o} }

// Preview returns what Delete would delete.
func (x *Deleter) Preview(ctx context.Context, s Span) (Deletion, error) {
	metrics, err := x.check(s)
	if err != nil {
		return Deletion{}, err
	}
	out := Deletion{Series: []Series{}}
	for _, m := range metrics {
		in, err := x.o.Store.Stored(ctx, s.Device, m, s.From, s.To)
		if err != nil {
			return out, err
		}
		if in.Readings > 0 || in.Damaged > 0 {
			out.Series = append(out.Series, in)
			out.Readings += in.Readings
		}
	}
	if s.All {
		out.Traffic = x.o.Traffic.Count(s.Device)
	}
	return out, nil
}

// check returns the metrics that a span is about.
func (x *Deleter) check(s Span) ([]string, error) {
	if _, err := x.o.Devices.Get(s.Device); err != nil {
		return nil, err
	}
	some := len(s.Metrics) > 0 || !s.From.IsZero() || !s.To.IsZero()
	switch {
	case s.All && some:
		return nil, fault.New(fault.Invalid, "all is all of a device; it goes with no metric and no time")
	case !s.All && !some:
		return nil, fault.New(fault.Invalid, "nothing says which readings").
			Then("name metrics, a start or an end, or say that it is all of them")
	case !s.From.IsZero() && !s.To.IsZero() && !s.From.Before(s.To):
		return nil, fault.New(fault.Invalid, "the span ends at %s, before it starts at %s", s.To.Format(time.RFC3339),
			s.From.Format(time.RFC3339))
	}
	stored := x.o.Store.Metrics(s.Device)
	if len(s.Metrics) == 0 {
		return stored, nil
	}
	var metrics []string
	for _, m := range s.Metrics {
		names := x.o.Names(s.Device, m)
		n := len(metrics)
		for _, name := range names {
			if slices.Contains(stored, name) {
				metrics = append(metrics, name)
			}
		}
		if len(metrics) == n {
			e := fault.New(fault.NotFound, "no reading of %q is stored for %s", value.Clip(m, 100), s.Device)
			if near := value.Nearest(m, stored); near != "" {
				e.Then("did you mean %s?", near)
			}
			return nil, e
		}
	}
	slices.Sort(metrics)
	return slices.Compact(metrics), nil
}

// Delete deletes what is in a span, and tells it. What comes in meanwhile stays,
// or goes if it is of the span. A deletion that fails half-way, or is cut off by
// a crash, leaves whole readings behind and may be asked for again.
func (x *Deleter) Delete(ctx context.Context, s Span, by string) (Deletion, error) {
	d, err := x.Preview(ctx, s)
	if err != nil {
		return d, err
	}
	if d.Readings == 0 && d.Traffic == 0 && len(d.Series) == 0 {
		return d, nil
	}
	// It is told first: what people have deleted must not be gone without a word.
	content := fact.Deleted{Readings: d.Readings, From: s.From, To: s.To, Traffic: d.Traffic}
	if !s.All && len(s.Metrics) > 0 {
		for _, in := range d.Series {
			content.Metrics = append(content.Metrics, in.Metric)
		}
	}
	if err := x.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		tx.Tell(fact.New(x.o.Now(), content).Of(s.Device).By(by))
		return nil
	}); err != nil {
		return d, err
	}
	if s.All {
		if err := errors.Join(x.o.Traffic.Forget(s.Device), x.o.Logs.Forget(s.Device), x.o.Activity.Drop(s.Device)); err != nil {
			return d, err
		}
	}
	defer x.tell(s.Device, d.Series)
	d.Readings = 0
	for i := range d.Series {
		in := &d.Series[i]
		in.Readings, err = x.o.Store.Delete(ctx, s.Device, in.Metric, s.From, s.To)
		if d.Readings += in.Readings; err != nil {
			return d, err
		}
	}
	return d, nil
}

// end is after every reading.
var end = time.Date(2248, 1, 1, 0, 0, 0, 0, time.UTC)

// tell says what is the newest now of the metrics that were touched.
func (x *Deleter) tell(device string, touched []Series) {
	x.o.Forget(device)
	e := event.Deleted{Device: device}
	for _, in := range touched {
		e.Metrics = append(e.Metrics, in.Metric)
		// Where the newest cannot be read the metric is shown without a value, until
		// the next one comes.
		if r, ok, err := x.o.Store.Last(context.Background(), device, in.Metric, end); err == nil && ok {
			e.Latest = append(e.Latest, r)
		}
	}
	x.o.Bus.Publish(e)
}
