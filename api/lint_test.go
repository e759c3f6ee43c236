package api_test

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ullage/api"
)

// TestDocumentIsStrict has the OpenAPI document looked at by a checker of others,
// with its strictest rules and descriptions of everything.
func TestDocumentIsStrict(t *testing.T) {
	t.Parallel()
	corpora := filepath.Join("..", "test", "corpora")
	if _, err := os.Stat(filepath.Join(corpora, "node_modules", "@redocly", "openapi-core")); err != nil {
		t.Skip("the checkers of others are not installed; make test does that")
	}
	doc, err := api.Document("1.2.3")
	if err != nil {
		t.Fatal(err)
	}
	if got := lint(t, corpora, doc); len(got) > 0 {
		t.Errorf("the checker finds, in %d places:\n%s", len(got), strings.Join(got[:min(len(got), 20)], "\n"))
	}
	// It would find something: a document without its servers and one description.
	var d map[string]any
	if err := json.Unmarshal(doc, &d); err != nil {
		t.Fatal(err)
	}
	delete(d, "servers")
	delete(d["paths"].(map[string]any)["/api/v1/me"].(map[string]any)["get"].(map[string]any), "description")
	worse, err := json.Marshal(d)
	if err != nil {
		t.Fatal(err)
	}
	if got := lint(t, corpora, worse); len(got) != 2 {
		t.Errorf("of a document made worse in two places it says %q", got)
	}
}

func lint(t *testing.T, dir string, doc []byte) []string {
	t.Helper()
	cmd := exec.Command("node", "--input-type=module", "-e", `
		import { createConfig, lintFromString } from "@redocly/openapi-core"
		import { readFileSync } from "node:fs"
		const rules = Object.fromEntries(["operation-description", "parameter-description", "tag-description", "operation-operationId",
			"no-enum-type-mismatch", "operation-tag-defined", "no-invalid-media-type-examples", "no-invalid-parameter-examples",
			"no-invalid-schema-examples", "no-required-schema-properties-undefined"].map(r => [r, "error"]))
		const config = await createConfig({ extends: ["recommended-strict"], rules })
		const found = await lintFromString({ source: readFileSync(0, "utf8"), absoluteRef: "openapi.json", config })
		console.log(JSON.stringify(found.map(f => f.ruleId + " " + f.location?.[0]?.pointer + ": " + f.message)))`)
	cmd.Dir, cmd.Stdin = dir, bytes.NewReader(doc)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("%v: %s", err, errs.Bytes())
	}
	var found []string
	if err := json.Unmarshal(out, &found); err != nil {
		t.Fatalf("%v in %s", err, out)
	}
	return found
}

// TestNoCommandsBelow looks for command lines in what the service says: it does
// not know whether a person at a terminal reads it.
func TestNoCommandsBelow(t *testing.T) {
	command := regexp.MustCompile("\"[^\"\n]*\\bullage (alarm|check|command|compare|device|expr|import|journal|load|model|query|reading|rule|setting|site|store|traffic) [a-z]")
	for _, dir := range []string{".", "../fleet", "../core", "../store", "../transport", "../app"} {
		err := filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
			if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			b, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			for _, line := range bytes.Split(b, []byte("\n")) {
				if code, _, _ := bytes.Cut(line, []byte("//")); command.Match(code) {
					t.Errorf("%s names a command: %s", path, bytes.TrimSpace(line))
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}
