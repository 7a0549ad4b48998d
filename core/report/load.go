package report

import (
	"errors"
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// Load is what was found at one load.
type Load struct {
	Rate            float64 // frames a second
	Loss, Low, High float64 // shares
	P95             float64 // milliseconds
	Holds           bool
}

// LoadCurve draws loss and latency against load, one below the other.
func LoadCurve(title string, points []Load, limit float64, files ...string) error {
	top := frame(title, "", "loss (%), with 95 % interval")
	bottom := frame("", "load (frames/s)", "95th percentile of latency (ms)")
	highest, longest := 100*limit, 0.0
	for _, holds := range []bool{true, false} {
		var loss, late plotter.XYs
		var errs plotter.YErrors
		for _, p := range points {
			if p.Holds != holds {
				continue
			}
			loss = append(loss, plotter.XY{X: p.Rate, Y: 100 * p.Loss})
			errs = append(errs, struct{ Low, High float64 }{100 * (p.Loss - p.Low), 100 * (p.High - p.Loss)})
			late = append(late, plotter.XY{X: p.Rate, Y: p.P95})
			highest, longest = max(highest, 100*p.High), max(longest, p.P95)
		}
		if len(loss) == 0 {
			continue
		}
		look, name := looks[0], "keeps the limit"
		if !holds {
			look, name = looks[1], "breaks the limit"
		}
		bars, err := plotter.NewYErrorBars(struct {
			plotter.XYs
			plotter.YErrors
		}{loss, errs})
		if err != nil {
			return fmt.Errorf("draw the losses: %w", err)
		}
		bars.LineStyle.Color = look.colour
		top.Add(bars)
		if err := scatter(top, name, loss, look.colour, look.shape, 4); err != nil {
			return err
		}
		if err := scatter(bottom, name, late, look.colour, look.shape, 4); err != nil {
			return err
		}
	}
	line := plotter.NewFunction(func(float64) float64 { return 100 * limit })
	line.Dashes, line.Color = dashes[1], color.Gray{0x55}
	top.Add(line)
	top.Legend.Add(fmt.Sprintf("limit %g %%", 100*limit), line)
	top.Legend.Top, top.Legend.Left = true, true
	bottom.Legend = plot.NewLegend()
	top.Y.Min, top.Y.Max = 0, highest*1.3
	bottom.Y.Min, bottom.Y.Max = 0, max(1, longest*1.1)
	low, high := math.Inf(1), 0.0
	for _, p := range points {
		low, high = min(low, p.Rate), max(high, p.Rate)
	}
	for _, p := range []*plot.Plot{top, bottom} {
		p.X.Min, p.X.Max = low/1.15, high*1.15
		p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, decadeTicks{}
	}
	for _, f := range files {
		if err := saveTiles([]*plot.Plot{top, bottom}, f); err != nil {
			return fmt.Errorf("draw to %s: %w", f, err)
		}
	}
	return nil
}

// decadeTicks are at 1, 2 and 5 of each power of ten.
type decadeTicks struct{}

func (decadeTicks) Ticks(low, high float64) []plot.Tick {
	var ticks []plot.Tick
	for v := math.Pow(10, math.Floor(math.Log10(low))); v <= high; v *= 10 {
		for _, m := range []float64{1, 2, 5} {
			if v*m >= low && v*m <= high {
				ticks = append(ticks, plot.Tick{Value: v * m, Label: fmt.Sprintf("%g", v*m)})
			}
		}
	}
	return ticks
}

// saveTiles draws plots below each other, their axes aligned.
func saveTiles(plots []*plot.Plot, file string) error {
	c, err := draw.NewFormattedCanvas(vg.Points(960), vg.Points(600), strings.TrimPrefix(filepath.Ext(file), "."))
	if err != nil {
		return err
	}
	var rows [][]*plot.Plot
	for _, p := range plots {
		rows = append(rows, []*plot.Plot{p})
	}
	tiles := draw.Tiles{Rows: len(plots), Cols: 1, PadTop: vg.Points(14), PadBottom: vg.Points(14), PadLeft: vg.Points(14), PadRight: vg.Points(28), PadY: vg.Points(8)}
	for i, row := range plot.Align(rows, tiles, draw.New(c)) {
		plots[i].Draw(row[0])
	}
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	_, err = c.WriteTo(f)
	return errors.Join(err, f.Close())
}

// Cell is one speaker and one listener of a matrix.
type Cell struct {
	Row, Column int // speaker, listener
	Text        string
	Share       float64 // heard, 0 to 1
	Wrong       bool    // against what it should be
}

// Matrix draws who hears whom: the darker, the more was heard; what is against the
// wish has a thick frame and a mark.
func Matrix(title string, names []string, cells []Cell, files ...string) error {
	p := frame(title, "listener", "speaker")
	n := len(names)
	for _, c := range cells {
		x, y := float64(c.Column), float64(n-1-c.Row)
		square, err := plotter.NewPolygon(plotter.XYs{{X: x - 0.47, Y: y - 0.45}, {X: x + 0.47, Y: y - 0.45}, {X: x + 0.47, Y: y + 0.45}, {X: x - 0.47, Y: y + 0.45}})
		if err != nil {
			return fmt.Errorf("draw the matrix: %w", err)
		}
		shade := uint8(248 - 80*min(1, max(0, c.Share)))
		square.Color = color.RGBA{shade, shade, 250, 0xff}
		square.LineStyle.Color, square.LineStyle.Width = color.Gray{0x99}, vg.Points(1)
		text := c.Text
		if c.Wrong {
			square.LineStyle.Color, square.LineStyle.Width = color.RGBA{0xb0, 0, 0x20, 0xff}, vg.Points(4)
			text += "  wrong"
		}
		p.Add(square)
		labels, err := plotter.NewLabels(plotter.XYLabels{XYs: plotter.XYs{{X: x, Y: y}}, Labels: []string{text}})
		if err != nil {
			return fmt.Errorf("draw the matrix: %w", err)
		}
		labels.TextStyle[0].Font = plot.DefaultFont
		labels.TextStyle[0].Font.Size = 14
		labels.TextStyle[0].XAlign, labels.TextStyle[0].YAlign = draw.XCenter, draw.YCenter
		p.Add(labels)
	}
	reversed := make([]string, n)
	for i, name := range names {
		reversed[n-1-i] = name
	}
	p.X.Tick.Marker, p.Y.Tick.Marker = named(names), named(reversed)
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = -0.5, float64(n)-0.5, -0.5, float64(n)-0.5
	return saveAll(p, files)
}

// named are ticks with names at 0, 1, 2 and so on.
type named []string

func (t named) Ticks(low, high float64) []plot.Tick {
	var ticks []plot.Tick
	for i, name := range t {
		if float64(i) >= low && float64(i) <= high {
			ticks = append(ticks, plot.Tick{Value: float64(i), Label: name})
		}
	}
	return ticks
}
