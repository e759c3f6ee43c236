// Package health judges how a device is: its link, its headspace and its
// health, always with the reasons.
package health

import (
	"fmt"
	"math"
	"time"

	"ullage/core/rule"
	"ullage/core/stats"
	"ullage/core/value"
)

// Link says whether readings come as expected.
type Link string

// The links.
const (
	Never   Link = "never"
	Online  Link = "online"
	Overdue Link = "overdue"
	Silent  Link = "silent"
)

// LinkOf judges a link by the time of the newest reading: overdue after 1.5 times
// the expected interval, silent after 3 times. A device that only empties an
// old backlog is not online yet. It also returns when the
// link changes next if nothing arrives; the zero time if it will not.
func LinkOf(last, now time.Time, interval time.Duration) (Link, time.Time) {
	if last.IsZero() {
		return Never, time.Time{}
	}
	overdue, silent := last.Add(interval*3/2), last.Add(interval*3)
	switch {
	case now.Before(overdue):
		return Online, overdue
	case now.Before(silent):
		return Overdue, silent
	}
	return Silent, time.Time{}
}

// Margin is how far a device is from the limit of one rule, at the comparison
// that decides.
type Margin struct {
	Rule   string
	Metric string // the metric it is about
	Of     string // what moves, as written: must_temp, or rate(must_temp over 1h)
	Unit   string // symbol of the unit of Value and Limit
	Value  float64
	Limit  float64
	// Upward says that the alarm lies above the limit.
	Upward bool
	// Headspace is 1 at the usual value and 0 at the limit or beyond it.
	Headspace float64
	// Known is false while there is no usual value to measure from.
	Known bool
	// Reason explains a headspace of 0 that the value alone does not.
	Reason string
	// Approaching says that a trend leads to the limit, so that it is worth working
	// out when it gets there.
	Approaching bool
	// ToLimit is when it probably gets there; zero if it does not, or nobody has
	// worked it out.
	ToLimit ToLimit
}

// ToLimit is when a limit is probably reached, with 95 % confidence not before
// Early and not after Late. Each is zero where that is not within what was looked at.
type ToLimit struct{ Likely, Early, Late time.Time }

// MaxToLimit is how far ahead a limit is announced.
const MaxToLimit = 7 * 24 * time.Hour

// Approaching reports whether a margin surely falls along a trend, in margins a
// second, and fast enough to reach 0 within MaxToLimit.
func Approaching(trend stats.Trend, margin float64) bool {
	return margin > 0 && trend.Slope < 0 && trend.High < 0 && margin/-trend.Slope <= MaxToLimit.Seconds()
}

// Health is the one word for how a device is.
type Health string

// The kinds of health, the worst first.
const (
	Dark    Health = "dark"
	Poor    Health = "poor"
	Watch   Health = "watch"
	Awaited Health = "awaited" // never connected yet
	Sound   Health = "sound"
	// None is that of a suspended or retired device.
	None Health = ""
)

// LowHeadspace is the headspace under which a device is on watch.
const LowHeadspace = 0.20

// DriftGrace is how long drift may last before a device is on watch.
const DriftGrace = 15 * time.Minute

// RefusalsToWatch is how many refusals within an hour put a device on watch.
const RefusalsToWatch = 5

// EndsSoon is how long before the end of its last credential a device is on watch.
const EndsSoon = 30 * 24 * time.Hour

// Alarm is what health needs to know of an open alarm.
type Alarm struct {
	Rule     string
	Priority rule.Priority
	Holds    bool
}

// Signs are what the health of a device is judged by.
type Signs struct {
	Link       Link
	LastAt     time.Time
	Interval   time.Duration
	Alarms     []Alarm
	Least      *Margin // the margin with the least headspace, nil for none
	DriftSince time.Time
	Drifting   []string
	Refusals   int // within the last hour
	// Ends is when the last credential ends, and Shared two addresses from which one is
	// used at once; zero for neither.
	Ends   time.Time
	Shared string
	// Clock is what is known against the clock behind its newest reading.
	Clock value.Quality
	// Out says why the device is out of service: "suspended" or "retired"; "" if
	// it is not.
	Out string
}

// What is said of a device whose clock cannot be right.
const (
	ClockNotSet = "its clock is not set"
	ClockAhead  = "its clock is ahead"
)

// Judge returns the health and every reason that speaks for it, the weightiest
// first. A device that never connected is awaited; one that is suspended or
// retired has no health.
func Judge(s Signs, now time.Time) (Health, []string) {
	if s.Out != "" {
		return None, []string{s.Out}
	}
	var dark, poor, watch []string
	if s.Link == Silent {
		dark = append(dark, fmt.Sprintf("silent for %s, expected every %s",
			Ago(now.Sub(s.LastAt)), value.Duration(s.Interval)))
	}
	for _, a := range s.Alarms {
		reason := fmt.Sprintf("%s alarm %s", a.Priority, a.Rule)
		if !a.Holds {
			reason += ", returned and not acknowledged"
		}
		if a.Priority.Rank() <= rule.High.Rank() {
			poor = append(poor, reason)
		} else {
			watch = append(watch, reason)
		}
	}
	if s.Least != nil && s.Least.Known && s.Least.Headspace < LowHeadspace {
		watch = append(watch, fmt.Sprintf("headspace %d %% on %s", int(math.Round(s.Least.Headspace*100)),
			s.Least.Metric))
	}
	if !s.DriftSince.IsZero() && now.Sub(s.DriftSince) >= DriftGrace {
		for _, name := range s.Drifting {
			watch = append(watch, fmt.Sprintf("%s has drifted for %s", name, Ago(now.Sub(s.DriftSince))))
		}
	}
	if s.Refusals >= RefusalsToWatch {
		watch = append(watch, fmt.Sprintf("%d refusals within an hour", s.Refusals))
	}
	if left := s.Ends.Sub(now); !s.Ends.IsZero() && left < EndsSoon {
		if left <= 0 {
			watch = append(watch, "its certificate has ended")
		} else {
			watch = append(watch, fmt.Sprintf("its certificate ends in %s", Ago(left)))
		}
	}
	if s.Shared != "" {
		watch = append(watch, "one credential from two addresses, "+s.Shared)
	}
	switch {
	case s.Clock&value.ClockNotSet != 0:
		watch = append(watch, ClockNotSet)
	case s.Clock&value.ClockAhead != 0:
		watch = append(watch, ClockAhead)
	}
	reasons := append(append(dark, poor...), watch...)
	switch {
	case len(dark) > 0:
		return Dark, reasons
	case len(poor) > 0:
		return Poor, reasons
	case len(watch) > 0:
		return Watch, reasons
	case s.Link == Never:
		return Awaited, []string{"never connected yet"}
	}
	return Sound, nil
}

// Ago writes a length of time with one or two units: 40s, 38min, 6h12min, 3d4h.
func Ago(d time.Duration) string {
	return value.Duration(d.Truncate(unit(d))).String()
}

// Stays is how long Ago writes a length of time that grows as it writes d.
func Stays(d time.Duration) time.Duration { return d.Truncate(unit(d)) + unit(d) - d }

// unit is the smaller of the units in which Ago writes d.
func unit(d time.Duration) time.Duration {
	switch {
	case d < time.Minute:
		return time.Second
	case d < 24*time.Hour:
		return time.Minute
	}
	return time.Hour
}
