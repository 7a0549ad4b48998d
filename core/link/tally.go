package link

import (
	"context"
	"math"
	"sync"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// State is what became of a frame.
type State string

// What can become of a frame.
const (
	OnTime   State = "received"
	Late     State = "late" // received, but after the deadline
	Lost     State = "lost"
	UnderWay State = "under way" // had not come when the test was cut short, and was not late yet
)

// Row is one frame's story, given out when it is settled.
type Row struct {
	Number   uint64 // from 0
	Planned  time.Time
	Sent     time.Time
	Arrived  time.Time // zero if lost
	State    State
	Copies   int     // arrivals beyond the first
	Order    bool    // arrived after a later one
	Strength float64 // dBm; NaN if not told
	SNR      float64 // dB; NaN if not told

	Harm Harm // of a lost frame

	refused bool // by the sending module: it is lost, and never under way
}

// fate is what has become of it at a moment: what has neither come nor is known to be lost
// was under way.
func (r Row) fate(now time.Time, deadline time.Duration) State {
	if r.State == Lost && !r.refused && r.Harm == "" && now.Sub(r.Sent) <= deadline {
		return UnderWay
	}
	return r.State
}

// Latency is from sending to arrival; zero if it has not arrived.
func (r Row) Latency() time.Duration {
	if r.Arrived.IsZero() {
		return 0
	}
	return r.Arrived.Sub(r.Sent)
}

// windowSize is how many frames may be on their way at once. A frame that so many
// others have followed counts as lost, which keeps memory flat.
const windowSize = 1 << 16

// tally counts the frames of one direction. Its methods may be called from
// several goroutines.
type tally struct {
	mu       sync.Mutex
	deadline time.Duration
	over     time.Duration // the limit of latency; 0 is none
	settled  func(Row)     // told of each frame in the order of sending; may be nil

	frames []Row // ring; number n stands at n%window
	next   uint64
	oldest uint64

	received, late, duplicated, reordered, foreign int
	harmedNow                                      int // frames that came, but not whole
	foreignBytes                                   int
	strays                                         int                     // whole frames of other runs
	highest                                        int64                   // greatest number that arrived, -1 if none
	latency, planned, lag                          *hdrhistogram.Histogram // microseconds: from sending, from the planned sending, from that to the real one
	lastSent                                       time.Time               // zero before the first, also after a checkpoint
	between                                        time.Duration           // sum of the intervals between sendings
	intervals                                      int
	jitter                                         stats.Jitter
	total                                          time.Duration // sum of latencies
	wire                                           time.Duration // sum over received
	fast                                           int           // received sooner than the serial lines alone take
	mostUnder                                      int           // frames on their way at once, before one was known to be lost
	strength, snr                                  stats.Sample
	news                                           chan struct{}

	ordered   // of the frames that are settled
	trend     trend
	lastCame  time.Time
	firstCame time.Time
	wentOn    time.Time // from a checkpoint, the time before being nobody's; zero if from none

	// The frames so old that their fate is known, for deciding along the way, and what
	// was decided.
	known      int
	knownFates outcomes
	knownOut   outages
	lookAgain  int // frames that must be known for the next look
	latched    latched
}

// latched are the limits that were decided on the way, in the order in which they are
// judged; what is decided stays so.
type latched struct {
	Loss *decision `json:"loss,omitempty"`
	P95  *decision `json:"p95,omitempty"`
}

// decision is what one limit came to, and when.
type decision struct {
	Verdict verdict.Verdict `json:"verdict"`
	Frames  int             `json:"frames"`
	Share   stats.Share     `json:"share"`                  // with bounds that hold however often one looks
	Why     string          `json:"why,omitempty"`          // where it was not the evidence that decided
	Every   int             `json:"every_frames,omitempty"` // how often stretches of loss must come at least, in frames, for one to have been met in 95 % of tests
}

// decide decides, once, on which side of a limit a share of frames is.
func decide(d **decision, r *stats.Runs, most float64) {
	if *d != nil {
		return
	}
	if v := r.Sequential(most); v != verdict.Undecided {
		*d = &decision{Verdict: v, Frames: r.Frames(), Share: r.Sequence(), Every: r.Every()}
	}
}

func newTally(count int, deadline, over time.Duration, settled func(Row)) *tally {
	return &tally{
		deadline: deadline, over: over, settled: settled, highest: -1,
		frames:  make([]Row, 0, max(0, min(count, windowSize))), // at once: growing would hold up a frame
		latency: newHistogram(), planned: newHistogram(), lag: newHistogram(),
		news:    make(chan struct{}, 1),
		ordered: newOrdered(),
	}
}

func newHistogram() *hdrhistogram.Histogram {
	return hdrhistogram.New(1, int64(24*time.Hour/time.Microsecond), 4)
}

// sent notes that the next frame is being sent and returns its number.
func (t *tally) sent(planned, at time.Time) uint64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := t.next
	t.next++
	_ = t.lag.RecordValue(max(1, at.Sub(planned).Microseconds())) // a day is never exceeded
	if !t.lastSent.IsZero() {
		t.between += at.Sub(t.lastSent)
		t.intervals++
	}
	if t.knownFates.lost.Lost() == 0 {
		t.mostUnder = max(t.mostUnder, int(t.next)-t.received)
	}
	t.lastSent = at
	if int(n-t.oldest) >= windowSize {
		t.settleOldest()
	}
	row := Row{Number: n, Planned: planned, Sent: at, State: Lost, Strength: math.NaN(), SNR: math.NaN()}
	if len(t.frames) < windowSize {
		t.frames = append(t.frames, row)
	} else {
		t.frames[n%windowSize] = row
	}
	return n
}

// refuse notes that a frame was not taken.
func (t *tally) refuse(number uint64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.frames[number%windowSize].refused = true
}

func (t *tally) settleOldest() {
	r := t.frames[t.oldest%windowSize]
	if t.known <= int(t.oldest) {
		t.learnOne(r)
	}
	t.ordered.add(r, t.over)
	if t.settled != nil {
		t.settled(r)
	}
	t.oldest++
}

// extend is the number of the frame that was sent last with these 32 bits, which is all
// that there is room for on the wire; a greater one than any if none was.
func (t *tally) extend(bits uint32) uint64 {
	back := uint64(uint32(t.next-1) - bits) // how long ago, if it was in the last 2^32
	if t.next == 0 || back >= t.next {
		return math.MaxUint64
	}
	return t.next - 1 - back
}

// arrived notes a whole frame. A number that was never sent is foreign.
func (t *tally) arrived(bits uint32, at time.Time, wire time.Duration, strength, snr float64, size int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	number := t.extend(bits)
	if number >= t.next {
		t.foreign++
		t.foreignBytes += size
		return
	}
	if number < t.oldest {
		return // settled long ago
	}
	r := &t.frames[number%windowSize]
	if r.State != Lost {
		r.Copies++
		t.duplicated++
		return
	}
	if r.Harm != "" { // of a copy
		r.Harm = ""
		t.harmedNow--
	}
	r.Arrived, r.State, r.Strength, r.SNR = at, OnTime, strength, snr
	transit := at.Sub(r.Sent)
	t.received++
	if transit > t.deadline {
		r.State = Late
		t.late++
	}
	// RFC 4737, section 3: a frame is reordered if one sent later came before.
	if int64(number) < t.highest {
		r.Order = true
		t.reordered++
	}
	t.highest = max(t.highest, int64(number))
	_ = t.latency.RecordValue(max(1, transit.Microseconds())) // a day is never exceeded
	_ = t.planned.RecordValue(max(1, at.Sub(r.Planned).Microseconds()))
	if wire > transit+tooFast {
		t.fast++
	}
	t.jitter.Add(transit)
	t.total += transit
	t.wire += wire
	t.strength.Add(strength)
	t.snr.Add(snr)
	t.trend.add(strength)
	if t.lastCame = at; t.firstCame.IsZero() {
		t.firstCame = at
	}
	t.tell()
}

// tooFast is by how much a frame must be sooner than its lines alone take: clocks of
// adapters and machines differ a little.
const tooFast = 50 * time.Microsecond

func (t *tally) tell() {
	select {
	case t.news <- struct{}{}:
	default:
	}
}

// harmed notes how a frame that has not come whole came.
func (t *tally) harmed(number uint64, how Harm) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if r := &t.frames[number%windowSize]; number >= t.oldest && r.State == Lost && r.Harm == "" {
		r.Harm = how
		t.harmedNow++
		t.tell()
	}
}

// missing is the frame with these bits of its number, if it was sent and has not come.
func (t *tally) missing(bits uint32) (Row, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := t.extend(bits)
	if n >= t.next || n < t.oldest {
		return Row{}, false
	}
	r := t.frames[n%windowSize]
	return r, r.State == Lost
}

// open are frames that have not come, at most so many: those that one may look for next.
func (t *tally) open(most int) []Row {
	t.mu.Lock()
	defer t.mu.Unlock()
	var all []Row
	for n := max(t.oldest, uint64(max(0, t.highest-int64(most)))); n < t.next && len(all) < most; n++ {
		if r := t.frames[n%windowSize]; r.State == Lost && !r.refused {
			all = append(all, r)
		}
	}
	return all
}

func (t *tally) gotForeign(size int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.foreign++
	t.foreignBytes += size
}

// gotStray notes a whole frame of another run.
func (t *tally) gotStray(size int) {
	t.gotForeign(size)
	t.mu.Lock()
	defer t.mu.Unlock()
	t.strays++
}

// forgetForeign begins anew with what is no frame of this run, and tells how many were
// frames of others.
func (t *tally) forgetForeign() (strays int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	strays = t.strays
	t.strays, t.foreign, t.foreignBytes = 0, 0, 0
	return strays
}

// close settles all frames. What has not come is lost, or, where the test was cut short
// before it was late, was under way.
func (t *tally) close(now time.Time, cut bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for t.oldest < t.next {
		if r := &t.frames[t.oldest%windowSize]; cut {
			r.State = r.fate(now, t.deadline)
		}
		t.settleOldest()
	}
}

// lookNext is after how many frames it is looked again, after a look at n: looks cost time, and a few frames more
// tell next to nothing.
func lookNext(n int) int { return n + max(lookEvery, n/200) }

// decided reports whether the limits are decided by the frames that were sent
// longer than the deadline ago: a younger one that is missing may still come,
// while one that has come has, so younger ones would flatter.
func (t *tally) decided(now time.Time, l Limits, count int) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.learn(now)
	if n := t.knownFates.lost.Frames(); n < t.lookAgain {
		return false
	} else {
		t.lookAgain = lookNext(n)
	}
	if l.MaxLoss != nil {
		decide(&t.latched.Loss, &t.knownFates.missed, *l.MaxLoss)
		if t.latched.Loss == nil {
			t.latched.Loss = t.hopeless(&t.knownFates.missed, *l.MaxLoss, count, now)
		}
	}
	if l.MaxP95MS != nil {
		decide(&t.latched.P95, &t.knownFates.slow, p95Share)
		if t.latched.P95 == nil {
			t.latched.P95 = t.hopeless(&t.knownFates.slow, p95Share, count, now)
		}
	}
	return (l.MaxLoss == nil || t.latched.Loss != nil) && (l.MaxP95MS == nil || t.latched.P95 != nil)
}

// waiting is how many frames have not arrived, whole or otherwise.
func (t *tally) waiting() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return max(0, int(t.next)-t.received-t.harmedNow)
}

// learn counts the frames that have become older than the deadline. The mutex is
// held.
func (t *tally) learn(now time.Time) {
	for t.known < int(t.next) {
		r := t.frames[t.known%windowSize]
		if now.Sub(r.Sent) <= t.deadline {
			break
		}
		t.learnOne(r)
	}
}

// learnOne counts the next one.
func (t *tally) learnOne(r Row) {
	t.known++
	if r.State != UnderWay {
		t.knownFates.add(r, t.over)
		t.knownOut.add(r)
	}
}

// room waits until fewer than window frames are on their way. A frame that is
// older than the deadline is not counted as that any more.
func (t *tally) room(ctx context.Context, window int) bool {
	for {
		t.mu.Lock()
		underway, oldest := 0, time.Time{}
		for i := 0; i < 2*window && int(t.next)-1-i >= int(t.oldest); i++ {
			r := t.frames[(t.next-1-uint64(i))%windowSize]
			if r.fate(time.Now(), t.deadline) == UnderWay {
				underway, oldest = underway+1, r.Sent
			}
		}
		t.mu.Unlock()
		if underway < window {
			return true
		}
		timer := time.NewTimer(time.Until(oldest.Add(t.deadline)))
		select {
		case <-t.news:
		case <-timer.C:
		case <-ctx.Done():
		}
		timer.Stop()
		if ctx.Err() != nil {
			return false
		}
	}
}

// longest is the greatest latency so far.
func (t *tally) longest() time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	return time.Duration(t.latency.Max()) * time.Microsecond
}

// progress is how far the direction has come. It is asked for in the midst of
// measuring, so it takes no time: quantiles are for the end.
func (t *tally) progress(from, to string) Progress {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.learn(time.Now())
	p := Progress{From: from, To: to, Sent: int(t.next), Received: t.received, Missed: t.knownFates.lost.Lost(), Last: t.lastCame, Silent: t.knownOut.now, Strength: math.NaN()}
	if t.trend.any {
		p.Strength, p.Trend = t.trend.last, t.trend.words()
	}
	if t.received > 0 {
		p.Mean = t.total / time.Duration(t.received)
	}
	return p
}
