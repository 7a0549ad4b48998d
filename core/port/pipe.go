package port

import (
	"context"
	"io"
	"os"
	"sync"

	"uparrot/core/uart"
)

// Pipe joins a port and a module within this program: what one writes the
// other reads, at once and in order. Writing never blocks. Closing either side
// ends both: the port then reads as vanished, or closed if it closed itself.
func Pipe(name string, line uart.Line) (Port, io.ReadWriteCloser) {
	toModule, toPort := newQueue(), newQueue()
	p := &pipePort{name: name, line: line, in: toPort, out: toModule}
	return p, pipeModule{in: toModule, out: toPort, host: p}
}

type pipePort struct {
	name    string
	in, out *queue

	mu     sync.Mutex
	line   uart.Line
	closed bool
}

func (p *pipePort) Name() string { return p.name }

func (p *pipePort) Line() uart.Line {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.line
}

func (p *pipePort) SetLine(l uart.Line) error {
	if err := validLine(p.name, l); err != nil {
		return err
	}
	p.mu.Lock()
	p.line = l
	p.mu.Unlock()
	return nil
}

func (p *pipePort) Read(b []byte) (int, error) {
	n, err := p.in.read(b)
	if err != nil {
		return n, p.fail("read", err)
	}
	return n, nil
}

func (p *pipePort) Write(_ context.Context, b []byte) (int, error) {
	n, err := p.out.write(b)
	if err != nil {
		return n, p.fail("write", err)
	}
	return n, nil
}

func (p *pipePort) fail(op string, err error) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		return &Error{Port: p.name, Op: op, Kind: Closed, Why: "the port was closed", Err: err}
	}
	return &Error{Port: p.name, Op: op, Kind: Vanished, Why: "the port vanished while in use", Err: err}
}

func (p *pipePort) Drain() error { return nil }

func (p *pipePort) Close() error {
	p.mu.Lock()
	p.closed = true
	p.mu.Unlock()
	p.in.close()
	p.out.close()
	return nil
}

// Purge throws away what has come; what was written has left at once.
func (p *pipePort) Purge() error {
	p.in.empty()
	return nil
}

type pipeModule struct {
	in, out *queue
	host    *pipePort
}

// HostLine is the speed and frame that the host has set.
func (m pipeModule) HostLine() (uart.Line, bool) { return m.host.Line(), true }

func (m pipeModule) Read(b []byte) (int, error)  { return m.in.read(b) }
func (m pipeModule) Write(b []byte) (int, error) { return m.out.write(b) }
func (m pipeModule) Close() error {
	m.in.close()
	m.out.close()
	return nil
}

// queue is bytes on their way in one direction.
type queue struct {
	mu     sync.Mutex
	more   sync.Cond
	bytes  []byte
	most   int // writing waits while there are so many; 0 is no bound
	closed bool
}

func newQueue() *queue {
	q := &queue{}
	q.more.L = &q.mu
	return q
}

func (q *queue) read(b []byte) (int, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for len(q.bytes) == 0 && !q.closed {
		q.more.Wait()
	}
	if len(q.bytes) == 0 {
		return 0, os.ErrClosed
	}
	n := copy(b, q.bytes)
	q.bytes = q.bytes[n:]
	if q.most > 0 {
		q.more.Broadcast()
	}
	return n, nil
}

func (q *queue) write(b []byte) (int, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for q.most > 0 && len(q.bytes) >= q.most && !q.closed {
		q.more.Wait()
	}
	if q.closed {
		return 0, os.ErrClosed
	}
	q.bytes = append(q.bytes, b...)
	q.more.Signal()
	return len(b), nil
}

// empty throws away what has come.
func (q *queue) empty() {
	q.mu.Lock()
	q.bytes = nil
	q.more.Broadcast()
	q.mu.Unlock()
}

// rest is what has come and was not read, at most a line's worth.
func (q *queue) rest() []byte {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.bytes[:min(len(q.bytes), 200)]
}

// ended reports whether nothing more will come.
func (q *queue) ended() bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.closed
}

func (q *queue) close() {
	q.mu.Lock()
	q.closed = true
	q.mu.Unlock()
	q.more.Broadcast()
}
