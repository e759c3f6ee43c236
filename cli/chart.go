package cli

import (
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"ullage/client"
	"ullage/core/value"
)

// stripe is what falls into one column of a chart.
type stripe struct {
	n          int
	value      float64
	least, top float64
}

// columnsOf spreads the points of a line over so many columns, or one a step
// where that is 0. It returns the least and greatest value drawn.
func columnsOf(l client.Line, a client.Answer, n int) (cols []stripe, low, high float64) {
	span := a.To.Sub(a.From)
	from := a.From
	if n == 0 {
		step, err := value.ParseDuration(a.Step)
		if err != nil || step <= 0 || len(l.Steps) == 0 {
			return nil, 0, 0
		}
		from = l.Steps[0].At
		span = l.Steps[len(l.Steps)-1].At.Sub(from) + step.Std()
		n = int((span + step.Std() - 1) / step.Std())
	}
	cols = make([]stripe, n)
	low, high = math.Inf(1), math.Inf(-1)
	for _, p := range l.Steps {
		i := min(max(int(float64(p.At.Sub(from))/float64(span)*float64(n)), 0), n-1)
		c := &cols[i]
		if c.n == 0 {
			c.least, c.top = p.Min, p.Max
		}
		c.value = (c.value*float64(c.n) + p.Value) / float64(c.n+1)
		c.n++
		c.least, c.top = min(c.least, p.Min), max(c.top, p.Max)
		low, high = min(low, p.Value), max(high, p.Value)
	}
	return cols, low, high
}

// drawChart draws a line with dots of Braille, two columns and four rows to a
// character, between a scale and the times.
func drawChart(w io.Writer, l client.Line, a client.Answer, width, height int) {
	cols, low, high := columnsOf(l, a, width*2)
	if high-low < 1e-9*max(1, math.Abs(high)) {
		low, high = low-0.5, high+0.5
	}
	pad := (high - low) * 0.03
	low, high = low-pad, high+pad
	rows := height * 4
	dots := make([][]rune, height)
	for i := range dots {
		dots[i] = make([]rune, width)
	}
	rowOf := func(v float64) int { return min(max(int((high-v)/(high-low)*float64(rows)), 0), rows-1) }
	bits := [4][2]rune{{0x01, 0x08}, {0x02, 0x10}, {0x04, 0x20}, {0x40, 0x80}}
	last, lastAt := -1, 0
	apart := max(3, 5*len(cols)/2/max(len(l.Steps), 1)) // columns from point to point
	for i, c := range cols {
		if c.n == 0 {
			continue
		}
		at := rowOf(c.value)
		from, to := at, at
		if last >= 0 && i-lastAt > 1 && i-lastAt <= apart { // a straight line between points that are apart
			for k := lastAt + 1; k < i; k++ {
				r := last + (at-last)*(k-lastAt)/(i-lastAt)
				dots[r/4][k/2] |= bits[r%4][k%2]
			}
		}
		if last >= 0 && i-lastAt <= apart { // neighbours are joined, over a gap not
			from, to = min(last, at), max(last, at)
		}
		for r := from; r <= to; r++ {
			dots[r/4][i/2] |= bits[r%4][i%2]
		}
		last, lastAt = at, i
	}
	decimals := scaleDecimals(high - low)
	for i, line := range dots {
		label := ""
		if i%3 == 0 || i == height-1 {
			label = num(high-(float64(i)+0.5)/float64(height)*(high-low), decimals)
		}
		var b strings.Builder
		for _, d := range line {
			if d == 0 {
				b.WriteByte(' ')
			} else {
				b.WriteRune(0x2800 + d)
			}
		}
		fmt.Fprintf(w, "%10s │%s\n", label, strings.TrimRight(b.String(), " "))
	}
	fmt.Fprintf(w, "%10s └%s\n", "", strings.Repeat("─", width))
	form := "15:04"
	if a.To.Sub(a.From) > 36*time.Hour {
		form = "2 Jan 15:04"
	}
	begin, middle, end := a.From.Local().Format(form), a.From.Add(a.To.Sub(a.From)/2).Local().
		Format(form), a.To.Local().Format(form)
	gap := max(1, width-len(begin)-len(middle)-len(end))
	fmt.Fprintf(w, "%10s  %s%s%s%s%s\n", "", begin, strings.Repeat(" ", gap/2), middle, strings.Repeat(" ", gap-gap/2),
		end)
}

// scaleDecimals is how many decimals tell the labels of a scale apart.
func scaleDecimals(span float64) int {
	return min(max(1-int(math.Floor(math.Log10(span))), 0), 6)
}
