package batch

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
)

// What slots share is used by no more at once than may, whatever they want of it in whatever
// order, and none waits for ever.
var errGone = errors.New("gone")

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
		time.AfterFunc(time.Second, func() { cancel(errGone) })
		if _, err := s.use(ctx, []string{"box", "air"}); !errors.Is(err, errGone) {
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
