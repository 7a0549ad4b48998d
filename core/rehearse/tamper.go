package rehearse

import (
	"bytes"
	"io"
	"sync"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/port"
	"uparrot/core/uart"
)

// tamper changes what a module is told and what it answers. Both are told one line at a time,
// without its line end, or one packet where a port has no lines.
type tamper interface {
	// said is what the host has said: pass is what the module gets of it, nil for nothing, and
	// answer what the host gets in the module's place, nil for nothing.
	said(line []byte) (pass, answer []byte)
	// heard is what the module has said: what the host gets of it.
	heard(line []byte) [][]byte
}

// style is how a good module's answers may come: nil parts leave it as it is.
type style struct {
	ending  string            // of lines, in place of their own
	blank   bool              // an empty line before each
	delay   time.Duration     // from what was said to the answer
	prompt  func([]byte) bool // lines that come by themselves, and are not late
	oneByte bool              // a byte at a time
	joined  bool              // all that comes at once in one piece
	starts  time.Duration     // from what was said to the first line after a start
	banner  *pattern.Pattern  // that line
	echo    bool              // what is said comes back first
	colour  bool              // a prompt is coloured
}

// middle stands between a host and a module, and writes down what goes through.
type middle struct {
	port    string
	host    io.ReadWriteCloser // the module's end of the host's pipe
	lines   bool               // else packets
	gap     time.Duration      // the silence that ends a packet
	tamper  tamper             // may be nil
	style   style
	log     *log
	mu      sync.Mutex
	toWait  []byte // of a said line that is not whole
	toPass  []byte // to be read by the module
	fromOut []byte // of a heard line that is not whole
	flush   *time.Timer
	queue   chan []byte // to the host, in order
	done    chan struct{}
	over    sync.Once
	sent    chan struct{} // closed when nothing more is given

	told     func(port string, line []byte) // is told of each line of the host; may be nil
	signals  func(dtr, rts, brk bool)       // tells the module of the host's signal lines
	dtr, rts bool
	saidAt   time.Time // the last line of the host
}

// log is what went over all ports, in order.
type log struct {
	mu   sync.Mutex
	all  []entry
	last string // the port that was spoken to last
}

// entry is one line or packet.
type entry struct {
	port string
	out  bool // said by the host
	text []byte
	raw  []byte // with its line end
	step string // in which step it went, where that is known
}

func (l *log) add(e entry) {
	l.mu.Lock()
	defer l.mu.Unlock()
	e.text, e.raw = bytes.Clone(e.text), bytes.Clone(e.raw)
	if e.out {
		l.last = e.port
	}
	l.all = append(l.all, e)
}

// spokenTo reports whether a port was the last that was spoken to.
func (l *log) spokenTo(port string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.last == port
}

func newMiddle(port string, host io.ReadWriteCloser, lines bool, t tamper, s style, l *log) *middle {
	m := &middle{port: port, host: host, lines: lines, gap: partAfter, tamper: t, style: s, log: l, queue: make(chan []byte, 1024), done: make(chan struct{}), sent: make(chan struct{})}
	go m.send()
	return m
}

// HostLine is how the host has set its line; false where it is as the module's.
func (m *middle) HostLine() (uart.Line, bool) {
	if c, ok := m.host.(interface{ HostLine() (uart.Line, bool) }); ok {
		return c.HostLine()
	}
	return uart.Line{}, false
}

// send gives the host what is for it.
func (m *middle) send() {
	defer close(m.sent)
	for {
		select {
		case b := <-m.queue:
			if late := m.late(b); late > 0 {
				select {
				case <-time.After(late):
				case <-m.done:
					return
				}
			}
			if m.style.joined {
				var open bool
				if b, open = m.gather(b); !open {
					return
				}
			}
			if !m.style.oneByte {
				_, _ = m.host.Write(b) // a host that has gone shows at the next read
				continue
			}
			for i := range b {
				_, _ = m.host.Write(b[i : i+1])
				select {
				case <-time.After(500 * time.Microsecond):
				case <-m.done:
					return
				}
			}
		case <-m.done:
			return
		}
	}
}

// gather waits for what comes within a moment; false if it is over.
func (m *middle) gather(b []byte) ([]byte, bool) {
	moment := time.After(joinWithin)
	for {
		select {
		case more := <-m.queue:
			b = append(b, more...)
		case <-moment:
			return b, true
		case <-m.done:
			return nil, false
		}
	}
}

// joinWithin is how long pieces wait for one another.
const joinWithin = 20 * time.Millisecond

// late is how much longer an answer takes that comes as late as it may.
func (m *middle) late(b []byte) time.Duration {
	if m.style.starts > 0 {
		if _, is := m.style.banner.Match(bytes.TrimSpace(b)); is {
			m.mu.Lock()
			defer m.mu.Unlock()
			return time.Until(m.saidAt.Add(m.style.starts))
		}
	}
	if m.style.delay == 0 || m.style.prompt != nil && m.style.prompt(bytes.TrimSpace(b)) {
		return 0
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return time.Until(m.saidAt.Add(m.style.delay))
}

func (m *middle) give(b []byte) {
	select {
	case m.queue <- b:
	case <-m.done:
	}
}

// Read is what the module hears.
func (m *middle) Read(b []byte) (int, error) {
	for {
		m.mu.Lock()
		if len(m.toPass) > 0 {
			n := copy(b, m.toPass)
			m.toPass = m.toPass[n:]
			m.mu.Unlock()
			return n, nil
		}
		m.mu.Unlock()
		buf := make([]byte, 4096)
		n, err := m.host.Read(buf)
		if err != nil {
			m.close()
			return 0, err
		}
		m.take(buf[:n])
	}
}

// take takes in what the host has written.
func (m *middle) take(b []byte) {
	if m.style.echo {
		m.give(bytes.Clone(b))
	}
	if !m.lines {
		m.said(b, b)
		return
	}
	m.mu.Lock()
	m.toWait = append(m.toWait, b...)
	m.mu.Unlock()
	for {
		m.mu.Lock()
		i := bytes.IndexAny(m.toWait, "\r\n")
		if i < 0 {
			rest := m.toWait
			if len(rest) > 0 && !bytes.ContainsAny(b, "\r\n") { // a payload, or a key
				m.toPass, m.toWait = append(m.toPass, rest...), nil
			}
			m.mu.Unlock()
			return
		}
		end := i + 1
		if m.toWait[i] == '\r' && end < len(m.toWait) && m.toWait[end] == '\n' {
			end++
		}
		line, raw := bytes.Clone(m.toWait[:i]), bytes.Clone(m.toWait[:end])
		m.toWait = m.toWait[end:]
		m.mu.Unlock()
		m.said(line, raw)
	}
}

func (m *middle) said(line, raw []byte) {
	m.mu.Lock()
	m.saidAt = time.Now()
	if !m.lines {
		m.packetEnds()
	}
	m.mu.Unlock()
	if len(line) > 0 {
		m.log.add(entry{port: m.port, out: true, text: line, raw: raw})
	}
	if m.told != nil && len(line) > 0 {
		m.told(m.port, line)
	}
	pass, answer := line, []byte(nil)
	if m.tamper != nil && len(line) > 0 {
		pass, answer = m.tamper.said(line)
	}
	if pass != nil {
		m.mu.Lock()
		m.toPass = append(append(m.toPass, pass...), raw[len(line):]...)
		m.mu.Unlock()
	}
	if answer != nil {
		time.AfterFunc(answerAfter, func() { m.give(answer) })
	}
}

// answerAfter is how long what stands in for a module takes to answer.
const answerAfter = 4 * time.Millisecond

// partAfter is how long a line that is not whole is waited for: a prompt never is.
const partAfter = 25 * time.Millisecond

// Write is what the module says.
func (m *middle) Write(b []byte) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.lines {
		m.packet(b)
		return len(b), nil
	}
	m.fromOut = append(m.fromOut, b...)
	for {
		i := bytes.IndexByte(m.fromOut, '\n')
		if i < 0 {
			break
		}
		raw := m.fromOut[:i+1]
		m.pass(bytes.TrimRight(raw, "\r\n"), raw)
		m.fromOut = m.fromOut[i+1:]
	}
	if m.flush != nil {
		m.flush.Stop()
	}
	m.flush = time.AfterFunc(partAfter, func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		if len(m.fromOut) > 0 {
			m.pass(m.fromOut, m.fromOut)
			m.fromOut = nil
		}
	})
	return len(b), nil
}

// packet takes in a part of a packet, which ends with a silence; the mutex is held.
func (m *middle) packet(b []byte) {
	m.fromOut = append(m.fromOut, b...)
	if m.tamper == nil {
		m.give(bytes.Clone(b))
	}
	if m.flush != nil {
		m.flush.Stop()
	}
	m.flush = time.AfterFunc(m.gap, func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.packetEnds()
	})
}

// packetEnds has what came be a packet; the mutex is held.
func (m *middle) packetEnds() {
	whole := m.fromOut
	if m.fromOut = nil; len(whole) == 0 {
		return
	}
	m.log.add(entry{port: m.port, text: whole, raw: whole})
	if m.tamper == nil {
		return // it is there already
	}
	for _, p := range m.tamper.heard(whole) {
		m.give(bytes.Clone(p))
	}
}

// settle has what came last be a packet, though no silence has ended it.
func (m *middle) settle() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.lines {
		m.packetEnds()
	}
}

// pass hands on a line of the module, or a part that is none; the mutex is held.
func (m *middle) pass(line, raw []byte) {
	m.log.add(entry{port: m.port, text: line, raw: raw})
	lines := [][]byte{line}
	ending := raw[len(line):]
	whole := len(ending) > 0
	switch d, drops := m.tamper.(interface{ drops() bool }); {
	case m.tamper == nil || len(line) == 0:
	case whole:
		lines = m.tamper.heard(line)
	case drops && d.drops():
		lines = nil
	}
	if whole && m.style.ending != "" {
		ending = []byte(m.style.ending)
	}
	for _, l := range lines {
		out := append(bytes.Clone(l), ending...)
		switch {
		case whole && m.style.blank:
			out = append(append([]byte(nil), ending...), out...)
		case !whole && m.style.colour:
			out = append(append([]byte("\x1b[1;32m"), out...), "\x1b[0m"...)
		}
		m.give(out)
	}
}

// end closes it and waits until the module has let go.
func (m *middle) end(ended <-chan struct{}) {
	m.close()
	_ = m.host.Close()
	if ended != nil {
		<-ended
	}
}

// close ends it: nothing of it goes on.
func (m *middle) close() {
	m.over.Do(func() { close(m.done) }) // first: who waits to give may hold the mutex
	<-m.sent                            // nothing goes on behind the end of a bubble
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.flush != nil {
		m.flush.Stop()
	}
}

// OnSignals has the module told of the host's signal lines.
func (m *middle) OnSignals(f func(dtr, rts, brk bool)) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.signals, m.dtr, m.rts = f, true, true
}

// signalled is the host's port, with signal lines to the module.
type signalled struct {
	port.Port
	m *middle
}

// Unwrap is the port itself.
func (s *signalled) Unwrap() port.Port { return s.Port }

// Signal sets an outgoing line.
func (s *signalled) Signal(line uart.Signal, on bool) error {
	s.m.mu.Lock()
	if line == uart.DTR {
		s.m.dtr = on
	} else {
		s.m.rts = on
	}
	tell, dtr, rts := s.m.signals, s.m.dtr, s.m.rts
	s.m.mu.Unlock()
	if tell != nil {
		tell(dtr, rts, false)
	}
	return nil
}

// Inputs are those of a module that has power.
func (s *signalled) Inputs() (port.Inputs, error) {
	return port.Inputs{CTS: true, DSR: true, DCD: true}, nil
}

// SetFlow changes nothing: what is made up loses no byte.
func (s *signalled) SetFlow(uart.Flow) error { return nil }

// Break takes its time.
func (s *signalled) Break(d time.Duration) error {
	time.Sleep(d)
	return nil
}
