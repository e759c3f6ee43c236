package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ullage/core/check"
	"ullage/core/model"
)

// tested is what came of the examples of one file.
type tested struct {
	File    string         `json:"file"`
	Model   string         `json:"model"`
	Passed  int            `json:"passed"`
	Failed  int            `json:"failed"`
	Results []check.Result `json:"results"`
}

func modelTest() *cobra.Command {
	return &cobra.Command{
		Use:   "test FILE|FOLDER…",
		Short: "Try the examples beside a model, without a service",
		Long: `Reads files of examples (.examples.yaml) and tries each on the model beside it:
a payload goes in, and what is kept, marked or refused must be what the example
says. A model file may be named as well; its examples stand beside it. The exit
code is 3 if something comes out another way.`,
		Example: "  ullage model test examples/cellars/models\n  ullage model test tank-probe.tm.json",
		Args:    atLeast(1, "files or folders"),
		RunE: func(c *cobra.Command, args []string) error {
			files, err := exampleFiles(args)
			if err != nil {
				return err
			}
			var all []tested
			failed := 0
			for _, f := range files {
				t, err := runExamples(f)
				if err != nil {
					return err
				}
				all = append(all, t)
				failed += t.Failed
			}
			if err := show(c, all, func(w io.Writer) { printTested(w, all) }); err != nil {
				return err
			}
			if failed > 0 {
				return findings{fmt.Errorf("%s came out another way", plural(failed, "example"))}
			}
			return nil
		},
	}
}

func exampleFiles(args []string) ([]string, error) {
	var out []string
	for _, a := range args {
		if info, err := os.Stat(a); err == nil && info.IsDir() {
			more, err := expand([]string{a}, ".examples.yaml", ".examples.yml")
			if err != nil {
				return nil, err
			}
			out = append(out, more...)
			continue
		}
		if check.IsModel(a) {
			base := a[:strings.LastIndex(a, ".tm.")]
			a = base + ".examples.yaml"
			if !isFile(a) {
				return nil, wrong("there are no examples beside that model: %s cannot be read", a)
			}
		}
		if !check.IsExamples(a) {
			return nil, wrong("%s holds no examples; their name ends in .examples.yaml", a)
		}
		out = append(out, a)
	}
	return out, nil
}

func runExamples(file string) (tested, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return tested{}, wrong("%s cannot be read: %v", file, err)
	}
	x, err := check.ReadExamples(b)
	if err != nil {
		return tested{}, fmt.Errorf("%s: %w", file, err)
	}
	m, err := beside(file, x.Model)
	if err != nil {
		return tested{}, err
	}
	t := tested{File: file, Model: m.String(), Results: x.Run(m)}
	lines := check.Lines(b)
	for i := range t.Results {
		if i < len(lines) {
			t.Results[i].Line = lines[i]
		}
		if t.Results[i].Passed {
			t.Passed++
		} else {
			t.Failed++
		}
	}
	return t, nil
}

// beside reads the model that a file of examples is of.
func beside(file, said string) (*model.Model, error) {
	if said != "" {
		return readModel(filepath.Join(filepath.Dir(file), filepath.FromSlash(said)))
	}
	base := strings.TrimSuffix(strings.TrimSuffix(file, ".yaml"), ".yml")
	base = strings.TrimSuffix(base, ".examples")
	for _, end := range []string{".tm.json", ".tm.yaml", ".tm.yml"} {
		if isFile(base + end) {
			return readModel(base + end)
		}
	}
	return nil, wrong("there is no model beside %s; write model: FILE in it, or put %s.tm.json there", file,
		filepath.Base(base))
}

func printTested(w io.Writer, all []tested) {
	passed, failed := 0, 0
	for _, t := range all {
		fmt.Fprintf(w, "%s, %s\n", t.File, t.Model)
		for _, r := range t.Results {
			mark := "ok  "
			if !r.Passed {
				mark = "FAIL"
			}
			fmt.Fprintf(w, "  %s  %s\n", mark, r.Name)
			for _, x := range r.Wrong {
				fmt.Fprintf(w, "        %s:%d: %s\n", t.File, r.Line, x)
			}
		}
		passed, failed = passed+t.Passed, failed+t.Failed
	}
	fmt.Fprintf(w, "\n%s passed, %d failed\n", plural(passed, "example"), failed)
}
