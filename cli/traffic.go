package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/record"
)

func trafficCommand() *cobra.Command {
	var once bool
	var last int
	var where *string
	var since, until string
	var f client.TrafficFilter
	c := &cobra.Command{
		Use:     "traffic [DEVICE]",
		Short:   "Watch raw messages pass, with what became of each",
		Long:    "Shows the latest raw messages of the fleet or of one device, then each one as it passes, with the reason where something was refused.\n\nWith --since it shows what has passed since then, of what the service keeps, and ends.\nThe fields that --match may speak of are\n" + strings.Join(messageFields(), ", ") + ".",
		Example: "  ullage traffic tank-fennimore-07\n  ullage traffic --refused --once\n  ullage traffic tank-fennimore-07 --since 12h --match 'topic == \"readings\"' --text must_temp",
		GroupID: groupConnect,
		Args:    between(0, 1, "one name at most"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			device := ""
			if len(args) == 1 {
				device = args[0]
				if _, err := cl.Device(c.Context(), device); err != nil {
					return err
				}
			}
			f.Device, f.Where, f.Limit = device, *where, last
			if since != "" || until != "" {
				return pastTraffic(c, cl, f, since, until)
			}
			es, _, err := cl.Traffic(c.Context(), f)
			if err != nil {
				return err
			}
			slices.Reverse(es)
			if once {
				return show(c, es, func(w io.Writer) { printTraffic(w, es) })
			}
			if format, _ := c.Flags().GetString("output"); format != "table" && format != "json" {
				return usageError{fmt.Errorf("what goes on without end is a table or json; add --once for %s", format)}
			}
			var after uint64
			for {
				if err := render(c, es, func(w io.Writer) error {
					printTraffic(w, es)
					return nil
				}); err != nil && len(es) > 0 {
					return err
				}
				if len(es) > 0 {
					after = es[len(es)-1].Seq
				}
				select {
				case <-c.Context().Done():
					return nil
				case <-time.After(400 * time.Millisecond):
				}
				f.After, f.Limit = after, 500
				if es, _, err = cl.Traffic(c.Context(), f); err != nil {
					if c.Context().Err() != nil {
						return nil
					}
					return err
				}
				slices.Reverse(es)
			}
		},
	}
	where = whereFlag(c)
	c.Flags().BoolVar(&f.Refused, "refused", false, "only where something was refused")
	c.Flags().StringVar(&f.Text, "text", "", "only messages that hold this text, in letters of either size")
	c.Flags().StringVar(&f.Match, "match", "", "only messages for which this condition over their fields is true")
	c.Flags().StringVar(&since, "since", "", "what has passed since so long ago, like 12h, or since a time, like 2026-03-01T22:00")
	c.Flags().StringVar(&until, "until", "", "with --since: only up to so long ago, or up to a time")
	c.Flags().BoolVar(&once, "once", false, "show what there is and end")
	amountFlag(c, &last, "last", 0, 20, "how many of the latest to begin with")
	return c
}

// messageFields are the fields of a message, for conditions.
func messageFields() []string {
	var out []string
	for _, f := range record.Fields[client.TrafficEntry]() {
		out = append(out, f.Name)
	}
	return out
}

// maxPast is how many messages of the past are shown at once; what has passed since a
// shorter while ago, or matches a condition, is fewer.
const maxPast = 20_000

// pastTraffic shows what has passed within a span, the oldest first.
func pastTraffic(c *cobra.Command, cl *client.Client, f client.TrafficFilter, since, until string) (err error) {
	if since != "" {
		if f.From, err = moment("since", since); err != nil {
			return err
		}
	}
	if until != "" {
		if f.To, err = moment("until", until); err != nil {
			return err
		}
	}
	f.Limit = 1000
	bar := newProgress(c.ErrOrStderr(), "searching", "messages found")
	defer bar.finish()
	var all []client.TrafficEntry
	for {
		es, before, err := cl.Traffic(c.Context(), f)
		if err != nil {
			return err
		}
		all = append(all, es...)
		if bar.set(len(all), -1); before == 0 {
			break
		}
		if f.Before = before; len(all) >= maxPast {
			fmt.Fprintf(c.ErrOrStderr(), "Only the latest %d are shown; narrow it with --until, --text or --match.\n", len(all))
			break
		}
	}
	slices.Reverse(all)
	return show(c, all, func(w io.Writer) {
		if len(all) == 0 {
			fmt.Fprintln(w, "Nothing like that has passed then, as far back as it is kept.")
		}
		printTraffic(w, all)
	})
}

// clockOf is how the time of a message is written: with its day where that is not today.
func clockOf(at time.Time) string {
	if at.Local().Format(time.DateOnly) != time.Now().Format(time.DateOnly) {
		return "2006-01-02 15:04:05.000"
	}
	return "15:04:05.000"
}

func printTraffic(w io.Writer, es []client.TrafficEntry) {
	for _, e := range es {
		arrow := "↑"
		if e.Direction == "down" {
			arrow = "↓"
		}
		who := e.Device
		if who == "" {
			who = "stranger"
			if e.Claimed != "" {
				who += " as " + e.Claimed
			}
		}
		body := oneLine(e.Body)
		if width := terminalWidth(w); width > 80 && len([]rune(body)) > width-56 {
			body = string([]rune(body)[:width-57]) + "…"
		}
		fmt.Fprintf(w, "%s %s %-4s %-23s %-9s %s\n", e.At.Local().Format(clockOf(e.At)), arrow, e.Transport, oneLine(who),
			oneLine(e.Topic), body)
		mark := func(s string) { fmt.Fprintln(w, paint(w, "31", "             ✗ "+oneLine(s))) }
		if e.Reason != "" {
			ref := ""
			if e.Ref != "" {
				ref = " (the stranger was told ref " + e.Ref + ")"
			}
			mark(e.Reason + ref)
		}
		for _, f := range e.Refused {
			if f.Sentence != e.Reason {
				mark(f.Pointer + " " + f.Sentence)
			}
		}
		for _, f := range e.Marked {
			fmt.Fprintln(w, paint(w, "33", "             ! "+oneLine(f.Pointer+" "+f.Sentence)))
		}
		if e.Note != "" {
			fmt.Fprintln(w, "               "+oneLine(e.Note))
		}
	}
}
