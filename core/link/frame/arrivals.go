package frame

import (
	"slices"
	"sync"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
)

// Arrivals has a dialog hand on what matches a pattern instead of putting it into the inbox: whole lines or,
// in dialect bytes, wherever it stands in what comes.
func Arrivals(c *dialog.Config, arrives *pattern.Pattern, take func(dialog.Line, []pattern.Capture)) {
	if c.Dialect == phrasebook.Bytes {
		s := &scanner{arrives: arrives, take: take}
		Bytes(c, s.feed)
		return
	}
	c.Notices = append([]*pattern.Pattern{arrives}, c.Notices...)
	c.OnNotice = func(notice int, l dialog.Line, caps []pattern.Capture) bool {
		if notice == 0 {
			take(l, caps)
		}
		return notice == 0
	}
}

// scanner finds a pattern in bytes that have no lines.
type scanner struct {
	arrives *pattern.Pattern
	take    func(dialog.Line, []pattern.Capture)

	mu    sync.Mutex
	held  []byte // what may be the beginning of a match
	timer *time.Timer
}

// rests is the silence after which what could go on is taken as it is.
const rests = 20 * time.Millisecond

// longestHeld is how many bytes without a match are held at most.
const longestHeld = 8 << 10

func (s *scanner) feed(at time.Time, b []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.timer != nil {
		s.timer.Stop()
	}
	s.held = append(s.held, b...)
	if s.scan(at, false); len(s.held) > 0 {
		s.timer = time.AfterFunc(rests, func() {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.scan(at, true)
		})
	}
}

// scan takes what matches; with all also what more bytes would make longer.
func (s *scanner) scan(at time.Time, all bool) {
	for len(s.held) > 0 {
		start, end, caps, more := s.arrives.Find(s.held)
		switch {
		case start < 0 && !more:
			s.held = s.held[:0]
			return
		case start < 0 || more && !all:
			s.held = slices.Delete(s.held, 0, max(0, len(s.held)-longestHeld))
			return
		case end == start: // it matches nothing at all, too
			return
		}
		s.take(dialog.Line{Text: slices.Clone(s.held[start:end]), Time: at, Wire: end}, caps)
		s.held = slices.Delete(s.held, 0, end)
	}
}
