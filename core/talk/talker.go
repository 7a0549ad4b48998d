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
}

// Talker is one port spoken with by hand. Tell is told of all that happens, from
// several goroutines, one call at a time.
type Talker struct {
	Station *bench.Station
	Events  *record.Stream // nil tells nobody
	Tell    func(Event)
	Reopen  bool // wait for a port that has gone to come back

	mu     sync.Mutex
	told   sync.Mutex
	dialog *dialog.Dialog
	line   uart.Line
	dtr    bool
	rts    bool
	heard  []byte // since the last line end; belongs to the dialog's trace
	pass   func(dialog.Trace)
	echo   echoes

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
	return t.open(ctx)
}

func (t *Talker) open(ctx context.Context) error {
	d, err := t.Station.Open(ctx, t.Events, func(c *dialog.Config) {
		c.Pagers = nil // whoever reads turns the pages
		keep := c.Trace
		t.pass = func(tr dialog.Trace) {
			if keep != nil {
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

// answerTime is how long each of several lines may wait for its answer.
const answerTime = 5 * time.Second

// rest is how long a port must be quiet for an answer to be over, where nothing
// else tells.
const rest = 150 * time.Millisecond

// Say says lines, each after the answer to the one before. Where whole is true
// the text is said as it is, without a line ending.
func (t *Talker) Say(ctx context.Context, whole bool, lines ...string) error {
	d := t.now()
	for i, l := range lines {
		var err error
		t.saying(l, whole)
		if whole {
			_, err = d.SayBytes(ctx, []byte(l))
		} else {
			d.PassAll() // what nobody waits for need not be kept
			d.GiveUp()  // who types sees what comes
			_, err = d.Say(ctx, l, 0)
		}
		if t.away(err) {
			t.note("the port is away: %q was not said", l)
			return nil
		}
		if err != nil {
			return err
		}
		if i == len(lines)-1 {
			return nil
		}
		if t.Answered(ctx) != nil && ctx.Err() != nil {
			return context.Cause(ctx)
		}
	}
	return nil
}

// away reports whether an error is that of a port that has gone and is looked for.
func (t *Talker) away(err error) bool {
	return t.Reopen && err != nil && port.KindOf(err) != port.Other
}

// Answered waits for the answer to what was said last: its final result, or else
// a rest on the line. A port that has gone and is looked for owes none.
func (t *Talker) Answered(ctx context.Context) error {
	d := t.now()
	var err error
	if t.Station.Setup.Dialect == phrasebook.AT {
		err = d.Settle(ctx, answerTime)
	} else {
		err = d.Quiet(ctx, rest, answerTime)
	}
	if t.away(err) {
		return nil
	}
	return err
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
	t.note("line ending is %s", e)
}

// SetSpeed changes the speed without leaving.
func (t *Talker) SetSpeed(speed int) error {
	l := t.Line()
	l.Speed = speed
	if err := t.now().Port().SetLine(l); err != nil {
		return err
	}
	t.mu.Lock()
	t.line = l
	t.mu.Unlock()
	t.Station.Setup.Speed = speed
	t.Events.Emit(record.Event{Kind: record.Changed, Port: t.Station.Name, Text: l.String(), Value: record.ChangedLine{Speed: l.Speed, Frame: l.Frame}})
	t.note("line is %s", l)
	return nil
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
