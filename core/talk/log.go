// Package talk is what speaking by hand needs beside a dialog: a log of what was
// said and heard that can be shown in several ways and searched, and the words
// that a person types turned into bytes.
package talk

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"
)

// Kind says what a line of the log is.
type Kind int

// The kinds of line.
const (
	Heard Kind = iota
	Said
	Note // something that happened: a speed changed, the port went
)

// Line is one line of the log.
type Line struct {
	Time  time.Time // of its first byte
	Kind  Kind
	Bytes []byte
	Open  bool // no line end has come yet
}

// Log is what was said and heard, oldest first. It keeps the last MaxLines.
type Log struct {
	Lines []Line
	Gone  int // lines dropped from the front

	cut int // 1 and the number of a heard line that ended with CR when something else came between; its LF may follow
}

// Bounds on what a log keeps.
const (
	MaxLines = 20_000
	maxLine  = 4096 // bytes: a longer line is broken
)

// Add adds bytes that came or went, or the words of a note. Heard bytes are cut
// into lines; a CR before the LF belongs to the line end.
func (l *Log) Add(t time.Time, k Kind, b []byte) {
	if k != Heard {
		if last := l.last(); last != nil && last.Open {
			last.Open = false // what comes now stands on a line of its own
			if last.Bytes[len(last.Bytes)-1] == '\r' {
				l.cut = l.Gone + len(l.Lines)
			}
		}
		l.add(Line{Time: t, Kind: k, Bytes: append([]byte(nil), b...)})
		return
	}
	if l.cut > l.Gone && len(b) > 0 && b[0] == '\n' {
		line := &l.Lines[l.cut-1-l.Gone]
		line.Bytes = append(line.Bytes, '\n')
		b = b[1:]
	}
	l.cut = 0
	for len(b) > 0 {
		n := bytes.IndexByte(b, '\n') + 1
		open := n == 0
		if open {
			n = len(b)
		}
		if last := l.last(); last != nil && last.Kind == Heard && last.Open {
			last.Bytes = append(last.Bytes, b[:n]...)
			last.Open = open
			if len(last.Bytes) >= maxLine {
				last.Open = false
			}
		} else {
			l.add(Line{t, Heard, append([]byte(nil), b[:n]...), open})
		}
		b = b[n:]
	}
}

func (l *Log) last() *Line {
	if len(l.Lines) == 0 {
		return nil
	}
	return &l.Lines[len(l.Lines)-1]
}

func (l *Log) add(line Line) {
	if len(l.Lines) >= MaxLines {
		drop := MaxLines / 10
		l.Lines = append(l.Lines[:0], l.Lines[drop:]...)
		l.Gone += drop
	}
	l.Lines = append(l.Lines, line)
}

// Search finds the newest line before a place whose text holds some words, case
// aside; -1 if there is none. A place past the end begins at the end.
func (l *Log) Search(words string, before int) int {
	words = strings.ToLower(words)
	for i := min(before, len(l.Lines)) - 1; i >= 0; i-- {
		if strings.Contains(strings.ToLower(Text(l.Lines[i].Bytes)), words) {
			return i
		}
	}
	return -1
}

// View is how bytes are shown.
type View int

// The views.
const (
	AsText View = iota
	AsHex
	AsBoth
	views
)

func (v View) String() string { return [...]string{"text", "hex", "both"}[v] }

// Next is the view after v, round and round.
func (v View) Next() View { return (v + 1) % views }

// Times is how times are shown.
type Times int

// The ways to show times.
const (
	Clock     Times = iota // time of day
	SinceLast              // since the line before
	NoTimes
	timesKinds
)

func (t Times) String() string { return [...]string{"clock", "since last", "none"}[t] }

// Next is the way after t, round and round.
func (t Times) Next() Times { return (t + 1) % timesKinds }

// Stamp is a line's time for showing, 13 characters wide or none.
func (t Times) Stamp(line Line, before *Line) string {
	switch {
	case t == NoTimes:
		return ""
	case t == Clock || before == nil:
		return line.Time.Format("15:04:05.000") + " "
	}
	d := line.Time.Sub(before.Time)
	if d < 100*time.Second {
		return fmt.Sprintf("%11.3fs ", d.Seconds())
	}
	return fmt.Sprintf("%12s ", d.Round(time.Second))
}

// steering is what consoles send to colour text and move the cursor: the control
// sequences, strings and two-character escapes of ECMA-48.
var steering = regexp.MustCompile("\x1b\\[[0-?]*[ -/]*[@-~]|\x1b[\\]P^_X][^\x07\x1b]*(?:\x07|\x1b\\\\)|\x1b[ -/]*[0-OQ-WYZ\\\\`-~]")

// Text is bytes as one line of text that cannot steer a terminal: colours and
// cursor moves are taken out, what is left and is no text becomes escapes, and
// the line end is left out.
func Text(b []byte) string {
	b = bytes.TrimRight(b, "\r\n")
	s := string(b)
	if strings.ContainsRune(s, 0x1b) {
		s = steering.ReplaceAllString(s, "")
	}
	var out strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == '\t':
			out.WriteString("    ")
		case r < ' ' || r == 0x7f || r == utf8.RuneError && n == 1:
			fmt.Fprintf(&out, `\x%02x`, s[0])
		case r >= 0x80 && r < 0xa0 || r >= 0x200b && r <= 0x200f || r >= 0x2028 && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0xfeff:
			for i := range n {
				fmt.Fprintf(&out, `\x%02x`, s[i])
			}
		default:
			out.WriteString(s[:n])
		}
		s = s[n:]
	}
	return out.String()
}

// hexWide is how many bytes stand in a row of the hex view.
const hexWide = 16

// Rows are a line's bytes in a view, one or more rows.
func (v View) Rows(line Line) []string {
	if line.Kind == Note || v == AsText {
		return []string{Text(line.Bytes)}
	}
	var rows []string
	for b := line.Bytes; len(b) > 0; {
		n := min(hexWide, len(b))
		row := fmt.Sprintf("% X", b[:n])
		if v == AsBoth {
			row = fmt.Sprintf("%-*s  %s", 3*hexWide-1, row, dots(b[:n]))
		}
		rows = append(rows, row)
		b = b[n:]
	}
	if rows == nil {
		rows = []string{""}
	}
	return rows
}

// dots is bytes as ASCII with a dot for each that is none.
func dots(b []byte) string {
	out := make([]byte, len(b))
	for i, c := range b {
		if out[i] = c; c < ' ' || c > '~' {
			out[i] = '.'
		}
	}
	return string(out)
}
