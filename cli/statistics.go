package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

func printStatistics(w io.Writer, f client.Statistics) {
	d := f.Decimals
	if d < 0 {
		d = 2
	}
	fmt.Fprintf(w, "%s of %s, %s readings from %s to %s\n\n", f.Metric, f.Device, count(int64(f.N)),
		f.From.Local().Format(time.DateTime), f.To.Local().Format(time.DateTime))
	if f.Note != "" {
		fmt.Fprintf(w, "%s\n\n", f.Note)
	}
	cells := [][]string{{"LEAST", "5 %", "25 %", "MEDIAN", "75 %", "95 %", "GREATEST", "MEAN", "DEVIATION", ""}, {}}
	for _, v := range []float64{f.Min, f.P5, f.P25, f.P50, f.P75, f.P95, f.Max} {
		cells[1] = append(cells[1], num(v, d))
	}
	cells[1] = append(cells[1], num(f.Mean, d+1), num(f.Deviation, d+1), f.Display)
	table(w, cells)
	switch {
	case f.Trend == nil:
		fmt.Fprintln(w, "\nThere is too little for a trend.")
	case f.Trend.Low <= 0 && f.Trend.High >= 0:
		fmt.Fprintf(w, "\nNo trend: between %s and %s %s an hour.\n", num(f.Trend.Low, d+2), num(f.Trend.High, d+2),
			f.Display)
	default:
		fmt.Fprintf(w, "\nTrend: %s %s an hour, between %s and %s with 95 %% confidence.\n", num(f.Trend.Slope, d+2),
			f.Display, num(f.Trend.Low, d+2), num(f.Trend.High, d+2))
	}
	most := 1
	for _, b := range f.Bins {
		most = max(most, b.Count)
	}
	fmt.Fprintln(w)
	for _, b := range f.Bins {
		fmt.Fprintf(w, "%10s … %-10s %s %s\n", num(b.From, d+1), num(b.To, d+1), strings.Repeat("█", b.Count*50/most),
			count(int64(b.Count)))
	}
}

// foretell prints a forecast, or draws it behind what was.
func foretell(c *cobra.Command, cl *client.Client, q client.Query, ahead string, draw bool) error {
	f, err := cl.Forecast(c.Context(), q, ahead)
	if err != nil {
		return err
	}
	return show(c, f, func(w io.Writer) {
		d := f.Decimals
		if d < 0 {
			d = 2
		}
		fmt.Fprintf(w, "%s of %s, %s, as it probably goes on\n", f.Metric, f.Device, f.Display)
		fmt.Fprintf(w, "By %s: from %s of the past it was %s off on average, %s would have been %s.\n",
			f.Method, counted(f.Moments, "moment"), num(f.Error, d+1), naiveWords(f), num(f.Naive, d+1))
		if f.Note != "" {
			fmt.Fprintf(w, "Note: %s.\n", f.Note)
		}
		if draw && len(f.Steps) > 0 {
			l := client.Line{Device: f.Device, Metric: f.Metric, Display: f.Display, Decimals: f.Decimals}
			for _, p := range f.Steps {
				l.Steps = append(l.Steps, client.LineStep{At: p.At, Value: p.Mean, Min: p.Low, Max: p.High, Count: 1})
			}
			drawChart(w, l, client.Answer{From: f.Steps[0].At, To: f.Steps[len(f.Steps)-1].At.Add(time.Second),
				Step: f.Step}, chartWidth(), 12)
			last := f.Steps[len(f.Steps)-1]
			fmt.Fprintf(w, "At the end %s, with 95 %% between %s and %s.\n", num(last.Mean, d), num(last.Low, d),
				num(last.High, d))
			printLimitsAhead(w, f, d)
			return
		}
		cells := [][]string{{"AT", "PROBABLY", "NO LESS", "NO MORE"}}
		for _, p := range f.Steps {
			cells = append(cells, []string{p.At.Local().Format(time.DateTime), num(p.Mean, d+1), num(p.Low, d+1),
				num(p.High, d+1)})
		}
		table(w, cells)
		fmt.Fprintln(w, "It lies within these bounds with 95 %, as long as nothing happens that never happened in the time it was learnt from.")
		printLimitsAhead(w, f, d)
	})
}

// naiveWords names what a forecast is compared with.
func naiveWords(f client.Forecast) string {
	if f.NaiveSeasonal {
		return "the same time a day before"
	}
	return "the last value"
}

// printLimitsAhead tells when a forecast gets to the limits of rules.
func printLimitsAhead(w io.Writer, f client.Forecast, decimals int) {
	at := func(t *time.Time) string { return t.Local().Format("2006-01-02 15:04") }
	for _, r := range f.Limits {
		limit := fmt.Sprintf("%s at %s %s", r.Rule, num(r.Limit, decimals), f.Display)
		switch {
		case r.Beyond:
			fmt.Fprintf(w, "It is beyond the limit of %s already.\n", limit)
		case r.Likely != nil && r.Early != nil && r.Early.Before(*r.Likely):
			late := ""
			if r.Late != nil {
				late = " and not after " + at(r.Late)
			}
			fmt.Fprintf(w, "It gets to the limit of %s probably at %s, and with 95 %% not before %s%s.\n", limit,
				at(r.Likely), at(r.Early), late)
		case r.Likely != nil:
			fmt.Fprintf(w, "It gets to the limit of %s probably at %s.\n", limit, at(r.Likely))
		case r.Early != nil:
			fmt.Fprintf(w, "It probably does not get to the limit of %s, but may from %s on.\n", limit, at(r.Early))
		default:
			fmt.Fprintf(w, "It does not get to the limit of %s within seven days, with 95 %%.\n", limit)
		}
	}
}
