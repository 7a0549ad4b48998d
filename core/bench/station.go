package bench

import (
	"context"
	"errors"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/uart"
)

// Station is one port with all that is known of it.
type Station struct {
	Name       string // in records and messages
	Address    port.Address
	Setup      phrasebook.Setup
	Phrasebook *phrasebook.Phrasebook // nil if there is none
	Supply     *Supply                // what switches the module's power; nil if only a hand does

	// Dial opens the port; nil means port.Open at Address.
	Dial func() (port.Port, error)
}

// Supply is a switch of a board at another port that gives a module power.
type Supply struct {
	Switch string   // by the phrasebook of the board, such as relay 3
	By     *Station // the board
	Off    time.Duration
	// Lock waits until nobody else of this program speaks to the board.
	Lock func(ctx context.Context) (release func(), err error)
}

// OffFor is how long a cycle of the power is off, unless the bench or a procedure says.
const OffFor = time.Second

// Words is the switch as a bench writes it.
func (s *Supply) Words() string { return s.Switch + " of " + s.By.Name }

// Wire is the serial line of the port, for sums: the zero value, on which bytes take
// no time, if it has none.
func (s *Station) Wire() uart.Line {
	if !s.Address.Serial() {
		return uart.Line{}
	}
	return s.Setup.Line()
}

// Port opens the port without a conversation. A stream, which may be nil, is told of
// what goes over it; closing the port tells that too.
func (s *Station) Port(ctx context.Context, events *record.Stream) (port.Port, error) {
	dev, err := s.dial(ctx)
	if err != nil {
		return nil, err
	}
	s.tellOpened(events, dev)
	return &told{dev, events, s.Name}, nil
}

// tellOpened tells of a port that has been opened, once what its other side does not
// do, and of whoever comes to it.
func (s *Station) tellOpened(events *record.Stream, dev port.Port) {
	o := s.opened()
	if held, known := port.HoldBack(dev); known {
		o.HoldBackMS = float64(held.Microseconds()) / 1000
	}
	events.Emit(record.Event{Kind: record.Open, Port: s.Name, Value: o})
	for _, what := range port.LacksOf(dev) {
		events.Emit(record.Event{Kind: record.Note, Port: s.Name, Text: s.Name + ": " + what})
	}
	port.OnCaller(dev, func(c port.Caller) {
		text := s.Name + ": speaks with " + c.Address
		if c.Refused {
			text = s.Name + ": did not listen to " + c.Address + ", which may not speak there"
		}
		if c.Last {
			text += "; there have been so many that no more are told"
		}
		events.Emit(record.Event{Kind: record.Note, Port: s.Name, Text: text})
	})
}

// told is a port that a stream is told of.
type told struct {
	port.Port
	events *record.Stream
	name   string
}

// Unwrap is the port itself.
func (t *told) Unwrap() port.Port { return t.Port }

func (t *told) Read(b []byte) (int, error) {
	n, err := t.Port.Read(b)
	if n > 0 {
		t.events.Bytes(time.Now(), record.In, t.name, b[:n])
	}
	return n, err
}

func (t *told) Write(ctx context.Context, b []byte) (int, error) {
	t.events.Bytes(time.Now(), record.Out, t.name, b)
	return t.Port.Write(ctx, b)
}

func (t *told) SetLine(l uart.Line) error {
	err := t.Port.SetLine(l)
	if err == nil {
		t.events.Emit(record.Event{Kind: record.Changed, Port: t.name, Text: l.String(), Value: record.ChangedLine{Speed: l.Speed, Frame: l.Frame}})
	}
	return err
}

func (t *told) Close() error {
	err := t.Port.Close()
	t.events.Emit(record.Event{Kind: record.Close, Port: t.name})
	return err
}

// dial opens the port and sets its flow control.
func (s *Station) dial(ctx context.Context) (port.Port, error) {
	open := s.Dial
	if open == nil {
		open = func() (port.Port, error) { return port.Open(ctx, s.Address, s.Setup.Line()) }
	}
	dev, err := open()
	if err != nil {
		return nil, err
	}
	if s.Setup.Flow > uart.NoFlow {
		if err := port.SetFlow(dev, s.Setup.Flow); err != nil {
			return nil, errors.Join(err, dev.Close())
		}
	}
	return dev, nil
}

// Open opens the port and begins a conversation that a stream, which may be nil, is
// told of. The dialog is configured by the setup and the phrasebook; adjust,
// if not nil, may change that.
func (s *Station) Open(ctx context.Context, events *record.Stream, adjust func(*dialog.Config)) (*dialog.Dialog, error) {
	dev, err := s.dial(ctx)
	if err != nil {
		return nil, err
	}
	cfg := s.config()
	cfg.Trace = s.tracer(events)
	if adjust != nil {
		adjust(&cfg)
	}
	s.tellOpened(events, dev)
	return dialog.Open(dev, cfg), nil
}

func (s *Station) opened() record.Opened {
	o := record.Opened{
		Address: s.Address.String(), Setup: s.Setup.Words(), Dialect: max(s.Setup.Dialect, phrasebook.Lines), Speed: s.Setup.Line().Speed, Frame: s.Setup.Line().Frame,
		Ending: max(s.Setup.Ending, phrasebook.CRLF), Flow: s.Setup.Flow, Gap: s.Setup.Gap, Signs: s.Setup.Signs,
	}
	if s.Phrasebook != nil {
		o.Phrasebook = s.Phrasebook.File
	}
	return o
}

// config is how a dialog on the port is to be held.
func (s *Station) config() dialog.Config {
	c := dialog.Config{
		Dialect: s.Setup.Dialect, Ending: s.Setup.Ending, Gap: s.Setup.Gap,
		Finals: s.Setup.Final.Patterns(), Refusals: s.Setup.Refusal.Patterns(),
		Prompts: s.Setup.Prompt.Patterns(), Pagers: s.Setup.Pager.Patterns(), PagerAnswer: " ",
		Login: s.Setup.Login.Patterns(), Password: s.Setup.Password.Patterns(), Denied: s.Setup.Denied.Patterns(),
	}
	if s.Setup.PagerAnswer != nil {
		c.PagerAnswer = s.Setup.PagerAnswer.Bytes()
	}
	if pb := s.Phrasebook; pb != nil {
		c.Finals, c.Refusals = append(c.Finals, pb.Finals()...), append(c.Refusals, pb.Refusals()...)
		for _, n := range pb.Notices {
			c.Notices = append(c.Notices, n.Pattern)
		}
		if pb.Carrier != nil {
			c.Notices = append(c.Notices, pb.Carrier.ArrivesPattern)
		}
		if pb.Banner != nil {
			c.Banner, c.Restarts = pb.Banner.Pattern, pb.Restarts
		}
	}
	c.Notices = append(c.Notices, s.Setup.Notice.Patterns()...)
	return c
}

// Close closes the dialog that Open began.
func (s *Station) Close(events *record.Stream, d *dialog.Dialog) error {
	err := d.Close()
	events.Emit(record.Event{Kind: record.Close, Port: s.Name})
	return err
}

// tracer writes what comes and goes at the port into a record.
func (s *Station) tracer(events *record.Stream) func(dialog.Trace) {
	if !events.Recording() {
		return nil
	}
	return func(t dialog.Trace) {
		switch t.Kind {
		case dialog.Came:
			events.Bytes(t.Time, record.In, s.Name, t.Bytes)
		case dialog.Went:
			events.Bytes(t.Time, record.Out, s.Name, t.Bytes)
		case dialog.PassedBy, dialog.Dropped:
			e := record.Event{Time: t.Time, Kind: record.Passed, Port: s.Name}
			if e.SetBytes(t.Bytes); t.Kind == dialog.Dropped {
				e.Why = "the inbox was full"
			}
			events.Emit(e)
		}
	}
}
