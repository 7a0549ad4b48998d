package frame

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/phrasebook"
)

// Carriage is how frames travel through a port: through the module's carrier as
// text, as they are in binary, or as lines of text where the line does not take all
// bytes. What a frame costs on the wire is worked out here and nowhere else.
type Carriage struct {
	Carrier *phrasebook.Carrier // nil: frames go without one
	Binary  bool                // as they are

	setup phrasebook.Setup
}

// PlainEnd ends a frame that goes as a line of text without a carrier.
const PlainEnd = "\n"

// Through is the carriage of a port that is set so, with the phrasebook of its
// module or nil.
func Through(setup phrasebook.Setup, book *phrasebook.Phrasebook) Carriage {
	c := Carriage{setup: setup}
	if book != nil {
		c.Carrier = book.Carrier
	}
	c.Binary = setup.Transparent(c.Carrier != nil)
	return c
}

// NotTransparent is why something cannot be done at a port of a name.
func NotTransparent(name string) error {
	return fmt.Errorf("%s does not take all values of a byte as they are: it needs 8 data bits, no XON/XOFF, and no carrier between", name)
}

// Least is the least size of a frame, in bytes.
func (c Carriage) Least() int {
	return c.setup.LeastFrame(c.Carrier != nil)
}

// Addressed reports whether the carrier wants the far end's address.
func (c Carriage) Addressed() bool {
	return c.Carrier != nil && strings.Contains(c.Carrier.Send, "{to}")
}

// Command is the words that send a payload to an address, without their line
// ending.
func (c Carriage) Command(to, payload string) (string, error) {
	if c.Carrier == nil {
		return payload, nil
	}
	return c.Carrier.SendSaid.Fill(func(name string) (string, error) {
		switch name {
		case "to":
			return to, nil
		case "length":
			return strconv.Itoa(len(payload)), nil
		}
		return payload, nil
	})
}

// Sent is how many bytes go out for a frame of a size to an address, line ending
// included.
func (c Carriage) Sent(size int, to string) int {
	if c.Binary {
		return Wire(size)
	}
	text, err := c.Command(to, strings.Repeat("x", size))
	if err != nil { // a filler that fails is none of ours
		return size
	}
	if c.Carrier == nil {
		return len(text) + len(PlainEnd)
	}
	return len(text) + len(c.setup.Ending.Bytes())
}

// ActsAfter is how many bytes of a frame's words the module must have to act on
// them: it does so at the first byte of the line ending.
func (c Carriage) ActsAfter(words string) int { return len(words) + 1 }

// Answered is how many bytes the sending module answers before it takes the next
// frame: of dialect AT the final result with its header and trailer (ITU-T V.250,
// 5.7.1). Of other dialects it is not known: 0.
func (c Carriage) Answered() int {
	if c.Carrier != nil && c.setup.Dialect == phrasebook.AT {
		return len(header + "OK" + header)
	}
	return 0
}

// header stands before and behind a result (ITU-T V.250, 5.7.1).
const header = "\r\n"

// Arrived is how many bytes come for a frame of a size, line ends included. Where
// the carrier tells the sender and the strength, these are taken to be as long as
// they mostly are.
func (c Carriage) Arrived(size int, from string) int {
	switch {
	case c.Binary:
		return Wire(size)
	case c.Carrier == nil:
		return size + len(PlainEnd)
	}
	n := len(c.Carrier.ArrivesPattern.Example(map[string]string{"payload": strings.Repeat("x", size), "strength": "-100", "snr": "10.0", "from": from})) + len(header)
	if c.setup.Dialect == phrasebook.AT {
		n += len(header)
	}
	return n
}

// Bytes has a dialog hand on what comes as it is, beside its trace.
func Bytes(c *dialog.Config, feed func(at time.Time, b []byte)) {
	c.Plainly(phrasebook.Bytes)
	c.OnNotice = nil
	trace := c.Trace
	c.Trace = func(t dialog.Trace) {
		if trace != nil {
			trace(t)
		}
		if t.Kind == dialog.Came {
			feed(t.Time, t.Bytes)
		}
	}
}
