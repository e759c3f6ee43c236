package model_test

import (
	"bytes"
	"strings"
	"testing"
)

// The scenario's models are judged by the official JSON Schema of Thing Models
// (W3C WoT TD 1.1, npm wot-thing-model-types, at a fixed version).
func TestModelsAreThingModels(t *testing.T) {
	schema := official(t, "wot-thing-model-types", "tm-json-schema-validation.json")
	models := every(t)
	if len(models) != 6 {
		t.Fatalf("there are %d models", len(models))
	}
	for _, m := range models {
		if err := judge(t, schema, m.Source); err != nil {
			t.Errorf("%s is no Thing Model: %v", m, err)
		}
		// The schema does judge: without its type it is none.
		if judge(t, schema, bytes.Replace(m.Source, []byte(`"tm:ThingModel"`), []byte(`"Thing"`), 1)) == nil ||
			judge(t, schema, []byte(strings.Replace(string(m.Source), `"properties": {`, `"properties": 5, "x": {`, 1))) == nil {
			t.Errorf("%s passes whatever it says", m)
		}
	}
}
