package scoped

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/fleet/access"
	"ullage/fleet/alarms"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// maxMeasured is how many alarms the performance of the alarm system is measured over.
const maxMeasured = 500_000

// Performance measures the alarms that have called somebody about what the caller sees,
// within a span.
func (f *Fleet) Performance(ctx context.Context, c access.Caller, from, to time.Time, operators int) (lifecycle.Performance, error) {
	switch {
	case !from.Before(to):
		return lifecycle.Performance{}, fault.New(fault.Invalid, "the span ends before it begins")
	case to.Sub(from) > 400*24*time.Hour:
		return lifecycle.Performance{}, fault.New(fault.Invalid, "the span has more than 400 days").Then("say a shorter one")
	}
	all, err := f.annunciated(ctx, c, from, to)
	if err != nil {
		return lifecycle.Performance{}, err
	}
	return lifecycle.Measure(all, from, to, operators), nil
}

// annunciated returns the alarms that have called somebody, in order of time.
func (f *Fleet) annunciated(ctx context.Context, c access.Caller, from, to time.Time) ([]lifecycle.Annunciated, error) {
	_, among, err := f.Among(c, "")
	if err != nil {
		return nil, err
	}
	var all []lifecycle.Annunciated
	// What ends an alarm is told after it, and read before it: the newest come first.
	returned, acked := map[string]time.Time{}, map[string]time.Time{}
	for before := int64(0); ; {
		page, err := f.o.Facts.Facts(ctx, fact.Filter{Among: among, Noun: "alarm", Since: from, Before: before, Limit: 5000})
		if err != nil {
			return nil, err
		}
		for _, x := range page {
			switch x.Kind {
			case fact.AlarmReturned:
				returned[x.Alarm] = x.At
			case fact.AlarmAcknowledged:
				acked[x.Alarm] = x.At
			case fact.AlarmRaised:
				var r fact.Raised
				if json.Unmarshal(x.Content, &r) != nil || r.Late || r.Aside != "" || !x.At.Before(to) || x.At.Before(from) {
					continue
				}
				a := lifecycle.Annunciated{At: x.At, Rule: x.Rule, Subject: x.Device + x.Group, Rank: rule.Priority(r.Priority).Rank(), Returned: returned[x.Alarm], Acknowledged: acked[x.Alarm]}
				delete(returned, x.Alarm) // it came up again after this
				delete(acked, x.Alarm)
				if a.Returned.After(to) {
					a.Returned = time.Time{}
				}
				all = append(all, a)
			}
		}
		if len(all) > maxMeasured {
			return nil, fault.New(fault.TooLarge, "there are more than %d alarms in that time", maxMeasured).Then("say a shorter span")
		}
		if len(page) < 5000 {
			break
		}
		before = page[len(page)-1].Number
	}
	slices.SortStableFunc(all, func(a, b lifecycle.Annunciated) int { return a.At.Compare(b.At) })
	return all, nil
}

// Handover is what the next shift has to know.
type Handover struct {
	Open    []alarms.Alarm // that call somebody, the most urgent first
	Aside   []alarms.Alarm
	Shelves []alarms.Shelf
	// Raised, Returned and Comments are of the hours that are over.
	Raised, Returned int
	Comments         []fact.Fact
	Coming           []Coming
}

// Coming is maintenance that is on, or begins soon.
type Coming struct {
	Name, Why string
	Begins    time.Time // zero if it is on
	To        time.Time
	Devices   int
}

// Handover gathers what has been in the hours since a time, and what is coming.
func (f *Fleet) Handover(ctx context.Context, c access.Caller, since time.Time, ahead time.Duration) (Handover, error) {
	var out Handover
	now := f.o.Now()
	if since.After(now) || now.Sub(since) > 31*24*time.Hour {
		return out, fault.New(fault.Invalid, "a shift begins within the last 31 days").Then("say for how long, like 8h")
	}
	open, err := f.Alarms(ctx, c, "", alarms.Filter{Open: true, Limit: 5000})
	if err != nil {
		return out, err
	}
	slices.SortStableFunc(open, func(a, b alarms.Alarm) int {
		if d := a.Priority.Rank() - b.Priority.Rank(); d != 0 {
			return d
		}
		return b.RaisedAt.Compare(a.RaisedAt)
	})
	for _, a := range open {
		if a.Aside.Any() {
			out.Aside = append(out.Aside, a)
		} else {
			out.Open = append(out.Open, a)
		}
	}
	if out.Shelves, err = f.Shelves(ctx, c); err != nil {
		return out, err
	}
	all, err := f.annunciated(ctx, c, since, now.Add(time.Millisecond))
	if err != nil {
		return out, err
	}
	out.Raised = len(all)
	for _, a := range all {
		if !a.Returned.IsZero() {
			out.Returned++
		}
	}
	_, among, err := f.Among(c, "")
	if err != nil {
		return out, err
	}
	if out.Comments, err = f.o.Facts.Facts(ctx, fact.Filter{Among: among, Kind: fact.AlarmCommented, Since: since, Limit: 200}); err != nil {
		return out, err
	}
	for _, m := range f.Coming(c, ahead) {
		out.Coming = append(out.Coming, Coming{Name: m.Name, Why: m.Why, Begins: m.Begins, To: m.To, Devices: m.Count})
	}
	return out, nil
}
