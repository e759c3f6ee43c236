package app

import (
	"strings"
	"testing"
	"time"

	"ullage/core/rule"
	"ullage/fleet/alarms"
)

func TestConditionsOfTheService(t *testing.T) {
	now := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name     string
		of       alarms.Condition
		holds    bool
		priority rule.Priority
		says     string
	}{
		{"much room", diskAlarm(50 << 30), false, "", ""},
		{"room that is not known", diskAlarm(-1), false, "", ""},
		{"little room", diskAlarm(1_500_000_000), true, rule.Medium, "1.5 GB are left"},
		{"hardly any room", diskAlarm(1 << 20), true, rule.Urgent, "0.0 GB are left"},
		{"no jump", clockAlarm(0, time.Time{}, now), false, "", ""},
		{"a jump", clockAlarm(-90*time.Minute, now.Add(-time.Minute), now), true, rule.Medium, "jumped back by 1h30m0s at 13:59:00 UTC"},
		{"a jump of long ago", clockAlarm(time.Minute, now.Add(-2*time.Hour), now), false, "", ""},
		{"certificates that last", endsAlarm([]Ends{{"a", now.Add(400 * 24 * time.Hour)}, {"b", time.Time{}}}, now), false, "", ""},
		{"a certificate that ends", endsAlarm([]Ends{{"the root", now.Add(20 * 24 * time.Hour)}, {"the other", now.Add(10 * 24 * time.Hour)}}, now), true, rule.Medium, "the other ends at 2026-03-19"},
		{"one that ends at once", endsAlarm([]Ends{{"the root", now.Add(time.Hour)}}, now), true, rule.High, "the root ends at 2026-03-09 15:00 UTC"},
		{"a quiet door", doorAlarm(3, time.Minute, time.Time{}, now), false, "", ""},
		{"a door that refuses much", doorAlarm(600, 2*time.Minute, now, now), true, rule.Medium, "300 a minute lately"},
		{"one that did", doorAlarm(0, time.Minute, now.Add(-11*time.Minute), now), false, "", ""},
		{"what keeps up", behindAlarm(100), false, "", ""},
		{"what does not", behindAlarm(30_000), true, rule.High, "30000 messages wait"},
		{"versions as given", versionsAlarm(0, ""), false, "", ""},
		{"one otherwise", versionsAlarm(1, "tank-kilnside-01"), true, rule.Low, "tank-kilnside-01 reports another version"},
		{"many otherwise", versionsAlarm(7, "tank-kilnside-01"), true, rule.Low, "7 devices, tank-kilnside-01 among them"},
	} {
		if c.of.Holds != c.holds {
			t.Errorf("%s: holds %v", c.name, c.of.Holds)
		} else if c.holds && (c.of.Priority != c.priority || !strings.Contains(c.of.Message, c.says) || c.of.Cause == "" || c.of.Response == "" || c.of.Calm == "") {
			t.Errorf("%s: it is %+v", c.name, c.of)
		}
	}
}
