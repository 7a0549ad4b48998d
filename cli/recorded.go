package cli

import (
	"context"
	"time"

	"uparrot/core/port"
	"uparrot/core/record"
)

// recordedPort keeps what goes over a port in a record.
type recordedPort struct {
	port.Port
	w    *record.Writer
	name string
}

// recorded is the port itself where there is no record.
func recorded(p port.Port, w *record.Writer, name string) port.Port {
	if w == nil {
		return p
	}
	return &recordedPort{p, w, name}
}

func (r *recordedPort) Read(b []byte) (int, error) {
	n, err := r.Port.Read(b)
	if n > 0 {
		r.w.Bytes(time.Now(), record.In, r.name, b[:n])
	}
	return n, err
}

func (r *recordedPort) Write(ctx context.Context, b []byte) (int, error) {
	r.w.Bytes(time.Now(), record.Out, r.name, b)
	return r.Port.Write(ctx, b)
}
