package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Files are checked as well as folders, against what stands around them, and
// parents are found whatever they are called.
func TestCheckFiles(t *testing.T) {
	dir := t.TempDir()
	head := `"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel","version":{"model":"1.0.0"},`
	for path, text := range map[string]string{
		"fleet/models/base.jsonld":   `{` + head + `"title":"Base","properties":{"t":{"type":"number","unit":"Cel","readOnly":true,"ullage:role":"telemetry"}}}`,
		"fleet/models/mid.tm.jsonld": `{` + head + `"title":"Mid","ullage:name":"mid","links":[{"rel":"tm:extends","href":"./base.jsonld"}]}`,
		"fleet/models/kid.tm.json":   `{` + head + `"title":"Kid","ullage:name":"kid","links":[{"rel":"tm:extends","href":"./mid.tm.jsonld"}]}`,
		"fleet/other/base.jsonld":    `{` + head + `"title":"Another base"}`,
		"fleet/rules/hot.yaml":       "rule: hot\nmodels: [kid]\nraise: t > 30\npriority: high\nmessage: hot\n",
		"fleet/rules/cold.yaml":      "rule: cold\nmodels: [kid]\nraise: tt < 3\npriority: hig\nmessage: cold\n",
		"alone/plain.json":           `{` + head + `"title":"Plain","properties":{"t":{"type":"number"}}}`,
		"alone/notes.txt":            "nothing",
		"alone/some-rule.yaml":       "rule: lonely\nmodels: [kid]\nraise: t >\npriority: high\nmessage: x\n",
	} {
		at := filepath.Join(dir, filepath.FromSlash(path))
		if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		args   []string
		errors int
		says   string // of all findings together
		fails  string
	}{
		{[]string{"fleet"}, 2, "fleet/rules/cold.yaml:3:8", ""},
		{[]string{"fleet/rules/hot.yaml"}, 0, "", ""},
		{[]string{"fleet/rules/cold.yaml"}, 2, `has priority "hig"`, ""},
		{[]string{"fleet/models/kid.tm.json", "fleet/models/mid.tm.jsonld"}, 0, "", ""},
		{[]string{"fleet/models/base.jsonld"}, 0, "", ""},
		{[]string{"alone/plain.json"}, 0, "", ""},
		{[]string{"alone/some-rule.yaml"}, 2, "there is no model kid", ""},
		{[]string{"alone/notes.txt"}, 0, "", "is no file that is checked"},
		{[]string{"nowhere.yaml"}, 0, "", "no such file"},
	} {
		var named []string
		for _, a := range c.args {
			named = append(named, filepath.Join(dir, filepath.FromSlash(a)))
		}
		r, root, err := checkNamed(named)
		if (err != nil) != (c.fails != "") || err != nil && !strings.Contains(err.Error(), c.fails) {
			t.Errorf("%v fails with %v, want %q", c.args, err, c.fails)
			continue
		}
		var b strings.Builder
		for _, f := range r.Findings {
			fmt.Fprintf(&b, "%s:%d:%d %s\n", strings.TrimPrefix(filepath.Join(root, f.File), dir+"/"), f.Line, f.Column, f.Sentence)
		}
		if r.Errors() != c.errors || !strings.Contains(b.String(), c.says) {
			t.Errorf("%v says\n%swant %d mistakes and %q", c.args, b.String(), c.errors, c.says)
		}
	}
}
