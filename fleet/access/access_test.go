package access_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/devices"
	"ullage/test/rig"
)

// What is kept up to date is what would be worked out anew, whatever order labels,
// devices and grants change in.
func TestReachesAgainstWorkedOutAnew(t *testing.T) {
	r := rig.New(t)
	random := rand.New(rand.NewPCG(7, 11))
	sites := []string{"Fennimore", "Kilnside", "Saltmarsh", ""}
	accesses := []string{"", `label.site == "Fennimore"`, `label.site != "Kilnside"`, `device.id in ("tank-1", "tank-9")`,
		`label.site in ("Kilnside", "Saltmarsh") and label.row == "a"`, `not (label.row == "b")`, `device.model == "cellar-air"`}
	grants := map[string]person.Grants{}
	people := []string{"a", "b", "c"}
	n := 0
	for step := range 400 {
		switch {
		case n < 10 || random.IntN(10) == 0 && n < 40:
			n++
			labels := map[string]string{"row": string(rune('a' + random.IntN(2)))}
			if s := sites[random.IntN(len(sites))]; s != "" {
				labels["site"] = s
			}
			r.Onboard(fmt.Sprintf("tank-%d", n), []string{"tank-probe", "cellar-air"}[random.IntN(2)], labels)
		case random.IntN(3) == 0:
			who := people[random.IntN(len(people))]
			var gs person.Grants
			for range random.IntN(3) {
				gs = append(gs, person.Grant{Role: person.Roles[random.IntN(3)], Access: accesses[random.IntN(len(accesses))]})
			}
			grants[who] = gs
			r.Access.Grant(who, gs)
		default:
			_, err := r.Devices.Label(t.Context(), fmt.Sprintf("tank-%d", 1+random.IntN(n)), map[string]string{
				[]string{"site", "row", "stage"}[random.IntN(3)]: sites[random.IntN(len(sites))]}, "tester")
			r.Must(err)
		}
		for _, who := range people {
			c := r.Access.Caller(who, "")
			for _, role := range person.Roles {
				want, all := expected(t, r, grants[who], role)
				got, gotAll := c.Devices(role)
				if gotAll != all || !all && !slices.Equal(got, want) {
					t.Fatalf("step %d: %s with %v reaches as %s %v (%v), want %v (%v)", step, who, grants[who], role, got, gotAll, want, all)
				}
				for _, d := range r.Devices.List() {
					_, in := slices.BinarySearch(want, d.ID)
					if c.May(role, d.ID) != (all || in) || c.Keeps(role, d) != (all || in) {
						t.Fatalf("step %d: %s may as %s do something to %s: %v, want %v", step, who, role, d.ID, c.May(role, d.ID), all || in)
					}
				}
			}
		}
	}
}

func expected(t *testing.T, r *rig.Rig, grants person.Grants, role person.Role) (ids []string, all bool) {
	t.Helper()
	reached := map[string]bool{}
	for _, g := range grants {
		if !g.Role.Does(role) {
			continue
		}
		if g.Access == "" {
			return nil, true
		}
		a, err := person.NewAccess(g.Access)
		r.Must(err)
		for _, d := range r.Devices.List() {
			if a.Reaches(d.ID, d.Model, d.Labels) {
				reached[d.ID] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(reached)), false
}

func TestNobodyMayAnything(t *testing.T) {
	r := rig.New(t)
	r.Onboard("tank-1", "tank-probe", nil)
	for name, c := range map[string]access.Caller{"the zero caller": {}, "a stranger": r.Access.Caller("stranger", "")} {
		if c.Sees("tank-1") || c.MayAll(person.Viewer) || c.Role() != "" || c.Keeps(person.Viewer, devices.Device{ID: "tank-1"}) {
			t.Errorf("%s may something", name)
		}
		if ids, all := c.Devices(person.Viewer); all || len(ids) > 0 {
			t.Errorf("%s sees %v", name, ids)
		}
		if c.Set(person.Viewer) == nil {
			t.Errorf("the set of %s means all devices", name)
		}
	}
	if c := access.Whole("service"); !c.MayAll(person.Owner) || !c.Sees("tank-1") {
		t.Error("the service itself may not do everything")
	}
}

// Whoever waits is told when something changes, and only then.
func TestChangedTells(t *testing.T) {
	r := rig.New(t)
	r.Onboard("tank-1", "tank-probe", map[string]string{"site": "Fennimore"})
	r.Access.Grant("a", person.Grants{{Role: person.Viewer, Access: `label.site == "Kilnside"`}})
	told := func(what string, want bool, do func() error) {
		t.Helper()
		news := r.Access.Changed()
		r.Must(do())
		r.Settle()
		select {
		case <-news:
			if !want {
				t.Errorf("%s is told", what)
			}
		default:
			if want {
				t.Errorf("%s is not told", what)
			}
		}
	}
	label := func(k, v string) func() error {
		return func() error {
			_, err := r.Devices.Label(t.Context(), "tank-1", map[string]string{k: v}, "tester")
			return err
		}
	}
	told("a label that no access looks at", false, label("row", "3"))
	told("a label that changes nothing", false, label("site", "Saltmarsh"))
	told("a label by which it comes", true, label("site", "Kilnside"))
	told("a label by which it goes", true, label("site", ""))
	told("another grant", true, func() error { r.Access.Grant("a", nil); return nil })
}

// Questions and changes go on at the same time.
func TestAtOnce(t *testing.T) {
	r := rig.New(t)
	for i := range 20 {
		r.Onboard(fmt.Sprintf("tank-%d", i), "tank-probe", map[string]string{"site": "Fennimore"})
	}
	var wg sync.WaitGroup
	for w := range 4 {
		wg.Go(func() {
			c := r.Access.Caller("a", "")
			for i := range 300 {
				switch w {
				case 0:
					r.Access.Grant("a", person.Grants{{Role: person.Viewer, Access: fmt.Sprintf(`label.site == "%d"`, i%3)}})
				case 1:
					_, _ = r.Devices.Label(t.Context(), fmt.Sprintf("tank-%d", i%20), map[string]string{"site": fmt.Sprint(i % 3)}, "tester")
				default:
					c.Sees(fmt.Sprintf("tank-%d", i%20))
					c.Devices(person.Operator)
				}
			}
		})
	}
	wg.Wait()
}
