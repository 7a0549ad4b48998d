package port

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"uparrot/core/uart"
)

// A port that listens speaks with whoever comes, one after the other, and says
// so while nobody is there.
func TestListening(t *testing.T) {
	where := "127.0.0.1:" + freePort(t, "tcp")
	p, err := openAt("tcp-listen://"+where, uart.DefaultLine)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Write(t.Context(), []byte("x")); err == nil || !strings.Contains(err.Error(), "nobody has spoken yet") {
		t.Errorf("wrote to nobody: %v", err)
	}
	if _, err := openAt("tcp-listen://"+where, uart.DefaultLine); KindOf(err) != Held {
		t.Errorf("listened twice: %v", err)
	}
	came := make(chan string)
	ended := make(chan error, 1)
	go func() {
		buf := make([]byte, 100)
		for {
			n, err := p.Read(buf)
			if err != nil {
				ended <- err
				return
			}
			came <- string(buf[:n])
		}
	}()
	go func() { // it speaks first, to somebody who is on the way
		time.Sleep(50 * time.Millisecond)
		c, err := net.Dial("tcp", where)
		if err != nil {
			t.Error(err)
			return
		}
		defer c.Close()
		buf := make([]byte, 100)
		if n, err := c.Read(buf); err != nil || string(buf[:n]) != "hello" {
			t.Errorf("%q, %v", buf[:n], err)
		}
		c.Write([]byte("bye"))
	}()
	if _, err := p.Write(t.Context(), []byte("hello")); err != nil {
		t.Error(err)
	}
	if got := <-came; got != "bye" {
		t.Errorf("heard %q", got)
	}
	for _, who := range []string{"first", "second"} {
		c, err := net.Dial("tcp", where)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := c.Write([]byte(who)); err != nil {
			t.Fatal(err)
		}
		if got := <-came; got != who {
			t.Errorf("heard %q", got)
		}
		if _, err := p.Write(t.Context(), []byte("to "+who)); err != nil {
			t.Error(err)
		}
		buf := make([]byte, 100)
		if n, err := c.Read(buf); err != nil || string(buf[:n]) != "to "+who {
			t.Errorf("%q, %v", buf[:n], err)
		}
		c.Close()
	}
	if err := p.Close(); err != nil {
		t.Error(err)
	}
	select {
	case err := <-ended:
		if KindOf(err) != Closed {
			t.Errorf("after closing: %v", err)
		}
	case <-time.After(10 * time.Second):
		t.Error("a read outlived the port")
	}
}

// Each datagram is a message of its own, and answers go to whoever spoke last.
func TestListeningForDatagrams(t *testing.T) {
	where := "127.0.0.1:" + freePort(t, "udp")
	p, err := openAt("udp-listen://"+where, uart.DefaultLine)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	if dg, ok := p.(interface{ Datagrams() bool }); !ok || !dg.Datagrams() {
		t.Error("does not say that it brings datagrams")
	}
	buf := make([]byte, 100)
	for _, who := range []string{"one", "two"} {
		c, err := net.Dial("udp", where)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if _, err := c.Write([]byte(who)); err != nil {
			t.Fatal(err)
		}
		if n, err := p.Read(buf); err != nil || string(buf[:n]) != who {
			t.Errorf("%q, %v", buf[:n], err)
		}
		if _, err := p.Write(t.Context(), []byte("to "+who)); err != nil {
			t.Error(err)
		}
		if n, err := c.Read(buf); err != nil || string(buf[:n]) != "to "+who {
			t.Errorf("%q, %v", buf[:n], err)
		}
	}
}

// Where an address says who may speak, nobody else is heard nor answered, and everyone
// who comes is named.
func TestCallers(t *testing.T) {
	for _, network := range []string{"udp", "tcp"} {
		for from, welcome := range map[string]bool{"": true, "127.0.0.1": true, "localhost": true, "127.0.0.0/8": true, "192.0.2.7, 127.0.0.1": true, "192.0.2.7": false, "127.0.0.1:9": false} {
			text := network + "-listen://127.0.0.1:" + freePort(t, network)
			if from != "" {
				text += "?from=" + from
			}
			a, err := ParseAddress(text)
			if err != nil || a.String() != text {
				t.Fatalf("%s: %v, %v", text, a, err)
			}
			p, err := Open(t.Context(), a, uart.DefaultLine)
			if err != nil {
				t.Fatal(err)
			}
			told := make(chan Caller, 10)
			OnCaller(p, func(c Caller) { told <- c })
			heard := make(chan string, 10)
			go func() {
				buf := make([]byte, 100)
				for n, err := p.Read(buf); err == nil; n, err = p.Read(buf) {
					heard <- string(buf[:n])
				}
				close(heard)
			}()
			c, err := net.Dial(network, a.Where)
			if err != nil {
				t.Fatal(err)
			}
			c.Write([]byte("hoist"))
			if got := <-told; got != (Caller{Address: c.LocalAddr().String(), Refused: !welcome}) {
				t.Errorf("%s: told %+v", text, got)
			}
			if welcome {
				if got := <-heard; got != "hoist" {
					t.Errorf("%s: heard %q", text, got)
				}
			} else {
				ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
				if _, err := p.Write(ctx, []byte("the key")); err == nil {
					t.Errorf("%s: a stranger was answered", text)
				}
				cancel()
			}
			c.Close()
			p.Close()
			for s := range heard {
				t.Errorf("%s: heard %q too", text, s)
			}
		}
	}
	for text, want := range map[string]string{
		"udp://127.0.0.1:5?from=127.0.0.1":         "speaks with the one that it names",
		"udp-listen://127.0.0.1:5?to=127.0.0.1":    "does not say who may speak",
		"tcp-listen://127.0.0.1:5?from=":           "does not say who may speak",
		"tcp-listen://127.0.0.1:5?from=h:70000":    "whose port number is none",
		"udp-listen://127.0.0.1?from=127.0.0.1:50": "names no host and port",
		"udp-listen://127.0.0.1:5?from=:5000":      "names no host",
		"udp-listen://127.0.0.1:5?from=127.0.0.1,": "names no host",
	} {
		if _, err := ParseAddress(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

// Whoever changes places all the time is told of for a while.
func TestManyCallers(t *testing.T) {
	c, err := newCallers(t.Context(), "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	var told []Caller
	c.onCaller(func(c Caller) { told = append(told, c) })
	for n := range uint16(5000) {
		if !c.welcome(netip.AddrPortFrom(netip.MustParseAddr("::ffff:127.0.0.1"), n)) || c.welcome(netip.AddrPortFrom(netip.AddrFrom4([4]byte{10, 0, byte(n >> 8), byte(n)}), n)) {
			t.Fatal("the wrong one may speak")
		}
	}
	if want := mostCalls + mostRefused; len(told) != want || !told[len(told)-1].Last {
		t.Errorf("%d calls were told, want %d; the last %+v", len(told), want, told[len(told)-1])
	}
}

// freePort is a port number of this machine that nobody listens at.
func freePort(t *testing.T, network string) string {
	t.Helper()
	var at net.Addr
	if network == "udp" {
		c, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		at = c.LocalAddr()
	} else {
		ln, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer ln.Close()
		at = ln.Addr()
	}
	_, port, _ := net.SplitHostPort(at.String())
	return port
}
