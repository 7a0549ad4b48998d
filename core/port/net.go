package port

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"time"

	"uparrot/core/syserr"
	"uparrot/core/uart"
)

// dialTime is how long a connection may take to come about.
const dialTime = 5 * time.Second

// Open opens the port at an address and sets its line, unless ctx is done first. One
// that is picked by what is known of its adapter must have been found in the list of
// ports first.
func Open(ctx context.Context, a Address, line uart.Line) (Port, error) {
	name := a.String()
	if a.Scheme == Device {
		served, err := servedAt(a.Where)
		switch {
		case err != nil:
			return nil, err
		case served == nil:
			return openSerial(name, line)
		}
		a = *served
	}
	if err := validLine(name, line); err != nil {
		return nil, err
	}
	switch a.Scheme {
	case Telnet:
		return dialTelnet(ctx, name, a, line)
	case TCP, RFC2217:
		conn, err := (&net.Dialer{Timeout: dialTime}).DialContext(ctx, "tcp", a.Where)
		if err != nil {
			return nil, dialError(ctx, name, err)
		}
		if a.Scheme == TCP {
			return &netPort{name: name, conn: conn, line: line}, nil
		}
		stop := context.AfterFunc(ctx, func() { _ = conn.Close() }) // whoever waits for the server is told
		p, err := openRFC2217(name, conn, line)
		if !stop() {
			return nil, context.Cause(ctx)
		}
		return p, err
	case TCPListen, UDPListen:
		callers, err := newCallers(ctx, a.From)
		var conn io.ReadWriteCloser
		if err == nil {
			conn, err = callers.listen(ctx, a)
		}
		if err != nil {
			return nil, dialError(ctx, name, err)
		}
		return &netPort{name: name, conn: conn, line: line, datagrams: a.Scheme == UDPListen, callers: callers}, nil
	case UDP:
		// Connected, so that the system binds to the one address that is needed and
		// hands over nothing from others.
		conn, err := (&net.Dialer{Timeout: dialTime}).DialContext(ctx, "udp", a.Where)
		if err != nil {
			return nil, dialError(ctx, name, err)
		}
		return &netPort{name: name, conn: &udpConn{conn.(*net.UDPConn)}, line: line, datagrams: true}, nil
	}
	return nil, &Error{Port: name, Op: "open", Kind: Missing, Why: "it was not looked for in the list of ports"}
}

func dialError(ctx context.Context, address string, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	e := &Error{Port: address, Op: "open", Kind: Missing, Err: err, Why: "the host cannot be reached"}
	dns, _ := errors.AsType[*net.DNSError](err)
	switch {
	case syserr.Is(err, syserr.Refused):
		e.Why, e.Mend = "nothing listens there", "Check the port number, and that the server runs and serves nobody else."
	case dns != nil:
		e.Why, e.Mend = "the host's name is not known", "Check the spelling, or give its number."
	case errors.Is(err, os.ErrDeadlineExceeded):
		e.Why, e.Mend = fmt.Sprintf("there was no answer within %v", dialTime), "Check the address and the network between."
	case syserr.Is(err, syserr.InUse):
		e.Kind, e.Why, e.Mend = Held, "another program listens there", "End that program, or choose another port number."
	}
	return e
}

// netPort is bytes over a connection, without line settings or signal lines.
type netPort struct {
	name string
	conn io.ReadWriteCloser // a tcpListener is written to through its client
	line uart.Line

	datagrams bool
	callers   *callers // nil where nobody comes unasked

	end ending
}

// OnCaller has f told who comes to a port that listens; see [Listening].
func (p *netPort) OnCaller(f func(Caller)) {
	if p.callers != nil {
		p.callers.onCaller(f)
	}
}

// Datagrams reports whether each Read brings one message of its own.
func (p *netPort) Datagrams() bool { return p.datagrams }

func (p *netPort) Name() string    { return p.name }
func (p *netPort) Line() uart.Line { return p.line }

func (p *netPort) lacks(op string) error {
	return &Error{Port: p.name, Op: op, Kind: Unsupported, Why: "a plain connection has no line settings and no signal lines", Mend: "Set them at the server, or use rfc2217:// if it speaks that. A server in Telnet mode is telnet://."}
}

func (p *netPort) SetLine(uart.Line) error { return p.lacks("set the line") }
func (p *netPort) Purge() error            { return nil }
func (p *netPort) Drain() error            { return nil }

func (p *netPort) Read(b []byte) (int, error) {
	n, err := p.conn.Read(b)
	if err != nil {
		return n, p.fail("read", err)
	}
	return n, nil
}

func (p *netPort) Write(ctx context.Context, b []byte) (int, error) {
	to := p.conn
	if l, ok := to.(*tcpListener); ok {
		client, err := l.wait(ctx)
		if ctx.Err() != nil {
			return 0, context.Cause(ctx)
		}
		if err != nil {
			return 0, p.unheard(err)
		}
		to = client
	}
	stop := context.AfterFunc(ctx, func() {
		if c, ok := to.(interface{ SetWriteDeadline(time.Time) error }); ok {
			_ = c.SetWriteDeadline(time.Now()) // a closed connection needs none
		}
	})
	n, err := to.Write(b)
	if stop() && err != nil {
		return n, p.unheard(err)
	}
	if err != nil {
		return n, context.Cause(ctx)
	}
	return n, nil
}

// unheard is why something could not be written.
func (p *netPort) unheard(err error) error {
	if errors.Is(err, errNobody) {
		return &Error{Port: p.name, Op: "write", Why: err.Error()}
	}
	return p.fail("write", err)
}

func (p *netPort) fail(op string, err error) error { return p.end.fail(p.name, op, err) }

func (p *netPort) Close() error { return p.end.close(p.name, p.conn) }

// ending tells a connection that this program closed from one that ended.
type ending struct {
	mu     sync.Mutex
	closed bool
}

func (e *ending) fail(name, op string, err error) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.closed {
		return &Error{Port: name, Op: op, Kind: Closed, Why: "the port was closed", Err: err}
	}
	return &Error{Port: name, Op: op, Kind: Vanished, Why: "the other side ended the connection", Err: err}
}

// close closes a connection, once.
func (e *ending) close(name string, conn io.Closer) error {
	e.mu.Lock()
	was := e.closed
	e.closed = true
	e.mu.Unlock()
	if was {
		return nil
	}
	if err := conn.Close(); err != nil {
		return &Error{Port: name, Op: "close", Err: err}
	}
	return nil
}

// udpConn speaks with one peer, and hears nobody else.
type udpConn struct{ *net.UDPConn }

func (c *udpConn) Read(b []byte) (int, error) {
	for {
		n, err := c.UDPConn.Read(b)
		if !syserr.Is(err, syserr.Unheard) { // nobody is there yet
			return n, err
		}
	}
}

func (c *udpConn) Write(b []byte) (int, error) {
	n, err := c.UDPConn.Write(b)
	if syserr.Is(err, syserr.Unheard) { // about the one before: this one has gone out or not, as UDP has it
		n, err = c.UDPConn.Write(b)
	}
	return n, err
}
