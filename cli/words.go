package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/value"
)

// word is a flag that takes one of some words.
type word struct {
	to   *string
	list []string
}

func (w *word) String() string {
	if w.to == nil {
		return ""
	}
	return *w.to
}

func (w *word) Type() string { return "word" }

func (w *word) Set(s string) error {
	if !slices.Contains(w.list, s) {
		says := "it is " + either(w.list)
		if near := value.Nearest(s, w.list); near != "" {
			says += "; did you mean " + near + "?"
		}
		return fmt.Errorf("%s", says)
	}
	*w.to = s
	return nil
}

// either lists words as a choice.
func either(list []string) string {
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " or " + list[len(list)-1]
}

// wordFlag adds a flag that takes one of some words, with completion.
func wordFlag(c *cobra.Command, to *string, name, usual, help string, list ...string) {
	*to = usual
	c.Flags().Var(&word{to, list}, name, help+": "+either(list))
	c.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(list, cobra.ShellCompDirectiveNoFileComp))
}

// amount is a flag that takes a whole number that is not below the least.
type amount struct {
	to    *int
	least int
}

func (n *amount) String() string {
	if n.to == nil {
		return "0"
	}
	return strconv.Itoa(*n.to)
}

func (n *amount) Type() string { return "int" }

func (n *amount) Set(s string) error {
	v, err := strconv.Atoi(s)
	if err != nil || v < n.least {
		return fmt.Errorf("it is a whole number, %d or more", n.least)
	}
	*n.to = v
	return nil
}

// amountFlag adds a flag that takes a whole number of the least or more.
func amountFlag(c *cobra.Command, to *int, name string, least, usual int, help string) {
	*to = usual
	c.Flags().Var(&amount{to, least}, name, help)
}

// limitFlag adds --limit.
func limitFlag(c *cobra.Command, to *int, usual int, help string) {
	amountFlag(c, to, "limit", 0, usual, help)
}

// of completes what belongs to the device that the first argument names.
func ofDevice(c *cobra.Command, args []string, prefix string,
	list func(context.Context, *client.Client, client.Device, client.Model) []string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return deviceNames(c, args, prefix)
	}
	const quiet = cobra.ShellCompDirectiveNoFileComp
	cl, err := connect(c)
	if err != nil {
		return nil, quiet
	}
	d, err := cl.Device(c.Context(), args[0])
	if err != nil {
		return nil, quiet
	}
	m, err := cl.Model(c.Context(), d.Model+"@"+d.ModelVersion)
	if err != nil {
		return nil, quiet
	}
	var out []string
	open := false
	for _, w := range list(c.Context(), cl, d, m) {
		if strings.HasPrefix(w, prefix) {
			out = append(out, w)
			open = open || strings.HasSuffix(w, "=")
		}
	}
	if open {
		return out, quiet | cobra.ShellCompDirectiveNoSpace
	}
	return out, quiet
}

// settingWords completes NAME= and, behind it, values: what is in force, the
// default, the ends of the range, the words of an enumeration.
func settingWords(names bool) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, prefix string) ([]string, cobra.ShellCompDirective) {
		return ofDevice(c, args, prefix, func(ctx context.Context, cl *client.Client, d client.Device, m client.Model) []string {
			name, _, valued := strings.Cut(prefix, "=")
			var out []string
			for _, p := range m.Properties {
				switch {
				case p.Role != "setting":
				case names:
					out = append(out, p.Name)
				case !valued:
					out = append(out, p.Name+"=")
				case p.Name == name:
					for _, v := range valuesOf(p) {
						out = append(out, name+"="+v)
					}
				}
			}
			return out
		})
	}
}

func valuesOf(p client.Property) []string {
	out := slices.Clone(p.Enum)
	if p.Type == "boolean" {
		out = append(out, "true", "false")
	}
	add := func(v any) {
		if s := plain(v); v != nil && s != "–" && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	add(p.Default)
	if p.Minimum != nil {
		add(*p.Minimum)
	}
	if p.Maximum != nil {
		add(*p.Maximum)
	}
	return out
}

// labelKeys completes the names of labels that devices have.
func labelKeys(c *cobra.Command, _ []string, prefix string) ([]string, cobra.ShellCompDirective) {
	cl, err := connect(c)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	ds, err := cl.DevicesLike(c.Context(), client.DeviceFilter{Brief: true})
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	seen := map[string]bool{}
	for _, d := range ds {
		for k := range d.Labels {
			seen[k] = strings.HasPrefix(k, prefix)
		}
	}
	var out []string
	for _, k := range sortedKeys(seen) {
		if seen[k] {
			out = append(out, k)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// labelWords completes KEY= of the labels that devices have, and their values.
func labelWords(c *cobra.Command, args []string, prefix string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return deviceNames(c, args, prefix)
	}
	const quiet = cobra.ShellCompDirectiveNoFileComp
	key, _, valued := strings.Cut(prefix, "=")
	if !valued {
		keys, _ := labelKeys(c, nil, prefix)
		for i := range keys {
			keys[i] += "="
		}
		return keys, quiet | cobra.ShellCompDirectiveNoSpace
	}
	cl, err := connect(c)
	if err != nil {
		return nil, quiet
	}
	ds, err := cl.DevicesLike(c.Context(), client.DeviceFilter{Brief: true})
	if err != nil {
		return nil, quiet
	}
	seen := map[string]bool{}
	for _, d := range ds {
		if v := d.Labels[key]; v != "" {
			seen[key+"="+v] = true
		}
	}
	var out []string
	for _, w := range sortedKeys(seen) {
		if strings.HasPrefix(w, prefix) {
			out = append(out, w)
		}
	}
	return out, quiet
}

// versionNames completes MODEL@VERSION.
var versionNames = complete(func(c *cobra.Command, cl *client.Client) ([]string, error) {
	ms, err := cl.Models().List(c.Context(), client.ListOptions{})
	var out []string
	for _, m := range ms {
		out = append(out, m.Name)
		for _, v := range m.Versions {
			out = append(out, m.Name+"@"+v.Version)
		}
	}
	return out, err
})

// exitCodes is a page of help.
func exitCodes() *cobra.Command {
	return &cobra.Command{
		Use:   "exit-codes",
		Short: "What the exit codes of every command mean",
		Long: `Every command ends with one of these:

  0  done
  1  failed: the service refused it, a device did not do it, a file is damaged
  2  called wrongly: an argument is missing, a flag or a word does not exist, a
     value is none that the flag takes; nothing was asked of the service
  3  checked, and something is wrong: "ullage check", "ullage load", imports with
     refused rows, "ullage store check"; what is wrong was printed
  4  refused: nobody is signed in, or whoever is may not do that
  5  the service could not be reached

What a command prints is on standard output, why it failed on standard error.`,
	}
}

// ratio is a flag that takes a share in percent.
type ratio struct{ to *float64 }

func (p ratio) String() string {
	if p.to == nil {
		return "0"
	}
	return strconv.FormatFloat(*p.to, 'g', -1, 64)
}

func (ratio) Type() string { return "percent" }

func (p ratio) Set(s string) error {
	v, err := strconv.ParseFloat(strings.TrimSuffix(s, "%"), 64)
	if err != nil || !(v > 0 && v <= 100) {
		return fmt.Errorf("it is a number of percent, above 0 and 100 at most")
	}
	*p.to = v
	return nil
}

// percentFlag adds a flag that takes a share in percent.
func percentFlag(c *cobra.Command, to *float64, name, help string) {
	c.Flags().Var(ratio{to}, name, help)
}
