package record

import (
	"sync"
	"time"

	"uparrot/core/secret"
)

// Stream is what happens in a run, told once each: to the record and to all that
// watch. A nil Stream tells nobody. Its methods may be called from several
// goroutines.
type Stream struct {
	w     *Writer
	watch []func(Event)
	*told
}

// told is what a stream and those made of it share: a watcher is told one thing at a time by all of them,
// and what one hides none tells.
type told struct {
	mu   sync.Mutex // held while watchers are told
	mask secret.Mask
	deaf map[string]bool // ports whose lines are not told
}

// NewStream tells a record, which may be nil, and watchers. A watcher is told one
// thing at a time; it may be slow without keeping bytes of a port from the record.
func NewStream(w *Writer, watch ...func(Event)) *Stream {
	return newStream(w, &told{}, watch)
}

func newStream(w *Writer, shared *told, watch []func(Event)) *Stream {
	s := &Stream{w: w, told: shared}
	for _, f := range watch {
		if f != nil {
			s.watch = append(s.watch, f)
		}
	}
	return s
}

// With is the same stream with one more watcher.
func (s *Stream) With(f func(Event)) *Stream {
	if s == nil {
		return NewStream(nil, f)
	}
	return newStream(s.w, s.told, append([]func(Event){f}, s.watch...))
}

// Only is the record of a stream without its watchers, for a test within a test.
func Only(s *Stream) *Stream {
	if s == nil {
		return nil
	}
	return newStream(s.w, s.told, nil)
}

// Emit tells of an event. Where it has no time it is now.
func (s *Stream) Emit(e Event) {
	if s == nil {
		return
	}
	if e.Time.IsZero() {
		e.Time = time.Now()
	}
	s.w.Event(e)
	if len(s.watch) == 0 {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if e.Kind == Passed { // it may be an echo that nobody took for one
		e.Text, _ = s.mask.HideSaid(e.Text)
	}
	if e.Kind == Passed && s.deaf[e.Port] {
		e.Text = secret.Hidden
	}
	if s.mask.Any() {
		e.Text, e.Why, e.Step = s.mask.Hide(e.Text), s.mask.Hide(e.Why), s.mask.Hide(e.Step)
	}
	for _, f := range s.watch {
		f(e)
	}
}

// Hide keeps a secret out of the record, and out of the words that watchers are
// told. Who puts it into a value hides it there.
func (s *Stream) Hide(text string) {
	if s == nil {
		return
	}
	s.w.Hide(text)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.mask.Add(text)
}

// Bytes tells the record of bytes that came or went. Watchers hear of what is made
// of them.
func (s *Stream) Bytes(t time.Time, kind Kind, port string, b []byte) {
	if s != nil {
		s.w.Bytes(t, kind, port, b)
	}
}

// Recording reports whether there is a record.
func (s *Stream) Recording() bool { return s != nil && s.w != nil }

// Watched reports whether anybody is told beside the record.
func (s *Stream) Watched() bool { return s != nil && len(s.watch) > 0 }

// Conceal keeps what is said at a port out of the record; see [Writer.Conceal].
func (s *Stream) Conceal(port string, on bool) {
	if s != nil {
		s.w.Conceal(port, on)
	}
}

// ConcealHeard keeps what is heard at a port out of the record, and lines that nobody took from watchers too; see
// [Writer.ConcealHeard].
func (s *Stream) ConcealHeard(port string, on bool) {
	if s == nil {
		return
	}
	s.w.ConcealHeard(port, on)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.deaf == nil {
		s.deaf = map[string]bool{}
	}
	s.deaf[port] = on
}
