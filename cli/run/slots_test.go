package run

import (
	"context"
	"errors"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/cli/shell"
	"uparrot/core/bench"
)

// What slots share is used by no more at once than may, whatever they want of it in whatever
// order, and none waits for ever.
func TestShared(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newShared(&bench.Bench{Shared: map[string]int{"air": 1, "supply": 2, "box": 1}})
		names := []string{"air", "supply", "box"}
		limit := map[string]int{"air": 1, "supply": 2, "box": 1}
		using := map[string]int{}
		var mu sync.Mutex
		var all sync.WaitGroup
		for i := range 64 {
			rng := rand.New(rand.NewPCG(1, uint64(i)))
			all.Go(func() {
				for range 20 {
					var wants []string
					for range 1 + rng.IntN(4) {
						wants = append(wants, names[rng.IntN(3)])
					}
					release, err := s.use(t.Context(), wants)
					if err != nil {
						t.Error(err)
						return
					}
					once := map[string]bool{}
					mu.Lock()
					for _, n := range wants {
						if once[n] {
							continue
						}
						once[n] = true
						if using[n]++; using[n] > limit[n] {
							t.Errorf("%d use %s", using[n], n)
						}
					}
					mu.Unlock()
					time.Sleep(time.Duration(rng.IntN(1000)) * time.Millisecond)
					mu.Lock()
					for n := range once {
						using[n]--
					}
					mu.Unlock()
					release()
				}
			})
		}
		all.Wait()

		held, err := s.use(t.Context(), []string{"air"})
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithCancelCause(t.Context())
		time.AfterFunc(time.Second, func() { cancel(shell.ErrInterrupted) })
		if _, err := s.use(ctx, []string{"box", "air"}); !errors.Is(err, shell.ErrInterrupted) {
			t.Error(err)
		}
		held()
		if release, err := s.use(t.Context(), names); err != nil { // nothing is held any more
			t.Error(err)
		} else {
			release()
		}
	})
}

// A verdict on the board stands with the unit that it is of, never with the one that comes next.
func TestTile(t *testing.T) {
	for name, c := range map[string]struct {
		slot        *slot
		wants, bars []string // in this order; nowhere
	}{
		"free":               {&slot{}, []string{"slot 1", "f r e e"}, []string{"P A S S E D"}},
		"first module":       {&slot{unit: "LK-1", asks: &question{text: "plug in LK-1"}}, []string{"A S K S", "plug in LK-1"}, []string{"P A S S E D"}},
		"at work":            {&slot{unit: "LK-2", step: "it answers", last: "passed", latest: "LK-1"}, []string{"A T   W O R K", "LK-2", "it answers"}, []string{"P A S S E D", "LK-1"}},
		"waits for the next": {&slot{unit: "LK-2", last: "passed", latest: "LK-1"}, []string{"P A S S E D", "LK-1", "next is LK-2"}, []string{"W O R K"}},
		"asks for the next":  {&slot{unit: "LK-2", last: "failed", latest: "LK-1", why: "no answer", asks: &question{text: "plug in LK-2"}}, []string{"F A I L E D", "LK-1", "no answer", "plug in LK-2"}, []string{"A S K S"}},
		"asks within a step": {&slot{unit: "LK-2", step: "a lamp", last: "passed", latest: "LK-1", asks: &question{text: "is it green?"}}, []string{"A S K S", "LK-2", "a lamp", "is it green?"}, []string{"P A S S E D", "LK-1"}},
		"done with all":      {&slot{last: "passed", latest: "LK-1"}, []string{"P A S S E D", "LK-1"}, []string{"next"}},
		"hands are to do it": {&slot{unit: "LK-2", step: "a lever", does: "pull it"}, []string{"A T   W O R K", "LK-2", "a lever", "pull it"}, []string{"A S K S"}},
	} {
		s := c.slot
		s.Name, s.since = "1", time.Now()
		d := &board{batch: &batch{slots: []*slot{s}}}
		text := d.tile(0, 40)
		rest := text
		for _, w := range c.wants {
			_, after, ok := strings.Cut(rest, w)
			if rest = after; !ok {
				t.Errorf("%s: %q does not stand there in its place:\n%s", name, w, text)
				break
			}
		}
		for _, w := range c.bars {
			if strings.Contains(text, w) {
				t.Errorf("%s: %q stands there:\n%s", name, w, text)
			}
		}
	}
}
