package port

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"uparrot/core/port/rfc2217"
	"uparrot/core/text"
	"uparrot/core/uart"
)

// remotePort is a serial port on a server that speaks RFC 2217.
type remotePort struct {
	name string
	conn net.Conn
	in   *queue // what has come from the module

	sending sync.Mutex
	end     ending

	mu      sync.Mutex
	line    uart.Line
	inputs  byte            // modem state
	knows   bool            // ... has been told
	tells   bool            // errors on the line are told
	breaks  int             // how much of a break the server has confirmed: its beginning, its end
	sparing []string        // what the server does not do, in words
	mum     bool            // ... was waited for in vain
	counts  Counters        // from line states
	replies map[byte][]byte // the latest reply to each command, by the command
	refused bool            // the server does not know the option
	changed chan struct{}   // closed when any of this changes
}

// mostHeld is how many bytes from the module are held that nobody has read yet. Then
// the server has to wait.
const mostHeld = 1 << 20

// replyTime is how long a server may take to confirm a setting.
const replyTime = 3 * time.Second

// openRFC2217 agrees with a server on the option and sets the line.
func openRFC2217(name string, conn net.Conn, line uart.Line) (Port, error) {
	p := &remotePort{name: name, conn: conn, in: newQueue(), line: line, replies: map[byte][]byte{}, changed: make(chan struct{})}
	p.in.most = mostHeld
	go p.pump()
	var hello []byte
	for _, n := range [][2]byte{{rfc2217.Will, rfc2217.ComPort}, {rfc2217.Will, rfc2217.Binary}, {rfc2217.Do, rfc2217.Binary}, {rfc2217.Will, rfc2217.GoAhead}, {rfc2217.Do, rfc2217.GoAhead}} {
		hello = append(hello, rfc2217.Negotiate(n[0], n[1])...)
	}
	err := p.send(hello)
	if err == nil {
		err = p.SetLine(line)
	}
	if err == nil {
		// Hear of errors on the line and of every change of the signal lines. Some
		// servers confirm that with the states themselves, and some not at all: that is
		// no reason to do without the port.
		err = p.send(append(rfc2217.Sub(rfc2217.SetLineStateMask, rfc2217.Overrun|rfc2217.Parity|rfc2217.Framing), rfc2217.Sub(rfc2217.SetModemStateMask, 255)...))
	}
	if err == nil {
		p.awaitStates()
	}
	if err != nil {
		err = p.farewell(err)
		p.Close()
		return nil, err
	}
	return p, nil
}

// awaitStates waits a moment for the server to confirm that it tells the states, or to
// tell them, and notes what it does not.
func (p *remotePort) awaitStates() {
	timer := time.NewTimer(statesTime)
	defer timer.Stop()
	for late := false; ; {
		p.mu.Lock()
		_, lineMask := p.replies[rfc2217.SetLineStateMask]
		_, modemMask := p.replies[rfc2217.SetModemStateMask]
		errors, signals, changed := lineMask || p.tells, modemMask || p.knows, p.changed
		if late && !errors {
			p.sparing = append(p.sparing, "does not say that it tells of errors on the line: that none are counted here proves nothing")
		}
		if late && !signals {
			p.sparing = append(p.sparing, "does not tell the state of the signal lines")
		}
		p.mu.Unlock()
		if late || errors && signals || p.in.ended() {
			return
		}
		select {
		case <-changed:
		case <-timer.C:
			late = true
		}
	}
}

// statesTime is how long opening waits for what is optional.
const statesTime = 300 * time.Millisecond

// Lacks is what the server does not do, in words.
func (p *remotePort) Lacks() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	var all []string
	for _, what := range p.sparing {
		all = append(all, "the server "+what)
	}
	return all
}

// farewell is an error of opening with what the server said before it closed the
// connection, if it did.
func (p *remotePort) farewell(err error) error {
	if KindOf(err) != Vanished {
		return err
	}
	for timer := time.NewTimer(inputsTime); !p.in.ended(); {
		p.mu.Lock()
		changed := p.changed
		p.mu.Unlock()
		select {
		case <-changed:
		case <-timer.C:
			return err
		}
	}
	said := strings.TrimSpace(string(p.in.rest()))
	if said == "" {
		return err
	}
	return &Error{Port: p.name, Op: "open", Kind: Vanished, Why: fmt.Sprintf("the server closed the connection and said: %s", text.Line(said)), Err: err}
}

// pump takes the stream from the server apart.
func (p *remotePort) pump() {
	var d rfc2217.Decoder
	var data []byte
	buf := make([]byte, 4096)
	for {
		n, err := p.conn.Read(buf)
		data = d.Decode(data[:0], buf[:n], p.option, p.told)
		if len(data) > 0 {
			if _, err := p.in.write(data); err != nil {
				return
			}
		}
		if err != nil {
			p.in.close()
			p.change(func() {})
			return
		}
	}
}

// change changes the state and wakes whoever waits for that.
func (p *remotePort) change(do func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	do()
	close(p.changed)
	p.changed = make(chan struct{})
}

func (p *remotePort) option(command, option byte) {
	switch {
	case option == rfc2217.ComPort && command == rfc2217.Dont:
		p.change(func() { p.refused = true })
	case option == rfc2217.ComPort || option == rfc2217.Binary || option == rfc2217.GoAhead:
	case command == rfc2217.Do:
		_ = p.send(rfc2217.Negotiate(rfc2217.Wont, option)) // a lost connection shows at the next call
	case command == rfc2217.Will:
		_ = p.send(rfc2217.Negotiate(rfc2217.Dont, option))
	}
}

// told takes in what the server says about the port.
func (p *remotePort) told(command byte, value []byte) {
	if command < rfc2217.Reply {
		return
	}
	command -= rfc2217.Reply
	p.change(func() {
		switch {
		case command == rfc2217.NotifyModemState && len(value) == 1:
			p.inputs, p.knows = value[0], true
		case command == rfc2217.NotifyLineState && len(value) == 1:
			p.counts.add(value[0])
			p.tells = true
		case command == rfc2217.SetControl && len(value) == 1 && (value[0] == rfc2217.BreakOn && p.breaks == 0 || value[0] == rfc2217.BreakOff && p.breaks == 1):
			p.breaks++
		default:
			p.replies[command] = append([]byte{}, value...)
		}
	})
}

// add counts the errors of one line state.
func (c *Counters) add(state byte) {
	if state&rfc2217.Framing != 0 {
		c.Frame++
	}
	if state&rfc2217.Parity != 0 {
		c.Parity++
	}
	if state&rfc2217.Overrun != 0 {
		c.Overrun++
	}
}

func (p *remotePort) send(b []byte) error {
	p.sending.Lock()
	defer p.sending.Unlock()
	if _, err := p.conn.Write(b); err != nil {
		return p.fail("write", err)
	}
	return nil
}

// request sends a command and waits for the server to confirm it.
func (p *remotePort) request(op string, command byte, value ...byte) ([]byte, error) {
	return p.confirm(op, command, rfc2217.Sub(command, value...), nil)
}

// confirm sends a message and waits for the server to confirm its command: with just
// this reply, unless that is nil. Another reply may be a late one to what was asked
// before.
func (p *remotePort) confirm(op string, command byte, message, wanted []byte) ([]byte, error) {
	p.mu.Lock()
	delete(p.replies, command)
	p.mu.Unlock()
	if err := p.send(message); err != nil {
		return nil, err
	}
	timer := time.NewTimer(replyTime)
	defer timer.Stop()
	for {
		p.mu.Lock()
		reply, ok := p.replies[command]
		refused, changed := p.refused, p.changed
		p.mu.Unlock()
		switch {
		case ok && (wanted == nil || bytes.Equal(reply, wanted)):
			return reply, nil
		case refused:
			return nil, &Error{Port: p.name, Op: op, Kind: Unsupported, Why: "the server does not speak RFC 2217", Mend: "Use telnet:// where it speaks Telnet, else tcp://, and set the line at the server."}
		case p.in.ended():
			return nil, p.fail(op, nil)
		}
		select {
		case <-changed:
		case <-timer.C:
			if ok {
				return nil, &Error{Port: p.name, Op: op, Kind: Unsupported, Why: "the server did not do it"}
			}
			return nil, &Error{Port: p.name, Op: op, Kind: Unsupported, Why: fmt.Sprintf("the server did not confirm it within %v", replyTime), Mend: "It may not speak RFC 2217: then use telnet:// where it speaks Telnet, else tcp://."}
		}
	}
}

func (p *remotePort) Name() string { return p.name }

func (p *remotePort) Line() uart.Line {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.line
}

func (p *remotePort) SetLine(l uart.Line) error {
	if err := validLine(p.name, l); err != nil {
		return err
	}
	got := l
	for i, m := range rfc2217.LineCommands(l) {
		command := byte(rfc2217.SetBaudRate + i)
		reply, err := p.confirm("set the line to "+l.String(), command, m, nil)
		if err != nil {
			return err
		}
		rfc2217.Apply(&got, command, reply)
	}
	if got.Speed != l.Speed || got.Frame.Filled() != l.Frame.Filled() {
		return &Error{Port: p.name, Op: "set the line to " + l.String(), Kind: Unsupported, Why: "the server keeps it at " + got.String()}
	}
	p.mu.Lock()
	p.line = l
	p.mu.Unlock()
	return nil
}

// control sets something with SetControl and checks that the server has done it.
func (p *remotePort) control(op string, v byte) error {
	_, err := p.confirm(op, rfc2217.SetControl, rfc2217.Sub(rfc2217.SetControl, v), []byte{v})
	return err
}

func (p *remotePort) SetFlow(f uart.Flow) error {
	return p.control("set flow control "+f.String(), map[uart.Flow]byte{uart.NoFlow: rfc2217.FlowNone, uart.RTSCTS: rfc2217.FlowHardware, uart.XonXoff: rfc2217.FlowXonXoff}[f])
}

func (p *remotePort) Signal(line uart.Signal, on bool) error {
	v := map[uart.Signal][2]byte{uart.DTR: {rfc2217.DTROff, rfc2217.DTROn}, uart.RTS: {rfc2217.RTSOff, rfc2217.RTSOn}}[line]
	if on {
		return p.control("set "+line.String(), v[1])
	}
	return p.control("set "+line.String(), v[0])
}

// inputsTime is how long a server may take to tell the state of the signal lines
// for the first time, or to close what it has ended.
const inputsTime = 500 * time.Millisecond

func (p *remotePort) Inputs() (Inputs, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for timer := time.NewTimer(inputsTime); !p.knows; {
		changed, late := p.changed, p.mum || p.in.ended()
		p.mu.Unlock()
		if !late {
			select {
			case <-changed:
			case <-timer.C:
				late = true
			}
		}
		p.mu.Lock()
		if late && !p.knows {
			p.mum = true
			return Inputs{}, &Error{Port: p.name, Op: "read the signal lines", Kind: Unsupported, Why: "the server has not told their state"}
		}
	}
	s := p.inputs
	return Inputs{CTS: s&rfc2217.CTS != 0, DSR: s&rfc2217.DSR != 0, DCD: s&rfc2217.DCD != 0, RI: s&rfc2217.RI != 0}, nil
}

func (p *remotePort) Counters() (Counters, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.counts, nil
}

// Break ends the break in any case: a line left in it would carry nothing. A break that
// the server has not confirmed is of kind Unconfirmed; the port goes on.
func (p *remotePort) Break(d time.Duration) error {
	p.mu.Lock()
	p.breaks = 0
	p.mu.Unlock()
	if err := p.send(rfc2217.Sub(rfc2217.SetControl, rfc2217.BreakOn)); err != nil {
		return err
	}
	time.Sleep(d)
	if err := p.send(rfc2217.Sub(rfc2217.SetControl, rfc2217.BreakOff)); err != nil {
		return err
	}
	timer := time.NewTimer(replyTime)
	defer timer.Stop()
	for {
		p.mu.Lock()
		confirmed, changed := p.breaks == 2, p.changed
		p.mu.Unlock()
		switch {
		case confirmed:
			return nil
		case p.in.ended():
			return p.fail("send a break", nil)
		}
		select {
		case <-changed:
		case <-timer.C:
			return &Error{Port: p.name, Op: "send a break", Kind: Unconfirmed, Why: "the server did not confirm it: it may have been sent or not"}
		}
	}
}

// Purge has the server empty both its buffers, and empties our own.
func (p *remotePort) Purge() error {
	const both = 3
	if _, err := p.request("purge", rfc2217.PurgeData, both); err != nil {
		return err
	}
	p.in.empty()
	return nil
}

// Drain has nothing to wait for: TCP keeps the order of bytes and commands.
func (p *remotePort) Drain() error { return nil }

func (p *remotePort) Read(b []byte) (int, error) {
	n, err := p.in.read(b)
	if err != nil {
		return n, p.fail("read", err)
	}
	return n, nil
}

func (p *remotePort) Write(ctx context.Context, b []byte) (int, error) {
	stop := context.AfterFunc(ctx, func() { _ = p.conn.SetWriteDeadline(time.Now()) })
	err := p.send(rfc2217.Escape(b))
	switch {
	case err == nil:
		stop()
		return len(b), nil
	case stop():
		return 0, err
	}
	return 0, context.Cause(ctx)
}

func (p *remotePort) fail(op string, err error) error { return p.end.fail(p.name, op, err) }

func (p *remotePort) Close() error {
	err := p.end.close(p.name, p.conn)
	p.in.close()
	return err
}
