package compare

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/stats"
)

// A run is read from a summary or a record, and nothing else is taken for one.
func TestReadAndCompareRuns(t *testing.T) {
	dir := t.TempDir()
	sum := func(lost int, ms float64) link.Summary {
		h := hdrhistogram.New(1, int64(time.Minute/time.Microsecond), 4)
		for i := lost; i < 1000; i++ {
			_ = h.RecordValue(int64(1000 * (ms + float64(i%7))))
		}
		code, err := h.Encode(hdrhistogram.V2CompressedEncodingCookieBase)
		if err != nil {
			t.Fatal(err)
		}
		return link.Summary{Kind: link.Kind, Directions: []link.Direction{{From: "a", To: "b", Sent: 1000, Received: 1000 - lost, Lost: lost, Loss: stats.Wilson(lost, 1000), Histogram: string(code), LatencyMS: &link.Latency{}}}}
	}
	for _, c := range []struct {
		a, b         link.Summary
		loss, slower bool
	}{
		{sum(50, 40), sum(10, 40), true, false},
		{sum(50, 40), sum(45, 42), false, true},
		{sum(0, 40), sum(0, 40), false, false},
	} {
		cs, err := Runs("a", c.a, "b", c.b, 0.01)
		if err != nil || cs[0].LossShown != c.loss || cs[0].Slower != c.slower {
			t.Errorf("%+v, %v", cs, err)
		}
	}
	path := filepath.Join(dir, "run")
	w, err := record.Create(path, record.Origin{Tool: "test"})
	if err != nil {
		t.Fatal(err)
	}
	w.Event(record.Event{Kind: record.Link, Data: []byte(`{"kind":"link test","run":"00002a","directions":[]}`)})
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if got, err := ReadRun(path); err != nil || got.Run != "00002a" {
		t.Errorf("%+v, %v", got, err)
	}
	for text, want := range map[string]string{"hello": "neither", `{"kind":"x"}`: `its kind is "x"`, `{"kind":"record","data":{"version":1}}` + "\n": "holds no link test"} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := ReadRun(path); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
