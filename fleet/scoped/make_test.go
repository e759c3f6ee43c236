package scoped_test

import (
	"strings"
	"testing"

	"ullage/core/person"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/test/rig"
)

// Somebody with some devices onboards those that are among them from the beginning, and hears
// nothing of others: not that an id is taken, by what, or that there is a hub or a model.
func TestOnboardedByWhoHasSome(t *testing.T) {
	r, c, whole, _ := author(t)
	ctx := t.Context()
	r.Onboard("hub-kilnside", "cellar-hub", map[string]string{"site": "Kilnside"})
	at := func(site string) map[string]string { return map[string]string{"site": site} }
	tried := []struct {
		what string
		n    devices.New
		code fault.Code
		says string
	}{
		{"one of theirs", devices.New{ID: "tank-9", Model: "tank-probe", Labels: at("Fennimore")}, "", ""},
		{"without labels", devices.New{ID: "tank-8", Model: "tank-probe"}, fault.NotAllowed, `label.site == "Fennimore"`},
		{"at another site", devices.New{ID: "tank-8", Model: "tank-probe", Labels: at("Kilnside")}, fault.NotAllowed, "within what cellar-master may change"},
		{"an id of another", devices.New{ID: "tank-2", Model: "tank-probe", Labels: at("Fennimore")}, fault.Conflict, "the id tank-2 is not free"},
		{"an id of theirs", devices.New{ID: "tank-1", Model: "tank-probe", Labels: at("Fennimore")}, fault.Conflict, "there is a device tank-1 already"},
		{"behind a hub of others", devices.New{ID: "tank-8", Model: "tank-probe", Hub: "hub-kilnside", Labels: at("Fennimore")}, fault.Invalid, "hub-kilnside"},
		{"behind no hub", devices.New{ID: "tank-8", Model: "tank-probe", Hub: "hub-nowhere", Labels: at("Fennimore")}, fault.Invalid, "hub-nowhere"},
		{"of no model", devices.New{ID: "tank-8", Model: "tank-prob", Labels: at("Fennimore")}, fault.NotFound, "tank-prob"},
	}
	said := map[string]string{}
	for _, x := range tried {
		_, _, err := r.Fleet.Create(ctx, c, x.n, devices.Wanted{})
		if x.code == "" {
			r.Must(err)
			if !c.Sees(x.n.ID) {
				t.Errorf("%s: they do not see what they have onboarded", x.what)
			}
			continue
		}
		if rig.Code(err) != x.code || !strings.Contains(err.Error(), x.says) {
			t.Errorf("%s: %v, want %s with %q", x.what, err, x.code, x.says)
			continue
		}
		said[x.what] = err.Error()
		for _, of := range []string{"active", "expected", "press-scale", "cask-bung"} {
			if strings.Contains(err.Error(), of) && x.n.ID != "tank-1" {
				t.Errorf("%s: %v tells of what they do not see", x.what, err)
			}
		}
		if _, err := r.Fleet.CreateMany(ctx, c, []devices.New{{ID: "tank-7", Model: "tank-probe", Labels: at("Fennimore")}, x.n}, make([]devices.Wanted, 2)); rig.Code(err) != x.code || r.Devices.Knows("tank-7") {
			t.Errorf("%s beside one that is right: %v", x.what, err)
		}
	}
	if a, b := strings.ReplaceAll(said["behind a hub of others"], "hub-kilnside", "HUB"), strings.ReplaceAll(said["behind no hub"], "hub-nowhere", "HUB"); a != b {
		t.Errorf("a hub of others is told from none: %q and %q", a, b)
	}
	var ns []devices.New
	for _, x := range tried {
		ns = append(ns, x.n)
	}
	errs, err := r.Fleet.PlanMany(c, ns[1:])
	r.Must(err)
	for i, err := range errs {
		if rig.Code(err) != tried[i+1].code {
			t.Errorf("planned, %s: %v", tried[i+1].what, err)
		}
	}
	// A hub of theirs, and what it carries, in one list.
	list := []devices.New{{ID: "hub-fennimore", Model: "cellar-hub", Labels: at("Fennimore")}, {ID: "valve-1", Model: "jacket-valve", Hub: "hub-fennimore", Labels: at("Fennimore")}}
	if errs, err := r.Fleet.PlanMany(c, list); err != nil || errs[0] != nil || errs[1] != nil {
		t.Errorf("a hub and its valve: %v, %v", errs, err)
	}
	_, err = r.Fleet.CreateMany(ctx, c, list, make([]devices.Wanted, 2))
	r.Must(err)
	if _, _, err := r.Fleet.Create(ctx, whole, devices.New{ID: "tank-6", Model: "tank-probe"}, devices.Wanted{}); err != nil {
		t.Errorf("by who has everything: %v", err)
	}
	r.Access.Grant("cellar-master", person.Grants{{Role: person.Operator, Access: `label.site == "Fennimore"`}})
	if _, _, err := r.Fleet.Create(ctx, c, devices.New{ID: "tank-5", Model: "tank-probe", Labels: at("Fennimore")}, devices.Wanted{}); rig.Code(err) != fault.NotAllowed {
		t.Errorf("by an operator: %v", err)
	}
}
