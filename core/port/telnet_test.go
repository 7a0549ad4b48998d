package port

import (
	"bytes"
	"context"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"uparrot/core/uart"
)

// telnetServer gives out the connection of a port to a server that the test plays.
func telnetServer(t *testing.T) (Port, net.Conn) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	p, err := Open(context.Background(), Address{Scheme: Telnet, Where: l.Addr().String()}, uart.DefaultLine)
	if err != nil {
		t.Fatal(err)
	}
	conn, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close(); conn.Close() })
	return p, conn
}

// Byte by byte against RFC 854, 855, 857 and 858: what the server sends, what comes of it as data, and what
// it is answered.
func TestTelnetHeard(t *testing.T) {
	for _, c := range []struct{ name, sent, data, answered string }{
		{"data alone", "login: ", "login: ", ""},
		{"echo and go ahead are agreed to", "\xff\xfb\x01\xff\xfb\x03ok", "ok", "\xff\xfd\x01\xff\xfd\x03"},
		{"asked twice is answered once", "\xff\xfb\x01\xff\xfb\x01ok", "ok", "\xff\xfd\x01"},
		{"and taken back", "\xff\xfb\x01\xff\xfc\x01ok", "ok", "\xff\xfd\x01\xff\xfe\x01"},
		{"what is off stays off without a word", "\xff\xfc\x01\xff\xfe\x18ok", "ok", ""},
		{"go ahead here too", "\xff\xfd\x03ok", "ok", "\xff\xfb\x03"},
		{"no echo from here", "\xff\xfd\x01ok", "ok", "\xff\xfc\x01"},
		{"terminal type and window are refused", "\xff\xfd\x18\xff\xfd\x1fok", "ok", "\xff\xfc\x18\xff\xfc\x1f"},
		{"binary is refused", "\xff\xfb\x00\xff\xfd\x00ok", "ok", "\xff\xfe\x00\xff\xfc\x00"},
		{"a subnegotiation is none of the data", "a\xff\xfa\x18\x01\xff\xf0b", "ab", ""},
		{"255 is doubled", "a\xff\xffb", "a\xffb", ""},
		{"commands without an option", "a\xff\xf1\xff\xf9b", "ab", ""},
		{"CR NUL is CR", "a\r\x00b\r\nc\x00d", "a\rb\r\nc\x00d", ""},
	} {
		for _, whole := range []bool{true, false} { // in one piece, and a byte at a time
			p, conn := telnetServer(t)
			go func() {
				for i := range c.sent {
					if whole {
						conn.Write([]byte(c.sent))
						return
					}
					conn.Write([]byte(c.sent[i : i+1]))
				}
			}()
			got := make([]byte, len(c.data))
			if _, err := io.ReadFull(readerOf{p}, got); err != nil || string(got) != c.data {
				t.Errorf("%s: %q %v", c.name, got, err)
			}
			if _, err := p.Write(t.Context(), []byte("end")); err != nil {
				t.Fatal(err)
			}
			answered := make([]byte, len(c.answered)+3)
			conn.SetReadDeadline(time.Now().Add(5 * time.Second))
			if _, err := io.ReadFull(conn, answered); err != nil || string(answered) != c.answered+"end" {
				t.Errorf("%s: answered %q %v", c.name, answered, err)
			}
		}
	}
}

// What is written is data to a network virtual terminal.
func TestTelnetSaid(t *testing.T) {
	p, conn := telnetServer(t)
	for _, s := range []string{"ls\r", "a\r\nb\r", "\xff\n", "\r"} {
		if n, err := p.Write(t.Context(), []byte(s)); n != len(s) || err != nil {
			t.Errorf("%q: %d %v", s, n, err)
		}
	}
	if err := Break(p, time.Second); err != nil {
		t.Error(err)
	}
	want := []byte("ls\r\x00a\r\nb\r\x00\xff\xff\n\r\x00\xff\xf3")
	got := make([]byte, len(want))
	conn.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := io.ReadFull(conn, got); err != nil || !bytes.Equal(got, want) {
		t.Errorf("%q %v", got, err)
	}
	if err := p.SetLine(uart.DefaultLine); KindOf(err) != Unsupported || !strings.Contains(err.Error(), "no line settings") {
		t.Error(err)
	}
}

type readerOf struct{ p Port }

func (r readerOf) Read(b []byte) (int, error) { return r.p.Read(b) }
