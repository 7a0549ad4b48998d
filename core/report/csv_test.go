package report

import (
	"bytes"
	"errors"
	"math"
	"strings"
	"testing"
	"time"

	"uparrot/core/link"
)

func TestFrameRows(t *testing.T) {
	var b bytes.Buffer
	w := NewFrameTable(&b)
	start := time.Unix(100, 0)
	w.Row("valley", "summit", link.Row{Planned: start, Sent: start.Add(80 * time.Microsecond), Arrived: start.Add(48_680 * time.Microsecond), State: link.OnTime, Copies: 1, Strength: -110, SNR: 6.5})
	w.Row("valley", "summit", link.Row{Number: 1, Planned: start.Add(time.Second), Sent: start.Add(time.Second), State: link.Lost, Harm: link.Cut, Strength: math.NaN(), SNR: math.NaN()})
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	want := "from,to,number,planned_ms,sent_ms,received_ms,latency_ms,state,copies,reordered,strength_dbm,snr_db,came\n" +
		"valley,summit,0,0.000,0.080,48.680,48.600,received,1,false,-110,6.5,\n" +
		"valley,summit,1,1000.000,1000.000,,,lost,0,false,,,cut\n"
	if got := b.String(); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

type fullDisk struct{}

func (fullDisk) Write([]byte) (int, error) { return 0, errors.New("no space left on device") }

// A full disk is told of; it does not pass in silence.
func TestFramesOnFullDisk(t *testing.T) {
	w := NewFrameTable(fullDisk{})
	w.Row("valley", "summit", link.Row{State: link.Lost})
	if err := w.Close(); err == nil || !strings.Contains(err.Error(), "no space left") {
		t.Errorf("got %v", err)
	}
}
