package chart

import (
	"image/color"
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	plottext "gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"uparrot/core/text"
)

// panelPlot is a panel as the plot package draws it. Its title and legend stand above the area, and take
// no room in it.
type panelPlot struct {
	*plot.Plot
	title   string
	beside  string // the label of the axis of Y
	entries []entry
	at      draw.Canvas
}

// entry is a mark in the legend.
type entry struct {
	name string
	mark plot.Thumbnailer
}

// style is that of words of a size in points.
func style(size font.Length, c color.Color) plottext.Style {
	f := font.From(font.Font{Typeface: "Liberation", Variant: "Sans"}, size)
	return plottext.Style{Color: c, Font: f, XAlign: draw.XCenter, YAlign: draw.YCenter, Handler: plot.DefaultTextHandler}
}

// plot lays a panel out.
func (p *Panel) plot() *panelPlot {
	q := p.fitted()
	out := &panelPlot{Plot: plot.New(), title: text.Line(q.Title)}
	out.BackgroundColor = nil
	grid := plotter.NewGrid()
	grid.Vertical, grid.Horizontal = draw.LineStyle{Color: pale, Width: 0.75}, draw.LineStyle{Color: pale, Width: 0.75}
	out.Add(grid)
	for _, m := range q.Marks {
		for _, drawn := range m.plotters() {
			out.Add(drawn)
		}
		if name, mark := m.legend(); name != "" {
			out.entries = append(out.entries, entry{text.Line(name), mark})
		}
	}
	q.X.onto(&out.X)
	q.Y.onto(&out.Y)
	out.beside, out.Y.Label.Text = out.Y.Label.Text, "" // on a logarithmic axis the package leaves too much room for it
	out.Y.Tick.Label.XAlign = draw.XRight
	out.X.Tick.Label.YAlign = draw.YTop
	return out
}

// onto lays an axis out.
func (a Axis) onto(to *plot.Axis) {
	to.Min, to.Max = a.Low, a.High
	if a.Log {
		to.Scale = plot.LogScale{}
	}
	to.Label.Text, to.Label.TextStyle, to.Label.Padding = text.Line(a.Label), style(13, ink), 6
	to.Tick.Label, to.Tick.Color, to.Tick.Length = style(12, faint), pale, 4
	to.LineStyle.Color, to.Padding = pale, 0
	to.Tick.Marker = plot.TickerFunc(func(low, high float64) []plot.Tick {
		var ticks []plot.Tick
		for _, t := range a.Ticks(low, high) {
			ticks = append(ticks, plot.Tick{Value: t.At, Label: text.Line(t.Label)})
		}
		return ticks
	})
}

// heading draws the title and the legend, in as many rows as they need, and gives what is left.
func (p *panelPlot) heading(c draw.Canvas) draw.Canvas {
	const row = vg.Length(20)
	if p.title != "" {
		c.FillText(style(15, ink), vg.Point{X: c.Center().X, Y: c.Max.Y - row/2}, p.title)
		c.Max.Y -= row + 4
	}
	c.Min.X += row + 6 // for the label beside the area
	x := c.Min.X
	for i, e := range p.entries {
		l := plot.NewLegend()
		l.TextStyle, l.ThumbnailWidth, l.Left, l.Top = style(13, ink), 26, true, true
		l.TextStyle.XAlign, l.TextStyle.YAlign = draw.XLeft, draw.YCenter
		l.Add(e.name, e.mark)
		wide := l.Rectangle(c).Size().X + 6
		if x > c.Min.X && x+wide > c.Max.X {
			x, c.Max.Y = c.Min.X, c.Max.Y-row
		}
		place := c
		place.Min.X = x
		l.Draw(place)
		x += wide + 18
		if i == len(p.entries)-1 {
			c.Max.Y -= row + 4
		}
	}
	return c
}

// draw draws the panel in its place.
func (p *panelPlot) draw() {
	p.Draw(p.at)
	turned := style(13, ink)
	turned.Rotation = math.Pi / 2
	area := p.DataCanvas(p.at)
	p.at.FillText(turned, vg.Point{X: p.at.Min.X - 16, Y: area.Center().Y}, p.beside)
}

// labels is how wide the labels of the ticks beside the area are.
func (p *panelPlot) labels() vg.Length { return p.DataCanvas(p.at).Min.X - p.at.Min.X }

// plotters and legend are how each mark is drawn, and what stands for it in the legend.

func (p Points) plotters() (all []plot.Plotter) {
	if len(p.At) == 0 {
		return nil
	}
	for i, s := range p.Spread {
		all = append(all, segment{from: XY{p.At[i].X, s.Low}, to: XY{p.At[i].X, s.High}, capped: true, LineStyle: stroke(p.Colour, Solid, 1)})
	}
	return append(all, p)
}

func (p Points) legend() (string, plot.Thumbnailer) {
	if len(p.At) == 0 {
		return "", nil
	}
	return p.Name, p
}

// Plot draws all points as one path: there may be thousands.
func (p Points) Plot(c draw.Canvas, at *plot.Plot) {
	x, y := at.Transforms(&c)
	var way vg.Path
	for _, q := range p.At {
		p.shape(&way, vg.Point{X: x(q.X), Y: y(q.Y)})
	}
	p.paint(c, way)
}

// Thumbnail draws one point for the legend.
func (p Points) Thumbnail(c *draw.Canvas) {
	var way vg.Path
	p.shape(&way, c.Center())
	p.paint(*c, way)
}

func (p Points) paint(c draw.Canvas, way vg.Path) {
	c.SetLineStyle(stroke(p.Colour, Solid, 1.8))
	if p.Shape == Dot || p.Shape == Triangle {
		c.Fill(way)
		return
	}
	c.Stroke(way)
}

// shape adds one point to a path.
func (p Points) shape(way *vg.Path, at vg.Point) {
	r := vg.Length(p.Size)
	step := func(do func(vg.Point), x, y vg.Length) { do(vg.Point{X: at.X + x, Y: at.Y + y}) }
	switch p.Shape {
	case Dot:
		step(way.Move, r, 0)
		way.Arc(at, r, 0, 2*math.Pi)
		way.Close()
	case Triangle:
		step(way.Move, 0, r)
		step(way.Line, r, -0.7*r)
		step(way.Line, -r, -0.7*r)
		way.Close()
	case Cross:
		step(way.Move, -r, -r)
		step(way.Line, r, r)
		step(way.Move, r, -r)
		step(way.Line, -r, r)
	default: // Plus
		step(way.Move, -r, 0)
		step(way.Line, r, 0)
		step(way.Move, 0, -r)
		step(way.Line, 0, r)
	}
}

// stroke is how a line is drawn, its width in points.
func stroke(c Colour, d Dash, wide vg.Length) draw.LineStyle {
	return draw.LineStyle{Color: colours[c], Width: wide, Dashes: strokes[d]}
}

func (l Line) plotters() []plot.Plotter {
	if len(l.At) == 0 {
		return nil
	}
	return []plot.Plotter{l.line()}
}

func (l Line) legend() (string, plot.Thumbnailer) { return l.Name, l.line() }

func (l Line) line() *plotter.Line {
	return &plotter.Line{XYs: points(l.At), LineStyle: stroke(l.Colour, l.Dash, 1.8)}
}

func points(at []XY) plotter.XYs {
	all := make(plotter.XYs, len(at))
	for i, q := range at {
		all[i] = plotter.XY(q)
	}
	return all
}

func (b Band) plotters() []plot.Plotter {
	if len(b.X) == 0 {
		return nil
	}
	shade := colours[b.Colour]
	shade.A = 0x40
	return []plot.Plotter{&plotter.Polygon{XYs: []plotter.XYs{points(b.outline())}, Color: shade}}
}

func (b Band) legend() (string, plot.Thumbnailer) { return "", nil }

func (r Rule) plotters() []plot.Plotter           { return []plot.Plotter{r} }
func (r Rule) legend() (string, plot.Thumbnailer) { return "", nil }

// Plot draws a line from the lower edge to the upper one, its word at its foot.
func (r Rule) Plot(c draw.Canvas, at *plot.Plot) {
	toX, _ := at.Transforms(&c)
	x := toX(r.X)
	c.StrokeLine2(stroke(r.Colour, r.Dash, 1), x, c.Min.Y, x, c.Max.Y)
	s := style(12, faint)
	s.XAlign, s.YAlign = draw.XLeft, draw.YBottom
	aside := vg.Length(4)
	if x > c.Center().X {
		s.XAlign, aside = draw.XRight, -aside
	}
	c.FillText(s, vg.Point{X: x + aside, Y: c.Min.Y + 3}, text.Line(r.Text))
}

func (m Cell) plotters() []plot.Plotter           { return []plot.Plotter{m} }
func (m Cell) legend() (string, plot.Thumbnailer) { return "", nil }

// Plot draws a square, which lets nothing shine through.
func (m Cell) Plot(c draw.Canvas, at *plot.Plot) {
	x, y := at.Transforms(&c)
	room := vg.Rectangle{Min: vg.Point{X: x(m.At.X - 0.47), Y: y(m.At.Y - 0.45)}, Max: vg.Point{X: x(m.At.X + 0.47), Y: y(m.At.Y + 0.45)}}
	shade := colours[First]
	shade.A = uint8(255 * (0.05 + 0.4*min(1, max(0, m.Share))))
	c.FillPolygon(paper, corners(room))
	c.FillPolygon(shade, corners(room))
	frame := draw.LineStyle{Color: pale, Width: 1}
	if m.Wrong {
		frame = stroke(Bad, Solid, 4)
	}
	c.StrokeLines(frame, append(corners(room), room.Min))
	c.FillText(style(13, ink), vg.Point{X: (room.Min.X + room.Max.X) / 2, Y: (room.Min.Y + room.Max.Y) / 2}, text.Line(m.Text))
}

// segment is an upright line, with caps where it is an interval.
type segment struct {
	from, to XY
	capped   bool
	draw.LineStyle
}

// Plot draws it.
func (s segment) Plot(c draw.Canvas, at *plot.Plot) {
	x, y := at.Transforms(&c)
	across, low, high := x(s.from.X), y(s.from.Y), y(s.to.Y)
	c.StrokeLine2(s.LineStyle, across, low, across, high)
	if s.capped {
		c.StrokeLine2(s.LineStyle, across-4, low, across+4, low)
		c.StrokeLine2(s.LineStyle, across-4, high, across+4, high)
	}
}
