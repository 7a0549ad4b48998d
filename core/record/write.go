package record

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"sync"
	"time"

	"uparrot/core/secret"
)

// Writer writes a record. All methods may be called from several goroutines,
// and do nothing on a nil Writer. The first error of writing is told to Trouble
// and kept for Close; from there on nothing more is written, so that a record
// has no gaps.
type Writer struct {
	// Tell is told of every event, secrets hidden, in order; also of those that
	// could not be written. It may be nil.
	Tell func(Event)
	// Trouble is told of the first error of writing, when it is met; it may be
	// nil.
	Trouble func(error)

	mu        sync.Mutex
	w         io.Writer
	file      *os.File      // nil if not ours
	verdicts  chan struct{} // wakes the syncing of the file; nil if it cannot be synced
	synced    chan struct{} // closed when that has ended
	secrets   secret.Mask
	held      map[string]held        // by direction and port
	echoes    map[string]bool        // ports where a short secret was said, which may come back
	concealed map[string]concealment // by port
	deaf      map[string]concealment // ... of what is heard
	sum       hash.Hash
	line      bytes.Buffer
	encode    *json.Encoder // into line
	err       error
	last      string // the checksum of the latest line that carried one
}

// held is the end of a stretch of bytes that may be the beginning of a secret.
type held struct {
	event Event
	bytes []byte
}

// concealment is of a line that is being said.
type concealment int

const (
	open concealment = iota
	concealed
	toldOf // and that something was said is written
)

// New writes a record to w; nil writes none, but still tells.
func New(w io.Writer, o Origin) *Writer {
	rw := &Writer{w: w, held: map[string]held{}, echoes: map[string]bool{}, concealed: map[string]concealment{}, deaf: map[string]concealment{}, sum: sha256.New()}
	rw.encode = json.NewEncoder(&rw.line)
	rw.encode.SetEscapeHTML(false)
	rw.begin(o)
	return rw
}

// Create writes a record to a new file that only its owner may read. Where there
// is a file of that name, the record gets a number: see Path.
func Create(path string, o Origin) (*Writer, error) {
	f, err := NewFile(path)
	if err != nil {
		return nil, fmt.Errorf("make the record: %w", err)
	}
	w := New(f, o)
	w.file = f
	if info, err := f.Stat(); err == nil && info.Mode().IsRegular() {
		w.verdicts, w.synced = make(chan struct{}, 1), make(chan struct{})
		go w.sync(f, w.verdicts)
	}
	return w, nil
}

// sync makes the file last at every verdict, beside the run: a slow disk keeps no
// module waiting.
func (w *Writer) sync(f *os.File, verdicts <-chan struct{}) {
	defer close(w.synced)
	for range verdicts {
		if err := f.Sync(); err != nil {
			w.mu.Lock()
			w.fail(err)
			w.mu.Unlock()
		}
	}
}

// fail keeps the first error. The mutex is held.
func (w *Writer) fail(err error) {
	if w.err != nil {
		return
	}
	w.err = fmt.Errorf("write the record: %w", err)
	if w.Trouble != nil {
		w.Trouble(w.err)
	}
}

func (w *Writer) begin(o Origin) {
	o.Version = version
	data, _ := json.Marshal(o) // cannot fail
	if o.Began.IsZero() {
		o.Began = time.Now()
	}
	w.write(Event{Time: o.Began, Kind: Head, Data: data})
}

// Path is where the record lies; "" if it is no file.
func (w *Writer) Path() string {
	if w == nil || w.file == nil {
		return ""
	}
	return w.file.Name()
}

// Sum is the checksum of the latest line that carried one: once a record is
// closed, that of its closing line.
func (w *Writer) Sum() string {
	if w == nil {
		return ""
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err != nil {
		return ""
	}
	return w.last
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

// Conceal keeps what is said at a port out of the record, up to its line end: it
// is known to be a secret before a byte of it is. Off takes that back, if nothing
// has been said.
func (w *Writer) Conceal(port string, on bool) {
	if w == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	switch c := w.concealed[port]; {
	case on && c == open:
		w.concealed[port] = concealed
	case !on && c == concealed:
		w.concealed[port] = open
	}
}

// ConcealHeard keeps what is heard at a port out of the record, until off takes that back: it is known that a
// secret is in it, and not which. That something was heard is told once.
func (w *Writer) ConcealHeard(port string, on bool) {
	if w == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case !on:
		w.deaf[port] = open
	case w.deaf[port] == open:
		w.deaf[port] = concealed
	}
}

// behind is what of bytes said at a port may be seen.
func (w *Writer) behind(port string, b []byte) []byte {
	var out []byte
	for i, c := range b {
		if c == '\r' || c == '\n' {
			w.concealed[port] = open
			return append(out, b[i:]...)
		}
		if w.concealed[port] == concealed {
			w.concealed[port] = toldOf
			out = append(out, secret.Hidden...)
		}
	}
	return out
}

// Event writes one event, if it is one of a record.
func (w *Writer) Event(e Event) {
	if _, ok := kinds[e.Kind]; w == nil || !ok {
		return
	}
	if e.Value != nil {
		data, err := json.Marshal(e.Value)
		if err != nil {
			w.mu.Lock()
			defer w.mu.Unlock()
			w.fail(fmt.Errorf("a %s: %w", e.Kind, err))
			return
		}
		e.Data = data
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if _, said := w.echoes[e.Port]; said && e.Kind == Passed { // it may be an echo that nobody took for one
		e.Text, _ = w.secrets.HideSaid(e.Text)
	}
	if e.Kind == Passed && w.deaf[e.Port] != open {
		e.Text = secret.Hidden
	}
	e.Text, e.Why, e.Step = w.secrets.Hide(e.Text), w.secrets.Hide(e.Why), w.secrets.Hide(e.Step)
	if w.secrets.Any() && e.Data != nil {
		e.Data = w.secrets.JSON(e.Data)
	}
	if b, err := e.Bytes(); w.secrets.Any() && e.Hex != "" && err == nil {
		e.SetBytes([]byte(w.secrets.Hide(string(b))))
	}
	w.write(e)
}

// Bytes writes bytes that came or went.
func (w *Writer) Bytes(t time.Time, kind Kind, port string, b []byte) {
	if w == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	e := Event{Time: t, Kind: kind, Port: port}
	if kind == Out && w.concealed[port] != open {
		b = w.behind(port, b)
	}
	if kind == In && w.deaf[port] != open {
		if w.deaf[port] == toldOf || len(b) == 0 {
			return
		}
		w.deaf[port], b = toldOf, []byte(secret.Hidden)
	}
	if w.secrets.Any() {
		key := string(kind) + port
		b = append(w.held[key].bytes, b...)
		var n int
		b, n = w.hide(kind, port, b)
		w.held[key] = held{e, append([]byte(nil), b[len(b)-n:]...)}
		b = b[:len(b)-n]
	}
	w.writeBytes(e, b)
}

// hide is what of bytes may be seen, and how many at their end are to be held back. A
// short secret is hidden where it is said, and in the first line that comes after it.
func (w *Writer) hide(kind Kind, port string, b []byte) (seen []byte, hold int) {
	lead := len(b) - len(bytes.TrimLeft(b, "\r\n")) // empty lines are no echo
	end := bytes.IndexAny(b[lead:], "\r\n")
	switch {
	case kind == Out:
		said, short := w.secrets.HideSaid(string(b))
		if short > 0 {
			w.echoes[port] = true
		}
		b = []byte(said)
		if bytes.HasSuffix(b, []byte("\r")) || bytes.HasSuffix(b, []byte("\n")) {
			return b, 0 // what is said in lines is said whole
		}
	case w.echoes[port] && end < 0 && len(b) < longestEcho: // that line is still coming
		return b, len(b)
	case w.echoes[port]:
		if end += lead; end < lead {
			end = len(b)
		}
		said, _ := w.secrets.HideSaid(string(b[:end]))
		b = append([]byte(said), w.secrets.Hide(string(b[end:]))...)
		w.echoes[port] = false
	default:
		b = []byte(w.secrets.Hide(string(b)))
	}
	return b, w.secrets.Beginning(b)
}

// longestEcho bounds the line that is taken for an echo.
const longestEcho = 1024

func (w *Writer) writeBytes(e Event, b []byte) {
	if len(b) == 0 {
		return
	}
	e.SetBytes(b)
	w.write(e)
}

func (w *Writer) write(e Event) {
	if w.Tell != nil {
		defer w.Tell(e) // behind the writing, so that nobody knows what the record does not
	}
	if w.err != nil || w.w == nil {
		return
	}
	lasts := e.lasts()
	w.line.Reset()
	err := w.encode.Encode(e)
	if err == nil && lasts {
		w.last = sumWith(w.sum, bytes.TrimSuffix(w.line.Bytes(), []byte("\n")))
		e.Sum = w.last
		w.line.Reset()
		err = w.encode.Encode(e)
	}
	if err == nil {
		w.sum.Write(w.line.Bytes())
		_, err = w.w.Write(w.line.Bytes())
	}
	if err != nil {
		w.fail(err)
	}
	if lasts && w.verdicts != nil {
		select {
		case w.verdicts <- struct{}{}:
		default: // it is to be synced already
		}
	}
}

// Close writes what was held back and the closing line, and closes the file. It
// returns the first error that writing met: from there on the record is not
// complete.
func (w *Writer) Close() error {
	if w == nil {
		return nil
	}
	w.mu.Lock()
	w.end()
	verdicts := w.verdicts
	w.verdicts = nil
	w.mu.Unlock()
	if verdicts != nil {
		close(verdicts)
		<-w.synced
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.file != nil {
		w.err = errors.Join(w.err, w.file.Close())
		w.file = nil
	}
	return w.err
}

// end writes what was held back and the closing line. The mutex is held.
func (w *Writer) end() {
	for _, h := range w.held {
		b := h.bytes
		if len(b) > 2 { // enough of a secret to help somebody guess the rest
			b = []byte(secret.Hidden)
		}
		w.writeBytes(h.event, b)
	}
	clear(w.held)
	w.write(Event{Time: time.Now(), Kind: End})
}
