package cli

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"ullage/core/value"
)

func deviceSnapshot() *cobra.Command {
	var span, until, file string
	c := &cobra.Command{
		Use: "snapshot DEVICE", Short: "Write everything about a device over a span into one HTML file", Args: exactly(1, "one device"), ValidArgsFunction: deviceNames,
		Long: `Writes one HTML file for a ticket, or for whoever builds the device: what it is, its
readings drawn, its settings, alarms, journal, commands, messages and log over a span. The
file works without the service and without a script, and has no secret in it.`,
		Example: "  ullage device snapshot tank-fennimore-07 --span 6h --file tank-fennimore-07.html",
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			width, err := value.ParseDuration(span)
			if err != nil {
				return usageError{fmt.Errorf("--span: %w", err)}
			}
			to := time.Now()
			if until != "" {
				if to, err = moment("until", until); err != nil {
					return err
				}
			}
			b, err := cl.Snapshot(c.Context(), args[0], to.Add(-width.Std()), to)
			if err != nil {
				return err
			}
			if file == "-" {
				_, err = c.OutOrStdout().Write(b)
				return err
			}
			if file == "" {
				file = fmt.Sprintf("%s-%s.html", args[0], to.Format("20060102-1504"))
			}
			if err := os.WriteFile(file, b, 0o600); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s is written: %d kB\n", file, (len(b)+999)/1000)
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&span, "span", "24h", "how much of the past it tells of")
	f.StringVar(&until, "until", "", "where that ends: a time, or how long ago, like 2h; now if left out")
	f.StringVar(&file, "file", "", "where it is written; - for standard output; named after the device and the time if left out")
	return c
}
