package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ullage/client"
	"ullage/core/series"
	"ullage/core/value"
)

func queryCommand() *cobra.Command {
	var q client.Query
	var where *string
	var draw bool
	var export, forecast, png string
	var statistics bool
	c := &cobra.Command{
		Use:   "query [DEVICE] METRIC…",
		Short: "Read metrics over time, of one device or of many",
		Long: `Reads metrics over time and sums it up in steps: the least, the greatest and
what --aggregate says of each. The first word is the device; without one, every device
is meant, or those of --where. With --group-by, devices that share a label become one.

  --span   6h, 7d          until now
           today, yesterday, this week, last week, this month, last month
           2026-03-01, 2026-03-01..2026-03-03, 2026-03-01T10:00..12h
  --step   15min; 1d is a local day, which may have 23 or 25 hours

With --export every single reading is written instead, in csv, wide, jsonl, senml, cbor or parquet
(RFC 8428), as it comes.`,
		Example: "  ullage query tank-fennimore-07 must_temp --span 6h --draw\n" +
			"  ullage query tank-fennimore-07 must_temp density --span yesterday --step 1h\n" +
			"  ullage query co2 --where 'label.site == \"Kilnside\"' --span 7d --step 1d --aggregate max\n" +
			"  ullage query must_temp --group-by site --then max --unit must_temp=degF\n" +
			"  ullage query tank-fennimore-07 must_temp density --span 7d --png season.png\n" +
			"  ullage query tank-fennimore-07 must_temp --forecast 12h --draw\n" +
			"  ullage query tank-fennimore-07 must_temp --span 30d --export csv > must_temp.csv",
		GroupID: groupConnect,
		Args:    atLeast(1, "a metric, and the device before it"), ValidArgsFunction: queryWords,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			q.Where = *where
			if q.Metrics = args; q.Where == "" && q.GroupBy == "" && len(args) > 1 {
				q.Devices, q.Metrics = strings.Split(args[0], ","), args[1:]
			}
			if len(q.Devices) == 0 && q.Where == "" && q.GroupBy == "" && len(args) == 1 {
				if says := metricsOf(c, cl, args[0]); says != "" {
					return usageError{errors.New(says)}
				}
				return usageError{fmt.Errorf("%s of which device? Write it before the metric, or choose devices with --where or --group-by", args[0])}
			}
			if q.Step != "" {
				if d, err := value.ParseDuration(q.Step); err != nil {
					return usageError{fmt.Errorf("--step: %w", err)}
				} else if d <= 0 {
					return usageError{fmt.Errorf("--step is %s; a step has some width, like 15min or 1d", q.Step)}
				}
			}
			if _, _, err := series.ParseSpan(q.Span, time.Now(), time.UTC); err != nil {
				return usageError{fmt.Errorf("--span: %w", err)}
			}
			if export != "" {
				return cl.Export(c.Context(), q, export, rawOutput(c), c.OutOrStdout())
			}
			if statistics {
				x, err := cl.Statistics(c.Context(), q)
				if err != nil {
					return err
				}
				return show(c, x, func(w io.Writer) { printStatistics(w, x) })
			}
			if forecast != "" {
				return foretell(c, cl, q, forecast, draw)
			}
			if png != "" && !c.Flags().Changed("steps") {
				q.Steps = 800
			}
			if draw && !c.Flags().Changed("steps") {
				q.Steps = chartWidth() * 2
			}
			a, err := cl.Ask(c.Context(), q)
			if err != nil {
				return err
			}
			for _, l := range a.Lines {
				if l.Note != "" {
					fmt.Fprintf(c.ErrOrStderr(), "%s; see: ullage store check\n", l.Note)
				}
			}
			if png != "" {
				if err := writePNG(png, a); err != nil {
					return err
				}
				return show(c, map[string]string{"file": png}, func(w io.Writer) {
					fmt.Fprintf(w, "%s is drawn.\n", png)
				})
			}
			if format, _ := c.Flags().GetString("output"); format == "csv" {
				return render(c, rowsOf(a), nil)
			}
			return show(c, a, func(w io.Writer) {
				if draw {
					drawAnswer(w, a)
				} else {
					printAnswer(w, q, a)
				}
			})
		},
	}
	f := c.Flags()
	where = whereFlag(c)
	f.StringVar(&q.Span, "span", "24h", "when, like 6h, yesterday or 2026-03-01..2026-03-03")
	f.StringVar(&q.Step, "step", "", "width of a step, like 15min or 1d")
	amountFlag(c, &q.Steps, "steps", 1, 24, "how many steps to aim at, without --step")
	f.StringVar(&q.Aggregate, "aggregate", "mean", "mean, weighted_mean (by time), min, max, sum, count, first or last")
	f.StringVar(&q.GroupBy, "group-by", "", "make one line of the devices that share this label")
	c.RegisterFlagCompletionFunc("group-by", labelKeys)
	f.StringVar(&q.Then, "then", "mean", "how the devices of a group are then aggregated: mean, min, max, sum or count")
	f.StringSliceVar(&q.Units, "unit", nil, "wanted unit, as must_temp=degF; may be given several times")
	f.StringVar(&q.Zone, "zone", "", "time zone of local days; that of the service if left out")
	f.BoolVar(&draw, "draw", false, "draw a chart")
	f.StringVar(&png, "png", "", "draw a chart into this file")
	f.StringVar(&forecast, "forecast", "", "tell what probably comes instead, so far ahead: 12h")
	f.BoolVar(&statistics, "statistics", false, "describe the readings instead: quantiles, histogram, trend")
	f.StringVar(&export, "export", "", "write every single reading instead: csv, wide, jsonl, senml, cbor or parquet")
	for flag, words := range map[string][]string{"span": {"1h", "6h", "24h", "7d", "30d", "today", "yesterday", "this week"}, "aggregate": {"mean", "weighted_mean", "min", "max", "sum", "count", "first", "last"},
		"then": {"mean", "min", "max", "sum", "count"}, "export": {"csv", "wide", "jsonl", "senml", "cbor", "parquet"}} {
		c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp))
	}
	return c
}

// queryWords completes a device, then its metrics.
func queryWords(c *cobra.Command, args []string, prefix string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return deviceNames(c, args, prefix)
	}
	cl, err := connect(c)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	d, err := cl.Device(c.Context(), args[0])
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return sortedKeys(d.Latest), cobra.ShellCompDirectiveNoFileComp
}

// row is one point of one line, flat.
type row struct {
	Name   string    `json:"name"`
	Metric string    `json:"metric"`
	At     time.Time `json:"at"`
	Count  int64     `json:"count"`
	Value  float64   `json:"value"`
	Min    float64   `json:"min"`
	Max    float64   `json:"max"`
	Last   any       `json:"last"`
	Unit   string    `json:"unit"`
}

func rowsOf(a client.Answer) []row {
	out := []row{}
	for _, l := range a.Lines {
		for _, p := range l.Steps {
			out = append(out, row{l.Name(), l.Metric, p.At, p.Count, p.Value, p.Min, p.Max, p.Last, l.Unit})
		}
	}
	return out
}

func heading(l client.Line) string {
	s := l.Metric + " of " + l.Name()
	if l.Display != "" {
		s += ", " + l.Display
	}
	if l.Members > 0 {
		s += fmt.Sprintf(", %s", plural(l.Members, "device"))
	}
	return s
}

func nothing(w io.Writer, l client.Line, a client.Answer) {
	fmt.Fprintf(w, "%s: no reading between %s and %s.\n", heading(l), a.From.Local().Format(time.DateTime),
		a.To.Local().Format(time.DateTime))
}

// metricsOf says what a device measures, if that is what was named; empty if not.
func metricsOf(c *cobra.Command, cl *client.Client, id string) string {
	d, err := cl.Device(c.Context(), id)
	if err != nil {
		return ""
	}
	m, err := cl.Model(c.Context(), d.Model+"@"+d.ModelVersion)
	if err != nil {
		return ""
	}
	var names []string
	for _, p := range m.Properties {
		if p.Role == "telemetry" {
			names = append(names, p.Name)
		}
	}
	for name := range d.Latest {
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return fmt.Sprintf("%s has %s; write: ullage query %s %s", id, strings.Join(names, ", "), id, names[0])
}

// valueColumn names what the value of a step is: over time, and then over devices.
func valueColumn(q client.Query, l client.Line) string {
	name := q.Aggregate
	if l.Group != "" {
		name = q.Then + " of " + q.Aggregate
	}
	return strings.ToUpper(strings.ReplaceAll(name, "_", " "))
}

func printAnswer(w io.Writer, q client.Query, a client.Answer) {
	if len(a.Lines) == 0 {
		fmt.Fprintln(w, "No device is like that.")
	}
	for i, l := range a.Lines {
		if i > 0 {
			fmt.Fprintln(w)
		}
		if len(l.Steps) == 0 {
			nothing(w, l, a)
			continue
		}
		fmt.Fprintf(w, "%s, in steps of %s\n%s\n", heading(l), a.Step, spark(l, a))
		cells := [][]string{{"FROM", "COUNT", "LEAST", valueColumn(q, l), "GREATEST", "LAST"}}
		if l.Group != "" { // the last reading of several devices says nothing
			cells[0] = cells[0][:5]
		}
		decimals := l.Decimals
		if decimals < 0 {
			decimals = 2
		}
		for _, p := range l.Steps {
			line := []string{p.At.Local().Format(time.DateTime), fmt.Sprint(p.Count), num(p.Min, decimals),
				num(p.Value, decimals+1), num(p.Max, decimals), plain(p.Last)}
			if q.Aggregate == "count" {
				line[3] = num(p.Value, 0)
			}
			if f, isNumber := p.Last.(float64); isNumber {
				line[5] = num(f, decimals)
			}
			if l.Type == "text" {
				line[2], line[3], line[4] = "–", "–", "–"
			}
			cells = append(cells, line[:len(cells[0])])
		}
		table(w, cells)
	}
}

// spark draws a line of eighth blocks; a gap stays blank.
func spark(l client.Line, a client.Answer) string {
	if l.Type == "text" {
		return ""
	}
	cols, low, high := columnsOf(l, a, 0)
	var out strings.Builder
	for _, c := range cols {
		if c.n == 0 {
			out.WriteByte(' ')
			continue
		}
		i := 0
		if high > low {
			i = int((c.value - low) / (high - low) * 7)
		}
		out.WriteRune([]rune("▁▂▃▄▅▆▇█")[min(max(i, 0), 7)])
	}
	return strings.TrimRight(out.String(), " ")
}

// chartWidth is how many columns a chart has beside its scale.
func chartWidth() int {
	if w, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil && w > 40 {
		return min(w-14, 160)
	}
	return 72
}

func drawAnswer(w io.Writer, a client.Answer) {
	for i, l := range a.Lines {
		if i > 0 {
			fmt.Fprintln(w)
		}
		if len(l.Steps) == 0 || l.Type == "text" {
			nothing(w, l, a)
			continue
		}
		fmt.Fprintln(w, heading(l))
		drawChart(w, l, a, chartWidth(), 12)
	}
}
