package talk

import (
	"context"
	"fmt"
	"sync"
	"time"

	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/secret"
	"uparrot/core/uart"
)

// Event is something that happened at a port spoken with by hand.
type Event struct {
	Time  time.Time
	Kind  Kind
	Bytes []byte
	Err   error // the port has gone, or could not do what was asked
	Lapse bool  // what was said last got no answer
}

// Talker is one port spoken with by hand. Tell is told of all that happens, from
// several goroutines, one call at a time.
type Talker struct {
	Station *bench.Station
	Events  *record.Stream // nil tells nobody
	Tell    func(Event)
	Reopen  bool          // wait for a port that has gone to come back
	Pages   bool          // turn the pages of a long answer, as the port's pager says; else whoever reads does
	Wait    dialog.Answer // how long an answer is waited for; Within 0 is AnswerTime

	mu     sync.Mutex
	told   sync.Mutex
	dialog *dialog.Dialog
	line   uart.Line
	dtr    bool
	rts    bool
	heard  []byte // since the last line end; belongs to the dialog's trace
	pass   func(dialog.Trace)
	echo   echoes
	queue  queue
	keyed  bool // nothing but control bytes was said last

	secrets   sync.Mutex
	mask      secret.Mask
	asked     bool // the module asks for a secret
	next      bool // the person says that the next line is one
	concealed bool // what is being said is one
}

// reopenEvery is how often a port that has gone is looked for.
const reopenEvery = 300 * time.Millisecond

// Open opens the port; it is watched until ctx is done.
func (t *Talker) Open(ctx context.Context) error {
	t.line, t.dtr, t.rts = t.Station.Setup.Line(), true, true
	if t.Wait.Within == 0 {
		t.Wait.Within = AnswerTime
	}
	t.queue.ctx = ctx
	return t.open(ctx)
}

func (t *Talker) open(ctx context.Context) error {
	d, err := t.Station.Open(ctx, t.Events, func(c *dialog.Config) {
		if !t.Pages {
			c.Pagers = nil
		}
		keep := c.Trace
		t.pass = func(tr dialog.Trace) {
			if keep != nil && tr.Kind != dialog.Dropped && tr.Kind != dialog.PassedBy { // nobody waits for lines by hand
				keep(tr)
			}
			switch tr.Kind {
			case dialog.Came:
				t.listen(tr.Bytes)
				t.tell(Event{Time: tr.Time, Kind: Heard, Bytes: t.shown(Heard, tr.Bytes)})
			case dialog.Went:
				t.tell(Event{Time: tr.Time, Kind: Said, Bytes: t.shown(Said, tr.Bytes)})
			}
		}
		c.Trace = t.trace
	})
	if err != nil {
		return err
	}
	t.mu.Lock()
	t.dialog = d
	t.mu.Unlock()
	go t.watch(ctx, d)
	return nil
}

func (t *Talker) tell(e Event) {
	t.told.Lock()
	defer t.told.Unlock()
	t.Tell(e)
}

// Watch changes who is told.
func (t *Talker) Watch(tell func(Event)) {
	t.told.Lock()
	defer t.told.Unlock()
	t.Tell = tell
}

func (t *Talker) note(format string, args ...any) {
	t.tell(Event{Time: time.Now(), Kind: Note, Bytes: fmt.Appendf(nil, format, args...)})
}

// remark is note that stands in the record too.
func (t *Talker) remark(format string, args ...any) {
	t.note(format, args...)
	t.Events.Emit(record.Event{Kind: record.Note, Port: t.Station.Name, Text: t.Station.Name + ": " + fmt.Sprintf(format, args...)})
}

// watch tells when the port goes and, if that is wanted, waits for it to return.
func (t *Talker) watch(ctx context.Context, d *dialog.Dialog) {
	select {
	case <-d.Done():
	case <-ctx.Done():
		return
	}
	err := d.Err()
	if port.KindOf(err) == port.Closed {
		return
	}
	t.settle()
	if cerr := t.Station.Close(t.Events, d); cerr != nil {
		err = fmt.Errorf("%w; %v", err, cerr)
	}
	t.tell(Event{Time: time.Now(), Kind: Note, Bytes: []byte(err.Error()), Err: err})
	if !t.Reopen {
		return
	}
	tick := time.NewTicker(reopenEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		if t.open(ctx) == nil {
			t.note("the port is back")
			return
		}
	}
}

func (t *Talker) now() *dialog.Dialog {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.dialog
}

// Keys says bytes as they are typed.
func (t *Talker) Keys(ctx context.Context, b []byte) error {
	_, err := t.now().SayBytes(ctx, b)
	if t.away(err) {
		t.note("the port is away: nothing was said")
		return nil
	}
	return err
}

// SetEnding changes the line ending.
func (t *Talker) SetEnding(e phrasebook.Ending) {
	t.Station.Setup.Ending = e
	t.now().Configure(func(c *dialog.Config) { c.Ending = e })
	t.remark("line ending is %s", e)
}

// SetLine changes the speed and the frame without leaving.
func (t *Talker) SetLine(l uart.Line) error {
	if err := t.now().Port().SetLine(l); err != nil {
		return err
	}
	t.mu.Lock()
	t.line = l
	t.mu.Unlock()
	t.Station.Setup.Speed, t.Station.Setup.Frame = l.Speed, &l.Frame
	t.Events.Emit(record.Event{Kind: record.Changed, Port: t.Station.Name, Text: l.String(), Value: record.ChangedLine{Speed: l.Speed, Frame: l.Frame}})
	t.note("line is %s", l)
	return nil
}

// SetDialect changes what ends an answer.
func (t *Talker) SetDialect(d phrasebook.Dialect) {
	t.Station.Setup.Dialect = d
	t.now().Configure(func(c *dialog.Config) { c.Dialect = d })
	l := t.Line()
	t.Events.Emit(record.Event{Kind: record.Changed, Port: t.Station.Name, Text: "dialect " + d.String(), Value: record.ChangedLine{Speed: l.Speed, Frame: l.Frame, Dialect: d}})
	t.note("dialect is %s", d)
}

// Line is the speed and frame in force.
func (t *Talker) Line() uart.Line {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.line
}

// Outputs are the states of DTR and RTS as they were set.
func (t *Talker) Outputs() (dtr, rts bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.dtr, t.rts
}

// Toggle turns an outgoing signal line over.
func (t *Talker) Toggle(s uart.Signal) error {
	dtr, rts := t.Outputs()
	on := !map[uart.Signal]bool{uart.DTR: dtr, uart.RTS: rts}[s]
	if err := port.SetSignal(t.now().Port(), s, on); err != nil {
		return err
	}
	t.mu.Lock()
	if s == uart.DTR {
		t.dtr = on
	} else {
		t.rts = on
	}
	t.mu.Unlock()
	t.note("%s is %s", s, map[bool]string{true: "on", false: "off"}[on])
	return nil
}

// Inputs are the incoming signal lines.
func (t *Talker) Inputs() (port.Inputs, error) { return port.InputsOf(t.now().Port()) }

// LeastGap is how long the adapter may hold bytes back: silences that are shorter do not
// show, and what is told apart by them may be several packets joined by the adapter.
func (t *Talker) LeastGap() time.Duration {
	d, _ := port.HoldBack(t.now().Port())
	return d
}

// Counters are the errors on the line that the port has counted.
func (t *Talker) Counters() (port.Counters, error) { return port.CountersOf(t.now().Port()) }

// breakTime is how long a break by hand lasts: longer than a character at the
// slowest speeds in use.
const breakTime = 250 * time.Millisecond

// Break sends a break.
func (t *Talker) Break() error {
	if err := port.Break(t.now().Port(), breakTime); err != nil {
		return err
	}
	t.note("break of %v", breakTime)
	return nil
}

// Close closes the port.
func (t *Talker) Close() error {
	d := t.now()
	if d == nil {
		return nil
	}
	t.settle()
	return t.Station.Close(t.Events, d)
}
