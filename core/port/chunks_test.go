package port

import (
	"context"
	"testing"
	"testing/synctest"

	"uparrot/core/uart"
)

// The goroutine that reads a port ends when its reader has stopped, though nobody
// takes what still comes. A goroutine that is left fails the bubble.
func TestChunksEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		host, module := Pipe("m", uart.DefaultLine)
		ctx, cancel := context.WithCancel(t.Context())
		chunks := ReadChunks(ctx, host)
		if _, err := module.Write([]byte("x")); err != nil {
			t.Fatal(err)
		}
		<-chunks.C
		cancel()
		for range 2000 { // more than the channel holds
			if _, err := module.Write(make([]byte, 4096)); err != nil {
				t.Fatal(err)
			}
		}
		synctest.Wait()
		for range chunks.C {
		}
		if chunks.Err() != context.Canceled {
			t.Errorf("it ended with %v", chunks.Err())
		}
	})
}
