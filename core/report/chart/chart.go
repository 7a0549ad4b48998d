// Package chart draws pictures of numbers. Whoever has numbers to show says what is to be seen, in a
// Chart; how it looks is decided here alone, and the plot package draws it: Draw to a file of its own,
// Inline as a part of a page, in the page's colours.
package chart

import (
	"fmt"
	"math"
	"strconv"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/vg"
)

// Chart is one picture: panels one below another.
type Chart []*Panel

// Panel is an area with two axes.
type Panel struct {
	Title string
	X, Y  Axis
	Marks []Mark // drawn in this order
	Flat  bool   // in a page half as high
}

// Axis is one axis of a panel. Where Low is High both are taken from the marks.
type Axis struct {
	Label     string
	Low, High float64
	Log       bool // Low must be above 0
	Ticks     func(low, high float64) []Tick
}

// Tick is a labelled place on an axis.
type Tick struct {
	At    float64
	Label string
}

// XY is a place in a panel, in the units of its axes.
type XY struct{ X, Y float64 }

// Span is the ends of an interval, in the units of the axis of Y.
type Span struct{ Low, High float64 }

// Mark is what stands in a panel: Points, Line, Band, Rule or Cell.
type Mark interface {
	extent() []XY
	plotters() []plot.Plotter
	legend() (string, plot.Thumbnailer) // "" if it has no name there
}

// Points are places, each with its interval where Spread is set.
type Points struct {
	Name   string // in the legend
	At     []XY
	Spread []Span // one for each place, or nil
	Colour Colour
	Shape  Shape
	Size   float64 // radius in points
}

// Line joins places.
type Line struct {
	Name   string // in the legend; none if empty
	At     []XY
	Colour Colour
	Dash   Dash
}

// Band is the room between two lines over the same places, in the colour of the line in it.
type Band struct {
	X      []float64
	Of     []Span
	Colour Colour
}

// Rule is a line across the panel at a place of the axis of X, with a word at its top.
type Rule struct {
	X      float64
	Text   string
	Colour Colour
	Dash   Dash
}

// Cell is a square of a matrix, one unit wide.
type Cell struct {
	At    XY // its middle
	Text  string
	Share float64 // how dark it is, 0 to 1
	Wrong bool    // framed in red
}

// Colour is what a mark is drawn in. No meaning hangs on it alone: shapes and
// dashes tell the same apart in grey.
type Colour int

// The colours. Bad is for what is lost or outside of a limit, Plain for limits and
// means.
const (
	First Colour = iota
	Second
	Third
	Fourth
	Bad
	Plain
)

// Shape is what a point looks like.
type Shape int

// The shapes.
const (
	Dot Shape = iota
	Triangle
	Cross
	Plus
)

// Dash is how a line is broken.
type Dash int

// The dashes.
const (
	Solid Dash = iota
	Dashed
	Dotted
	Mixed
)

// strokes are the lengths of strokes and gaps, in points.
var strokes = [][]vg.Length{nil, {7, 4}, {2, 3}, {9, 3, 2, 3}}

// Nth is the look of the n-th of several of a kind, from 0.
func Nth(n int) (Colour, Shape, Dash) { return Colour(n % 4), Shape(n % 2), Dash(n % 4) }

func (p Points) extent() []XY {
	all := p.At
	for i, s := range p.Spread {
		all = append(all[:len(all):len(all)], XY{p.At[i].X, s.Low}, XY{p.At[i].X, s.High})
	}
	return all
}

func (l Line) extent() []XY { return l.At }

func (b Band) extent() []XY { return b.outline() }

// outline goes along the upper line and back along the lower one.
func (b Band) outline() []XY {
	var all []XY
	for i, s := range b.Of {
		all = append(all, XY{b.X[i], s.High})
	}
	for i := len(b.Of) - 1; i >= 0; i-- {
		all = append(all, XY{b.X[i], b.Of[i].Low})
	}
	return all
}

func (r Rule) extent() []XY { return nil }

func (c Cell) extent() []XY { return []XY{{c.At.X - 0.5, c.At.Y - 0.5}, {c.At.X + 0.5, c.At.Y + 0.5}} }

// fitted is the panel with bounds and ticks on both axes.
func (p *Panel) fitted() *Panel {
	q := *p
	low, high := XY{math.Inf(1), math.Inf(1)}, XY{math.Inf(-1), math.Inf(-1)}
	for _, m := range p.Marks {
		for _, at := range m.extent() {
			low, high = XY{min(low.X, at.X), min(low.Y, at.Y)}, XY{max(high.X, at.X), max(high.Y, at.Y)}
		}
	}
	q.X.fit(low.X, high.X)
	q.Y.fit(low.Y, high.Y)
	return &q
}

func (a *Axis) fit(low, high float64) {
	if a.Low == a.High {
		a.Low, a.High = low, high
	}
	if !(a.Low < a.High) || math.IsInf(a.Low, 0) || math.IsInf(a.High, 0) { // nothing to see, or one place
		if math.IsInf(a.Low, 0) || math.IsNaN(a.Low) {
			a.Low = 0
		}
		a.High = a.Low + 1
	}
	if a.Log && a.Low <= 0 { // which such an axis does not show
		a.Low = a.High / 1000
	}
	if a.Ticks == nil {
		a.Ticks = Round
	}
}

// Round ticks are at about eight multiples of 1, 2 or 5.
func Round(low, high float64) []Tick {
	step := math.Pow(10, math.Floor(math.Log10((high-low)/8)))
	for _, m := range []float64{1, 2, 5, 10} {
		if (high-low)/(step*m) <= 10 {
			step *= m
			break
		}
	}
	var ticks []Tick
	for i := range 12 { // counted, since a step may be too small to change a great number
		if v := math.Ceil(low/step)*step + float64(i)*step; v <= high+step/1000 {
			ticks = append(ticks, Tick{v, strconv.FormatFloat(math.Round(v/step)*step, 'g', 6, 64)})
		}
	}
	return ticks
}

// Whole ticks are those of Round that are whole numbers.
func Whole(low, high float64) []Tick {
	var ticks []Tick
	for _, t := range Round(low, high) {
		if t.At == math.Trunc(t.At) {
			ticks = append(ticks, t)
		}
	}
	return ticks
}

// Decades are ticks at 1, 2 and 5 of each power of ten.
func Decades(low, high float64) []Tick {
	var ticks []Tick
	for v := math.Pow(10, math.Floor(math.Log10(low))); v > 0 && v <= high; v *= 10 {
		for _, m := range []float64{1, 2, 5} {
			if v*m >= low && v*m <= high {
				ticks = append(ticks, Tick{v * m, fmt.Sprintf("%g", v*m)})
			}
		}
	}
	return ticks
}

// Shares are ticks at 100 %, 50 %, 10 %, 5 %, 1 % and so on.
func Shares(low, high float64) []Tick {
	var ticks []Tick
	for v := 1.0; v > 0 && v >= low*0.99; v /= 10 {
		for _, m := range []float64{1, 0.5} {
			if v*m >= low*0.99 && v*m <= high*1.01 {
				ticks = append(ticks, Tick{v * m, fmt.Sprintf("%.4g %%", 100*v*m)})
			}
		}
	}
	return ticks
}

// Names are ticks at 0, 1, 2 and so on.
func Names(names []string) func(low, high float64) []Tick {
	return func(low, high float64) []Tick {
		var ticks []Tick
		for i, name := range names {
			if float64(i) >= low && float64(i) <= high {
				ticks = append(ticks, Tick{float64(i), name})
			}
		}
		return ticks
	}
}
