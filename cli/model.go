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
)

// modelThings are models as a noun with a list; the rest has verbs of its own.
var modelThings = things[client.Model]{
	word: "model", words: "models",
	of:   (*client.Client).Models,
	name: func(m client.Model) string { return m.Name },
	none: "There is no model yet. Publish one with: ullage model publish FILE",
	columns: []column[client.Model]{
		{"model", func(m client.Model) string { return m.Name }},
		{"version", func(m client.Model) string { return m.Version }},
		{"devices", func(m client.Model) string { return strconv.Itoa(m.Devices) }},
		{"given", versionsOf},
		{"say another", func(m client.Model) string { return orDash(strings.TrimPrefix(strconv.Itoa(m.Other), "0")) }},
		{"reports every", func(m client.Model) string { return m.Interval }},
		{"title", func(m client.Model) string { return m.Title }},
	},
}

func modelCommand() *cobra.Command {
	var fills []string
	var move bool
	publish := &cobra.Command{
		Use:   "publish FILE|FOLDER…",
		Short: "Publish Thing Models",
		Long: `Reads W3C Thing Models (JSON, or the same in YAML) and publishes them. Of a
folder, every file whose name ends in .tm.json or .tm.yaml is read. Files that a
model extends, imports or is composed of are taken from beside it, else from
what is published already. A published version cannot be changed, only followed
by another; devices stay with theirs until they are moved.`,
		Example: "  ullage model publish examples/cellars/models",
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
			values, err := fillings(fills)
			if err != nil {
				return err
			}
			// Every file is read before the first is sent, so that a mistake in
			// the last one changes nothing.
			read := make([]*modelFile, len(files))
			for i, f := range files {
				if read[i], err = readModelFile(f, values); err != nil {
					return fmt.Errorf("%s was not published, and nothing else was: %w", f, err)
				}
			}
			var out []client.PublishedModel
			for _, f := range read {
				l, err := cl.PublishModel(c.Context(), f.source, f.parts)
				if err != nil {
					return fmt.Errorf("%s was not published: %w", f.path, err)
				}
				out = append(out, l)
				if move && l.Changed {
					if _, err := cl.MoveDevices(c.Context(), l.Name, client.Move{Version: l.Version}); err != nil {
						return err
					}
				}
			}
			return list(c, out, "nothing to load",
				column[client.PublishedModel]{"model", func(m client.PublishedModel) string { return m.Name }},
				column[client.PublishedModel]{"version", func(m client.PublishedModel) string { return m.Version }},
				column[client.PublishedModel]{"result", func(m client.PublishedModel) string {
					return changed(m.Changed)
				}})
		},
	}
	publish.Flags().StringArrayVar(&fills, "fill", nil,
		"value of a placeholder, as NAME=VALUE; may be given several times")
	publish.Flags().BoolVar(&move, "move", false, "move every device of the model to the new version")
	listing := modelThings.list()
	showing := &cobra.Command{
		Use: "show MODEL[@VERSION]", Short: "Show what a model says", Args: exactly(1,
			"one model"), ValidArgsFunction: versionNames,
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
	var whole bool
	source := &cobra.Command{
		Use: "source MODEL[@VERSION]", Short: "Print a model's Thing Model as it was published", Args: exactly(1,
			"one model"), ValidArgsFunction: versionNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			b, err := cl.ModelSource(c.Context(), args[0], whole)
			if err != nil {
				return err
			}
			_, err = c.OutOrStdout().Write(append(b, '\n'))
			return err
		},
	}
	source.Flags().BoolVar(&whole, "whole", false, "write out all that it extends, imports and is composed of")
	return noun(groupModel, "model", "Write, test, publish and read models, and move devices between versions",
		modelNew(), modelTest(), modelCompare(), publish, listing, showing, source, modelPage(), modelExamples(), modelMove(), modelBackfill())
}

func printModel(w io.Writer, m client.Model) {
	fmt.Fprintf(w, "%s %s: %s\n", m.Name, m.Version, m.Title)
	if m.Description != "" {
		fmt.Fprintln(w, m.Description)
	}
	fmt.Fprintf(w, "%d devices, each expected to report every %s\n\n", m.Devices, m.Interval)
	if len(m.Versions) > 1 || m.Other > 0 {
		fmt.Fprintf(w, "Versions that devices were given: %s", versionsOf(m))
		if m.Other > 0 {
			fmt.Fprintf(w, "; %d say they were built for another", m.Other)
		}
		fmt.Fprint(w, "\n\n")
	}
	for _, v := range m.Versions {
		for _, r := range v.Unfit {
			fmt.Fprintf(w, "A rule does not watch the %s with %s, because it does not fit: %s\n",
				plural(v.Devices, "device"), v.Version, r)
		}
	}
	cells := [][]string{{"ROLE", "NAME", "TYPE", "UNIT", "RANGE", "USUAL", "DEFAULT"}}
	for _, p := range m.Properties {
		role := p.Role
		if p.KeptByService {
			role += ", kept by the service"
		}
		if p.Derived != "" {
			role += " (derived)"
		}
		cells = append(cells, []string{role, p.Name, p.Type, p.Display, rangeOf(p), spanOf(p.Usual),
			plainOr(p.Default, "")})
	}
	table(w, cells)
	for _, p := range m.Properties {
		if p.Derived != "" {
			fmt.Fprintf(w, "\n%s = %s\n", p.Name, p.Derived)
		}
	}
	for _, x := range []struct {
		what string
		list []client.Affordance
	}{{"command", m.Actions}, {"event", m.Events}} {
		for i, a := range x.list {
			if i == 0 {
				fmt.Fprintln(w)
			}
			fmt.Fprintf(w, "%s %s: %s", x.what, a.Name, a.Data)
			if a.Output != "" {
				fmt.Fprintf(w, "; gives back %s", a.Output)
			}
			fmt.Fprintln(w)
		}
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
