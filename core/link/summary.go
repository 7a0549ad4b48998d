package link

import (
	"fmt"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// Summary is what a link test found.
type Summary struct {
	Kind       string          `json:"kind"` // "link test"
	Version    int             `json:"version"`
	Run        string          `json:"run"` // hexadecimal, as in the frames
	Started    time.Time       `json:"started"`
	TookMS     float64         `json:"took_ms"`
	Size       int             `json:"size"`     // bytes in a frame
	EveryMS    float64         `json:"every_ms"` // planned interval
	FloorMS    float64         `json:"floor_ms"` // this machine's own part of a latency, measured just before
	Limits     Limits          `json:"limits"`
	Verdict    verdict.Verdict `json:"verdict"`
	Directions []Direction     `json:"directions"`
	Stretches  []Stretch       `json:"stretches,omitempty"` // of a range walk
}

// Limits are what a link must keep; nil is no limit.
type Limits struct {
	MaxLoss  *float64 `json:"max_loss,omitempty"`         // share
	MaxP95MS *float64 `json:"max_p95_ms,omitempty"`       // milliseconds
	MinDBm   *float64 `json:"min_strength_dbm,omitempty"` // least mean strength
}

// Direction is what was found in one direction. Lost counts the frames that did
// not arrive whole (RFC 7680): gone, or damaged on the way. Late frames are
// among the received.
type Direction struct {
	From         string          `json:"from"`
	To           string          `json:"to"`
	Sent         int             `json:"sent"`
	Received     int             `json:"received"`
	Lost         int             `json:"lost"`
	Late         int             `json:"late"`
	Duplicated   int             `json:"duplicated"`
	Reordered    int             `json:"reordered"`
	Damaged      int             `json:"damaged"`
	Foreign      int             `json:"foreign"` // lines or messages that are no frames of this run
	ForeignBytes int             `json:"foreign_bytes"`
	Refused      int             `json:"refused"` // frames that the sending module would not take; among the lost
	Loss         stats.Share     `json:"loss"`
	Bursts       stats.Bursts    `json:"bursts"`
	Minutes      []Minute        `json:"minutes"`
	Sizes        []SizeResult    `json:"sizes,omitempty"`        // where frames of several sizes were sent
	LatencyMS    *Latency        `json:"latency_ms"`             // null if nothing arrived
	VariationMS  float64         `json:"variation_ms"`           // packet delay variation, 99th percentile above the least (RFC 5481)
	JitterMS     float64         `json:"jitter_ms"`              // RFC 3550
	WireMS       float64         `json:"wire_ms"`                // of the latency, spent on the serial lines, on average
	HoldMS       *int            `json:"hold_back_ms,omitempty"` // so long the receiving adapter may gather bytes before it hands them on
	SentBytes    int             `json:"sent_bytes,omitempty"`   // that go out at the sender for one frame, of the greatest size
	Histogram    string          `json:"histogram"`              // of latencies in microseconds, HdrHistogram V2, compressed, base64
	Margin       *Margin         `json:"margin,omitempty"`       // to the strength where loss begins
	Levels       []Level         `json:"levels,omitempty"`       // loss by strength
	Strength     *stats.Spread   `json:"strength_dbm,omitempty"`
	SNR          *stats.Spread   `json:"snr_db,omitempty"`
	Verdict      verdict.Verdict `json:"verdict"`
	Why          []string        `json:"why"` // the verdict in words
}

// Latency is from sending a frame to its arrival, in milliseconds.
type Latency struct {
	Min    float64 `json:"min"`
	Median float64 `json:"median"`
	P90    float64 `json:"p90"`
	P95    float64 `json:"p95"`
	P99    float64 `json:"p99"`
	P999   float64 `json:"p999"`
	Max    float64 `json:"max"`
}

// direction sums a tally up. What is still on its way counts as lost.
func (t *tally) direction(from, to string) Direction {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.sumUp(from, to, t.gathered, t.unknown)
}

// sumUp is direction with what was gathered, and without the frames whose fate is
// not known. The mutex is held.
func (t *tally) sumUp(from, to string, g gathered, unknown int) Direction {
	sent := int(t.next) - unknown
	d := Direction{
		From: from, To: to,
		Sent: sent, Received: t.received, Lost: sent - t.received, Late: t.late,
		Duplicated: t.duplicated, Reordered: t.reordered, Damaged: t.damaged,
		Foreign: t.foreign, ForeignBytes: t.foreignBytes,
		Loss:     stats.Wilson(sent-t.received, sent),
		JitterMS: t.jitter.Value / 1e6,
		Bursts:   g.runs.Bursts(), Minutes: append([]Minute{}, g.minutes...), Levels: g.byLevel(), Sizes: g.bySize(),
		Strength: t.strength.Spread(), SNR: t.snr.Spread(),
	}
	d.Margin = margin(d.Levels, d.Strength)
	if t.received > 0 {
		at := func(q float64) float64 { return float64(t.latency.ValueAtQuantile(q)) / 1000 }
		d.LatencyMS = &Latency{
			Min: float64(t.latency.Min()) / 1000, Median: at(50), P90: at(90), P95: at(95), P99: at(99), P999: at(99.9),
			Max: float64(t.latency.Max()) / 1000,
		}
		d.VariationMS = stats.Round(at(99)-d.LatencyMS.Min, 3)
		if code, err := t.latency.Encode(hdrhistogram.V2CompressedEncodingCookieBase); err == nil { // into memory it always does
			d.Histogram = string(code)
		}
		d.WireMS = float64(t.wire.Microseconds()) / 1000 / float64(t.received)
	}
	return d
}

// judge sets the verdict and says why.
func (d *Direction) judge(l Limits, overLimit int, sure bool) {
	side := func(s stats.Share, hits, n int, most float64) verdict.Verdict {
		if sure { // stopped by what was seen, so only a test that allows for that may judge
			return stats.Sequential(hits, n, most)
		}
		return s.Judge(most)
	}
	d.Verdict, d.Why = verdict.Passed, []string{}
	add := func(v verdict.Verdict, format string, args ...any) {
		d.Verdict = verdict.Worse(d.Verdict, v)
		d.Why = append(d.Why, fmt.Sprintf(format, args...))
	}
	if d.Sent == 0 {
		add(verdict.Untested, "no frame was sent")
		return
	}
	if d.Received == 0 && l.MaxLoss == nil {
		add(verdict.Failed, "nothing arrived")
	}
	if l.MaxLoss != nil {
		v := side(d.Loss, d.Lost, d.Sent, *l.MaxLoss)
		how := map[verdict.Verdict]string{
			verdict.Passed:    "keeps the limit of %s",
			verdict.Failed:    "breaks the limit of %s",
			verdict.Undecided: "may be on either side of the limit of %s: more frames would tell",
		}[v]
		add(v, "loss %s, with 95 %% confidence %s to %s, "+how, stats.Percent(d.Loss.Ratio), stats.Percent(d.Loss.Low), stats.Percent(d.Loss.High), stats.Percent(*l.MaxLoss))
	}
	if l.MaxP95MS != nil && d.Received > 0 {
		// The 95th percentile is at most the limit if and only if at most 5 % of
		// the frames are above it; that share has an interval as loss has.
		s := stats.Wilson(overLimit, d.Received)
		v := side(s, overLimit, d.Received, p95Share)
		how := map[verdict.Verdict]string{
			verdict.Passed:    "which keeps",
			verdict.Failed:    "which breaks",
			verdict.Undecided: "which may be on either side of",
		}[v]
		more := ""
		if v == verdict.Undecided {
			more = ": more frames would tell"
		}
		add(v, "95 %% of latencies are within %.1f ms; %d of %d frames took longer than %v ms, with 95 %% confidence %s to %s, %s the allowed 5 %%%s",
			d.LatencyMS.P95, overLimit, d.Received, *l.MaxP95MS, stats.Percent(s.Low), stats.Percent(s.High), how, more)
	}
	if l.MinDBm != nil {
		switch st := d.Strength; {
		case st == nil:
			add(verdict.Undecided, "the strength is not told, so it cannot be held against %v dBm", *l.MinDBm)
		case st.Low >= *l.MinDBm:
			add(verdict.Passed, "mean strength %.1f dBm, with 95 %% confidence %.1f to %.1f, keeps the least of %v dBm", st.Mean, st.Low, st.High, *l.MinDBm)
		case st.High < *l.MinDBm:
			add(verdict.Failed, "mean strength %.1f dBm, with 95 %% confidence %.1f to %.1f, is under the least of %v dBm", st.Mean, st.Low, st.High, *l.MinDBm)
		default:
			add(verdict.Undecided, "mean strength %.1f dBm, with 95 %% confidence %.1f to %.1f, may be on either side of %v dBm: more frames would tell", st.Mean, st.Low, st.High, *l.MinDBm)
		}
	}
	if sure && d.Verdict != verdict.Undecided {
		d.Why = append(d.Why, fmt.Sprintf("stopped after %d frames, when that was sure: a test so stopped is wrong in at most %s of all runs", d.Sent, stats.Percent(stats.SequentialError)))
	}
	if len(d.Why) == 0 {
		d.Why = append(d.Why, "no limits were given, so there was nothing to judge")
	}
}

// p95Share is the share of frames that may take longer than a limit for the 95th
// percentile.
const p95Share = 0.05

// Latencies are the latencies of the direction in bins, out of its histogram.
func (d *Direction) Latencies() ([]stats.Bin, error) {
	if d.Histogram == "" {
		return nil, nil
	}
	h, err := hdrhistogram.Decode([]byte(d.Histogram))
	if err != nil {
		return nil, fmt.Errorf("the histogram of latencies cannot be read: %w", err)
	}
	var bins []stats.Bin
	for _, b := range h.Distribution() {
		if b.Count > 0 {
			bins = append(bins, stats.Bin{MS: float64(b.From) / 1000, Count: int(b.Count)})
		}
	}
	return bins, nil
}

// Kind is the kind of a summary, by which its files are known.
const Kind = "link test"
