// Package reach finds out whether something answers in the network.
package reach

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"strconv"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"

	"uparrot/core/syserr"
)

// errNoHost is that of an empty host, which the system would take for this machine.
var errNoHost = errors.New("there is no host to reach: its name is empty")

// between is the time between two attempts.
const between = 250 * time.Millisecond

// TCP waits until a host takes a TCP connection at a port number, at most for
// within. It returns how long the attempt that succeeded took.
func TCP(ctx context.Context, host string, number int, within time.Duration) (time.Duration, error) {
	if host == "" {
		return 0, errNoHost
	}
	address := net.JoinHostPort(host, strconv.Itoa(number))
	return repeat(ctx, address, within, func(ctx context.Context) error {
		conn, err := new(net.Dialer).DialContext(ctx, "tcp", address)
		if err != nil {
			return err
		}
		return conn.Close()
	})
}

// Ping waits until a host answers an echo request (RFC 792), at most for
// within. Where the system does not let the user send one the error says so.
func Ping(ctx context.Context, host string, within time.Duration) (time.Duration, error) {
	if host == "" {
		return 0, errNoHost
	}
	looking, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	found, err := net.DefaultResolver.LookupIP(looking, "ip4", host)
	switch {
	case ctx.Err() != nil:
		return 0, context.Cause(ctx)
	case err != nil:
		return 0, &Error{host, within, fmt.Errorf("the host's name is not known: %w", err)}
	}
	to := &net.IPAddr{IP: found[0]}
	// A datagram socket for ICMP needs no privilege where the system allows it;
	// a raw one needs that of the administrator.
	var peer net.Addr = &net.UDPAddr{IP: to.IP}
	conn, err := icmp.ListenPacket("udp4", "")
	if err != nil {
		peer = to
		if conn, err = icmp.ListenPacket("ip4:icmp", ""); err != nil {
			return 0, fmt.Errorf("this user may not send a ping: %w. Reach the host by tcp, or let the administrator allow it (Linux: sysctl net.ipv4.ping_group_range)", err)
		}
	}
	defer conn.Close()
	id, seq := rand.IntN(1<<16), 0
	return repeat(ctx, host, within, func(ctx context.Context) error {
		seq++
		return echo(ctx, conn, peer, id, seq)
	})
}

// echo sends one request and waits for its answer.
func echo(ctx context.Context, conn *icmp.PacketConn, peer net.Addr, id, seq int) error {
	token := fmt.Appendf(nil, "%08x%04x", rand.Uint32(), seq)
	request := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: id, Seq: seq, Data: token}}
	b, err := request.Marshal(nil)
	if err != nil {
		return err
	}
	deadline, _ := ctx.Deadline()
	if err := conn.SetDeadline(deadline); err != nil {
		return err
	}
	if _, err := conn.WriteTo(b, peer); err != nil {
		return err
	}
	buf := make([]byte, 1500)
	for {
		n, _, err := conn.ReadFrom(buf)
		if err != nil {
			return err
		}
		m, err := icmp.ParseMessage(1, buf[:n]) // 1: ICMP for IPv4
		if err != nil {
			continue // not ours
		}
		// The system may have set an identifier of its own, so the data decides.
		if e, ok := m.Body.(*icmp.Echo); ok && m.Type == ipv4.ICMPTypeEchoReply && string(e.Data) == string(token) {
			return nil
		}
	}
}

// repeat tries until it succeeds or the time is over.
func repeat(ctx context.Context, what string, within time.Duration, try func(context.Context) error) (time.Duration, error) {
	whole, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	var last error
	for {
		one, done := context.WithTimeout(whole, min(within, 2*time.Second))
		began := time.Now()
		err := try(one)
		done()
		if err == nil {
			return time.Since(began), nil
		}
		if last == nil || whole.Err() == nil {
			last = err
		}
		select {
		case <-time.After(between):
		case <-whole.Done():
			if ctx.Err() != nil {
				return 0, context.Cause(ctx)
			}
			return 0, &Error{what, within, last}
		}
	}
}

// Error is that nothing answered.
type Error struct {
	What   string
	Within time.Duration
	Err    error // of the last attempt
}

func (e *Error) Error() string {
	why := e.Err.Error()
	switch {
	case syserr.Is(e.Err, syserr.Refused):
		why = "the host is there, but nothing listens at that port"
	case errors.Is(e.Err, context.DeadlineExceeded), errors.Is(e.Err, os.ErrDeadlineExceeded):
		why = "no answer"
	case syserr.Is(e.Err, syserr.NoRoute):
		why = "there is no way to that network from here"
	}
	return fmt.Sprintf("%s was not reached within %v: %s", e.What, e.Within, why)
}

func (e *Error) Unwrap() error { return e.Err }
