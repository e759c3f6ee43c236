package cli

import (
	"fmt"
	"io"
	"math"

	"github.com/spf13/cobra"

	"ullage/client"
)

// notable is the deviation from which on something is other than before.
const notable = 3

func deviceDifferent() *cobra.Command {
	var span, metric string
	c := &cobra.Command{
		Use: "different DEVICE", Short: "Tell what was other on a device in a span than before it", Args: exactly(1, "one device"),
		ValidArgsFunction: deviceNames,
		Long: `Compares each metric of a device, and each of its peers in one of them, with what it was
before the span: three times as long, and a day at least. Deviations are differences of
medians, in spreads of before; 3 and more is other than before. Peers are devices of the
same model and stage. Beside them stands what happened.`,
		Example: "  ullage device different tank-fennimore-04 --span 2h\n  ullage device different air-kilnside-2 --span 2026-09-12T02:00..3h --metric co2",
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			d, err := cl.InOwnUnits().Different(c.Context(), args[0], metric, span)
			if err != nil {
				return err
			}
			return show(c, d, func(w io.Writer) { printDifferent(w, args[0], d) })
		},
	}
	c.Flags().StringVar(&span, "span", "2h", "when: 2h until now, yesterday, 2026-09-12T02:00..3h")
	c.Flags().StringVar(&metric, "metric", "", "metric by which peers are compared; the one that deviates most if it is left out")
	return c
}

func printDifferent(w io.Writer, id string, d client.Different) {
	fmt.Fprintf(w, "%s from %s to %s, beside what was since %s\n\n", id, d.From.Local().Format("2006-01-02 15:04"), d.To.Local().Format("2006-01-02 15:04"), d.Before.Local().Format("2006-01-02 15:04"))
	if len(d.Metrics) == 0 {
		fmt.Fprintln(w, "There are too few readings in the span, or before it, to compare.")
	} else {
		rows := [][]string{{"METRIC", "WAS", "IS", "DEVIATION"}}
		for _, x := range d.Metrics {
			rows = append(rows, []string{x.Metric, amountOf(x.Was, x), amountOf(x.Is, x), deviation(x.Deviation)})
		}
		table(w, rows)
	}
	if len(d.Peers) > 0 {
		fmt.Fprintf(w, "\nThe same of %s of %s; %d deviate as it does\n\n", d.Metric, plural(len(d.Peers), "peer"), d.Alike)
		rows := [][]string{{"PEER", "WAS", "IS", "DEVIATION"}}
		for _, x := range d.Peers[:min(len(d.Peers), 10)] {
			rows = append(rows, []string{x.Device, amountOf(x.Was, x), amountOf(x.Is, x), deviation(x.Deviation)})
		}
		table(w, rows)
	}
	if len(d.Facts) == 0 {
		fmt.Fprintln(w, "\nThe journal has nothing of the device and its hub in that time.")
		return
	}
	fmt.Fprintln(w, "\nWhat happened")
	for _, f := range d.Facts {
		fmt.Fprintf(w, "  %s  %s\n", f.At.Local().Format("2006-01-02 15:04"), f.Text)
	}
}

func amountOf(v float64, x client.Differing) string {
	s := fmt.Sprintf("%.*f", max(x.Decimals, 0), v)
	if x.Unit != "" {
		s += " " + x.Unit
	}
	return s
}

// deviation writes a deviation, with a mark where it is other than before.
func deviation(v float64) string {
	s := fmt.Sprintf("%+.1f", v)
	if math.Abs(v) >= 1000 {
		s = fmt.Sprintf("%+.0f", v)
	}
	if math.Abs(v) >= notable {
		s += " !"
	}
	return s
}
