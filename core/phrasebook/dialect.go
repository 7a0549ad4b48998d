package phrasebook

import "uparrot/core/source"

// Dialect says how commands and answers follow each other. The zero value is that
// nothing is said of it, which comes to Lines.
type Dialect int

// The dialects.
const (
	DialectNotSaid Dialect = iota
	Lines                  // lines both ways, no exchanges
	AT                     // a said line opens an exchange that a final result ends (ITU-T V.250)
	Console                // a said line opens an exchange that the prompt ends
	Bytes                  // no lines: only bytes are heard
)

// dialectNames are the dialects as written.
var dialectNames = []string{"lines", "at", "console", "bytes"}

// ParseDialect reads a dialect's name. Errors are a *source.Problem.
func ParseDialect(s string) (Dialect, error) {
	i, err := place("dialect", s, dialectNames)
	return Dialect(i), err
}

// String is the dialect as written.
func (d Dialect) String() string { return dialectNames[max(d, Lines)-1] }

// UnmarshalText is ParseDialect; no text says nothing.
func (d *Dialect) UnmarshalText(text []byte) (err error) {
	if *d = DialectNotSaid; len(text) > 0 {
		*d, err = ParseDialect(string(text))
	}
	return err
}

// MarshalText is String.
func (d Dialect) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// Ending is what ends a said line. The zero value is that nothing is said of it,
// which comes to CRLF.
type Ending int

// The line endings.
const (
	EndingNotSaid Ending = iota
	CRLF
	CR
	LF
	NoEnding // a line is said as it is
)

// endingNames are the line endings as written.
var endingNames = []string{"crlf", "cr", "lf", "none"}

// ParseEnding reads a line ending's name. Errors are a *source.Problem.
func ParseEnding(s string) (Ending, error) {
	i, err := place("line ending", s, endingNames)
	return Ending(i), err
}

// String is the ending as written.
func (e Ending) String() string { return endingNames[max(e, CRLF)-1] }

// Bytes are what it stands for.
func (e Ending) Bytes() string { return [...]string{"\r\n", "\r", "\n", ""}[max(e, CRLF)-1] }

// UnmarshalText is ParseEnding; no text says nothing.
func (e *Ending) UnmarshalText(text []byte) (err error) {
	if *e = EndingNotSaid; len(text) > 0 {
		*e, err = ParseEnding(string(text))
	}
	return err
}

// MarshalText is String.
func (e Ending) MarshalText() ([]byte, error) { return []byte(e.String()), nil }

// place is the place of a word among those known, from 1.
func place(what, word string, known []string) (int, error) {
	for i, n := range known {
		if n == word {
			return i + 1, nil
		}
	}
	return 0, source.NoSuch(what, word, known)
}
