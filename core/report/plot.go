// Package report makes pictures and pages out of what was measured.
package report

import (
	"errors"
	"fmt"
	"image/color"
	"io"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// Series is the latencies of one direction.
type Series struct {
	Name    string
	Seconds []float64 // when each frame was sent, since the first
	MS      []float64 // its latency in milliseconds
	Lost    []float64 // when the frames were sent that did not arrive

	// How many there were, of which the points may be a part.
	Received, LostCount int
}

// The directions differ by colour and by shape, so that they can be told apart
// in grey too.
var looks = []struct {
	colour color.Color
	shape  draw.GlyphDrawer
}{
	{color.RGBA{0x1b, 0x5e, 0x9b, 0xff}, draw.CircleGlyph{}},
	{color.RGBA{0xc0, 0x6a, 0x10, 0xff}, draw.TriangleGlyph{}},
}

// latency draws latency over time with losses marked at the bottom.
func latency(title string, series []Series) (*plot.Plot, error) {
	p := frame(title, "time since the first frame (s)", "latency (ms)")
	p.Y.Min = 0
	p.Legend.Top = true
	p.Legend.ThumbnailWidth = vg.Points(16)
	highest := 0.0
	for i, s := range series {
		look := looks[i%len(looks)]
		points := make(plotter.XYs, len(s.MS))
		for j := range s.MS {
			points[j] = plotter.XY{X: s.Seconds[j], Y: s.MS[j]}
			highest = max(highest, s.MS[j])
		}
		if err := scatter(p, fmt.Sprintf("%s: %d received", s.Name, s.Received), points, look.colour, look.shape, 2.6); err != nil {
			return nil, err
		}
		lost := make(plotter.XYs, len(s.Lost))
		for j, x := range s.Lost {
			lost[j] = plotter.XY{X: x, Y: 0}
		}
		shape := []draw.GlyphDrawer{draw.CrossGlyph{}, draw.PlusGlyph{}}[i%2]
		if err := scatter(p, fmt.Sprintf("%s: %d lost", s.Name, s.LostCount), lost, color.RGBA{0xb0, 0, 0x20, 0xff}, shape, 4.5); err != nil {
			return nil, err
		}
	}
	// Room above the points for the legend.
	p.Y.Max = max(1, highest*1.35)
	return p, nil
}

// draws writes a plot with a margin, as png or svg.
func draws(p *plot.Plot, w io.Writer, form string) error {
	c, err := draw.NewFormattedCanvas(vg.Points(960), vg.Points(560), form)
	if err != nil {
		return err
	}
	const margin = 14
	p.Draw(draw.Crop(draw.New(c), vg.Points(margin), -vg.Points(2*margin), vg.Points(margin), -vg.Points(margin)))
	_, err = c.WriteTo(w)
	return err
}

// save writes a plot to a file whose ending tells the form: .png or .svg.
func save(p *plot.Plot, file string) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	return errors.Join(draws(p, f, strings.TrimPrefix(filepath.Ext(file), ".")), f.Close())
}

// roundTicks are at about eight multiples of 1, 2 or 5.
type roundTicks struct{}

func (roundTicks) Ticks(low, high float64) []plot.Tick {
	step := math.Pow(10, math.Floor(math.Log10((high-low)/8)))
	for _, m := range []float64{1, 2, 5, 10} {
		if (high-low)/(step*m) <= 10 {
			step *= m
			break
		}
	}
	var ticks []plot.Tick
	for v := math.Ceil(low/step) * step; v <= high+step/1000; v += step {
		ticks = append(ticks, plot.Tick{Value: v, Label: strconv.FormatFloat(math.Round(v/step)*step, 'g', 6, 64)})
	}
	return ticks
}

func scatter(p *plot.Plot, name string, points plotter.XYs, c color.Color, shape draw.GlyphDrawer, radius float64) error {
	if len(points) == 0 {
		return nil
	}
	s, err := plotter.NewScatter(points)
	if err != nil {
		return fmt.Errorf("draw %s: %w", strings.ToLower(name), err)
	}
	s.GlyphStyle = draw.GlyphStyle{Color: c, Radius: vg.Points(radius), Shape: shape}
	p.Add(s)
	p.Legend.Add(name, s)
	return nil
}
