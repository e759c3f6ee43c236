package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/model"
)

// modelComparison is what model compare tells: the changes and, with a service,
// what they touch.
type modelComparison struct {
	model.Comparison
	Devices *int     `json:"devices,omitempty"`
	Rules   []string `json:"rules,omitempty"`
}

func modelCompare() *cobra.Command {
	return &cobra.Command{
		Use:   "compare [OLD] NEW",
		Short: "Say what a change of a model means in the field",
		Long: `Compares two Thing Models, or a Thing Model with the one of its name that is in
force in the service, and classes each change as safe, careful or breaking.
With a service it also tells how many devices have the model and which rules
would not fit any more. The exit code is 3 if the version number does not say
what the changes are: a breaking change needs a new major number.`,
		Example: "  ullage model compare tank-probe.tm.json\n  ullage model compare old.tm.json new.tm.json",
		Args:    between(1, 2, "one or two names"),
		RunE: func(c *cobra.Command, args []string) error {
			out := modelComparison{}
			if len(args) == 1 {
				if err := inForce(c, args[0], &out); err != nil {
					return err
				}
			} else {
				next, err := readModel(args[1])
				if err != nil {
					return err
				}
				old, err := readModel(args[0])
				if err != nil {
					return err
				}
				out.Comparison = model.Compare(old, next)
			}
			if err := show(c, out, func(w io.Writer) { printComparison(w, out) }); err != nil {
				return err
			}
			if !out.Enough {
				return findings{fmt.Errorf("%s changes call for version %s", out.Weight, out.Needs)}
			}
			return nil
		},
	}
}

// inForce compares a file with what the service has: the version that the new
// one follows, and what a new version touches.
func inForce(c *cobra.Command, file string, out *modelComparison) error {
	cl, err := connect(c)
	if err != nil {
		return err
	}
	next, err := readModelFile(file, nil)
	if err != nil {
		return err
	}
	p, err := cl.PreviewModel(c.Context(), client.ModelText{Text: string(next.source), Format: "json",
		Parts: next.parts})
	if err != nil {
		return err
	}
	if p.Model == nil {
		var said []string
		for _, f := range p.Findings {
			said = append(said, f.Sentence)
		}
		return fmt.Errorf("%s: %s", file, strings.Join(said, "; "))
	}
	if p.Before == "" {
		return wrong("there is no model %s in the service yet; to compare two files, name both", next.model.Name)
	}
	src, err := cl.ModelSource(c.Context(), next.model.Name, true)
	if err != nil {
		return err
	}
	old, err := model.Parse(src)
	if err != nil {
		return err
	}
	out.Comparison = model.Compare(old, next.model)
	out.Devices, out.Rules = &p.Devices, p.Rules
	return nil
}

func printComparison(w io.Writer, x modelComparison) {
	if len(x.Changes) == 0 {
		fmt.Fprintf(w, "%s and %s say the same.\n", x.Old, x.New)
		return
	}
	fmt.Fprintf(w, "%s → %s: %s\n\n", x.Old, x.New, plural(len(x.Changes), "change"))
	cells := [][]string{{"WEIGHT", "WHERE", "WHAT"}}
	for _, c := range x.Changes {
		cells = append(cells, []string{string(c.Weight), c.Pointer, c.Sentence})
	}
	table(w, cells)
	if x.Devices != nil {
		fmt.Fprintf(w, "\nIn the service, %s with this model.\n", plural(*x.Devices, "device"))
	}
	for _, r := range x.Rules {
		fmt.Fprintf(w, "  a rule would not fit any more: %s\n", r)
	}
	enough := "it carries"
	if !x.Enough {
		enough = "it does not carry"
	}
	fmt.Fprintf(w, "\nThese changes call for version %s at least, which %s.\n", x.Needs, enough)
}
