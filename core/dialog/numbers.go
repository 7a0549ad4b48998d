package dialog

import (
	"context"
	"time"

	"uparrot/core/phrasebook"
)

// A final result as a number is ended by CR alone and has no line end before it, where
// any other line has CR LF (V.250, 6.2.6). So a number is only known to be a result when
// no LF has followed.

// pending is a number that may be a final result.
type pending struct {
	line  int64  // its number in the stream of lines
	text  string // "" if there is none
	timer *time.Timer
}

// How long an LF may follow a CR. Where it is not known that results are numbers,
// nothing at all must follow.
const (
	numberGrace  = 100 * time.Millisecond
	unknownGrace = 300 * time.Millisecond
)

// readResults notes what a said line makes of the results.
func (d *Dialog) readResults(line string) {
	r := phrasebook.ReadResults(line)
	switch r.Form {
	case phrasebook.FormNotSaid:
	case phrasebook.FormUnknown:
		d.form = phrasebook.FormNotSaid
	default:
		d.form = r.Form
	}
	d.echoOff = r.NoEcho
	if r.Quiet != phrasebook.QuietNotSaid {
		d.quiet = r.Quiet == phrasebook.Suppressed
	}
}

// Suppressed reports whether the module was told to send no results (ATQ1), so that
// none is waited for.
func (d *Dialog) Suppressed() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.quiet
}

// isNumber reports whether a line, which next follows in raw, is or may be a final
// result as a number; then that is decided or will be.
func (d *Dialog) isNumber(l *Line, lead, next int) bool {
	if d.cfg.Dialect != phrasebook.AT || !d.exchange.open || d.form == phrasebook.Words || lead > 0 || d.raw[next-1] != '\r' {
		return false
	}
	result, _ := phrasebook.V250Number(string(l.Text))
	switch {
	case result == "":
		return false
	case next < len(d.raw):
		if d.raw[next] == '\n' || d.form != phrasebook.Numbers {
			return false
		}
		d.endByNumber(l.num, string(l.Text))
		return true
	}
	grace := unknownGrace
	if d.form == phrasebook.Numbers {
		grace = numberGrace
	}
	p := pending{line: l.num, text: string(l.Text)}
	p.timer = time.AfterFunc(grace, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.number.text != "" && d.number.line == p.line {
			d.number = pending{}
			d.endByNumber(p.line, p.text)
			d.wake()
		}
	})
	d.number = p
	return true
}

// decideNumber decides by the next byte that has come.
func (d *Dialog) decideNumber(next byte) {
	p := d.number
	if p.text == "" {
		return
	}
	p.timer.Stop()
	d.number = pending{}
	if next != '\n' && d.form == phrasebook.Numbers {
		d.endByNumber(p.line, p.text)
	}
}

// endByNumber ends the exchange with a result.
func (d *Dialog) endByNumber(line int64, text string) {
	if !d.exchange.open {
		return
	}
	d.form = phrasebook.Numbers
	if _, no := phrasebook.V250Number(text); no {
		d.exchange.refused, d.exchange.refusal = text, line
	}
	d.end(line)
}

// quietPause is how long a module without results is left alone before it is told the
// next thing, so that a refusal, if it sends one after all, is that of the right line.
const quietPause = 100 * time.Millisecond

// pauseQuiet waits for that pause.
func (d *Dialog) pauseQuiet(ctx context.Context) error {
	for d.quiet && !d.lastWent.IsZero() {
		since := d.lastWent
		if d.lastCame.After(since) {
			since = d.lastCame
		}
		until := since.Add(quietPause)
		if !time.Now().Before(until) {
			return nil
		}
		if _, err := d.waitTo(ctx, nil, until); err != nil {
			return err
		}
	}
	return nil
}
