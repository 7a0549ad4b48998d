package port

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"
)

// callers are those who come to a port that listens: who of them may speak, and who
// is told of them.
type callers struct {
	from []caller // anybody if there are none

	mu      sync.Mutex
	tell    func(Caller)        // nil if nobody is told
	last    netip.AddrPort      // who spoke last
	calls   int                 // how often that changed
	refused map[netip.Addr]bool // hosts that were told of
}

// caller is one who may speak: a network, most often of one host, and a port number; 0
// is any.
type caller struct {
	net  netip.Prefix
	port uint16
}

// callerWords takes HOST, HOST:PORT or NETWORK/BITS apart.
func callerWords(word string) (host string, number uint16, network netip.Prefix, err error) {
	if network, err = netip.ParsePrefix(word); err == nil {
		return "", 0, network, nil
	}
	host, digits, err := net.SplitHostPort(word)
	if err != nil {
		return strings.Trim(word, "[]"), 0, netip.Prefix{}, nil
	}
	n, err := strconv.ParseUint(digits, 10, 16)
	return host, uint16(n), netip.Prefix{}, err
}

// newCallers reads who may speak, between commas, and looks up the hosts.
func newCallers(ctx context.Context, from string) (*callers, error) {
	c := &callers{refused: map[netip.Addr]bool{}}
	if from == "" {
		return c, nil
	}
	for word := range strings.SplitSeq(from, ",") {
		host, number, network, err := callerWords(strings.TrimSpace(word))
		switch {
		case err != nil:
			return nil, err
		case network.IsValid():
			c.from = append(c.from, caller{net: network})
			continue
		}
		found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
		if err != nil {
			return nil, fmt.Errorf("look up %s, who may speak: %w", host, err)
		}
		for _, at := range found {
			at = at.Unmap().WithZone("")
			c.from = append(c.from, caller{net: netip.PrefixFrom(at, at.BitLen()), port: number})
		}
	}
	return c, nil
}

// listen begins to listen at an address.
func (c *callers) listen(ctx context.Context, a Address) (io.ReadWriteCloser, error) {
	var cfg net.ListenConfig
	if a.Scheme == UDPListen {
		conn, err := cfg.ListenPacket(ctx, "udp", a.Where)
		if err != nil {
			return nil, err
		}
		return &udpListener{UDPConn: conn.(*net.UDPConn), callers: c}, nil
	}
	ln, err := cfg.Listen(ctx, "tcp", a.Where)
	if err != nil {
		return nil, err
	}
	return &tcpListener{Listener: ln, callers: c, came: make(chan struct{}, 1)}, nil
}

// onCaller has f told from now on.
func (c *callers) onCaller(f func(Caller)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.tell = f
}

// mostRefused is how many hosts that may not speak are told of, and mostCalls how many
// changes of whom the port speaks with.
const (
	mostRefused = 16
	mostCalls   = 1000
)

// welcome reports whether somebody may speak.
func (c *callers) welcome(at netip.AddrPort) bool {
	at = netip.AddrPortFrom(at.Addr().Unmap(), at.Port())
	ok := len(c.from) == 0
	for _, who := range c.from {
		ok = ok || who.net.Contains(at.Addr().WithZone("")) && (who.port == 0 || who.port == at.Port())
	}
	c.mu.Lock()
	tell := c.tell
	news, last := false, false
	switch {
	case ok && at != c.last:
		c.last = at
		c.calls++
		news, last = c.calls <= mostCalls, c.calls == mostCalls
	case !ok && !c.refused[at.Addr()] && len(c.refused) < mostRefused:
		c.refused[at.Addr()] = true
		news, last = true, len(c.refused) == mostRefused
	}
	c.mu.Unlock()
	if news && tell != nil {
		tell(Caller{Address: at.String(), Refused: !ok, Last: last})
	}
	return ok
}

// errNobody is what writing to a listening port brings before anybody is there.
var errNobody = errors.New("nobody has spoken yet, so there is nobody to answer")

// tcpListener listens and speaks with whoever has connected, one at a time. When
// one leaves, the next may come.
type tcpListener struct {
	net.Listener
	callers *callers

	came chan struct{} // has something in it when somebody has come

	mu   sync.Mutex
	conn net.Conn // nil while nobody is there
}

func (l *tcpListener) client() net.Conn {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conn
}

func (l *tcpListener) Read(b []byte) (int, error) {
	for {
		conn := l.client()
		if conn == nil {
			var err error
			if conn, err = l.Accept(); err != nil {
				return 0, err
			}
			if at, ok := conn.RemoteAddr().(*net.TCPAddr); ok && !l.callers.welcome(at.AddrPort()) {
				conn.Close()
				continue
			}
			l.mu.Lock()
			l.conn = conn
			l.mu.Unlock()
			select {
			case l.came <- struct{}{}:
			default: // nobody has looked since the last one
			}
		}
		n, err := conn.Read(b)
		if err != nil {
			conn.Close()
			l.mu.Lock()
			l.conn = nil
			l.mu.Unlock()
		}
		if n > 0 {
			return n, nil
		}
	}
}

// Write writes to whoever is there.
func (l *tcpListener) Write(b []byte) (int, error) {
	conn, err := l.wait(context.Background())
	if err != nil {
		return 0, err
	}
	return conn.Write(b)
}

// wait is whoever is there, or who comes within clientTime.
func (l *tcpListener) wait(ctx context.Context) (net.Conn, error) {
	timer := time.NewTimer(clientTime) // whoever was told to connect may be on the way
	defer timer.Stop()
	for {
		conn := l.client()
		if conn != nil {
			return conn, nil
		}
		select {
		case <-l.came:
		case <-timer.C:
			return nil, errNobody
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
}

// clientTime is how long a listening port that speaks first waits for somebody.
const clientTime = 2 * time.Second

func (l *tcpListener) Close() error {
	err := l.Listener.Close()
	if conn := l.client(); conn != nil {
		conn.Close()
	}
	return err
}

// udpListener answers whoever has spoken last.
type udpListener struct {
	*net.UDPConn
	callers *callers

	mu   sync.Mutex
	peer netip.AddrPort // not valid until somebody has spoken
}

func (l *udpListener) Read(b []byte) (int, error) {
	for {
		n, from, err := l.ReadFromUDPAddrPort(b)
		if err != nil {
			return n, err
		}
		if !l.callers.welcome(from) {
			continue
		}
		l.mu.Lock()
		l.peer = from
		l.mu.Unlock()
		return n, nil
	}
}

func (l *udpListener) Write(b []byte) (int, error) {
	l.mu.Lock()
	peer := l.peer
	l.mu.Unlock()
	if !peer.IsValid() {
		return 0, errNobody
	}
	return l.WriteToUDPAddrPort(b, peer)
}
