package chart

import (
	"errors"
	"fmt"
	"image/color"
	"io"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"
)

// The size of a picture, in points.
const (
	width  = 960
	height = 560
	margin = 14
)

var (
	colours = []color.Color{
		First: color.RGBA{0x1b, 0x5e, 0x9b, 0xff}, Second: color.RGBA{0xc0, 0x6a, 0x10, 0xff},
		Third: color.RGBA{0x2e, 0x7d, 0x32, 0xff}, Fourth: color.RGBA{0x7b, 0x1f, 0x5a, 0xff},
		Bad: color.RGBA{0xb0, 0, 0x20, 0xff}, Plain: color.Gray{0x55},
	}
	glyphs = []draw.GlyphDrawer{Dot: draw.CircleGlyph{}, Triangle: draw.TriangleGlyph{}, Cross: draw.CrossGlyph{}, Plus: draw.PlusGlyph{}}
)

// Draw draws a chart in a form, png or svg.
func Draw(w io.Writer, c Chart, form string) error {
	if len(c) == 0 {
		return errors.New("there is nothing to draw")
	}
	canvas, err := canvasOf(form)
	if err != nil {
		return err
	}
	var rows [][]*plot.Plot
	for _, p := range c {
		drawn, err := drawn(p.fitted())
		if err != nil {
			return err
		}
		rows = append(rows, []*plot.Plot{drawn})
	}
	tiles := draw.Tiles{Rows: len(rows), Cols: 1, PadTop: margin, PadBottom: margin, PadLeft: margin, PadRight: 2 * margin, PadY: 8}
	for i, row := range plot.Align(rows, tiles, draw.New(canvas)) {
		rows[i][0].Draw(row[0])
	}
	_, err = canvas.WriteTo(w)
	return err
}

// canvasOf is where to draw in a form. An SVG brings its font along: another one, where that
// is missing, would be wider and have words overlap.
func canvasOf(form string) (vg.CanvasWriterTo, error) {
	if form == "svg" {
		return vgsvg.NewWith(vgsvg.UseWH(width, height), vgsvg.EmbedFonts(true)), nil
	}
	return draw.NewFormattedCanvas(width, height, form)
}

// ticks are ours for theirs.
type ticks func(low, high float64) []Tick

func (t ticks) Ticks(low, high float64) []plot.Tick {
	var list []plot.Tick
	for _, k := range t(low, high) {
		list = append(list, plot.Tick{Value: k.At, Label: k.Label})
	}
	return list
}

// drawn is a panel as a plot of the library.
func drawn(panel *Panel) (*plot.Plot, error) {
	plot.DefaultFont = font.Font{Typeface: "Liberation", Variant: "Sans"}
	p := plot.New()
	p.Title.Text = panel.Title
	p.Title.TextStyle.Font.Size = 15
	p.Title.Padding = vg.Points(8)
	grid := plotter.NewGrid()
	grid.Vertical.Color = color.Gray{0xdd}
	grid.Horizontal.Color = color.Gray{0xdd}
	p.Add(grid)
	for _, m := range panel.Marks {
		if err := add(p, m); err != nil {
			return nil, err
		}
	}
	axis(&p.X, panel.X)
	axis(&p.Y, panel.Y)
	p.Legend.TextStyle.Font.Size = 12
	p.Legend.ThumbnailWidth = vg.Points(30)
	p.Legend.Padding = vg.Points(3)
	p.Legend.Top, p.Legend.Left = true, panel.LegendLeft
	return p, nil
}

func axis(a *plot.Axis, from Axis) {
	a.Label.Text, a.Min, a.Max = from.Label, from.Low, from.High
	a.Tick.Marker = ticks(from.Ticks)
	a.Label.TextStyle.Font.Size = 13
	a.Tick.Label.Font.Size = 12
	a.Padding = vg.Points(6)
	if from.Log {
		a.Scale = plot.LogScale{}
	}
}

func add(p *plot.Plot, m Mark) error {
	switch m := m.(type) {
	case Points:
		return addPoints(p, m)
	case Line:
		line, err := plotter.NewLine(xys(m.At))
		if err != nil {
			return fmt.Errorf("draw %s: %w", m.Name, err)
		}
		line.Color, line.Width = colours[m.Colour], vg.Points(1.8)
		for _, s := range strokes[m.Dash] {
			line.Dashes = append(line.Dashes, vg.Points(s))
		}
		p.Add(line)
		if m.Name != "" {
			p.Legend.Add(m.Name, line)
		}
	case Band:
		return addBand(p, m)
	case Rule:
		return addRule(p, m)
	case Cell:
		return addCell(p, m)
	}
	return nil
}

func addPoints(p *plot.Plot, m Points) error {
	if len(m.At) == 0 {
		return nil
	}
	if m.Spread != nil {
		errs := make(plotter.YErrors, len(m.At))
		for i, s := range m.Spread {
			errs[i] = struct{ Low, High float64 }{m.At[i].Y - s.Low, s.High - m.At[i].Y}
		}
		bars, err := plotter.NewYErrorBars(struct {
			plotter.XYs
			plotter.YErrors
		}{xys(m.At), errs})
		if err != nil {
			return fmt.Errorf("draw the intervals of %s: %w", m.Name, err)
		}
		bars.LineStyle.Color, bars.LineStyle.Width = colours[m.Colour], vg.Points(1)
		p.Add(bars)
	}
	s, err := plotter.NewScatter(xys(m.At))
	if err != nil {
		return fmt.Errorf("draw %s: %w", m.Name, err)
	}
	s.GlyphStyle = draw.GlyphStyle{Color: colours[m.Colour], Radius: vg.Points(m.Size), Shape: glyphs[m.Shape]}
	p.Add(s)
	if m.Name != "" {
		p.Legend.Add(m.Name, s)
	}
	return nil
}

func addBand(p *plot.Plot, m Band) error {
	if len(m.X) == 0 {
		return nil
	}
	area, err := plotter.NewPolygon(xys(m.outline()))
	if err != nil {
		return fmt.Errorf("draw a band: %w", err)
	}
	r, g, b, _ := colours[m.Colour].RGBA()
	area.Color = color.NRGBA{uint8(r >> 8), uint8(g >> 8), uint8(b >> 8), 0x40}
	area.LineStyle.Width = 0
	p.Add(area)
	return nil
}

// addRule draws a line from the lower edge to the upper one.
func addRule(p *plot.Plot, m Rule) error {
	r := &rule{m}
	p.Add(r)
	return nil
}

type rule struct{ Rule }

// Plot draws it.
func (r *rule) Plot(c draw.Canvas, p *plot.Plot) {
	tx, _ := p.Transforms(&c)
	x := tx(r.X)
	style := draw.LineStyle{Color: colours[r.Colour], Width: vg.Points(1)}
	for _, s := range strokes[r.Dash] {
		style.Dashes = append(style.Dashes, vg.Points(s))
	}
	c.StrokeLine2(style, x, c.Min.Y, x, c.Max.Y)
	words := text.Style{Font: plot.DefaultFont, Handler: plot.DefaultTextHandler, Color: colours[r.Colour], XAlign: draw.XLeft, YAlign: draw.YBottom}
	words.Font.Size = 11
	at := vg.Point{X: x + vg.Points(4), Y: c.Min.Y + vg.Points(2)}
	if x > (c.Min.X+c.Max.X)/2 {
		words.XAlign, at.X = draw.XRight, x-vg.Points(4)
	}
	c.FillText(words, at, r.Text)
}

func addCell(p *plot.Plot, m Cell) error {
	x, y := m.At.X, m.At.Y
	square, err := plotter.NewPolygon(plotter.XYs{{X: x - 0.47, Y: y - 0.45}, {X: x + 0.47, Y: y - 0.45}, {X: x + 0.47, Y: y + 0.45}, {X: x - 0.47, Y: y + 0.45}})
	if err != nil {
		return fmt.Errorf("draw the matrix: %w", err)
	}
	shade := uint8(248 - 80*min(1, max(0, m.Share)))
	square.Color = color.RGBA{shade, shade, 250, 0xff}
	square.LineStyle.Color, square.LineStyle.Width = color.Gray{0x99}, vg.Points(1)
	if m.Wrong {
		square.LineStyle.Color, square.LineStyle.Width = colours[Bad], vg.Points(4)
	}
	p.Add(square)
	labels, err := plotter.NewLabels(plotter.XYLabels{XYs: plotter.XYs{{X: x, Y: y}}, Labels: []string{m.Text}})
	if err != nil {
		return fmt.Errorf("draw the matrix: %w", err)
	}
	labels.TextStyle[0] = text.Style{Font: plot.DefaultFont, Handler: plot.DefaultTextHandler, Color: color.Black, XAlign: draw.XCenter, YAlign: draw.YCenter}
	labels.TextStyle[0].Font.Size = 14
	p.Add(labels)
	return nil
}

func xys(at []XY) plotter.XYs {
	list := make(plotter.XYs, len(at))
	for i, p := range at {
		list[i] = plotter.XY{X: p.X, Y: p.Y}
	}
	return list
}
