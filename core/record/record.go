// Package record writes and reads the log of a run: every byte that went over
// the ports, with times, and every verdict.
//
// A record is JSON Lines: one event a line, in the order in which things
// happened, written as they happen. A program that is killed leaves a record
// whose last line may be torn; Read passes over such a line. The format is
// described in docs/record.md.
package record

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"
	"unicode/utf8"

	"uparrot/core/secret"
)

// Version is the version of the format, in the head of every record.
const Version = 1

// The kinds of event.
const (
	Head    = "record"  // first: tool, format version
	Open    = "open"    // a port was opened
	Close   = "close"   // a port was closed
	In      = "in"      // bytes came
	Out     = "out"     // bytes went
	Passed  = "passed"  // a line that no statement took
	Begin   = "begin"   // a procedure begins
	Step    = "step"    // a step begins, or ends with its verdict
	Check   = "check"   // a check was made
	Limit   = "limit"   // a value was held against limits
	Link    = "link"    // the summary of a link run
	Kept    = "kept"    // a value was kept as a file
	Told    = "told"    // the operator was told something, or asked and has answered
	Changed = "changed" // a port's line settings or signals were changed
	Verdict = "verdict" // the verdict of the whole run
	Note    = "note"    // anything else worth knowing
)

// Event is one line of a record. Which fields are set depends on the kind.
type Event struct {
	Time    time.Time       `json:"t"`
	Kind    string          `json:"kind"`
	Port    string          `json:"port,omitempty"`
	Text    string          `json:"text,omitempty"` // bytes that are valid UTF-8, or words
	Hex     string          `json:"hex,omitempty"`  // bytes that are not
	Step    string          `json:"step,omitempty"`
	Try     int             `json:"try,omitempty"`
	Verdict string          `json:"verdict,omitempty"`
	Why     string          `json:"why,omitempty"`
	TookMS  float64         `json:"took_ms,omitempty"`
	Data    json.RawMessage `json:"data,omitempty"`
}

// Bytes are the bytes of an In or Out event.
func (e Event) Bytes() ([]byte, error) {
	if e.Hex != "" {
		return hex.DecodeString(e.Hex)
	}
	return []byte(e.Text), nil
}

// Writer writes a record. All methods may be called from several goroutines,
// and do nothing on a nil Writer. The first error of writing is kept for Close.
type Writer struct {
	mu      sync.Mutex
	w       io.Writer
	file    *os.File // nil if not ours
	secrets secret.Mask
	held    map[string]held // by direction and port
	err     error
}

// held is the end of a stretch of bytes that may be the beginning of a secret.
type held struct {
	event Event
	bytes []byte
}

// New writes a record to w. The tool is its name and version.
func New(w io.Writer, tool string) *Writer {
	rw := &Writer{w: w, held: map[string]held{}}
	data, _ := json.Marshal(map[string]any{"version": Version, "tool": tool}) // cannot fail
	rw.Event(Event{Time: time.Now(), Kind: Head, Data: data})
	return rw
}

// Create writes a record to a new file that only its owner may read.
func Create(path, tool string) (*Writer, error) {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, fmt.Errorf("make the record: %w", err)
	}
	w := New(f, tool)
	w.file = f
	return w, nil
}

// Hide keeps a secret out of the record from now on, also where it comes in
// pieces.
func (w *Writer) Hide(text string) {
	if w == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.secrets.Add(text)
}

// Event writes one event.
func (w *Writer) Event(e Event) {
	if w == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	e.Text, e.Why, e.Step = w.secrets.Hide(e.Text), w.secrets.Hide(e.Why), w.secrets.Hide(e.Step)
	if w.secrets.Any() && e.Data != nil {
		e.Data = w.secrets.JSON(e.Data)
	}
	w.write(e)
}

// Bytes writes bytes that came or went.
func (w *Writer) Bytes(t time.Time, kind, port string, b []byte) {
	if w == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	e := Event{Time: t, Kind: kind, Port: port}
	if w.secrets.Any() {
		key := kind + port
		b = append(w.held[key].bytes, b...)
		b = []byte(w.secrets.Hide(string(b)))
		n := w.secrets.Beginning(b)
		w.held[key] = held{e, append([]byte(nil), b[len(b)-n:]...)}
		b = b[:len(b)-n]
	}
	w.writeBytes(e, b)
}

func (w *Writer) writeBytes(e Event, b []byte) {
	if len(b) == 0 {
		return
	}
	if utf8.Valid(b) {
		e.Text = string(b)
	} else {
		e.Hex = hex.EncodeToString(b)
	}
	w.write(e)
}

func (w *Writer) write(e Event) {
	if w.err != nil {
		return
	}
	var line bytes.Buffer
	enc := json.NewEncoder(&line)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(e); err != nil {
		w.err = fmt.Errorf("write the record: %w", err)
		return
	}
	if _, err := w.w.Write(line.Bytes()); err != nil {
		w.err = fmt.Errorf("write the record: %w", err)
	}
}

// Close writes what was held back and closes the file. It returns the first
// error that writing met: from there on the record is not complete.
func (w *Writer) Close() error {
	if w == nil {
		return nil
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, h := range w.held {
		b := h.bytes
		if len(b) > 2 { // enough of a secret to help somebody guess the rest
			b = []byte(secret.Hidden)
		}
		w.writeBytes(h.event, b)
	}
	clear(w.held)
	if w.file != nil {
		w.err = errors.Join(w.err, w.file.Close())
		w.file = nil
	}
	return w.err
}

// Read calls f for every event of a record, in order, and stops if f returns an
// error. A last line without its end is what a killed program leaves: it is
// passed over, and torn tells of it. A damaged line elsewhere is an error that
// names the line.
func Read(r io.Reader, f func(Event) error) (torn bool, err error) {
	br := bufio.NewReaderSize(r, 64<<10)
	for n := 1; ; n++ {
		line, err := br.ReadBytes('\n')
		if err != nil && err != io.EOF {
			return false, fmt.Errorf("read the record: %w", err)
		}
		if err == io.EOF {
			return len(line) > 0, nil
		}
		var e Event
		if err := json.Unmarshal(line, &e); err != nil {
			return false, fmt.Errorf("the record's line %d is no event: %w", n, err)
		}
		if n == 1 {
			if err := checkHead(e); err != nil {
				return false, err
			}
		}
		if err := f(e); err != nil {
			return false, err
		}
	}
}

func checkHead(e Event) error {
	var head struct{ Version int }
	if e.Kind != Head || json.Unmarshal(e.Data, &head) != nil {
		return errors.New("this is no record: its first line is not a record's head")
	}
	if head.Version > Version {
		return fmt.Errorf("this record has format version %d; this program reads versions up to %d", head.Version, Version)
	}
	return nil
}
