package check

import (
	"embed"
	"fmt"
	"strings"
)

//go:embed schemas/*.schema.json
var schemaFiles embed.FS

// SchemaKinds are the kinds of file that there is a JSON Schema for.
var SchemaKinds = []string{"model", "rule", "site", "layer", "board", "examples"}

// FileSchema returns the JSON Schema (draft 2020-12) of a kind of file, for
// editors. It judges the form alone; package check says more.
func FileSchema(kind string) ([]byte, error) {
	b, err := schemaFiles.ReadFile("schemas/" + kind + ".schema.json")
	if err != nil {
		return nil, fmt.Errorf("there is no schema of %q; there is one of %s", kind, strings.Join(SchemaKinds, ", "))
	}
	return b, nil
}
