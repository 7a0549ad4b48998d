package report

import (
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func drawLatency(series []Series, files ...string) error {
	p, err := latency("Larkfell", series)
	if err != nil {
		return err
	}
	return saveAll(p, files)
}

func TestLatency(t *testing.T) {
	dir := t.TempDir()
	for _, series := range [][]Series{
		nil,
		{{Name: "valley to summit", Lost: []float64{1, 2}}},
		{{Name: "valley to summit", Seconds: []float64{0, 1}, MS: []float64{50, 60}, Lost: []float64{2}}, {Name: "summit to valley", Seconds: []float64{0}, MS: []float64{55}}},
	} {
		pngFile, svgFile := filepath.Join(dir, "l.png"), filepath.Join(dir, "l.svg")
		if err := drawLatency(series, pngFile, svgFile); err != nil {
			t.Fatal(err)
		}
		f, err := os.Open(pngFile)
		if err != nil {
			t.Fatal(err)
		}
		img, err := png.Decode(f)
		f.Close()
		if err != nil || img.Bounds().Dx() < 1000 {
			t.Errorf("the picture is %v, %v", img.Bounds(), err)
		}
		svg, err := os.ReadFile(svgFile)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range series {
			if !strings.Contains(string(svg), s.Name) {
				t.Errorf("the drawing does not name %s", s.Name)
			}
		}
	}
	if err := drawLatency(nil, filepath.Join(dir, "none", "l.png")); err == nil {
		t.Error("drawing into a folder that is not there went well")
	}
}

// Every picture is drawn in both forms, and what it shows is in it as text.
func TestLinkPictures(t *testing.T) {
	dir := t.TempDir()
	var c Curve
	for i := range 50 {
		c.Name = "valley to summit"
		c.Add(40+float64(i)/5, 1+i%3)
	}
	for name, d := range map[string]struct {
		draw func(files ...string) error
		want []string
	}{
		"distribution": {func(f ...string) error { return Distribution("How long", []Curve{c, {Name: "nothing"}}, f...) }, []string{"valley to summit (99 frames)", "latency (ms)", "10 %"}},
		"strength": {func(f ...string) error {
			p, err := strengthLoss("Loss", map[string][]Point{"a": {{DBm: -110, Loss: 0.1, Low: 0.05, High: 0.2, Sent: 100}, {DBm: -100, High: 0.04, Sent: 90}}}, []string{"a", "b"})
			if err != nil {
				return err
			}
			return saveAll(p, f)
		}, []string{"strength (dBm)", "-104"}},
		"load": {func(f ...string) error {
			return LoadCurve("Load", []Load{{Rate: 10, P95: 80, Holds: true, High: 0.02}, {Rate: 20, Loss: 0.2, Low: 0.1, High: 0.3, P95: 900}}, 0.02, f...)
		}, []string{"load (frames/s)", "breaks the limit", "limit 2 %"}},
		"matrix": {func(f ...string) error {
			return Matrix("Who", []string{"valley", "summit"}, []Cell{{0, 1, "20 of 20", 1, false}, {1, 0, "3 of 20", 0.15, true}}, f...)
		}, []string{"listener", "3 of 20  wrong", "valley"}},
	} {
		png, svg := filepath.Join(dir, name+".png"), filepath.Join(dir, name+".svg")
		if err := d.draw(png, svg); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		text, err := os.ReadFile(svg)
		if err != nil {
			t.Fatal(err)
		}
		for _, w := range d.want {
			if !strings.Contains(string(text), w) {
				t.Errorf("%s: %q is not in it", name, w)
			}
		}
		if info, err := os.Stat(png); err != nil || info.Size() < 5000 {
			t.Errorf("%s: %v", name, err)
		}
	}
}
