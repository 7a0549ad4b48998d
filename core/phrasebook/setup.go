package phrasebook

import (
	"fmt"
	"time"

	"uparrot/core/source/toml"
	"uparrot/core/uart"
)

// Setup says how a port is spoken to. What is left empty is not said; see Or.
type Setup struct {
	Dialect Dialect     `toml:"dialect,omitempty" about:"how commands and answers follow each other" words:"at,console,lines,bytes"`
	Speed   int         `toml:"speed,omitempty" about:"of the line, in baud"`
	Frame   *uart.Frame `toml:"frame,omitempty" about:"data bits, parity N E O M S, stop bits, such as \"8N1\""`
	Ending  Ending      `toml:"ending,omitempty" about:"what follows a said line" words:"crlf,cr,lf,none"`
	Flow    uart.Flow   `toml:"flow,omitempty" about:"flow control" words:"none,rtscts,xonxoff"`
	Gap     Gap         `toml:"gap,omitempty" about:"the silence between two packets of a port that has no lines" form:"time"`

	// Interrupt is what stops a module while it starts, at its prompt; nil if nothing is
	// known to.
	Interrupt *Spoken `toml:"interrupt,omitempty" about:"what stops a module while it starts, at its prompt"`
	Signs
}

// Gap is the silence that stands between two packets of a port that has no lines. The zero
// value is that nothing is said of it, which comes to usualGap.
type Gap time.Duration

// usualGap is the gap unless a setup says another.
const usualGap = Gap(20 * time.Millisecond)

// Beside is the gap at which packets can be cut behind an adapter that holds bytes back for
// so long: shorter silences do not show.
func (g Gap) Beside(held time.Duration) time.Duration {
	if g == 0 {
		g = usualGap
	}
	return max(time.Duration(g), held)
}

// UnmarshalText reads a time such as 20ms; no text says nothing.
func (g *Gap) UnmarshalText(text []byte) error {
	if *g = 0; len(text) == 0 {
		return nil
	}
	v, err := time.ParseDuration(string(text))
	if err != nil || v <= 0 || v > time.Minute {
		return fmt.Errorf("%q is no silence between packets: wanted a time such as 20ms, one minute at most", text)
	}
	*g = Gap(v)
	return nil
}

// MarshalText is the time as written.
func (g Gap) MarshalText() ([]byte, error) { return []byte(time.Duration(g).String()), nil }

// Signs are the texts by which it is known where a module's answer stands. Each kind
// may be empty: then nothing is said of it.
type Signs struct {
	// Prompt is what a console shows when it waits for a command. Final is what ends
	// an answer and Refusal what says no, beside what the dialect and the phrasebook
	// know.
	Prompt  Phrases `toml:"prompt,omitempty" json:"prompt,omitempty" about:"what stands at the end of what has come when a command is waited for; heard text" form:"phrase"`
	Final   Phrases `toml:"final,omitempty" json:"final,omitempty" about:"a line that ends an answer; heard text" form:"phrase"`
	Refusal Phrases `toml:"refusal,omitempty" json:"refusal,omitempty" about:"a line that says no; heard text" form:"phrase"`

	// Pager is what a module shows when it waits in the middle of an answer to be
	// told to go on; PagerAnswer tells it that, a blank if nothing is said.
	Pager       Phrases `toml:"pager,omitempty" json:"pager,omitempty" about:"what a module shows when it waits within an answer to be told to go on" form:"phrase"`
	PagerAnswer *Spoken `toml:"pager_answer,omitempty" json:"pager_answer,omitempty" about:"what tells it so, a blank if nothing is said"`

	// Notice is a line that the module sends by itself, beside those of the phrasebook.
	Notice Phrases `toml:"notice,omitempty" json:"notice,omitempty" about:"a line that the module sends by itself; heard text" form:"phrase"`

	// Login and Password are what asks for a name and a password, Denied what says
	// that they are wrong.
	Login    Phrases `toml:"login,omitempty" json:"login,omitempty" about:"the prompt for a name" form:"phrase"`
	Password Phrases `toml:"password,omitempty" json:"password,omitempty" about:"the prompt for a password" form:"phrase"`
	Denied   Phrases `toml:"denied,omitempty" json:"denied,omitempty" about:"a line that says that name or password are wrong" form:"phrase"`
}

// Of are the phrases of a kind, by the word that stands for it in a file; nil if there
// is no such kind.
func (s *Signs) Of(word string) *Phrases {
	return map[string]*Phrases{
		"prompt": &s.Prompt, "final": &s.Final, "refusal": &s.Refusal, "pager": &s.Pager, "notice": &s.Notice,
		"login": &s.Login, "password": &s.Password, "denied": &s.Denied,
	}[word]
}

// SignWords are the words of the kinds, in the order of the fields.
var SignWords = []string{"prompt", "final", "refusal", "pager", "notice", "login", "password", "denied"}

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
	if s.Gap == 0 {
		s.Gap = base.Gap
	}
	if s.Interrupt == nil {
		s.Interrupt = base.Interrupt
	}
	for _, word := range SignWords {
		if own := s.Of(word); len(*own) == 0 {
			*own = *base.Of(word)
		}
	}
	if s.PagerAnswer == nil {
		s.PagerAnswer = base.PagerAnswer
	}
	return s
}

// Transparent reports whether a port takes all values of a byte as they are, where a carrier is between or not.
func (s Setup) Transparent(carrier bool) bool {
	return !carrier && s.Line().Frame.Filled().DataBits == 8 && s.Flow != uart.XonXoff
}

// The least sizes of a frame of a link test, in bytes: one of text, which is its head, and one of bytes, with
// two times of its own.
const (
	LeastText   = 16
	LeastBinary = 36
)

// LeastFrame is the least size of a frame through a port, in bytes.
func (s Setup) LeastFrame(carrier bool) int {
	if s.Transparent(carrier) {
		return LeastBinary
	}
	return LeastText
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
