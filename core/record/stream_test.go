package record

import (
	"strings"
	"sync"
	"sync/atomic"
	"testing"
)

// A watcher of a stream and of one made of it is told one thing at a time, and no secret that either has
// hidden.
func TestStreamsShare(t *testing.T) {
	var inside, most atomic.Int32
	var heard []string
	parent := NewStream(nil, func(e Event) {
		most.Store(max(most.Load(), inside.Add(1)))
		heard = append(heard, e.Text)
		inside.Add(-1)
	})
	parent.Hide("snowline")
	child := parent.With(func(Event) {})
	child.Hide("cornice")
	var all sync.WaitGroup
	for _, s := range []*Stream{parent, child} {
		all.Go(func() {
			for range 2000 {
				s.Emit(Event{Kind: Said, Text: "snowline and cornice"})
			}
		})
	}
	all.Wait()
	if len(heard) != 4000 || most.Load() != 1 {
		t.Errorf("%d events, %d at once", len(heard), most.Load())
	}
	for _, text := range heard {
		if strings.Contains(text, "snowline") || strings.Contains(text, "cornice") {
			t.Fatalf("told %q", text)
		}
	}
}
