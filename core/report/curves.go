package report

import (
	"fmt"
	"image/color"
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
)

// Curve is a sample of latencies.
type Curve struct {
	Name   string
	ms     []float64
	counts []int
	total  int
}

// Add adds a latency that was met count times. Latencies must rise.
func (c *Curve) Add(ms float64, count int) {
	c.ms = append(c.ms, ms)
	c.counts = append(c.counts, count)
	c.total += count
}

// dashes tell curves apart in grey too.
var dashes = [][]vg.Length{nil, {vg.Points(7), vg.Points(4)}, {vg.Points(2), vg.Points(3)}, {vg.Points(9), vg.Points(3), vg.Points(2), vg.Points(3)}}

// Distribution draws which share of frames took longer than a time, and writes it
// to files whose ending tells the form: .png or .svg.
func Distribution(title string, curves []Curve, files ...string) error {
	p, err := distribution(title, curves)
	if err != nil {
		return err
	}
	return saveAll(p, files)
}

// distribution has a logarithmic axis, so that the tail shows.
func distribution(title string, curves []Curve) (*plot.Plot, error) {
	p := frame(title, "latency (ms)", "share of frames that took longer")
	p.Y.Scale = plot.LogScale{}
	p.Y.Tick.Marker = shareTicks{}
	p.Legend.Top = true
	least, low, high := 1.0, math.Inf(1), 0.0
	for i, c := range curves {
		if c.total == 0 {
			continue
		}
		var points plotter.XYs
		above := c.total
		add := func(x float64, n int) {
			if n > 0 {
				points = append(points, plotter.XY{X: x, Y: float64(n) / float64(c.total)})
			}
		}
		for j, v := range c.ms {
			add(v, above)
			above -= c.counts[j]
			add(v, above)
		}
		least = min(least, 1/float64(c.total))
		low, high = min(low, c.ms[0]), max(high, c.ms[len(c.ms)-1])
		line, err := plotter.NewLine(points)
		if err != nil {
			return nil, fmt.Errorf("draw %s: %w", c.Name, err)
		}
		line.Color, line.Width = palette[i%len(palette)], vg.Points(2)
		line.Dashes = dashes[i%len(dashes)]
		p.Add(line)
		p.Legend.Add(fmt.Sprintf("%s (%d frames)", c.Name, c.total), line)
	}
	if p.X.Min = 0; low > high/4 { // nothing to see below
		p.X.Min = math.Floor(low - (high-low)/4)
	}
	p.Y.Max, p.Y.Min = 1, math.Pow(10, math.Floor(math.Log10(least)))
	return p, nil
}

var palette = []color.Color{
	color.RGBA{0x1b, 0x5e, 0x9b, 0xff}, color.RGBA{0xc0, 0x6a, 0x10, 0xff}, color.RGBA{0x2e, 0x7d, 0x32, 0xff}, color.RGBA{0x7b, 0x1f, 0x5a, 0xff},
}

// shareTicks are at 100 %, 50 %, 10 %, 5 %, 1 % and so on.
type shareTicks struct{}

func (shareTicks) Ticks(low, high float64) []plot.Tick {
	var ticks []plot.Tick
	for v := 1.0; v >= low*0.99; v /= 10 {
		for _, m := range []float64{1, 0.5} {
			if v*m >= low*0.99 && v*m <= high*1.01 {
				ticks = append(ticks, plot.Tick{Value: v * m, Label: fmt.Sprintf("%g %%", 100*v*m)})
			}
		}
	}
	return ticks
}

// Point is what was sent and lost at a strength, with the interval of its loss.
type Point struct {
	DBm             float64 // mean of the frames
	Loss, Low, High float64 // shares
	Sent            int
}

// strengthLoss draws loss against strength, each with its 95 % interval.
func strengthLoss(title string, points map[string][]Point, names []string) (*plot.Plot, error) {
	p := frame(title, "strength (dBm)", "loss (%), with 95 % interval")
	p.Legend.Top = true
	highest := 1.0
	for i, name := range names {
		var xys plotter.XYs
		var errs plotter.YErrors
		for _, q := range points[name] {
			xys = append(xys, plotter.XY{X: q.DBm, Y: 100 * q.Loss})
			highest = max(highest, 100*q.High)
			errs = append(errs, struct{ Low, High float64 }{100 * (q.Loss - q.Low), 100 * (q.High - q.Loss)})
		}
		if len(xys) == 0 {
			continue
		}
		bars, err := plotter.NewYErrorBars(struct {
			plotter.XYs
			plotter.YErrors
		}{xys, errs})
		if err != nil {
			return nil, fmt.Errorf("draw %s: %w", name, err)
		}
		look := looks[i%len(looks)]
		bars.LineStyle.Color, bars.LineStyle.Width = look.colour, vg.Points(1)
		p.Add(bars)
		if err := scatter(p, name, xys, look.colour, look.shape, 3.5); err != nil {
			return nil, err
		}
	}
	p.Y.Min, p.Y.Max = 0, highest*1.25 // room for the legend
	p.X.Min, p.X.Max = p.X.Min-0.5, p.X.Max+0.5
	return p, nil
}

// frame is an empty plot as all of ours look.
func frame(title, x, y string) *plot.Plot {
	plot.DefaultFont = font.Font{Typeface: "Liberation", Variant: "Sans"}
	p := plot.New()
	p.Title.Text = title
	p.Title.TextStyle.Font.Size = 15
	p.Title.Padding = vg.Points(8)
	p.X.Label.Text, p.Y.Label.Text = x, y
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		a.Tick.Marker = roundTicks{}
		a.Label.TextStyle.Font.Size = 13
		a.Tick.Label.Font.Size = 12
		a.Padding = vg.Points(6)
	}
	grid := plotter.NewGrid()
	grid.Vertical.Color = color.Gray{0xdd}
	grid.Horizontal.Color = color.Gray{0xdd}
	p.Add(grid)
	p.Legend.TextStyle.Font.Size = 12
	p.Legend.ThumbnailWidth = vg.Points(30)
	p.Legend.Padding = vg.Points(3)
	return p
}

func saveAll(p *plot.Plot, files []string) error {
	for _, f := range files {
		if err := save(p, f); err != nil {
			return fmt.Errorf("draw to %s: %w", f, err)
		}
	}
	return nil
}
