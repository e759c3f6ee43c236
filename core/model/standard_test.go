package model_test

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"ullage/examples/cellars"
)

// The scenario's models are judged by the official JSON Schema of Thing Models
// (W3C WoT TD 1.1, npm wot-thing-model-types, pinned).
func TestModelsAreThingModels(t *testing.T) {
	path := filepath.Join("..", "..", "console", "node_modules", "wot-thing-model-types", "schema", "tm-json-schema-validation.json")
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatalf("the official schema is not installed; run: make setup (%v)", err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	if v := doc.(map[string]any)["version"]; v != "1.1-12-March-2025" {
		t.Fatalf("the schema is of version %v", v)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("tm.json", doc); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("tm.json")
	if err != nil {
		t.Fatal(err)
	}
	files, err := fs.Glob(cellars.Files, "models/*.tm.json")
	if err != nil || len(files) != 6 {
		t.Fatalf("%d models, %v", len(files), err)
	}
	judge := func(src []byte) error {
		x, err := jsonschema.UnmarshalJSON(bytes.NewReader(src))
		if err != nil {
			t.Fatal(err)
		}
		return schema.Validate(x)
	}
	for _, f := range files {
		src, err := cellars.Files.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		if err := judge(src); err != nil {
			t.Errorf("%s is no Thing Model: %v", f, err)
		}
		// The schema does judge: without its type it is none.
		if judge(bytes.Replace(src, []byte(`"tm:ThingModel"`), []byte(`"Thing"`), 1)) == nil || judge([]byte(strings.Replace(string(src), `"properties": {`, `"properties": 5, "x": {`, 1))) == nil {
			t.Errorf("%s passes whatever it says", f)
		}
	}
}
