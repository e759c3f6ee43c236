package cli

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/check"
	"ullage/core/expr"
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
		Args:    cobra.RangeArgs(1, 2),
		RunE: func(c *cobra.Command, args []string) error {
			next, err := readModel(args[len(args)-1])
			if err != nil {
				return err
			}
			out := modelComparison{}
			var old *model.Model
			if len(args) == 2 {
				old, err = readModel(args[0])
			} else {
				old, err = inForce(c, next, &out)
			}
			if err != nil {
				return err
			}
			out.Comparison = model.Compare(old, next)
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

// readModel reads a Thing Model in JSON or YAML.
func readModel(path string) (*model.Model, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, wrong("%s cannot be read: %v", path, err)
	}
	if !strings.HasSuffix(path, ".json") {
		if b, err = model.FromYAML(b); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	m, err := model.Parse(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return m, nil
}

// inForce returns the model of that name in the service, and notes what a new
// version of it touches.
func inForce(c *cobra.Command, next *model.Model, out *modelComparison) (*model.Model, error) {
	cl, err := connect(c)
	if err != nil {
		return nil, err
	}
	src, err := cl.ModelSource(c.Context(), next.Name)
	if client.IsNotFound(err) {
		return nil, wrong("there is no model %s in the service yet; to compare two files, name both", next.Name)
	}
	if err != nil {
		return nil, err
	}
	old, err := model.Parse(src)
	if err != nil {
		return nil, err
	}
	m, err := cl.Model(c.Context(), next.Name)
	if err != nil {
		return nil, err
	}
	out.Devices = &m.Devices
	rules, err := cl.Rules(c.Context())
	if err != nil {
		return nil, err
	}
	around := check.Around{}
	for _, r := range rules {
		around.Rules = append(around.Rules, r.Name)
	}
	for _, r := range rules {
		if !slices.Contains(r.Models, next.Name) {
			continue
		}
		if _, err := r.For(expr.NewPlan(around.With(check.Schema(next)))); err != nil && (r.Each == "" || len(r.Models) == 1) {
			out.Rules = append(out.Rules, err.Error())
		}
	}
	return old, nil
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
