package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"uparrot/core/port"
)

// floorSamples is how often the machine's own part is measured.
const floorSamples = 101

// measureFloor is the median time, in milliseconds, from writing a byte to having
// read it at the other end of a port that is nothing but this machine: a
// pseudo-terminal, or where there is none a pipe within the program.
func measureFloor() (float64, error) {
	near, far, err := nothing()
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

func nothing() (near port.Port, far io.ReadCloser, err error) {
	pseudo, err := port.OpenPseudo()
	if err != nil {
		near, far = port.Pipe("floor", port.DefaultLine)
		return near, far, nil
	}
	if near, err = port.Open(pseudo.Path(), port.DefaultLine); err != nil {
		return nil, nil, errors.Join(err, pseudo.Close())
	}
	return near, pseudo, nil
}
