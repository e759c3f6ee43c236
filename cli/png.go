package cli

import (
	"fmt"
	"image/color"
	"os"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"

	"ullage/client"
	"ullage/core/series"
	"ullage/core/value"
)

// lineColours stay apart for colour-blind people on a light ground.
var lineColours = []color.Color{
	color.RGBA{0x1f, 0x5f, 0xa8, 255}, color.RGBA{0x7a, 0x3e, 0x9d, 255}, color.RGBA{0x2f, 0x7d, 0x4f,
		255}, color.RGBA{0x9c, 0x5b, 0x8f, 255},
	color.RGBA{0x3b, 0x8e, 0xa5, 255}, color.RGBA{0x5b, 0x5b, 0x5b, 255}, color.RGBA{0x6f, 0x7d, 0x1e,
		255}, color.RGBA{0x22, 0x26, 0x2b, 255},
}

// writePNG draws an answer into a file, one plot for each metric, under each
// other on the same times. Nothing is joined over a gap.
func writePNG(path string, a client.Answer) error {
	step, err := value.ParseDuration(a.Step)
	if err != nil {
		return err
	}
	var metrics []string
	of := map[string][]client.Line{}
	for _, l := range a.Lines {
		if l.Type == "text" || len(l.Steps) == 0 {
			continue
		}
		if of[l.Metric] == nil {
			metrics = append(metrics, l.Metric)
		}
		of[l.Metric] = append(of[l.Metric], l)
	}
	if len(metrics) == 0 {
		return fmt.Errorf("there is nothing to draw between %s and %s", a.From.Local().Format(time.DateTime),
			a.To.Local().Format(time.DateTime))
	}
	const width, height = 960, 260 // points of 1/96 inch
	img := vgimg.NewWith(vgimg.UseWH(vg.Points(width*0.75), vg.Points(float64(height*len(metrics))*0.75)),
		vgimg.UseDPI(144), vgimg.UseBackgroundColor(color.White))
	plots := make([][]*plot.Plot, len(metrics))
	for i, m := range metrics {
		p, err := plotOf(of[m], a, step.Std())
		if err != nil {
			return err
		}
		plots[i] = []*plot.Plot{p}
	}
	tiles := draw.Tiles{Rows: len(metrics), Cols: 1, PadX: vg.Points(6), PadY: vg.Points(8), PadTop: vg.Points(6),
		PadBottom: vg.Points(6), PadLeft: vg.Points(6), PadRight: vg.Points(12)}
	canvases := plot.Align(plots, tiles, draw.New(img))
	for i := range plots {
		plots[i][0].Draw(canvases[i][0])
	}
	f, err := os.Create(path)
	if err != nil {
		return fmt.Errorf("the picture cannot be written: %w", err)
	}
	if _, err := (vgimg.PngCanvas{Canvas: img}).WriteTo(f); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// localTicks stand at round local times, eight of them or less.
func localTicks(from, to float64) []plot.Tick {
	begin, end := time.Unix(int64(from), 0).Local(), time.Unix(int64(to), 0).Local()
	var out []plot.Tick
	if span := end.Sub(begin); span > 48*time.Hour {
		days := int(span.Hours()/24/8) + 1
		y, m, d := begin.Date()
		for at := time.Date(y, m, d+1, 0, 0, 0, 0, time.Local); at.Before(end); at = at.AddDate(0, 0, days) {
			out = append(out, plot.Tick{Value: float64(at.Unix()), Label: at.Format("2 Jan")})
		}
		return out
	}
	step := series.NiceStep(end.Sub(begin), 8)
	for at := begin.Truncate(step).Add(step); at.Before(end); at = at.Add(step) {
		out = append(out, plot.Tick{Value: float64(at.Unix()), Label: at.Format("15:04")})
	}
	return out
}

func plotOf(lines []client.Line, a client.Answer, step time.Duration) (*plot.Plot, error) {
	p := plot.New()
	p.Title.Text = lines[0].Metric
	if lines[0].Display != "" {
		p.Title.Text += ", " + lines[0].Display
	}
	if len(lines) == 1 {
		p.Title.Text += ", " + lines[0].Name()
	}
	p.X.Min, p.X.Max = float64(a.From.Unix()), float64(a.To.Unix())
	p.X.Tick.Marker = plot.TickerFunc(localTicks)
	grid := plotter.NewGrid()
	grid.Horizontal.Color, grid.Vertical.Color = color.Gray{225}, color.Gray{225}
	p.Add(grid)
	for i, l := range lines {
		look := lineColours[i%len(lineColours)]
		var run plotter.XYs
		first := true
		flush := func() error {
			if len(run) == 0 {
				return nil
			}
			line, err := plotter.NewLine(run)
			if err != nil {
				return err
			}
			line.Color, line.Width = look, vg.Points(1.2)
			p.Add(line)
			if first && len(lines) > 1 && i < len(lineColours) {
				p.Legend.Add(l.Name(), line)
			}
			first, run = false, nil
			return nil
		}
		var last time.Time
		for _, x := range l.Steps {
			if !last.IsZero() && x.At.Sub(last) > step*5/2 {
				if err := flush(); err != nil {
					return nil, err
				}
			}
			run = append(run, plotter.XY{X: float64(x.At.Unix()), Y: x.Value})
			last = x.At
		}
		if err := flush(); err != nil {
			return nil, err
		}
	}
	p.Legend.Top = true
	p.X.Min, p.X.Max = float64(a.From.Unix()), float64(a.To.Unix())
	return p, nil
}
