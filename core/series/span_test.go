package series_test

import (
	"testing"
	"time"
	_ "time/tzdata"

	"ullage/core/series"
)

func TestParseSpan(t *testing.T) {
	zone, err := time.LoadLocation("Pacific/Chatham")
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 4, 8, 1, 30, 0, 0, time.UTC) // a Wednesday, 14:15 there
	const form = "2006-01-02T15:04"
	for _, c := range []struct{ text, from, to string }{
		{"6h", "2026-04-08T08:15", "2026-04-08T14:15"},
		{"1h30min", "2026-04-08T12:45", "2026-04-08T14:15"},
		{"today", "2026-04-08T00:00", "2026-04-09T00:00"},
		{"Yesterday", "2026-04-07T00:00", "2026-04-08T00:00"},
		{"this week", "2026-04-06T00:00", "2026-04-13T00:00"},
		{"last-week", "2026-03-30T00:00", "2026-04-06T00:00"},
		{"this month", "2026-04-01T00:00", "2026-05-01T00:00"},
		{"last month", "2026-03-01T00:00", "2026-04-01T00:00"},
		{"2026-04-05", "2026-04-05T00:00", "2026-04-06T00:00"}, // the day with 25 hours
		{"2026-04-01..2026-04-03", "2026-04-01T00:00", "2026-04-04T00:00"},
		{"2026-04-01T10:00..12h", "2026-04-01T10:00", "2026-04-01T22:00"},
		{"2026-04-07T20:00:00Z..now", "2026-04-08T08:45", "2026-04-08T14:15"},
		{"2026-04-01 .. ", "2026-04-01T00:00", "2026-04-08T14:15"},
	} {
		from, to, err := series.ParseSpan(c.text, now, zone)
		if err != nil || from.In(zone).Format(form) != c.from || to.In(zone).Format(form) != c.to {
			t.Errorf("%q is %s to %s, %v", c.text, from.In(zone).Format(form), to.In(zone).Format(form), err)
		}
	}
	from, to, err := series.ParseSpan("2026-04-05", now, zone)
	if err != nil || to.Sub(from) != 25*time.Hour {
		t.Errorf("the day on which clocks go back has %s, %v", to.Sub(from), err)
	}
	for _, s := range []string{"", "soon", "-6h", "0h", "2026-13-01", "2026-04-03..2026-04-01", "..", "x..y",
		"2026-04-01T10:00"} {
		if from, to, err := series.ParseSpan(s, now, zone); err == nil {
			t.Errorf("%q is %s to %s", s, from, to)
		}
	}
}

// TestDays walks through a year of local days: they follow each other without
// a gap, and two of them are not 24 hours long.
func TestDays(t *testing.T) {
	for name, odd := range map[string]int{"Pacific/Chatham": 2, "UTC": 0} {
		zone, err := time.LoadLocation(name)
		if err != nil {
			t.Fatal(err)
		}
		grid, err := series.GridOf(24*time.Hour, zone, time.Time{}, time.Time{})
		if err != nil {
			t.Fatal(err)
		}
		at := time.Date(2026, 1, 1, 5, 0, 0, 0, time.UTC).UnixMilli()
		from, to := grid.Cell(at)
		for range 365 {
			a, b := grid.Cell(to)
			if a != to || b <= a {
				t.Fatalf("%s: after %d to %d comes %d to %d", name, from, to, a, b)
			}
			if b-a != 24*3600_000 {
				odd--
			}
			from, to = a, b
		}
		if odd != 0 {
			t.Errorf("%s: %d days fewer than expected are not 24 hours long", name, odd)
		}
	}
	if _, err := series.GridOf(time.Second, time.UTC, time.Unix(0, 0), time.Unix(1e6, 0)); err == nil {
		t.Error("a million steps were taken on")
	}
}

func FuzzParseSpan(f *testing.F) {
	for _, s := range []string{"6h", "today", "2026-04-01..2026-04-03", "2026-04-01T10:00..12h", "this week"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if from, to, err := series.ParseSpan(s, time.Unix(1.8e9, 0), time.UTC); err == nil && !from.Before(to) {
			t.Errorf("%q is %s to %s", s, from, to)
		}
	})
}
