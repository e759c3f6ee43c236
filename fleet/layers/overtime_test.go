package layers_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/core/layering"
	"ullage/fleet/layers"
	"ullage/test/rig"
)

// TestOverTime: how it went is what the devices' settings were, step by step.
func TestOverTime(t *testing.T) {
	r := cellar(t)
	r.Pass(10 * time.Minute)
	r.Must(put(r, "base", "", map[string]any{"max_temp": 31.0}))
	r.Settle()
	r.Pass(10 * time.Minute)
	scope, was, err := r.Layers.OverTime(t.Context(), "base", time.Hour, nil)
	r.Must(err)
	if first, last := was[0], was[len(was)-1]; scope != 2 || first.AsIntended != 0 || last.AsIntended != 2 {
		t.Fatalf("of %d devices %d had it before and %d after", scope, first.AsIntended, last.AsIntended)
	}
	for i, m := range was {
		want := 0
		if m.At.After(r.Now().Add(-10*time.Minute - time.Second)) {
			want = 2
		}
		if m.AsIntended != want {
			t.Errorf("step %d, at %s: %d had it, want %d", i, m.At, m.AsIntended, want)
		}
	}
	// One gets another value of its own: it has not what the layer gives, and that is not its fault.
	_, err = r.Settings.Set(t.Context(), probe, map[string]any{"max_temp": 30.0}, nil, "mara")
	r.Must(err)
	if scope, _, err = r.Layers.OverTime(t.Context(), "base", time.Hour, nil); err != nil || scope != 1 {
		t.Errorf("with an override %d are in scope, %v", scope, err)
	}
	if scope, was, err = r.Layers.OverTime(t.Context(), "", time.Hour, nil); err != nil || scope < 2 || was[len(was)-1].AsIntended != scope {
		t.Errorf("of the whole fleet %d of %d are as intended, %v", was[len(was)-1].AsIntended, scope, err)
	}
	if _, _, err = r.Layers.OverTime(t.Context(), "base", time.Second, nil); rig.Code(err) == "" {
		t.Error("a span of a second was taken")
	}
	if _, _, err = r.Layers.OverTime(t.Context(), "none", time.Hour, nil); rig.Code(err) == "" {
		t.Error("a layer that is not there was answered")
	}
}

// TestForbids: what the newest version does not allow is told with where it is from.
func TestForbids(t *testing.T) {
	r := cellar(t)
	r.Must(put(r, "base", "", map[string]any{"max_temp": 31.0}))
	_, err := r.Settings.Set(t.Context(), probe, map[string]any{"stir_at": 29.0}, nil, "mara")
	r.Must(err)
	r.Settle()
	if got := r.Layers.Forbids(nil); len(got) != 0 {
		t.Fatalf("with one version: %+v", got)
	}
	publishNarrower(t, r)
	got := r.Layers.Forbids(nil)
	want := []layers.Forbidden{
		{Setting: "max_temp", Value: "31.0 °C", Origin: layering.Origin{Source: layering.FromLayer, Name: "base"}, Devices: []string{probe, another}},
		{Setting: "stir_at", Value: "29.0 °C", Origin: layering.Origin{Source: layering.FromOverride}, Devices: []string{probe}},
	}
	if len(got) != len(want) {
		t.Fatalf("forbidden: %+v", got)
	}
	for i, w := range want {
		if g := got[i]; g.Setting != w.Setting || g.Origin != w.Origin || len(g.Devices) != len(w.Devices) || g.Why == "" {
			t.Errorf("forbidden: %+v, want %+v", g, w)
		}
	}
	if got := r.Layers.Forbids(func(id string) bool { return id == another }); len(got) != 1 || len(got[0].Devices) != 1 {
		t.Errorf("for somebody who sees one: %+v", got)
	}
}

// TestLeftOutIsSaid: what the version of a device does not allow of a layer is left out there,
// and its explanation says why.
func TestLeftOutIsSaid(t *testing.T) {
	r := cellar(t)
	r.Must(put(r, "base", "", map[string]any{"max_temp": 31.0}))
	publishNarrower(t, r)
	_, err := r.Devices.Move(t.Context(), probe, "2.0.0", "mara")
	r.Must(err)
	r.Settle()
	steps, _, err := r.Layers.Explain(probe, "max_temp")
	r.Must(err)
	if len(steps) != 2 || !steps[0].Wins || steps[1].Wins || !strings.Contains(steps[1].Wrong, "30") {
		t.Errorf("explained it is %+v", steps)
	}
	if steps, _, err := r.Layers.Explain(another, "max_temp"); err != nil || !steps[len(steps)-1].Wins || steps[len(steps)-1].Wrong != "" {
		t.Errorf("on the other version it is %+v, %v", steps, err)
	}
}

// publishNarrower publishes a version of tank-probe with less room for its settings.
func publishNarrower(t *testing.T, r *rig.Rig) {
	t.Helper()
	b, err := os.ReadFile(filepath.Join("..", "..", "examples", "cellars", "models", "tank-probe.tm.json"))
	r.Must(err)
	var m map[string]any
	r.Must(json.Unmarshal(b, &m))
	m["version"] = map[string]any{"model": "2.0.0"}
	m["properties"].(map[string]any)["max_temp"].(map[string]any)["maximum"] = 30
	m["properties"].(map[string]any)["max_temp"].(map[string]any)["default"] = 28
	delete(m["properties"].(map[string]any), "stir_at")
	b, err = json.Marshal(m)
	r.Must(err)
	_, _, err = r.Models.Publish(t.Context(), b, nil, "mara")
	r.Must(err)
}
