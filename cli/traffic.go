package cli

import (
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

func trafficCommand() *cobra.Command {
	var refused, once bool
	var last int
	var where *string
	c := &cobra.Command{
		Use:     "traffic [DEVICE]",
		Short:   "Watch raw messages pass, with what became of each",
		Long:    "Shows the latest raw messages of the fleet or of one device, then each one as it passes, with the reason where something was refused.",
		Example: "  ullage traffic tank-fennimore-07\n  ullage traffic --refused --once",
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
			es, err := cl.Traffic(c.Context(), device, *where, refused, 0, last)
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
				if es, err = cl.Traffic(c.Context(), device, *where, refused, after, 500); err != nil {
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
	c.Flags().BoolVar(&refused, "refused", false, "only where something was refused")
	c.Flags().BoolVar(&once, "once", false, "show what there is and end")
	c.Flags().IntVar(&last, "last", 20, "how many of the latest to begin with")
	return c
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
		fmt.Fprintf(w, "%s %s %-4s %-23s %-9s %s\n", e.At.Local().Format("15:04:05.000"), arrow, e.Transport, oneLine(who),
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
