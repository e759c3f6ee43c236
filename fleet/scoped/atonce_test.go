package scoped_test

import (
	"fmt"
	"testing"
	"time"

	"ullage/core/person"
	"ullage/core/rule"
	"ullage/fleet/access"
	"ullage/fleet/noun"
	"ullage/test/rig"
)

// TestAtOnce: on whom a rule would be raised is known before it is put in force, also where its
// condition looks back, and of those alone that somebody reaches.
func TestAtOnce(t *testing.T) {
	r := rig.New(t)
	for i := range 10 {
		id, site := fmt.Sprintf("tank-%02d", i), "Fennimore"
		if i >= 6 {
			site = "Kilnside"
		}
		r.Onboard(id, "tank-probe", map[string]string{"site": site})
	}
	for range 12 { // a window is known once it is full
		for i := range 10 {
			r.Keep(fmt.Sprintf("tank-%02d", i), fmt.Sprintf(`{"must_temp":%d}`, 20+i))
		}
		r.Pass(time.Minute)
	}
	parse := func(raise string, more string) rule.Rule {
		x, err := rule.Parse([]byte("rule: warm\nmodels: [tank-probe]\nraise: " + raise + "\n" + more + "on_delay: 10min\npriority: low\nmessage: m\ncause: c\nresponse: r\n"))
		r.Must(err)
		return *x
	}
	look := func(c access.Caller, x rule.Rule) atOnce {
		a, err := r.Fleet.AtOnce(t.Context(), c, x)
		r.Must(err)
		return atOnce{a.Of, len(a.Devices), a.Many()}
	}
	whole := access.Whole("mara")
	for _, x := range []struct {
		raise, more string
		want        atOnce
	}{
		{"must_temp > 26.5", "", atOnce{10, 3, true}},
		{"must_temp > 27.5", "", atOnce{10, 2, false}},
		{"must_temp > 26.5", "devices: label.site == \"Kilnside\"\n", atOnce{4, 3, true}},
		{"mean(must_temp over 10min) > 26.5", "", atOnce{10, 3, true}},
		{"must_temp > 26.5", "disabled: true\n", atOnce{}},
		{"must_temp > 99", "", atOnce{10, 0, false}},
	} {
		if got := look(whole, parse(x.raise, x.more)); got != x.want {
			t.Errorf("%s %s would be raised as %+v, want %+v", x.raise, x.more, got, x.want)
		}
	}
	r.Access.Grant("master", person.Grants{{Role: person.Engineer, Access: `label.site == "Fennimore"`}})
	if got := look(r.Access.Caller("master", ""), parse("must_temp > 24.5", "")); got != (atOnce{6, 1, false}) {
		t.Errorf("to who reaches six of them it is %+v", got)
	}
	// What is raised already is none that would be.
	now := parse("must_temp > 26.5", "")
	now.OnDelay = 0
	_, err := r.Fleet.PutRule(t.Context(), whole, now, noun.If{})
	r.Must(err)
	for i := range 10 {
		r.Keep(fmt.Sprintf("tank-%02d", i), fmt.Sprintf(`{"must_temp":%d}`, 20+i))
	}
	if got := look(whole, parse("must_temp > 25.5", "")); got != (atOnce{10, 1, false}) {
		t.Errorf("of four over it three are raised already: %+v", got)
	}
}

type atOnce struct {
	of, over int
	many     bool
}
