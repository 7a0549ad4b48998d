// Package station is a port on the bench, ready to be spoken to: where it is,
// how it is spoken to, and what the phrasebook knows of its module.
package station

import (
	"encoding/json"
	"errors"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
)

// Station is one port with all that is known of it.
type Station struct {
	Name       string // in records and messages
	Address    string
	Setup      phrasebook.Setup
	Phrasebook *phrasebook.Phrasebook // nil if there is none

	// Dial opens the port; nil means port.Open at Address.
	Dial func() (port.Port, error)
}

// Open opens the port and begins a conversation that is kept in a record, which
// may be nil. The dialog is configured by the setup and the phrasebook; adjust,
// if not nil, may change that.
func (s *Station) Open(w *record.Writer, adjust func(*dialog.Config)) (*dialog.Dialog, error) {
	dial := s.Dial
	if dial == nil {
		dial = func() (port.Port, error) { return port.Open(s.Address, s.Setup.Line()) }
	}
	dev, err := dial()
	if err != nil {
		return nil, err
	}
	if flow, _ := port.ParseFlow(s.Setup.Flow); flow != port.NoFlow {
		if err := dev.SetFlow(flow); err != nil {
			return nil, errors.Join(err, dev.Close())
		}
	}
	cfg := s.Setup.Config(s.Phrasebook)
	cfg.Trace = s.tracer(w)
	if adjust != nil {
		adjust(&cfg)
	}
	data, err := json.Marshal(s.opened())
	if err != nil {
		panic(err) // texts and a number always encode
	}
	w.Event(record.Event{Time: time.Now(), Kind: record.Open, Port: s.Name, Data: data})
	return dialog.Open(dev, cfg), nil
}

// Opened is what a record tells of a port when it is opened.
type Opened struct {
	Address    string `json:"address"`
	Setup      string `json:"setup"` // in words
	Dialect    string `json:"dialect"`
	Speed      int    `json:"speed"` // baud
	Frame      string `json:"frame"`
	Ending     string `json:"ending"`
	Flow       string `json:"flow,omitempty"`
	Prompt     string `json:"prompt,omitempty"`
	Phrasebook string `json:"phrasebook,omitempty"` // its file
}

func (s *Station) opened() Opened {
	line := s.Setup.Line()
	o := Opened{
		Address: s.Address, Setup: s.Setup.Words(), Dialect: s.Setup.Dialect, Speed: line.Speed, Frame: line.Frame.String(),
		Ending: s.Setup.Ending, Flow: s.Setup.Flow, Prompt: s.Setup.Prompt,
	}
	if o.Dialect == "" {
		o.Dialect = dialog.Lines.String()
	}
	if o.Ending == "" {
		o.Ending = "crlf"
	}
	if s.Phrasebook != nil {
		o.Phrasebook = s.Phrasebook.File
	}
	return o
}

// Close closes the dialog that Open began.
func (s *Station) Close(w *record.Writer, d *dialog.Dialog) error {
	err := d.Close()
	w.Event(record.Event{Time: time.Now(), Kind: record.Close, Port: s.Name})
	return err
}

// tracer writes what comes and goes at the port into a record.
func (s *Station) tracer(w *record.Writer) func(dialog.Trace) {
	if w == nil {
		return nil
	}
	return func(t dialog.Trace) {
		switch t.Kind {
		case dialog.Came:
			w.Bytes(t.Time, record.In, s.Name, t.Bytes)
		case dialog.Went:
			w.Bytes(t.Time, record.Out, s.Name, t.Bytes)
		case dialog.PassedBy, dialog.Dropped:
			e := record.Event{Time: t.Time, Kind: record.Passed, Port: s.Name}
			if e.SetBytes(t.Bytes); t.Kind == dialog.Dropped {
				e.Why = "the inbox was full"
			}
			w.Event(e)
		}
	}
}
