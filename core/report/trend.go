package report

import (
	"image/color"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
)

// TrendPoint is one value of a measurement over time; nil is an open limit.
type TrendPoint struct {
	Value     float64
	Low, High *float64
	Passed    bool
}

// Trend draws values in their order, with the mean and the limits that each was
// held against, to files whose ending tells the form: .png or .svg.
func Trend(what, unit string, mean float64, points []TrendPoint, files ...string) error {
	p := frame(what, "values in the order of time", withUnitInBrackets(what, unit))
	var within, outside, low, high plotter.XYs
	for i, v := range points {
		x := float64(i + 1)
		if v.Passed {
			within = append(within, plotter.XY{X: x, Y: v.Value})
		} else {
			outside = append(outside, plotter.XY{X: x, Y: v.Value})
		}
		if v.Low != nil {
			low = append(low, plotter.XY{X: x - 0.5, Y: *v.Low}, plotter.XY{X: x + 0.5, Y: *v.Low})
		}
		if v.High != nil {
			high = append(high, plotter.XY{X: x - 0.5, Y: *v.High}, plotter.XY{X: x + 0.5, Y: *v.High})
		}
	}
	line := func(name string, xys plotter.XYs, c color.Color, dash []vg.Length) error {
		if len(xys) == 0 {
			return nil
		}
		l, err := plotter.NewLine(xys)
		if err != nil {
			return err
		}
		l.Color, l.Width, l.Dashes = c, vg.Points(1.6), dash
		p.Add(l)
		if name != "" {
			p.Legend.Add(name, l)
		}
		return nil
	}
	red := color.RGBA{0xb0, 0, 0x20, 0xff}
	name := "limits"
	for _, xys := range []plotter.XYs{low, high} {
		if err := line(name, xys, red, dashes[1]); err != nil {
			return err
		}
		if len(xys) > 0 {
			name = ""
		}
	}
	n := float64(len(points))
	if err := line("mean", plotter.XYs{{X: 0.5, Y: mean}, {X: n + 0.5, Y: mean}}, color.Gray{0x55}, dashes[2]); err != nil {
		return err
	}
	if err := scatter(p, "within the limits", within, looks[0].colour, looks[0].shape, 4); err != nil {
		return err
	}
	if err := scatter(p, "outside", outside, red, looks[1].shape, 5); err != nil {
		return err
	}
	p.X.Min, p.X.Max = 0.5, n+0.5
	room := max((p.Y.Max-p.Y.Min)*0.1, 0.5)
	p.Y.Min, p.Y.Max = p.Y.Min-room, p.Y.Max+4*room // room for the legend
	p.Legend.Top = true
	p.X.Tick.Marker = wholeTicks{}
	return saveAll(p, files)
}

func withUnitInBrackets(what, unit string) string {
	if unit == "" {
		return what
	}
	return what + " (" + unit + ")"
}

// wholeTicks are those of roundTicks that are whole numbers.
type wholeTicks struct{}

func (wholeTicks) Ticks(low, high float64) []plot.Tick {
	var ticks []plot.Tick
	for _, t := range (roundTicks{}).Ticks(low, high) {
		if t.Value == float64(int(t.Value)) {
			ticks = append(ticks, t)
		}
	}
	return ticks
}
