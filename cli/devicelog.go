package cli

import (
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

func deviceLog() *cobra.Command {
	var level, text, since string
	var last int
	var follow bool
	c := &cobra.Command{
		Use: "log DEVICE", Short: "Show what a device has written into its log", Args: exactly(1, "one device"), ValidArgsFunction: deviceNames,
		Long: `Shows the latest lines of the log of a device, the oldest first. Devices send them on the
topic log, or to POST /device/v1/log: lines of text, or {"level":"warn","text":"…"}. How many
are kept, and for how long, is said by the model.`,
		Example: "  ullage device log hub-kilnside --level warn\n  ullage device log tank-fennimore-04 --text radio --since 2h\n  ullage device log hub-kilnside --follow",
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			f := client.LogLineFilter{Level: level, Text: text, Limit: last}
			if since != "" {
				if f.From, err = moment("since", since); err != nil {
					return err
				}
			}
			got, err := cl.Log(c.Context(), args[0], f)
			if err != nil {
				return err
			}
			slices.Reverse(got.Lines)
			if !follow {
				return show(c, got, func(w io.Writer) {
					if len(got.Lines) == 0 {
						fmt.Fprintf(w, "There are no such lines. %s writes its log to POST /device/v1/log, or on the topic ullage/%s/log.\n", args[0], args[0])
					}
					printLog(w, got.Lines)
				})
			}
			printLog(c.OutOrStdout(), got.Lines)
			f.After = 0
			for _, l := range got.Lines {
				f.After = max(f.After, l.Number)
			}
			for f.From, f.Wait, f.Limit = (time.Time{}), "30s", 1000; c.Context().Err() == nil; {
				more, err := cl.Log(c.Context(), args[0], f)
				if err != nil {
					if c.Context().Err() != nil {
						return nil
					}
					return err
				}
				printLog(c.OutOrStdout(), more.Lines)
				for _, l := range more.Lines {
					f.After = max(f.After, l.Number)
				}
			}
			return nil
		},
	}
	c.Flags().StringVar(&level, "level", "", "lines of this level and graver ones: debug, info, warn, error")
	c.Flags().StringVar(&text, "text", "", "only lines with this in them")
	c.Flags().StringVar(&since, "since", "", "only from a time on, or for how long back, like 2h")
	amountFlag(c, &last, "last", 1, 100, "how many lines")
	c.Flags().BoolVarP(&follow, "follow", "f", false, "go on with what comes, until Ctrl-C")
	c.RegisterFlagCompletionFunc("level", cobra.FixedCompletions([]string{"debug", "info", "warn", "error"}, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func printLog(w io.Writer, ls []client.LogLine) {
	for _, l := range ls {
		fmt.Fprintf(w, "%s  %-5s  %s\n", l.At.Local().Format("2006-01-02 15:04:05.000"), l.Level, l.Text)
	}
}
