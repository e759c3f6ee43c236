package models_test

import (
	"strings"
	"testing"

	"ullage/examples/cellars"
	"ullage/fleet/fault"
	"ullage/test/rig"
)

func TestVersionsAreImmutable(t *testing.T) {
	r := rig.New(t)
	b, err := cellars.Files.ReadFile("models/tank-probe.tm.json")
	r.Must(err)
	src := string(b)
	load := func(changes ...string) (bool, error) {
		_, changed, err := r.Models.Publish(t.Context(), []byte(strings.NewReplacer(changes...).Replace(src)), nil,
			"mara")
		return changed, err
	}
	if changed, err := load(); err != nil || changed {
		t.Errorf("the same again: %t, %v", changed, err)
	}
	if changed, err := load("  ", "\t"); err != nil || changed {
		t.Errorf("the same with other spaces: %t, %v", changed, err)
	}
	for _, c := range []struct {
		name    string
		changes []string
		says    string // "" where it is taken
	}{
		{"another title, same version", []string{`"Tank probe"`, `"Probe"`}, "give this file version 1.2.1"},
		{"another title, new version", []string{`"Tank probe"`, `"Probe"`, `"1.2.0"`, `"1.2.1"`}, ""},
		{"another unit, minor version", []string{`"unit": "cm"`, `"unit": "mm"`, `"1.2.0"`, `"1.3.0"`}, "means something else; give it version 2.0.0"},
		{"another unit, major version", []string{`"unit": "cm"`, `"unit": "mm"`, `"1.2.0"`, `"2.0.0"`}, ""},
	} {
		changed, err := load(c.changes...)
		if c.says == "" {
			if err != nil || !changed {
				t.Errorf("%s: %t, %v", c.name, changed, err)
			}
			continue
		}
		if rig.Code(err) != fault.Conflict || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", c.name, err, c.says)
		}
	}
	if m, err := r.Models.Get("tank-probe"); err != nil || m.Version != "2.0.0" {
		t.Errorf("in force is %v, %v", m, err)
	}
}
