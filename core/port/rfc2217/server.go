package rfc2217

import (
	"net"
	"sync"

	"uparrot/core/uart"
)

// Session is the server's side of one connection: what the module sees of it.
// Bytes that the client sends are read from it and what is written goes to the
// client; the client's settings and signal lines can be looked at.
type Session struct {
	conn    net.Conn
	decoder Decoder
	ready   []byte

	write sync.Mutex

	mu     sync.Mutex
	line   uart.Line
	set    bool // the client has set the speed
	flow   byte
	dtr    bool
	rts    bool
	brk    bool
	inputs byte // modem state, the upper half
	mask   byte // of modem states that the client wants to hear of

	// Signals is told when DTR, RTS or break has changed; may be nil. It is
	// called while the session reads.
	Signals func(dtr, rts, brk bool)
}

// NewSession begins a session on a connection, with the settings that hold
// until the client sets its own.
func NewSession(conn net.Conn, line uart.Line) (*Session, error) {
	s := &Session{conn: conn, line: line, flow: FlowNone, dtr: true, rts: true, inputs: CTS | DSR | DCD, mask: 255}
	var hello []byte
	for _, n := range [][2]byte{{Do, ComPort}, {Will, Binary}, {Do, Binary}, {Will, GoAhead}, {Do, GoAhead}} {
		hello = append(hello, Negotiate(n[0], n[1])...)
	}
	return s, s.send(hello)
}

func (s *Session) send(b []byte) error {
	s.write.Lock()
	defer s.write.Unlock()
	_, err := s.conn.Write(b)
	return err
}

// Read reads what the client sends to the module.
func (s *Session) Read(b []byte) (int, error) {
	buf := make([]byte, 4096)
	for len(s.ready) == 0 {
		n, err := s.conn.Read(buf)
		s.ready = s.decoder.Decode(s.ready[:0], buf[:n], s.option, s.command)
		if err != nil {
			return 0, err
		}
	}
	n := copy(b, s.ready)
	s.ready = s.ready[n:]
	return n, nil
}

// Write sends what the module says to the client.
func (s *Session) Write(b []byte) (int, error) {
	if err := s.send(Escape(b)); err != nil {
		return 0, err
	}
	return len(b), nil
}

// Close ends the connection.
func (s *Session) Close() error { return s.conn.Close() }

// HostLine is the speed and frame that the client has set, false until it has.
func (s *Session) HostLine() (uart.Line, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.line, s.set
}

// SetInputs sets the incoming signal lines as the client sees them: CTS, DSR,
// RI and DCD or-ed. A change that the client wants to hear of is told to it.
func (s *Session) SetInputs(state byte) error {
	s.mu.Lock()
	changed := state ^ s.inputs
	s.inputs = state
	tell := changed&s.mask != 0
	s.mu.Unlock()
	if !tell {
		return nil
	}
	return s.send(Sub(NotifyModemState+Reply, state|changed>>4))
}

// option answers a negotiation: the options of NewSession are agreed to without
// a word, all others refused.
func (s *Session) option(command, option byte) {
	known := option == ComPort || option == Binary || option == GoAhead
	switch {
	case command == Do && !known:
		_ = s.send(Negotiate(Wont, option)) // a connection that has gone shows at the next Read
	case command == Will && !known:
		_ = s.send(Negotiate(Dont, option))
	case command == Will && option == ComPort:
		s.mu.Lock()
		state := s.inputs
		s.mu.Unlock()
		_ = s.send(Sub(NotifyModemState+Reply, state))
	}
}

// command obeys a command of the client and confirms it with the value in force.
func (s *Session) command(command byte, value []byte) {
	s.mu.Lock()
	reply := s.obey(command, value)
	signals, dtr, rts, brk := s.Signals, s.dtr, s.rts, s.brk
	s.mu.Unlock()
	if command == SetControl && signals != nil {
		signals(dtr, rts, brk)
	}
	if reply != nil {
		_ = s.send(reply)
	}
}

func (s *Session) obey(command byte, value []byte) []byte {
	one := func() byte {
		if len(value) == 0 {
			return 0
		}
		return value[0]
	}
	switch command {
	case Signature:
		if len(value) == 0 {
			return Sub(Signature+Reply, []byte("simulated port")...)
		}
	case SetBaudRate, SetDataSize, SetParity, SetStopSize:
		if Apply(&s.line, command, value) {
			s.set = s.set || command == SetBaudRate
			return Sub(command+Reply, Value(s.line, command)...)
		}
	case SetControl:
		return Sub(SetControl+Reply, s.control(one()))
	case SetLineStateMask:
		return Sub(SetLineStateMask+Reply, one())
	case SetModemStateMask:
		s.mask = one()
		return Sub(SetModemStateMask+Reply, s.mask)
	case PurgeData:
		return Sub(PurgeData+Reply, one())
	}
	return nil
}

// control obeys a value of SetControl and returns the one in force.
func (s *Session) control(v byte) byte {
	onOff := func(on bool, yes, no byte) byte {
		if on {
			return yes
		}
		return no
	}
	switch v {
	case FlowNone, FlowXonXoff, FlowHardware:
		s.flow = v
	case BreakOn, BreakOff:
		s.brk = v == BreakOn
	case DTROn, DTROff:
		s.dtr = v == DTROn
	case RTSOn, RTSOff:
		s.rts = v == RTSOn
	}
	switch {
	case v <= FlowHardware:
		return s.flow
	case v <= BreakOff:
		return onOff(s.brk, BreakOn, BreakOff)
	case v <= DTROff:
		return onOff(s.dtr, DTROn, DTROff)
	case v <= RTSOff:
		return onOff(s.rts, RTSOn, RTSOff)
	}
	return v
}
