package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"uparrot/core/link"
	"uparrot/core/link/bits"
	"uparrot/core/link/capacity"
	"uparrot/core/link/hearing"
	"uparrot/core/perform"
	"uparrot/core/report"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// The operator is asked until the answer fits; when nobody types any more the
// step is untested, and Ctrl-C ends the asking.
func TestPerson(t *testing.T) {
	var out bytes.Buffer
	whole := func(s string) error {
		if strings.Trim(s, "0123456789") != "" {
			return fmt.Errorf("%q is no whole number", s)
		}
		return nil
	}
	p := &person{app: &app{in: strings.NewReader("perhaps\n YES \nno\nmany\n12\n"), err: newScreen(&out)}}
	if yes, err := p.Confirm(t.Context(), "Is it lit?"); !yes || err != nil {
		t.Error(yes, err)
	}
	if yes, err := p.Confirm(t.Context(), "Is it loud?"); yes || err != nil {
		t.Error(yes, err)
	}
	if v, err := p.Value(t.Context(), "How many?", whole); v != "12" || err != nil {
		t.Error(v, err)
	}
	_, err := p.Confirm(t.Context(), "Still there?")
	if left, ok := errors.AsType[*perform.Left](err); !ok || left.Verdict != verdict.Untested || !strings.Contains(left.Why, "nobody answered: Still there?") {
		t.Error(err)
	}
	if err := p.Tell(t.Context(), "Pull \x1b[2J the lever."); err != nil {
		t.Error(err)
	}
	for _, want := range []string{"Is it lit? [yes/no]", "type yes or no", `"many" is no whole number`, `Pull \x1b[2J the lever.`} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("missing %q in %q", want, out.String())
		}
	}
	quiet, writer := io.Pipe()
	defer writer.Close()
	ctx, stop := context.WithCancelCause(t.Context())
	stop(errInterrupted)
	if _, err := (&person{app: &app{in: quiet, err: newScreen(&out)}}).Confirm(ctx, "x"); !errors.Is(err, errInterrupted) {
		t.Error(err)
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
	a := &app{out: &out, err: newScreen(io.Discard)}
	at := time.Unix(0, 0)
	table(&out, append([][]string{report.StretchHead}, report.StretchRows([]link.Stretch{{Name: "start", From: "valley", To: "hand", Began: at, Sent: 60, Lost: 3, Loss: stats.Wilson(3, 60), Longest: 2, Strength: &stats.Spread{Min: -110, Mean: -104.25, Max: -99}}, {Name: "tower 1", From: "valley", To: "hand"}})...))
	a.matrix(hearing.Result{Names: []string{"summit", "valley"}, Verdict: verdict.Failed, Cells: []hearing.Cell{
		{Speaker: "summit", Listener: "valley", Sent: 20, Heard: 3, Wanted: "hear", Verdict: verdict.Failed},
		{Speaker: "valley", Listener: "summit", Sent: 20, Heard: 1, Wanted: "not hear", Verdict: verdict.Failed}}})
	point := capacity.LoadPoint{EveryMS: 50, KeptMS: 55, Rate: 18.2, Throughput: 3490, Load: 0.07, Sent: 200, Lost: 2, Loss: stats.Wilson(2, 200), P95MS: 83}
	a.printCapacity(capacity.Result{Size: 24, MaxLoss: 0.02, Held: &point, Broken: &point, Verdict: verdict.Passed})
	a.facts(report.BitRows(bits.Result{Pattern: "prbs15", Sent: 80_000, Compared: 79_900, Outside: 100, Ratio: stats.Wilson(0, 79_900), Slips: 1, Shifted: -8, Losses: 1, Seconds: 10, Available: 10, AvailRatio: 1, Verdict: verdict.Passed, Why: "no limit"}))
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
