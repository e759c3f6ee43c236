package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

func readingCommand() *cobra.Command {
	return noun(groupConnect, "reading", "Delete readings of devices", readingDelete())
}

func readingDelete() *cobra.Command {
	var w client.Unwanted
	var from, to string
	var yes bool
	c := &cobra.Command{
		Use:   "delete DEVICE [METRIC…]",
		Short: "Delete readings of a device: of some metrics, of a span, or all of them",
		Long: `Deletes readings for good, after it has shown how many there are and asked. What
was summed up of them goes too, and the space is given back. With metrics only
those are touched; with --from and --to only that span. --all deletes every
reading of the device, and its messages in the traffic log. The journal tells who
did it. Readings that are only too old go by themselves: see the retention of the
model.`,
		Example: "  ullage reading delete tank-fennimore-07 must_temp --from 2026-03-01T10:00 --to 2026-03-01T11:30\n" +
			"  ullage reading delete tank-fennimore-07 --all --dry-run",
		Args: atLeast(1, "a device, and metrics"), ValidArgsFunction: queryWords,
		RunE: func(c *cobra.Command, args []string) error {
			w.Metrics = args[1:]
			var err error
			if w.From, err = given("from", from); err == nil {
				w.To, err = given("to", to)
			}
			if err != nil {
				return err
			}
			if some := len(w.Metrics) > 0 || from+to != ""; some == w.All {
				return usageError{fmt.Errorf("say which readings: metrics, --from, --to, or --all and nothing else")}
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			dry := w.DryRun
			if w.DryRun = true; !yes || dry {
				d, err := cl.DeleteReadings(c.Context(), args[0], w)
				if err != nil {
					return err
				}
				if dry || d.Readings+int64(d.Traffic)+int64(len(d.Metrics)) == 0 {
					return show(c, d, func(w io.Writer) { printDeletion(w, d) })
				}
				printDeletion(c.ErrOrStderr(), d)
				if err := confirm(c, fmt.Sprintf("Delete %s for good?", counted(int(d.Readings), "reading"))); err != nil {
					return err
				}
			}
			w.DryRun = false
			d, err := cl.DeleteReadings(c.Context(), args[0], w)
			if err != nil {
				return err
			}
			return show(c, d, func(w io.Writer) { printDeletion(w, d) })
		},
	}
	c.Flags().StringVar(&from, "from", "", "start: so long ago, like 2h, or a time, like 2026-03-01T10:00")
	c.Flags().StringVar(&to, "to", "", "end, not included, in the same forms")
	c.Flags().BoolVar(&w.All, "all", false, "all readings of the device, and its traffic")
	c.Flags().BoolVar(&w.DryRun, "dry-run", false, "only say what would be deleted")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// given reads a time that may be left out.
func given(flag, s string) (time.Time, error) {
	if s == "" {
		return time.Time{}, nil
	}
	return moment(flag, s)
}

func printDeletion(w io.Writer, d client.Deletion) {
	verb := "deleted"
	if d.DryRun {
		verb = "would be deleted"
	}
	if len(d.Metrics) == 0 && d.Traffic == 0 {
		fmt.Fprintf(w, "Nothing is stored of %s in that span, so nothing %s.\n", d.Device, verb)
		return
	}
	cells := [][]string{{"METRIC", "READINGS", "FIRST", "LAST"}}
	for _, m := range d.Metrics {
		line := []string{m.Metric, count(m.Readings), "", ""}
		for i, at := range []*time.Time{m.First, m.Last} {
			if at != nil {
				line[2+i] = at.Local().Format(time.DateTime)
			}
		}
		cells = append(cells, line)
	}
	table(w, cells)
	text := counted(int(d.Readings), "reading") + " of " + d.Device
	if d.Traffic > 0 {
		text += " and " + counted(d.Traffic, "message") + " of its traffic"
	}
	fmt.Fprintf(w, "%s %s.\n", text, verb)
}
