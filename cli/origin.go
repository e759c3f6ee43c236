package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

func deviceOrigin() *cobra.Command {
	var when string
	c := &cobra.Command{
		Use: "origin DEVICE METRIC", Short: "Show where a reading is from: its message, or what it was derived from", Args: exactly(2, "a device and a metric"),
		ValidArgsFunction: deviceNames,
		Long: `Shows of the newest reading of a metric, or of the newest at or before a time: when it was
taken and when it came, the message that brought it as the device has sent it, the readings
from which it was derived, its marks, and the limits that rules set it.`,
		Example: "  ullage device origin tank-fennimore-07 must_temp",
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			var at time.Time
			if when != "" {
				if at, err = moment("at", when); err != nil {
					return err
				}
			}
			o, err := cl.Origin(c.Context(), args[0], args[1], at)
			if err != nil {
				return err
			}
			return show(c, o, func(w io.Writer) { printOrigin(w, o) })
		},
	}
	c.Flags().StringVar(&when, "at", "", "a time, or how long ago, such as 2h; now if not given")
	return c
}

func printOrigin(w io.Writer, o client.Origin) {
	rows := [][]string{{o.Metric, withUnit(o.Value, o.Unit)}, {"taken", o.At.Local().Format("2006-01-02 15:04:05.000")}}
	if o.Arrived != nil {
		rows = append(rows, []string{"arrived", o.Arrived.Local().Format("2006-01-02 15:04:05.000")})
	}
	for _, q := range o.Quality {
		rows = append(rows, []string{"marked", q})
	}
	if o.Derived != "" {
		rows = append(rows, []string{"derived", o.Derived})
	}
	for _, x := range o.Inputs {
		rows = append(rows, []string{"from", fmt.Sprintf("%s %s", x.Metric, plain(x.Value))})
	}
	for _, x := range o.Limits {
		side := "above"
		if !x.Upward {
			side = "below"
		}
		rows = append(rows, []string{"rule", fmt.Sprintf("%s: alarm %s %s", x.Rule, side, withUnit(x.Limit, o.Unit))})
	}
	if m := o.Message; m != nil {
		rows = append(rows, []string{"message", fmt.Sprintf("%d, %s over %s, %d bytes", m.Seq, m.Topic, m.Transport, m.Size)}, []string{"", m.Body})
	} else {
		rows = append(rows, []string{"message", o.Gone})
	}
	table(w, rows)
}
