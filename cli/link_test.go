package cli

import (
	"bytes"
	"errors"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/link"
	"uparrot/core/port"
	"uparrot/core/session"
	"uparrot/core/source"
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
	printSummary(&b, link.Summary{FloorMS: 0.012, Machine: &link.Lag{P95: 0.4, Max: 3.1}, EveryMS: 20, Limits: link.Limits{MaxLoss: &share}, Directions: []link.Direction{d, silent}})
	want := `valley to summit  undecided
  frames        200 sent, 197 received, 3 lost (1 came damaged, 0 cut, 2 merged)
  oddities      2 late, 2 duplicated, 0 reordered, 0 foreign (0 bytes)
  loss          1.50 %, with 95 % confidence 0.51 % to 4.32 %
  lost or late  2.50 % (1.07 to 5.72)
  not sure      few bursts
  latency       median 48.6 ms; 90 % within 53.0, 95 % within 54.0, 99 % within 55.0, 99.9 % within 57.0; 43.0 to 58.0 ms
  of that       7.5 ms on the serial lines (once over valley's line and once over summit's), 0.012 ms in this machine, the rest in the modules and the air
  too long by   up to 0.40 ms that this machine was late in 95 % of cases, 3.10 at most, and up to 16 ms that the adapter held bytes back
  sending       every 80.0 ms, planned 20.0; behind the plan by 31.0 ms in 95 % of cases, 63.0 at most
  variation     12.0 ms from the least to the 99th percentile of those received (RFC 5481); jitter 3.2 ms (RFC 3550), on average 2.8
  bursts        1 run of lost frames, 3.0 long on average, the longest 3; losses stand together (after a lost frame the next is lost in 67 % of cases, after a received one in 0.5 %)
  strength      mean -111.0 dBm, -116 to -105 dBm
  refused       1 frame refused or left unanswered by valley (among the lost)
  judged        more frames would tell

summit to valley  failed
  frames    5 sent, 0 received, 5 lost (0 came damaged, 0 cut, 0 merged)
  oddities  0 late, 0 duplicated, 0 reordered, 0 foreign (0 bytes)
  loss      100.00 %, with 95 % confidence 56.55 % to 100.00 %
  judged    nothing arrived
`
	if got := b.String(); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

func TestExitStatus(t *testing.T) {
	for _, c := range []struct {
		err  error
		want int
	}{
		{verdictError(verdict.Failed), exitFailed},
		{verdictError(verdict.Undecided), exitUndecided},
		{verdictError(verdict.Broken), exitBroken},
		{verdictError(verdict.Untested), exitUndecided},
		{usage(&cobra.Command{}, "no"), exitUsage},
		{source.Mistakes{{File: "f"}}, exitUsage},
		{&port.Error{Kind: port.Held}, exitBroken},
		{&session.Unable{What: "gone"}, exitBroken},
		{errors.Join(errInterrupted, errors.New("and more")), exitInterrupted},
		{errors.New("anything else"), exitBroken},
	} {
		if got := exitStatus(c.err); got != c.want {
			t.Errorf("%v ends with %d, want %d", c.err, got, c.want)
		}
	}
	for _, v := range []verdict.Verdict{verdict.Passed, verdict.Skipped, ""} {
		if err := verdictError(v); err != nil {
			t.Errorf("%q is an error: %v", v, err)
		}
	}
}

func TestTook(t *testing.T) {
	for d, want := range map[time.Duration]string{
		12 * time.Microsecond: "12 µs", 1500 * time.Microsecond: "1 ms", 999 * time.Millisecond: "999 ms", 1500 * time.Millisecond: "1.5 s", 90 * time.Second: "1m30s", 26 * time.Hour: "26h0m0s",
	} {
		if got := took(d); got != want {
			t.Errorf("%v: %s, want %s", d, got, want)
		}
	}
}
