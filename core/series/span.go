package series

import (
	"fmt"
	"strings"
	"time"

	"ullage/core/value"
)

// Days is the Grid of local days in a zone; where the clocks change a day has
// 23 or 25 hours.
type Days struct{ Zone *time.Location }

// Cell implements Grid.
func (d Days) Cell(at int64) (from, to int64) {
	t := time.UnixMilli(at).In(d.Zone)
	y, m, day := t.Date()
	return time.Date(y, m, day, 0, 0, 0, 0, d.Zone).UnixMilli(), time.Date(y, m, day+1, 0, 0, 0, 0, d.Zone).UnixMilli()
}

// GridOf returns the grid of a step: local days for one day, else whole
// multiples of the step since 1970 (UTC). It fails where more than MaxSteps
// cells would lie in the span, or the step is below a millisecond.
func GridOf(step time.Duration, zone *time.Location, from, to time.Time) (Grid, error) {
	if step < time.Millisecond {
		return nil, fmt.Errorf("the step %s is too small; 1 ms is the least", step)
	}
	if n := to.Sub(from) / step; n > MaxSteps {
		return nil, fmt.Errorf("that would be %d steps; at most %d are given, so widen the step or shorten the span", n,
			MaxSteps)
	}
	if step == 24*time.Hour {
		return Days{zone}, nil
	}
	return Every(step.Milliseconds()), nil
}

// ParseSpan reads a span of time as people say it, as of now in a zone:
//
//	6h, 7d, 1h30min                    until now
//	today, yesterday                   local days
//	this week, last week               from Monday
//	this month, last month
//	2026-03-01                         that day
//	2026-03-01..2026-03-03             from the first day to the end of the last
//	2026-03-01T10:00..12h, ..now       from a time for so long, or until now
//
// Times may have a zone, as in RFC 3339; else they are local. The end is not
// included.
func ParseSpan(text string, now time.Time, zone *time.Location) (from, to time.Time, err error) {
	s := strings.Join(strings.FieldsFunc(strings.ToLower(strings.TrimSpace(text)), func(r rune) bool {
		return r == ' ' || r == '-' && !strings.ContainsAny(text, "0123456789")
	}), " ")
	local := now.In(zone)
	y, m, d := local.Date()
	day := func(y int, m time.Month, d int) time.Time { return time.Date(y, m, d, 0, 0, 0, 0, zone) }
	monday := d - (int(local.Weekday())+6)%7
	switch s {
	case "today":
		return day(y, m, d), day(y, m, d+1), nil
	case "yesterday":
		return day(y, m, d-1), day(y, m, d), nil
	case "this week":
		return day(y, m, monday), day(y, m, monday+7), nil
	case "last week":
		return day(y, m, monday-7), day(y, m, monday), nil
	case "this month":
		return day(y, m, 1), day(y, m+1, 1), nil
	case "last month":
		return day(y, m-1, 1), day(y, m, 1), nil
	}
	bad := fmt.Errorf("%q is no span; write it like 6h, 7d, today, yesterday, this week, 2026-03-01 or 2026-03-01..2026-03-03", text)
	text = strings.TrimSpace(text)
	if a, b, between := strings.Cut(text, ".."); between {
		if from, _, err = parseTime(strings.TrimSpace(a), zone); err != nil {
			return from, to, bad
		}
		switch b = strings.TrimSpace(b); {
		case b == "" || strings.EqualFold(b, "now"):
			to = now
		default:
			if w, e := value.ParseDuration(b); e == nil {
				to = from.Add(w.Std())
				break
			}
			var whole bool
			if to, whole, err = parseTime(b, zone); err != nil {
				return from, to, bad
			}
			if whole {
				to = to.AddDate(0, 0, 1)
			}
		}
		if !from.Before(to) {
			return from, to, fmt.Errorf("the span %q ends before it begins", text)
		}
		return from, to, nil
	}
	if w, e := value.ParseDuration(text); e == nil && w.Std() > 0 {
		return now.Add(-w.Std()), now, nil
	}
	if at, whole, e := parseTime(text, zone); e == nil && whole {
		return at, at.AddDate(0, 0, 1), nil
	}
	return from, to, bad
}

// parseTime reads a local day, or a time with or without a zone.
func parseTime(s string, zone *time.Location) (at time.Time, whole bool, err error) {
	if at, err = time.ParseInLocation(time.DateOnly, s, zone); err == nil {
		return at, true, nil
	}
	if at, err = time.Parse(time.RFC3339, s); err == nil {
		return at, false, nil
	}
	for _, layout := range []string{"2006-01-02T15:04", "2006-01-02T15:04:05", "2006-01-02 15:04"} {
		if at, err = time.ParseInLocation(layout, s, zone); err == nil {
			return at, false, nil
		}
	}
	return at, false, err
}
