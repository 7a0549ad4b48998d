package sim

import (
	"testing"
	"time"

	"uparrot/core/uart"
)

// A host that never reads costs no more memory than a bound.
func TestNobodyReads(t *testing.T) {
	w := &wire{more: make(chan struct{}, 1)}
	for range 5000 {
		w.queue(time.Time{}, make([]byte, 1000), uart.DefaultLine, false)
	}
	if n := len(w.out); n < 1000 || n*1000 > mostWaiting {
		t.Errorf("%d pieces wait", n)
	}
}
