package link

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/link/frame"
	"uparrot/core/pattern"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// Answer is the far end of a round trip: it repeats every test frame back, with
// the times at which it came and went here, so that its share can be taken out.
type Answer struct {
	Station *bench.Station
	Events  *record.Stream // nil tells nobody

	// Repeated is how many frames have gone back so far.
	Repeated atomic.Int64

	frame.Carriage
	began   time.Time
	dialog  *dialog.Dialog
	replies chan reply
}

// reply is one frame to be sent back.
type reply struct {
	came time.Time
	text frame.Frame   // through a carrier
	bin  frame.Stamped // else
	size int
	to   string
}

// Answered is what a far end has done: the value of its result.
type Answered struct {
	Repeated int64 `json:"repeated"`
}

// AnswerName names a far end's result.
const AnswerName = "link answer"

// Do repeats frames until ctx is done, which is no error, or the port fails.
func (a *Answer) Do(ctx context.Context) (err error) {
	a.began, a.replies, a.Carriage = time.Now(), make(chan reply, 1024), carriage(a.Station)
	if a.Carrier == nil && !a.Binary {
		return frame.NotTransparent(a.Station.Name)
	}
	if a.dialog, err = a.Station.Open(ctx, a.Events, a.adjust); err != nil {
		return err
	}
	defer func() {
		err = errors.Join(err, a.Station.Close(a.Events, a.dialog))
		a.Events.Emit(record.Event{Kind: record.Result, Text: AnswerName, Verdict: verdict.Measured, Value: Answered{a.Repeated.Load()}})
	}()
	for {
		select {
		case r := <-a.replies:
			if err := a.back(ctx, r); err != nil {
				return err
			}
		case <-a.dialog.Done():
			return a.dialog.Err()
		case <-ctx.Done():
			return nil
		}
	}
}

// offer queues a frame. If more come than can go back, those are lost, and counted
// so at the other end.
func (a *Answer) offer(r reply) {
	select {
	case a.replies <- r:
	default:
	}
}

// adjust has every frame queued.
func (a *Answer) adjust(c *dialog.Config) {
	if a.Binary {
		d := &frame.Decoder{Broken: func([]byte, int) {}}
		d.Whole = func(at time.Time, f frame.Stamped, size int) {
			if f.Way&frame.Answered == 0 {
				a.offer(reply{came: at, bin: f, size: size})
			}
		}
		frame.Bytes(c, d.Feed)
		return
	}
	frame.Arrivals(c, a.Carrier.ArrivesPattern, func(l dialog.Line, caps []pattern.Capture) {
		r, payload := reply{came: l.Time}, ""
		for _, cp := range caps {
			switch cp.Name {
			case "payload":
				payload = cp.Text
			case "from":
				r.to = cp.Text
			}
		}
		f, err := frame.Decode([]byte(payload))
		if err == nil && f.Way&frame.Answered == 0 {
			r.text, r.size = f, len(payload)
			a.offer(r)
		}
	})
}

// micros is a time on the clock of this end.
func (a *Answer) micros(t time.Time) int64 { return t.Sub(a.began).Microseconds() }

// back sends a frame back. Through a carrier a refusal loses it.
func (a *Answer) back(ctx context.Context, r reply) error {
	if a.Binary {
		f := r.bin
		f.Way |= frame.Answered
		f.FarCame, f.FarWent = a.micros(r.came), a.micros(time.Now())
		if _, err := a.dialog.SayBytes(ctx, f.Append(nil, r.size)); err != nil {
			return err
		}
		a.Repeated.Add(1)
		return nil
	}
	r.text.Way |= frame.Answered
	payload := string(r.text.AppendAnswered(nil, r.size, a.micros(r.came), a.micros(time.Now())))
	text, err := a.Command(r.to, payload)
	if err != nil {
		return fmt.Errorf("send a frame back: %w", err)
	}
	if _, err = a.dialog.Say(ctx, text, answers); err == nil {
		err = a.dialog.Settle(ctx, answers)
	}
	_, refused := errors.AsType[*dialog.Refused](err)
	_, missed := errors.AsType[*dialog.Missed](err)
	if err != nil && !refused && !missed {
		return err
	}
	if err == nil {
		a.Repeated.Add(1)
	}
	return nil
}
