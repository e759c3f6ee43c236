package scoped_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/core/person"
	"ullage/core/rule"
	"ullage/fleet/access"
	"ullage/fleet/deletion"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
	"ullage/fleet/query"
	"ullage/test/rig"
)

// bench has two tanks, of which somebody is operator for the first, and engineer for
// none.
func bench(t *testing.T) (*rig.Rig, access.Caller) {
	r := rig.New(t)
	r.Onboard("tank-1", "tank-probe", map[string]string{"site": "Fennimore"})
	r.Onboard("tank-2", "tank-probe", map[string]string{"site": "Kilnside"})
	r.Access.Grant("cellar-master", person.Grants{{Role: person.Operator, Access: `label.site == "Fennimore"`}})
	r.Keep("tank-1", `{"must_temp": 21}`)
	r.Keep("tank-2", `{"must_temp": 22}`)
	r.Settle()
	return r, r.Access.Caller("cellar-master", "192.0.2.1")
}

// What somebody does not reach does not exist, what their role does not do is refused,
// and the zero caller has nothing at all.
func TestReach(t *testing.T) {
	r, c := bench(t)
	ctx := t.Context()
	f := r.Fleet
	for _, x := range []struct {
		what string
		do   func(c access.Caller, id string) error
		own  fault.Code // for the device that they see; empty where it is done
	}{
		{"Device", func(c access.Caller, id string) error { _, err := f.Device(c, id); return err }, ""},
		{"Registered", func(c access.Caller, id string) error { _, _, err := f.Registered(c, id); return err }, ""},
		{"Settings", func(c access.Caller, id string) error { _, _, err := f.Settings(c, id); return err }, ""},
		{"Set", func(c access.Caller, id string) error {
			_, err := f.Set(ctx, c, id, map[string]any{"max_temp": 27.0}, nil, time.Time{})
			return err
		}, ""},
		{"Pick", func(c access.Caller, id string) error { _, err := f.Pick(c, []string{id}, ""); return err }, ""},
		{"Plan", func(c access.Caller, id string) error {
			_, err := f.Plan(c, query.Query{Devices: []string{id}, Metrics: []string{"must_temp"}})
			return err
		}, ""},
		{"Label", func(c access.Caller, id string) error { return f.Label(ctx, c, id, map[string]string{"row": "3"}) }, fault.NotAllowed},
		{"Rename", func(c access.Caller, id string) error { return f.Rename(ctx, c, id, "x") }, fault.NotAllowed},
		{"Behind", func(c access.Caller, id string) error { return f.Behind(ctx, c, id, "") }, fault.NotAllowed},
		{"SetStatus", func(c access.Caller, id string) error { return f.SetStatus(ctx, c, id, devices.Suspended) }, fault.NotAllowed},
		{"Renew", func(c access.Caller, id string) error {
			_, err := f.Renew(ctx, c, id, devices.Wanted{}, true)
			return err
		}, fault.NotAllowed},
		{"Replace", func(c access.Caller, id string) error {
			_, err := f.Replace(ctx, c, id, "TP-1", devices.Wanted{})
			return err
		}, fault.NotAllowed},
		{"RenewMany", func(c access.Caller, id string) error {
			_, _, err := f.RenewMany(ctx, c, []string{id}, devices.Wanted{}, true)
			return err
		}, fault.NotAllowed},
		{"Credentials", func(c access.Caller, id string) error { _, _, err := f.Credentials(c, id); return err }, fault.NotAllowed},
		{"Revoke", func(c access.Caller, id string) error { return f.Revoke(ctx, c, id, "none") }, fault.NotAllowed},
		{"Delete", func(c access.Caller, id string) error {
			_, err := f.Delete(ctx, c, deletion.Span{Device: id, All: true})
			return err
		}, fault.NotAllowed},
	} {
		if err := x.do(c, "tank-1"); (err == nil) != (x.own == "") || err != nil && !fault.Is(err, x.own) {
			t.Errorf("%s of one's own: %v, want %q", x.what, err, x.own)
		}
		foreign, none := x.do(c, "tank-2"), x.do(c, "tank-9")
		if !fault.Is(foreign, fault.NotFound) || none == nil || strings.ReplaceAll(foreign.Error(), "tank-2", "tank-9") != none.Error() {
			t.Errorf("%s of a foreign one: %v, of none: %v", x.what, foreign, none)
		}
		if err := x.do(access.Caller{}, "tank-1"); !fault.Is(err, fault.NotFound) {
			t.Errorf("%s of nobody: %v", x.what, err)
		}
	}
}

func TestWhatIsSeen(t *testing.T) {
	r, c := bench(t)
	f := r.Fleet
	if set, ids, err := f.Among(c, "must_temp > 20"); err != nil || len(set) != 1 || !slices.Equal(ids, []string{"tank-1"}) {
		t.Errorf("a condition is true for %v, %v", ids, err)
	}
	if set, ids, err := f.Among(access.Whole("engineer"), ""); err != nil || set != nil || ids != nil {
		t.Errorf("for whoever sees all it is %v, %v", ids, err)
	}
	if set, ids, err := f.Among(access.Caller{}, ""); err != nil || set == nil || len(ids) != 0 {
		t.Errorf("for nobody it is %v, %v", set, err)
	}
	if all, online := f.Counts(c); all != 1 || online != 1 {
		t.Errorf("%d devices, %d on line; want 1 and 1", all, online)
	}
	if _, _, _, known := f.Flow(c); known {
		t.Error("the flow of the whole fleet is told")
	}
	before := r.Present.Visited()
	if got := f.Devices(c); len(got) != 1 || r.Present.Visited()-before != 1 {
		t.Errorf("%d devices are seen and %d visited, want 1", len(got), r.Present.Visited()-before)
	}
}

// Somebody who is engineer for some devices makes and removes rules of their own, and
// is not told of another's that asks about one.
func TestOwnRules(t *testing.T) {
	r, c := bench(t)
	ctx := t.Context()
	r.Access.Grant("cellar-master", person.Grants{{Role: person.Engineer, Access: `label.site == "Fennimore"`}})
	put := func(c access.Caller, name, raise string) error {
		x, err := rule.Parse([]byte("rule: " + name + "\nmodels: [tank-probe]\nraise: " + raise + "\npriority: low\nmessage: warm\n"))
		r.Must(err)
		_, err = r.Fleet.PutRule(ctx, c, *x, noun.If{})
		return err
	}
	whole := access.Whole("engineer")
	r.Must(put(c, "cellar_master_warm", "must_temp > 10"))
	r.Must(put(whole, "secret_rule", "raised(cellar_master_warm)"))
	if err := put(c, "secret_rule", "must_temp > 10"); !fault.Is(err, fault.NotAllowed) {
		t.Errorf("another's rule is changed: %v", err)
	}
	if err := r.Fleet.RemoveRule(ctx, c, "cellar_master_warm", noun.If{}); !fault.Is(err, fault.Conflict) || strings.Contains(err.Error(), "secret") {
		t.Errorf("a rule that another's asks about: %v", err)
	}
	r.Must(r.Fleet.RemoveRule(ctx, whole, "secret_rule", noun.If{}))
	r.Must(r.Fleet.RemoveRule(ctx, c, "cellar_master_warm", noun.If{}))
	if _, err := r.Alarms.Rule("cellar_master_warm"); !fault.Is(err, fault.NotFound) {
		t.Errorf("it is still there: %v", err)
	}
}
