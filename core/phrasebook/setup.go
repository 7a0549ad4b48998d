package phrasebook

import (
	"fmt"
	"time"

	"uparrot/core/source/toml"
	"uparrot/core/uart"
)

// Setup says how a port is spoken to. What is left empty is not said; see Or.
type Setup struct {
	Dialect Dialect     `toml:"dialect"`
	Speed   int         `toml:"speed"` // baud
	Frame   *uart.Frame `toml:"frame"`
	Ending  Ending      `toml:"ending"`
	Flow    uart.Flow   `toml:"flow"`
	Prompt  Prompt      `toml:"prompt"`
}

// Or is the setup with what it leaves empty taken from another.
func (s Setup) Or(base Setup) Setup {
	if s.Dialect == DialectNotSaid {
		s.Dialect = base.Dialect
	}
	if s.Speed == 0 {
		s.Speed = base.Speed
	}
	if s.Frame == nil {
		s.Frame = base.Frame
	}
	if s.Ending == EndingNotSaid {
		s.Ending = base.Ending
	}
	if s.Flow == uart.FlowNotSaid {
		s.Flow = base.Flow
	}
	if !s.Prompt.Said() {
		s.Prompt = base.Prompt
	}
	return s
}

// Line is the speed and frame, with uart.DefaultLine for what is not said.
func (s Setup) Line() uart.Line {
	l := uart.DefaultLine
	if s.Speed != 0 {
		l.Speed = s.Speed
	}
	if s.Frame != nil {
		l.Frame = *s.Frame
	}
	return l
}

// Words is the setup for a person, such as "at, 115200 8N1, crlf".
func (s Setup) Words() string {
	words := fmt.Sprintf("%s, %s, %s", s.Dialect, s.Line(), s.Ending)
	if s.Flow > uart.NoFlow {
		words += ", " + s.Flow.String()
	}
	return words
}

// Check reports what is wrong in the setup beside its words; path is the table it
// stands in, such as "port.north".
func (s Setup) Check(d *toml.Doc, path string) {
	if s.Speed < 0 || s.Speed > uart.MaxSpeed {
		d.Add(path+".speed", fmt.Sprintf("speed %d is outside %d..%d baud", s.Speed, uart.MinSpeed, uart.MaxSpeed), "")
	}
}

// duration is a time in a file, such as "500ms".
type duration time.Duration

func (d *duration) UnmarshalText(text []byte) error {
	v, err := time.ParseDuration(string(text))
	if err != nil || v < 0 {
		return fmt.Errorf("%q is no time: wanted a number and a unit, such as 500ms, 2s or 1m30s", text)
	}
	*d = duration(v)
	return nil
}
