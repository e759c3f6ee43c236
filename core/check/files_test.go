package check_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ullage/core/check"
)

// A few lines of aliases can stand for gigabytes: no kind of file takes them, nor writes them out
// to say what is wrong.
func TestFolderOfAliases(t *testing.T) {
	bomb := "a0: &a0 [x,x,x,x,x,x,x,x,x,x]\n"
	for i := range 8 {
		bomb += fmt.Sprintf("a%d: &a%d [%s]\n", i+1, i+1, strings.Repeat(fmt.Sprintf("*a%d,", i), 10))
	}
	var files []check.File
	for path, head := range map[string]string{"rules/x.yaml": "rule: x\nmodels: *a8\n", "sites/x.yaml": "site: X\nnote: *a8\n", "layers/x.yaml": "layer: x\nset: *a8\n",
		"layers/order.yaml": "order: *a8\n", "boards/x.yaml": "board: x\ntitle: *a8\n", "models/x.tm.yaml": "title: *a8\n", "models/x.examples.yaml": "examples: *a8\n"} {
		files = append(files, check.File{Path: path, Data: []byte(bomb + head)})
	}
	r := check.Folder(files)
	for _, f := range files {
		if !slices.ContainsFunc(r.Findings, func(x check.Finding) bool {
			return x.File == f.Path && x.Severity == "error" && strings.Contains(x.Sentence, "anchors and aliases")
		}) {
			t.Errorf("%s is taken: %v", f.Path, r.Findings)
		}
	}
}

// What some editors write before a text changes nothing.
func TestFolderWithMarks(t *testing.T) {
	plain := check.Folder(exampleFolder(t))
	files := exampleFolder(t)
	for i, f := range files {
		files[i].Data = append([]byte("\xef\xbb\xbf"), f.Data...)
	}
	if got := check.Folder(files); got.Errors() != 0 || len(got.Findings) != len(plain.Findings) {
		t.Errorf("with marks it says %v, without %v", got.Findings, plain.Findings)
	}
}

// A file with a name that is nearly right is told, and not left out without a word.
func TestOverlooked(t *testing.T) {
	for path, says := range map[string]string{
		"rules/co2.yaml": "", "rules/co2.yml": "", "models/tank-probe.tm.yaml": "", "models/parent.json": "", "layers/order.yaml": "",
		"rules/README.md": "", "rules/.hidden.yaml": "", "notes/a.yaml": "", "sites/plan.svg": "", "docker.yaml": "",
		"rules/CO2.YAML":        "the files of rules end in .yaml",
		"rules/co2.json":        "the files of rules end in .yaml",
		"boards/hall.toml":      "the files of boards end in .yaml",
		"models/tank.yaml":      "a model is called NAME.tm.json",
		"here/layer/white.yaml": "layers stand in a folder called layers",
	} {
		got := check.Overlooked(path)
		if says == "" && got != "" || !strings.Contains(got, says) {
			t.Errorf("%s: %q, want %q", path, got, says)
		}
		if found := check.Folder([]check.File{{Path: path}}).Findings; says != "" && (len(found) != 1 || found[0].Severity != "warning" || found[0].Sentence != got) {
			t.Errorf("%s: the folder says %v", path, found)
		}
	}
}

// A key that does not exist within another does not hide the other mistakes.
func TestInnerKeys(t *testing.T) {
	r := check.Folder([]check.File{{Path: "rules/x.yaml", Data: []byte("rule: x\npriority: high\nresponses:\n  - colour: red\n")}})
	var all []string
	for _, f := range r.Findings {
		all = append(all, f.Sentence)
	}
	said := strings.Join(all, "\n")
	for _, want := range []string{`responses: there is no key "colour" here`, "x names no models", "x has no message", "x has no raise"} {
		if !strings.Contains(said, want) {
			t.Errorf("it says\n%s\nwithout %q", said, want)
		}
	}
	if strings.Contains(said, "priority") {
		t.Errorf("it says\n%s", said)
	}
}
