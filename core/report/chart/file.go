package chart

import (
	"bufio"
	"encoding/base64"
	"errors"
	"fmt"
	"image/color"
	"io"
	"math"

	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"git.sr.ht/~sbinet/gg"
	"golang.org/x/image/font/opentype"
)

// perPoint is how many pixels a point has: 96 to the inch.
const perPoint = 96.0 / 72

var (
	colours = []color.NRGBA{
		First: {0x1b, 0x5e, 0x9b, 0xff}, Second: {0xc0, 0x6a, 0x10, 0xff}, Third: {0x2e, 0x7d, 0x32, 0xff},
		Fourth: {0x7b, 0x1f, 0x5a, 0xff}, Bad: {0xb0, 0, 0x20, 0xff}, Plain: {0x55, 0x55, 0x55, 0xff},
	}
	ink, faint, pale = color.NRGBA{0x1c, 0x1c, 0x1c, 0xff}, color.NRGBA{0x55, 0x55, 0x55, 0xff}, color.NRGBA{0xdd, 0xdd, 0xdd, 0xff}
	// sizes are those of the words, in points.
	sizes = map[role]float64{title: 15, label: 13, tick: 12, legend: 13}
)

// Draw draws a chart in a form, png or svg: 960 by 560 points, on white.
func Draw(w io.Writer, c Chart, form string) error {
	if len(c) == 0 {
		return errors.New("there is nothing to draw")
	}
	switch form {
	case "png":
		return drawPixels(w, c)
	case "svg":
		return drawMarkup(w, c)
	}
	return fmt.Errorf("a picture is png or svg, not %s", form)
}

// drawMarkup writes an SVG that stands alone. It brings its font along: another one, where
// that is missing, would be wider and have words overlap.
func drawMarkup(w io.Writer, c Chart) error {
	out := &markup{bufio.NewWriter(w)}
	out.say(`<svg xmlns="http://www.w3.org/2000/svg" width="%dpt" height="%dpt" viewBox="0 0 %d %d">`, width, height, width, height)
	out.say(`<style>@font-face{font-family:"Liberation Sans";src:url(data:font/ttf;base64,%s)}`, base64.StdEncoding.EncodeToString(liberationsansregular.TTF))
	out.say(`text{font:13px "Liberation Sans",Arial,Helvetica,sans-serif;fill:%s}`, hex(ink))
	for _, r := range []role{title, label, tick, legend} {
		out.say(".%s{font-size:%gpx}", r, sizes[r])
	}
	out.say(`.tick{fill:%s}.grid{stroke:%s}.line{fill:none;stroke-width:1.8}.thin{stroke-width:1}.dot{fill:none;stroke-linecap:round}`, hex(faint), hex(pale))
	out.say(`.area{fill-opacity:.25}.paper,.sheet{fill:#fff}.cell{fill:%s;stroke:#999}.wrong{stroke:%s;stroke-width:4}`, hex(colours[First]), hex(colours[Bad]))
	for i, name := range classes {
		out.say(`.%s{stroke:%s}.area.%s,.fill.%s{fill:%s}`, name, hex(colours[i]), name, name, hex(colours[i]))
	}
	out.say(`.area{stroke:none}</style><rect class="sheet" width="%d" height="%d"/>`, width, height)
	place(out, c, height)
	out.say("</svg>\n")
	return out.Flush()
}

func hex(c color.NRGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

// drawPixels writes a PNG.
func drawPixels(w io.Writer, c Chart) error {
	sans, err := opentype.Parse(liberationsansregular.TTF)
	if err != nil {
		return fmt.Errorf("read the font of pictures: %w", err)
	}
	across, down := width*perPoint, height*perPoint
	out := &pixels{Context: gg.NewContext(int(across), int(down)), sans: sans}
	out.SetColor(color.White)
	out.Clear()
	place(out, c, height)
	if out.err != nil {
		return out.err
	}
	return out.EncodePNG(w)
}

// pixels is the pen that draws an image. It keeps its first failure.
type pixels struct {
	*gg.Context
	sans *opentype.Font
	err  error
}

func (o *pixels) path(l look, way []step) {
	if l.kind == dots {
		o.SetColor(colours[l.colour])
		for _, s := range way {
			o.DrawCircle(s.x*perPoint, s.y*perPoint, l.size*perPoint)
			o.Fill()
		}
		return
	}
	o.ClearPath()
	for _, s := range way {
		switch x, y := s.x*perPoint, s.y*perPoint; s.do {
		case 'M':
			o.MoveTo(x, y)
		case 'L':
			o.LineTo(x, y)
		case 'Z':
			o.ClosePath()
		}
	}
	stroke, thick := colours[l.colour], 1.0
	switch l.kind {
	case grid:
		stroke = pale
	case line:
		thick = 1.8
	case fill, area:
		if l.kind == area {
			stroke.A = 0x40
		}
		o.SetColor(stroke)
		o.Fill()
		return
	case cell, wrong:
		shade := colours[First]
		shade.A = uint8(255 * (0.05 + 0.4*l.size))
		o.SetColor(color.White)
		o.FillPreserve()
		o.SetColor(shade)
		o.FillPreserve()
		stroke = color.NRGBA{0x99, 0x99, 0x99, 0xff}
		if l.kind == wrong {
			stroke, thick = colours[Bad], 4
		}
	}
	var dash []float64
	for _, s := range strokes[l.dash] {
		dash = append(dash, s*perPoint)
	}
	o.SetDash(dash...)
	o.SetLineWidth(thick * perPoint)
	o.SetColor(stroke)
	o.Stroke()
}

func (o *pixels) words(w words) {
	face, err := opentype.NewFace(o.sans, &opentype.FaceOptions{Size: sizes[w.role], DPI: 72 * perPoint})
	if err != nil {
		o.err = errors.Join(o.err, fmt.Errorf("draw %q: %w", w.text, err))
		return
	}
	defer face.Close()
	o.SetFontFace(face)
	o.SetColor(ink)
	if w.role == tick {
		o.SetColor(faint)
	}
	x, y := math.Round(w.x*perPoint), math.Round(w.y*perPoint)
	o.Push()
	defer o.Pop()
	if w.up {
		o.RotateAbout(-math.Pi/2, x, y)
	}
	o.DrawStringAnchored(w.text, x, y, map[anchor]float64{start: 0, middle: 0.5, end: 1}[w.anchor], 0)
}
