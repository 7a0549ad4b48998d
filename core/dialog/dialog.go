// Package dialog holds one port in conversation.
//
// A single reader takes what comes, with the time at which it was read, and
// sorts it into lines. Lines that no call has taken yet stay in the inbox, from
// the moment the port opens. Every wait is woken by what arrives and bounded by
// a time limit; nothing polls.
//
// Three sorts of line are set apart as they come: the echo of what was said,
// notices (which the module sends by itself), and, in dialect AT, the final
// result that ends an exchange. Notices never count as an answer, but a wait
// that asks for one by its words gets it.
package dialog

import (
	"context"
	"runtime"
	"strings"
	"sync"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/text"
)

// Config says how a module speaks. The zero value is dialect Lines with CR LF.
type Config struct {
	Dialect  phrasebook.Dialect
	Ending   phrasebook.Ending  // what Say adds
	Notices  []*pattern.Pattern // lines that the module sends by itself
	Finals   []*pattern.Pattern // final results, beside those of V.250 in dialect AT
	Refusals []*pattern.Pattern // final results that say no, beside those of V.250
	Banner   *pattern.Pattern   // the line after a restart; ends an open exchange; may be nil
	Prompt   *pattern.Pattern   // what a console shows when it waits for a command; nil in the other dialects

	// Trace is told of all that comes and goes, in order. OnNotice is told of
	// every notice as it comes, with its place in Notices, and returns whether
	// it has dealt with it; if not, the notice goes to the inbox. Both are
	// called while the dialog is locked: they must return soon and not call
	// back.
	Trace    func(Trace)
	OnNotice func(notice int, line Line, caps []pattern.Capture) (taken bool)
}

// Trace is one thing that happened at the port.
type Trace struct {
	Time  time.Time
	Kind  TraceKind
	Bytes []byte // valid until the call returns
}

// TraceKind says what happened.
type TraceKind int

// What can happen at a port.
const (
	Came     TraceKind = iota // bytes were read
	Went                      // bytes are about to be written
	PassedBy                  // a line was passed over by a wait
	Dropped                   // a line fell out of a full inbox
)

// Line is one line that came, its line end, colours and blanks at both ends
// removed.
type Line struct {
	Text []byte
	Time time.Time // when its last byte was read
	Wire int       // bytes on the line, from the line ends just before it to the first byte of its own
	Cut  bool      // it was longer than MaxLine: this is a piece

	class  class
	echoed int   // bytes at its front that may be an echo without a line end
	num    int64 // place in the stream of lines
	start  int64 // offset in the stream of bytes
	stop   int64 // ... of its line end
	end    int64 // ... after its line end
}

type class int

const (
	plain class = iota
	echo
	notice
	prompt
)

// Bounds on what is kept, whatever a module sends.
const (
	maxLine  = 64 << 10 // bytes in a line; a longer one is cut into pieces
	maxInbox = 1 << 20  // bytes that no call has taken
	maxLines = 16 << 10 // lines that no call has taken
)

// Dialog is a port in conversation. Calls that wait must follow one another;
// Close may come at any time.
type Dialog struct {
	port port.Port
	cfg  Config
	set  *pattern.Set       // refusals, final results, banner, notices
	nRef int                // how many of the set are refusals
	nFin int                // ... and final results, after the refusals
	nBan int                // ... and banners
	long []*pattern.Pattern // notices with a payload of stated length

	mu      sync.Mutex
	changed chan struct{} // closed when something has come; nil if nobody waits
	err     error         // the reader has ended

	raw     []byte // bytes not taken yet
	rawAt   int64  // offset of raw[0] in the stream
	partial int64  // offset where the line now coming begins
	lead    int    // line ends just before it
	ends    text.Ends
	wants   int    // bytes the coming line must have before a line end counts
	lines   []Line // not taken yet
	count   int64  // lines so far
	slab    []byte // where the text of lines is kept

	lastCame time.Time
	lastWent time.Time
	echoOf   string // what was said and may come back
	exchange exchange

	datagrams bool // what comes at once is a line, ended or not

	done chan struct{}
}

// ends reports whether the module's answers have an end: a final result or a prompt.
func (c *Config) ends() bool {
	switch c.Dialect {
	case phrasebook.AT, phrasebook.Console:
		return true
	case phrasebook.Lines:
		return len(c.Finals) > 0
	}
	return false
}

// exchange is a said line and its answer, where answers have an end. Where they have
// none it is never open: only what was said and a refusal of it are known.
type exchange struct {
	begun   bool
	said    string
	open    bool
	loose   bool   // its answer has no end: only a refusal is told
	late    bool   // it is open longer than anybody waited: the module owes its end
	before  int    // lines said before it that the module may have lost, or may answer still
	ended   bool   // an end has come, which may be that of such a line
	first   int64  // number of the first line after it was said
	last    int64  // number of the line that ended it, once it is not open
	refused string // a refusal that no call has taken
	refusal int64  // ... and the number of its line
}

// Open begins a conversation on a port. The dialog owns the port from then on.
func Open(p port.Port, cfg Config) *Dialog {
	d := &Dialog{port: p, cfg: cfg, done: make(chan struct{})}
	if dg, ok := p.(interface{ Datagrams() bool }); ok {
		d.datagrams = dg.Datagrams()
	}
	d.compile()
	go d.read()
	return d
}

// compile prepares what sorts the lines. The mutex is held, or nobody reads yet.
func (d *Dialog) compile() {
	all := append([]*pattern.Pattern(nil), d.cfg.Refusals...)
	if d.cfg.Dialect == phrasebook.AT {
		all = append(all, phrasebook.V250Refusals()...)
	}
	d.nRef = len(all)
	all = append(all, d.cfg.Finals...)
	if d.cfg.Dialect == phrasebook.AT {
		all = append(all, phrasebook.V250Successes()...)
	}
	d.nFin = len(all)
	if d.cfg.Banner != nil {
		all = append(all, d.cfg.Banner)
	}
	d.nBan = len(all)
	all = append(all, d.cfg.Notices...)
	d.set = pattern.NewSet(all)
	d.long = nil
	for _, n := range d.cfg.Notices {
		if n.HasPayload() {
			d.long = append(d.long, n)
		}
	}
}

// Configure changes how the module is spoken to, from what comes next on. It
// returns what was before.
func (d *Dialog) Configure(change func(*Config)) (before Config) {
	d.mu.Lock()
	defer d.mu.Unlock()
	before = d.cfg
	change(&d.cfg)
	d.compile()
	if d.cfg.Dialect != before.Dialect {
		d.exchange = exchange{}
	}
	return before
}

// LastCame is when the last byte was read; zero if none has come.
func (d *Dialog) LastCame() time.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.lastCame
}

// Port is the port below.
func (d *Dialog) Port() port.Port { return d.port }

// Close ends the conversation and closes the port.
func (d *Dialog) Close() error {
	err := d.port.Close()
	<-d.done
	return err
}

// Done is closed when nothing more can come; Err then says why.
func (d *Dialog) Done() <-chan struct{} { return d.done }

// Err is why the port can no longer be read, or nil.
func (d *Dialog) Err() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.err
}

func (d *Dialog) read() {
	defer close(d.done)
	buf := make([]byte, 16<<10)
	for {
		n, err := d.port.Read(buf)
		now := time.Now()
		d.mu.Lock()
		if n > 0 {
			d.take(now, buf[:n])
		}
		if err != nil {
			d.err = err
		}
		woken := d.changed != nil
		if woken {
			close(d.changed)
			d.changed = nil
		}
		d.mu.Unlock()
		if err != nil {
			return
		}
		if woken {
			// Whoever waited goes on first, on this very thread: waking another
			// takes longer than most modules take to answer.
			runtime.Gosched()
		}
	}
}

func (d *Dialog) trace(t time.Time, k TraceKind, b []byte) {
	if d.cfg.Trace != nil {
		d.cfg.Trace(Trace{t, k, b})
	}
}

// takeLine removes line i from the inbox. What stood before it and is of the
// same sort is passed over; the rest stays.
func (d *Dialog) takeLine(i int) {
	l := d.lines[i]
	kept := d.lines[:0]
	for j, other := range d.lines {
		switch {
		case j == i:
			d.answered(l)
		case j < i && (other.class == notice) == (l.class == notice):
			d.passOver(other)
		default:
			kept = append(kept, other)
		}
	}
	d.lines = kept
	if l.class != notice {
		d.forget(l.end)
	}
}

// passOver gives up a line that no call took.
func (d *Dialog) passOver(l Line) {
	if l.class == plain || l.class == notice {
		d.trace(l.Time, PassedBy, l.Text)
	}
	d.answered(l)
}

// answered notes that a line has left the inbox: a refusal need not be told of
// any more.
func (d *Dialog) answered(l Line) {
	if l.num == d.exchange.refusal {
		d.exchange.refused = ""
	}
}

// forget drops raw bytes up to an offset in the stream.
func (d *Dialog) forget(to int64) {
	n := int(to - d.rawAt)
	if n <= 0 {
		return
	}
	d.raw = d.raw[:copy(d.raw, d.raw[n:])]
	d.rawAt = to
	if d.partial < to { // hear bytes took the beginning of a line
		d.partial, d.lead = to, 0
	}
}

// drop keeps the inbox bounded: the oldest n bytes go, with their lines.
func (d *Dialog) drop(now time.Time, n int) {
	to := d.rawAt + int64(n)
	i := 0
	for i < len(d.lines) && d.lines[i].end <= to {
		i++
	}
	d.dropLines(now, i)
	d.forget(to)
}

func (d *Dialog) dropLines(now time.Time, n int) {
	if d.cfg.Trace != nil {
		for i := range d.lines[:n] {
			d.trace(now, Dropped, d.lines[i].Text)
		}
	}
	d.lines = append(d.lines[:0], d.lines[n:]...)
}

// wait blocks until something has come, the timer has fired or ctx is done. The
// mutex is held on entry and on return.
func (d *Dialog) wait(ctx context.Context, timer <-chan time.Time) (timedOut bool, err error) {
	if d.err != nil {
		return false, d.err
	}
	if d.changed == nil {
		d.changed = make(chan struct{})
	}
	changed := d.changed
	d.mu.Unlock()
	defer d.mu.Lock()
	select {
	case <-changed:
		return false, nil
	case <-timer:
		return true, nil
	case <-ctx.Done():
		return false, context.Cause(ctx)
	}
}

// PassAll passes over all that no call has taken. An exchange that is still open
// stays so. A step that is tried again begins with what comes from then on.
func (d *Dialog) PassAll() {
	d.mu.Lock()
	defer d.mu.Unlock()
	kept := d.lines[:0]
	for _, l := range d.lines {
		if l.class == notice {
			kept = append(kept, l)
			continue
		}
		d.passOver(l)
	}
	d.lines = kept
	d.forget(d.rawAt + int64(len(d.raw)))
	if d.exchange.open { // what is owed is owed still
		d.exchange.late, d.exchange.refused = true, ""
		return
	}
	d.exchange = exchange{}
	d.echoOf = ""
}

// AwaitRefusal waits until the line last said is refused, and takes and returns that
// *Refused; nil when ctx is done or the port can no longer be read. It may run beside
// a call that waits at another port.
func (d *Dialog) AwaitRefusal(ctx context.Context) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for d.exchange.refused == "" {
		if _, err := d.wait(ctx, nil); err != nil {
			return nil // whoever uses that port is told
		}
	}
	return d.refusal()
}

// GiveUp gives up the open exchange, if there is one: what is said next goes out
// at once, and who says it must know that an answer may still come.
func (d *Dialog) GiveUp() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.exchange = exchange{}
}

// Ended is what has ended the answer to the line last said, in words; "" while it has
// not ended, or where answers have no end.
func (d *Dialog) Ended() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case !d.exchange.begun || d.exchange.open:
		return ""
	case d.cfg.Dialect == phrasebook.Console:
		return "the prompt is back"
	}
	return "the final result has come"
}

// Late reports whether an exchange is open longer than somebody waited for its end.
func (d *Dialog) Late() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.exchange.open && d.exchange.late
}

// WithoutAnswer says that no end is owed for the line just said. A refusal of it is
// told all the same.
func (d *Dialog) WithoutAnswer() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.exchange.open, d.exchange.loose = false, true
}

// Again lets a line be said although the one before was not answered, if nothing at
// all has come since, not even its echo: it may never have been heard. If it has been
// after all, two answers come; so Settle does not take the first end for that of the
// line said now, unless no other follows.
func (d *Dialog) Again() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.exchange.open && d.lastCame.Before(d.lastWent) {
		d.exchange.open, d.exchange.late = false, false
		d.exchange.before++
	}
}

// end notes the end of an answer, which the line with that number brought.
func (d *Dialog) end(last int64) {
	if d.exchange.before > 0 { // it may be that of a line before
		d.exchange.before--
		d.exchange.ended = true
		return
	}
	d.exchange.open, d.exchange.last = false, last
}

// trimEcho is said text as a line would hold it.
func trimEcho(text string) string { return strings.Trim(text, " \t\r\n") }
