package reach

import (
	"context"
	"errors"
	"net"
	"strings"
	"testing"
	"time"
)

// A host that begins to listen while it is waited for is reached; one that never
// does is not, and the words say how it failed.
func TestTCP(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	number := ln.Addr().(*net.TCPAddr).Port
	ln.Close()
	var late net.Listener
	defer func() {
		if late != nil {
			late.Close()
		}
	}()
	opened := make(chan error, 1)
	go func() {
		time.Sleep(300 * time.Millisecond)
		var err error
		late, err = net.Listen("tcp", ln.Addr().String())
		opened <- err
	}()
	took, err := TCP(t.Context(), "127.0.0.1", number, 20*time.Second)
	if err := <-opened; err != nil {
		t.Skip("somebody else took the port number")
	}
	if err != nil || took <= 0 {
		t.Errorf("%v, %v", took, err)
	}
	late.Close()
	_, err = TCP(t.Context(), "127.0.0.1", number, 300*time.Millisecond)
	if e, ok := errors.AsType[*Error](err); !ok || e.Within != 300*time.Millisecond || !strings.Contains(err.Error(), "nothing listens at that port") {
		t.Errorf("%v", err)
	}
	why := errors.New("interrupted")
	ctx, cancel := context.WithCancelCause(t.Context())
	time.AfterFunc(100*time.Millisecond, func() { cancel(why) })
	if _, err := TCP(ctx, "127.0.0.1", number, time.Hour); !errors.Is(err, why) {
		t.Errorf("%v", err)
	}
}

func TestPing(t *testing.T) {
	took, err := Ping(t.Context(), "127.0.0.1", 10*time.Second)
	if err != nil && strings.Contains(err.Error(), "may not send a ping") {
		t.Skip(err)
	}
	if err != nil || took <= 0 {
		t.Errorf("%v, %v", took, err)
	}
	if _, err := Ping(t.Context(), "no.such.host.invalid", time.Second); err == nil || !strings.Contains(err.Error(), "not known") {
		t.Errorf("%v", err)
	}
}
