// Package rfc2217 is the Telnet Com Port Control Option: a serial port with its
// settings and signal lines over a TCP connection (RFC 2217, on RFC 854 and RFC
// 855). It holds the coding, which both sides share, and the server's side.
package rfc2217

import "bytes"

// Telnet commands (RFC 854) and options (RFC 856, 857, 858, 2217).
const (
	se   = 240
	sb   = 250
	Will = 251
	Wont = 252
	Do   = 253
	Dont = 254
	iac  = 255

	IAC = iac // begins each command
	Brk = 243 // break

	Binary  = 0
	Echo    = 1
	GoAhead = 3 // suppress go ahead
	ComPort = 44
)

// Commands from client to access server (RFC 2217, section 3). The server
// answers, and notifies, with the command plus Reply.
const (
	Signature         = 0
	SetBaudRate       = 1
	SetDataSize       = 2
	SetParity         = 3
	SetStopSize       = 4
	SetControl        = 5
	NotifyLineState   = 6
	NotifyModemState  = 7
	FlowSuspend       = 8
	FlowResume        = 9
	SetLineStateMask  = 10
	SetModemStateMask = 11
	PurgeData         = 12

	Reply = 100
)

// Values of SetControl.
const (
	AskFlow      = 0
	FlowNone     = 1
	FlowXonXoff  = 2
	FlowHardware = 3
	AskBreak     = 4
	BreakOn      = 5
	BreakOff     = 6
	AskDTR       = 7
	DTROn        = 8
	DTROff       = 9
	AskRTS       = 10
	RTSOn        = 11
	RTSOff       = 12
)

// Bits of the modem state.
const (
	CTS = 1 << 4
	DSR = 1 << 5
	RI  = 1 << 6
	DCD = 1 << 7
)

// Bits of the line state that tell of errors.
const (
	Overrun = 1 << 1
	Parity  = 1 << 2
	Framing = 1 << 3
)

// maxSub bounds a subnegotiation, whatever the other side sends.
const maxSub = 1024

// Decoder takes a Telnet stream apart. The zero value begins a stream.
type Decoder struct {
	state  int
	option byte // of a negotiation: the command
	sub    []byte
}

const (
	inData = iota
	afterIAC
	wantOption
	inSub
	inSubIAC
)

// Decode takes in the next bytes of a stream. It appends data to dst and returns
// it, and calls option for each negotiation (Will, Wont, Do, Dont) and sub for
// each subnegotiation of ComPort with its command and values.
func (d *Decoder) Decode(dst, b []byte, option func(command, option byte), sub func(command byte, value []byte)) []byte {
	for len(b) > 0 {
		if d.state == inData {
			i := bytes.IndexByte(b, iac)
			if i < 0 {
				return append(dst, b...)
			}
			dst = append(dst, b[:i]...)
			b = b[i+1:]
			d.state = afterIAC
			continue
		}
		c := b[0]
		b = b[1:]
		switch d.state {
		case afterIAC:
			switch c {
			case iac:
				dst = append(dst, iac)
				d.state = inData
			case Will, Wont, Do, Dont:
				d.option, d.state = c, wantOption
			case sb:
				d.sub, d.state = d.sub[:0], inSub
			default: // no operation and others that carry nothing
				d.state = inData
			}
		case wantOption:
			option(d.option, c)
			d.state = inData
		case inSub:
			if c == iac {
				d.state = inSubIAC
			} else if len(d.sub) < maxSub {
				d.sub = append(d.sub, c)
			}
		case inSubIAC:
			d.state = inSub
			switch c {
			case iac:
				if len(d.sub) < maxSub {
					d.sub = append(d.sub, iac)
				}
			case se:
				if len(d.sub) >= 2 && d.sub[0] == ComPort {
					sub(d.sub[1], d.sub[2:])
				}
				d.state = inData
			}
		}
	}
	return dst
}

// Escape doubles the bytes of data that Telnet would take for commands.
func Escape(b []byte) []byte {
	if bytes.IndexByte(b, iac) < 0 {
		return b
	}
	return bytes.ReplaceAll(b, []byte{iac}, []byte{iac, iac})
}

// Negotiate is one negotiation.
func Negotiate(command, option byte) []byte { return []byte{iac, command, option} }

// Sub is one subnegotiation of ComPort.
func Sub(command byte, value ...byte) []byte {
	b := []byte{iac, sb, ComPort, command}
	b = append(b, Escape(value)...)
	return append(b, iac, se)
}
