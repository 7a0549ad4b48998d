package portlist

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"golang.org/x/sys/unix"
)

// List lists the ports of this machine.
func List() ([]Entry, error) { return listBelow("/") }

// settle is how long after the kernel's word the node's owner and rights may
// still change.
const settle = 150 * time.Millisecond

// Follow tells of every port that appears or goes, until ctx is done. The kernel
// says when something happens; nothing is polled.
func Follow(ctx context.Context, tell func(Change)) error {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, unix.NETLINK_KOBJECT_UEVENT)
	if err != nil {
		return fmt.Errorf("listen to the kernel's device events: %w", err)
	}
	defer unix.Close(fd)
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: 1}); err != nil {
		return fmt.Errorf("listen to the kernel's device events: %w", err)
	}
	// A pipe wakes the wait when ctx is done.
	var wake [2]int
	if err := unix.Pipe2(wake[:], unix.O_CLOEXEC); err != nil {
		return fmt.Errorf("make a pipe: %w", err)
	}
	defer unix.Close(wake[0])
	stop := context.AfterFunc(ctx, func() { unix.Close(wake[1]) })
	defer func() {
		if stop() {
			unix.Close(wake[1])
		}
	}()
	before, err := List()
	if err != nil {
		return err
	}
	buf := make([]byte, 16<<10)
	for {
		fds := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}, {Fd: int32(wake[0]), Events: unix.POLLIN}}
		if _, err := unix.Poll(fds, -1); err != nil && !errors.Is(err, unix.EINTR) {
			return fmt.Errorf("wait for device events: %w", err)
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if fds[0].Revents == 0 {
			continue
		}
		n, _, err := unix.Recvfrom(fd, buf, 0)
		// ENOBUFS means that events were missed; the new listing makes up for it.
		if err != nil && !errors.Is(err, unix.ENOBUFS) {
			return fmt.Errorf("read device events: %w", err)
		}
		if err == nil && !aboutPort(buf[:n]) {
			continue
		}
		select {
		case <-time.After(settle):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		if before, err = tellChanges(before, tell); err != nil {
			return err
		}
	}
}

// aboutPort reports whether a kernel event is about a terminal device. An event
// is a row of texts with a zero byte after each: ACTION@PATH, then KEY=VALUE.
func aboutPort(event []byte) bool {
	for _, field := range bytes.Split(event, []byte{0}) {
		if string(field) == "SUBSYSTEM=tty" {
			return true
		}
	}
	return false
}
