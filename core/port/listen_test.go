package port

import (
	"net"
	"strings"
	"testing"
	"time"

	"uparrot/core/uart"
)

// A port that listens speaks with whoever comes, one after the other, and says
// so while nobody is there.
func TestListening(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	where := ln.Addr().String()
	ln.Close()
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
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	where := c.LocalAddr().String()
	c.Close()
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
