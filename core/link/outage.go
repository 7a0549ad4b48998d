package link

import (
	"fmt"
	"math"
	"time"

	"uparrot/core/stats"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// Outage is the longest stretch of frames of which none came, where chance does not make one so long. Numbers are
// from 0, times since the first frame was sent, in milliseconds.
type Outage struct {
	First   int     `json:"first_frame"`
	Frames  int     `json:"frames"`
	SinceMS float64 `json:"since_ms"`           // when the first of them was sent
	UntilMS float64 `json:"until_ms,omitempty"` // when the first was sent that came again; 0 if none has
}

// Words say what is known of an outage.
func (o Outage) Words() string {
	at := func(ms float64) string {
		return text.Took(time.Duration(ms * float64(time.Millisecond)).Round(100 * time.Millisecond))
	}
	if o.UntilMS == 0 {
		return fmt.Sprintf("nothing has come since %s, frame %d", at(o.SinceMS), o.First+1)
	}
	return fmt.Sprintf("nothing came from %s to %s, frames %d to %d", at(o.SinceMS), at(o.UntilMS), o.First+1, o.First+o.Frames)
}

// outages look for the longest stretch of lost frames.
type outages struct {
	began   time.Time // when the first frame was sent
	now     Outage
	longest Outage
	frames  int
	lost    int
}

// add takes in the next frame whose fate is known.
func (o *outages) add(r Row) {
	if o.began.IsZero() {
		o.began = r.Sent
	}
	since := ms(r.Sent.Sub(o.began))
	o.frames++
	if r.State != Lost {
		if o.now.Frames > 0 && o.now.Frames == o.longest.Frames && o.now.First == o.longest.First {
			o.longest.UntilMS = since
		}
		o.now = Outage{}
		return
	}
	if o.lost++; o.now.Frames == 0 {
		o.now = Outage{First: int(r.Number), SinceMS: since}
	}
	if o.now.Frames++; o.now.Frames > o.longest.Frames {
		o.longest = o.now
	}
}

// leastOutage is how many frames an outage has at least.
const leastOutage = 10

// outage is the longest stretch, nil where it is no news: nothing came at all, or so many frames in a row are lost by
// chance where so many are lost besides.
func (o *outages) outage() *Outage {
	l := o.longest
	if l.Frames < leastOutage || l.Frames == o.frames {
		return nil
	}
	others := float64(o.lost-l.Frames) / float64(o.frames-l.Frames)
	if others > 0 && float64(l.Frames)*math.Log(others)+math.Log(float64(o.frames)) > math.Log(1e-4) {
		return nil
	}
	return &l
}

// silence is how long nothing may have come before a test that goes on until it is sure is over, if that is half of
// it as well.
const silence = 10 * time.Second

// hopeless decides what no further frame of a test could turn: more are lost than the limit allows of all, or nothing
// has come for half the test.
func (t *tally) hopeless(r *stats.Runs, most float64, count int, now time.Time) *decision {
	failed := func(why string) *decision {
		return &decision{Verdict: verdict.Failed, Frames: r.Frames(), Share: r.Share(), Why: why}
	}
	if count > 0 && float64(r.Lost()) > most*float64(count) && r.Share().Low > most { // else it may be at the limit
		return failed(fmt.Sprintf("that is more than the limit allows of all %d frames", count))
	}
	last := t.lastCame
	for _, began := range []time.Time{t.wentOn, t.knownOut.began} { // where none has come yet
		if last.IsZero() {
			last = began
		}
	}
	if gone := t.knownOut.now; gone.Frames*2 >= r.Frames() && gone.Frames >= leastOutage && now.Sub(last) >= silence {
		if gone.Frames == r.Frames() {
			return failed("nothing has come at all")
		}
		return failed(gone.Words())
	}
	return nil
}
