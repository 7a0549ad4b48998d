package chart

import (
	"bufio"
	"fmt"
	"html"
	"io"
	"strconv"
)

// classes are the names by which a page's style gives its colours.
var classes = []string{First: "c1", Second: "c2", Third: "c3", Fourth: "c4", Bad: "bad", Plain: "plain"}

// Inline writes a chart as a part of a page, SVG 2, whose colours the page's style
// gives to the classes c1 to c4, bad, plain, grid and cell. The label is for those
// who do not see it.
func Inline(w io.Writer, c Chart, label string) error {
	out := &markup{bufio.NewWriter(w)}
	height := height
	if len(c) == 1 && c[0].Flat {
		height = flat
	}
	out.say(`<svg class="chart" viewBox="0 0 %d %d" role="img" aria-label="%s">`, width, height, html.EscapeString(label))
	place(out, c, height)
	out.say("</svg>\n")
	return out.Flush()
}

// markup is the pen that writes SVG. A failure comes out at Flush.
type markup struct{ *bufio.Writer }

func (o *markup) say(format string, values ...any) { _, _ = fmt.Fprintf(o, format, values...) } // told at Flush

// classOf tells which classes of the page's style a path has.
func classOf(l look) string {
	switch l.kind {
	case grid:
		return "grid"
	case line:
		return "line " + classes[l.colour]
	case thin:
		return "line thin " + classes[l.colour]
	case dots:
		return "dot " + classes[l.colour]
	case fill:
		return "fill " + classes[l.colour]
	case area:
		return "area " + classes[l.colour]
	case wrong:
		return "cell wrong"
	default:
		return "cell"
	}
}

func (o *markup) path(l look, way []step) {
	if len(way) == 0 {
		return
	}
	if l.kind == cell || l.kind == wrong { // which lets nothing shine through
		o.say(`<path class="paper"%s/>`, outline(way))
		o.say(`<path class="%s" fill-opacity="%.2f"%s/>`, classOf(l), 0.05+0.4*l.size, outline(way))
		return
	}
	o.say(`<path class="%s"%s%s`, classOf(l), broken(l.dash), outline(way))
	if l.kind == dots { // a dot is a line of no length with round ends
		o.say(` stroke-width="%s"`, strconv.FormatFloat(2*l.size, 'g', 4, 64))
	}
	o.say("/>")
}

// outline is a path in words.
func outline(way []step) string {
	b := []byte(` d="`)
	for _, s := range way {
		switch s.do {
		case 'Z':
			b = append(b, 'z')
		case 'D':
			b = fmt.Appendf(b, "M%.1f %.1fh0", s.x, s.y)
		default:
			b = fmt.Appendf(b, "%c%.1f %.1f", s.do, s.x, s.y)
		}
	}
	return string(append(b, '"'))
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

func (o *markup) words(w words) {
	o.say(`<text x="%.1f" y="%.1f" text-anchor="%s" class="%s"`, w.x, w.y, w.anchor, w.role)
	if w.up {
		o.say(` transform="rotate(-90 %.1f %.1f)"`, w.x, w.y)
	}
	if w.across > 0 {
		o.say(` textLength="%.1f" lengthAdjust="spacingAndGlyphs"`, w.across)
	}
	o.say(">%s</text>", html.EscapeString(w.text))
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
