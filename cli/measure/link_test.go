package measure

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"uparrot/cli/shell"
	"uparrot/core/link"
	"uparrot/core/link/bits"
	"uparrot/core/link/capacity"
	"uparrot/core/link/hearing"
	"uparrot/core/report"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

func TestPrintSummary(t *testing.T) {
	share := 0.02
	d := link.Direction{
		From: "valley", To: "summit", Sent: 200, Received: 197, Lost: 3, Harms: link.Harms{Damaged: 1, Merged: 2}, Duplicated: 2, Refused: 1,
		Loss: stats.Wilson(3, 200), LatencyMS: &link.Latency{Min: 43, Median: 48.64, P90: 53, P95: 54, P99: 55, P999: 57, Max: 58}, JitterMS: 3.25, MeanDMS: 2.8, Together: true, Late: 2, LostOrLate: stats.Wilson(5, 200), Passes: "once over valley's line and once over summit's", KeptMS: 80.04, Lag: link.Lag{P95: 31, Max: 63}, Doubt: "few bursts", VariationMS: 12, WireMS: 7.55, Bursts: stats.Bursts{Runs: 1, Mean: 3, Longest: 3, Enter: 0.005, Leave: 0.333},
		Strength: &stats.Spread{Min: -116, Mean: -110.96, Max: -105}, Verdict: verdict.Undecided, Why: []string{"more frames would tell"},
	}
	silent := link.Direction{From: "summit", To: "valley", Sent: 5, Lost: 5, Loss: stats.Wilson(5, 5), Verdict: verdict.Failed, Why: []string{"nothing arrived"}}
	sixteen := 16
	d.HoldMS = &sixteen
	var b bytes.Buffer
	PrintSummary(&b, link.Summary{FloorMS: 0.012, Machine: &link.Lag{P95: 0.4, Max: 3.1}, EveryMS: 20, Limits: link.Limits{MaxLoss: &share}, Directions: []link.Direction{d, silent}})
	want := `valley to summit  undecided
  frames        200 sent, 197 received, 3 lost (1 came damaged, 0 cut, 2 merged)
  anomalies     2 late, 2 duplicated, 0 reordered, 0 foreign (0 bytes)
  loss          1.50 %, with 95 % confidence 0.51 % to 4.32 %
  lost or late  2.50 % (1.07 to 5.72)
  not sure      few bursts
  latency       median 48.6 ms; 90 % within 53.0, 95 % within 54.0, 99 % within 55.0, 99.9 % within 57.0; 43.0 to 58.0 ms
  of that       7.5 ms on the serial lines (once over valley's line and once over summit's), 0.012 ms in this machine, the rest in the modules and the air
  timing error  of this machine: up to 0.40 ms (95 %), 3.10 max, and of the adapter: up to 16 ms held back
  sending       every 80.0 ms, planned 20.0; sender lag: p95 31.0 ms, max 63.0
  variation     12.0 ms from the least to the 99th percentile of those received (RFC 5481); jitter 3.2 ms (RFC 3550), on average 2.8
  bursts        1 run of lost frames, 3.0 long on average, the longest 3; losses stand together (after a lost frame the next is lost in 67 % of cases, after a received one in 0.5 %)
  strength      mean -111.0 dBm, -116 to -105 dBm
  refused       1 frame refused or left unanswered by valley (among the lost)
  judged        more frames would tell

summit to valley  failed
  frames     5 sent, 0 received, 5 lost (0 came damaged, 0 cut, 0 merged)
  anomalies  0 late, 0 duplicated, 0 reordered, 0 foreign (0 bytes)
  loss       100.00 %, with 95 % confidence 56.55 % to 100.00 %
  judged     nothing arrived
`
	if got := b.String(); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

func TestSizes(t *testing.T) {
	for text, want := range map[string]string{
		"": "0 []", "48": "48 []", "24,48, 96": "0 [24 48 96]", "24..40/8": "0 [24 32 40]", "24..39/8": "0 [24 32]",
		"x": "error", "24,": "error", "0": "error", "24..8/8": "error", "24..96": "error", "1..9999/1": "error", "8..16/0": "error",
	} {
		got := "error"
		if size, sizes, err := readSizes(text); err == nil {
			got = fmt.Sprint(size, sizes)
		}
		if got != want {
			t.Errorf("%q: %s, want %s", text, got, want)
		}
	}
}

// What the other link commands print.
func TestLinkTables(t *testing.T) {
	var out bytes.Buffer
	a := &shell.Streams{Out: &out, Err: shell.NewScreen(io.Discard)}
	at := time.Unix(0, 0)
	shell.Table(&out, append([][]string{report.StretchHead}, report.StretchRows([]link.Stretch{{Name: "start", From: "valley", To: "hand", Began: at, Sent: 60, Lost: 3, Loss: stats.Wilson(3, 60), Longest: 2, Strength: &stats.Spread{Min: -110, Mean: -104.25, Max: -99}}, {Name: "tower 1", From: "valley", To: "hand"}})...))
	matrix(a, hearing.Result{Names: []string{"summit", "valley"}, Verdict: verdict.Failed, Cells: []hearing.Cell{
		{Speaker: "summit", Listener: "valley", Sent: 20, Heard: 3, Wanted: "hear", Verdict: verdict.Failed},
		{Speaker: "valley", Listener: "summit", Sent: 20, Heard: 1, Wanted: "not hear", Verdict: verdict.Failed}}})
	point := capacity.LoadPoint{EveryMS: 50, KeptMS: 55, Rate: 18.2, Throughput: 3490, Load: 0.07, Sent: 200, Lost: 2, Loss: stats.Wilson(2, 200), P95MS: 83}
	printCapacity(a, capacity.Result{Size: 24, MaxLoss: 0.02, Held: &point, Broken: &point, Verdict: verdict.Passed})
	a.Facts(report.BitRows(bits.Result{Pattern: "prbs15", Sent: 80_000, Compared: 79_900, Outside: 100, Ratio: stats.Wilson(0, 79_900), Slips: 1, Shifted: -8, Losses: 1, Seconds: 10, Available: 10, AvailRatio: 1, Verdict: verdict.Passed, Why: "no limit"}))
	for _, want := range []string{
		"start    valley to hand  60    3     5.00 % (1.71 to 13.70)  2            mean -104.2 dBm, -110 to -99",
		"summit            -            3/20 failed", "no frame was sent", "valley must hear summit and has heard 3 of 20", "summit must not hear valley and has heard 1 of 20",
		"passed: 18.2 frames/s (3490 bits of payload a second) with a loss under 2.00 %", "holds   55.0 ms   18.2 frames/s  7 %          1.00 % (0.27 to 3.57) of 200  83.0 ms",
		"80000 sent as prbs15, 79900 compared, 0 wrong, 100 while out of step", "none wrong of 79900: with 95 % confidence below 4.8e-05", "lost 1 time, 1 slip by -8 bits together",
	} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("missing %q in\n%s", want, out.String())
		}
	}
}
