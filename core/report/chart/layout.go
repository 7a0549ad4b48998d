package chart

import (
	"strings"

	"uparrot/core/text"
)

// The size of a picture, in the units of the drawing: points of a 72nd of an inch.
const (
	width  = 960
	height = 560
)

// The room around the area of a panel.
const (
	left, right = 84, 24
	above, row  = 14, 22 // a title and the legend take a row each
	below       = 58
	flat        = 300
)

// pen draws what layout has placed. What it cannot write it tells when the picture is done.
type pen interface {
	path(l look, way []step)
	words(w words)
}

// look is how a path is drawn.
type look struct {
	kind   kind
	colour Colour
	dash   Dash
	size   float64 // of a dot its radius, of a cell its share, 0 to 1
}

type kind int

const (
	grid  kind = iota
	line       // a line of values
	thin       // an interval, a rule
	dots       // points that are round
	fill       // points that are filled
	area       // the room between lines
	cell       // a square of a matrix
	wrong      // one framed in red
)

// step is a part of a path: 'M' goes to a place, 'L' draws to it, 'D' sets a dot at it,
// 'Z' closes the shape.
type step struct {
	do   byte
	x, y float64
}

// words are text and where it stands.
type words struct {
	x, y   float64
	anchor anchor
	role   role
	text   string
	across float64 // is drawn as wide as that, if not 0
	up     bool    // reads from below to above
}

type anchor string

const (
	start  anchor = "start"
	middle anchor = "middle"
	end    anchor = "end"
)

type role string

const (
	title  role = "title"
	label  role = "label"
	tick   role = "tick"
	legend role = "legend"
)

// layout places a panel: the one place that decides where everything stands.
type layout struct {
	pen
	p                        *Panel
	top, bottom              float64 // of the area
	lengthAcross, lengthDown float64
}

// place draws all panels of a chart, one below another.
func place(to pen, c Chart, height int) {
	for i, p := range c {
		o := &layout{pen: to}
		o.panel(p.fitted(), height*i/len(c), height*(i+1)/len(c))
	}
}

func (o *layout) text(x, y float64, a anchor, r role, say string) {
	o.words(words{x: x, y: y, anchor: a, role: r, text: text.Line(say)})
}

// at is where a place is drawn.
func (o *layout) at(p XY) (x, y float64) {
	return left + o.lengthAcross*o.p.X.part(p.X), o.bottom - o.lengthDown*o.p.Y.part(p.Y)
}

func (o *layout) panel(p *Panel, top, bottom int) {
	o.p, o.top, o.bottom = p, float64(top+above), float64(bottom-below)
	if p.Title != "" {
		o.text((left+width-right)/2, o.top+row-6, middle, title, p.Title)
		o.top += row
	}
	o.legend()
	o.lengthAcross, o.lengthDown = width-left-right, o.bottom-o.top
	for _, t := range p.X.Ticks(p.X.Low, p.X.High) {
		x, _ := o.at(XY{t.At, p.Y.Low})
		o.path(look{kind: grid}, []step{{'M', x, o.top}, {'L', x, o.bottom}})
		o.text(x, o.bottom+18, middle, tick, t.Label)
	}
	for _, t := range p.Y.Ticks(p.Y.Low, p.Y.High) {
		_, y := o.at(XY{p.X.Low, t.At})
		o.path(look{kind: grid}, []step{{'M', left, y}, {'L', width - right, y}})
		o.text(left-8, y+4, end, tick, t.Label)
	}
	o.text((left+width-right)/2, o.bottom+42, middle, label, p.X.Label)
	o.words(words{x: 18, y: (o.top + o.bottom) / 2, anchor: middle, role: label, text: text.Line(p.Y.Label), up: true})
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
func (o *layout) legend() {
	x, y := float64(left), o.top+row/2
	for _, m := range o.p.Marks {
		name, l, sample := entry(m)
		if name == "" {
			continue
		}
		across := 34 + wide(name)
		if x > left && x+across > width-right {
			x, y = left, y+row
		}
		for i := range sample {
			sample[i].x, sample[i].y = sample[i].x+x, sample[i].y+y
		}
		o.path(l, sample)
		o.words(words{x: x + 34, y: y + 4, anchor: start, role: legend, text: text.Line(name), across: across - 34})
		x += across + 24
	}
	if x > left {
		o.top = y + row/2 + 6
	}
}

// wide is about how wide words are in the font that a picture names; in another one they are
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

// entry is a mark's name in the legend, "" if it has none, and its sample there.
func entry(m Mark) (name string, l look, sample []step) {
	switch m := m.(type) {
	case Points:
		if len(m.At) > 0 {
			return m.Name, pointLook(m), shape(nil, 12, 0, m)
		}
	case Line:
		return m.Name, look{kind: line, colour: m.Colour, dash: m.Dash}, []step{{'M', 0, 0}, {'L', 26, 0}}
	}
	return "", look{}, nil
}

// points draws all of one kind as one path: there may be thousands.
func (o *layout) points(m Points) {
	if len(m.At) == 0 {
		return
	}
	for i, s := range m.Spread {
		x, low := o.at(XY{m.At[i].X, s.Low})
		_, high := o.at(XY{m.At[i].X, s.High})
		o.path(look{kind: thin, colour: m.Colour}, []step{{'M', x, low}, {'L', x, high}, {'M', x - 4, high}, {'L', x + 4, high}, {'M', x - 4, low}, {'L', x + 4, low}})
	}
	var way []step
	for _, p := range m.At {
		x, y := o.at(p)
		way = shape(way, x, y, m)
	}
	o.path(pointLook(m), way)
}

// shape adds one point to a path.
func shape(way []step, x, y float64, m Points) []step {
	r := m.Size
	switch m.Shape {
	case Dot:
		return append(way, step{'D', x, y})
	case Triangle:
		return append(way, step{'M', x, y - r}, step{'L', x + r, y + 0.7*r}, step{'L', x - r, y + 0.7*r}, step{'Z', 0, 0})
	case Cross:
		return append(way, step{'M', x - r, y - r}, step{'L', x + r, y + r}, step{'M', x + r, y - r}, step{'L', x - r, y + r})
	default: // Plus
		return append(way, step{'M', x - r, y}, step{'L', x + r, y}, step{'M', x, y - r}, step{'L', x, y + r})
	}
}

// pointLook tells how a point is drawn: round, filled, or by its lines.
func pointLook(m Points) look {
	switch m.Shape {
	case Dot:
		return look{kind: dots, colour: m.Colour, size: m.Size}
	case Triangle:
		return look{kind: fill, colour: m.Colour}
	}
	return look{kind: line, colour: m.Colour}
}

func (o *layout) line(m Line) {
	o.path(look{kind: line, colour: m.Colour, dash: m.Dash}, o.way(m.At))
}

func (o *layout) band(m Band) {
	if way := o.way(m.outline()); way != nil {
		o.path(look{kind: area, colour: m.Colour}, append(way, step{'Z', 0, 0}))
	}
}

// way joins places.
func (o *layout) way(at []XY) []step {
	var way []step
	for i, p := range at {
		x, y := o.at(p)
		way = append(way, step{"ML"[min(i, 1)], x, y})
	}
	return way
}

// rule draws a line from the lower edge to the upper one.
func (o *layout) rule(m Rule) {
	x, _ := o.at(XY{m.X, o.p.Y.Low})
	o.path(look{kind: thin, colour: m.Colour, dash: m.Dash}, []step{{'M', x, o.top}, {'L', x, o.bottom}})
	side, aside := start, 4.0
	if x > (left+width-right)/2 {
		side, aside = end, -4.0
	}
	o.text(x+aside, o.bottom-5, side, tick, m.Text)
}

func (o *layout) cell(m Cell) {
	x0, y0 := o.at(XY{m.At.X - 0.47, m.At.Y + 0.45})
	x1, y1 := o.at(XY{m.At.X + 0.47, m.At.Y - 0.45})
	l := look{kind: cell, size: min(1, max(0, m.Share))}
	if m.Wrong {
		l.kind = wrong
	}
	o.path(l, []step{{'M', x0, y0}, {'L', x1, y0}, {'L', x1, y1}, {'L', x0, y1}, {'Z', 0, 0}})
	o.text((x0+x1)/2, (y0+y1)/2+5, middle, legend, m.Text)
}
