package scoped_test

import (
	"slices"
	"strings"
	"testing"

	"ullage/core/check"
	"ullage/core/layering"
	"ullage/core/person"
	"ullage/core/rule"
	"ullage/core/waves"
	"ullage/fleet/access"
	"ullage/fleet/commands"
	"ullage/fleet/fault"
	"ullage/fleet/layers"
	"ullage/fleet/noun"
	"ullage/test/rig"
)

// author is a rig of which somebody is engineer for the tanks of Fennimore. What grants them
// something else does what the service does then.
func author(t *testing.T) (r *rig.Rig, c, whole access.Caller, grant func(where string)) {
	r, c = bench(t)
	r.Onboard("tank-3", "tank-probe", map[string]string{"site": "Fennimore", "must": "white"})
	grant = func(where string) {
		t.Helper()
		r.Access.Grant("cellar-master", person.Grants{{Role: person.Engineer, Access: where}})
		r.Must(r.Fleet.Regranted(t.Context(), "cellar-master"))
		r.Settle()
	}
	grant(`label.site == "Fennimore"`)
	return r, c, access.Whole("engineer"), grant
}

func has(t *testing.T, r *rig.Rig, device string) float64 {
	t.Helper()
	s, _, err := r.Settings.Of(device)
	r.Must(err)
	return s.Intended["max_temp"].Num
}

// A layer of somebody with some devices is for those alone, whatever its target says and
// whoever saves it, and follows what they reach.
func TestOwnLayers(t *testing.T) {
	r, c, whole, grant := author(t)
	ctx := t.Context()
	x := layering.Layer{Name: "cellar-master-cool", Set: map[string]any{"max_temp": 27.0}, Author: "engineer", Access: ""}

	p, err := r.Fleet.PreviewLayers(c, layers.Proposal{Layer: &x})
	r.Must(err)
	if p.Devices != 2 || p.Scope != 2 || slices.ContainsFunc(p.Differences, func(d layers.Difference) bool { return d.Device == "tank-2" }) {
		t.Errorf("the preview is of %d devices, %d in scope: %+v", p.Devices, p.Scope, p.Differences)
	}
	r.Must(r.Fleet.ApplyLayers(ctx, c, layers.Proposal{Layer: &x}, p.Tag, false))
	r.Settle()
	is := func(when string, one, two, three float64) {
		t.Helper()
		if a, b, d := has(t, r, "tank-1"), has(t, r, "tank-2"), has(t, r, "tank-3"); a != one || b != two || d != three {
			t.Errorf("%s, the three have %g, %g and %g; want %g, %g and %g", when, a, b, d, one, two, three)
		}
	}
	is("made for everything", 27, 32, 27)

	saved, err := r.Fleet.Layer(c, x.Name)
	r.Must(err)
	if saved.Author != "cellar-master" || saved.Access != `label.site == "Fennimore"` {
		t.Errorf("it is of %q for %q", saved.Author, saved.Access)
	}
	other := x
	other.Set = map[string]any{"max_temp": 26.0}
	_, err = r.Fleet.PutLayer(ctx, whole, other, noun.If{})
	r.Must(err)
	r.Settle()
	is("saved by somebody who has everything", 26, 32, 26)

	grant(`label.must == "white"`)
	is("once the author has less", 32, 32, 26)
	steps, _, err := r.Fleet.ExplainSetting(whole, "tank-1", "max_temp")
	r.Must(err)
	if i := slices.IndexFunc(steps, func(s layers.Step) bool { return s.Name == x.Name }); i < 0 || steps[i].Access != `label.must == "white"` || steps[i].Wins {
		t.Errorf("the explanation does not say for whom it is: %+v", steps)
	}
	vs, err := r.Fleet.LayerVersions(ctx, c, x.Name)
	r.Must(err)
	if len(vs) != 3 || vs[0].Layer.Access != `label.must == "white"` || vs[1].By != "engineer" {
		t.Errorf("the versions are %+v", vs)
	}
	r.Access.Grant("cellar-master", person.Grants{{Role: person.Engineer}})
	r.Must(r.Fleet.Regranted(ctx, "cellar-master"))
	r.Settle()
	is("once the author has everything", 26, 26, 26)
	grant(`label.site == "Nowhere"`)
	is("a layer of nobody in particular", 26, 26, 26)
}

// Somebody who sees everything and is engineer for some devices previews what they would make.
func TestOwnLayersOfWhoSeesAll(t *testing.T) {
	r, c, _, _ := author(t)
	r.Access.Grant("cellar-master", person.Grants{{Role: person.Viewer}, {Role: person.Engineer, Access: `label.site == "Fennimore"`}})
	own := layering.Layer{Name: "cellar-master-cool", Set: map[string]any{"max_temp": 27.0}}
	p, err := r.Fleet.PreviewLayers(c, layers.Proposal{Layer: &own})
	r.Must(err)
	if p.Devices != 2 {
		t.Errorf("their own is previewed on %d devices, want 2", p.Devices)
	}
	r.Must(r.Fleet.ApplyLayers(t.Context(), c, layers.Proposal{Layer: &own}, p.Tag, false))
	other := layering.Layer{Name: "base", Set: map[string]any{"report_every": 20.0}}
	if p, err = r.Fleet.PreviewLayers(c, layers.Proposal{Layer: &other}); err != nil || p.Devices != 3 {
		t.Errorf("another layer is previewed on %d devices, %v; want 3", p.Devices, err)
	}
	if err := r.Fleet.ApplyLayers(t.Context(), c, layers.Proposal{Layer: &other}, p.Tag, false); !fault.Is(err, fault.NotAllowed) {
		t.Errorf("and made: %v", err)
	}
}

// What an author with some devices may not do is refused in the same words whether the thing
// is there or not, and without a name of what they do not see.
func TestNotOwnLayers(t *testing.T) {
	r, c, whole, _ := author(t)
	ctx := t.Context()
	r.Onboard("press-kilnside-1", "press-scale", map[string]string{"site": "Kilnside", "hall": "far"})
	secret, err := rule.Parse([]byte("rule: far_secret\nmodels: [press-scale]\nraise: load > 10\noff_delay: 5min\npriority: low\nmessage: warm\n"))
	r.Must(err)
	_, err = r.Fleet.PutRule(ctx, whole, *secret, noun.If{})
	r.Must(err)
	r.Must(second(r.Fleet.PutLayer(ctx, whole, layering.Layer{Name: "far", Target: `label.hall == "far"`, Set: map[string]any{"report_every": 20.0}}, noun.If{})))
	r.Settle()
	layer := func(name, target string, set map[string]any) layering.Layer {
		return layering.Layer{Name: name, Target: target, Set: set}
	}
	warm := map[string]any{"max_temp": 27.0}
	put := func(x layering.Layer) func() error {
		return func() error { return second(r.Fleet.PutLayer(ctx, c, x, noun.If{})) }
	}
	plan := waves.Plan{Waves: []waves.Size{{Devices: []string{"press-kilnside-1"}}}}
	for _, x := range []struct {
		what string
		do   func() error
		says string
		code fault.Code
	}{
		{"another's name", put(layer("far", "", warm)), "makes layers whose names begin with cellar-master-", fault.NotAllowed},
		{"a name that is free", put(layer("free", "", warm)), "makes layers whose names begin with cellar-master-", fault.NotAllowed},
		{"a foreign rule", put(layer("cellar-master-a", `raised(far_secret)`, warm)), "there is no rule far_secret ", fault.Invalid},
		{"no rule", put(layer("cellar-master-b", `raised(far_secrets)`, warm)), "there is no rule far_secrets ", fault.Invalid},
		{"a setting of another model", put(layer("cellar-master-c", "", map[string]any{"cycle_limit": 3.0})), "", fault.Invalid},
		{"an order", func() error {
			return r.Fleet.ApplyLayers(ctx, c, layers.Proposal{Order: []string{"far"}}, "", false)
		}, "concerns all devices", fault.NotAllowed},
		{"nothing", func() error { return r.Fleet.ApplyLayers(ctx, c, layers.Proposal{}, "", false) }, "", fault.NotAllowed},
		{"removing another's", func() error { return r.Fleet.RemoveLayer(ctx, c, "far", noun.If{}) }, "names begin with", fault.NotAllowed},
		{"removing none", func() error { return r.Fleet.RemoveLayer(ctx, c, "fair", noun.If{}) }, "names begin with", fault.NotAllowed},
		{"a rollout over a foreign device", func() error {
			return second(r.Fleet.PlanRollout(c, layer("cellar-master-d", "", warm), plan))
		}, `there is no device "press-kilnside-1"`, fault.NotFound},
		{"a rollout of another's layer", func() error { return second(r.Fleet.StartRollout(ctx, c, layer("far", "", warm), waves.Plan{}, "")) }, "names begin with", fault.NotAllowed},
		{"an act on no rollout", func() error {
			_, _, err := r.Fleet.ActOnRollout(ctx, c, "none", "undo", "", "", false)
			return err
		}, "concerns all devices", fault.NotAllowed},
	} {
		err := x.do()
		if !fault.Is(err, x.code) || !strings.Contains(err.Error(), x.says) {
			t.Errorf("%s: %v; want %s, %q", x.what, err, x.code, x.says)
		}
		if err != nil && x.what != "a rollout over a foreign device" && (strings.Contains(err.Error(), "hall") || strings.Contains(err.Error(), "press")) {
			t.Errorf("%s names what is not seen: %v", x.what, err)
		}
	}
	for _, l := range r.Fleet.Layers(c) {
		if l.Name == "far" && (l.Target != "" || l.Access != "") {
			t.Errorf("the target of another's layer is told: %+v", l)
		}
	}
}

// second is the error of a call that returns something else as well.
func second[T any](_ T, err error) error { return err }

// A rollout of an own layer is started, stopped and undone by its author, and looked at by
// them alone of those who have some devices. What they lose while it is under way, it leaves.
func TestOwnRollouts(t *testing.T) {
	r, c, _, grant := author(t)
	ctx := t.Context()
	other := r.Access.Caller("cask-owner", "")
	r.Access.Grant("cask-owner", person.Grants{{Role: person.Engineer, Access: `device.id == "tank-2"`}})
	x := layering.Layer{Name: "cellar-master-cool", Set: map[string]any{"max_temp": 27.0}}
	planned, err := r.Fleet.PlanRollout(c, x, waves.Plan{Waves: []waves.Size{{Count: 1}}})
	r.Must(err)
	if len(planned.Waves) != 2 || slices.Contains(slices.Concat(planned.Waves...), "tank-2") {
		t.Fatalf("the waves are %v", planned.Waves)
	}
	ro, err := r.Fleet.StartRollout(ctx, c, x, waves.Plan{Waves: []waves.Size{{Count: 1}}}, planned.Preview.Tag)
	r.Must(err)
	shown, err := r.Fleet.Rollout(c, ro.ID)
	r.Must(err)
	if shown.Waves == nil || shown.To.Access != `label.site == "Fennimore"` {
		t.Errorf("its author sees a part of it: %+v", shown.Rollout)
	}
	if err := second(r.Fleet.Rollout(other, ro.ID)); !fault.Is(err, fault.NotFound) {
		t.Errorf("somebody else sees it: %v", err)
	}
	if _, _, err := r.Fleet.ActOnRollout(ctx, other, ro.ID, "stop", "", "", false); !fault.Is(err, fault.NotAllowed) {
		t.Errorf("somebody else stops it: %v", err)
	}
	if _, _, err := r.Fleet.ActOnRollout(ctx, c, ro.ID, "leave-out", "tank-2", "", false); !fault.Is(err, fault.NotFound) {
		t.Errorf("a foreign device is left out: %v", err)
	}
	grant(`label.must == "white"`)
	if shown, err = r.Fleet.Rollout(c, ro.ID); err != nil || shown.Waves != nil || len(shown.Devices) != 1 {
		t.Errorf("with less, its author sees %d devices, waves %v, %v", len(shown.Devices), shown.Waves, err)
	}
	_, _, err = r.Fleet.ActOnRollout(ctx, c, ro.ID, "undo", "", "", false)
	r.Must(err)
	r.Settle()
	for _, id := range []string{"tank-1", "tank-2", "tank-3"} {
		if v := has(t, r, id); v != 32 {
			t.Errorf("%s has %g once it was undone, want 32", id, v)
		}
	}
}

// A command for many, of somebody who has some devices, goes on with those that they still
// may operate.
func TestOwnCommandsFollow(t *testing.T) {
	r, c, _, grant := author(t)
	ctx := t.Context()
	j, err := r.Fleet.GiveMany(ctx, c, nil, `label.site == "Fennimore"`, "identify", nil, commands.Expiry{}, 1, "")
	r.Must(err)
	r.Settle()
	first := j.Devices[0]
	grant(`device.id == "` + first + `"`)
	open := r.Commands.Waiting(first)
	if len(open) != 1 {
		t.Fatalf("%d commands wait at %s", len(open), first)
	}
	r.Must(second(r.Commands.Withdraw(ctx, first, open[0].ID, "engineer")))
	r.Settle()
	if n := len(r.Commands.Waiting(j.Devices[1])); n != 0 {
		t.Errorf("%d commands wait at a device that they do not have any more", n)
	}
	if done, err := r.Commands.Job(j.ID); err != nil || done.EndedAt.IsZero() {
		t.Errorf("the command goes on: %+v, %v", done, err)
	}
}

// A fleet folder does not say who made a rule or a layer, and takes nobody's limits away.
func TestFolderKeepsAuthors(t *testing.T) {
	r, c, whole, _ := author(t)
	ctx := t.Context()
	own, err := rule.Parse([]byte("rule: cellar_master_warm\nmodels: [tank-probe]\nraise: must_temp > 40\npriority: low\nmessage: warm\n"))
	r.Must(err)
	r.Must(second(r.Fleet.PutRule(ctx, c, *own, noun.If{})))
	x := layering.Layer{Name: "cellar-master-cool", Set: map[string]any{"max_temp": 27.0}}
	r.Must(second(r.Fleet.PutLayer(ctx, c, x, noun.If{})))
	changed := *own
	changed.Message = "too warm"
	x.Why = "summer"
	for _, files := range [][]check.File{
		{{Path: "rules/a.yaml", Data: own.YAML()}, {Path: "layers/a.yaml", Data: (&layering.Layer{Name: x.Name, Set: x.Set}).YAML()}},
		{{Path: "rules/a.yaml", Data: changed.YAML()}, {Path: "layers/a.yaml", Data: x.YAML()}},
	} {
		r.Must(second(r.Fleet.Load(ctx, whole, files, false, true)))
		is, err := r.Alarms.Rule(own.Name)
		r.Must(err)
		l, err := r.Fleet.Layer(whole, x.Name)
		r.Must(err)
		if is.Author != "cellar-master" || is.Access == "" || l.Author != "cellar-master" || l.Access == "" {
			t.Errorf("after a folder, the rule is of %q for %q and the layer of %q for %q", is.Author, is.Access, l.Author, l.Access)
		}
	}
	if is, err := r.Alarms.Rule(own.Name); err != nil || is.Message != "too warm" {
		t.Errorf("the folder was not loaded: %+v, %v", is, err)
	}
}
