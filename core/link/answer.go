package link

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/record"
	"uparrot/core/station"
)

// Answer is the far end of a round trip: it repeats every test frame back, with
// the times at which it came and went here, so that its share can be taken out.
type Answer struct {
	Station *station.Station
	Record  *record.Writer // nil keeps none

	// Repeated is how many frames have gone back so far.
	Repeated atomic.Int64
}

// reply is one frame to be sent back.
type reply struct {
	came time.Time
	text Frame   // through a carrier
	bin  stamped // else
	size int
	to   string
}

// Do repeats frames until ctx is done, which is no error, or the port fails.
func (a *Answer) Do(ctx context.Context) (err error) {
	began := time.Now()
	replies := make(chan reply, 1024)
	carrier := carrierOf(a.Station)
	if carrier == nil && !transparent(a.Station) {
		return errNotTransparent(a.Station)
	}
	offer := func(r reply) {
		select {
		case replies <- r:
		default: // more come than can go back: those are lost, and counted so at the other end
		}
	}
	adjust := func(c *dialog.Config) {
		if carrier == nil {
			d := &decoder{broken: func(int) {}}
			d.whole = func(at time.Time, f stamped, size int) {
				if f.Way&answered == 0 {
					offer(reply{came: at, bin: f, size: size})
				}
			}
			bytesOnly(c, d.feed)
			return
		}
		c.Notices = append([]*pattern.Pattern{carrier.ArrivesPattern}, c.Notices...)
		c.OnNotice = func(notice int, l dialog.Line, caps []pattern.Capture) bool {
			if notice != 0 {
				return false
			}
			r := reply{came: l.Time}
			payload := ""
			for _, cp := range caps {
				switch cp.Name {
				case "payload":
					payload = cp.Text
				case "from":
					r.to = cp.Text
				}
			}
			f, err := Decode([]byte(payload))
			if err == nil && f.Way&answered == 0 {
				r.text, r.size = f, len(payload)
				offer(r)
			}
			return true
		}
	}
	d, err := a.Station.Open(a.Record, adjust)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, a.Station.Close(a.Record, d)) }()
	micros := func(t time.Time) int64 { return t.Sub(began).Microseconds() }
	for {
		var r reply
		select {
		case r = <-replies:
		case <-d.Done():
			return d.Err()
		case <-ctx.Done():
			return nil
		}
		if carrier == nil {
			f := r.bin
			f.Way |= answered
			f.FarCame, f.FarWent = micros(r.came), micros(time.Now())
			if _, err := d.SayBytes(ctx, f.append(nil, r.size)); err != nil {
				return err
			}
			a.Repeated.Add(1)
			continue
		}
		if err := a.carry(ctx, d, r, micros); err != nil {
			return err
		}
	}
}

// carry sends a frame back through the carrier. A refusal loses it.
func (a *Answer) carry(ctx context.Context, d *dialog.Dialog, r reply, micros func(time.Time) int64) error {
	r.text.Way |= answered
	payload := string(r.text.appendAnswered(nil, r.size, micros(r.came), micros(time.Now())))
	text, err := command(carrierOf(a.Station), r.to, payload)
	if err != nil {
		return fmt.Errorf("send a frame back: %w", err)
	}
	if _, err = d.Say(ctx, text, answers); err == nil {
		err = d.Settle(ctx, answers)
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
