package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ullage/core/check"
	"ullage/server"
)

// maxChecked is how large a fleet folder may be.
const maxChecked = 256 << 20

func checkCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "check [FOLDER|FILE…]",
		Short: "Check a fleet folder, or files of one, without a service",
		Long: `Checks the Thing Models (.tm.json, .tm.yaml), the rules and the sites (.yaml in
folders called rules, layers and sites, plan pictures beside these) below a folder, each alone and against the others. Every finding
has its file, line and column and says what would be right. Files may be named
as well: they are checked against what stands around them. The exit code is 3
if something is wrong; warnings alone leave it at 0.

With -o json the findings are data, with -o sarif they are SARIF 2.1.0 (OASIS)
for editors and code hosts.`,
		Example: "  ullage check examples/cellars\n  ullage check examples/cellars/rules/must_too_warm.yaml\n  ullage check -o sarif > findings.sarif",
		GroupID: groupModel,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				args = []string{"."}
			}
			r, root, err := checkNamed(args)
			if err != nil {
				return err
			}
			if format, _ := c.Flags().GetString("output"); format == "sarif" {
				e := json.NewEncoder(c.OutOrStdout())
				e.SetEscapeHTML(false)
				e.SetIndent("", "  ")
				err = e.Encode(sarif(r))
			} else {
				err = show(c, r, func(w io.Writer) { printFindings(w, root, r) })
			}
			if err != nil {
				return err
			}
			if n := r.Errors(); n > 0 {
				return findings{fmt.Errorf("%s", plural(n, "mistake"))}
			}
			return nil
		},
	}
	return c
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// fleetFolder reads the files of a fleet folder that can be checked. Folders
// whose name begins with a point are left out.
func fleetFolder(root string) ([]check.File, error) {
	info, err := os.Stat(root)
	if err != nil || !info.IsDir() {
		return nil, usageError{fmt.Errorf("%s is no folder that can be read; name the one that holds models and rules",
			root)}
	}
	var out, overlooked []check.File // whose content is not read
	size := int64(0)
	err = filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && strings.HasPrefix(d.Name(), ".") && p != root {
			return filepath.SkipDir
		}
		rel, err := filepath.Rel(root, p)
		if err != nil {
			return err
		}
		rel = filepath.ToSlash(rel)
		if base := filepath.Base(root); slices.Contains(check.Parts, base) { // a folder inside was named
			rel = base + "/" + rel
		}
		if d.IsDir() || !check.Belongs(rel) {
			if !d.IsDir() && check.Overlooked(rel) != "" {
				overlooked = append(overlooked, check.File{Path: rel})
			}
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if size += info.Size(); size > maxChecked {
			return wrong("the files below %s are larger than %d MB together; name a folder further down", root,
				maxChecked>>20)
		}
		b, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		out = append(out, check.File{Path: rel, Data: b})
		return nil
	})
	if err != nil {
		return nil, err
	}
	if len(out) == 0 {
		return nil,
			usageError{fmt.Errorf("below %s there is no model (.tm.json, .tm.yaml) and no rule (.yaml in a folder called rules)", root)}
	}
	return append(append(out, parts(root, out)...), overlooked...), nil
}

func printFindings(w io.Writer, root string, r check.Report) {
	for _, f := range r.Findings {
		fmt.Fprintf(w, "%s:%d:%d: %s: %s\n", filepath.Join(root, filepath.FromSlash(f.File)), f.Line, f.Column,
			f.Severity, f.Sentence)
		if f.Suggest != "" {
			fmt.Fprintf(w, "    write: %s\n", f.Suggest)
		}
	}
	if len(r.Findings) == 0 {
		fmt.Fprintf(w, "%s: nothing to say.\n", checked(r))
		return
	}
	fmt.Fprintf(w, "\n%s: %s, %s\n", checked(r), plural(r.Errors(), "mistake"),
		plural(len(r.Findings)-r.Errors(), "warning"))
}

// sarif is the report in the Static Analysis Results Interchange Format, 2.1.0.
func sarif(r check.Report) any {
	type object = map[string]any
	results := []object{}
	for _, f := range r.Findings {
		text := f.Sentence
		if f.Suggest != "" {
			text += "\nWrite: " + f.Suggest
		}
		results = append(results, object{
			"ruleId": f.Kind, "level": f.Severity, "message": object{"text": text},
			"locations": []object{{"physicalLocation": object{
				"artifactLocation": object{"uri": f.File},
				"region":           object{"startLine": f.Line, "startColumn": f.Column},
			}}},
		})
	}
	rules := []object{}
	for _, k := range [][2]string{{"file", "A file that cannot be read, or is not"}, {"model", "A mistake in a Thing Model"},
		{"rule", "A mistake in a rule"}, {"layer", "A mistake in a layer"}, {"board", "A mistake in a board"},
		{"site", "A mistake in a site"}, {"expression", "A mistake in an expression"}, {"reference", "Something that does not exist, exists twice, or goes in a circle"}} {
		rules = append(rules, object{"id": k[0], "shortDescription": object{"text": k[1]}})
	}
	return object{
		"version": "2.1.0", "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
		"runs": []object{{"tool": object{"driver": object{"name": "ullage", "version": server.Version, "rules": rules}}, "results": results, "columnKind": "unicodeCodePoints"}},
	}
}

// checked says what was looked at.
func checked(r check.Report) string {
	return fmt.Sprintf("%s, %s, %s, %s and %s", plural(r.Models, "model"), plural(r.Rules, "rule"), plural(r.Layers, "layer"), plural(r.Boards, "board"), plural(r.Sites, "site"))
}
