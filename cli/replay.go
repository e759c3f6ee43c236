package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/rule"
)

// ruleCommand is the noun rule with the verbs that only rules have.
func ruleCommand() *cobra.Command {
	c := ruleThings.command()
	c.AddCommand(ruleReplay(), ruleSuggest(), ruleTry(), ruleHistory(), ruleTurn("enable", "Put a rule in force again", false), ruleTurn("disable", "Take a rule out of force, and keep it; its open alarms close", true))
	return c
}

// ruleAt reads a rule from a file, or gets one in force by its name.
func ruleAt(c *cobra.Command, cl *client.Client, at string) (*rule.Rule, error) {
	src, err := os.ReadFile(at)
	switch {
	case err == nil:
		r, err := rule.Parse(src)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", at, err)
		}
		return r, nil
	case strings.ContainsAny(at, "./"):
		return nil, err
	}
	r, _, err := cl.Rules().Get(c.Context(), at)
	return &r, err
}

func ruleTry() *cobra.Command {
	var device string
	c := &cobra.Command{
		Use: "try RULE|FILE --device DEVICE [NAME=VALUE…]", Short: "Try a rule on one reading, and see what each of its parts is",
		Long: `Works the condition of a rule out for a device, with the values that are given in
place of those that it has: telemetry by its name, settings as set.NAME, labels as
label.NAME. Nothing is stored, and nothing is raised.`,
		Example: "  ullage rule try co2_high --device air-kilnside-2 co2=1620\n  ullage rule try new-rule.yaml --device tank-fennimore-07 must_temp=33.5 set.max_temp=32",
		Args:    atLeast(1, "one rule, and values to try"), ValidArgsFunction: ruleThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			given := map[string]any{}
			for _, x := range args[1:] {
				name, text, ok := strings.Cut(x, "=")
				if !ok {
					return usageError{fmt.Errorf("%q is no value to try; write it like co2=1620", x)}
				}
				var v any
				if json.Unmarshal([]byte(text), &v) != nil {
					v = text
				}
				given[strings.TrimSpace(name)] = v
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			r, err := ruleAt(c, cl, args[0])
			if err != nil {
				return err
			}
			if device == "" {
				return usageError{fmt.Errorf("no device is named; a rule is tried for one: --device ID")}
			}
			x, err := cl.ExplainExpression(c.Context(), client.ExpressionExplain{Source: r.Raise, Device: device, Given: given})
			if err != nil {
				return err
			}
			return show(c, x, func(w io.Writer) {
				printExplained(w, x)
				on, _ := r.Delays()
				switch {
				case x.Part.Truth == "true" && on > 0:
					fmt.Fprintf(w, "\n%s would be raised after %s of this.\n", r.Name, r.OnDelay)
				case x.Part.Truth == "true":
					fmt.Fprintf(w, "\n%s would be raised.\n", r.Name)
				case x.Part.Truth == "false":
					fmt.Fprintf(w, "\n%s would not be raised.\n", r.Name)
				default:
					fmt.Fprintf(w, "\nIt is not known, so nothing would change.\n")
				}
			})
		},
	}
	c.Flags().StringVar(&device, "device", "", "for which device")
	c.RegisterFlagCompletionFunc("device", deviceNames)
	return c
}

func ruleHistory() *cobra.Command {
	return &cobra.Command{Use: "history RULE", Short: "List the versions of a rule: who has changed what, and when",
		Long: "Lists the versions of a rule, the newest first. With -o json each comes whole; to go\nback to one, load it again.",
		Args: exactly(1, "one rule"), ValidArgsFunction: ruleThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			vs, err := cl.RuleVersions(c.Context(), args[0])
			if err != nil {
				return err
			}
			return list(c, vs, "It has no versions.",
				column[client.RuleVersion]{"when", func(v client.RuleVersion) string { return v.At.Local().Format(time.DateTime) }},
				column[client.RuleVersion]{"by", func(v client.RuleVersion) string { return v.By }},
				column[client.RuleVersion]{"what", func(v client.RuleVersion) string { return v.Verb }},
				column[client.RuleVersion]{"difference", func(v client.RuleVersion) string { return strings.Join(v.Changed, "; ") }})
		}}
}

// ruleTurn turns a rule on or off.
func ruleTurn(verb, short string, disabled bool) *cobra.Command {
	return &cobra.Command{Use: verb + " RULE…", Short: short, Args: atLeast(1, "one rule or more"), ValidArgsFunction: ruleThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			var out []outcome
			for _, name := range args {
				r, tag, err := cl.Rules().Get(c.Context(), name)
				if err != nil {
					return err
				}
				r.Disabled = disabled
				saved, err := cl.Rules().Put(c.Context(), r, tag)
				if err != nil {
					return err
				}
				out = append(out, outcome{name, resultOf(saved)})
			}
			return ruleThings.outcomes(c, out)
		}}
}

func ruleReplay() *cobra.Command {
	var ask client.ReplayAsk
	var where *string
	c := &cobra.Command{
		Use: "replay RULE|FILE", Short: "Work out what a rule would have done over past readings",
		Long: `Replays a rule in force, or one in a file, over stored readings, and shows what it
would have raised beside what the version in force would have. Nothing is changed.
It is what would have been with all readings on time, and with the settings, labels,
attributes, links, groups and maintenance of then.`,
		Example: "  ullage rule replay co2_high --span 30d\n  ullage rule replay new-rule.yaml --span 7d --where 'label.site == \"Kilnside\"'\n  ullage rule replay co2_high --device air-kilnside-2 --spans",
		Args:    exactly(1, "one rule, by its name or its file"), ValidArgsFunction: ruleThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			ask.Where = *where
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if ask.Rule, err = ruleAt(c, cl, args[0]); err != nil {
				return err
			}
			return replayed(c, cl, ask)
		},
	}
	c.Flags().StringVar(&ask.Span, "span", "30d", "over which time, 90d at most")
	where = whereFlag(c)
	c.Flags().StringArrayVar(&ask.Devices, "device", nil, "a device by its id; may be given several times")
	c.RegisterFlagCompletionFunc("device", func(c *cobra.Command, _ []string, p string) ([]string, cobra.ShellCompDirective) {
		return deviceNames(c, nil, p)
	})
	c.Flags().BoolVar(&ask.Spans, "spans", false, "say when each alarm would have been raised")
	c.Flags().BoolVar(&ask.Live, "live", false, "say what live did, too, and why it differs")
	return c
}

// replayed shows a replay while it runs, and then what came of it.
func replayed(c *cobra.Command, cl *client.Client, ask client.ReplayAsk) error {
	var ones []client.ReplayOne
	var sum client.ReplaySummary
	format, _ := c.Flags().GetString("output")
	bar := newProgress(c.ErrOrStderr(), "replay", "devices")
	ctx, stop := context.WithCancel(c.Context())
	defer stop()
	err := cl.Replay(ctx, ask, func(l client.ReplayLine) error {
		switch {
		case l.Progress != nil:
			bar.set(l.Progress.Done, l.Progress.Of)
		case l.One != nil:
			ones = append(ones, *l.One)
		case l.Summary != nil:
			sum = *l.Summary
		}
		return nil
	})
	if bar.bar != nil {
		bar.bar.Finish()
	}
	if err != nil {
		return err
	}
	sort.Slice(ones, func(i, j int) bool {
		if a, b := ones[i].This.Alarms, ones[j].This.Alarms; a != b {
			return a > b
		}
		return ones[i].Subject < ones[j].Subject
	})
	if format == "json" {
		return json.NewEncoder(c.OutOrStdout()).Encode(struct {
			Summary client.ReplaySummary `json:"summary"`
			Devices []client.ReplayOne   `json:"devices"`
		}{sum, ones})
	}
	if format != "table" && format != "" {
		return list(c, ones, "The rule is for no device.", replayColumns(sum)...)
	}
	printReplay(c.OutOrStdout(), sum)
	fmt.Fprintln(c.OutOrStdout())
	if err := list(c, ones, "The rule is for no device.", replayColumns(sum)...); err != nil {
		return err
	}
	w := newSafe(c.OutOrStdout(), rawOutput(c))
	for _, o := range ones {
		for _, s := range o.This.Spans {
			end := "still raised"
			if !s.To.IsZero() {
				end = "for " + short(s.To.Sub(s.From))
			}
			switch {
			case s.Suppressed:
				end += ", suppressed by design"
			case s.OutOfService:
				end += ", out of service"
			}
			fmt.Fprintf(w, "%s  %s  %s\n", s.From.Local().Format(time.DateTime), o.Subject, end)
		}
	}
	printDifferences(w, ones, ask.Spans)
	return nil
}

// printDifferences says where live did otherwise, by cause; each of them if all is true.
func printDifferences(w io.Writer, ones []client.ReplayOne, all bool) {
	causes := map[string]int{}
	for _, o := range ones {
		for _, d := range o.Differences {
			text := "only live has raised it: " + d.Cause
			if d.Only == "replay" {
				text = "only the replay raises it: " + d.Cause
			}
			causes[text]++
			if all {
				fmt.Fprintf(w, "%s  %s  %s\n", d.At.Local().Format(time.DateTime), o.Subject, text)
			}
		}
	}
	if all {
		return
	}
	for _, text := range slices.Sorted(maps.Keys(causes)) {
		fmt.Fprintf(w, "%d × %s\n", causes[text], text)
	}
}

func printReplay(w io.Writer, sum client.ReplaySummary) {
	fmt.Fprintf(w, "%s to %s, %s, %s readings in %.2f s\n\n", sum.From.Local().Format("2006-01-02 15:04"), sum.To.Local().Format("2006-01-02 15:04"),
		plural(sum.Devices, "device"), num(float64(sum.Readings), 0), sum.Seconds)
	cells := [][]string{{"", "ALARMS", "A DAY", "CHATTERING", "RAISED", "HEADSPACE LOST"}}
	row := func(name string, x *client.ReplaySide) {
		chatter := "none"
		if x.Chatter > 0 {
			chatter = fmt.Sprintf("%s, %d", plural(x.Chatter, "device"), x.Chattering)
		}
		lost := "–"
		if x.Lost != nil {
			lost = fmt.Sprintf("%.0f %%", *x.Lost*100)
		}
		cells = append(cells, []string{name, fmt.Sprint(x.Alarms), fmt.Sprintf("%.1f", x.ADay), chatter, short(time.Duration(x.Raised * float64(time.Second))), lost})
	}
	if sum.InForce == nil || sum.InForce.Alarms == sum.This.Alarms && sum.InForce.Raised == sum.This.Raised {
		row("this one", &sum.This)
	} else {
		row("in force", sum.InForce)
		row("this one", &sum.This)
	}
	table(w, cells)
	if quiet := quietly(sum.This); quiet != "" {
		fmt.Fprintf(w, "\n%s\n", quiet)
	}
	for _, x := range sum.Responses {
		fmt.Fprintf(w, "\nit %s: %s on %s", x.Does, plural(x.Acts, "time"), plural(x.Devices, "device"))
		if x.Seconds > 0 {
			fmt.Fprintf(w, ", for %s", short(time.Duration(x.Seconds*float64(time.Second))))
		}
		if x.HeldBack > 0 {
			fmt.Fprintf(w, "; held back %s by its limit an hour", plural(x.HeldBack, "time"))
		}
		if x.Nowhere > 0 {
			fmt.Fprintf(w, "; for %s there was no device to act on", plural(x.Nowhere, "alarm"))
		}
		fmt.Fprintln(w)
	}
	if sum.Live != nil {
		fmt.Fprintf(w, "\nlive has raised %d; %s\n", *sum.Live, plural(sum.Differences, "difference"))
	}
}

// quietly says how many alarms would have called nobody, and why; empty for none.
func quietly(x client.ReplaySide) string {
	var out []string
	for _, why := range []struct {
		n    int
		word string
	}{{x.Suppressed, "were suppressed by design"}, {x.OutOfService, "were out of service for maintenance"}} {
		if why.n > 0 {
			out = append(out, fmt.Sprintf("%d %s", why.n, why.word))
		}
	}
	if len(out) == 0 {
		return ""
	}
	return "when they were raised, " + strings.Join(out, " and ") + "; these would have called nobody"
}

func replayColumns(sum client.ReplaySummary) []column[client.ReplayOne] {
	out := []column[client.ReplayOne]{
		{"on", func(o client.ReplayOne) string { return o.Subject }},
		{"readings", func(o client.ReplayOne) string { return fmt.Sprint(o.Readings) }},
	}
	if sum.InForce != nil {
		out = append(out, column[client.ReplayOne]{"in force", func(o client.ReplayOne) string {
			if o.InForce == nil {
				return ""
			}
			return fmt.Sprint(o.InForce.Alarms)
		}})
	}
	return append(out,
		column[client.ReplayOne]{"alarms", func(o client.ReplayOne) string { return fmt.Sprint(o.This.Alarms) }},
		column[client.ReplayOne]{"chattering", func(o client.ReplayOne) string { return fmt.Sprint(o.This.Chattering) }},
		column[client.ReplayOne]{"raised", func(o client.ReplayOne) string { return short(time.Duration(o.This.Raised * float64(time.Second))) }})
}

// short writes how long something was in two parts at most.
func short(d time.Duration) string {
	d = d.Round(time.Second)
	two := func(n time.Duration, unit string, rest time.Duration, small string) string {
		if rest == 0 {
			return fmt.Sprintf("%d %s", n, unit)
		}
		return fmt.Sprintf("%d %s %d %s", n, unit, rest, small)
	}
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", d/time.Second)
	case d < time.Hour:
		return two(d/time.Minute, "min", d%time.Minute/time.Second, "s")
	case d < 48*time.Hour:
		return two(d/time.Hour, "h", d%time.Hour/time.Minute, "min")
	}
	return two(d/(24*time.Hour), "d", d%(24*time.Hour)/time.Hour, "h")
}
