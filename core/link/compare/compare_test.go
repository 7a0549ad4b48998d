package compare

import (
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/stats"
)

// A run is read from a summary or a record, and nothing else is taken for one.
func TestReadAndCompareRuns(t *testing.T) {
	dir := t.TempDir()
	sum := func(lost int, ms float64) link.Summary {
		var delays stats.Blocks
		for i := range 1000 {
			if i < lost {
				delays.Add(math.Inf(1))
			} else {
				delays.Add(ms + float64(i%7))
			}
		}
		return link.Summary{Kind: link.Kind, Directions: []link.Direction{{From: "a", To: "b", Sent: 1000, Received: 1000 - lost, Lost: lost, Loss: stats.Wilson(lost, 1000), Effective: 1000, Delays: &delays, LatencyMS: &link.Latency{}}}}
	}
	unordered := sum(300, 80)
	unordered.Directions[0].Delays, unordered.Directions[0].Effective = nil, 0
	for _, c := range []struct {
		a, b         link.Summary
		loss, slower bool
	}{
		{sum(0, 40), unordered, false, false}, // its order is unknown
		{sum(50, 40), sum(10, 40), true, false},
		{sum(50, 40), sum(45, 42), false, true},
		{sum(0, 40), sum(0, 40), false, false},
	} {
		cs, err := Runs("a", c.a, "b", c.b, 0.01)
		if err != nil || cs[0].LossShown != c.loss || cs[0].Slower != c.slower || (cs[0].Order == OrderUnknown) != (c.b.Directions[0].Delays == nil) {
			t.Errorf("%+v, %v", cs, err)
		}
	}
	// Of many equal runs one seems different by chance: all together they must not.
	var lists [][]Comparison
	rng := rand.New(rand.NewPCG(5, 1))
	alike := func() link.Summary {
		s := sum(0, 40)
		var delays stats.Blocks
		for range 300 {
			delays.Add(40 + rng.ExpFloat64())
		}
		s.Directions[0].Delays = &delays
		return s
	}
	naive := 0
	for range 60 {
		cs, err := Runs("a", alike(), "b", alike(), 0.01)
		if err != nil {
			t.Fatal(err)
		}
		if cs[0].Slower {
			naive++
		}
		lists = append(lists, cs)
	}
	Correct(lists...)
	for _, cs := range lists {
		if cs[0].Slower {
			t.Errorf("of 60 equal runs one is different: %+v", cs[0].Ranks)
		}
	}
	if naive == 0 {
		t.Error("no run seemed different, so nothing was corrected")
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
