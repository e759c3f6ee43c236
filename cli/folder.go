package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/check"
)

func compareCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "compare [FOLDER]",
		Short:   "Say what loading a fleet folder would change in the service",
		Long:    "Compares the models, rules, layers, boards and sites of a fleet folder with those of the\nservice, and changes nothing. The exit code is 3 if the folder has mistakes, 0 otherwise.",
		Example: "  ullage compare examples/cellars",
		GroupID: groupModel,
		Args:    between(0, 1, "one name at most"),
		RunE:    func(c *cobra.Command, args []string) error { return sendFolder(c, args, true, true, false) },
	}
}

func loadCommand() *cobra.Command {
	var dry, yes, atOnce bool
	c := &cobra.Command{
		Use:   "load [FOLDER]",
		Short: "Bring a fleet folder into the service, all of it or nothing",
		Long: `Publishes the models and puts in force the rules, layers, boards and sites of a fleet
folder that are new or changed, in one transaction: if anything is wrong, or may not be published,
nothing changes. Loading the same folder again changes nothing. What the service
has and the folder has not stays. It asks before it changes anything that is
there already.`,
		Example: "  ullage load examples/cellars\n  ullage load examples/cellars --dry-run",
		GroupID: groupModel,
		Args:    between(0, 1, "one name at most"),
		RunE:    func(c *cobra.Command, args []string) error { return sendFolder(c, args, dry, yes, atOnce) },
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would change and change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&atOnce, "at-once", false, "devices get what layers give at once, however many they are")
	return c
}

func sendFolder(c *cobra.Command, args []string, preview, yes, atOnce bool) error {
	root := "."
	if len(args) == 1 {
		root = args[0]
	}
	files, err := fleetFolder(root)
	if err != nil {
		return err
	}
	cl, err := connect(c)
	if err != nil {
		return err
	}
	ask := client.Folder{Preview: true, AtOnce: atOnce}
	for _, f := range files {
		ask.Files = append(ask.Files, folderFile(f))
	}
	o, err := cl.LoadFolder(c.Context(), ask)
	if err != nil {
		return err
	}
	if wrongs := folderErrors(o); wrongs > 0 {
		if err := show(c, o, func(w io.Writer) { printFolderFindings(w, root, o) }); err != nil {
			return err
		}
		return findings{fmt.Errorf("%s; nothing was loaded", plural(wrongs, "mistake"))}
	}
	if !preview && o.Changed > 0 {
		if replaces(o) && !yes {
			printFolder(c.ErrOrStderr(), o)
			if err := confirm(c, fmt.Sprintf("Put %s in force?", plural(o.Changed, "change"))); err != nil {
				return err
			}
		}
		ask.Preview = false
		if o, err = cl.LoadFolder(c.Context(), ask); err != nil {
			return err
		}
	}
	return show(c, o, func(w io.Writer) { printFolder(w, o) })
}

func folderFile(f check.File) client.FolderFile {
	if utf8.Valid(f.Data) {
		return client.FolderFile{Path: f.Path, Text: string(f.Data)}
	}
	return client.FolderFile{Path: f.Path, Data: f.Data}
}

func folderErrors(o client.FolderOutcome) int {
	n := 0
	for _, f := range o.Findings {
		if f.Severity == "error" {
			n++
		}
	}
	return n
}

func replaces(o client.FolderOutcome) bool {
	for _, i := range o.Items {
		if i.State == "changed" {
			return true
		}
	}
	return false
}

func printFolderFindings(w io.Writer, root string, o client.FolderOutcome) {
	for _, f := range o.Findings {
		fmt.Fprintf(w, "%s:%d:%d: %s: %s\n", filepath.Join(root, filepath.FromSlash(f.File)), f.Line, f.Column,
			f.Severity, f.Sentence)
		if f.Suggest != "" {
			fmt.Fprintf(w, "    write: %s\n", f.Suggest)
		}
	}
}

func printFolder(w io.Writer, o client.FolderOutcome) {
	words := map[string]string{"new": "new", "changed": "changed", "service": "in the service only, stays"}
	cells := [][]string{{"KIND", "NAME", "STATE", "VERSION", "WEIGHT"}}
	same := 0
	for _, i := range o.Items {
		if i.State == "same" {
			same++
			continue
		}
		version := i.Version
		if i.State == "changed" && i.Kind == "model" {
			version = i.Before + " → " + i.Version
		}
		cells = append(cells, []string{i.Kind, i.Name, words[i.State], version, i.Weight})
	}
	if len(cells) > 1 {
		table(w, cells)
	}
	for _, i := range o.Items {
		if len(i.Changes)+len(i.Lines) == 0 {
			continue
		}
		fmt.Fprintf(w, "\n%s %s", i.Kind, i.Name)
		if i.Kind == "model" {
			fmt.Fprintf(w, ", %s with it; they stay with their version until they are moved",
				plural(i.Devices, "device"))
		}
		fmt.Fprintln(w)
		for _, c := range i.Changes {
			fmt.Fprintf(w, "  %-8s  %s\n", c.Weight, c.Sentence)
		}
		for _, l := range i.Lines {
			fmt.Fprintf(w, "  %s\n", l)
		}
	}
	if same > 0 && o.Changed > 0 {
		fmt.Fprintf(w, "\n%d more are the same in the service.\n", same)
	}
	switch {
	case o.Changed == 0:
		fmt.Fprintf(w, "Nothing to change: the service has all %d of this folder as they stand.\n", same)
	case o.Loaded:
		fmt.Fprintf(w, "\n%s put in force.\n", plural(o.Changed, "change"))
	default:
		fmt.Fprintf(w, "\n%s; nothing was changed. Put them in force with: ullage load\n", plural(o.Changed, "change"))
	}
}

func schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema [model|rule|site|examples]",
		Short: "Print the JSON Schema of a kind of file, for editors",
		Long: `Prints a JSON Schema (draft 2020-12) that editors complete and check by. In a
YAML file, an editor with a YAML language server takes it from a first line like
  # yaml-language-server: $schema=./rule.schema.json`,
		Example:   "  ullage schema model > model.schema.json",
		GroupID:   groupModel,
		Args:      between(0, 1, "one name at most"),
		ValidArgs: check.SchemaKinds,
		RunE: func(c *cobra.Command, args []string) error {
			kind := "model"
			if len(args) == 1 {
				kind = args[0]
			}
			b, err := check.FileSchema(kind)
			if err != nil {
				return usageError{err}
			}
			return render(c, json.RawMessage(b), func(w io.Writer) error {
				_, err := w.Write(append(b, '\n'))
				return err
			})
		},
	}
}
