package person

import (
	"strings"
	"testing"
)

// Which devices an access reaches. A label that a device lacks grants nothing,
// whichever way it is written.
func TestAccessReaches(t *testing.T) {
	owned := map[string]string{"owner": "a", "site": "Fennimore"}
	for _, c := range []struct {
		access string
		labels map[string]string
		want   bool
	}{
		{`label.site == "Fennimore"`, owned, true},
		{`label.site == "Kilnside"`, owned, false},
		{`device.id == "bung-0041"`, nil, true},
		{`device.model == "bung" and label.owner in ("a", "b")`, owned, true},
		{`device.id in ("bung-0041", "bung-0042")`, nil, true},
		{`true`, nil, true},
		{`label.owner != "x"`, owned, true},
		{`label.owner != "x"`, nil, false},
		{`not label.owner == "x"`, nil, false},
		{`not (label.owner in ("x", "y"))`, nil, false},
		{`label.owner == ""`, nil, false},
		{`label.owner == label.site`, nil, false},
		{`not (label.owner == label.site)`, nil, false},
		{`not has(label.owner)`, nil, false},
		{`not has(label.owner)`, owned, false},
		{`has(label.owner)`, owned, true},
		{`not (to_number(label.row) > 3)`, nil, false},
		{`not (label.owner like "x*")`, nil, false},
		{`if label.owner == "x" then false else true`, nil, false},
		{`label.owner != "x" or label.owner == "x"`, nil, false},
		{`label.owner != "x" or device.model == "bung"`, nil, true},
		{`label.owner != "x"`, map[string]string{"owner": ""}, false},
	} {
		a, err := NewAccess(c.access)
		if err != nil {
			t.Errorf("%s: %v", c.access, err)
			continue
		}
		if got := a.Reaches("bung-0041", "bung", c.labels); got != c.want {
			t.Errorf("%s of a device with %v: %v, want %v", c.access, c.labels, got, c.want)
		}
	}
}

func TestAccessSaysWhatMayNotStandInIt(t *testing.T) {
	for _, c := range []struct{ access, says string }{
		{`must_temp > 28`, "may not say what somebody reaches"},
		{`attr.firmware == "2.1.0"`, "may not say what somebody reaches"},
		{`set.max_temp > 28`, "may not say what somebody reaches"},
		{`device.link == "silent"`, "may not say what somebody reaches"},
		{`device.hub == "hub-saltmarsh"`, "may not say what somebody reaches"},
		{`raised(must_too_warm)`, "may not say what somebody reaches"},
		{`during("daily 1:00-2:00")`, "may not say what somebody reaches"},
		{`mean(must_temp over 1h) > 3`, ""},
		{`label.site ==`, ""},
		{`label.site`, ""},
		{strings.Repeat("(", 500), ""},
	} {
		if _, err := NewAccess(c.access); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", c.access, err, c.says)
		}
	}
}

func TestGrantsAreChecked(t *testing.T) {
	for _, c := range []struct {
		grants []Grant
		says   string // empty for right
	}{
		{nil, ""},
		{[]Grant{{Viewer, ""}, {Operator, `label.site == "Fennimore"`}}, ""},
		{[]Grant{{"oprator", ""}}, "did you mean operator?"},
		{[]Grant{{Owner, `label.site == "Fennimore"`}}, "an owner has the service"},
		{[]Grant{{Viewer, ""}, {Viewer, "must_temp > 3"}}, "grant 2"},
		{make([]Grant, MaxGrants+1), "are the most"},
	} {
		p := Person{Name: "night-duty", Grants: c.grants}
		if err := p.Check(); (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%v: %v, want %q", c.grants, err, c.says)
		}
	}
	if got := Most([]Grant{{Viewer, ""}, {Engineer, "true"}, {Operator, ""}}); got != Engineer {
		t.Errorf("the greatest role is %q, want engineer", got)
	}
	if _, err := ParseTeam([]byte("team: casks\ngrants:\n  - role: viewer\n    access: label.owner == \"cask-owner\"\npeople: [cask-owner]\n")); err != nil {
		t.Error(err)
	}
	if _, err := ParseTeam([]byte("team: casks\ngrant: []\n")); err == nil {
		t.Error("a team with a key that does not exist was taken")
	}
}

func BenchmarkAccess(b *testing.B) {
	a, err := NewAccess(`label.site == "Fennimore" and device.model in ("tank-probe", "bung")`)
	if err != nil {
		b.Fatal(err)
	}
	labels := map[string]string{"site": "Fennimore", "owner": "a"}
	for b.Loop() {
		a.Reaches("bung-0041", "bung", labels)
	}
}
