package rehearse

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"uparrot/core/port"
	"uparrot/core/uart"
)

// localNet is the network of a rehearsal: sockets of the procedure wait there for modules to come.
type localNet struct {
	mu        sync.Mutex
	listeners map[string]io.ReadWriteCloser // the module's end, by address
}

// listen opens a socket of the procedure.
func (h *localNet) listen(name, address string) port.Port {
	host, module := port.Pipe(name, uart.DefaultLine)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.listeners == nil {
		h.listeners = map[string]io.ReadWriteCloser{}
	}
	h.listeners[address] = module
	return host
}

// dial is how a module gets there.
func (h *localNet) dial(network, address string, _ time.Duration) (net.Conn, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	quay := h.listeners[address]
	if quay == nil {
		return nil, fmt.Errorf("dial %s %s: nobody listens there", network, address)
	}
	return &connection{ReadWriter: quay, at: address, datagrams: strings.HasPrefix(network, "udp")}, nil
}

// close ends all of it.
func (h *localNet) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, q := range h.listeners {
		_ = q.Close()
	}
}

// connection is a module's connection. It lives as long as the socket that it leads to.
type connection struct {
	io.ReadWriter
	at        string
	datagrams bool // each is by itself: here, on a line of its own
}

func (b *connection) Write(text []byte) (int, error) {
	if b.datagrams && !bytes.HasSuffix(text, []byte("\n")) {
		_, err := b.ReadWriter.Write(append(bytes.Clone(text), '\n'))
		return len(text), err
	}
	return b.ReadWriter.Write(text)
}

func (b *connection) Close() error                     { return nil }
func (b *connection) LocalAddr() net.Addr              { return made("module") }
func (b *connection) RemoteAddr() net.Addr             { return made(b.at) }
func (b *connection) SetDeadline(time.Time) error      { return nil }
func (b *connection) SetReadDeadline(time.Time) error  { return nil }
func (b *connection) SetWriteDeadline(time.Time) error { return nil }

// made is an address in a network that is made up.
type made string

func (m made) Network() string { return "made up" }
func (m made) String() string  { return string(m) }
