package cli

import (
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/value"
)

func queryCommand() *cobra.Command {
	var last, step, from, to string
	var points int
	c := &cobra.Command{
		Use:     "query DEVICE METRIC",
		Short:   "Read a metric over time",
		Long:    "Reads a metric in buckets with least, greatest and mean, over the last day unless told otherwise.",
		Example: "  ullage query tank-fennimore-07 must_temp --last 6h --step 15min",
		GroupID: groupConnect,
		Args:    exactly(2, "a device and a metric"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			span := client.Span{Points: points}
			d, err := value.ParseDuration(last)
			if err != nil {
				return usageError{fmt.Errorf("--last: %w", err)}
			}
			span.To = time.Now()
			for _, x := range []struct {
				text string
				at   *time.Time
				flag string
			}{{to, &span.To, "--to"}, {from, &span.From, "--from"}} {
				if x.text != "" {
					if *x.at, err = time.Parse(time.RFC3339, x.text); err != nil {
						return usageError{fmt.Errorf("%s is %q; write it like 2026-03-01T10:00:00Z", x.flag, x.text)}
					}
				}
			}
			if from == "" {
				span.From = span.To.Add(-d.Std())
			}
			if step != "" {
				s, err := value.ParseDuration(step)
				if err != nil {
					return usageError{fmt.Errorf("--step: %w", err)}
				}
				span.Step = s.Std()
			}
			h, err := cl.History(c.Context(), args[0], args[1], span)
			if err != nil {
				return err
			}
			if format, _ := c.Flags().GetString("output"); format == "csv" {
				return render(c, h.Buckets, nil)
			}
			return show(c, h, func(w io.Writer) { printHistory(w, h) })
		},
	}
	c.Flags().StringVar(&last, "last", "24h", "how far back, like 90min or 7d")
	c.Flags().StringVar(&from, "from", "", "start, in RFC 3339")
	c.Flags().StringVar(&to, "to", "", "end, in RFC 3339")
	c.Flags().StringVar(&step, "step", "", "width of a bucket, like 10min")
	c.Flags().IntVar(&points, "points", 24, "how many buckets to aim at, without --step")
	return c
}

func printHistory(w io.Writer, h client.History) {
	if len(h.Buckets) == 0 {
		fmt.Fprintf(w, "%s of %s has no reading between %s and %s.\nSee what it has with: ullage device show %s\n", h.Metric, h.Device,
			h.From.Local().Format(time.DateTime), h.To.Local().Format(time.DateTime), h.Device)
		return
	}
	fmt.Fprintf(w, "%s of %s, in steps of %s\n%s\n\n", h.Metric, h.Device, h.Step, spark(h))
	cells := [][]string{{"FROM", "COUNT", "LEAST", "MEAN", "GREATEST", "LAST"}}
	for _, b := range h.Buckets {
		line := []string{b.At.Local().Format(time.DateTime), fmt.Sprint(b.Count), num(b.Min, -1), num(b.Mean, 2), num(b.Max, -1), plain(b.Last)}
		if _, text := b.Last.(string); text {
			line[2], line[3], line[4] = "–", "–", "–"
		}
		cells = append(cells, line)
	}
	table(w, cells)
}

// spark draws the means as one line of eighth blocks; a gap stays blank.
func spark(h client.History) string {
	step, err := value.ParseDuration(h.Step)
	if err != nil {
		return ""
	}
	low, high := math.Inf(1), math.Inf(-1)
	byTime := map[int64]client.Bucket{}
	for _, b := range h.Buckets {
		low, high = min(low, b.Mean), max(high, b.Mean)
		byTime[b.At.UnixMilli()] = b
	}
	var out strings.Builder
	first, last := h.Buckets[0].At, h.Buckets[len(h.Buckets)-1].At
	for t := first; !t.After(last); t = t.Add(step.Std()) {
		b, ok := byTime[t.UnixMilli()]
		if !ok {
			out.WriteByte(' ')
			continue
		}
		i := 0
		if high > low {
			i = int((b.Mean - low) / (high - low) * 7)
		}
		out.WriteRune([]rune("▁▂▃▄▅▆▇█")[i])
	}
	return out.String()
}
