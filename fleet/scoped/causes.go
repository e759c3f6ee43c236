package scoped

import (
	"strings"

	"ullage/core/cause"
	"ullage/core/health"
	"ullage/core/lifecycle"
	"ullage/fleet/access"
	"ullage/fleet/devices"
)

// Causes returns what needs somebody, of the devices that the caller sees, the most
// pressing first.
func (f *Fleet) Causes(c access.Caller) []cause.Cause {
	now := f.o.Now()
	var ds []cause.Device
	for _, d := range f.Devices(c) {
		if d.Status == devices.Retired || d.Status == devices.Suspended {
			continue
		}
		x := cause.Device{ID: d.ID, Site: d.Labels["site"], Hub: d.Hub, Model: d.Model, Health: d.Health, Reasons: d.Reasons, Silent: d.Link == health.Silent,
			LastAt: d.LastAt, Interval: d.Interval, Least: d.Least, Firmware: d.Attributes["firmware"].Text}
		for _, a := range d.Alarms {
			if calls(a.State) {
				x.Alarms = append(x.Alarms, cause.Alarm{ID: a.ID, Rule: a.Rule, Message: a.Message, Priority: a.Priority, Since: a.RaisedAt,
					Acknowledged: !unacknowledged(a.State), By: a.By})
			}
		}
		if !d.DriftSince.IsZero() {
			if s, _, err := f.o.Settings.Of(d.ID); err == nil {
				for _, y := range s.Drift() {
					x.Differs = append(x.Differs, cause.Differs{Setting: y.Name, Reason: y.Reason, Since: d.DriftSince})
				}
			}
		}
		ds = append(ds, x)
	}
	var groups []cause.Alarm
	for _, a := range f.Groups(c) {
		if calls(a.State) {
			groups = append(groups, cause.Alarm{ID: a.ID, Rule: a.Rule, Message: a.Message, Priority: a.Priority, Since: a.RaisedAt, Group: a.Group,
				Acknowledged: !unacknowledged(a.State), By: a.AcknowledgedBy})
		}
	}
	advice := map[string]cause.Advice{}
	for _, r := range f.o.Alarms.Rules() {
		advice[r.Name] = cause.Advice{Cause: r.Cause, Response: r.Response}
	}
	return cause.Find(ds, groups, func(name string) cause.Advice { return advice[name] }, now)
}

// calls reports whether an alarm in a state asks for somebody: nobody has put it aside.
func calls(s lifecycle.State) bool {
	switch s {
	case lifecycle.Shelved, lifecycle.Suppressed, lifecycle.OutOfService, lifecycle.Normal:
		return false
	}
	return true
}

func unacknowledged(s lifecycle.State) bool { return strings.Contains(string(s), "unacknowledged") }
