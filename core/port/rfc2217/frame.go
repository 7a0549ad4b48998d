package rfc2217

import (
	"encoding/binary"

	"uparrot/core/uart"
)

// parities and stops are the values of RFC 2217 in its own order, from 1 on.
var (
	parities = []uart.Parity{uart.None, uart.Odd, uart.Even, uart.Mark, uart.Space}
	stops    = []int{2, 4, 3} // in half bits: 1, 2 and 1.5 stop bits
)

// LineCommands are the subnegotiations that set a line.
func LineCommands(l uart.Line) [][]byte {
	f := l.Frame.Filled()
	speed := binary.BigEndian.AppendUint32(nil, uint32(l.Speed))
	return [][]byte{
		Sub(SetBaudRate, speed...),
		Sub(SetDataSize, byte(f.DataBits)),
		Sub(SetParity, byte(index(parities, f.Parity)+1)),
		Sub(SetStopSize, byte(index(stops, f.Stop)+1)),
	}
}

func index[T comparable](list []T, v T) int {
	for i, one := range list {
		if one == v {
			return i
		}
	}
	return 0
}

// Apply changes a line as a command says and reports whether the command is
// about the line and its value makes sense. A value of zero asks only.
func Apply(l *uart.Line, command byte, value []byte) bool {
	l.Frame = l.Frame.Filled()
	switch command {
	case SetBaudRate:
		if len(value) != 4 {
			return false
		}
		if n := binary.BigEndian.Uint32(value); n >= uart.MinSpeed && n <= uart.MaxSpeed {
			l.Speed = int(n)
		}
		return true
	case SetDataSize, SetParity, SetStopSize:
		if len(value) != 1 {
			return false
		}
	default:
		return false
	}
	v := int(value[0])
	switch {
	case v == 0:
	case command == SetDataSize && v >= 5 && v <= 8:
		l.Frame.DataBits = v
	case command == SetParity && v <= len(parities):
		l.Frame.Parity = parities[v-1]
	case command == SetStopSize && v <= len(stops):
		l.Frame.Stop = stops[v-1]
	}
	return true
}

// Value is what a line has for a command: the value that a reply carries.
func Value(l uart.Line, command byte) []byte {
	f := l.Frame.Filled()
	switch command {
	case SetBaudRate:
		return binary.BigEndian.AppendUint32(nil, uint32(l.Speed))
	case SetDataSize:
		return []byte{byte(f.DataBits)}
	case SetParity:
		return []byte{byte(index(parities, f.Parity) + 1)}
	}
	return []byte{byte(index(stops, f.Stop) + 1)}
}
