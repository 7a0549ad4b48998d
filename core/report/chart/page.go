package chart

import (
	"bufio"
	"fmt"
	"html"
	"io"
	"strconv"
	"strings"

	"uparrot/core/text"
)

// The room around the area of a panel in a page, in the units of the drawing.
const (
	left, right = 84, 24
	above, row  = 14, 22 // a title and the legend take a row each
	below       = 58
	flat        = 300
)

// classes are the names by which a page's style gives its colours.
var classes = []string{First: "c1", Second: "c2", Third: "c3", Fourth: "c4", Bad: "bad", Plain: "plain"}

// Inline writes a chart as a part of a page, SVG 2, whose colours the page's style
// gives to the classes c1 to c4, bad, plain, grid and cell. The label is for those
// who do not see it.
func Inline(w io.Writer, c Chart, label string) error {
	out := &inline{Writer: bufio.NewWriter(w)}
	height := height
	if len(c) == 1 && c[0].Flat {
		height = flat
	}
	out.say(`<svg class="chart" viewBox="0 0 %d %d" role="img" aria-label="%s">`, width, height, html.EscapeString(label))
	for i, p := range c {
		out.panel(p.fitted(), height*i/len(c), height*(i+1)/len(c))
	}
	out.say("</svg>\n")
	return out.Flush()
}

// inline writes drawings. A failure comes out at Flush.
type inline struct {
	*bufio.Writer
	p                        *Panel
	top, bottom              float64 // of the area
	lengthAcross, lengthDown float64
}

func (o *inline) say(format string, values ...any) { _, _ = fmt.Fprintf(o, format, values...) } // told at Flush

func (o *inline) text(x, y float64, anchor, class, words string) {
	o.say(`<text x="%.1f" y="%.1f" text-anchor="%s" class="%s">%s</text>`, x, y, anchor, class, html.EscapeString(text.Line(words)))
}

// at is where a place is drawn.
func (o *inline) at(p XY) (x, y float64) {
	return left + o.lengthAcross*o.p.X.part(p.X), o.bottom - o.lengthDown*o.p.Y.part(p.Y)
}

func (o *inline) panel(p *Panel, top, bottom int) {
	o.p, o.top, o.bottom = p, float64(top+above), float64(bottom-below)
	if p.Title != "" {
		o.text((left+width-right)/2, o.top+row-6, "middle", "title", p.Title)
		o.top += row
	}
	o.legend()
	o.lengthAcross, o.lengthDown = width-left-right, o.bottom-o.top
	for _, t := range p.X.Ticks(p.X.Low, p.X.High) {
		x, _ := o.at(XY{t.At, p.Y.Low})
		o.say(`<path class="grid" d="M%.1f %.1fV%.1f"/>`, x, o.top, o.bottom)
		o.text(x, o.bottom+18, "middle", "tick", t.Label)
	}
	for _, t := range p.Y.Ticks(p.Y.Low, p.Y.High) {
		_, y := o.at(XY{p.X.Low, t.At})
		o.say(`<path class="grid" d="M%d %.1fH%d"/>`, left, y, width-right)
		o.text(left-8, y+4, "end", "tick", t.Label)
	}
	o.text((left+width-right)/2, o.bottom+42, "middle", "label", p.X.Label)
	o.say(`<g transform="translate(18 %.1f) rotate(-90)">`, (o.top+o.bottom)/2)
	o.text(0, 0, "middle", "label", p.Y.Label)
	o.say("</g>")
	for _, m := range p.Marks {
		switch m := m.(type) {
		case Points:
			o.points(m)
		case Line:
			o.line(m)
		case Band:
			o.band(m)
		case Rule:
			o.rule(m)
		case Cell:
			o.cell(m)
		}
	}
}

// legend writes the names of the marks above the area, in as many rows as they need.
func (o *inline) legend() {
	x, y := float64(left), o.top+row/2
	for _, m := range o.p.Marks {
		name, sample := entry(m)
		if name == "" {
			continue
		}
		across := 34 + wide(name)
		if x > left && x+across > width-right {
			x, y = left, y+row
		}
		sample(o, x, y)
		o.say(`<text x="%.1f" y="%.1f" class="legend" textLength="%.1f" lengthAdjust="spacingAndGlyphs">%s</text>`, x+34, y+4, across-34, html.EscapeString(text.Line(name)))
		x += across + 24
	}
	if x > left {
		o.top = y + row/2 + 6
	}
}

// wide is about how wide words are in the font that the page names; in another one they are
// drawn to that width, so that none stand over one another.
func wide(words string) float64 {
	sum := 0.0
	for _, r := range words {
		switch {
		case strings.ContainsRune("iljtfrI.,:;'|!()[]/ ", r):
			sum += 3.8
		case strings.ContainsRune("mwMW%@", r):
			sum += 11
		case r >= 'A' && r <= 'Z':
			sum += 8.8
		default:
			sum += 7.2
		}
	}
	return sum
}

// entry is a mark's name in the legend, "" if it has none, and what draws it there.
func entry(m Mark) (name string, sample func(o *inline, x, y float64)) {
	switch m := m.(type) {
	case Points:
		if len(m.At) > 0 {
			return m.Name, func(o *inline, x, y float64) {
				o.say(`<path class="%s" d="`, pointClass(m))
				o.shape(x+12, y, m)
				o.say(`"%s/>`, weight(m))
			}
		}
	case Line:
		return m.Name, func(o *inline, x, y float64) {
			o.say(`<path class="line %s"%s d="M%.1f %.1fh26"/>`, classes[m.Colour], broken(m.Dash), x, y)
		}
	}
	return "", nil
}

// points writes all of one kind as one path: there may be thousands.
func (o *inline) points(m Points) {
	if len(m.At) == 0 {
		return
	}
	for i, s := range m.Spread {
		x, low := o.at(XY{m.At[i].X, s.Low})
		_, high := o.at(XY{m.At[i].X, s.High})
		o.say(`<path class="line thin %s" d="M%.1f %.1fV%.1fm-4 0h8M%.1f %.1fm-4 0h8"/>`, classes[m.Colour], x, low, high, x, low)
	}
	o.say(`<path class="%s" d="`, pointClass(m))
	for _, p := range m.At {
		x, y := o.at(p)
		o.shape(x, y, m)
	}
	o.say(`"%s/>`, weight(m))
}

// shape writes one point of a path. A dot is a line of no length with round ends.
func (o *inline) shape(x, y float64, m Points) {
	r := m.Size
	switch m.Shape {
	case Dot:
		o.say("M%.1f %.1fh0", x, y)
	case Triangle:
		o.say("M%.1f %.1fl%.1f %.1fh%.1fz", x, y-r, r, 1.7*r, -2*r)
	case Cross:
		o.say("M%.1f %.1fl%.1f %.1fm0 %.1fl%.1f %.1f", x-r, y-r, 2*r, 2*r, -2*r, -2*r, 2*r)
	case Plus:
		o.say("M%.1f %.1fh%.1fM%.1f %.1fv%.1f", x-r, y, 2*r, x, y-r, 2*r)
	}
}

// pointClass tells how a point is drawn: filled, or by its lines.
func pointClass(m Points) string {
	how := "line "
	switch m.Shape {
	case Dot:
		how = "dot "
	case Triangle:
		how = "fill "
	}
	return how + classes[m.Colour]
}

// weight is how thick the lines of points are.
func weight(m Points) string {
	if m.Shape == Dot {
		return ` stroke-width="` + strconv.FormatFloat(2*m.Size, 'g', 4, 64) + `"`
	}
	return ""
}

func (o *inline) line(m Line) {
	if len(m.At) == 0 {
		return
	}
	o.say(`<path class="line %s"%s d="`, classes[m.Colour], broken(m.Dash))
	for i, p := range m.At {
		x, y := o.at(p)
		o.say("%c%.1f %.1f", "ML"[min(i, 1)], x, y)
	}
	o.say(`"/>`)
}

func (o *inline) band(m Band) {
	if len(m.X) == 0 {
		return
	}
	o.say(`<path class="area %s" d="`, classes[m.Colour])
	for i, p := range m.outline() {
		x, y := o.at(p)
		o.say("%c%.1f %.1f", "ML"[min(i, 1)], x, y)
	}
	o.say(`z"/>`)
}

func (o *inline) rule(m Rule) {
	x, _ := o.at(XY{m.X, o.p.Y.Low})
	o.say(`<path class="line thin %s"%s d="M%.1f %.1fV%.1f"/>`, classes[m.Colour], broken(m.Dash), x, o.top, o.bottom)
	anchor, aside := "start", 4.0
	if x > (left+width-right)/2 {
		anchor, aside = "end", -4.0
	}
	o.text(x+aside, o.bottom-5, anchor, "tick", m.Text)
}

func broken(d Dash) string {
	if len(strokes[d]) == 0 {
		return ""
	}
	s := ` stroke-dasharray="`
	for _, n := range strokes[d] {
		s += strconv.FormatFloat(n, 'g', 4, 64) + " "
	}
	return s + `"`
}

func (o *inline) cell(m Cell) {
	x0, y0 := o.at(XY{m.At.X - 0.47, m.At.Y + 0.45})
	x1, y1 := o.at(XY{m.At.X + 0.47, m.At.Y - 0.45})
	class := "cell"
	if m.Wrong {
		class = "cell wrong"
	}
	area := fmt.Sprintf(`x="%.1f" y="%.1f" width="%.1f" height="%.1f"`, x0, y0, x1-x0, y1-y0)
	o.say(`<rect class="paper" %s/><rect class="%s" %s fill-opacity="%.2f"/>`, area, class, area, 0.05+0.4*min(1, max(0, m.Share)))
	o.text((x0+x1)/2, (y0+y1)/2+5, "middle", "legend", m.Text)
}

// Range is a value among its limits; nil is an open side.
type Range struct {
	Value     float64
	Of        *Span // of a series: from its least to its greatest; nil of one value
	Low, High *float64
	Outside   bool
	Label     string // for those who do not see it
}

// Inline is the range as a part of a page, as wide as a column: the band is what is
// allowed, an open side goes on to the edge. Without limits it is empty.
func (r Range) Inline() string {
	if r.Low == nil && r.High == nil {
		return ""
	}
	low, high := r.Value, r.Value
	if r.Low != nil {
		low = *r.Low
	}
	if r.High != nil {
		high = *r.High
	}
	if r.Low == nil {
		low = min(r.Value, high) - max(1, abs(high-r.Value))
	}
	if r.High == nil {
		high = max(r.Value, low) + max(1, abs(r.Value-low))
	}
	if low > high {
		low, high = high, low
	}
	room := max(high-low, 1e-9) / 4
	axis := Axis{Low: low - room, High: high + room}
	const across = 176
	at := func(v float64) float64 { return across * min(1, max(0, axis.part(v))) }
	from, to := at(low), at(high)
	if r.Low == nil {
		from = 0
	}
	if r.High == nil {
		to = across
	}
	mark := "mark"
	if r.Outside {
		mark = "out"
	}
	from2, to2 := at(r.Value), at(r.Value)
	if r.Of != nil {
		from2, to2 = at(r.Of.Low), at(r.Of.High)
	}
	return fmt.Sprintf(`<svg class="range" viewBox="0 0 %d 22" role="img" aria-label="%s"><rect class="track" y="9" width="%d" height="4"/><rect class="band" x="%.1f" y="5" width="%.1f" height="12"/><rect class="%s" x="%.1f" y="9.5" width="%.1f" height="3"/><path class="%s" d="M%.1f 4 l4 7 l-4 7 l-4 -7 z"/></svg>`,
		across, html.EscapeString(r.Label), across, from, to-from, mark, from2, to2-from2, mark, min(across-4, max(4, at(r.Value))))
}

func abs(v float64) float64 { return max(v, -v) }
