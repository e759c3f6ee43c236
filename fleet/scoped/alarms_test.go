package scoped_test

import (
	"strings"
	"testing"
	"time"

	"ullage/core/maintenance"
	"ullage/core/person"
	"ullage/core/rule"
	"ullage/fleet/access"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
	"ullage/fleet/replays"
	"ullage/fleet/scoped"
	"ullage/test/rig"
)

// twoSites is a rig with a monitor at each of two sites, both with an alarm, and people who
// have a part of it.
func twoSites(t *testing.T) (r *rig.Rig, master, owner access.Caller) {
	t.Helper()
	r = rig.New(t)
	r.Rule("rule: co2_high\nmodels: [cellar-air]\nraise: co2 > 1500\npriority: medium\nmessage: much\n")
	for _, site := range []string{"Fennimore", "Kilnside"} {
		id := "air-" + strings.ToLower(site) + "-1"
		r.Onboard(id, "cellar-air", map[string]string{"site": site})
		r.Keep(id, `{"co2":1700}`)
	}
	r.Pass(2 * time.Second)
	for name, role := range map[string]person.Role{"cellar-master": person.Operator, "cask-owner": person.Viewer} {
		_, err := r.People.Put(t.Context(), person.Person{Name: name, Grants: person.Grants{{Role: role, Access: `label.site == "Fennimore"`}}}, noun.If{}, "engineer")
		r.Must(err)
	}
	r.Settle()
	return r, r.Access.Caller("cellar-master", ""), r.Access.Caller("cask-owner", "")
}

func idAt(t *testing.T, r *rig.Rig, device string) string {
	t.Helper()
	for _, a := range r.OpenAlarms() {
		if a.Device == device {
			return a.ID
		}
	}
	t.Fatalf("%s has no alarm", device)
	return ""
}

// Everybody acts on their part, and is told nothing of the rest.
func TestActsWithinAccess(t *testing.T) {
	r, master, owner := twoSites(t)
	own, foreign := idAt(t, r, "air-fennimore-1"), idAt(t, r, "air-kilnside-1")
	acts := []scoped.Act{{Verb: "comment", Text: "seen"}, {Verb: "shelve", Until: r.Clock.Now().Add(time.Hour)}, {Verb: "unshelve"}, {Verb: "acknowledge"}}
	for _, act := range acts {
		if _, err := r.Fleet.Act(t.Context(), master, own, act); err != nil {
			t.Errorf("%s on one's own: %v", act.Verb, err)
		}
		_, err := r.Fleet.Act(t.Context(), master, foreign, act)
		_, none := r.Fleet.Act(t.Context(), master, "01ARZ3NDEKTSV4RRFFQ69G5FAV", act)
		if rig.Code(err) != fault.NotFound || strings.ReplaceAll(err.Error(), foreign, "ID") != strings.ReplaceAll(none.Error(), "01ARZ3NDEKTSV4RRFFQ69G5FAV", "ID") {
			t.Errorf("%s on another's: %v; on none: %v", act.Verb, err, none)
		}
		if _, err := r.Fleet.Act(t.Context(), owner, own, act); rig.Code(err) != fault.NotAllowed {
			t.Errorf("a viewer may %s: %v", act.Verb, err)
		}
	}
	if _, err := r.Fleet.Act(t.Context(), access.Whole("engineer"), foreign, scoped.Act{Verb: "shelve", Until: r.Clock.Now().Add(time.Hour), Text: "secret of Kilnside"}); err != nil {
		t.Fatal(err)
	}
	if s, err := r.Fleet.Shelves(t.Context(), master); err != nil || len(s) != 0 {
		t.Errorf("another's shelf is seen: %+v, %v", s, err)
	}
	h, err := r.Fleet.Handover(t.Context(), owner, r.Clock.Now().Add(-time.Hour), time.Hour)
	if err != nil || len(h.Open) != 1 || len(h.Aside) != 0 || h.Raised != 1 {
		t.Errorf("the handover of a part is %+v, %v", h, err)
	}
	p, err := r.Fleet.Performance(t.Context(), owner, r.Clock.Now().Add(-time.Hour), r.Clock.Now(), 1)
	if err != nil || p.Alarms != 1 || len(p.Devices) != 1 || p.Devices[0].Name != "air-fennimore-1" {
		t.Errorf("the performance of a part is %+v, %v", p, err)
	}
}

// Maintenance of somebody with a part is for their part, and follows it.
func TestMaintenanceWithinAccess(t *testing.T) {
	r, master, owner := twoSites(t)
	everything := maintenance.Maintenance{Name: "my_cleaning", Devices: `device.model == "cellar-air"`, To: r.Clock.Now().Add(time.Hour)}
	if _, err := r.Fleet.PutMaintenance(t.Context(), owner, everything, noun.If{}); rig.Code(err) != fault.NotAllowed {
		t.Errorf("a viewer plans maintenance: %v", err)
	}
	saved, err := r.Fleet.PutMaintenance(t.Context(), master, everything, noun.If{})
	r.Must(err)
	if saved.Value.Count != 1 || !saved.Value.Active {
		t.Errorf("it is %+v", saved.Value)
	}
	r.Pass(2 * time.Second)
	r.Pass(2 * time.Second)
	out := func() string {
		var ids []string
		for _, a := range r.OpenAlarms() {
			if a.Aside.OutOfService {
				ids = append(ids, a.Device)
			}
		}
		return strings.Join(ids, " ")
	}
	if got := out(); got != "air-fennimore-1" {
		t.Errorf("out of service is %q", got)
	}
	// Others of theirs see that there is one, and not its words.
	if ms := r.Fleet.Maintenances(owner); len(ms) != 1 || ms[0].Devices != "" || ms[0].By != "" || ms[0].Count != 1 {
		t.Errorf("a viewer sees %+v", ms)
	}
	whole := everything
	whole.Name = "all_cleaning"
	_, err = r.Fleet.PutMaintenance(t.Context(), access.Whole("engineer"), whole, noun.If{})
	r.Must(err)
	whole.Why = "mine now"
	if _, err := r.Fleet.PutMaintenance(t.Context(), master, whole, noun.If{}); rig.Code(err) != fault.NotAllowed {
		t.Errorf("another's is changed: %v", err)
	}
	if err := r.Fleet.RemoveMaintenance(t.Context(), master, "all_cleaning", noun.If{}); rig.Code(err) != fault.NotAllowed {
		t.Errorf("another's is removed: %v", err)
	}
	r.Must(r.Fleet.RemoveMaintenance(t.Context(), access.Whole("engineer"), "all_cleaning", noun.If{}))
	// Who loses their part loses what they have planned for it.
	_, err = r.People.Put(t.Context(), person.Person{Name: "cellar-master", Grants: person.Grants{{Role: person.Viewer, Access: `label.site == "Fennimore"`}}}, noun.If{}, "engineer")
	r.Must(err)
	r.Pass(90 * time.Second)
	r.Pass(2 * time.Second)
	if got := out(); got != "" {
		t.Errorf("out of service is %q still", got)
	}
}

// A replay tells of what is seen alone.
func TestReplayWithinAccess(t *testing.T) {
	r, master, _ := twoSites(t)
	x, err := rule.Parse([]byte("rule: co2_new\nmodels: [cellar-air]\nraise: co2 > 1600\npriority: medium\nmessage: much\n"))
	r.Must(err)
	a := replays.Ask{Rule: *x, From: r.Clock.Now().Add(-time.Hour)}
	var seen []string
	told := func(o *replays.One, p replays.Progress) error {
		if o != nil {
			seen = append(seen, o.Subject)
		}
		if p.Of != 1 {
			t.Errorf("it is said to be over %d devices", p.Of)
		}
		return nil
	}
	if err := r.Fleet.Replay(t.Context(), master, "", a, told); err != nil || strings.Join(seen, " ") != "air-fennimore-1" {
		t.Errorf("it tells of %v, %v", seen, err)
	}
	a.Devices = []string{"air-kilnside-1"}
	if err := r.Fleet.Replay(t.Context(), master, "", a, told); rig.Code(err) != fault.NotFound {
		t.Errorf("another's device: %v", err)
	}
	group := *x
	group.Each, group.Raise = "label.site", "mean_of(co2) > 1500"
	if err := r.Fleet.Replay(t.Context(), master, "", replays.Ask{Rule: group, From: r.Clock.Now().Add(-time.Hour)}, told); rig.Code(err) != fault.NotAllowed {
		t.Errorf("a group of which not all is seen: %v", err)
	}
	if _, err := r.Fleet.RuleVersions(t.Context(), master, "co2_high"); rig.Code(err) != fault.NotAllowed {
		t.Errorf("the versions of another's rule: %v", err)
	}
}
