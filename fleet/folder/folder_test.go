package folder_test

import (
	"io/fs"
	"strings"
	"testing"

	"ullage/core/check"
	"ullage/examples/cellars"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/folder"
	"ullage/test/rig"
)

// cellar returns the fleet folder of the scenario with some texts replaced.
func cellar(t *testing.T, changes ...string) []check.File {
	t.Helper()
	var out []check.File
	err := fs.WalkDir(cellars.Files, ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !check.IsModel(p) && !check.IsRule(p) && !check.IsExamples(p) {
			return err
		}
		b, err := cellars.Files.ReadFile(p)
		out = append(out, check.File{Path: p, Data: []byte(strings.NewReplacer(changes...).Replace(string(b)))})
		return err
	})
	if err != nil || len(out) < 17 {
		t.Fatal(len(out), err)
	}
	return out
}

func states(o folder.Outcome) (out map[string]int) {
	out = map[string]int{}
	for _, i := range o.Items {
		out[i.State]++
	}
	return out
}

func TestFolder(t *testing.T) {
	r := rig.New(t)
	l := r.Folder
	files := cellar(t)

	o, err := l.Load(t.Context(), files, true, false, "mara")
	if err != nil || o.Loaded || o.Changed != 11 || states(o)["new"] != 11 || states(o)["same"] != 6 ||
		len(r.Alarms.Rules()) != 0 {
		t.Fatalf("a preview: %+v, %v", states(o), err)
	}
	if o, err = l.Load(t.Context(), files, false, false, "mara"); err != nil || !o.Loaded || len(r.Alarms.Rules()) != 11 {
		t.Fatalf("loading: %+v, %v", states(o), err)
	}
	if o, err = l.Load(t.Context(), files, false, false, "mara"); err != nil || o.Loaded || o.Changed != 0 ||
		states(o)["same"] != 17 {
		t.Errorf("again: %+v, %v", states(o), err)
	}

	// All or nothing: a rule that is right does not come in beside a model that
	// may not, nor beside a mistake.
	before := len(r.Journal(fact.RuleChanged))
	if o, err = l.Load(t.Context(), cellar(t, "on_delay: 10min", "on_delay: 12min", `"unit": "dBm"`, `"unit": "dBW"`),
		false, false, "mara"); rig.Code(err) != fault.Conflict || o.Loaded {
		t.Errorf("a breaking change under the old version: %v", err)
	}
	if o, err = l.Load(t.Context(), cellar(t, "on_delay: 10min", "on_delay: 12min", "co2 > ", "co3 > "), false, false, "mara"); err != nil || o.Loaded || len(o.Findings) == 0 {
		t.Errorf("with a mistake: %+v, %v", o, err)
	}
	if rule, _ := r.Alarms.Rule("must_too_warm"); rule.OnDelay.String() != "10min" ||
		len(r.Journal(fact.RuleChanged)) != before {
		t.Error("half of it was loaded")
	}

	// Something in the service that is not in the folder stays, and what is
	// loaded has to fit it.
	part := files[:0:0]
	for _, f := range cellar(t, `"1.2.0"`, `"2.0.0"`, `"must_temp"`, `"vat_temp"`) {
		if !strings.Contains(f.Path, "must_too_warm") && !check.IsExamples(f.Path) {
			part = append(part, f)
		}
	}
	if o, err = l.Load(t.Context(), part, false, false, "mara"); err != nil || o.Loaded || len(o.Findings) == 0 ||
		o.Findings[0].File != "service/rules/must_too_warm.yaml" {
		t.Errorf("a model that a rule of the service does not fit: %+v, %v", o, err)
	}
	if o, err = l.Load(t.Context(), cellar(t, "on_delay: 10min", "on_delay: 12min", `"1.2.0"`, `"1.3.0"`, `"Signal"`,
		`"Radio signal"`), false, false, "mara"); err != nil || !o.Loaded || o.Changed < 2 {
		t.Fatalf("a change: %+v, %v", states(o), err)
	}
	for _, i := range o.Items {
		if i.Name == "must_too_warm" && (len(i.Lines) != 1 || i.Lines[0] != "on_delay: 10min → 12min") ||
			i.Name == "tank-probe" && (i.Before != "1.2.0" || i.Weight != "safe") {
			t.Errorf("it says %+v", i)
		}
	}
	r.Restart(true)
	if rule, _ := r.Alarms.Rule("must_too_warm"); rule.OnDelay.String() != "12min" {
		t.Error("it was not stored")
	}
	if m, err := r.Models.Get("tank-probe"); err != nil || m.Version != "1.3.0" {
		t.Errorf("in the catalogue is %v, %v", m, err)
	}
}
