package link

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/link/frame"
	"uparrot/core/pace"
)

// way is one direction of the test.
type way struct {
	from, to *end
	number   byte
	refused  atomic.Int64
	first    int    // number of the first frame, after a checkpoint
	frame    []byte // frames that go out in one write
}

func (w *way) direction() Direction {
	d := w.to.counts.direction(w.from.Name, w.toName())
	d.Refused = int(w.refused.Load())
	d.HoldMS = w.to.hold
	d.FarClock = w.to.clock.told()
	d.SentBytes = w.wire(w.from.test.Size)
	if d.WireMS > 0 {
		d.Passes = w.passes()
	}
	return d
}

// passes is over which lines a frame goes, in words.
func (w *way) passes() string {
	back := w.to.repeated.Load()
	switch {
	case w.from.Carrier != nil && back:
		return fmt.Sprintf("twice over %s's line and twice over the far end's, taken to be like it", w.from.Name)
	case w.from.Carrier != nil && w.to.repeats:
		return fmt.Sprintf("twice over %s's line", w.from.Name)
	case w.from.Carrier != nil:
		return fmt.Sprintf("once over %s's line and once over %s's", w.from.Name, w.to.Name)
	case back:
		return fmt.Sprintf("there and back over %s's line", w.from.Name)
	}
	return fmt.Sprintf("once over %s's line, as on a plain cable", w.from.Name)
}

// toName is where the frames of a way arrive, in words.
func (w *way) toName() string {
	if w.to.repeats {
		return "the far end and back"
	}
	return w.to.Name
}

// lookEvery is after how many frames it is asked whether they are enough.
const lookEvery = 8

// givenUp is how many commands in a row a module may leave unanswered before the
// test is given up.
const givenUp = 5

// mostAtOnce is how many frames that are overdue go out in one write.
const mostAtOnce = 8

// overdue reports whether a frame is late already, and nothing has to be looked at before
// it goes out.
func (w *way) overdue(t *Test, start time.Time, i int) bool {
	return t.Every > 0 && t.Window == 0 && t.Stop == nil && i%lookEvery != 0 && time.Since(start.Add(time.Duration(i-w.first)*t.Every)) > 0
}

// stamp puts a frame, with the time at which it goes out, behind those that go out with it.
func (w *way) stamp(t *Test, i int, planned time.Time) {
	now := time.Now()
	w.to.counts.sent(planned, now)
	f := frame.Stamped{Frame: frame.Frame{Way: w.number, Run: w.from.run, Number: uint32(i)}, Planned: planned.Sub(w.from.start).Microseconds(), Sent: now.Sub(w.from.start).Microseconds()}
	w.frame = f.Append(w.frame, t.sizeOf(i))
}

func (w *way) sendAll(ctx context.Context, t *Test, start time.Time, enough func() bool) error {
	d, unanswered := w.from.dialog, 0
	for i := w.first; i < t.Count; i++ {
		if (i%lookEvery == 0 || t.Stop != nil) && i > t.Least && enough() {
			return nil
		}
		planned := start.Add(time.Duration(i-w.first) * t.Every)
		if t.Every == 0 {
			planned = time.Now()
		}
		if !pace.Until(ctx, planned, t.Sleep, nil) {
			return context.Cause(ctx)
		}
		if t.Window > 0 && !w.to.counts.room(ctx, t.Window) {
			return context.Cause(ctx)
		}
		if w.from.Binary {
			w.frame = w.frame[:0]
			w.stamp(t, i, planned)
			for n := 1; n < mostAtOnce && i+1 < t.Count && w.overdue(t, start, i+1); n++ { // nothing keeps those that are counted from going out
				i++
				w.stamp(t, i, start.Add(time.Duration(i-w.first)*t.Every))
			}
			if _, err := d.SayBytes(ctx, w.frame); err != nil {
				return err
			}
			continue
		}
		text, err := w.text(uint32(i), t.sizeOf(i))
		if err != nil {
			return err
		}
		w.to.outBytes.Store(int64(w.from.ActsAfter(text)))
		w.to.counts.sent(planned, time.Now())
		if w.from.Carrier == nil {
			if _, err := d.SayBytes(ctx, []byte(text+frame.PlainEnd)); err != nil {
				return err
			}
			continue
		}
		if _, err = d.Say(ctx, text, answers); err == nil {
			err = d.Settle(ctx, answers)
		}
		refused, isRefused := errors.AsType[*dialog.Refused](err)
		missed, isMissed := errors.AsType[*dialog.Missed](err)
		if isRefused || isMissed {
			w.to.counts.refuse(uint64(i))
		}
		switch {
		case isRefused && i == w.first:
			why := w.from.Phrasebook.Explain(refused.Heard)
			if why != "" {
				why = " (" + why + ")"
			}
			return fmt.Errorf("%s refused the first frame: said %s, heard %s%s", w.from.Name, refused.Said, refused.Heard, why)
		case isRefused:
			w.refused.Add(1)
		case isMissed:
			d.GiveUp() // the next frame is due whatever became of this one
			w.refused.Add(1)
			if unanswered++; unanswered == givenUp {
				return fmt.Errorf("%s left %d commands in a row unanswered: %w", w.from.Name, givenUp, missed)
			}
			continue
		case err != nil:
			return err
		}
		unanswered = 0
	}
	return nil
}

// text is the words that send a frame.
func (w *way) text(number uint32, size int) (string, error) {
	payload := string(frame.Frame{Way: w.number, Run: w.from.run, Number: number}.Append(nil, size))
	return w.from.Command(w.address(), payload)
}

// address is that of the far end.
func (w *way) address() string {
	if w.to.repeats {
		return w.to.far
	}
	return w.to.address
}

// wire is how many bytes go out for a frame of a size.
func (w *way) wire(size int) int { return w.from.Sent(size, w.address()) }

// waitForStragglers waits until the deadline of the last frame, or until all
// have arrived and so much time has passed that no second copies are on their
// way.
func (w *way) waitForStragglers(ctx context.Context, deadline time.Duration) {
	t := w.to.counts
	limit := time.NewTimer(deadline)
	defer limit.Stop()
	for t.waiting() > 0 {
		select {
		case <-t.news:
		case <-limit.C:
			return
		case <-ctx.Done():
			return
		}
	}
	tail := time.NewTimer(min(deadline, max(250*time.Millisecond, 2*t.longest())))
	defer tail.Stop()
	select {
	case <-tail.C:
	case <-ctx.Done():
	}
}
