package cli

import (
	"fmt"
	"io"
	"os"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/rule"
)

func ruleCommand() *cobra.Command {
	load := &cobra.Command{
		Use:     "load FILE|FOLDER…",
		Short:   "Put alarm rules in force",
		Long:    "Reads alarm rules (YAML, one a file) and puts them in force. Of a folder, every .yaml file is read.",
		Example: "  ullage rule load examples/cellars/rules",
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
			// Every file is read before the first is sent, so that a mistake in
			// the last one changes nothing.
			var rules []*rule.Rule
			for _, f := range files {
				b, err := os.ReadFile(f)
				if err != nil {
					return err
				}
				r, err := rule.Parse(b)
				if err != nil {
					return fmt.Errorf("%s was not loaded: %w", f, err)
				}
				rules = append(rules, r)
			}
			var out []client.RuleSaved
			for i, r := range rules {
				s, err := cl.SetRule(c.Context(), *r)
				if err != nil {
					return fmt.Errorf("%s was not loaded: %w", files[i], err)
				}
				out = append(out, s)
			}
			return list(c, out, "nothing to load",
				column[client.RuleSaved]{"rule", func(r client.RuleSaved) string { return r.Rule }},
				column[client.RuleSaved]{"result", func(r client.RuleSaved) string { return changed(r.Changed) }})
		},
	}
	listing := &cobra.Command{
		Use: "list", Short: "List the rules in force", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			rs, err := cl.Rules(c.Context())
			if err != nil {
				return err
			}
			return list(c, rs, "There is no rule yet. Load one with: ullage rule load FILE",
				column[client.Rule]{"rule", func(r client.Rule) string { return r.Name }},
				column[client.Rule]{"priority", func(r client.Rule) string { return string(r.Priority) }},
				column[client.Rule]{"models", func(r client.Rule) string { return fmt.Sprint(r.Models)[1 : len(fmt.Sprint(r.Models))-1] }},
				column[client.Rule]{"raise", func(r client.Rule) string { return r.Raise }},
				column[client.Rule]{"on delay", func(r client.Rule) string { return r.OnDelay.String() }},
				column[client.Rule]{"deadband", func(r client.Rule) string { return num(r.Deadband, -1) }},
				column[client.Rule]{"devices", func(r client.Rule) string { return r.Devices }})
		},
	}
	showing := &cobra.Command{
		Use: "show RULE", Short: "Show a rule as its file", Args: exactly(1, "one rule"), ValidArgsFunction: ruleNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			r, err := cl.Rule(c.Context(), args[0])
			if err != nil {
				return err
			}
			b, err := yaml.Marshal(r)
			if err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) { w.Write(b) })
		},
	}
	remove := &cobra.Command{
		Use: "remove RULE", Short: "Take a rule out of force; its open alarms close", Args: exactly(1, "one rule"), ValidArgsFunction: ruleNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			r, err := cl.Rule(c.Context(), args[0])
			if err != nil {
				return err
			}
			if err := cl.RemoveRule(c.Context(), args[0]); err != nil {
				return err
			}
			b, err := yaml.Marshal(r)
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Removed %s. To put it back, load this:\n\n%s", args[0], b)
			return nil
		},
	}
	return noun(groupAlarm, "rule", "Load and read alarm rules", load, listing, showing, remove)
}
