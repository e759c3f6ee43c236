package maintenance_test

import (
	"strings"
	"testing"
	"time"

	"ullage/core/maintenance"
)

var monday = time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)

func TestParse(t *testing.T) {
	m, err := maintenance.Parse([]byte("maintenance: tank_cleaning\ndevices: label.site == \"Kilnside\"\nduring: Mon-Fri 06:00-07:00\nwhy: rinsing\n"))
	if err != nil || m.Name != "tank_cleaning" || m.During != "Mon-Fri 06:00-07:00" {
		t.Fatalf("it is %+v, %v", m, err)
	}
	again, err := maintenance.Parse(m.YAML())
	if err != nil || *again != *m {
		t.Errorf("written and read again it is %+v, %v", again, err)
	}
	for src, says := range map[string]string{
		"maintenance: X\ndevices: a\nduring: daily 1:00-2:00\n":                                           "small letters",
		"maintenance: x\nduring: daily 1:00-2:00\n":                                                       "names no devices",
		"maintenance: x\ndevices: a\n":                                                                    "has no end",
		"maintenance: x\ndevices: a\nduring: sometimes\n":                                                 "no time of the week",
		"maintenance: x\ndevices: a\nfrom: 2026-03-02T00:00:00Z\nto: 2026-03-01T00:00:00Z\n":              "not after its begin",
		"maintenance: x\ndevices: a\nuntil: 2026-03-01T00:00:00Z\n":                                       "until",
		"maintenance: x\ndevices: a\nduring: daily 1:00-2:00\nwhy: " + strings.Repeat("x", 401) + "\n":    "400 are the most",
		"maintenance: x\ndevices: a\nduring: daily 1:00-2:00\nwhy: " + strings.Repeat("x", 20_000) + "\n": "bytes",
		"[": "",
	} {
		if _, err := maintenance.Parse([]byte(src)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%.60q gives %v, want %q", src, err, says)
		}
	}
}

func TestSpan(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name string
		m    maintenance.Maintenance
		now  time.Time
		zone *time.Location
		on   bool
		next string // within two days; empty for not at all
	}{
		{"until a time", maintenance.Maintenance{To: monday.Add(time.Hour)}, monday, time.UTC, true, ""},
		{"over", maintenance.Maintenance{To: monday}, monday, time.UTC, false, ""},
		{"later", maintenance.Maintenance{From: monday.Add(time.Hour), To: monday.Add(2 * time.Hour)}, monday, time.UTC, false, "09 15:00"},
		{"much later", maintenance.Maintenance{From: monday.Add(100 * time.Hour), To: monday.Add(200 * time.Hour)}, monday, time.UTC, false, ""},
		{"in the hours", maintenance.Maintenance{During: "Mon 13:30-14:30"}, monday, time.UTC, true, ""},
		{"in the hours there", maintenance.Maintenance{During: "Mon 14:30-15:30"}, monday, berlin, true, ""},
		{"not in the hours there", maintenance.Maintenance{During: "Mon 13:30-14:30"}, monday, berlin, false, ""},
		{"tomorrow", maintenance.Maintenance{During: "daily 06:00-07:00"}, monday, time.UTC, false, "10 06:00"},
		{"hours that are over for good", maintenance.Maintenance{During: "daily 06:00-07:00", To: monday.Add(time.Hour)}, monday, time.UTC, false, ""},
		{"over midnight", maintenance.Maintenance{During: "daily 22:00-02:00"}, monday.Add(11 * time.Hour), time.UTC, true, ""},
	} {
		s := c.m.Span()
		if s.Holds(c.now, c.zone) != c.on {
			t.Errorf("%s: on is %v", c.name, !c.on)
		}
		at, ok := s.Next(c.now, c.zone, 48*time.Hour)
		if got := at.UTC().Format("02 15:04"); ok != (c.next != "") || ok && got != c.next {
			t.Errorf("%s: next is %s, %v", c.name, got, ok)
		}
		if over := s.Over(c.now); over != (!c.m.To.IsZero() && !c.now.Before(c.m.To)) {
			t.Errorf("%s: over is %v", c.name, over)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("maintenance: x\ndevices: label.site == \"Kilnside\"\nduring: Mon-Fri 06:00-07:00\n"))
	f.Add([]byte("maintenance: x\ndevices: a\nto: 2026-03-01T00:00:00Z\nwhy: !!binary a\n"))
	f.Fuzz(func(t *testing.T, src []byte) {
		m, err := maintenance.Parse(src)
		if err != nil {
			return
		}
		s := m.Span()
		if s.Over(monday) && s.Holds(monday, time.UTC) {
			t.Errorf("%q is on, and over", src)
		}
		if again, err := maintenance.Parse(m.YAML()); err != nil || again.Name != m.Name || again.During != m.During {
			t.Errorf("%q is written as %q, %v", src, m.YAML(), err)
		}
	})
}
