package uart

import (
	"fmt"
	"strings"
)

// DefaultLine is used where nothing says otherwise: 115200 baud, 8N1.
var DefaultLine = Line{Speed: 115200}

// Flow is how one side tells the other to wait. The zero value is that nothing is
// said of it, which comes to NoFlow.
type Flow int

// The kinds of flow control.
const (
	FlowNotSaid Flow = iota
	NoFlow
	RTSCTS  // by the signal lines RTS and CTS
	XonXoff // by the characters XON and XOFF in the stream
)

// flowNames are the kinds as written.
var flowNames = []string{"none", "rtscts", "xonxoff"}

// parseFlow reads a kind of flow control.
func parseFlow(s string) (Flow, error) {
	for i, n := range flowNames {
		if n == s {
			return Flow(i + 1), nil
		}
	}
	return FlowNotSaid, fmt.Errorf("there is no flow control %q: there are %s", s, strings.Join(flowNames, ", "))
}

// String is the kind as written.
func (f Flow) String() string {
	if f == FlowNotSaid {
		f = NoFlow
	}
	return flowNames[f-1]
}

// UnmarshalText is ParseFlow; no text says nothing.
func (f *Flow) UnmarshalText(text []byte) (err error) {
	if *f = FlowNotSaid; len(text) > 0 {
		*f, err = parseFlow(string(text))
	}
	return err
}

// MarshalText is String.
func (f Flow) MarshalText() ([]byte, error) { return []byte(f.String()), nil }

// Signal is an outgoing signal line.
type Signal int

// The outgoing signal lines.
const (
	DTR Signal = iota // data terminal ready
	RTS               // request to send
)

// Signals are all of them.
var Signals = []Signal{DTR, RTS}

func (s Signal) String() string { return [...]string{"DTR", "RTS"}[s] }

// ParseSignal reads the name of an outgoing signal line, in small letters or
// capitals.
func ParseSignal(s string) (Signal, error) {
	for _, one := range Signals {
		if strings.EqualFold(one.String(), s) {
			return one, nil
		}
	}
	return 0, fmt.Errorf("there is no outgoing signal line %q: there are DTR and RTS", s)
}
