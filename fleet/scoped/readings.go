package scoped

import (
	"context"
	"time"

	"ullage/core/exchange"
	"ullage/core/person"
	"ullage/core/series"
	"ullage/fleet/access"
	"ullage/fleet/deletion"
	"ullage/fleet/imports"
	"ullage/fleet/query"
)

// narrow makes a query one about what the caller sees.
func (f *Fleet) narrow(c access.Caller, q query.Query) (query.Query, error) {
	for _, id := range q.Devices {
		if err := f.reach(c, person.Viewer, id); err != nil {
			return q, err
		}
	}
	if len(q.Devices) > 0 || c.MayAll(person.Viewer) {
		return q, nil
	}
	_, ids, err := f.Among(c, q.Where)
	q.Among = append([]string{}, ids...)
	return q, err
}

// Plan checks a query.
func (f *Fleet) Plan(c access.Caller, q query.Query) (*query.Plan, error) {
	q, err := f.narrow(c, q)
	if err != nil {
		return nil, err
	}
	return f.o.Queries.Plan(q)
}

// Each answers a plan line by line.
func (f *Fleet) Each(ctx context.Context, p *query.Plan, yield func(query.Line) error) error {
	return f.o.Queries.Each(ctx, p, yield)
}

// Query answers a query.
func (f *Fleet) Query(ctx context.Context, c access.Caller, q query.Query) (*query.Answer, error) {
	q, err := f.narrow(c, q)
	if err != nil {
		return nil, err
	}
	return f.o.Queries.Run(ctx, q)
}

// Export gives every single reading that a query is about.
func (f *Fleet) Export(ctx context.Context, c access.Caller, q query.Query, yield func(device, metric, unit string, x series.Point) error) error {
	q, err := f.narrow(c, q)
	if err != nil {
		return err
	}
	return f.o.Queries.Export(ctx, q, yield)
}

// Statistics describes the numbers of one metric.
func (f *Fleet) Statistics(ctx context.Context, c access.Caller, q query.Query) (*query.Statistics, error) {
	q, err := f.narrow(c, q)
	if err != nil {
		return nil, err
	}
	return f.o.Queries.Statistics(ctx, q)
}

// Forecast tells what probably comes of one metric.
func (f *Fleet) Forecast(ctx context.Context, c access.Caller, q query.Query, ahead time.Duration) (*query.Outlook, error) {
	q, err := f.narrow(c, q)
	if err != nil {
		return nil, err
	}
	return f.o.Queries.Forecast(ctx, q, ahead)
}

// Readings gives single readings of a metric of a device, in order of time.
func (f *Fleet) Readings(ctx context.Context, c access.Caller, id, metric string, from, to time.Time, yield func(series.Point) error) error {
	if err := f.reach(c, person.Viewer, id); err != nil {
		return err
	}
	return f.o.History.Readings(ctx, id, metric, from, to, yield)
}

// Exists returns an error unless the caller sees a device.
func (f *Fleet) Exists(c access.Caller, id string) error { return f.reach(c, person.Viewer, id) }

// Import takes readings of the past in. Rows of devices that the caller may not
// change are refused as those of devices that do not exist.
func (f *Fleet) Import(ctx context.Context, c access.Caller, r exchange.Reader, evaluate bool) (*imports.Result, error) {
	defer f.o.Queries.Forget() // of an import that breaks off a part is in
	return f.o.Importer.Run(ctx, r, evaluate, func(id string) bool { return c.May(person.Engineer, id) })
}

// Unwanted counts readings that would be deleted.
func (f *Fleet) Unwanted(ctx context.Context, c access.Caller, s deletion.Span) (deletion.Deletion, error) {
	if err := f.reach(c, person.Engineer, s.Device); err != nil {
		return deletion.Deletion{}, err
	}
	return f.o.Deleter.Preview(ctx, s)
}

// Delete deletes readings of a device.
func (f *Fleet) Delete(ctx context.Context, c access.Caller, s deletion.Span) (deletion.Deletion, error) {
	if err := f.reach(c, person.Engineer, s.Device); err != nil {
		return deletion.Deletion{}, err
	}
	defer f.o.Queries.Forget()
	return f.o.Deleter.Delete(ctx, s, c.Name)
}

// Flow tells how many readings and refusals there were since the start, and how many
// readings come a second; known is false for whoever does not see all devices.
func (f *Fleet) Flow(c access.Caller) (readings, refused uint64, perSecond float64, known bool) {
	if !c.MayAll(person.Viewer) {
		return 0, 0, 0, false
	}
	readings, _, refused = f.o.Intake.Counts()
	return readings, refused, f.o.Meter.PerSecond(), true
}

// Whole returns an error unless the caller sees all devices: what is about the store
// as a whole is for them.
func (f *Fleet) Whole(c access.Caller) error { return f.everywhere(c, person.Viewer) }

// ModelNameOf returns the name of a device's model; false if there is no such device.
func (f *Fleet) ModelNameOf(c access.Caller, id string) (string, bool) {
	if !c.Sees(id) {
		return "", false
	}
	d, err := f.o.Devices.Get(id)
	return d.Model, err == nil
}
