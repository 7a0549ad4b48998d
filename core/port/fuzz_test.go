package port

import (
	"io"
	"net"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/port/rfc2217"
	"uparrot/core/uart"
)

// Whatever a server says, opening a port there comes to its end within the time that a
// server has to confirm, and so does everything that is asked of it then.
func FuzzServer(f *testing.F) {
	var willing []byte
	for command, value := range map[byte][]byte{rfc2217.SetBaudRate: {0, 0, 0x25, 0x80}, 2: {8}, 3: {1}, 4: {1}, rfc2217.SetControl: {1}} {
		willing = append(willing, rfc2217.Sub(command+rfc2217.Reply, value...)...)
	}
	f.Add(willing)
	f.Add(rfc2217.Negotiate(rfc2217.Dont, rfc2217.ComPort))
	f.Add([]byte("\xff\xfa\x2c"))
	f.Add(append(willing, "port in use\r\n"...))
	f.Fuzz(func(t *testing.T, said []byte) {
		synctest.Test(t, func(t *testing.T) {
			near, server := net.Pipe()
			defer server.Close()
			go io.Copy(io.Discard, server)
			go server.Write(said)
			began := time.Now()
			p, err := openRFC2217("tower", near, uart.Line{Speed: 9600})
			if err == nil {
				go io.Copy(io.Discard, reader{p})
				_ = SetFlow(p, uart.NoFlow)
				_ = Break(p, time.Millisecond)
				_, _ = InputsOf(p)
				_ = LacksOf(p)
				p.Close()
			}
			if took := time.Since(began); took > time.Minute {
				t.Errorf("took %v", took)
			}
		})
	})
}

// reader reads a port.
type reader struct{ Port }
