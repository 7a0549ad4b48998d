package port

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"syscall"
	"time"

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
		return openSerial(name, line)
	}
	if err := validLine(name, line); err != nil {
		return nil, err
	}
	switch a.Scheme {
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
	case TCPListen:
		ln, err := new(net.ListenConfig).Listen(ctx, "tcp", a.Where)
		if err != nil {
			return nil, dialError(ctx, name, err)
		}
		return &netPort{name: name, conn: &tcpListener{Listener: ln, came: make(chan struct{}, 1)}, line: line}, nil
	case UDP, UDPListen:
		conn, err := openUDP(ctx, a.Where, a.Scheme == UDPListen)
		if err != nil {
			return nil, dialError(ctx, name, err)
		}
		return &netPort{name: name, conn: conn, line: line, datagrams: true}, nil
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
	case errors.Is(err, syscall.ECONNREFUSED):
		e.Why, e.Mend = "nothing listens there", "Check the port number, and that the server runs and serves nobody else."
	case dns != nil:
		e.Why, e.Mend = "the host's name is not known", "Check the spelling, or give its number."
	case errors.Is(err, os.ErrDeadlineExceeded):
		e.Why, e.Mend = fmt.Sprintf("there was no answer within %v", dialTime), "Check the address and the network between."
	case errors.Is(err, syscall.EADDRINUSE):
		e.Kind, e.Why, e.Mend = Held, "another program listens there", "End that program, or choose another port number."
	}
	return e
}

// netPort is bytes over a connection, without line settings or signal lines.
type netPort struct {
	name string
	conn io.ReadWriteCloser
	line uart.Line

	datagrams bool

	end ending
}

// Datagrams reports whether each Read brings one message of its own.
func (p *netPort) Datagrams() bool { return p.datagrams }

func (p *netPort) Name() string    { return p.name }
func (p *netPort) Line() uart.Line { return p.line }

func (p *netPort) lacks(op string) error {
	return &Error{Port: p.name, Op: op, Kind: Unsupported, Why: "a plain connection has no line settings and no signal lines", Mend: "Set them at the server, or use rfc2217:// if it speaks that."}
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
	stop := context.AfterFunc(ctx, func() {
		if c, ok := p.conn.(net.Conn); ok {
			_ = c.SetWriteDeadline(time.Now()) // a closed connection needs none
		}
	})
	n, err := p.conn.Write(b)
	if stop() && err != nil {
		if errors.Is(err, errNobody) {
			return n, &Error{Port: p.name, Op: "write", Why: err.Error()}
		}
		return n, p.fail("write", err)
	}
	if err != nil {
		return n, context.Cause(ctx)
	}
	return n, nil
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

// udpConn speaks with one peer: the one it was told, and hears nobody else, or whoever
// has spoken to it last.
type udpConn struct {
	*net.UDPConn
	listens bool

	mu   sync.Mutex
	peer *net.UDPAddr // nil until somebody has spoken
}

// openUDP opens a socket that listens at HOST:PORT, or one that speaks to it.
func openUDP(ctx context.Context, where string, listens bool) (*udpConn, error) {
	if listens {
		conn, err := new(net.ListenConfig).ListenPacket(ctx, "udp", where)
		if err != nil {
			return nil, err
		}
		return &udpConn{UDPConn: conn.(*net.UDPConn), listens: true}, nil
	}
	// Connected, so that the system binds to the one address that is needed and hands
	// over nothing from others.
	conn, err := (&net.Dialer{Timeout: dialTime}).DialContext(ctx, "udp", where)
	if err != nil {
		return nil, err
	}
	return &udpConn{UDPConn: conn.(*net.UDPConn)}, nil
}

func (c *udpConn) Read(b []byte) (int, error) {
	for !c.listens {
		n, err := c.UDPConn.Read(b)
		if !errors.Is(err, syscall.ECONNREFUSED) { // nobody is there yet
			return n, err
		}
	}
	n, from, err := c.ReadFromUDP(b)
	if err == nil {
		c.mu.Lock()
		c.peer = from
		c.mu.Unlock()
	}
	return n, err
}

func (c *udpConn) Write(b []byte) (int, error) {
	if !c.listens {
		n, err := c.UDPConn.Write(b)
		if errors.Is(err, syscall.ECONNREFUSED) { // about the one before: this one has gone out or not, as UDP has it
			n, err = c.UDPConn.Write(b)
		}
		return n, err
	}
	c.mu.Lock()
	peer := c.peer
	c.mu.Unlock()
	if peer == nil {
		return 0, errNobody
	}
	return c.WriteToUDP(b, peer)
}
