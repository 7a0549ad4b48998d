package port

import (
	"fmt"
	"net"
	"path/filepath"
	"strings"

	"uparrot/core/source"
)

// Scheme is the kind of an address.
type Scheme int

// The kinds of address. From TCP on the port is in the network.
const (
	Device    Scheme = iota // the path of a serial device or pseudo-terminal
	BySerial                // the one whose adapter has a serial number
	BySocket                // ... that is plugged into a socket
	ByProduct               // ... whose adapter has a name
	TCP                     // bytes over TCP, nothing else
	TCPListen               // the same, with whoever connects there
	UDP                     // datagrams to and from there
	UDPListen               // datagrams that come there; answers go to whoever spoke last
	RFC2217                 // a serial port on a network server, with its settings and signal lines
	Telnet                  // bytes in the language of Telnet: a serial server in that mode, a login service
)

var schemes = []string{"", "serial", "socket", "product", "tcp", "tcp-listen", "udp", "udp-listen", "rfc2217", "telnet"}

// String is the kind as written before the colon; "" for a device.
func (s Scheme) String() string { return schemes[s] }

// Address is where a port is: a path such as /dev/ttyUSB0, what its adapter is
// known by (serial:NUMBER, socket:PATH, product:WORDS), or a place in the network
// such as tcp://HOST:PORT.
type Address struct {
	Scheme Scheme
	Where  string
	From   string // who may speak where one listens, HOST or HOST:PORT between commas; "" is anybody
}

// ParseAddress reads an address. Errors are a *source.Problem.
func ParseAddress(text string) (Address, error) {
	if kind, where, ok := strings.Cut(text, "://"); ok {
		for s := TCP; s <= Telnet; s++ {
			if s.String() != kind {
				continue
			}
			where, from, err := cutFrom(s, where)
			if err != nil {
				return Address{}, err
			}
			if _, _, err := net.SplitHostPort(where); err != nil {
				return Address{}, &source.Problem{What: fmt.Sprintf("%q names no host and port", text), Mend: "Write " + kind + "://HOST:PORT."}
			}
			return Address{s, where, from}, nil
		}
		return Address{}, &source.Problem{What: fmt.Sprintf("there is no kind of port %q", kind), Mend: "There are " + strings.Join(schemes[TCP:], ", ") + "; a device is given by its path."}
	}
	if kind, where, ok := strings.Cut(text, ":"); ok {
		for s := BySerial; s <= ByProduct; s++ {
			if s.String() == kind {
				return Address{Scheme: s, Where: where}, nil
			}
		}
	}
	if text == "" {
		return Address{}, &source.Problem{What: "the address is empty", Mend: "Give one such as " + Example + ", or tcp://HOST:PORT."}
	}
	return Address{Where: text}, nil
}

// cutFrom takes who may speak off the end of a place where one listens.
func cutFrom(s Scheme, text string) (where, from string, err error) {
	where, query, asked := strings.Cut(text, "?")
	if !asked {
		return where, "", nil
	}
	from, ok := strings.CutPrefix(query, "from=")
	switch {
	case s != TCPListen && s != UDPListen:
		return "", "", &source.Problem{What: fmt.Sprintf("%s:// speaks with the one that it names, so nothing may follow the port number", s), Mend: "Leave out what follows the question mark."}
	case !ok || strings.Trim(from, ", ") == "":
		return "", "", &source.Problem{What: fmt.Sprintf("%q does not say who may speak", "?"+query), Mend: "Write " + s.String() + "://HOST:PORT?from=HOST, or from=HOST:PORT; several with commas between."}
	}
	for word := range strings.SplitSeq(from, ",") {
		host, _, network, err := callerWords(strings.TrimSpace(word))
		if err == nil && host == "" && !network.IsValid() { // it would let in anybody
			return "", "", &source.Problem{What: fmt.Sprintf("who may speak is %q, which names no host", word), Mend: "Write HOST, HOST:PORT or NETWORK/BITS, with commas between."}
		}
		if err != nil {
			return "", "", &source.Problem{What: fmt.Sprintf("who may speak is %q, whose port number is none", word), Mend: "Port numbers go from 0 to 65535; leave it out to let any of that host speak."}
		}
	}
	return where, from, nil
}

// LooksLikeAddress tells an address from the name of a port on a bench.
func LooksLikeAddress(text string) bool {
	kind, _, ok := strings.Cut(text, ":")
	for s := BySerial; ok && s <= ByProduct; s++ {
		if s.String() == kind {
			return true
		}
	}
	return strings.ContainsAny(text, `/\`) || strings.HasPrefix(strings.ToUpper(text), "COM")
}

// String is the address as ParseAddress reads it.
func (a Address) String() string {
	switch {
	case a.Scheme == Device:
		return a.Where
	case a.Scheme < TCP:
		return a.Scheme.String() + ":" + a.Where
	}
	text := a.Scheme.String() + "://" + a.Where
	if a.From != "" {
		text += "?from=" + a.From
	}
	return text
}

// UnmarshalText is ParseAddress.
func (a *Address) UnmarshalText(text []byte) (err error) {
	*a, err = ParseAddress(string(text))
	return err
}

// MarshalText is String.
func (a Address) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// Network reports whether the port is in the network.
func (a Address) Network() bool { return a.Scheme >= TCP }

// Serial reports whether there is a serial line at the address whose settings are
// known here; bytes over TCP, UDP or Telnet have none of their own.
func (a Address) Serial() bool { return a.Scheme < TCP || a.Scheme == RFC2217 }

// Known reports whether the port is picked by what is known of its adapter, so that
// the list of ports must be asked for its path.
func (a Address) Known() bool { return a.Scheme >= BySerial && a.Scheme <= ByProduct }

// Path reports whether the address is a path in the file system, as against the
// name of a device such as COM3.
func (a Address) Path() bool {
	return a.Scheme == Device && strings.ContainsAny(a.Where, "/"+string(filepath.Separator))
}

// Below is the address with a relative path taken from a folder.
func (a Address) Below(dir string) Address {
	if a.Path() && !filepath.IsAbs(a.Where) {
		a.Where = filepath.Join(dir, a.Where)
	}
	return a
}
