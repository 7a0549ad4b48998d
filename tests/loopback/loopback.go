// Package loopback is servers of this machine for tests.
package loopback

import (
	"net"
	"testing"
)

// Serve does something with each connection until the test ends, and returns where.
func Serve(t testing.TB, do func(conn net.Conn)) (at string) {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			conn, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				do(conn)
			}()
		}
	}()
	return ln.Addr().String()
}
