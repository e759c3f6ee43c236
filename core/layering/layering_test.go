package layering_test

import (
	"encoding/json"
	"testing"
	"testing/quick"

	"ullage/core/layering"
	"ullage/core/value"
)

func TestMergeAndDrift(t *testing.T) {
	n := value.OfNumber
	defaults := layering.Settings{"max_temp": n(32), "report_every": n(10)}
	override := layering.Settings{"max_temp": n(30)}
	m := layering.Merge(defaults, layering.Part{Origin: layering.Origin{Source: layering.FromOverride}, Gives: override})
	if m.Settings["max_temp"] != n(30) || m.Origin["max_temp"].Source != layering.FromOverride ||
		m.Origin["report_every"].Source != layering.FromModel {
		t.Errorf("merged to %+v", m)
	}
	if defaults["max_temp"] != n(32) || len(override) != 1 {
		t.Error("merging changed what it was given")
	}
	if d := layering.Drift(m.Settings, layering.Settings{"max_temp": n(30), "report_every": n(10)}, nil); len(d) != 0 {
		t.Errorf("there is drift: %v", d)
	}
	d := layering.Drift(m.Settings, layering.Settings{"max_temp": n(28)}, map[string]string{"max_temp": "sealed"})
	if len(d) != 2 || d[0].Name != "max_temp" || d[0].Reason != "sealed" || d[0].Applied != n(28) ||
		d[1].Applied.Known() {
		t.Errorf("drift is %+v", d)
	}
	if !defaults.Equal(layering.Settings{"report_every": n(10), "max_temp": n(32)}) || defaults.Equal(override) {
		t.Error("equality is wrong")
	}
}

func TestSettingsAreTheJSONOfTheirValues(t *testing.T) {
	if err := quick.Check(func(numbers map[string]float64, texts map[string]string) bool {
		s, plain := layering.Settings{}, map[string]any{}
		for name, n := range numbers {
			s[name], plain[name] = value.OfNumber(n), n
		}
		for name, text := range texts {
			s[name], plain[name] = value.OfText(text), text
		}
		got, err := json.Marshal(s)
		want, wrong := json.Marshal(plain)
		if err != nil || wrong != nil || string(got) != string(want) {
			t.Errorf("%v is %s, %v; want %s, %v", s, got, err, want, wrong)
			return false
		}
		return true
	}, &quick.Config{MaxCount: 50}); err != nil {
		t.Error(err)
	}
	if got, err := json.Marshal(layering.Settings(nil)); err != nil || string(got) != "null" {
		t.Errorf("no settings are %s, %v", got, err)
	}
}
