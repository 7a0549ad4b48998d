package chart

import (
	"bytes"
	"errors"
	"fmt"
	"html"
	"image/color"
	"io"
	"strings"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"uparrot/core/text"
)

// The size of a picture in points, of which an inch has 72; flat is the height of a flat one in a page.
const (
	width  = 960 * vg.Length(1)
	height = 560 * vg.Length(1)
	flat   = 300 * vg.Length(1)
)

// perInch is how many pixels of a PNG make an inch.
const perInch = 96

// What pictures are drawn in. A page gives each a colour of its own, light or dark.
var (
	colours = []color.NRGBA{
		First: {0x1b, 0x5e, 0x9b, 0xff}, Second: {0xc0, 0x6a, 0x10, 0xff}, Third: {0x2e, 0x7d, 0x32, 0xff},
		Fourth: {0x7b, 0x1f, 0x5a, 0xff}, Bad: {0xb0, 0, 0x20, 0xff}, Plain: faint,
	}
	ink   = color.NRGBA{0x1c, 0x1c, 0x1c, 0xff}
	faint = color.NRGBA{0x55, 0x55, 0x55, 0xff}
	pale  = color.NRGBA{0xdd, 0xdd, 0xdd, 0xff}
	paper = color.NRGBA{0xfe, 0xfe, 0xfe, 0xff}
)

// Draw draws a chart in a form, png or svg: 960 by 560 points, on white. An SVG brings its font along.
func Draw(w io.Writer, c Chart, form string) error {
	if len(c) == 0 {
		return errors.New("there is nothing to draw")
	}
	var canvas interface {
		vg.CanvasSizer
		io.WriterTo
	}
	switch form {
	case "png":
		canvas = vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(width, height), vgimg.UseDPI(perInch))}
	case "svg":
		canvas = vgsvg.NewWith(vgsvg.UseWH(width, height), vgsvg.EmbedFonts(true))
	default:
		return fmt.Errorf("a picture is png or svg, not %s", form)
	}
	to := draw.New(canvas)
	to.FillPolygon(color.White, corners(to.Rectangle)) // an SVG has no background of its own
	c.draw(to)
	_, err := canvas.WriteTo(w)
	return err
}

// Inline writes a chart as a part of a page: SVG in the page's colours, light and dark. The label is for
// those who do not see it.
func Inline(w io.Writer, c Chart, label string) error {
	high := height
	if len(c) == 1 && c[0].Flat {
		high = flat
	}
	canvas := vgsvg.NewWith(vgsvg.UseWH(width, high))
	c.draw(draw.New(canvas))
	var b bytes.Buffer
	if _, err := canvas.WriteTo(&b); err != nil {
		return err
	}
	_, body, found := strings.Cut(b.String(), "<g ")
	if !found {
		return errors.New("the picture has no group to show in a page")
	}
	label = html.EscapeString(label)
	_, err := fmt.Fprintf(w, `<svg class="chart" viewBox="0 0 %g %g" role="img" aria-label="%s"><title>%s</title>`+"\n<g %s",
		width.Points(), high.Points(), label, label, styled().ReplaceAllStringFunc(body, inPage))
	return err
}

var styled = text.Regexp(`\s+style="([^"]*)"`)

// inPage is a style as attributes, since a page lets no styles in but its own, with the page's colours.
// The font is that of the page.
func inPage(style string) string {
	var b strings.Builder
	for _, part := range strings.Split(styled().FindStringSubmatch(style)[1], ";") {
		name, value, _ := strings.Cut(part, ":")
		if strings.HasPrefix(name, "font-") && name != "font-size" {
			continue
		}
		if own, ok := pageColour[value]; ok {
			value = own
		}
		fmt.Fprintf(&b, ` %s="%s"`, name, value)
	}
	return b.String()
}

// pageColour is how a page names each colour of the pictures.
var pageColour = func() map[string]string {
	all := map[string]string{}
	for c, name := range map[color.NRGBA]string{
		colours[First]: "--c1", colours[Second]: "--c2", colours[Third]: "--c3", colours[Fourth]: "--c4",
		colours[Bad]: "--failed", ink: "--ink", faint: "--faint", pale: "--line", paper: "--paper",
	} {
		all[fmt.Sprintf("#%02X%02X%02X", c.R, c.G, c.B)] = "var(" + name + ")"
	}
	return all
}()

// draw draws all panels, one below another, with areas that are equally wide.
func (c Chart) draw(to draw.Canvas) {
	to = draw.Crop(to, edge, -edge, edge, -edge)
	high := to.Size().Y / vg.Length(len(c))
	var plots []*panelPlot
	left := vg.Length(0) // of the areas, for the labels beside them
	for i, p := range c {
		place := to
		place.Max.Y -= high * vg.Length(i)
		place.Min.Y = place.Max.Y - high
		drawn := p.plot()
		drawn.at = drawn.heading(place)
		left = max(left, drawn.labels())
		plots = append(plots, drawn)
	}
	for _, p := range plots {
		p.at.Min.X += left - p.labels()
		p.draw()
	}
}

// edge is the room around a picture.
const edge = 10

func corners(r vg.Rectangle) []vg.Point {
	return []vg.Point{r.Min, {X: r.Max.X, Y: r.Min.Y}, r.Max, {X: r.Min.X, Y: r.Max.Y}}
}
