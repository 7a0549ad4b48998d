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
	"slices"
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
	Gap      phrasebook.Gap     // the silence between two packets, in dialect bytes
	Notices  []*pattern.Pattern // lines that the module sends by itself
	Finals   []*pattern.Pattern // final results, beside those of V.250 in dialect AT
	Refusals []*pattern.Pattern // final results that say no, beside those of V.250
	Banner   *pattern.Pattern   // the line after a restart; ends an open exchange; may be nil
	Restarts func(string) bool  // whether a said line is to restart the module; nil: none is
	Prompts  []*pattern.Pattern // what stands at the end of what has come when a command is waited for
	Login    []*pattern.Pattern // ... a name
	Password []*pattern.Pattern // ... a password
	Denied   []*pattern.Pattern // lines that say that these were wrong
	Pagers   []*pattern.Pattern // what a module shows when it waits within an answer to be told to go on

	PagerAnswer string // tells it that

	// Trace is told of all that comes and goes, in order. OnNotice is told of
	// every notice as it comes, with its place in Notices, and returns whether
	// it has dealt with it; if not, the notice goes to the inbox. Both are
	// called while the dialog is locked: they must return soon and not call
	// back.
	Trace    func(Trace)
	OnNotice func(notice int, line Line, caps []pattern.Capture) (taken bool)
}

// Plainly leaves out all texts by which lines are sorted, in a dialect that has none of
// its own.
func (c *Config) Plainly(dialect phrasebook.Dialect) {
	*c = Config{Dialect: dialect, Ending: c.Ending, Gap: c.Gap, Trace: c.Trace, OnNotice: c.OnNotice}
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
	banner bool  // it is the banner of a module that has restarted
	stale  bool  // it is the echo of a line said earlier
	ends   bool  // it is the end of an answer; told by Lines alone
	blank  int32 // empty lines just before it
	echoed int32 // bytes at its front that may be an echo without a line end
	num    int64 // place in the stream of lines
	start  int64 // offset in the stream of bytes; below 0 if the line is but a part of what stood there
	stop   int64 // ... of its line end
	end    int64 // ... after its line end
}

type class uint8

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
	endings

	mu      sync.Mutex
	changed chan struct{} // closed when something has come; nil if nobody waits
	err     error         // the reader has ended

	raw     []byte // bytes not taken yet
	rawAt   int64  // offset of raw[0] in the stream
	partial int64  // offset where the line now coming begins
	lead    int    // bytes of line ends just before it
	blank   int    // empty lines among them
	taken   []byte // the beginning of it, where a wait has taken that from raw
	erases  bool   // a pager stood before it, which the module wipes out
	ends    text.Ends
	wants   int    // bytes the coming line must have before a line end counts
	lines   []Line // not taken yet
	count   int64  // lines so far
	slab    []byte // where the text of lines is kept

	dropped  int // lines that fell out of the inbox, and in dialect bytes pieces
	lastCame time.Time
	silences []int64 // places in all that came before which the line was silent, in dialect bytes
	lastWent time.Time
	wentLine int64     // number of the first line after it
	spoken   time.Time // when something came last that is no notice

	spokeSince bool // after the last words went out
	rests      rests
	aside      bool // bytes went out last, and no answer was open
	mute       bool // it repeats no lines, as its last answer showed: what is like one is an answer
	echo       echoes
	echoOff    bool   // the line said last turns echo off
	saidLines  int64  // said so far
	lastWords  []byte // the end of what a wait for bytes took last, if nothing has come since
	turn       turn
	exchange   exchange
	form       phrasebook.ResultForm // of the results of V.250
	quiet      bool                  // those are suppressed
	number     pending
	spoke      bool // an answer has ended
	candidate  candidate
	shown      int    // the prompt that stands at the end of what has come, by its place; -1 if none does
	latest     int    // the prompt shown last, whatever came after it
	prompted   string // ... in the module's own words

	datagrams bool // what comes at once is a line, ended or not

	opened time.Time
	done   chan struct{}
}

// Open begins a conversation on a port. The dialog owns the port from then on.
func Open(p port.Port, cfg Config) *Dialog {
	d := &Dialog{port: p, cfg: cfg, shown: -1, latest: -1, opened: time.Now(), done: make(chan struct{})}
	if dg, ok := p.(interface{ Datagrams() bool }); ok {
		d.datagrams = dg.Datagrams()
	}
	d.compile()
	go d.read()
	return d
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
		d.forgetEcho()
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
		woken := d.wake()
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

// wake has whoever waits look again, and reports whether somebody does.
func (d *Dialog) wake() bool {
	if d.changed == nil {
		return false
	}
	close(d.changed)
	d.changed = nil
	return true
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
	d.turn.acted = false
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
	if l.num == d.exchange.last {
		d.exchange.heard = true
	}
}

// answered notes that a line has been taken: a refusal need not be told of any more, as it must where it
// was passed over. Who has heard the end of an answer waits for what comes after it.
func (d *Dialog) answered(l Line) {
	if l.num == d.exchange.last {
		d.exchange.heard = true
	}
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
	if d.partial < to { // hear bytes took the beginning of a line
		d.taken = append(d.taken, d.raw[max(0, d.partial-d.rawAt):n]...)
		d.taken = d.taken[max(0, len(d.taken)-longestPrompt):]
		d.partial, d.lead, d.blank = to, 0, 0
	}
	d.raw = d.raw[:copy(d.raw, d.raw[n:])]
	d.rawAt = to
	d.turn.forget(to)
	d.silences = slices.DeleteFunc(d.silences, func(at int64) bool { return at <= to })
}

// drop keeps the inbox bounded: the oldest n bytes go, with their lines.
func (d *Dialog) drop(now time.Time, n int) {
	to := d.rawAt + int64(n)
	i := 0
	for i < len(d.lines) && d.lines[i].end <= to {
		i++
	}
	if d.cfg.Dialect == phrasebook.Bytes {
		d.dropped++
	}
	d.dropLines(now, i)
	d.forget(to)
}

func (d *Dialog) dropLines(now time.Time, n int) {
	d.dropped += n
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

// waitTo is wait that times out at a time too, unless that is zero.
func (d *Dialog) waitTo(ctx context.Context, timer <-chan time.Time, at time.Time) (timedOut bool, err error) {
	if at.IsZero() {
		return d.wait(ctx, timer)
	}
	t := time.NewTimer(time.Until(at))
	defer t.Stop()
	return d.wait(ctx, t.C)
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
	d.turn.acted = false // what is done next is done anew
	if d.exchange.open { // what is owed is owed still
		d.exchange.late, d.exchange.refused = true, ""
		return
	}
	d.exchange = exchange{}
	d.echo.latest = 0
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

// trimEcho is said text as a line would hold it.
func trimEcho(text string) string { return strings.Trim(text, " \t\r\n") }
