package shell

import (
	"os"
	"sync"
)

// NoticedInput is a terminal whose end is noticed: not everywhere does a signal tell of
// it.
type NoticedInput struct {
	*os.File
	Gone func()
}

func (w *NoticedInput) Read(b []byte) (int, error) {
	n, err := w.File.Read(b)
	if err != nil {
		w.Gone()
	}
	return n, err
}

// TerminalState is how a terminal that was changed is handed back for a while, and taken
// again.
type TerminalState struct {
	mu         sync.Mutex
	give, take func() error // nil while it is as it was found
}

// Set changes how, and gives what puts that back.
func (h *TerminalState) Set(give, take func() error) (before func()) {
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

func (h *TerminalState) giveBack() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.give == nil {
		return nil
	}
	return h.give()
}

// takeAgain takes the terminal again; one that has gone meanwhile is noticed by whoever
// reads from it.
func (h *TerminalState) takeAgain() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.take != nil {
		_ = h.take()
	}
}
