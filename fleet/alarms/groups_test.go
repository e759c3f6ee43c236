package alarms_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/fleet/alarms"
	"ullage/fleet/fact"
	"ullage/test/rig"
)

const halfSilent = `rule: cellar_silent
models: [tank-probe, cellar-air]
each: label.site
raise: share(device.link in ("overdue", "silent")) > 50 '%'
on_delay: 30s
off_delay: 10s
priority: urgent
message: "{label.site}: {share(device.link != \"online\")} of the devices do not report"
`

func twoCellars(t *testing.T) *rig.Rig {
	r := rig.New(t)
	for _, site := range []string{"fennimore", "kilnside"} {
		for i := range 3 {
			r.Onboard(fmt.Sprintf("tank-%s-%d", site, i), "tank-probe", map[string]string{"site": site})
		}
		r.Onboard("air-"+site, "cellar-air", map[string]string{"site": site})
	}
	r.Onboard("tank-nowhere", "tank-probe", nil)
	return r
}

func report(r *rig.Rig, site string) {
	for i := range 3 {
		r.Keep(fmt.Sprintf("tank-%s-%d", site, i), fmt.Sprintf(`{"must_temp":%d}`, 20+i))
	}
	r.Keep("air-"+site, `{"co2":700}`)
}

// minutes lets time pass second by second while the sites given report.
func minutes(r *rig.Rig, n int, sites ...string) {
	for range n {
		for _, s := range sites {
			report(r, s)
		}
		for range 60 {
			r.Pass(time.Second)
		}
	}
}

func TestGroupRule(t *testing.T) {
	r := twoCellars(t)
	r.Rule(halfSilent)
	minutes(r, 3, "fennimore", "kilnside")
	if as := r.OpenAlarms(); len(as) != 0 {
		t.Fatalf("everybody reports, and open is %+v", as)
	}
	minutes(r, 3, "kilnside")
	as := r.OpenAlarms()
	if len(as) != 1 || as[0].Group != "site=fennimore" || as[0].Device != "" ||
		as[0].State != lifecycle.Unacknowledged ||
		as[0].Message != "fennimore: 100 % of the devices do not report" {
		t.Fatalf("one cellar is silent: %+v", as)
	}
	if up := r.Journal(fact.AlarmRaised); len(up) != 1 {
		t.Errorf("the journal tells %q", up)
	}
	if g := r.Alarms.Groups(); len(g) != 1 || g[0].ID != as[0].ID {
		t.Errorf("the groups' alarms are %+v", g)
	}
	r.Restart(true)
	minutes(r, 1, "kilnside")
	if again := r.OpenAlarms(); len(again) != 1 || again[0].ID != as[0].ID {
		t.Fatalf("after a restart: %+v", again)
	}
	a, err := r.Alarms.Acknowledge(t.Context(), as[0].ID, "mara")
	if err != nil || a.State != lifecycle.Acknowledged {
		t.Fatalf("acknowledged: %+v, %v", a, err)
	}
	minutes(r, 2, "fennimore", "kilnside")
	if as := r.OpenAlarms(); len(as) != 0 {
		t.Errorf("back again: %+v", as)
	}
}

func TestGroupRuleOverWindowsAndOtherRules(t *testing.T) {
	r := twoCellars(t)
	r.Rule("rule: tank_warm\nmodels: [tank-probe]\nraise: must_temp > 21.5\npriority: low\nmessage: m\n")
	r.Rule("rule: two_warm\nmodels: [tank-probe]\neach: label.site\nraise: count_of(raised(tank_warm)) >= 2\npriority: high\nmessage: '{count_of(raised(tank_warm))} tanks'\n")
	r.Rule("rule: cellar_warm\nmodels: [tank-probe]\neach: label.site\ndevices: device.id like \"*-[0-2]\" or true\nraise: mean_of(mean(must_temp over 5min)) > 20.5\npriority: high\nmessage: '{mean_of(must_temp)}'\n")
	minutes(r, 6, "fennimore")
	if as := group(r); len(as) != 1 || as[0].Rule != "cellar_warm" || as[0].Message != "21.0 °C" {
		t.Errorf("over windows: %+v", as)
	}
	r.Keep("tank-fennimore-1", `{"must_temp":25}`)
	minutes(r, 0)
	r.Pass(2 * time.Second)
	as := group(r)
	if len(as) != 2 || as[1].Rule != "two_warm" || as[1].Message != "2 tanks" {
		t.Errorf("over other rules: %+v", as)
	}
	// A cellar that is no more lets go of its alarms.
	for i := range 3 {
		_, err := r.Devices.Label(t.Context(), fmt.Sprintf("tank-fennimore-%d", i), map[string]string{"site": ""},
			"tester")
		r.Must(err)
	}
	r.Pass(2 * time.Second)
	r.Pass(2 * time.Second)
	if as := group(r); len(as) != 0 {
		t.Errorf("without members: %+v", as)
	}
}

func group(r *rig.Rig) (out []alarms.Alarm) {
	for _, a := range r.OpenAlarms() {
		if a.Group != "" {
			out = append([]alarms.Alarm{a}, out...)
		}
	}
	return out
}

func TestGroupRuleRefused(t *testing.T) {
	r := twoCellars(t)
	for _, c := range []struct{ old, new, says string }{
		{"each: label.site", "each: site", "is no label"},
		{"share(device.link in", "(device.link in", "put it into a function"},
		{"[tank-probe, cellar-air]", "[tank-probe, no-such]", "there is no model"},
		{"{label.site}", "{label.row}", "may differ within the group"},
		{"raise: share", "raise: max_of(ullage) > 3 and share", ""},
		{"[tank-probe, cellar-air]\neach: label.site\nraise: share", "[tank-probe, cask-bung]\neach: label.site\nraise: max_of(ullage) > 3 and share", "needs one unit"},
		{"each: label.site\n", "", "rules with each"},
	} {
		src := strings.Replace(halfSilent, c.old, c.new, 1)
		x, err := rule.Parse([]byte(src))
		if err == nil {
			_, err = r.Alarms.SetRule(t.Context(), *x, "tester")
		}
		if c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %v, want %q", c.new, err, c.says)
		}
	}
}
