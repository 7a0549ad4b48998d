package report

import (
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestLatency(t *testing.T) {
	dir := t.TempDir()
	for _, series := range [][]Series{
		nil,
		{{Name: "valley to summit", Lost: []float64{1, 2}}},
		{{Name: "valley to summit", Seconds: []float64{0, 1}, MS: []float64{50, 60}, Lost: []float64{2}}, {Name: "summit to valley", Seconds: []float64{0}, MS: []float64{55}}},
	} {
		pngFile, svgFile := filepath.Join(dir, "l.png"), filepath.Join(dir, "l.svg")
		if err := Latency("Larkfell", series, pngFile, svgFile); err != nil {
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
	if err := Latency("Larkfell", nil, filepath.Join(dir, "none", "l.png")); err == nil {
		t.Error("drawing into a folder that is not there went well")
	}
}
