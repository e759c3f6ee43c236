package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/expr"
	"ullage/core/record"
	"ullage/core/value"
)

// things is a noun that people make, with the verbs that all such nouns have:
// list, show, load, save and remove.
type things[T any] struct {
	group, word, words string
	short              string // of the noun
	of                 func(*client.Client) client.Things[T]
	name               func(T) string
	columns            []column[T]
	none               string // what a list without any says
	// read reads one from its file; folder is where the file stands.
	read func(src []byte) (*T, error)
	yaml func(T) []byte
	// loaded is done after one was loaded from a file in a folder; nil for nothing.
	loaded func(c *cobra.Command, cl *client.Client, x T, folder string) error
	// asks returns what somebody is to know, and to confirm, before one is put in force; nil, or
	// "", for nothing.
	asks func(c *cobra.Command, cl *client.Client, x T) (string, error)
	// removed is what the verb remove says it does beside; may be empty.
	removed string
	example string // name of one
	folder  string // example of a folder of files
	set     string // example of fields to save; empty for a noun without save
	made    bool   // by a verb of its own, so that save changes those that are there
	// together is the part of a fleet folder that they are loaded as: all of them or
	// none, with every mistake; empty for a noun that is loaded one by one.
	together string
}

// names completes the names of things.
func (n things[T]) names() func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return complete(func(c *cobra.Command, cl *client.Client) ([]string, error) {
		xs, err := n.of(cl).List(c.Context(), client.ListOptions{})
		out := make([]string, len(xs))
		for i, x := range xs {
			out[i] = n.name(x)
		}
		return out, err
	})
}

// command returns the noun with its verbs.
func (n things[T]) command() *cobra.Command {
	verbs := []*cobra.Command{n.list(), n.show(), n.load()}
	if n.set != "" {
		verbs = append(verbs, n.save())
	}
	return noun(n.group, n.word, n.short, append(verbs, n.remove())...)
}

// said is the noun as it stands in a sentence.
func (n things[T]) said() string { return strings.ReplaceAll(n.word, "-", " ") }

func (n things[T]) list() *cobra.Command {
	var o client.ListOptions
	c := &cobra.Command{
		Use: "list", Short: "List the " + n.words, Args: cobra.NoArgs,
		Long: "Lists the " + n.words + ". The fields to order by, and to speak of in a condition, are\n" +
			strings.Join(n.fields(), ", ") + ".",
		Example: fmt.Sprintf("  ullage %s list --order -%s\n  ullage %s list -o csv", n.word, n.fields()[0], n.word),
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			xs, err := n.of(cl).List(c.Context(), o)
			if err != nil {
				return err
			}
			none := n.none
			if o.Where != "" {
				none = fmt.Sprintf("No %s is like that. All of them are in: ullage %s list", n.said(), n.word)
			}
			return list(c, xs, none, n.columns...)
		},
	}
	c.Flags().StringVar(&o.Where, "where", "", "only those for which this condition over their fields is true")
	c.Flags().StringVar(&o.Order, "order", "", "field to order by, with - before it the other way round")
	limitFlag(c, &o.Limit, 0, "at most this many; all if 0")
	var orders []string
	for _, f := range n.fields() {
		orders = append(orders, f, "-"+f)
	}
	c.RegisterFlagCompletionFunc("order", cobra.FixedCompletions(orders, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func (n things[T]) fields() []string {
	var out []string
	for _, f := range record.Fields[T]() {
		out = append(out, f.Name)
	}
	return out
}

func (n things[T]) show() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a " + n.said() + " as its file", Args: exactly(1,
			"one "+n.said()), ValidArgsFunction: n.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			x, _, err := n.of(cl).Get(c.Context(), args[0])
			if err != nil {
				return err
			}
			return show(c, x, func(w io.Writer) { w.Write(n.yaml(x)) })
		},
	}
}

// outcome is what became of one thing.
type outcome struct {
	Name   string `json:"name"`
	Result string `json:"result"`
}

func (n things[T]) outcomes(c *cobra.Command, out []outcome) error {
	return list(c, out, "nothing to load",
		column[outcome]{n.said(), func(o outcome) string { return o.Name }},
		column[outcome]{"result", func(o outcome) string { return o.Result }})
}

func resultOf[T any](s client.Saved[T]) string {
	switch {
	case s.Created:
		return "new"
	case s.Changed:
		return "changed"
	}
	return "unchanged"
}

func (n things[T]) load() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use:   "load FILE|FOLDER…",
		Short: "Load " + n.words + " from their files",
		Long: "Reads " + n.words + " (YAML, one a file) and puts them in force. Of a folder, every .yaml\n" +
			"file is read. Every file is read before the first is sent.",
		Example: fmt.Sprintf("  ullage %s load %s", n.word, n.folder),
		Args:    atLeast(1, "files or folders"),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			files, err := expand(args, ".yaml", ".yml")
			if err != nil {
				return err
			}
			if n.together != "" {
				return n.loadTogether(c, cl, files, yes)
			}
			xs := make([]*T, len(files))
			for i, f := range files {
				b, err := os.ReadFile(f)
				if err == nil {
					xs[i], err = n.read(b)
				}
				if err != nil {
					return fmt.Errorf("%s was not loaded: %w", f, err)
				}
			}
			var out []outcome
			for i, x := range xs {
				s, err := n.of(cl).Put(c.Context(), *x, "")
				if err == nil && n.loaded != nil {
					err = n.loaded(c, cl, *x, filepath.Dir(files[i]))
				}
				if err != nil {
					return fmt.Errorf("%s was not loaded: %w", files[i], err)
				}
				out = append(out, outcome{n.name(*x), resultOf(s)})
			}
			return n.outcomes(c, out)
		},
	}
	n.yesFlag(c, &yes)
	return c
}

func (n things[T]) yesFlag(c *cobra.Command, yes *bool) {
	if n.asks != nil {
		c.Flags().BoolVar(yes, "yes", false, "do not ask")
	}
}

// asked asks what is to be confirmed before some are put in force, where somebody is there.
func (n things[T]) asked(c *cobra.Command, cl *client.Client, yes bool, xs ...T) error {
	if n.asks == nil || yes {
		return nil
	}
	for _, x := range xs {
		says, err := n.asks(c, cl, x)
		if err != nil {
			return err
		}
		if says == "" {
			continue
		}
		// A script has nobody to ask: it is told, and goes on.
		if !answers(c) {
			fmt.Fprintln(c.ErrOrStderr(), "ullage: "+says)
			continue
		}
		if err := confirm(c, says+". Put it in force?"); err != nil {
			return err
		}
	}
	return nil
}

// loadTogether loads files as a part of a fleet folder.
func (n things[T]) loadTogether(c *cobra.Command, cl *client.Client, files []string, yes bool) error {
	var ask client.Folder
	local := map[string]string{} // the file on this machine, by the path that the service sees
	for i, f := range files {
		b, err := os.ReadFile(f)
		if err != nil {
			return fmt.Errorf("%s was not loaded: %w", f, err)
		}
		path := fmt.Sprintf("%d/%s/%s", i, n.together, filepath.Base(f)) // some files are known by their names
		local[path] = f
		ask.Files = append(ask.Files, client.FolderFile{Path: path, Text: strings.ToValidUTF8(string(b), "\uFFFD")})
	}
	var xs []T
	for _, f := range ask.Files { // what is wrong with a file the service says, with its line
		if x, err := n.read([]byte(f.Text)); err == nil {
			xs = append(xs, *x)
		}
	}
	if err := n.asked(c, cl, yes, xs...); err != nil {
		return err
	}
	o, err := cl.LoadFolder(c.Context(), ask)
	if err != nil {
		return err
	}
	for i := range o.Findings {
		if f, ok := local[o.Findings[i].File]; ok {
			o.Findings[i].File = f
		}
	}
	if wrongs := folderErrors(o); wrongs > 0 {
		if err := show(c, o, func(w io.Writer) { printFolderFindings(w, "", o) }); err != nil {
			return err
		}
		return findings{fmt.Errorf("%s; none of the %s was loaded", plural(wrongs, "mistake"), n.words)}
	}
	words := map[string]string{"new": "new", "changed": "changed", "same": "unchanged"}
	var out []outcome
	for _, item := range o.Items {
		if _, ours := local[item.File]; ours {
			out = append(out, outcome{item.Name, words[item.State]})
		}
	}
	return n.outcomes(c, out)
}

func (n things[T]) save() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use:   "save NAME FIELD=VALUE…",
		Short: "Make a " + n.said() + ", or change fields of one",
		Long: "Makes a " + n.said() + ", or changes the fields that are given of the one of that name; the\n" +
			"others stay, and an empty value takes one away. The fields are\n" + strings.Join(n.settable(), ", ") + ".",
		Example: fmt.Sprintf("  ullage %s save %q %s", n.word, n.example, n.set),
		Args:    atLeast(2, "a name and at least one FIELD=VALUE"),
		ValidArgsFunction: func(c *cobra.Command, args []string, p string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return n.names()(c, args, p)
			}
			var out []string
			for _, f := range n.settable() {
				out = append(out, f+"=")
			}
			return out, cobra.ShellCompDirectiveNoSpace | cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			x, tag, err := n.of(cl).Get(c.Context(), args[0])
			if err != nil && (n.made || !client.IsNotFound(err)) {
				return err
			}
			if err := n.change(&x, args[0], args[1:]); err != nil {
				return err
			}
			if err := n.asked(c, cl, yes, x); err != nil {
				return err
			}
			s, err := n.of(cl).Put(c.Context(), x, tag)
			if err != nil {
				return err
			}
			return n.outcomes(c, []outcome{{args[0], resultOf(s)}})
		},
	}
	n.yesFlag(c, &yes)
	return c
}

// settable are the fields that people fill in, but for the name.
func (n things[T]) settable() []string {
	var out []string
	for _, f := range record.Fields[T]()[1:] {
		if !f.Kept {
			out = append(out, f.Name)
		}
	}
	return out
}

// change sets fields of x by FIELD=VALUE, and its name by the first text field.
func (n things[T]) change(x *T, name string, pairs []string) error {
	b, err := json.Marshal(x)
	raw := map[string]json.RawMessage{}
	if err == nil {
		err = json.Unmarshal(b, &raw)
	}
	if err != nil {
		return err
	}
	fields := record.Fields[T]()
	kinds, lists := map[string]expr.Kind{}, map[string]bool{}
	for _, f := range fields[1:] {
		if !f.Kept {
			kinds[f.Name], lists[f.Name] = f.Kind, f.List
		}
	}
	quoted, _ := json.Marshal(name)
	raw[fields[0].Name] = quoted
	for _, p := range pairs {
		k, v, ok := strings.Cut(p, "=")
		kind, known := kinds[k]
		if !ok || !known {
			return usageError{fmt.Errorf("%q is no FIELD=VALUE; the fields of a %s are %s", p, n.said(),
				strings.Join(n.settable(), ", "))}
		}
		if v == "" {
			delete(raw, k)
			continue
		}
		raw[k], _ = json.Marshal(v)
		if lists[k] {
			raw[k], _ = json.Marshal(strings.FieldsFunc(v, func(r rune) bool { return r == ',' || r == ' ' }))
		}
		switch kind {
		case expr.Number, expr.Bool:
			if raw[k] = json.RawMessage(v); !json.Valid(raw[k]) {
				return unfit(k, v)
			}
		case expr.Time:
			at, err := untilWhen(v, time.Now())
			if err != nil {
				return usageError{fmt.Errorf("%s: %w", k, err)}
			}
			raw[k], _ = json.Marshal(at)
		}
	}
	if b, err = json.Marshal(raw); err == nil {
		*x = *reflect.New(reflect.TypeFor[T]()).Interface().(*T)
		err = json.Unmarshal(b, x)
	}
	if wrong := (*json.UnmarshalTypeError)(nil); errors.As(err, &wrong) {
		return unfit(wrong.Field, wrong.Value)
	}
	if err != nil {
		return usageError{fmt.Errorf("a value does not fit its field: %w", err)}
	}
	return nil
}

// unfit says that a value is not of the kind of its field.
func unfit(field, v string) error {
	return usageError{fmt.Errorf("%s cannot be %q; numbers are written like 47.701, and yes or no as true or false", field, value.Clip(v, 60))}
}

func (n things[T]) remove() *cobra.Command {
	short := "Take a " + n.said() + " away"
	if n.removed != "" {
		short += "; " + n.removed
	}
	yes := false
	c := &cobra.Command{
		Use: "remove NAME", Short: short, Args: exactly(1, "one "+n.said()), ValidArgsFunction: n.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			x, tag, err := n.of(cl).Get(c.Context(), args[0])
			if err != nil {
				return err
			}
			if !yes {
				what := fmt.Sprintf("Remove the %s %s", n.said(), args[0])
				if n.removed != "" {
					what += " (" + n.removed + ")"
				}
				if err := confirm(c, what+"?"); err != nil {
					return err
				}
			}
			if err := n.of(cl).Remove(c.Context(), args[0], tag); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Removed %s. To put it back, load this:\n\n%s", args[0], n.yaml(x))
			return nil
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
