package scoped

import (
	"context"
	"slices"
	"time"

	"ullage/core/expr"
	"ullage/core/health"
	"ullage/core/model"
	"ullage/core/person"
	"ullage/core/value"
	"ullage/fleet/access"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/traffic"
)

// Origin is where a reading is from.
type Origin struct {
	value.Reading
	Property *model.Property
	Interval time.Duration
	// Message is the one that brought it; nil where that is not kept, and Gone says why.
	Message *traffic.Entry
	Gone    string
	// Inputs are the readings from which it was derived, where it was.
	Inputs []value.Reading
	// Limits are those of the rules that look at the metric; of the newest reading alone.
	Limits []health.Margin
}

// Origin tells where the newest reading of a metric at or before a time is from; that of now
// where the time is zero.
func (f *Fleet) Origin(ctx context.Context, c access.Caller, id, metric string, at time.Time) (Origin, error) {
	if err := f.reach(c, person.Viewer, id); err != nil {
		return Origin{}, err
	}
	d, m, err := f.Registered(c, id)
	if err != nil {
		return Origin{}, err
	}
	p, ok := m.Property(metric)
	if !ok || p.Role != model.Telemetry {
		e := fault.New(fault.NotFound, "%s has no telemetry %s", m, value.Clip(metric, 60)).On("metric")
		if near := m.Nearest(metric, model.Telemetry); near != "" {
			e = e.Then("did you mean %s?", near)
		}
		return Origin{}, e
	}
	now := at.IsZero()
	if now {
		at = f.o.Now().Add(time.Hour) // a clock may be ahead
	}
	r, ok, err := f.o.History.Last(ctx, d.ID, metric, at)
	if err != nil {
		return Origin{}, err
	}
	if !ok {
		return Origin{}, fault.New(fault.NotFound, "no reading of %s is kept from before that", metric).
			Then("see for how long its model keeps readings, and what arrives in its traffic").On("metric")
	}
	out := Origin{Reading: r, Property: p, Interval: m.Interval}
	if now {
		for _, x := range f.o.Present.Margins(id) {
			if x.Metric == metric {
				out.Limits = append(out.Limits, x)
			}
		}
	}
	if p.Derived != "" {
		for _, name := range inputs(m, p) {
			if x, ok, err := f.o.History.Last(ctx, id, name, r.At); err == nil && ok {
				out.Inputs = append(out.Inputs, x)
			}
		}
	}
	return out, f.carrier(ctx, m, id, &out)
}

// inputs are the telemetry that a derived one is computed from.
func inputs(m *model.Model, p *model.Property) (out []string) {
	tree, _ := expr.Parse(p.Derived)
	tree.Names(func(n expr.Name, _ expr.Span) {
		if x, ok := m.Property(n.Key); n.Scope == "" && ok && x.Role == model.Telemetry && !slices.Contains(out, n.Key) {
			out = append(out, n.Key)
		}
	})
	return out
}

// carrier looks for the message that brought a reading: soon after it was taken, and then
// later, as of what came late.
func (f *Fleet) carrier(ctx context.Context, m *model.Model, id string, o *Origin) error {
	carries := func(e *traffic.Entry) bool {
		return e.Direction == traffic.Up && e.Topic == string(ingest.Readings) && e.Kept > 0 && brings(m, id, e, o)
	}
	spans := []struct{ from, to time.Time }{
		{o.At.Add(-time.Second), o.At.Add(2 * time.Minute)},
		{o.At.Add(-time.Hour), f.o.Now().Add(time.Second)}, // of a clock that is ahead, it is before that
	}
	for _, s := range spans {
		found, _, err := f.o.Traffic.Past(ctx, traffic.Filter{Device: id, From: s.from, To: s.to, Match: carries, Limit: 1})
		if err != nil {
			return err
		}
		if len(found) > 0 {
			o.Message = &found[0]
			return nil
		}
	}
	o.Gone = "no message of it is kept: it was imported, or came in a message too long to be kept whole, or that has given way to newer ones"
	return nil
}

// brings reports whether a message holds a reading, or what it was derived from. Of one that
// cannot be read as it is kept, the time of its arrival says so.
func brings(m *model.Model, id string, e *traffic.Entry, o *Origin) bool {
	if e.Size > len(e.Body) {
		return e.At.Equal(o.At)
	}
	body := []byte(e.Body)
	read := m.Readings
	if m.IsPack(body) {
		read = func(b []byte, at time.Time) (model.Checked, error) { return m.Pack(b, id, at) }
	}
	checked, err := read(body, e.At)
	if err != nil {
		return e.At.Equal(o.At)
	}
	return slices.ContainsFunc(checked.Readings, func(r value.Reading) bool {
		return r.At.Equal(o.At) && (r.Metric == o.Metric || o.Property.Derived != "")
	})
}
