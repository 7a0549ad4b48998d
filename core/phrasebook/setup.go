package phrasebook

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/port"
	"uparrot/core/source"
	"uparrot/core/uart"
)

// Setup says how a port is spoken to. What is left empty is not said; see Or.
type Setup struct {
	Dialect string      `toml:"dialect"` // at, lines or bytes
	Speed   int         `toml:"speed"`   // baud
	Frame   *uart.Frame `toml:"frame"`
	Ending  string      `toml:"ending"` // cr, lf, crlf or none
	Flow    string      `toml:"flow"`   // none, rtscts or xonxoff
	Prompt  string      `toml:"prompt"` // what a console shows when it waits for a command
}

// SetPrompt sets the prompt, if it can be read as heard text.
func (s *Setup) SetPrompt(text string) error {
	p, err := pattern.Compile(text)
	switch {
	case err != nil:
		return err
	case strings.TrimSpace(text) == "":
		return errors.New("the prompt is empty")
	case len(p.Exprs()) > 0:
		return errors.New("a prompt has no values to compare with")
	}
	s.Prompt = strings.TrimSpace(text)
	return nil
}

// EndingNames are the line endings as written, and what they stand for.
var (
	EndingNames = []string{"cr", "lf", "crlf", "none"}
	endings     = map[string]string{"cr": "\r", "lf": "\n", "crlf": "\r\n", "none": ""}
)

// Or is the setup with what it leaves empty taken from another.
func (s Setup) Or(base Setup) Setup {
	if s.Dialect == "" {
		s.Dialect = base.Dialect
	}
	if s.Speed == 0 {
		s.Speed = base.Speed
	}
	if s.Frame == nil {
		s.Frame = base.Frame
	}
	if s.Ending == "" {
		s.Ending = base.Ending
	}
	if s.Flow == "" {
		s.Flow = base.Flow
	}
	if s.Prompt == "" {
		s.Prompt = base.Prompt
	}
	return s
}

// Line is the speed and frame, with port.DefaultLine for what is not said.
func (s Setup) Line() uart.Line {
	l := port.DefaultLine
	if s.Speed != 0 {
		l.Speed = s.Speed
	}
	if s.Frame != nil {
		l.Frame = *s.Frame
	}
	return l
}

// EndingBytes is what follows a said line; CR LF where nothing is said.
func (s Setup) EndingBytes() string {
	if s.Ending == "" {
		return "\r\n"
	}
	return endings[s.Ending]
}

// Words is the setup for a person, such as "at, 115200 8N1, crlf".
func (s Setup) Words() string {
	d, e := s.Dialect, s.Ending
	if d == "" {
		d = dialog.Lines.String()
	}
	if e == "" {
		e = "crlf"
	}
	words := fmt.Sprintf("%s, %s, %s", d, s.Line(), e)
	if s.Flow != "" && s.Flow != port.NoFlow.String() {
		words += ", " + s.Flow
	}
	return words
}

// check reports what is wrong in a setup that stands below a path of a file.
func (s Setup) check(d *source.Doc, path string) {
	if _, ok := dialog.ParseDialect(s.Dialect); s.Dialect != "" && !ok {
		d.Add(path+"dialect", fmt.Sprintf("there is no dialect %q", s.Dialect), source.DidYouMean(s.Dialect, dialog.DialectNames))
	}
	if s.Speed < 0 || s.Speed > uart.MaxSpeed {
		d.Add(path+"speed", fmt.Sprintf("speed %d is outside %d..%d baud", s.Speed, uart.MinSpeed, uart.MaxSpeed), "")
	}
	if _, ok := endings[s.Ending]; s.Ending != "" && !ok {
		d.Add(path+"ending", fmt.Sprintf("there is no line ending %q", s.Ending), source.DidYouMean(s.Ending, EndingNames))
	}
	s.promptAt(d, path)
	if _, ok := port.ParseFlow(s.Flow); s.Flow != "" && !ok {
		d.Add(path+"flow", fmt.Sprintf("there is no flow control %q", s.Flow), source.DidYouMean(s.Flow, port.FlowNames))
	}
}

// promptAt reports what is wrong in a prompt that stands below a path.
func (s Setup) promptAt(d *source.Doc, path string) {
	if s.Prompt == "" {
		return
	}
	var read Setup
	if err := read.SetPrompt(s.Prompt); err != nil {
		d.Add(path+"prompt", err.Error(), "Write what stands at the end when the console waits, with ... for what may vary.")
	}
}

// Check reports what is wrong in the setup; path is the table it stands in,
// such as "port.north".
func (s Setup) Check(d *source.Doc, path string) { s.check(d, path+".") }

// Config is how a dialog on this port is to be held, with a phrasebook or nil.
func (s Setup) Config(pb *Phrasebook) dialog.Config {
	d, _ := dialog.ParseDialect(s.Dialect) // checked when read; nothing said means lines
	c := dialog.Config{Dialect: d, Ending: s.EndingBytes(), NoEnding: s.Ending == "none"}
	if s.Prompt != "" {
		c.Prompt = pattern.Must(strings.TrimSpace(s.Prompt)) // checked when read
	}
	if pb != nil {
		c.Refusals = pb.refusals
		for _, n := range pb.Notices {
			c.Notices = append(c.Notices, n.Pattern)
		}
		if pb.Carrier != nil {
			c.Notices = append(c.Notices, pb.Carrier.ArrivesPattern)
		}
		if pb.Banner != nil {
			c.Banner = pb.Banner.Pattern
		}
	}
	return c
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
