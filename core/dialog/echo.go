package dialog

import (
	"bytes"
	"slices"
	"strings"
	"time"

	"uparrot/core/text"
)

// Each said line owes one echo, in the order said. A line that equals a said line is its echo only while
// that is owed; the echo of a later line settles those of all before it. Where a module has shown that it
// echoes, the answer to a line begins behind the line's own echo: what comes before it may answer what was
// said earlier, so nobody takes it until that echo has come, or has stopped.

// echoes is what is known of a module's echo.
type echoes struct {
	owed    []owed // the oldest first
	skipped []owed // that the echo of a later line has settled, up to that, until the echo of the line said last has come
	typed   string // bytes that went out since the last line end
	shown   bool   // what was said last has come back: its echo, or an answer in the same words
	at      int64  // ... by the number of the line
	known   bool   // and something has followed it: the module repeats what it is told
	latest  int64  // the said line, by its number, whose echo came last and whose end has not
	timer   *time.Timer
	misses  int  // lines said, one after the other, that something came after without an echo
	over    bool // it has stopped, which nobody was told
}

// owed is a said line whose echo may come.
type owed struct {
	text string
	line int64 // by number
	ends bool  // an end of its answer is owed too
}

// mostOwed is how many echoes are waited for at most.
const mostOwed = 16

// owes notes a line or bytes that went out.
func (d *Dialog) owes(text string, line int64, ends bool) {
	e := &d.echo
	if !e.known && d.spokeSince { // it has spoken without them
		e.owed = e.owed[:0]
	}
	if text = trimEcho(text); text != "" {
		e.owed = append(e.owed, owed{text, line, ends})
	}
	if n := len(e.owed) - mostOwed; n > 0 {
		e.owed = append(e.owed[:0], e.owed[n:]...)
	}
}

// forgetEcho forgets what is known of the echo, as where the module starts again.
func (d *Dialog) forgetEcho() {
	d.noSilence()
	d.echo = echoes{owed: d.echo.owed[:0]}
	d.exchange.awaits = false
}

// ForgetEcho forgets what is known of a module's echo: it may be another, or speak otherwise.
func (d *Dialog) ForgetEcho() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.forgetEcho()
}

// echoOf is the echo of what went out last, while it is owed; else "".
func (d *Dialog) echoOf() string {
	if typed := trimEcho(d.echo.typed); typed != "" {
		return typed
	}
	if n := len(d.echo.owed); n > 0 && d.echo.owed[n-1].line == d.saidLines {
		return d.echo.owed[n-1].text
	}
	return ""
}

// awaiting reports whether the echo of the line said last must come before anything that comes counts as
// its answer.
func (d *Dialog) awaiting() bool {
	return (d.echo.known || d.exchange.doubt) && d.exchange.awaits && !d.exchange.echoed
}

// isEcho tells the echo of what was said from other lines. An echo may come without a line end, joined to
// the answer: then the line may be either.
func (d *Dialog) isEcho(l *Line) bool {
	line := string(l.Text)
	if l.start >= d.rawAt && strings.ContainsAny(line, "\b\x7f") { // a shell that redraws what is typed
		line = string(bytes.Trim(text.Terminal(d.raw[l.start-d.rawAt:l.stop-d.rawAt]), " \t"))
	}
	for j, o := range d.echo.skipped { // its echo was not lost: what was like one of a later line was none
		if o.text == line {
			d.echo.owed = slices.Concat(d.echo.skipped[j:], d.echo.owed)
			d.echo.skipped = nil
			break
		}
	}
	for i, o := range d.echo.owed {
		front, ok := strings.CutSuffix(line, o.text)
		if !ok || front != "" && !d.isPrompt([]byte(front)) {
			continue
		}
		if !d.echo.known && o.text != d.echo.owed[len(d.echo.owed)-1].text { // its echo, if that of the line said last follows; else an answer
			d.exchange.doubt, l.stale = true, true
			return false
		}
		if front != "" && d.exchange.before > 0 { // the prompt before it has ended an answer
			d.end(-1)
		}
		d.echoed(i, l)
		return true
	}
	if o := trimEcho(d.echo.typed); o != "" && line == o {
		d.echo.shown, d.echo.at, d.echo.typed = true, l.num, ""
		d.turn.leave(l.start, l.end, true)
		return true
	}
	if o := d.echoOf(); o != "" && strings.HasPrefix(line, o) && (d.exchange.open || d.exchange.loose) && l.num == d.exchange.first {
		l.echoed = int32(len(o))
	}
	return false
}

// echoed notes that an echo has come: that of owed line i, which settles all before it.
func (d *Dialog) echoed(i int, l *Line) {
	e, o := &d.echo, d.echo.owed[i]
	e.misses = 0
	e.skipped = append(e.skipped, e.owed[:i+1]...)
	if i == 0 && len(e.skipped) == 1 || o.line == d.exchange.line {
		e.skipped = nil
	}
	if !e.shown {
		e.shown, e.at = true, l.num
	}
	e.owed = append(e.owed[:0], e.owed[i+1:]...)
	if e.latest = 0; o.ends {
		e.latest = o.line
	}
	x := &d.exchange
	if l.stale = o.line != x.line; !l.stale && !x.echoed { // what came before it may answer what was said earlier
		x.echoed, x.early, x.earlyRefused = true, 0, ""
		d.turn.leave(d.turn.at, l.start, false)
		d.turn.from = max(d.turn.from, l.num+1)
		d.noSilence()
	}
	if l.stale && len(e.owed) == 1 && e.owed[0].line == x.line && e.owed[0].text == o.text { // the same was said twice, and may have been heard once
		x.same = l.num + 1
	}
	d.turn.leave(l.start, l.end, true)
}

// echoSilence is how long nothing must come behind what came without its echo until the echo has stopped.
const echoSilence = 500 * time.Millisecond

// watchEcho begins to wait for that silence, where something that may be an answer has come without its
// echo. It is called after what has come has been sorted.
func (d *Dialog) watchEcho() {
	d.proveEcho()
	d.noSilence()
	if !d.awaiting() || d.exchange.early == 0 && !slices.ContainsFunc(d.lines[d.since(max(d.exchange.first, d.exchange.explained)):], func(l Line) bool { return l.class == plain }) {
		return
	}
	var timer *time.Timer
	timer = time.AfterFunc(echoSilence, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.echo.timer == timer {
			d.echo.timer = nil
			d.echoStops()
			d.wake()
		}
	})
	d.echo.timer = timer
}

// proveEcho notes that a module repeats what it is told, where something has followed what came back.
func (d *Dialog) proveEcho() {
	if !d.echo.shown || d.echo.known {
		return
	}
	for i := d.since(d.echo.at + 1); i < len(d.lines); i++ {
		if c := d.lines[i].class; c == plain || c == prompt {
			d.echo.known = true
		}
	}
}

func (d *Dialog) noSilence() {
	if d.echo.timer != nil {
		d.echo.timer.Stop()
		d.echo.timer = nil
	}
}

// echoStops takes what has come without its echo for the answer, unless it may be that to a line said
// before.
func (d *Dialog) echoStops() {
	x := &d.exchange
	if !d.awaiting() || d.owesEarlier() || d.behind() {
		return
	}
	d.noSilence()
	if x.same > 0 {
		x.echoed, d.turn.from = true, max(d.turn.from, x.same)
	} else if d.echo.known {
		d.echo = echoes{over: true}
	}
	x.awaits = false
	if x.earlyRefused != "" {
		x.refused, x.refusal, x.earlyRefused = x.earlyRefused, x.earlyRefusal, ""
	}
	if x.early > 0 && x.open {
		d.end(x.early - 1)
	}
}

// behind reports whether a module that echoes may not have come as far as to the line said last: echoes of
// lines said earlier are owed, or nothing tells where an answer ends. Where something comes after two lines,
// one said after the other, without an echo between, it has ceased to echo.
func (d *Dialog) behind() bool {
	e, x := &d.echo, &d.exchange
	if !e.known || len(e.owed) == 0 || x.same > 0 || e.owed[0].line == x.line && !x.loose {
		return false
	}
	if !x.missed {
		x.missed = true
		e.misses++
	}
	return e.misses < 2
}

// owesEarlier reports whether the answer to something that was said earlier is owed.
func (d *Dialog) owesEarlier() bool {
	e := &d.echo
	return d.exchange.before > 0 || e.latest > 0 || slices.ContainsFunc(e.owed, func(o owed) bool { return o.ends && o.line < d.exchange.line })
}

// decides is when it is known whether what has come without its echo counts; zero if nothing waits for that.
func (d *Dialog) decides() time.Time {
	if d.echo.timer == nil {
		return time.Time{}
	}
	return d.lastCame.Add(echoSilence + time.Millisecond)
}

// EchoStopped reports, once, that a module has ceased to repeat what it is told.
func (d *Dialog) EchoStopped() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	over := d.echo.over
	d.echo.over = false
	return over
}
