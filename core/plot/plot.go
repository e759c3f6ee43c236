// Package plot draws a metric over time as the paths of an SVG, for reports that have to work
// without a script.
package plot

import (
	"math"
	"strconv"
	"strings"
	"time"
)

// Step is what a metric was over a step of time.
type Step struct {
	At             time.Time
	Min, Max, Mean float64
}

// Frame is the part of the plane that is drawn, and how large the drawing is.
type Frame struct {
	From, To      time.Time
	Low, High     float64
	Width, Height float64
}

// Fit returns a frame for some steps, with a twentieth of room above and below. Values that are
// all the same lie in the middle.
func Fit(steps []Step, from, to time.Time, width, height float64) Frame {
	f := Frame{From: from, To: to, Low: math.Inf(1), High: math.Inf(-1), Width: width, Height: height}
	for _, s := range steps {
		f.Low, f.High = min(f.Low, s.Min), max(f.High, s.Max)
	}
	if math.IsInf(f.Low, 0) || math.IsInf(f.High, 0) || math.IsNaN(f.Low) || math.IsNaN(f.High) {
		f.Low, f.High = 0, 1
	}
	room := (f.High - f.Low) / 20
	if room == 0 || math.IsInf(room, 0) {
		room = max(math.Abs(f.High)/20, 0.5)
	}
	f.Low, f.High = f.Low-room, f.High+room
	return f
}

// X is where a time lies, from the left.
func (f Frame) X(at time.Time) float64 {
	width := f.To.Sub(f.From)
	if width <= 0 {
		return 0
	}
	return f.Width * float64(at.Sub(f.From)) / float64(width)
}

// Y is where a value lies, from the top.
func (f Frame) Y(v float64) float64 { return f.Height * (1 - (v-f.Low)/(f.High-f.Low)) }

// Runs divides steps where more than a gap lies between two, so that none is drawn over.
func Runs(steps []Step, gap time.Duration) [][]Step {
	var out [][]Step
	begin := 0
	for i := range steps {
		if i > begin && steps[i].At.Sub(steps[i-1].At) > gap {
			out = append(out, steps[begin:i])
			begin = i
		}
	}
	if begin < len(steps) {
		out = append(out, steps[begin:])
	}
	return out
}

// Line is the path of the means; a run of one step is a short stroke.
func (f Frame) Line(steps []Step, gap time.Duration) string {
	var b strings.Builder
	for _, run := range Runs(steps, gap) {
		for i, s := range run {
			b.WriteByte("ML"[min(i, 1)])
			f.point(&b, s.At, s.Mean)
		}
		if len(run) == 1 {
			b.WriteString("h1")
		}
	}
	return b.String()
}

// Band is the path of what lies between the least and the greatest values.
func (f Frame) Band(steps []Step, gap time.Duration) string {
	var b strings.Builder
	for _, run := range Runs(steps, gap) {
		for i, s := range run {
			b.WriteByte("ML"[min(i, 1)])
			f.point(&b, s.At, s.Max)
		}
		for i := len(run) - 1; i >= 0; i-- {
			b.WriteByte('L')
			f.point(&b, run[i].At, run[i].Min)
		}
		b.WriteByte('Z')
	}
	return b.String()
}

func (f Frame) point(b *strings.Builder, at time.Time, v float64) {
	b.WriteString(short(f.X(at)))
	b.WriteByte(' ')
	b.WriteString(short(f.Y(v)))
}

// short writes a length with a tenth of a unit, which nobody can tell from the exact one.
func short(x float64) string {
	return strconv.FormatFloat(math.Round(x*10)/10, 'f', -1, 64)
}
