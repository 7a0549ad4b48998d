package link

import (
	"fmt"
	"math"
	"time"

	"uparrot/core/record"

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
	Size       int             `json:"size"`                      // bytes in a frame
	EveryMS    float64         `json:"every_ms"`                  // planned interval
	FloorMS    float64         `json:"floor_ms"`                  // this machine's own part of a latency, measured just before
	Machine    *Lag            `json:"machine_late_ms,omitempty"` // by how much this machine was late itself meanwhile
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

// Direction is what was found in one direction: sent = received + lost + under way. Lost
// counts the frames that did not arrive whole (RFC 7680): gone, or damaged on the way. Late
// frames are among the received.
type Direction struct {
	From         string          `json:"from"`
	To           string          `json:"to"`
	Sent         int             `json:"sent"`
	UnderWay     int             `json:"under_way"` // not there yet when the test was cut short, and not late: neither received nor lost
	Received     int             `json:"received"`
	Lost         int             `json:"lost"`
	Late         int             `json:"late"`
	Duplicated   int             `json:"duplicated"`
	Reordered    int             `json:"reordered"`
	Harms                        // the lost by how they came
	Foreign      int             `json:"foreign"` // lines or messages that are no frames of this run
	ForeignBytes int             `json:"foreign_bytes"`
	Refused      int             `json:"refused"` // frames that the sending module would not take; among the lost
	Loss         stats.Share     `json:"loss"`
	LostOrLate   stats.Share     `json:"lost_or_late"`     // what a limit of loss judges: one waiting time decides both (RFC 7680)
	Effective    float64         `json:"effective_frames"` // so many independent frames would tell as much of the loss
	Doubt        string          `json:"doubt,omitempty"`  // what the interval of the loss cannot know
	Outage       *Outage         `json:"outage,omitempty"` // the longest stretch of which nothing came, where it is no chance
	Together     bool            `json:"losses_together"`  // more than independent losses do in one of twenty tests
	Bursts       stats.Bursts    `json:"bursts"`
	Minutes      []Minute        `json:"minutes"`
	Sizes        []SizeResult    `json:"sizes,omitempty"`              // where frames of several sizes were sent
	LatencyMS    *Latency        `json:"latency_ms"`                   // null if nothing arrived
	VariationMS  float64         `json:"variation_ms"`                 // packet delay variation, 99th percentile above the least (RFC 5481)
	JitterMS     float64         `json:"jitter_ms"`                    // RFC 3550, as it was at the end
	MeanDMS      float64         `json:"mean_d_ms"`                    // its mean |D| over the run
	WireMS       float64         `json:"wire_ms"`                      // of the latency, spent on the serial lines, on average; 0 where that cannot be told
	Passes       string          `json:"passes,omitempty"`             // over which lines that is
	TooFast      int             `json:"too_fast,omitempty"`           // frames that came sooner than the lines alone take: the port does not keep its line's time
	CarriedPS    float64         `json:"carried_per_second"`           // frames that came, from the first to the last; 0 if that is not known
	MostUnder    int             `json:"most_under_way"`               // frames on their way at once, before one was known to be lost
	KeptMS       float64         `json:"kept_every_ms"`                // the interval that was kept
	Lag          Lag             `json:"lag_ms"`                       // by how much sending was behind its plan
	PlannedMS    *Latency        `json:"planned_latency_ms,omitempty"` // from the planned sending, where that differs by more than its uncertainty
	Delays       *stats.Blocks   `json:"delays,omitempty"`             // latencies in ms in the order of sending, in blocks
	FarClock     *FarClock       `json:"far_clock,omitempty"`          // of a far end whose clock did not go evenly
	HoldMS       *int            `json:"hold_back_ms,omitempty"`       // so long the receiving adapter may gather bytes before it hands them on
	SentBytes    int             `json:"sent_bytes,omitempty"`         // that go out at the sender for one frame, of the greatest size
	Histogram    string          `json:"histogram"`                    // of latencies in microseconds, HdrHistogram V2, compressed, base64
	Margin       *Margin         `json:"margin,omitempty"`             // to the strength where loss begins
	Levels       []Level         `json:"levels,omitempty"`             // loss by strength
	Strength     *stats.Spread   `json:"strength_dbm,omitempty"`
	SNR          *stats.Spread   `json:"snr_db,omitempty"`
	Verdict      verdict.Verdict `json:"verdict"`
	Judged       Judged          `json:"judged"`
	InAll        int             `json:"frames_to_decide,omitempty"` // of an undecided test: about so many frames in all would tell, in four cases of five
	Why          []string        `json:"why"`                        // the verdict in words
}

// Apart is the share of the frames that counts, from 0 to 1: losses that stand together tell less.
func (d *Direction) Apart() float64 {
	if known := d.Sent - d.UnderWay; d.Effective > 0 && known > 0 {
		return min(1, d.Effective/float64(known))
	}
	return 1
}

// LossOf is the share lost of some of the direction's frames with its 95 % interval.
func (d *Direction) LossOf(lost, sent int) stats.Share { return stats.Thinned(lost, sent, d.Apart()) }

// Judged are the verdicts by limit; measured where there was none.
type Judged struct {
	Loss     verdict.Verdict `json:"loss"`
	P95      verdict.Verdict `json:"p95"`
	Strength verdict.Verdict `json:"strength"`
}

// Latency is from sending a frame to its arrival, in milliseconds. The percentiles are of
// all frames whose fate is known, a lost one being later than any other (RFC 7679, section
// 5.1): where so many were lost it is +Inf. Min and Max are of those that arrived.
type Latency struct {
	Min    record.Number `json:"min"`
	Median record.Number `json:"median"`
	P90    record.Number `json:"p90"`
	P95    record.Number `json:"p95"`
	P99    record.Number `json:"p99"`
	P999   record.Number `json:"p999"`
	Max    record.Number `json:"max"`

	// Intervals are the 95 % intervals of percentiles, by their names as above.
	Intervals map[string]Bounds `json:"intervals,omitempty"`

	// Effective is how many independent frames would tell as much of the percentile that is known least; 0 where that
	// is not told.
	Effective float64 `json:"effective_frames,omitempty"`
}

// FewEffective is under how many effective frames the intervals of a latency are too narrow: see docs/link.md.
const FewEffective = 30

// Bounds are those of an interval, in milliseconds: 0 or +Inf where so few frames give
// none.
type Bounds struct {
	Low  record.Number `json:"low"`
	High record.Number `json:"high"`
}

// Lag is by how much something was late, in milliseconds.
type Lag struct {
	P95 float64 `json:"p95"`
	Max float64 `json:"max"`
}

// direction sums a tally up.
func (t *tally) direction(from, to string) Direction {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.sumUp(from, to, t.ordered)
}

// sumUp is direction with what was gathered. The mutex is held.
func (t *tally) sumUp(from, to string, g ordered) Direction {
	sent := int(t.next)
	d := Direction{
		From: from, To: to,
		Sent: sent, UnderWay: g.under, Received: t.received, Lost: sent - t.received - g.under, Late: t.late,
		Duplicated: t.duplicated, Reordered: t.reordered, Harms: g.harms,
		Foreign: t.foreign, ForeignBytes: t.foreignBytes,
		Loss: g.lost.Share(), LostOrLate: g.missed.Share(), Effective: stats.Round(g.missed.Effective(), 1), Doubt: g.missed.Doubt(), Outage: g.outages.outage(), Together: g.lost.Together(),
		JitterMS: t.jitter.Value / 1e6, MeanDMS: stats.Round(t.jitter.Mean()/1e6, 3),
		Bursts: g.lost.Bursts(), Minutes: append([]Minute{}, g.minutes...), Levels: g.byLevel(), Sizes: g.bySize(),
		Strength: t.strength.Spread(), SNR: t.snr.Spread(),
	}
	d.Margin, d.MostUnder = d.margin(), t.mostUnder
	if t.intervals > 0 {
		d.KeptMS = stats.Round(ms(t.between)/float64(t.intervals), 3)
	}
	d.Lag = lagOf(t.lag)
	if over := t.lastCame.Sub(t.firstCame); t.received > 1 && over > 0 && t.wentOn.IsZero() {
		d.CarriedPS = stats.Round(float64(t.received-1)/over.Seconds(), 3)
	}
	if t.received > 0 {
		n := sent - g.under
		blocks := g.delays.Clone()
		d.Delays = &blocks
		d.LatencyMS = latencies(t.latency, n)
		d.LatencyMS.Intervals = intervals(&blocks, d.LatencyMS)
		if planned := latencies(t.planned, n); d.LatencyMS.hides(planned) {
			d.PlannedMS = planned
		}
		d.VariationMS = stats.Round(float64(percentile(t.latency, 0.99, t.received)-d.LatencyMS.Min), 3)
		if code, err := t.latency.Encode(hdrhistogram.V2CompressedEncodingCookieBase); err == nil { // into memory it always does
			d.Histogram = string(code)
		}
		if d.TooFast = t.fast; t.fast == 0 {
			d.WireMS = float64(t.wire.Microseconds()) / 1000 / float64(t.received)
		}
	}
	return d
}

// percentile is the q-th value of n, rounded up, in milliseconds; +Inf if not so many
// came.
func percentile(h *hdrhistogram.Histogram, q float64, n int) record.Number {
	place, came := int(math.Ceil(q*float64(n)-1e-9)), h.TotalCount()
	if int64(place) > came {
		return record.Number(math.Inf(1))
	}
	return record.Number(float64(h.ValueAtQuantile(100*float64(max(1, place))/float64(came))) / 1000)
}

// latencies are the percentiles of n frames, of which a histogram has those that came.
func latencies(h *hdrhistogram.Histogram, n int) *Latency {
	at := func(q float64) record.Number { return percentile(h, q, n) }
	return &Latency{
		Min: record.Number(float64(h.Min()) / 1000), Median: at(0.5), P90: at(0.9), P95: at(0.95), P99: at(0.99), P999: at(0.999),
		Max: record.Number(float64(h.Max()) / 1000),
	}
}

// percentiles are those that have intervals.
func (l *Latency) percentiles() map[string]record.Number {
	return map[string]record.Number{"median": l.Median, "p90": l.P90, "p95": l.P95, "p99": l.P99}
}

var shares = map[string]float64{"median": 0.5, "p90": 0.9, "p95": 0.95, "p99": 0.99}

func intervals(b *stats.Blocks, l *Latency) map[string]Bounds {
	all := map[string]Bounds{}
	l.Effective = math.Inf(1)
	for name, v := range l.percentiles() {
		q := b.Quantile(shares[name])
		l.Effective = min(l.Effective, stats.Round(q.Effective, 1))
		all[name] = Bounds{min(v, record.Number(stats.Round(q.Low, 3))), max(v, record.Number(stats.Round(q.High, 3)))}
	}
	return all
}

// hides reports whether latencies from the planned sending are greater by more than the
// uncertainty: a sender that was held up would else hide its own queue.
func (l *Latency) hides(planned *Latency) bool {
	own := l.percentiles()
	for name, v := range planned.percentiles() {
		high := l.Intervals[name].High
		if !high.Finite() { // so few frames give no bound
			high = own[name]
		}
		if v > high && v-high > plannedStep {
			return true
		}
	}
	return false
}

// plannedStep is a difference of latencies, in milliseconds, that is not worth a second
// set of them: as much a timer alone is late.
const plannedStep = 1

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
