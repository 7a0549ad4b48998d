package port

import (
	"context"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"uparrot/core/port/rfc2217"
	"uparrot/core/uart"
	"uparrot/tests/loopback"
)

// everyByte sends all values there and back.
func everyByte(t *testing.T, p Port) {
	t.Helper()
	all := make([]byte, 256)
	for i := range all {
		all[i] = byte(i)
	}
	if _, err := p.Write(t.Context(), all); err != nil {
		t.Fatal(err)
	}
	got := make([]byte, 0, 256)
	for buf := make([]byte, 300); len(got) < len(all); {
		n, err := p.Read(buf)
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, buf[:n]...)
	}
	if string(got) != string(all) {
		t.Errorf("got %q", got)
	}
}

func TestRFC2217(t *testing.T) {
	sessions := make(chan *rfc2217.Session, 1)
	at := loopback.Serve(t, func(conn net.Conn) {
		s, err := rfc2217.NewSession(conn, uart.DefaultLine)
		if err != nil {
			t.Error(err)
			return
		}
		sessions <- s
		io.Copy(s, s)
	})
	p, err := openAt("rfc2217://"+at, uart.Line{Speed: 9600})
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	s := <-sessions
	for _, f := range []string{"7E1", "8N2", "5N1.5", "8M1"} {
		frame, err := uart.ParseFrame(f)
		if err != nil {
			t.Fatal(err)
		}
		line := uart.Line{Speed: 76800, Frame: frame}
		if err := p.SetLine(line); err != nil {
			t.Error(err)
		}
		if got, ok := s.HostLine(); !ok || got != line || p.Line() != line {
			t.Errorf("the server has %v, want %v", got, line)
		}
	}
	everyByte(t, p)
	s.Signals = nil
	for _, do := range []func() error{
		func() error { return SetSignal(p, uart.DTR, false) }, func() error { return SetSignal(p, uart.RTS, true) },
		func() error { return SetFlow(p, uart.RTSCTS) }, func() error { return SetFlow(p, uart.NoFlow) }, func() error { return Break(p, time.Millisecond) }, p.Drain, p.Purge,
	} {
		if err := do(); err != nil {
			t.Error(err)
		}
	}
	if err := s.SetInputs(rfc2217.DSR); err != nil {
		t.Fatal(err)
	}
	everyByte(t, p) // so that the state has arrived
	if in, err := InputsOf(p); err != nil || in != (Inputs{DSR: true}) {
		t.Errorf("inputs %+v, %v", in, err)
	}
	s.Close()
	if _, err := p.Read(make([]byte, 10)); KindOf(err) != Vanished {
		t.Errorf("after the server went: %v", err)
	}
	if err := p.SetLine(uart.DefaultLine); KindOf(err) != Vanished {
		t.Errorf("setting a line that has gone: %v", err)
	}
}

// A server that refuses the option is told from one that is not there.
func TestNoRFC2217(t *testing.T) {
	refuses := loopback.Serve(t, func(conn net.Conn) {
		conn.Write(rfc2217.Negotiate(rfc2217.Dont, rfc2217.ComPort))
		io.Copy(io.Discard, conn)
	})
	if _, err := openAt("rfc2217://"+refuses, uart.DefaultLine); KindOf(err) != Unsupported || !strings.Contains(err.Error(), "telnet:// where it speaks Telnet, else tcp://") {
		t.Errorf("refused: %v", err)
	}
	hangsUp := loopback.Serve(t, func(conn net.Conn) { conn.Close() })
	if _, err := openAt("rfc2217://"+hangsUp, uart.DefaultLine); KindOf(err) != Vanished {
		t.Errorf("hung up: %v", err)
	}
}

func TestTCPAndUDP(t *testing.T) {
	p, err := openAt("tcp://"+loopback.Serve(t, func(conn net.Conn) { io.Copy(conn, conn) }), uart.DefaultLine)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	everyByte(t, p)
	for _, err := range []error{p.SetLine(uart.DefaultLine), SetSignal(p, uart.DTR, true), Break(p, time.Second), SetFlow(p, uart.RTSCTS)} {
		if KindOf(err) != Unsupported {
			t.Errorf("got %v", err)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	for range 10_000 { // until the buffers are full, at the latest
		if _, err = p.Write(ctx, make([]byte, 64<<10)); err != nil {
			break
		}
	}
	if err == nil {
		t.Error("a write that was given up went on")
	}
	near, err := openAt("udp-listen://127.0.0.1:0", uart.DefaultLine)
	if err == nil {
		defer near.Close()
		if _, err := near.Write(t.Context(), []byte("x")); err == nil {
			t.Error("answered nobody")
		}
	}
	peer, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer peer.Close()
	u, err := openAt("udp://"+peer.LocalAddr().String(), uart.DefaultLine)
	if err != nil {
		t.Fatal(err)
	}
	defer u.Close()
	if _, err := u.Write(t.Context(), []byte("lift")); err != nil {
		t.Fatal(err)
	}
	buf := make([]byte, 100)
	n, from, err := peer.ReadFrom(buf)
	if err != nil || string(buf[:n]) != "lift" {
		t.Fatalf("%q, %v", buf[:n], err)
	}
	peer.WriteTo([]byte("stop"), from)
	if n, err := u.Read(buf); err != nil || string(buf[:n]) != "stop" {
		t.Errorf("%q, %v", buf[:n], err)
	}
}

func TestAddresses(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	free := ln.Addr().String()
	ln.Close()
	for address, want := range map[string]string{
		"tcp://" + free:         "nothing listens there",
		"rfc2217://" + free:     "nothing listens there",
		"tcp://127.0.0.1":       "no host and port",
		"ftp://127.0.0.1:5":     `no kind of port "ftp"`,
		"udp://127.0.0.1:99999": "cannot be reached",
	} {
		if _, err := openAt(address, uart.DefaultLine); KindOf(err) != Missing || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", address, err, want)
		}
	}
	if _, err := openAt("tcp://127.0.0.1:5", uart.Line{Speed: -1}); err == nil {
		t.Error("took a speed below zero")
	}
}

// openAt opens the port at an address as it is written.
func openAt(text string, line uart.Line) (Port, error) {
	a, err := ParseAddress(text)
	if err != nil {
		return nil, &Error{Port: text, Kind: Missing, Err: err}
	}
	return Open(context.Background(), a, line)
}

// A server that tells states in place of confirming what was asked, and one that
// says why it hangs up.
func TestServersAsTheyAre(t *testing.T) {
	t.Parallel()
	serve := func(do func(conn net.Conn)) string { return "rfc2217://" + loopback.Serve(t, do) }
	// It confirms neither masks nor breaks, it joins what it sends within 30 ms, and it
	// refuses hardware flow control.
	sparse := func(states bool) string {
		return serve(func(tcp net.Conn) {
			conn := &gathers{Conn: tcp}
			var d rfc2217.Decoder
			buf := make([]byte, 512)
			for {
				n, err := conn.Read(buf)
				if err != nil {
					return
				}
				d.Decode(nil, buf[:n], func(byte, byte) {}, func(command byte, value []byte) {
					switch command {
					case rfc2217.SetLineStateMask:
					case rfc2217.SetControl:
						switch value[0] {
						case rfc2217.BreakOn, rfc2217.BreakOff:
						case rfc2217.FlowHardware:
							conn.Write(rfc2217.Sub(command+rfc2217.Reply, rfc2217.FlowNone))
						default:
							conn.Write(rfc2217.Sub(command+rfc2217.Reply, value...))
						}
					case rfc2217.SetModemStateMask:
						if states {
							conn.Write(rfc2217.Sub(rfc2217.NotifyModemState+rfc2217.Reply, rfc2217.CTS))
						}
					default:
						conn.Write(rfc2217.Sub(command+rfc2217.Reply, value...))
					}
				})
			}
		})
	}
	for _, states := range []bool{true, false} {
		p, err := openAt(sparse(states), uart.Line{Speed: 9600})
		if err != nil {
			t.Fatal(err)
		}
		in, err := InputsOf(p)
		if states && (err != nil || !in.CTS || in.DSR) || !states && KindOf(err) != Unsupported {
			t.Errorf("states are told: %v: %+v, %v", states, in, err)
		}
		if lacks := LacksOf(p); len(lacks) != map[bool]int{true: 1, false: 2}[states] || !strings.Contains(lacks[0], "errors on the line") {
			t.Errorf("states are told: %v: the server lacks %q", states, lacks)
		}
		if states {
			if err := Break(p, 10*time.Millisecond); KindOf(err) != Unconfirmed {
				t.Errorf("a break that is not confirmed: %v", err)
			}
			if err := SetFlow(p, uart.RTSCTS); KindOf(err) != Unsupported || !strings.Contains(err.Error(), "did not do it") {
				t.Errorf("flow control that is refused: %v", err)
			}
			if err := SetFlow(p, uart.NoFlow); err != nil {
				t.Errorf("the port after that: %v", err)
			}
		}
		p.Close()
	}
	busy := serve(func(conn net.Conn) { conn.Write([]byte("Port already in use\r\n")) })
	if _, err := openAt(busy, uart.DefaultLine); KindOf(err) != Vanished || !strings.Contains(err.Error(), "Port already in use") {
		t.Errorf("of a server that hangs up: %v", err)
	}
}

// gathers joins what is written within 30 ms.
type gathers struct {
	net.Conn
	mu    sync.Mutex
	bytes []byte
}

func (g *gathers) Write(b []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.bytes == nil {
		time.AfterFunc(30*time.Millisecond, func() {
			g.mu.Lock()
			defer g.mu.Unlock()
			g.Conn.Write(g.bytes)
			g.bytes = nil
		})
	}
	g.bytes = append(g.bytes, b...)
	return len(b), nil
}
