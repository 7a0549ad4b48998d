package record

import (
	"bufio"
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"time"

	"uparrot/core/source"
	"uparrot/core/text"
)

// State is how whole a record is that was read.
type State struct {
	Origin  Origin
	Events  int       // that were read
	Last    time.Time // of the last of them
	Ended   bool      // the closing line is there
	Torn    bool      // the last line has no end
	Sums    int       // checksums that were right
	Summed  int       // the last line up to which a checksum was right
	Altered string    // where and how the record differs from what was written; "" if no difference is seen
	Later   string    // what a later version of the program wrote that this one does not know; "" if there is nothing
}

// Whole reports whether the record is as it was written, to its end: the checksum of
// the closing line vouches for that.
func (s State) Whole() bool {
	return s.Ended && s.Altered == "" && s.Later == "" && !s.Torn && s.Events > 0 && s.Summed == s.Events
}

// unprotected reports whether there is an end, and nothing that vouches for it.
func (s State) unprotected() bool { return s.Ended && s.Altered == "" && !s.Torn && s.Sums == 0 }

// Words says how whole the record is.
func (s State) Words() string {
	switch {
	case s.Altered != "":
		return "altered: " + s.Altered
	case s.Later != "":
		return fmt.Sprintf("of a later version: %s; %d checksums up to line %d are right", s.Later, s.Sums, s.Summed)
	case s.Whole():
		return fmt.Sprintf("whole: %d lines, and the checksum of the closing line is right", s.Events)
	}
	if s.unprotected() {
		return fmt.Sprintf("unprotected: %d lines to the closing line, without checksums, as the first format had none: whether it was altered cannot be told", s.Events)
	}
	text := fmt.Sprintf("cut short: it ends with line %d, %s, without a closing line", s.Events, s.Last.Format("2006-01-02 15:04:05.000 -07:00"))
	switch {
	case s.Origin.Version == 1:
		text += "; it is of the first format, which has no checksums"
	case s.Sums > 0:
		text += fmt.Sprintf("; up to line %d the checksums are right, behind that there is none", s.Summed)
	default:
		text += "; no checksum stands in what is there"
	}
	return text
}

// maxLine is the length of the longest line that is read, in bytes, so that no
// file can take all memory.
const maxLine = 64 << 20

// Read calls f for every event of a record, in order, and stops if f returns an
// error. However long the record is, one line at a time is in memory. A last line
// without its end is what a killed program leaves: it is passed over, and the
// state tells of it, as of checksums that are wrong. A damaged line elsewhere is
// a *Damaged that names the line; the state tells what stands before it. Events of a kind
// that this program does not know are counted and not handed to f: in the end the error is
// a *Later, unless the record was altered.
func Read(r io.Reader, f func(Event) error) (State, error) {
	return read(r, f, sha256.New())
}

// Again is Read for a record that has been read before: its checksums are not
// looked at.
func Again(r io.Reader, f func(Event) error) (State, error) {
	return read(r, f, nil)
}

func read(r io.Reader, f func(Event) error, sum hash.Hash) (State, error) {
	var s State
	br := bufio.NewReaderSize(r, 64<<10)
	var long []byte
	head, _ := br.Peek(16 << 10) // what cannot be read shows below
	if other := source.Other(string(head), source.Record); other != nil {
		return s, &Damaged{1, other}
	}
	for {
		line, err := br.ReadSlice('\n')
		if err == bufio.ErrBufferFull || len(long) > 0 {
			if long = append(long, line...); len(long) > maxLine {
				return s, &Damaged{s.Events + 1, errors.New("it is longer than any line of a record")}
			}
			if err == bufio.ErrBufferFull {
				continue
			}
			line = long
		}
		if err != nil && err != io.EOF {
			return s, fmt.Errorf("read the record: %w", err)
		}
		if err == io.EOF {
			if s.Torn = len(line) > 0; s.Torn && s.Ended {
				s.alter("something stands behind the closing line")
			}
			if s.Events == 0 {
				return s, errors.New("this is no record: it has no line")
			}
			if s.Later != "" && s.Altered == "" {
				return s, &Later{s.Later}
			}
			return s, nil
		}
		var e Event
		if err := json.Unmarshal(line, &e); err != nil {
			damage := &Damaged{s.Events + 1, err}
			s.alter(damage.Error())
			return s, damage
		}
		if e.Kind == "" {
			damage := &Damaged{s.Events + 1, errors.New("it has no kind")}
			s.alter(damage.Error())
			return s, damage
		}
		e.Port = text.Line(e.Port) // a name, wherever it is shown
		if s.Events == 0 {
			if err := s.head(e); err != nil {
				return s, err
			}
		}
		s.take(e, sum, line)
		if sum != nil {
			sum.Write(line)
		}
		long = long[:0]
		if _, known := kinds[e.Kind]; !known {
			if s.Later == "" {
				s.Later = fmt.Sprintf("line %d has an event of the kind %q, which this program does not know", s.Events, text.Line(string(e.Kind)))
			}
			continue
		}
		if err := f(e); err != nil {
			return s, err
		}
	}
}

// Damaged is a line of a record that cannot be read.
type Damaged struct {
	Line int
	Err  error
}

func (d *Damaged) Error() string {
	if other, is := errors.AsType[*source.Problem](d.Err); is {
		return other.Error()
	}
	if _, is := errors.AsType[*json.SyntaxError](d.Err); is && d.Line == 1 {
		return "this is not a record: its first line is no event"
	} else if is {
		return fmt.Sprintf("the record's line %d is no event: it was cut or changed", d.Line)
	}
	if kind, is := errors.AsType[*json.UnmarshalTypeError](d.Err); is {
		return fmt.Sprintf("the record's line %d is no event: %s cannot be a %s", d.Line, cmp.Or(kind.Field, "it"), kind.Value)
	} else if _, is := errors.AsType[*time.ParseError](d.Err); is {
		return fmt.Sprintf("the record's line %d is no event: its time is none", d.Line)
	}
	return fmt.Sprintf("the record's line %d is no event: %v", d.Line, d.Err)
}

func (d *Damaged) Unwrap() error { return d.Err }

// Later is that a record has something that only a later version of the program knows.
type Later struct{ What string }

func (l *Later) Error() string {
	return "the record is of a later version: " + l.What + "; read it with the program that wrote it, or a later one"
}

func (s *State) head(e Event) error {
	if e.Kind != Head || json.Unmarshal(e.Data, &s.Origin) != nil {
		return errors.New("this is no record: its first line is not a record's head")
	}
	if s.Origin.Version > version {
		return &Later{fmt.Sprintf("it has format version %d, and this program reads versions up to %d", s.Origin.Version, version)}
	}
	return nil
}

// take counts a line and holds its checksum against what stands before it.
func (s *State) take(e Event, sum hash.Hash, line []byte) {
	if s.Ended {
		s.alter(fmt.Sprintf("line %d stands behind the closing line", s.Events+1))
	}
	s.Events++
	s.Last = e.Time
	s.Ended = s.Ended || e.Kind == End
	switch {
	case sum == nil:
	case e.Sum == "":
		if e.lasts() && s.Origin.Version >= 2 {
			s.alter(fmt.Sprintf("line %d has lost its checksum", s.Events))
		}
	case e.Sum == s.sum(sum, line):
		s.Sums++
		s.Summed = s.Events
	default:
		s.alter(fmt.Sprintf("the checksum in line %d is not that of the lines up to it; the change lies in lines %d to %d", s.Events, max(1, s.Summed), s.Events))
	}
}

// sum is the checksum that a line must carry: of all bytes before it and, from the
// third format on, of its own bytes but for the checksum, which stands last in it.
func (s *State) sum(before hash.Hash, line []byte) string {
	if s.Origin.Version < 3 {
		return hex.EncodeToString(before.Sum(nil))
	}
	own, _, found := bytes.Cut(line, []byte(sumKey))
	if i := bytes.LastIndex(line, []byte(sumKey)); found {
		own = line[:i]
	}
	return sumWith(before, append(own[:len(own):len(own)], '}'))
}

// sumKey stands before the checksum in a line.
const sumKey = `,"sum":"`

// sumWith is the checksum of what was hashed before and some more bytes.
func sumWith(before hash.Hash, more []byte) string {
	h := sha256.New()
	h.Write(before.Sum(nil))
	h.Write(more)
	return hex.EncodeToString(h.Sum(nil))
}

// alter keeps the first difference: what follows is often its consequence.
func (s *State) alter(how string) {
	if s.Altered == "" {
		s.Altered = how
	}
}

// IsRecord reports whether the beginning of a file is that of a record.
func IsRecord(head []byte) bool {
	return bytes.Contains(head, []byte(`"kind":"record"`))
}
