package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/lifecycle"
	"ullage/core/series"
	"ullage/core/value"
)

func alarmCommand() *cobra.Command {
	var f client.AlarmFilter
	listing := &cobra.Command{
		Use: "list", Short: "List open alarms", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			as, err := cl.Alarms(c.Context(), f)
			if err != nil {
				return err
			}
			return listPage(c, as, "No alarm is open.",
				column[client.Alarm]{"alarm", func(a client.Alarm) string { return a.ID }},
				column[client.Alarm]{"priority", func(a client.Alarm) string { return a.Priority }},
				column[client.Alarm]{"state", func(a client.Alarm) string { return a.State }},
				column[client.Alarm]{"raised", func(a client.Alarm) string { return ago(&a.RaisedAt) }},
				column[client.Alarm]{"times", func(a client.Alarm) string { return fmt.Sprint(a.Times) }},
				column[client.Alarm]{"on", func(a client.Alarm) string { return a.Device + a.Group }},
				column[client.Alarm]{"measured", measuredThenNow},
				column[client.Alarm]{"message", func(a client.Alarm) string { return a.Message }})
		},
	}
	logFlags(listing, &f.LogFilter, 100)
	listing.Flags().BoolVar(&f.All, "all", false, "closed ones too")
	listing.Flags().StringVar(&f.Rule, "rule", "", "only of this rule")
	listing.RegisterFlagCompletionFunc("rule", ruleThings.names())
	listing.Flags().StringSliceVar(&f.States, "state", nil, "only in these states, with commas, like shelved,suppressed")
	listing.Flags().StringSliceVar(&f.Priorities, "priority", nil, "only of these priorities, with commas, like urgent,high")
	listing.RegisterFlagCompletionFunc("priority", cobra.FixedCompletions([]string{"urgent", "high", "medium", "low"}, cobra.ShellCompDirectiveNoFileComp))
	listing.RegisterFlagCompletionFunc("state", cobra.FixedCompletions(alarmStates(), cobra.ShellCompDirectiveNoFileComp))
	return noun(groupAlarm, "alarm", "See alarms, acknowledge, shelve and comment on them", listing, alarmShow(), alarmAct("acknowledge", "Acknowledge alarms", ""),
		alarmShelve(), alarmAct("unshelve", "Take alarms off the shelf", ""), alarmAct("reset", "Reset latched alarms", "A rule may let its alarms latch: they stay when the condition has gone, until\nsomebody resets them. What still holds is not reset."), alarmComment(), alarmShelves(), alarmHandover(), alarmPerformance())
}

func alarmStates() []string {
	var out []string
	for _, x := range lifecycle.States {
		out = append(out, string(x))
	}
	return out
}

// alarmAct is a verb that does something about alarms, or about all that a condition
// chooses.
func alarmAct(verb, short, long string) *cobra.Command {
	c, run := alarmsActed(verb+" ALARM…", short)
	c.Long = long
	c.RunE = func(c *cobra.Command, args []string) error { return run(c, args, client.AlarmActs{Act: verb}) }
	return c
}

// alarmsActed returns a command about alarms by their ids, or by a condition over their
// devices, a rule, or both; and what carries it out.
func alarmsActed(use, short string) (*cobra.Command, func(*cobra.Command, []string, client.AlarmActs) error) {
	var f client.AlarmFilter
	var dry, yes bool
	c := &cobra.Command{Use: use, Short: short, ValidArgsFunction: alarmNames}
	where := whereFlag(c)
	c.Flags().StringVar(&f.Rule, "rule", "", "all open alarms of this rule")
	c.RegisterFlagCompletionFunc("rule", ruleThings.names())
	c.Flags().BoolVar(&dry, "dry-run", false, "say which alarms it would be, and do nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c, func(c *cobra.Command, ids []string, act client.AlarmActs) error {
		cl, err := connect(c)
		if err != nil {
			return err
		}
		chosen := *where != "" || f.Rule != ""
		switch {
		case len(ids) > 0 && chosen:
			return usageError{fmt.Errorf("alarms by their ids and by a condition are named; name them one way")}
		case len(ids) == 0 && !chosen:
			return usageError{fmt.Errorf("no alarm is named; name some, or choose them with --where or --rule; see: ullage alarm list")}
		}
		if chosen {
			f.Where, f.Limit = *where, 5000
			open, err := cl.Alarms(c.Context(), f)
			if err != nil {
				return err
			}
			for _, a := range open.Items {
				if act.Act != "acknowledge" || a.MayAcknowledge {
					ids = append(ids, a.ID)
				}
			}
			if len(ids) == 0 {
				fmt.Fprintln(c.OutOrStdout(), "No alarm is like that.")
				return nil
			}
		}
		if dry {
			fmt.Fprintf(c.OutOrStdout(), "%s: %s\n", plural(len(ids), "alarm"), strings.Join(ids, " "))
			return nil
		}
		if chosen && len(ids) > 1 && !yes {
			if err := confirm(c, fmt.Sprintf("%s %s?", strings.ToUpper(act.Act[:1])+act.Act[1:], plural(len(ids), "alarm"))); err != nil {
				return err
			}
		}
		act.Alarms = ids
		done, err := cl.ActOnAlarms(c.Context(), act)
		if err != nil {
			return err
		}
		if len(done) == 1 && done[0].Error != "" {
			return errors.New(done[0].Error)
		}
		failed := 0
		for _, x := range done {
			if x.Error != "" {
				failed++
			}
		}
		if err := list(c, done, "nothing was done",
			column[client.AlarmActed]{"alarm", func(x client.AlarmActed) string { return x.Alarm }},
			column[client.AlarmActed]{"state", func(x client.AlarmActed) string { return x.State }},
			column[client.AlarmActed]{"why not", func(x client.AlarmActed) string { return x.Error }}); err != nil {
			return err
		}
		if format, _ := c.Flags().GetString("output"); act.Act == "acknowledge" && (format == "" || format == "table") {
			w := newSafe(c.OutOrStdout(), rawOutput(c))
			for _, x := range done {
				if x.Response != "" {
					fmt.Fprintf(w, "%s, do: %s\n", x.Alarm, x.Response)
				}
			}
		}
		if failed > 0 {
			return fmt.Errorf("nothing was done about %d of %s", failed, plural(len(done), "alarm"))
		}
		return nil
	}
}

func alarmShelve() *cobra.Command {
	var span, until, why string
	c, run := alarmsActed("shelve ALARM…", "Let alarms stand aside until a time")
	c.Long = `A shelved alarm calls nobody until a time, and comes back by itself then. The
shelf is of the rule on the device: what comes up meanwhile is shelved too. What
is true does not change by it.`
	c.Example = "  ullage alarm shelve 01J8Z0A2 --for 2h --why 'the probe is being cleaned'\n  ullage alarm shelve --rule probe_silent --where 'label.site == \"Saltmarsh\"' --for 1d"
	c.RunE = func(c *cobra.Command, args []string) error {
		act := client.AlarmActs{Act: "shelve", For: span, Text: why}
		if until != "" {
			t, err := time.Parse(time.RFC3339, until)
			if err != nil {
				return usageError{fmt.Errorf("--until is %q; write a time like 2026-03-01T10:00:00Z", until)}
			}
			act.Until = &t
		}
		if span == "" && until == "" {
			return usageError{fmt.Errorf("an alarm is shelved until a time; say --for 2h, or --until")}
		}
		return run(c, args, act)
	}
	c.Flags().StringVar(&span, "for", "", "for how long, like 2h; 31d at most")
	c.Flags().StringVar(&until, "until", "", "until when, instead")
	c.Flags().StringVar(&why, "why", "", "why, for whoever comes next")
	return c
}

func alarmComment() *cobra.Command {
	var text string
	c, run := alarmsActed("comment ALARM…", "Say something about alarms, open or closed")
	c.Example = "  ullage alarm comment 01J8Z0A2 --text 'the valve was stuck, freed by hand'"
	c.RunE = func(c *cobra.Command, args []string) error {
		if strings.TrimSpace(text) == "" {
			return usageError{fmt.Errorf("the comment is empty; say it with --text")}
		}
		return run(c, args, client.AlarmActs{Act: "comment", Text: text})
	}
	c.Flags().StringVar(&text, "text", "", "the comment")
	return c
}

func alarmShelves() *cobra.Command {
	return &cobra.Command{Use: "shelves", Short: "List what is shelved now, and until when", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			xs, err := cl.Shelves(c.Context())
			if err != nil {
				return err
			}
			return list(c, xs, "Nothing is shelved.",
				column[client.Shelf]{"rule", func(x client.Shelf) string { return x.Rule }},
				column[client.Shelf]{"on", func(x client.Shelf) string { return x.Subject }},
				column[client.Shelf]{"until", func(x client.Shelf) string { return localTime(x.Until) }},
				column[client.Shelf]{"by", func(x client.Shelf) string { return x.By }},
				column[client.Shelf]{"why", func(x client.Shelf) string { return x.Why }})
		}}
}

func alarmShow() *cobra.Command {
	return &cobra.Command{Use: "show ALARM", Short: "Show an alarm, what to do about it, and what happened to it", Args: exactly(1, "one alarm"), ValidArgsFunction: alarmNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			a, err := cl.Alarm(c.Context(), args[0])
			if err != nil {
				return err
			}
			told, err := cl.Journal(c.Context(), client.JournalFilter{LogFilter: client.LogFilter{Limit: 100}, Alarm: a.ID})
			if err != nil {
				return err
			}
			return show(c, a, func(w io.Writer) {
				fmt.Fprintf(w, "%s\n\n", a.Message)
				for _, x := range [][2]string{{"rule", a.Rule}, {"on", a.Device + a.Group}, {"priority", a.Priority}, {"state", a.State}, {"why", besides(a)},
					{"measured", measuredThenNow(a)}, {"cause", a.Cause}, {"response", a.Response}} {
					if x[1] != "" {
						fmt.Fprintf(w, "%-10s %s\n", x[0], x[1])
					}
				}
				fmt.Fprintln(w)
				for i := len(told.Items) - 1; i >= 0; i-- {
					e := told.Items[i]
					who := ""
					if e.Person != "" {
						who = e.Person + " "
					}
					fmt.Fprintf(w, "%s  %s%s\n", e.At.Local().Format(time.DateTime), who, e.Text)
				}
			})
		}}
}

// besides says why an alarm stands aside.
func besides(a client.Alarm) string {
	switch {
	case a.Maintenance != "":
		return "for the maintenance " + a.Maintenance
	case a.SuppressedBy != "":
		return "suppressed by " + strings.TrimPrefix(a.SuppressedBy, "by ")
	case a.Shelved != nil:
		text := fmt.Sprintf("%s has shelved it until %s", a.Shelved.By, localTime(a.Shelved.Until))
		if a.Shelved.Why != "" {
			text += ": " + a.Shelved.Why
		}
		return text
	}
	return ""
}

// measuredThenNow says what was measured when an alarm was raised, and what is now.
func measuredThenNow(a client.Alarm) string {
	was, ok := a.Value.(float64)
	if !ok || a.Metric == "" {
		return ""
	}
	short := func(f float64) string {
		s := strconv.FormatFloat(f, 'g', 6, 64)
		if strings.Contains(s, "e") {
			return s
		}
		return value.Spaced(s)
	}
	text := short(was)
	if a.Now != nil {
		text += ", now " + short(*a.Now)
	}
	return strings.TrimSpace(text + " " + a.Display)
}

func journalCommand() *cobra.Command {
	var f client.JournalFilter
	span := ""
	listing := &cobra.Command{
		Use: "list", Short: "List what happened, the newest first", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if span != "" {
				if f.From, f.To, err = series.ParseSpan(span, time.Now(), time.Local); err != nil {
					return usageError{fmt.Errorf("--span: %w", err)}
				}
			}
			es, err := cl.Journal(c.Context(), f)
			var p *client.Problem
			if errors.As(err, &p) && p.Code == "invalid" {
				return usageError{err} // a word that does not exist
			}
			if err != nil {
				return err
			}
			return listPage(c, es, "The journal has nothing like that.",
				column[client.JournalEntry]{"at", func(e client.JournalEntry) string {
					return e.At.Local().Format(time.DateTime)
				}},
				column[client.JournalEntry]{"kind", func(e client.JournalEntry) string { return string(e.Kind) }},
				column[client.JournalEntry]{"device", func(e client.JournalEntry) string { return e.Device }},
				column[client.JournalEntry]{"what", func(e client.JournalEntry) string { return e.Text }})
		},
	}
	logFlags(listing, &f.LogFilter, 50)
	listing.Flags().StringVar(&f.Kind, "kind", "", `only of this kind, like "alarm raised"`)
	listing.Flags().StringVar(&f.Alarm, "alarm", "", "only about this alarm, by its id")
	listing.Flags().StringVar(&f.Rule, "rule", "", "only about this rule")
	listing.Flags().StringVar(&f.Person, "person", "", `only what this person did, or "key NAME"`)
	listing.Flags().StringVar(&f.Noun, "noun", "", "only about this kind of thing, like rule")
	listing.Flags().StringVar(&span, "span", "", "only of this time, like 6h, yesterday or 2026-03-01..2026-03-03")
	listing.RegisterFlagCompletionFunc("kind", journalKinds)
	return noun(groupService, "journal", "Read what happened", listing, followCommand())
}

// followCommand prints what happens as it happens, and says where it has got to.
func followCommand() *cobra.Command {
	var after int64
	c := &cobra.Command{
		Use: "follow", Short: "Print what happens, each entry once and in order",
		Long: `Prints what happens from now on, or behind the number given with --after. Each
entry has a number; a program that keeps the number it has got to goes on there
and misses nothing, also after the service was restarted.`,
		Example: "  ullage journal follow\n  ullage journal follow --after 1200 -o json",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if !c.Flags().Changed("after") {
				newest, err := cl.Journal(c.Context(), client.JournalFilter{LogFilter: client.LogFilter{Limit: 1}})
				if err != nil {
					return err
				}
				if len(newest.Items) > 0 {
					after = newest.Items[0].Number
				}
			}
			format, _ := c.Flags().GetString("output")
			for {
				es, err := cl.JournalAfter(c.Context(), after, 1000, "30s")
				if err != nil {
					if c.Context().Err() != nil {
						return nil
					}
					return err
				}
				for _, e := range es {
					after = e.Number
					if format == "table" || format == "" {
						fmt.Fprintf(newSafe(c.OutOrStdout(), rawOutput(c)), "%d  %s  %-20s %-24s %s\n", e.Number,
							e.At.Local().Format(time.DateTime), e.Kind, e.Device+e.Group, oneLine(e.Text))
					} else if err := json.NewEncoder(c.OutOrStdout()).Encode(e); err != nil {
						return err
					}
				}
			}
		},
	}
	c.Flags().Int64Var(&after, "after", 0, "begin behind this number; at the end if not given")
	return c
}

var journalKinds = complete(func(c *cobra.Command, cl *client.Client) ([]string, error) {
	return cl.JournalKinds(c.Context())
})
