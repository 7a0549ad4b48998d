package rfc2217

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"testing"
	"time"

	"uparrot/core/uart"
)

func frame(s string) uart.Frame {
	f, err := uart.ParseFrame(s)
	if err != nil {
		panic(err)
	}
	return f
}

// Byte by byte against the tables of RFC 2217, section 3.
func TestLineCommands(t *testing.T) {
	for _, c := range []struct {
		line uart.Line
		want string
	}{
		{uart.Line{Speed: 9600, Frame: frame("8N1")}, "fffa2c0100002580fff0 fffa2c0208fff0 fffa2c0301fff0 fffa2c0401fff0"},
		{uart.Line{Speed: 115200, Frame: frame("7E2")}, "fffa2c010001c200fff0 fffa2c0207fff0 fffa2c0303fff0 fffa2c0402fff0"},
		{uart.Line{Speed: 300, Frame: frame("5O1.5")}, "fffa2c010000012cfff0 fffa2c0205fff0 fffa2c0302fff0 fffa2c0403fff0"},
		{uart.Line{Speed: 0xff00, Frame: frame("6M1")}, "fffa2c010000ffff00fff0 fffa2c0206fff0 fffa2c0304fff0 fffa2c0401fff0"}, // 255 is doubled
		{uart.Line{Speed: 1200, Frame: frame("8S1")}, "fffa2c01000004b0fff0 fffa2c0208fff0 fffa2c0305fff0 fffa2c0401fff0"},
	} {
		got := ""
		for i, m := range LineCommands(c.line) {
			if i > 0 {
				got += " "
			}
			got += fmt.Sprintf("%x", m)
		}
		if got != c.want {
			t.Errorf("%v: %s, want %s", c.line, got, c.want)
		}
		// What is sent is read back as the same line.
		var back uart.Line
		var d Decoder
		for _, m := range LineCommands(c.line) {
			if data := d.Decode(nil, m, nil, func(command byte, v []byte) { Apply(&back, command, v) }); len(data) > 0 {
				t.Errorf("%x holds data %x", m, data)
			}
		}
		if back != c.line {
			t.Errorf("%v came back as %v", c.line, back)
		}
	}
}

// A stream means the same however it is cut.
func TestDecoder(t *testing.T) {
	stream := []byte("AT\xff\xff\xff\xfd\x2c\xff\xfb\x00OK\xff\xfa\x2c\x65\x00\x00\xff\xff\x00\xff\xf0\xff\xf1end\xff\xfa\x18\x01\xff\xf0")
	want := "data=AT\xffOKend do44 will0 sub101=0000ff00"
	for cut := range stream {
		var d Decoder
		var data []byte
		events := ""
		for _, part := range [][]byte{stream[:cut], stream[cut:]} {
			data = d.Decode(data, part, func(c, o byte) {
				events += fmt.Sprintf(" %s%d", map[byte]string{Do: "do", Will: "will"}[c], o)
			}, func(c byte, v []byte) { events += fmt.Sprintf(" sub%d=%x", c, v) })
		}
		if got := "data=" + string(data) + events; got != want {
			t.Errorf("cut at %d: %q, want %q", cut, got, want)
		}
	}
}

func FuzzDecoder(f *testing.F) {
	f.Add([]byte("AT\xff\xff\xff\xfd\x2c\xff\xfa\x2c\x65\x00\x00\xff\xff\x00\xff\xf0"), []byte("OK"))
	f.Fuzz(func(t *testing.T, hostile, data []byte) {
		var d Decoder
		d.Decode(nil, hostile, func(byte, byte) {}, func(c byte, v []byte) {
			var l uart.Line
			Apply(&l, c, v)
			if len(v) > maxSub {
				t.Errorf("%d bytes of a subnegotiation were kept", len(v))
			}
		})
		// Whatever is escaped comes out as it was.
		var clean Decoder
		if got := clean.Decode(nil, Escape(data), func(byte, byte) { t.Error("data became a command") }, func(byte, []byte) { t.Error("data became a command") }); !bytes.Equal(got, data) {
			t.Errorf("%q came out as %q", data, got)
		}
		s := &Session{conn: nowhere{}}
		s.decoder.Decode(nil, hostile, s.option, s.command)
	})
}

// nowhere is a connection that swallows what is sent.
type nowhere struct{ net.Conn }

func (nowhere) Write(b []byte) (int, error) { return len(b), nil }

// The server's side, driven with raw bytes as any client would send them.
func TestServerReplies(t *testing.T) {
	client, server := net.Pipe()
	defer client.Close()
	var sent bytes.Buffer
	reads := make(chan []byte, 100)
	go func() {
		for {
			buf := make([]byte, 500)
			n, err := client.Read(buf)
			if err != nil {
				close(reads)
				return
			}
			reads <- buf[:n]
		}
	}()
	s, err := NewSession(server, uart.Line{Speed: 9600})
	if err != nil {
		t.Fatal(err)
	}
	signals := ""
	s.Signals = func(dtr, rts, brk bool) { signals += fmt.Sprint(dtr, rts, brk, ";") }
	heard := make(chan string, 1)
	go func() {
		b, _ := io.ReadAll(s)
		heard <- string(b)
	}()
	expect := func(want string) {
		t.Helper()
		wanted := fmt.Sprintf("%x", want)
		for end := time.After(5 * time.Second); ; {
			if got := fmt.Sprintf("%x", sent.Bytes()); got == wanted {
				sent.Reset()
				return
			} else if len(got) > len(wanted) {
				t.Fatalf("got %s, want %s", got, wanted)
			}
			select {
			case b := <-reads:
				sent.Write(b)
			case <-end:
				t.Fatalf("got %x, want %s", sent.Bytes(), wanted)
			}
		}
	}
	expect("\xff\xfd\x2c\xff\xfb\x00\xff\xfd\x00\xff\xfb\x03\xff\xfd\x03")
	for _, c := range []struct{ send, want string }{
		{"\xff\xfb\x2c", "\xff\xfa\x2c\x6b\xb0\xff\xf0"},                                         // WILL: told the modem state
		{"\xff\xfa\x2c\x01\x00\x00\x4b\x00\xff\xf0", "\xff\xfa\x2c\x65\x00\x00\x4b\x00\xff\xf0"}, // 19200 baud
		{"\xff\xfa\x2c\x01\x00\x00\x00\x00\xff\xf0", "\xff\xfa\x2c\x65\x00\x00\x4b\x00\xff\xf0"}, // asked
		{"\xff\xfa\x2c\x02\x07\xff\xf0", "\xff\xfa\x2c\x66\x07\xff\xf0"},                         // data size
		{"\xff\xfa\x2c\x03\x03\xff\xf0", "\xff\xfa\x2c\x67\x03\xff\xf0"},                         // parity
		{"\xff\xfa\x2c\x04\x03\xff\xf0", "\xff\xfa\x2c\x68\x03\xff\xf0"},                         // stop size
		{"\xff\xfa\x2c\x05\x09\xff\xf0", "\xff\xfa\x2c\x69\x09\xff\xf0"},                         // DTR off
		{"\xff\xfa\x2c\x05\x07\xff\xf0", "\xff\xfa\x2c\x69\x09\xff\xf0"},                         // asked
		{"\xff\xfa\x2c\x05\x0c\xff\xf0", "\xff\xfa\x2c\x69\x0c\xff\xf0"},                         // RTS off
		{"\xff\xfa\x2c\x05\x05\xff\xf0", "\xff\xfa\x2c\x69\x05\xff\xf0"},                         // break on
		{"\xff\xfa\x2c\x05\x03\xff\xf0", "\xff\xfa\x2c\x69\x03\xff\xf0"},                         // hardware flow control
		{"\xff\xfa\x2c\x0b\x10\xff\xf0", "\xff\xfa\x2c\x6f\x10\xff\xf0"},                         // modem state mask: CTS alone
		{"\xff\xfa\x2c\x0a\x0e\xff\xf0", "\xff\xfa\x2c\x6e\x0e\xff\xf0"},                         // line state mask
		{"\xff\xfa\x2c\x0c\x03\xff\xf0", "\xff\xfa\x2c\x70\x03\xff\xf0"},                         // purge
		{"\xff\xfd\x1f", "\xff\xfc\x1f"},                                                         // DO window size: WONT
		{"\xff\xfb\x18", "\xff\xfe\x18"},                                                         // WILL terminal type: DONT
		{"\xff\xfa\x2c\x00\xff\xf0", "\xff\xfa\x2c\x64simulated port\xff\xf0"},                   // signature
	} {
		if _, err := client.Write([]byte(c.send)); err != nil {
			t.Fatal(err)
		}
		expect(c.want)
	}
	if l, ok := s.HostLine(); !ok || l != (uart.Line{Speed: 19200, Frame: frame("7E1.5")}) {
		t.Errorf("the line is %v", l)
	}
	if want := "false true false;false true false;false false false;false false true;false false true;"; signals != want {
		t.Errorf("signals %s, want %s", signals, want)
	}
	if err := s.SetInputs(DCD); err != nil { // DSR and CTS go; only CTS is wanted
		t.Fatal(err)
	}
	expect("\xff\xfa\x2c\x6b\x83\xff\xf0")
	if err := s.SetInputs(DCD | RI); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Write([]byte("a\xffb")); err != nil {
		t.Fatal(err)
	}
	expect("a\xff\xffb")
	if _, err := client.Write([]byte("x\xff\xffy")); err != nil {
		t.Fatal(err)
	}
	client.Close()
	if got := <-heard; got != "x\xffy" {
		t.Errorf("the module heard %q", got)
	}
}
