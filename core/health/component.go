package health

import "time"

// Component is how one component of a device is, such as the left one of two jackets.
type Component struct {
	Name    string
	Health  Health
	Reasons []string
	// Least is the margin with the least headspace on its metrics, nil for none.
	Least *Margin
}

// JudgeComponent judges a component by what concerns it alone: when its own newest reading is
// from, the alarms and the least headspace on its metrics, and the drift of its settings. A
// component that falls silent is dark although the rest of the device reports on; one that has
// not reported yet is awaited.
func JudgeComponent(name string, s Signs, now time.Time) Component {
	s.Link, _ = LinkOf(s.LastAt, now, s.Interval)
	c := Component{Name: name, Least: s.Least}
	if c.Health, c.Reasons = Judge(s, now); c.Health == Awaited {
		c.Reasons = []string{"no reading from it yet"}
	}
	return c
}
