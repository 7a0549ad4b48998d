package run

import (
	"strings"
	"testing"
	"time"

	"uparrot/core/batch"
)

// A verdict on the board stands with the unit that it is of, never with the one that comes next.
func TestTile(t *testing.T) {
	for name, c := range map[string]struct {
		slot        batch.State
		needs       want
		wants, bars []string // in this order; nowhere
	}{
		"free":               {batch.State{}, want{}, []string{"slot 1", "f r e e"}, []string{"P A S S E D"}},
		"first module":       {batch.State{Unit: "LK-1"}, want{asks: &question{text: "plug in LK-1"}}, []string{"A S K S", "plug in LK-1"}, []string{"P A S S E D"}},
		"at work":            {batch.State{Unit: "LK-2", Step: "it answers", Last: "passed", Latest: "LK-1"}, want{}, []string{"A T   W O R K", "LK-2", "it answers"}, []string{"P A S S E D", "LK-1"}},
		"waits for the next": {batch.State{Unit: "LK-2", Last: "passed", Latest: "LK-1"}, want{}, []string{"P A S S E D", "LK-1", "next is LK-2"}, []string{"W O R K"}},
		"asks for the next":  {batch.State{Unit: "LK-2", Last: "failed", Latest: "LK-1", Why: "no answer"}, want{asks: &question{text: "plug in LK-2"}}, []string{"F A I L E D", "LK-1", "no answer", "plug in LK-2"}, []string{"A S K S"}},
		"asks within a step": {batch.State{Unit: "LK-2", Step: "a lamp", Last: "passed", Latest: "LK-1"}, want{asks: &question{text: "is it green?"}}, []string{"A S K S", "LK-2", "a lamp", "is it green?"}, []string{"P A S S E D", "LK-1"}},
		"done with all":      {batch.State{Last: "passed", Latest: "LK-1"}, want{}, []string{"P A S S E D", "LK-1"}, []string{"next"}},
		"hands are to do it": {batch.State{Unit: "LK-2", Step: "a lever"}, want{do: "pull it"}, []string{"A T   W O R K", "LK-2", "a lever", "pull it"}, []string{"A S K S"}},
	} {
		c.slot.Since = time.Now()
		text := tile("1", c.slot, c.needs, true, 40)
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
