package pace

import (
	"context"
	"testing"
	"testing/synctest"
	"time"
)

func TestUntil(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		for _, d := range []time.Duration{-time.Second, 0, 100 * time.Microsecond, 3 * time.Millisecond, time.Hour} {
			began := time.Now()
			if !Until(ctx, began.Add(d), time.Sleep, nil) || time.Since(began) != max(0, d) {
				t.Errorf("%v took %v", d, time.Since(began))
			}
		}
		for _, d := range []time.Duration{time.Hour, time.Millisecond} {
			early := make(chan struct{}, 1)
			early <- struct{}{}
			if began := time.Now(); Until(ctx, began.Add(d), time.Sleep, early) || time.Since(began) > 0 {
				t.Errorf("%v: what came early did not end the wait", d)
			}
		}
		time.AfterFunc(time.Second, cancel)
		if began := time.Now(); Until(ctx, began.Add(time.Hour), time.Sleep, nil) || time.Since(began) != time.Second {
			t.Error("the context did not end the wait")
		}
		if Until(ctx, time.Now(), time.Sleep, nil) {
			t.Error("a wait that was given up went well")
		}
	})
}
