package port

import (
	"context"
	"net"
	"sync"
	"time"

	"uparrot/core/port/rfc2217"
	"uparrot/core/uart"
)

// telnetPort is a connection in the language of Telnet: a serial server in that mode, or a login service. Its
// server may echo and suppress go ahead (RFC 857 and 858); any other option is refused (RFC 855), so that the
// line ends are those of the network virtual terminal (RFC 854): CR stands before LF or NUL.
type telnetPort struct {
	netPort
	telnet *telnetConn
}

func openTelnet(name string, conn net.Conn, line uart.Line) Port {
	c := &telnetConn{Conn: conn}
	return &telnetPort{netPort{name: name, conn: c, line: line}, c}
}

// SetLine cannot be done.
func (p *telnetPort) SetLine(uart.Line) error { return p.lacks("set the line") }

// Signal cannot be done.
func (p *telnetPort) Signal(uart.Signal, bool) error { return p.lacks("set a signal line") }

// Inputs are not known.
func (p *telnetPort) Inputs() (Inputs, error) { return Inputs{}, p.lacks("read the signal lines") }

// SetFlow cannot be done.
func (p *telnetPort) SetFlow(uart.Flow) error { return p.lacks("set flow control") }

// Break asks the server for a break, whose length is the server's (BRK of RFC 854).
func (p *telnetPort) Break(time.Duration) error {
	if err := p.telnet.send([]byte{rfc2217.IAC, rfc2217.Brk}); err != nil {
		return p.fail("break", err)
	}
	return nil
}

// telnetConn takes the language of Telnet off a connection. Read is called from one place at a time.
type telnetConn struct {
	net.Conn
	decoder rfc2217.Decoder
	cr      bool // the last byte of data was CR
	held    []byte

	sending sync.Mutex
	theirs  [256]bool // options that the server has on
	ours    [256]bool // ... that are on here
}

// send writes a whole sequence.
func (c *telnetConn) send(b []byte) error {
	c.sending.Lock()
	defer c.sending.Unlock()
	_, err := c.Conn.Write(b)
	return err
}

// option answers a negotiation, where it changes anything: answers to answers would never end.
func (c *telnetConn) option(command, option byte) {
	answer := func(is *bool, on bool, agree, refuse byte, may bool) {
		switch {
		case on && !may:
			_ = c.send(rfc2217.Negotiate(refuse, option)) // a lost connection shows at the next read
		case on != *is:
			*is = on
			_ = c.send(rfc2217.Negotiate(map[bool]byte{true: agree, false: refuse}[on], option))
		}
	}
	switch command {
	case rfc2217.Will, rfc2217.Wont:
		answer(&c.theirs[option], command == rfc2217.Will, rfc2217.Do, rfc2217.Dont, option == rfc2217.Echo || option == rfc2217.GoAhead)
	case rfc2217.Do, rfc2217.Dont:
		answer(&c.ours[option], command == rfc2217.Do, rfc2217.Will, rfc2217.Wont, option == rfc2217.GoAhead)
	}
}

// Read reads data.
func (c *telnetConn) Read(b []byte) (int, error) {
	buf := make([]byte, 4096)
	for len(c.held) == 0 {
		n, err := c.Conn.Read(buf)
		for _, one := range c.decoder.Decode(nil, buf[:n], c.option, func(byte, []byte) {}) {
			if after := c.cr; !after || one != 0 {
				c.held = append(c.held, one)
			}
			c.cr = one == '\r'
		}
		if err != nil && len(c.held) == 0 {
			return 0, err
		}
	}
	n := copy(b, c.held)
	c.held = c.held[n:]
	return n, nil
}

// Write writes data: a CR that no LF follows has a NUL behind it.
func (c *telnetConn) Write(b []byte) (int, error) {
	var out []byte
	for i, one := range b {
		switch out = append(out, one); {
		case one == rfc2217.IAC:
			out = append(out, rfc2217.IAC)
		case one == '\r' && (i+1 == len(b) || b[i+1] != '\n'):
			out = append(out, 0)
		}
	}
	if err := c.send(out); err != nil {
		return 0, err
	}
	return len(b), nil
}

// dialTelnet opens such a port.
func dialTelnet(ctx context.Context, name string, a Address, line uart.Line) (Port, error) {
	conn, err := (&net.Dialer{Timeout: dialTime}).DialContext(ctx, "tcp", a.Where)
	if err != nil {
		return nil, dialError(ctx, name, err)
	}
	return openTelnet(name, conn, line), nil
}
