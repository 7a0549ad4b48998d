package record

import (
	"uparrot/core/phrasebook"
	"uparrot/core/uart"
)

// Opened is what a record tells of a port when it is opened: the value of an Open
// event.
type Opened struct {
	Address    string             `json:"address"`
	Setup      string             `json:"setup"` // in words
	Dialect    phrasebook.Dialect `json:"dialect"`
	Speed      int                `json:"speed"` // baud
	Frame      uart.Frame         `json:"frame"`
	Ending     phrasebook.Ending  `json:"ending"`
	Flow       uart.Flow          `json:"flow,omitempty"`
	Phrasebook string             `json:"phrasebook,omitempty"`   // its file
	Gap        phrasebook.Gap     `json:"gap,omitempty"`          // between packets, where that is not the usual one
	HoldBackMS float64            `json:"hold_back_ms,omitempty"` // how long the adapter may gather bytes before it hands them on
	phrasebook.Signs
}

// As is how the port was spoken to then.
func (o Opened) As() phrasebook.Setup {
	frame := o.Frame
	return phrasebook.Setup{Dialect: o.Dialect, Speed: o.Speed, Frame: &frame, Ending: o.Ending, Flow: o.Flow, Gap: o.Gap, Signs: o.Signs}
}

// ChangedLine is how a port was set from then on: the value of a Changed event.
type ChangedLine struct {
	Speed   int                `json:"speed"` // baud
	Frame   uart.Frame         `json:"frame"`
	Dialect phrasebook.Dialect `json:"dialect,omitempty"` // if that was changed
	Ending  phrasebook.Ending  `json:"ending,omitempty"`  // if that was changed
	Signals map[string]bool    `json:"signals,omitempty"` // those that were changed, by name: whether they are on
}

// Supplied is the value of a Note event of a module that was given power, or lost it.
type Supplied struct {
	Power string `json:"power"` // on or off
}

// KeptFile is a value that was kept as a file: the value of a Kept event, whose text
// is the path.
type KeptFile struct {
	Value  string `json:"value"` // its name
	Bytes  int    `json:"bytes"`
	SHA256 Digest `json:"sha256"`

	CutShort bool `json:"cut_short,omitempty"` // its end did not come
}

// Further is the value of a Try event where the further try was a person's choice, not the
// procedure's.
type Further struct {
	ByHand bool              `json:"by_hand"`
	Mended map[string]Digest `json:"mended,omitempty"` // SHA-256 of the files that it is by, if they were mended
}
