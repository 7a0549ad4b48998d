package speak

import (
	"testing"

	"uparrot/core/talk"
)

// A view that is not shown keeps no more than it would show, and counts the rest.
func TestPendingIsBounded(t *testing.T) {
	p := &pane{}
	const events = 3*mostPending + 7
	for range events {
		p.pend(talk.Event{Kind: talk.Heard})
		if len(p.pending) > mostPending {
			t.Fatalf("%d events wait", len(p.pending))
		}
	}
	if len(p.pending)+p.missed != events {
		t.Errorf("%d wait and %d are missed, of %d", len(p.pending), p.missed, events)
	}
}
