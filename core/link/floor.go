package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"time"

	"uparrot/core/port"
	"uparrot/core/uart"
)

// floorSamples is how often the machine's own part is measured.
const floorSamples = 101

// measureFloor is the median time, in milliseconds, from writing a byte to having
// read it at the other end of a port that is nothing but this machine: a
// pseudo-terminal, or where there is none a connection of this machine with itself.
func measureFloor() (float64, error) {
	near, far, err := emptyLine()
	if err != nil {
		return 0, fmt.Errorf("measure the machine's own part: %w", err)
	}
	defer far.Close()
	defer near.Close()
	took := make([]time.Duration, floorSamples)
	buf := make([]byte, 1)
	for i := range took {
		began := time.Now()
		if _, err := near.Write(context.Background(), []byte{'x'}); err != nil {
			return 0, fmt.Errorf("measure the machine's own part: %w", err)
		}
		if _, err := far.Read(buf); err != nil {
			return 0, fmt.Errorf("measure the machine's own part: %w", err)
		}
		took[i] = time.Since(began)
	}
	slices.Sort(took)
	return float64(took[floorSamples/2].Nanoseconds()) / 1e6, nil
}

// emptyLine is a line with nothing between its ends but this machine.
func emptyLine() (near port.Port, far io.ReadCloser, err error) {
	pseudo, err := port.OpenPseudo()
	if errors.Is(err, errors.ErrUnsupported) {
		return ownConnection()
	}
	if err != nil {
		return nil, nil, err
	}
	if near, err = port.Open(context.Background(), port.Address{Where: pseudo.Path()}, uart.DefaultLine); err != nil {
		return nil, nil, errors.Join(err, pseudo.Close())
	}
	return near, pseudo, nil
}

// ownConnection is a connection of this machine with itself.
func ownConnection() (near port.Port, far io.ReadCloser, err error) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	defer ln.Close()
	if near, err = port.Open(context.Background(), port.Address{Scheme: port.TCP, Where: ln.Addr().String()}, uart.DefaultLine); err != nil {
		return nil, nil, err
	}
	if far, err = ln.Accept(); err != nil {
		return nil, nil, errors.Join(err, near.Close())
	}
	return near, far, nil
}
