package shell

import (
	"os"
	"sync"
)

// WatchedInput is a terminal whose end is noticed: not everywhere does a signal tell of
// it.
type WatchedInput struct {
	*os.File
	Gone func()
}

func (w *WatchedInput) Read(b []byte) (int, error) {
	n, err := w.File.Read(b)
	if err != nil {
		w.Gone()
	}
	return n, err
}

// Handover is how a terminal that was changed is handed back for a while, and taken
// again.
type Handover struct {
	mu         sync.Mutex
	give, take func() error // nil while it is as it was found
}

// By changes how, and gives what puts that back.
func (h *Handover) By(give, take func() error) (before func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	oldGive, oldTake := h.give, h.take
	h.give, h.take = give, take
	return func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.give, h.take = oldGive, oldTake
	}
}

func (h *Handover) giveBack() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.give == nil {
		return nil
	}
	return h.give()
}

// takeAgain takes the terminal again; one that has gone meanwhile is noticed by whoever
// reads from it.
func (h *Handover) takeAgain() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.take != nil {
		_ = h.take()
	}
}
