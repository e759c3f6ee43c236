package scoped

import (
	"cmp"
	"context"
	"slices"
	"time"

	"ullage/core/health"
	"ullage/fleet/access"
	"ullage/fleet/activity"
	"ullage/fleet/commit"
	"ullage/fleet/fault"
	"ullage/fleet/links"
)

// Changes reads what something was over time.
type Changes interface {
	// Since returns what everything of a kind was at a time, and every change of it after
	// that.
	Since(ctx context.Context, kind commit.ValidityKind, from time.Time) ([]commit.Validity, error)
	// First returns when each subject had something of a kind for the first time that is kept.
	First(ctx context.Context, kind commit.ValidityKind) (map[string]time.Time, error)
}

// Activity is how a device was in contact over a span.
type Activity struct {
	Device, Model, Version, Site, Firmware string
	From                                   time.Time // of the span, or when it was onboarded after that
	Online                                 float64   // share of the span, from 0 to 1
	health.Away
	Link     health.Link
	FirstAt  time.Time // when it was first heard that is known of; zero for never
	LastAt   time.Time // newest reading; zero for none
	Versions int       // of its model that it has had in the span
	Off      []health.Spell
	// Count is what passed in the span, from Counted on: since then it is counted, at the
	// earliest since the device is here.
	activity.Count
	Counted time.Time
}

// Activity tells how the devices for which a condition is true were in contact over a span that
// ends now, the worst first. One that was never heard of was not on line.
func (f *Fleet) Activity(ctx context.Context, c access.Caller, where string, span time.Duration) ([]Activity, error) {
	if span < time.Hour || span > 366*24*time.Hour {
		return nil, fault.New(fault.Invalid, "the span is %s; it is between an hour and a year", span)
	}
	all, err := f.inUse(c, where)
	if err != nil {
		return nil, err
	}
	now := f.o.Now()
	from := now.Add(-span)
	changed, err := f.o.Changes.Since(ctx, commit.Link, from)
	if err != nil {
		return nil, err
	}
	moved, err := f.o.Changes.Since(ctx, commit.Version, from)
	if err != nil {
		return nil, err
	}
	passed, since, err := f.o.Activity.Sum(ctx, from, now)
	if err != nil {
		return nil, err
	}
	first, err := f.o.Changes.First(ctx, commit.Link)
	if err != nil {
		return nil, err
	}
	spells, versions := links.Spells(changed), map[string]int{}
	for _, v := range moved {
		versions[v.Subject]++
	}
	out := []Activity{}
	for _, d := range all {
		a := Activity{Device: d.ID, Model: d.Model, Version: d.Version, Site: d.Labels["site"], From: from, Versions: versions[d.ID], FirstAt: first[d.ID]}
		if v, ok := d.Attributes["firmware"]; ok {
			a.Firmware = v.String()
		}
		if d.JoinedAt.After(from) {
			a.From = d.JoinedAt
		}
		a.Count, a.Counted = passed[d.ID], latest(from, since, d.JoinedAt)
		away := spells[d.ID]
		a.Link = health.Never
		if p, ok := f.o.Present.Get(d.ID); ok {
			a.Link, a.LastAt = p.Link, p.LastAt
		}
		if !a.LastAt.IsZero() && a.LastAt.Before(a.From) { // its readings are older than it is here
			if a.From = a.LastAt; a.From.Before(from) {
				a.From = from
			}
		}
		switch last := len(away) - 1; {
		case a.Link == health.Never:
			away = []health.Spell{{From: a.From}}
		case a.Link == health.Silent && (last < 0 || !away[last].End.IsZero()):
			// Not told as a change: it has been silent for as long as it is known, as one of which
			// there are only readings from elsewhere.
			away = append(away, health.Spell{From: a.LastAt})
		}
		a.Away = health.AwayIn(away, a.From, now)
		a.Off = away
		if width := now.Sub(a.From); width > 0 {
			a.Online = 1 - float64(a.Total)/float64(width)
		}
		out = append(out, a)
	}
	slices.SortStableFunc(out, func(a, b Activity) int {
		return cmp.Or(cmp.Compare(a.Online, b.Online), cmp.Compare(b.Spells, a.Spells), cmp.Compare(a.Device, b.Device))
	})
	return out, nil
}

func latest(ts ...time.Time) (out time.Time) {
	for _, t := range ts {
		if t.After(out) {
			out = t
		}
	}
	return out
}
