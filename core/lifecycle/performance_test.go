package lifecycle_test

import (
	"fmt"
	"math"
	"testing"
	"time"

	"ullage/core/lifecycle"
)

func TestMeasure(t *testing.T) {
	from := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	to := from.Add(2 * 24 * time.Hour)
	var all []lifecycle.Annunciated
	add := func(at time.Duration, rule, device string, rank int, lasts, ack time.Duration) {
		a := lifecycle.Annunciated{At: from.Add(at), Rule: rule, Subject: device, Rank: rank}
		if lasts > 0 {
			a.Returned = a.At.Add(lasts)
		}
		if ack > 0 {
			a.Acknowledged = a.At.Add(ack)
		}
		all = append(all, a)
	}
	// Chatter: four within a minute, and two more that are none.
	for i := range 4 {
		add(time.Hour+time.Duration(i)*15*time.Second, "co2_high", "air-1", 3, 10*time.Second, 0)
	}
	add(3*time.Hour, "co2_high", "air-1", 3, 30*time.Minute, 4*time.Minute)
	add(3*time.Hour+2*time.Minute, "co2_high", "air-2", 3, 30*time.Second, 10*time.Second) // acted on in time
	// A flood: 14 in 7 minutes, then one each 3 minutes for half an hour.
	for i := range 14 {
		add(10*time.Hour+time.Duration(i)*30*time.Second, "silent", fmt.Sprintf("tank-%d", i), 2, 20*time.Minute, 2*time.Minute)
	}
	for i := range 10 {
		add(10*time.Hour+10*time.Minute+time.Duration(i)*3*time.Minute, "silent", fmt.Sprintf("bung-%d", i), 4, 20*time.Minute, 8*time.Minute)
	}
	add(20*time.Hour, "leak", "cask-1", 1, 0, 0) // stands for 28 hours at the end
	p := lifecycle.Measure(all, from, to, 1)
	if p.Alarms != 31 || math.Abs(p.ADay-15.5) > 1e-9 || math.Abs(p.AnHour-15.5/24) > 1e-9 {
		t.Errorf("there are %d, %g a day, %g an hour", p.Alarms, p.ADay, p.AnHour)
	}
	if p.Chattering != 4 || p.Fleeting != 4 || p.Stale != 1 || p.Priorities != [4]int{1, 14, 6, 10} {
		t.Errorf("chattering %d, fleeting %d, stale %d, by priority %v", p.Chattering, p.Fleeting, p.Stale, p.Priorities)
	}
	if p.Peak != 14 || !p.PeakAt.Equal(from.Add(10*time.Hour)) || p.Floods != 1 {
		t.Errorf("the peak is %d at %s, with %d floods", p.Peak, p.PeakAt, p.Floods)
	}
	// Within ten minutes there are less than five once the first of the last five to go has
	// gone: from 10:16:30 on there are four or less.
	if p.InFlood < 14*time.Minute || p.InFlood > 20*time.Minute || math.Abs(p.FloodShare-float64(p.InFlood)/float64(48*time.Hour)) > 1e-12 {
		t.Errorf("it was in flood for %s", p.InFlood)
	}
	if p.Acknowledged != 26 || p.TimeToAck != 2*time.Minute || p.TimeToAck95 != 8*time.Minute {
		t.Errorf("%d were acknowledged, after %s and %s", p.Acknowledged, p.TimeToAck, p.TimeToAck95)
	}
	if len(p.Rules) != 3 || p.Rules[0].Name != "silent" || p.Rules[0].Alarms != 24 || p.Rules[1].Chattering != 4 || len(p.Devices) != 10 || p.Devices[0].Name != "air-1" {
		t.Errorf("the worst are %+v and %+v", p.Rules, p.Devices)
	}
	if len(p.Days) != 2 || p.Days[0] != 31 || p.Days[1] != 0 {
		t.Errorf("by day there are %v", p.Days)
	}
	two := lifecycle.Measure(all, from, to, 2)
	if two.Peak != 7 || two.Floods != 0 || math.Abs(two.ADay-p.ADay/2) > 1e-9 {
		t.Errorf("of two operators each has %g a day, the peak is %d", two.ADay, two.Peak)
	}
	none := lifecycle.Measure(nil, from, to, 0)
	if none.Alarms != 0 || none.ADay != 0 || none.Floods != 0 || len(none.Rules) != 0 || math.IsNaN(none.TopTen) {
		t.Errorf("of none it is %+v", none)
	}
}
