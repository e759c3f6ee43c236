// Package history reads what is stored of a metric under all the names that it
// has had. A metric that a version of a model renames keeps its history: what
// stands under a name before counts as what stands under the one it has now.
package history

import (
	"context"
	"errors"
	"slices"
	"time"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/models"
)

// Store holds readings by device and name.
type Store interface {
	Readings(ctx context.Context, device, metric string, from, to time.Time, yield func(series.Point) error) error
	Cells(ctx context.Context, device, metric string, from, to time.Time, grid series.Grid,
		width int64) ([]series.Rollup, error)
	Last(ctx context.Context, device, metric string, at time.Time) (value.Reading, bool, error)
	Latest(ctx context.Context, yield func(device string, r value.Reading)) error
}

// History is a Store that knows of names before.
type History struct {
	store   Store
	devices *devices.Registry
	models  *models.Catalogue
}

// New returns a History over a Store.
func New(store Store, d *devices.Registry, m *models.Catalogue) *History {
	return &History{store, d, m}
}

// Names returns the names of a metric of a device: the one it has, and those
// that it had before.
func (h *History) Names(device, metric string) []string {
	d, err := h.devices.Get(device)
	if err != nil {
		return []string{metric}
	}
	m, err := h.models.Of(d.Model, d.Version)
	if err != nil {
		return []string{metric}
	}
	p, ok := m.Property(metric)
	if !ok || len(p.Was) == 0 {
		return []string{metric}
	}
	return append([]string{metric}, p.Was...)
}

// Readings calls yield with the readings of a span, in order, whatever name they
// stand under. Of two of the same time the newer name has the right one.
func (h *History) Readings(ctx context.Context, device, metric string, from, to time.Time,
	yield func(series.Point) error) error {
	names := h.Names(device, metric)
	if len(names) == 1 {
		return h.store.Readings(ctx, device, metric, from, to, yield)
	}
	runs := make([]*run, len(names))
	var lost *series.Lost
	for i, name := range names {
		runs[i] = &run{device: device, name: name, from: from}
	}
	for {
		var first *run
		for _, r := range runs {
			if err := h.fill(ctx, r, to, &lost); err != nil {
				return err
			}
			if len(r.page) > 0 && (first == nil || r.page[0].At.Before(first.page[0].At)) {
				first = r
			}
		}
		if first == nil {
			break
		}
		p := first.page[0]
		if err := yield(p); err != nil {
			return err
		}
		for _, r := range runs {
			if len(r.page) > 0 && r.page[0].At.Equal(p.At) {
				r.page = r.page[1:]
			}
		}
	}
	if lost != nil {
		return lost
	}
	return nil
}

// run reads one series a page at a time, so that no two are open at once: each
// takes a connection, of which there are few.
type run struct {
	device, name string
	from         time.Time
	page         []series.Point
	over         bool
}

// pageSize is how many readings of one name are held at most.
const pageSize = 4096

var errFull = errors.New("the page is full")

// fill reads the next page if the one before is used up, and notes what was lost.
func (h *History) fill(ctx context.Context, r *run, to time.Time, lost **series.Lost) error {
	if len(r.page) > 0 || r.over {
		return nil
	}
	var page []series.Point
	err := h.store.Readings(ctx, r.device, r.name, r.from, to, func(p series.Point) error {
		if len(page) == pageSize {
			return errFull
		}
		page = append(page, p)
		return nil
	})
	var gone *series.Lost
	if errors.As(err, &gone) {
		*lost = (*lost).Add(gone)
	}
	switch {
	case errors.Is(err, errFull):
		r.from = page[len(page)-1].At.Add(time.Millisecond)
	case err != nil && gone == nil:
		return err
	default:
		r.over = true
	}
	r.page = page
	return nil
}

// Cells sums a span up on a grid, whatever name its readings stand under.
func (h *History) Cells(ctx context.Context, device, metric string, from, to time.Time, grid series.Grid,
	width int64) ([]series.Rollup, error) {
	names := h.Names(device, metric)
	if len(names) == 1 {
		return h.store.Cells(ctx, device, metric, from, to, grid, width)
	}
	var out []series.Rollup
	var lost *series.Lost
	for _, name := range slices.Backward(names) {
		cells, err := h.store.Cells(ctx, device, name, from, to, grid, width)
		more, err := series.Whole(err)
		if err != nil {
			return nil, err
		}
		lost = lost.Add(more)
		out = append(out, cells...)
	}
	// A cell in which one name ends and the next begins is one.
	slices.SortStableFunc(out, func(a, b series.Rollup) int { return int(a.At - b.At) })
	out = series.Coarser(out, grid)
	if lost != nil {
		return out, lost
	}
	return out, nil
}

// Last returns the newest reading at or before a time, whatever name it stands
// under; the reading has the name that is asked for.
func (h *History) Last(ctx context.Context, device, metric string, at time.Time) (value.Reading, bool, error) {
	var best value.Reading
	found := false
	for _, name := range h.Names(device, metric) {
		r, ok, err := h.store.Last(ctx, device, name, at)
		if err != nil {
			return r, false, err
		}
		if ok && (!found || r.At.After(best.At)) {
			best, found = r, true
		}
	}
	best.Metric = metric
	return best, found, nil
}

// Latest calls yield with the newest reading of every series, under the name that its
// metric has now. A metric may come twice, once for each of its names.
func (h *History) Latest(ctx context.Context, yield func(device string, r value.Reading)) error {
	return h.store.Latest(ctx, func(device string, r value.Reading) {
		if d, err := h.devices.Get(device); err == nil {
			if m, err := h.models.Of(d.Model, d.Version); err == nil {
				if p, ok := m.Called(r.Metric); ok {
					r.Metric = p.Name
				}
			}
		}
		yield(device, r)
	})
}
