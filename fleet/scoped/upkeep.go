package scoped

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/query"
)

// Upkeep is what keeps a device going.
type Upkeep struct {
	Site, Model string
	query.Upkeep
}

// Upkeep tells what keeps the devices going for which a condition is true: those whose battery
// is empty first come first, and last those of which nothing is known.
func (f *Fleet) Upkeep(ctx context.Context, c access.Caller, where string) ([]Upkeep, error) {
	all, err := f.inUse(c, where)
	if err != nil {
		return nil, err
	}
	out := []Upkeep{}
	for _, d := range all {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		u, err := f.o.Queries.Upkeep(ctx, d)
		if err != nil {
			return nil, err
		}
		if u.Battery != nil || u.Signal != nil {
			out = append(out, Upkeep{d.Labels["site"], d.Model, u})
		}
	}
	empty := func(u Upkeep) int64 {
		switch b := u.Battery; {
		case b == nil:
			return 1<<62 + 1
		case b.Empty.Likely.IsZero():
			return 1 << 62
		default:
			return b.Empty.Likely.Unix()
		}
	}
	slices.SortStableFunc(out, func(a, b Upkeep) int {
		return cmp.Or(cmp.Compare(empty(a), empty(b)), cmp.Compare(a.Device, b.Device))
	})
	return out, nil
}

// inUse are the devices for which a condition is true and that are not retired.
func (f *Fleet) inUse(c access.Caller, where string) ([]devices.Device, error) {
	among, _, err := f.Among(c, where)
	if err != nil {
		return nil, err
	}
	var out []devices.Device
	for _, d := range f.o.Devices.List() {
		if d.Status != devices.Retired && (among == nil || among[d.ID]) && c.May(person.Viewer, d.ID) {
			out = append(out, d)
		}
	}
	return out, nil
}

// Course is how many devices had what over a span that ends now.
type Course struct {
	At    []time.Time // evenly spaced; the last is now
	Parts []Part      // what most have now comes first
}

// Part are the devices that had one of it: a firmware, or a version of a model.
type Part struct {
	Name   string // the model, with its version or the firmware; the model alone where none was told
	Counts []int  // at each moment
	// First is when the first that is known of had it; where the span begins for those that had it then.
	First time.Time
}

// The kinds of a Course.
const (
	OfFirmware = "firmware"
	OfModel    = "model"
)

const courseSteps = 60

// earliest is when the first of devices was onboarded; zero for none.
func earliest(ds []devices.Device) (out time.Time) {
	for _, d := range ds {
		if out.IsZero() || d.JoinedAt.Before(out) {
			out = d.JoinedAt
		}
	}
	return out
}

// Course tells how many of the devices for which a condition is true had which firmware, or
// which version of their model.
func (f *Fleet) Course(ctx context.Context, c access.Caller, where, of string, span time.Duration) (Course, error) {
	if span < time.Hour || span > 2*366*24*time.Hour {
		return Course{}, fault.New(fault.Invalid, "the span is %s; it is between an hour and two years", span)
	}
	kind, present, name := commit.Version, func(d devices.Device) string { return d.Model + " " + d.Version },
		func(_ devices.Device, v string) string { return v }
	if of == OfFirmware {
		kind, present = commit.Firmware, func(d devices.Device) string {
			if v, ok := d.Attributes["firmware"]; ok {
				return v.String()
			}
			return ""
		}
		// Two models may well number theirs alike.
		name = func(d devices.Device, v string) string { return strings.TrimSpace(d.Model + " " + v) }
	}
	all, err := f.inUse(c, where)
	if err != nil {
		return Course{}, err
	}
	now := f.o.Now()
	from := now.Add(-span)
	if joined := earliest(all); joined.After(from) { // there was nobody before that
		span = max(now.Sub(joined), time.Minute)
		from = now.Add(-span)
	}
	told, err := f.o.Changes.Since(ctx, kind, from)
	if err != nil {
		return Course{}, err
	}
	changes := map[string][]commit.Validity{}
	for _, v := range told {
		changes[v.Subject] = append(changes[v.Subject], v)
	}
	out := Course{}
	for i := range courseSteps + 1 {
		out.At = append(out.At, from.Add(span*time.Duration(i)/courseSteps))
	}
	parts := map[string]*Part{}
	for _, d := range all {
		cs := changes[d.ID]
		slices.SortFunc(cs, func(a, b commit.Validity) int { return a.From.Compare(b.From) })
		is := present(d)
		// What it has now was told before changes were kept, or changed too often for all of
		// them to be.
		switch {
		case len(cs) == 0:
			cs = []commit.Validity{{From: d.JoinedAt, Value: is}}
		case cs[len(cs)-1].Value != is:
			cs = append(cs, commit.Validity{From: now, Value: is})
		}
		next, has, since := 0, "", d.JoinedAt
		for i, at := range out.At {
			for next < len(cs) && !cs[next].From.After(at) {
				has, since = cs[next].Value, cs[next].From
				next++
			}
			if at.Before(d.JoinedAt) {
				continue
			}
			p := parts[name(d, has)]
			if p == nil {
				p = &Part{Name: name(d, has), Counts: make([]int, len(out.At))}
				parts[p.Name] = p
			}
			p.Counts[i]++
			if first := latest(since, from); p.First.IsZero() || first.Before(p.First) {
				p.First = first
			}
		}
	}
	for _, p := range parts {
		out.Parts = append(out.Parts, *p)
	}
	slices.SortFunc(out.Parts, func(a, b Part) int {
		last := len(out.At) - 1
		return cmp.Or(cmp.Compare(b.Counts[last], a.Counts[last]), cmp.Compare(a.Name, b.Name))
	})
	return out, nil
}
