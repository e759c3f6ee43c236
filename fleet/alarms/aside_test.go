package alarms_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/core/lifecycle"
	"ullage/core/maintenance"
	"ullage/core/rule"
	"ullage/fleet/alarms"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
	"ullage/test/rig"
)

const monitor = "air-kilnside-2"

// breathing is a rig with one monitor that has an alarm, and a rule that asks about it.
func breathing(t *testing.T, more string) *rig.Rig {
	t.Helper()
	r := rig.New(t)
	r.Onboard(monitor, "cellar-air", map[string]string{"site": "Kilnside"})
	r.Rule(quick + more)
	r.Rule("rule: fan_should_run\nmodels: [cellar-air]\nraise: raised(co2_high) and not fan_on\npriority: low\nmessage: no fan\n")
	breathe(r, 1600)
	return r
}

func breathe(r *rig.Rig, v int) {
	r.Keep(monitor, fmt.Sprintf(`{"co2":%d,"fan_on":false}`, v))
	r.Pass(2 * time.Second)
}

// stateOf is the state of the open alarm of a rule; empty for none.
func stateOf(r *rig.Rig, rule string) string {
	for _, a := range r.OpenAlarms() {
		if a.Rule == rule {
			return string(a.Shown())
		}
	}
	return ""
}

func alarmOf(t *testing.T, r *rig.Rig, rule string) alarms.Alarm {
	t.Helper()
	for _, a := range r.OpenAlarms() {
		if a.Rule == rule {
			return a
		}
	}
	t.Fatalf("%s is not open", rule)
	return alarms.Alarm{}
}

func TestShelving(t *testing.T) {
	r := breathing(t, "")
	a := alarmOf(t, r, "co2_high")
	for _, c := range []struct {
		until time.Time
		why   string
		says  string
	}{
		{time.Time{}, "", "until a time, and none is said"},
		{r.Clock.Now().Add(-time.Minute), "", "is over already"},
		{r.Clock.Now().Add(32 * 24 * time.Hour), "", "31 days at most"},
		{r.Clock.Now().Add(time.Hour), strings.Repeat("x", 401), "401 characters"},
		{r.Clock.Now().Add(time.Hour), "a\x1b[31mb", "cannot be seen"},
	} {
		if _, err := r.Alarms.Shelve(t.Context(), a.ID, c.until, c.why, "mara"); rig.Code(err) != fault.Invalid || !strings.Contains(err.Error(), c.says) {
			t.Errorf("shelved until %s it says %v, want %q", c.until, err, c.says)
		}
	}
	until := r.Clock.Now().Add(10 * time.Minute)
	a, err := r.Alarms.Shelve(t.Context(), a.ID, until, "the cell is being changed", "mara")
	r.Must(err)
	if a.Shown() != lifecycle.Shelved || a.State != lifecycle.Unacknowledged || !a.ShelvedUntil.Equal(until) || a.ShelvedBy != "mara" {
		t.Errorf("shelved it is %+v", a)
	}
	// What is true stays so: the rule that asks about it, and the margin.
	if stateOf(r, "fan_should_run") != "unacknowledged" {
		t.Error("a rule that asks about a shelved alarm does not see it any more")
	}
	if d := r.Device(monitor); d.Health != "watch" { // for the low one alone
		t.Errorf("the device is %s with %v", d.Health, d.Reasons)
	}
	// It returns and comes up again on the shelf, and nobody has to acknowledge that.
	breathe(r, 900)
	if got := stateOf(r, "co2_high"); got != "" {
		t.Errorf("returned on the shelf it is %q", got)
	}
	breathe(r, 1700)
	if got := stateOf(r, "co2_high"); got != "shelved" {
		t.Errorf("raised on the shelf it is %q", got)
	}
	r.Restart(false)
	r.Pass(2 * time.Second)
	if got := stateOf(r, "co2_high"); got != "shelved" {
		t.Errorf("after a crash it is %q", got)
	}
	if s, err := r.Alarms.Shelves(t.Context()); err != nil || len(s) != 1 || s[0].Why != "the cell is being changed" {
		t.Errorf("the shelves are %+v, %v", s, err)
	}
	r.Pass(10 * time.Minute)
	if got := stateOf(r, "co2_high"); got != "unacknowledged" {
		t.Errorf("when its time is over it is %q", got)
	}
	if s, _ := r.Alarms.Shelves(t.Context()); len(s) != 0 {
		t.Errorf("the shelves are %+v", s)
	}
	told := strings.Join(append(r.Journal(fact.AlarmShelved), r.Journal(fact.AlarmUnshelved)...), "\n")
	if !strings.Contains(told, "shelved co2_high until 2026-03-09 14:10 UTC: the cell is being changed") || !strings.Contains(told, "its time was over") {
		t.Errorf("the journal tells\n%s", told)
	}
	// By hand.
	now := alarmOf(t, r, "co2_high")
	_, err = r.Alarms.Shelve(t.Context(), now.ID, r.Clock.Now().Add(time.Hour), "", "mara")
	r.Must(err)
	if b, err := r.Alarms.Unshelve(t.Context(), now.ID, "ben"); err != nil || b.Shown() != lifecycle.Unacknowledged {
		t.Errorf("taken off it is %+v, %v", b, err)
	}
	if _, err := r.Alarms.Unshelve(t.Context(), now.ID, "ben"); rig.Code(err) != fault.Conflict {
		t.Errorf("taken off twice: %v", err)
	}
}

func TestLatchAndReset(t *testing.T) {
	r := breathing(t, "latch: true\n")
	a := alarmOf(t, r, "co2_high")
	if _, err := r.Alarms.Reset(t.Context(), a.ID, "mara"); rig.Code(err) != fault.Conflict || !strings.Contains(err.Error(), "still holds") {
		t.Errorf("what holds is reset: %v", err)
	}
	breathe(r, 900)
	if got := stateOf(r, "co2_high"); got != "latched unacknowledged" {
		t.Fatalf("returned it is %q", got)
	}
	r.Restart(true)
	if _, err := r.Alarms.Acknowledge(t.Context(), a.ID, "mara"); err != nil || stateOf(r, "co2_high") != "latched" {
		t.Errorf("acknowledged it is %q, %v", stateOf(r, "co2_high"), err)
	}
	r.Pass(2 * time.Second)
	if stateOf(r, "fan_should_run") == "unacknowledged" {
		t.Error("a latched alarm is taken for one that holds")
	}
	breathe(r, 1800)
	if got := stateOf(r, "co2_high"); got != "unacknowledged" {
		t.Errorf("up again it is %q", got)
	}
	breathe(r, 900)
	if b, err := r.Alarms.Reset(t.Context(), a.ID, "mara"); err != nil || b.Shown() != lifecycle.Returned {
		t.Errorf("reset it is %+v, %v", b.Shown(), err)
	}
	if _, err := r.Alarms.Reset(t.Context(), a.ID, "mara"); rig.Code(err) != fault.Conflict {
		t.Errorf("reset twice: %v", err)
	}
}

func TestSuppressedByDesign(t *testing.T) {
	r := breathing(t, "suppress: air_temp > 30\n")
	if got := stateOf(r, "co2_high"); got != "unacknowledged" {
		t.Fatalf("while that is unknown it is %q", got)
	}
	r.Keep(monitor, `{"air_temp":35}`)
	r.Pass(2 * time.Second)
	if a := alarmOf(t, r, "co2_high"); a.Shown() != lifecycle.Suppressed || a.SuppressedBy != alarms.ByDesign {
		t.Errorf("it is %+v", a)
	}
	if stateOf(r, "fan_should_run") == "" {
		t.Error("a rule that asks about a suppressed alarm does not see it any more")
	}
	r.Keep(monitor, `{"air_temp":20}`)
	r.Pass(2 * time.Second)
	if got := stateOf(r, "co2_high"); got != "unacknowledged" {
		t.Errorf("back it is %q", got)
	}
	if told := strings.Join(r.Journal(fact.AlarmSuppressed), "; "); !strings.Contains(told, "is suppressed by design") || !strings.Contains(told, "no more") {
		t.Errorf("the journal tells %q", told)
	}
}

// One cause is one line: the alarm of a silent cellar keeps those of its members aside.
func TestGroupSuppressesItsMembers(t *testing.T) {
	r := twoCellars(t)
	r.Rule("rule: probe_silent\nmodels: [tank-probe]\nraise: age(must_temp) > 3min\npriority: medium\nmessage: silent\n")
	r.Rule(halfSilent + "suppresses: [probe_silent]\n")
	minutes(r, 3, "fennimore", "kilnside")
	minutes(r, 5, "kilnside")
	shown := map[string]int{}
	for _, a := range r.OpenAlarms() {
		shown[a.Rule+" "+string(a.Shown())]++
		if a.Rule == "probe_silent" && a.SuppressedBy != "cellar_silent site=fennimore" && strings.Contains(a.Device, "fennimore") {
			t.Errorf("%s is suppressed by %q", a.Device, a.SuppressedBy)
		}
	}
	// tank-nowhere is in no cellar and calls for itself.
	if shown["probe_silent suppressed"] != 3 || shown["cellar_silent unacknowledged"] != 1 || shown["probe_silent unacknowledged"] > 1 {
		t.Errorf("open are %v", shown)
	}
	minutes(r, 2, "kilnside", "fennimore")
	for _, a := range r.OpenAlarms() {
		if a.Aside.Suppressed {
			t.Errorf("%s on %s is suppressed still", a.Rule, a.Device)
		}
	}
	r.Must(func() error {
		bad, err := rule.Parse([]byte(halfSilent + "suppresses: [no_such_rule]\n"))
		r.Must(err)
		if _, err := r.Alarms.PutRule(t.Context(), *bad, noun.If{}, "mara"); err == nil || !strings.Contains(err.Error(), "no such rule") {
			t.Errorf("a rule that is not there: %v", err)
		}
		return nil
	}())
}

// soon lets the time pass after which everybody knows of a maintenance.
func soon(r *rig.Rig) {
	r.Pass(2 * time.Second)
	r.Pass(2 * time.Second)
}

func TestMaintenance(t *testing.T) {
	r := breathing(t, "")
	r.Onboard("air-fennimore-1", "cellar-air", map[string]string{"site": "Fennimore"})
	put := func(m maintenance.Maintenance) error {
		_, err := r.Maintenances.Put(t.Context(), m, noun.If{}, "engineer", true)
		return err
	}
	for _, c := range []struct {
		m    maintenance.Maintenance
		says string
	}{
		{maintenance.Maintenance{Name: "Cleaning", Devices: "true", During: "daily 06:00-07:00"}, "small letters"},
		{maintenance.Maintenance{Name: "cleaning", During: "daily 06:00-07:00"}, "names no devices"},
		{maintenance.Maintenance{Name: "cleaning", Devices: `label.site == "Kilnside"`}, "has no end"},
		{maintenance.Maintenance{Name: "cleaning", Devices: `label.site = "Kilnside"`, During: "daily 06:00-07:00"}, "=="},
		{maintenance.Maintenance{Name: "cleaning", Devices: `label.site == "Kilnside"`, During: "someday"}, "no time of the week"},
		{maintenance.Maintenance{Name: "cleaning", Devices: `label.site == "Kilnside"`, To: rig.Start.Add(-time.Hour)}, "over already"},
		{maintenance.Maintenance{Name: "cleaning", Devices: `label.site == "Kilnside"`, From: rig.Start.Add(time.Hour), To: rig.Start}, "not after its begin"},
	} {
		if err := put(c.m); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v gives %v, want %q", c.m, err, c.says)
		}
	}
	r.Must(put(maintenance.Maintenance{Name: "cleaning", Devices: `label.site == "Kilnside"`, To: r.Clock.Now().Add(5 * time.Minute)}))
	soon(r)
	if a := alarmOf(t, r, "co2_high"); a.Shown() != lifecycle.OutOfService || a.Maintenance != "cleaning" {
		t.Errorf("it is %+v", a)
	}
	r.Keep("air-fennimore-1", `{"co2":1900}`)
	soon(r)
	if got := map[string]bool{}; true {
		for _, a := range r.OpenAlarms() {
			got[a.Device+" "+string(a.Shown())] = true
		}
		if !got["air-fennimore-1 unacknowledged"] || !got[monitor+" out of service"] {
			t.Errorf("open are %v", got)
		}
	}
	// A device that gets the label comes into it by itself.
	_, err := r.Devices.Label(t.Context(), "air-fennimore-1", map[string]string{"site": "Kilnside"}, "mara")
	r.Must(err)
	soon(r)
	r.Restart(true)
	soon(r)
	for _, a := range r.OpenAlarms() {
		if a.Shown() != lifecycle.OutOfService {
			t.Errorf("%s on %s is %s", a.Rule, a.Device, a.Shown())
		}
	}
	r.Pass(6 * time.Minute)
	soon(r)
	for _, a := range r.OpenAlarms() {
		if a.Aside.Any() {
			t.Errorf("when it is over, %s on %s is %s", a.Rule, a.Device, a.Shown())
		}
	}
	if told := strings.Join(r.Journal(fact.AlarmOutOfService), "; "); !strings.Contains(told, "out of service for the maintenance cleaning") || !strings.Contains(told, "in service again") {
		t.Errorf("the journal tells %q", told)
	}
	// Weekly, in the zone of the site. It is Monday, 14:00 UTC.
	r.Must(put(maintenance.Maintenance{Name: "weekly", Devices: `label.site == "Kilnside"`, During: "Mon 14:00-15:00"}))
	soon(r)
	if got := stateOf(r, "co2_high"); got != "out of service" {
		t.Errorf("in the hour of the week it is %q", got)
	}
	if c := r.Maintenances.Coming(24*time.Hour, nil); len(c) != 1 || !c[0].Active || c[0].Count != 2 {
		t.Errorf("coming is %+v", c)
	}
	r.Pass(time.Hour)
	soon(r)
	if got := stateOf(r, "co2_high"); got != "unacknowledged" {
		t.Errorf("after it, it is %q", got)
	}
}

func TestPriorityRises(t *testing.T) {
	r := breathing(t, "rises:\n  - {to: high, after: 5min}\n  - {to: urgent, beyond: 500}\n")
	r.Pass(4 * time.Minute)
	if a := alarmOf(t, r, "co2_high"); a.Priority != rule.Medium {
		t.Fatalf("too early it is %s", a.Priority)
	}
	r.Pass(2 * time.Minute)
	a := alarmOf(t, r, "co2_high")
	if a.Priority != rule.High {
		t.Fatalf("after 5 minutes it is %s", a.Priority)
	}
	_, err := r.Alarms.Acknowledge(t.Context(), a.ID, "mara")
	r.Must(err)
	breathe(r, 2001)
	if b := alarmOf(t, r, "co2_high"); b.Priority != rule.Urgent || b.State != lifecycle.Unacknowledged {
		t.Errorf("far beyond it is %s, %s", b.Priority, b.State)
	}
	r.Restart(false)
	if b := alarmOf(t, r, "co2_high"); b.Priority != rule.Urgent || r.Device(monitor).Alarms[0].Priority != rule.Urgent {
		t.Errorf("after a crash it is %s", b.Priority)
	}
	told := strings.Join(r.Journal(fact.AlarmPriorityRose), "; ")
	if !strings.Contains(told, "rose from medium to high, since nobody has acknowledged it for 5min") || !strings.Contains(told, "rose from high to urgent, since co2 is 501 ppm beyond the limit") {
		t.Errorf("the journal tells %q", told)
	}
}

func TestComments(t *testing.T) {
	r := breathing(t, "")
	a := alarmOf(t, r, "co2_high")
	a, err := r.Alarms.Comment(t.Context(), a.ID, "  the fan was off\nat the switch  ", "mara")
	r.Must(err)
	if a.Comments != 1 {
		t.Errorf("it is %+v", a)
	}
	breathe(r, 900)
	_, err = r.Alarms.Acknowledge(t.Context(), a.ID, "mara")
	r.Must(err)
	if b, err := r.Alarms.Comment(t.Context(), a.ID, "closed", "ben"); err != nil || b.Comments != 2 || b.State != lifecycle.Normal {
		t.Errorf("about a closed one: %+v, %v", b, err)
	}
	if told := strings.Join(r.Journal(fact.AlarmCommented), "; "); !strings.Contains(told, "said of co2_high: the fan was off\nat the switch") {
		t.Errorf("the journal tells %q", told)
	}
	for _, text := range []string{" ", strings.Repeat("ö", alarms.MaxComment+1), "a\x00b"} {
		if _, err := r.Alarms.Comment(t.Context(), a.ID, text, "ben"); rig.Code(err) != fault.Invalid {
			t.Errorf("%.10q is said: %v", text, err)
		}
	}
}

// Two people at once: one of them has done it, the other is told who.
func TestTwoPeopleAtOnce(t *testing.T) {
	r := breathing(t, "")
	a := alarmOf(t, r, "co2_high")
	errs := make(chan error, 8)
	for i := range 8 {
		go func() {
			_, err := r.Alarms.Acknowledge(t.Context(), a.ID, fmt.Sprintf("person-%d", i))
			errs <- err
		}()
	}
	done := 0
	for range 8 {
		if err := <-errs; err == nil {
			done++
		} else if rig.Code(err) != fault.Conflict || !strings.Contains(err.Error(), "has acknowledged this alarm") {
			t.Errorf("the others are told %v", err)
		}
	}
	if done != 1 || len(r.Journal(fact.AlarmAcknowledged)) != 1 {
		t.Errorf("%d have done it", done)
	}
}
