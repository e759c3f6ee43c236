package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/model"
)

func modelCommand() *cobra.Command {
	load := &cobra.Command{
		Use:     "load FILE|FOLDER…",
		Short:   "Put Thing Models in force",
		Long:    "Reads W3C Thing Models (JSON, or the same in YAML) and puts them in force. Of a\nfolder, every file whose name ends in .tm.json or .tm.yaml is read.",
		Example: "  ullage model load examples/cellars/models",
		Args:    atLeast(1, "files or folders"),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			files, err := expand(args, ".tm.json", ".tm.yaml", ".tm.yml")
			if err != nil {
				return err
			}
			// Every file is read before the first is sent, so that a mistake in
			// the last one changes nothing.
			sources := make([][]byte, len(files))
			for i, f := range files {
				if sources[i], err = os.ReadFile(f); err != nil {
					return err
				}
				if !strings.HasSuffix(f, ".json") {
					if sources[i], err = model.FromYAML(sources[i]); err != nil {
						return fmt.Errorf("%s was not loaded, and nothing else was: %w", f, err)
					}
				}
				if _, err := model.Parse(sources[i]); err != nil {
					return fmt.Errorf("%s was not loaded, and nothing else was: %w", f, err)
				}
			}
			var out []client.ModelLoaded
			for i, f := range files {
				l, err := cl.LoadModel(c.Context(), sources[i])
				if err != nil {
					return fmt.Errorf("%s was not loaded: %w", f, err)
				}
				out = append(out, l)
			}
			return list(c, out, "nothing to load",
				column[client.ModelLoaded]{"model", func(m client.ModelLoaded) string { return m.Name }},
				column[client.ModelLoaded]{"version", func(m client.ModelLoaded) string { return m.Version }},
				column[client.ModelLoaded]{"result", func(m client.ModelLoaded) string { return changed(m.Changed) }})
		},
	}
	listing := &cobra.Command{
		Use: "list", Short: "List the models in force", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			ms, err := cl.Models(c.Context())
			if err != nil {
				return err
			}
			return list(c, ms, "There is no model yet. Load one with: ullage model load FILE",
				column[client.Model]{"model", func(m client.Model) string { return m.Name }},
				column[client.Model]{"version", func(m client.Model) string { return m.Version }},
				column[client.Model]{"devices", func(m client.Model) string { return strconv.Itoa(m.Devices) }},
				column[client.Model]{"reports every", func(m client.Model) string { return m.Interval }},
				column[client.Model]{"title", func(m client.Model) string { return m.Title }})
		},
	}
	showing := &cobra.Command{
		Use: "show MODEL", Short: "Show what a model says", Args: exactly(1, "one model"), ValidArgsFunction: modelNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			m, err := cl.Model(c.Context(), args[0])
			if err != nil {
				return err
			}
			return show(c, m, func(w io.Writer) { printModel(w, m) })
		},
	}
	source := &cobra.Command{
		Use: "source MODEL", Short: "Print a model's Thing Model as it was loaded", Args: exactly(1, "one model"), ValidArgsFunction: modelNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			b, err := cl.ModelSource(c.Context(), args[0])
			if err != nil {
				return err
			}
			_, err = c.OutOrStdout().Write(append(b, '\n'))
			return err
		},
	}
	return noun(groupModel, "model", "Load, read and compare models", load, listing, showing, source, modelCompare())
}

func printModel(w io.Writer, m client.Model) {
	fmt.Fprintf(w, "%s %s: %s\n", m.Name, m.Version, m.Title)
	if m.Description != "" {
		fmt.Fprintln(w, m.Description)
	}
	fmt.Fprintf(w, "%d devices, each expected to report every %s\n\n", m.Devices, m.Interval)
	cells := [][]string{{"ROLE", "NAME", "TYPE", "UNIT", "RANGE", "USUAL", "DEFAULT"}}
	for _, p := range m.Properties {
		role := p.Role
		if p.Held {
			role += " (held)"
		}
		cells = append(cells, []string{role, p.Name, p.Type, p.Display, rangeOf(p), spanOf(p.Usual), plainOr(p.Default, "")})
	}
	table(w, cells)
	if len(m.Commands) > 0 {
		fmt.Fprintf(w, "\nCommands: %s\n", strings.Join(m.Commands, ", "))
	}
}

func rangeOf(p client.Property) string {
	switch {
	case len(p.Enum) > 0:
		return strings.Join(p.Enum, " | ")
	case p.Minimum != nil && p.Maximum != nil:
		return num(*p.Minimum, -1) + " … " + num(*p.Maximum, -1)
	case p.Minimum != nil:
		return "from " + num(*p.Minimum, -1)
	case p.Maximum != nil:
		return "to " + num(*p.Maximum, -1)
	}
	return ""
}

func spanOf(s []float64) string {
	if len(s) != 2 {
		return ""
	}
	return num(s[0], -1) + " … " + num(s[1], -1)
}

func plainOr(v any, other string) string {
	if v == nil {
		return other
	}
	return plain(v)
}

func changed(c bool) string {
	if c {
		return "in force"
	}
	return "in force already"
}

// expand turns folders into the files in them that have a suffix.
func expand(args []string, suffixes ...string) ([]string, error) {
	var out []string
	for _, a := range args {
		info, err := os.Stat(a)
		if err != nil {
			return nil, wrong("%s cannot be read: there is no such file or folder", a)
		}
		if !info.IsDir() {
			out = append(out, a)
			continue
		}
		entries, err := os.ReadDir(a)
		if err != nil {
			return nil, err
		}
		n := len(out)
		for _, e := range entries {
			if slices.ContainsFunc(suffixes, func(s string) bool { return strings.HasSuffix(e.Name(), s) }) {
				out = append(out, filepath.Join(a, e.Name()))
			}
		}
		if len(out) == n {
			return nil, wrong("the folder %s has no file that ends in %s", a, strings.Join(suffixes, " or "))
		}
	}
	return out, nil
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
