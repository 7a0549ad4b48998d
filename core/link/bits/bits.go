// Package bits tests a transparent link with a pseudo-random sequence of ITU-T
// O.150 without gaps.
package bits

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"sync"
	"time"

	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/link/frame"
	"uparrot/core/pace"
	"uparrot/core/prbs"
	"uparrot/core/record"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// Test is a bit error test through a transparent link: a pseudo-random sequence of
// ITU-T O.150 without gaps, one way.
type Test struct {
	A, B    *bench.Station // without B the line of A is looped
	Pattern string         // prbs9, prbs15 or prbs23
	Time    time.Duration
	MaxBER  *float64       // greatest ratio of errored bits allowed; nil is no limit
	Events  *record.Stream // told of progress (a Result) and, sealed, of the result; nil tells nobody
	Sleep   pace.Sleep     // nil means pace.Precise
}

// Name names a result.
const Name = "bit error test"

// Result is what a bit error test has found. Seconds are those of ITU-T
// G.821, counted from the first bit that was in step.
type Result struct {
	Kind       string          `json:"kind"` // "bit error test"
	Pattern    string          `json:"pattern"`
	Sent       int64           `json:"bits_sent"`
	Compared   int64           `json:"bits_compared"`     // in step with the sequence
	Missed     int64           `json:"bits_not_compared"` // sent and not compared, those apart by which the sequence was found at first
	Errored    int64           `json:"bits_errored"`
	Ratio      stats.Share     `json:"ratio"`
	Outside    int64           `json:"bits_out_of_step"` // that came while the sequence was not found
	Slips      int             `json:"slips"`            // losses of step with a shift by whole bits
	Shifted    int64           `json:"bits_shifted"`     // by all slips; above 0 bits came too many, below 0 they are missing
	Losses     int             `json:"losses_of_step"`   // all, slips among them
	Seconds    int             `json:"seconds"`
	ErroredS   int             `json:"errored_seconds"`
	Severely   int             `json:"severely_errored_seconds"` // 10^-3 or more of its bits wrong or out of step, or nothing in step
	Available  int             `json:"available_seconds"`
	AvailRatio float64         `json:"availability"`
	Verdict    verdict.Verdict `json:"verdict"`
	Why        string          `json:"why"`
}

// The receiver is in step after so many bits in a row that the sequence foretells,
// and out of it when a quarter of a window is wrong.
const (
	stepIn     = 96
	stepWindow = 128
	stepOut    = stepWindow / 4
	slipSearch = 1 << 16 // bits to both sides
)

// The sequence comes back after 2^n-1 bits, so a shift by so many more looks the same: of
// those that fit it is the one nearest to what the clock tells, which is trusted beyond
// clockUnsure: bytes are handed on in pieces, and machines are busy.
const clockUnsure = 50 * time.Millisecond

// severe is the ratio of G.821 from which a second is severely errored, and
// availRun how many seconds in a row change availability.
const (
	severe   = 1e-3
	availRun = 10
)

// bitCounter compares what comes with the sequence.
type bitCounter struct {
	degree, tap uint
	invert      bool

	reg    uint32 // the last bits that came, or while in step the sequence itself
	have   int    // bits in it, while out of step
	good   int    // foretold in a row, while out of step
	inStep bool
	window [stepWindow]bool // errors of the last bits in step
	at     int
	wrong  int    // in the window
	lost   uint32 // the register when step was lost, going on by itself
	ever   bool

	outBits, outErrors int64   // since step was lost, against the sequence that goes on
	perSecond          float64 // bits that are sent in a second; 0 is not known

	seen     int64     // bits that came
	sure     time.Time // when all was in step last, without a wrong bit in the window
	sureSeen int64     // bits until then

	res                      Result
	second                   int64 // that goes on
	secondBits, secondErrors int64
	secondOut                int64 // bits out of step
	began                    time.Time
	seconds                  []second
}

// second is one: what it was, and how many bits came in it.
type second struct {
	kind byte
	bits int64
}

// What a second was.
const (
	clean = iota
	erroredSecond
	severeSecond
)

func (c *bitCounter) next(reg uint32) (uint32, uint32) {
	bit := (reg>>(c.degree-1) ^ reg>>(c.tap-1)) & 1
	return (reg<<1 | bit) & (1<<c.degree - 1), bit
}

// feed takes bytes as they come, the lowest bit first, as a serial line sends it.
func (c *bitCounter) feed(at time.Time, b []byte) {
	for _, v := range b {
		for i := range 8 {
			bit := uint32(v>>i) & 1
			if c.invert {
				bit ^= 1
			}
			c.seen++
			c.bit(at, bit)
		}
	}
	if c.inStep && c.wrong == 0 {
		c.sure, c.sureSeen = at, c.seen
	}
}

func (c *bitCounter) bit(at time.Time, bit uint32) {
	if !c.inStep {
		c.search(at, bit)
		return
	}
	c.tick(at)
	var want uint32
	c.reg, want = c.next(c.reg)
	bad := bit != want
	c.res.Compared++
	c.secondBits++
	if c.window[c.at] {
		c.wrong--
	}
	c.window[c.at] = bad
	c.at = (c.at + 1) % stepWindow
	if bad {
		c.wrong++
		c.res.Errored++
		c.secondErrors++
	}
	if c.wrong < stepOut {
		return
	}
	// Out of step: what the window counted were no errors of bits.
	c.res.Losses++
	c.res.Errored -= int64(c.wrong)
	c.secondErrors = max(0, c.secondErrors-int64(c.wrong))
	c.res.Compared -= stepWindow
	c.secondBits = max(0, c.secondBits-stepWindow)
	c.res.Outside += stepWindow
	c.secondOut += stepWindow
	c.inStep, c.lost, c.have, c.good = false, c.reg, 0, 0
	c.outBits, c.outErrors = stepWindow, int64(c.wrong)
	c.window, c.wrong = [stepWindow]bool{}, 0
}

// search finds the sequence in what comes.
func (c *bitCounter) search(at time.Time, bit uint32) {
	c.res.Outside++
	if c.ever {
		c.tick(at)
		c.secondOut++
		var want uint32
		c.lost, want = c.next(c.lost)
		c.outBits++
		if bit != want {
			c.outErrors++
		}
	}
	foretold, want := c.next(c.reg)
	if c.have >= int(c.degree) && bit == want {
		c.good++
		c.reg = foretold
	} else {
		c.good = 0
		c.reg = (c.reg<<1 | bit) & (1<<c.degree - 1)
		c.have = min(c.have+1, int(c.degree))
	}
	if c.good < stepIn || c.reg == 0 {
		return
	}
	c.inStep, c.at = true, 0
	if !c.ever {
		c.ever, c.began = true, at
		return
	}
	switch shift, ok := c.shift(c.byClock(at)); {
	case ok && shift == 0: // no bit was missing: many were wrong, and they count
		c.res.Losses--
		c.res.Compared += c.outBits
		c.res.Errored += c.outErrors
		c.res.Outside -= c.outBits
	case ok:
		c.res.Slips++
		c.res.Shifted += int64(shift)
	}
}

// byClock is about how many bits came too many, or, below 0, are missing, since all was
// in step last; 0 if that cannot be told.
func (c *bitCounter) byClock(at time.Time) int {
	if c.perSecond == 0 {
		return 0
	}
	if about := float64(c.seen-c.sureSeen) - at.Sub(c.sure).Seconds()*c.perSecond; math.Abs(about) > clockUnsure.Seconds()*c.perSecond {
		return int(about)
	}
	return 0
}

// shift is by how many bits the sequence that comes is behind the one that went on
// by itself: of those that fit the one nearest to about.
func (c *bitCounter) shift(about int) (int, bool) {
	ahead, behind, period := c.lost, c.reg, 1<<c.degree-1
	for range -min(about, 0) % period {
		ahead, _ = c.next(ahead)
	}
	for range max(about, 0) % period {
		behind, _ = c.next(behind)
	}
	from, to := behind, ahead
	for k := range slipSearch {
		if ahead == from {
			return about - k, true
		}
		if behind == to {
			return about + k, true
		}
		ahead, _ = c.next(ahead)
		behind, _ = c.next(behind)
	}
	return 0, false
}

// tick ends the seconds that are over.
func (c *bitCounter) tick(at time.Time) {
	now := int64(at.Sub(c.began) / time.Second)
	for c.second < now && len(c.seconds) < math.MaxInt32 {
		c.endSecond()
	}
}

func (c *bitCounter) endSecond() {
	// What came out of step was not what was sent, so it counts against its second.
	bad, all := c.secondErrors+c.secondOut, c.secondBits+c.secondOut
	kind := byte(clean)
	switch {
	case all == 0 && c.perSecond > 0: // they may come yet; see kinds
	case c.secondBits == 0 || float64(bad)/float64(all) >= severe:
		kind = severeSecond
	case bad > 0:
		kind = erroredSecond
	}
	c.seconds = append(c.seconds, second{kind, all})
	c.second++
	c.secondBits, c.secondErrors, c.secondOut = 0, 0, 0
}

// enoughOfSecond is how much of what is sent in a second must have come, sooner or later.
const enoughOfSecond = 0.9

// kinds are what the seconds were. One in which bits were sent that never came is severely
// errored; bits that came late, as where a machine was busy, are too many in a later
// second, and make up for it.
func (c *bitCounter) kinds() []byte {
	kinds, late := make([]byte, len(c.seconds)), 0.0
	for i := len(c.seconds) - 1; i >= 0; i-- {
		s := c.seconds[i]
		kinds[i] = s.kind
		switch missing := c.perSecond - float64(s.bits); {
		case missing <= 0:
			late -= missing
		case missing-late > (1-enoughOfSecond)*c.perSecond:
			kinds[i], late = severeSecond, 0
		default:
			late = max(0, late-missing)
		}
	}
	return kinds
}

// acquired is how many bits it takes to find the sequence.
func (c *bitCounter) acquired() int64 { return int64(c.degree) + stepIn }

// finish goes on to the end of sending: what had not come by then was sent for nothing.
func (c *bitCounter) finish(sent int64, seconds int) {
	for c.ever && len(c.seconds) < seconds {
		if len(c.seconds) == seconds-1 && c.perSecond > 0 { // it began when the sequence was found
			c.secondBits += min(c.acquired(), int64(c.perSecond)/2)
		}
		c.endSecond()
	}
	c.res.Missed = max(0, sent-c.res.Compared-c.acquired())
}

// result sums up. Availability is that of G.821, annex A: it ends with ten severely
// errored seconds in a row, which count as unavailable, and begins again with ten
// that are not, which count as available.
func (c *bitCounter) result() Result {
	r := c.res
	r.Kind, r.Ratio = "bit error test", stats.Wilson(int(r.Errored), int(r.Compared))
	r.Seconds = len(c.seconds)
	available, run := true, 0
	kinds := c.kinds()
	for i, s := range kinds {
		if (s == severeSecond) == available {
			run++
		} else {
			run = 0
		}
		if run == availRun {
			available, run = !available, 0
			for j := i - availRun + 1; j < i; j++ { // they belong to what begins
				r.count(kinds[j], available)
			}
			for j := i - availRun + 1; j < i; j++ {
				r.uncount(kinds[j], !available)
			}
		}
		r.count(s, available)
	}
	if r.Seconds > 0 {
		r.AvailRatio = stats.Round(float64(r.Available)/float64(r.Seconds), 6)
	}
	return r
}

// count files a second; errored ones count only in available time.
func (r *Result) count(second byte, available bool)   { r.file(second, available, 1) }
func (r *Result) uncount(second byte, available bool) { r.file(second, available, -1) }

func (r *Result) file(second byte, available bool, by int) {
	if !available {
		return
	}
	r.Available += by
	if second != clean {
		r.ErroredS += by
	}
	if second == severeSecond {
		r.Severely += by
	}
}

// Patterns are the sequences by name, with their degree.
var Patterns = map[string]int{"prbs9": 9, "prbs15": 15, "prbs23": 23}

func newBitCounter(pattern string) (*bitCounter, error) {
	tap, inverted, err := prbs.Shape(Patterns[pattern])
	if err != nil {
		return nil, fmt.Errorf("there is no pattern %q", pattern)
	}
	return &bitCounter{degree: uint(Patterns[pattern]), tap: tap, invert: inverted}, nil
}

// Do opens the ports, sends for the time and sums up.
func (b *Test) Do(ctx context.Context) (res Result, err error) {
	if b.Sleep == nil {
		b.Sleep = pace.Precise
	}
	ends := []*bench.Station{b.A}
	if b.B != nil {
		ends = append(ends, b.B)
	}
	if err := transparent(ends); err != nil {
		return res, err
	}
	counter, err := newBitCounter(b.Pattern)
	if err != nil {
		return res, err
	}
	if char := b.A.Setup.Line().Time(1); char > 0 {
		counter.perSecond = 8 / char.Seconds()
	}
	var mu sync.Mutex
	dialogs := make([]*dialog.Dialog, len(ends))
	for i, s := range ends {
		last := i == len(ends)-1
		dialogs[i], err = s.Open(ctx, b.Events, func(c *dialog.Config) {
			frame.Bytes(c, func(at time.Time, b []byte) {
				if last {
					mu.Lock()
					defer mu.Unlock()
					counter.feed(at, b)
				}
			})
		})
		if err != nil {
			for j := range i {
				err = errors.Join(err, ends[j].Close(b.Events, dialogs[j]))
			}
			return res, err
		}
	}
	sent, err := b.send(ctx, dialogs[0], func() {
		if b.Events.Watched() {
			mu.Lock()
			r := counter.result()
			mu.Unlock()
			b.Events.Emit(record.Event{Kind: record.Progress, Live: r})
		}
	})
	for i, s := range ends {
		err = errors.Join(err, s.Close(b.Events, dialogs[i]))
	}
	mu.Lock()
	defer mu.Unlock()
	if err == nil {
		counter.finish(sent, int(b.Time/time.Second))
	}
	res = counter.result()
	res.Pattern, res.Sent = b.Pattern, sent
	b.judge(&res)
	if err != nil {
		res.Verdict = verdict.Broken
	}
	b.Events.Emit(record.Event{Kind: record.Result, Text: Name, Verdict: res.Verdict, Value: res})
	return res, err
}

func (b *Test) judge(r *Result) {
	lost := ""
	if r.Missed > 0 {
		lost = fmt.Sprintf("%d of %d bits sent, %.2g %%, were never compared: a ratio of wrong bits does not cover them", r.Missed, r.Sent, 100*float64(r.Missed)/float64(r.Sent))
	}
	if r.Losses > 0 {
		lost = strings.TrimPrefix(lost+fmt.Sprintf("; the sequence was lost %d times, so bits were missing or too many", r.Losses), "; ")
	}
	switch {
	case r.Compared == 0:
		r.Verdict, r.Why = verdict.Failed, "the sequence was not found in what came"
	case b.MaxBER == nil:
		r.Verdict, r.Why = verdict.Measured, strings.TrimPrefix(lost+"; no limit was given, so there was nothing to judge", "; ")
	case lost != "":
		r.Verdict, r.Why = verdict.Failed, lost
	default:
		r.Verdict = r.Ratio.Judge(*b.MaxBER)
		r.Why = fmt.Sprintf("%.2g of the bits were wrong, with 95 %% confidence %.2g to %.2g, against at most %.2g", r.Ratio.Ratio, r.Ratio.Low, r.Ratio.High, *b.MaxBER)
	}
}

// chunkTime is how much of the sequence is written at once.
const chunkTime = 20 * time.Millisecond

// send writes the sequence without gaps: what is written is always a little ahead
// of the wire.
func (b *Test) send(ctx context.Context, d *dialog.Dialog, tell func()) (bits int64, err error) {
	g, err := prbs.New(Patterns[b.Pattern])
	if err != nil {
		return 0, err
	}
	line := b.A.Setup.Line()
	chunk := make([]byte, max(1, line.Chars(chunkTime)))
	start := time.Now()
	told := start
	for n := 0; ; n++ {
		due := start.Add(line.Time(n*len(chunk)) - 2*chunkTime)
		if due.Sub(start) > b.Time {
			break
		}
		if !pace.Until(ctx, due, b.Sleep, nil) {
			return bits, context.Cause(ctx)
		}
		g.Fill(chunk)
		if _, err := d.SayBytes(ctx, chunk); err != nil {
			return bits, err
		}
		bits += int64(8 * len(chunk))
		if time.Since(told) > 200*time.Millisecond {
			told = time.Now()
			tell()
		}
	}
	select { // what is on its way
	case <-time.After(time.Second):
	case <-ctx.Done():
		return bits, context.Cause(ctx)
	}
	return bits, nil
}

// transparent says which of the ends does not take bits as they are.
func transparent(ends []*bench.Station) error {
	for _, s := range ends {
		if !frame.Through(s.Setup, s.Phrasebook).Binary {
			return frame.NotTransparent(s.Name)
		}
	}
	return nil
}
