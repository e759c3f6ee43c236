// Package maintenance reads when devices are out of service for maintenance, from files,
// and checks it.
package maintenance

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"ullage/core/expr"
	"ullage/core/value"
	"ullage/core/yamldoc"
)

// MaxSource is the largest file that is read, in bytes.
const MaxSource = 16 << 10

// Maintenance says when some devices are out of service (ISA-18.2): their readings and the
// journal go on, and their alarms call nobody. It is from a time to a time, or in the hours
// of a week, or in those hours from a time to a time.
type Maintenance struct {
	Name    string    `yaml:"maintenance" json:"maintenance" pattern:"^[a-z][a-z0-9_]{0,62}$" doc:"Name" example:"tank_cleaning"`
	Devices string    `yaml:"devices" json:"devices" minLength:"1" maxLength:"2000" doc:"Selector of the devices" example:"label.site == \"Kilnside\""`
	From    time.Time `yaml:"from,omitempty" json:"from,omitzero" doc:"When it begins; at once if it is left out"`
	To      time.Time `yaml:"to,omitempty" json:"to,omitzero" doc:"When it ends; never where hours of the week are said"`
	During  string    `yaml:"during,omitempty" json:"during,omitempty" maxLength:"400" doc:"Hours of the week, in the zone of each device's site" example:"Mon-Fri 06:00-07:00"`
	Why     string    `yaml:"why,omitempty" json:"why,omitempty" maxLength:"400" doc:"What is done"`
	// What follows is the service's to say.
	By     string `yaml:"-" json:"by,omitempty" readOnly:"true" doc:"Who made it, or changed it last"`
	Whole  bool   `yaml:"-" json:"whole,omitempty" readOnly:"true" doc:"Whether they may do so for every device; else it is for those that they may operate"`
	Active bool   `yaml:"-" json:"active" readOnly:"true" doc:"Whether any device is out of service by it now"`
	Count  int    `yaml:"-" json:"count" readOnly:"true" doc:"How many devices the selector is true for"`
}

var name = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)

// Parse reads one from YAML and checks what can be checked without devices.
func Parse(src []byte) (*Maintenance, error) {
	m := &Maintenance{}
	if err := yamldoc.Decode(src, m, "a maintenance", MaxSource); err != nil {
		return nil, err
	}
	return m, m.Check()
}

// YAML writes m as its file.
func (m *Maintenance) YAML() []byte { return yamldoc.Encode(m) }

// Check checks m alone.
func (m *Maintenance) Check() error {
	switch {
	case !name.MatchString(m.Name):
		return fmt.Errorf("a maintenance is named in small letters, digits and underscores, like tank_cleaning; this one is %q", value.Clip(m.Name, 60))
	case strings.TrimSpace(m.Devices) == "":
		return fmt.Errorf(`%s names no devices; write a condition, like devices: label.site == "Kilnside"`, m.Name)
	case m.During == "" && m.To.IsZero():
		return fmt.Errorf("%s has no end: alarms would be silent for good; say to, or the hours of the week in during", m.Name)
	case !m.From.IsZero() && !m.To.IsZero() && !m.To.After(m.From):
		return fmt.Errorf("%s ends at %s, which is not after its begin", m.Name, m.To.Format(time.RFC3339))
	case value.Written(m.Why, 400) != "":
		return fmt.Errorf("why of %s %s", m.Name, value.Written(m.Why, 400))
	}
	if m.During != "" {
		if _, err := expr.ParseWeek(m.During); err != nil {
			return fmt.Errorf("during of %s: %w", m.Name, err)
		}
	}
	return nil
}

// Span says when it is, ready to be asked.
type Span struct {
	from, to time.Time
	week     expr.Week
	weekly   bool
}

// Span returns when m is. It has been checked.
func (m *Maintenance) Span() Span {
	s := Span{from: m.From, to: m.To, weekly: m.During != ""}
	if s.weekly {
		s.week, _ = expr.ParseWeek(m.During)
	}
	return s
}

// Holds reports whether it is now, for devices in a zone.
func (s Span) Holds(now time.Time, zone *time.Location) bool {
	if !s.from.IsZero() && now.Before(s.from) || !s.to.IsZero() && !now.Before(s.to) {
		return false
	}
	return !s.weekly || s.week.Holds(now.In(zone))
}

// Over reports whether it is never again.
func (s Span) Over(now time.Time) bool { return !s.to.IsZero() && !now.Before(s.to) }

// Next returns when it begins within the next days, for devices in a zone; false if it
// holds already, is over, or does not begin within that time.
func (s Span) Next(now time.Time, zone *time.Location, within time.Duration) (time.Time, bool) {
	if s.Over(now) || s.Holds(now, zone) {
		return time.Time{}, false
	}
	end := now.Add(within)
	at := now.Truncate(time.Minute).Add(time.Minute)
	if s.from.After(at) {
		at = s.from
	}
	for ; at.Before(end); at = at.Add(time.Minute) {
		if s.Holds(at, zone) {
			return at, true
		}
		if !s.weekly {
			return time.Time{}, false
		}
	}
	return time.Time{}, false
}
