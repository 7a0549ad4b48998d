package report

import (
	"encoding/xml"
	"errors"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"uparrot/core/link/capacity"
	"uparrot/core/link/hearing"
	"uparrot/core/report/chart"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

func drawLatency(series []delays, files ...string) error {
	return drawTo(latency("Larkfell", series), files...)
}

// drawTo draws a chart to files whose endings tell the form.
func drawTo(c chart.Chart, files ...string) error {
	for _, name := range files {
		f, err := os.Create(name)
		if err != nil {
			return err
		}
		if err := errors.Join(chart.Draw(f, c, strings.TrimPrefix(filepath.Ext(name), ".")), f.Close()); err != nil {
			return err
		}
	}
	return nil
}

func TestLatency(t *testing.T) {
	dir := t.TempDir()
	for _, series := range [][]delays{
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

// Every picture is drawn in every form, and what it shows is in it as text.
func TestLinkPictures(t *testing.T) {
	dir := t.TempDir()
	c := Curve{Name: "valley to summit"}
	for i := range 50 {
		c.Add(40+float64(i)/5, 1+i%3)
	}
	if LoadCurve(capacity.Result{}) != nil || Matrix(hearing.Result{}) != nil {
		t.Error("nothing was drawn")
	}
	low, high := 2.7, 3.4
	for name, d := range map[string]struct {
		chart chart.Chart
		want  []string
	}{
		"distribution": {Distribution("How long", []Curve{c, {Name: "nothing"}}), []string{"valley to summit (99 frames)", "latency (ms)", "10 %"}},
		"nothing":      {Distribution("How long", []Curve{{Name: "nothing"}}), []string{"latency (ms)", "10 %"}},
		"strength": {strengthLoss("Loss", map[string][]point{"a": {{DBm: -110, Loss: 0.1, Low: 0.05, High: 0.2, Sent: 100}, {DBm: -100, High: 0.04, Sent: 90}}}, []string{"a", "b"}),
			[]string{"strength (dBm)", "-104"}},
		"load": {LoadCurve(capacity.Result{Size: 24, MaxLoss: 0.02, Points: []capacity.LoadPoint{{Rate: 10, P95MS: 80, Loss: stats.Share{High: 0.02}}, {Rate: 20, Loss: stats.Share{Ratio: 0.2, Low: 0.1, High: 0.3}, P95MS: 900}}}),
			[]string{"load (frames/s sent)", "breaks the limit", "limit 2 %", "frames of 24 bytes"}},
		"matrix": {Matrix(hearing.Result{Names: []string{"valley", "summit"}, Cells: []hearing.Cell{{Speaker: "valley", Listener: "summit", Heard: 20, Sent: 20}, {Speaker: "summit", Listener: "valley", Heard: 3, Sent: 20, Verdict: verdict.Failed}}}),
			[]string{"listener", "3 of 20  wrong", "valley"}},
		"trend": {Trend("supply", "V", 3.1, []TrendPoint{{At: start, Value: 3.1, Low: &low, High: &high, Passed: true}, {At: start, Value: 2.2, Low: &low}}), []string{"supply (V)", "outside", "limits", "mean"}},
		"html":  {latency("a < b & c", []delays{{Name: "<valley>", Seconds: []float64{1}, MS: []float64{5}}}), []string{"&lt;valley&gt;", "a &lt; b &amp; c"}},
	} {
		png, svg := filepath.Join(dir, name+".png"), filepath.Join(dir, name+".svg")
		if err := drawTo(d.chart, png, svg); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		file, err := os.ReadFile(svg)
		if err != nil {
			t.Fatal(err)
		}
		var inline strings.Builder
		if err := chart.Inline(&inline, d.chart, `what "it" shows`); err != nil {
			t.Fatal(err)
		}
		for _, w := range d.want {
			if !strings.Contains(string(file), w) {
				t.Errorf("%s: %q is not in the file", name, w)
			}
			if !strings.Contains(inline.String(), w) {
				t.Errorf("%s: %q is not in the page", name, w)
			}
		}
		for _, wrong := range []string{"NaN", "Inf"} {
			if strings.Contains(inline.String(), wrong) {
				t.Errorf("%s: %s in the page", name, wrong)
			}
		}
		if err := xml.Unmarshal([]byte(inline.String()), new(struct{})); err != nil {
			t.Errorf("%s: the part of the page is no XML: %v", name, err)
		}
		if info, err := os.Stat(png); err != nil || info.Size() < 5000 {
			t.Errorf("%s: %v", name, err)
		}
	}
}
