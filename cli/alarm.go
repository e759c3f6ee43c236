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
	ack := &cobra.Command{
		Use: "acknowledge ALARM…", Short: "Acknowledge alarms", Args: atLeast(1,
			"one alarm or more"), ValidArgsFunction: alarmNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			var out []client.Alarm
			for _, id := range args {
				a, err := cl.Acknowledge(c.Context(), id)
				if err != nil {
					return err
				}
				out = append(out, a)
			}
			return show(c, out, func(w io.Writer) {
				for _, a := range out {
					fmt.Fprintf(w, "%s on %s is %s\n", a.Rule, a.Device+a.Group, a.State)
					if a.Response != "" && a.State != "normal" {
						fmt.Fprintf(w, "  do: %s\n", a.Response)
					}
				}
			})
		},
	}
	return noun(groupAlarm, "alarm", "See and acknowledge alarms", listing, ack)
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
