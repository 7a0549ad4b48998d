// Package talk is what speaking by hand needs beside a dialog: a log of what was
// said and heard that can be shown in several ways and searched, and the words
// that a person types turned into bytes.
package talk

import (
	"fmt"
	"strings"
	"time"

	"uparrot/core/text"
)

// Kind says what a line of the log is.
type Kind int

// The kinds of line.
const (
	Heard Kind = iota
	Said
	Note // something that happened: a speed changed, the port went
)

// Row is one line of the log.
type Row struct {
	Time  time.Time // of its first byte
	Kind  Kind
	Bytes []byte
	Open  bool // no line end has come yet
	Lapse bool // what was said here got no answer

	Chatter bool // the module says lines like it by itself, again and again
	Same    bool // ... and this one is as the one before of its kind
}

// Log is what was said and heard, oldest first. It keeps the last MaxLines.
type Log struct {
	Lines []Row
	Gone  int // lines dropped from the front

	Folds     Folds
	Answering bool // what comes may be an answer

	// Gap has bytes cut where the line was silent for as long, in place of at line ends;
	// 0 does not.
	Gap  time.Duration
	came time.Time // the last byte

	ends  text.Ends
	heard int // 1 and the number of the last heard line
}

// Bounds on what a log keeps.
const (
	maxLines = 20_000
	maxLine  = 4096 // bytes: a longer line is broken
)

// Add adds bytes that came or went, or the words of a note. Heard bytes are cut
// into lines, which keep their line ends.
func (l *Log) Add(t time.Time, k Kind, b []byte) {
	if k != Heard {
		if last := l.last(); last != nil && last.Open {
			last.Open = false // what comes now stands on a line of its own
		}
		l.add(Row{Time: t, Kind: k, Bytes: append([]byte(nil), b...)})
		return
	}
	if l.Gap > 0 {
		l.packet(t, b)
		return
	}
	for len(b) > 0 {
		n := text.FindEnd(b)
		if n != 0 {
			l.ends.Pass()
		}
		part := text.Inside
		if n >= 0 {
			part = l.ends.Take(b[n])
			n++
		} else {
			n = len(b)
		}
		switch last := l.last(); {
		case part == text.Second && l.heard > l.Gone: // whatever came between
			row := &l.Lines[l.heard-1-l.Gone]
			row.Bytes = append(row.Bytes, b[:n]...)
		case last != nil && last.Kind == Heard && last.Open:
			last.Bytes = append(last.Bytes, b[:n]...)
			last.Open = part == text.Inside && len(last.Bytes) < maxLine
			l.sort(last)
		default:
			l.add(Row{Time: t, Kind: Heard, Bytes: append([]byte(nil), b[:n]...), Open: part == text.Inside})
			l.heard = l.Gone + len(l.Lines)
			l.sort(l.last())
		}
		b = b[n:]
	}
}

// packet adds bytes to those before, unless the line was silent between.
func (l *Log) packet(t time.Time, b []byte) {
	last := l.last()
	if last == nil || last.Kind != Heard || t.Sub(l.came) >= l.Gap || len(last.Bytes) >= maxLine {
		l.add(Row{Time: t, Kind: Heard})
		last = l.last()
	}
	last.Bytes = append(last.Bytes, b...)
	l.came = t
}

// sort finds out whether a line that is whole is chatter.
func (l *Log) sort(r *Row) {
	if r.Open {
		return
	}
	if words := text.Shown(r.Bytes); words != "" {
		if fold := l.Folds.take(r.Time, words, l.Answering); fold != nil {
			r.Chatter, r.Same = true, fold.Same()
		}
	}
}

// Lapse marks what was said last: it got no answer.
func (l *Log) Lapse() {
	for i := len(l.Lines) - 1; i >= 0; i-- {
		if l.Lines[i].Kind == Said {
			l.Lines[i].Lapse = true
			return
		}
	}
}

func (l *Log) last() *Row {
	if len(l.Lines) == 0 {
		return nil
	}
	return &l.Lines[len(l.Lines)-1]
}

func (l *Log) add(line Row) {
	if len(l.Lines) >= maxLines {
		drop := maxLines / 10
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
		if strings.Contains(strings.ToLower(text.Shown(l.Lines[i].Bytes)), words) {
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

// Chatter is how what a module says by itself is shown.
type Chatter int

// The ways to show chatter.
const (
	AllLines    Chatter = iota
	Folded              // a line of each kind, the latest
	ChangedOnly         // those that are another than the one before of their kind
	chatters
)

func (c Chatter) String() string {
	return [...]string{"all lines", "chatter folded", "changes only"}[c]
}

// Next is the way after c, round and round.
func (c Chatter) Next() Chatter { return (c + 1) % chatters }

// Hides reports whether a line is not shown so.
func (c Chatter) Hides(r Row) bool { return r.Chatter && (c == Folded || c == ChangedOnly && r.Same) }

// TrailingBlanks is how many blanks stand at the end of a line, which nobody would see.
func (r Row) TrailingBlanks() int {
	line := strings.TrimRight(string(text.Plain(r.Bytes)), "\r\n")
	return len(line) - len(strings.TrimRight(line, " "))
}

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
func (t Times) Stamp(line Row, before *Row) string {
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

// hexWide is how many bytes stand in a row of the hex view.
const hexWide = 16

// Rows are a line's bytes in a view, one or more rows.
func (v View) Rows(line Row) []string {
	if line.Kind == Note || v == AsText {
		return []string{text.Shown(line.Bytes)}
	}
	var rows []string
	for b := line.Bytes; len(b) > 0; {
		n := min(hexWide, len(b))
		row := fmt.Sprintf("% X", b[:n])
		if v == AsBoth {
			row = fmt.Sprintf("%-*s  %s", 3*hexWide-1, row, text.Dots(b[:n]))
		}
		rows = append(rows, row)
		b = b[n:]
	}
	if rows == nil {
		rows = []string{""}
	}
	return rows
}
