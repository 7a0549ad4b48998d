package chart

import (
	"fmt"
	"html"
)

// Range is a value among its limits; nil is an open side.
type Range struct {
	Value     float64
	Of        *Span // of a series: from its least to its greatest; nil of one value
	Low, High *float64
	Outside   bool
	Label     string // for those who do not see it
}

// Inline is the range as a part of a page, as wide as a column: the band is what is
// allowed, an open side goes on to the edge. Without limits it is empty.
func (r Range) Inline() string {
	if r.Low == nil && r.High == nil {
		return ""
	}
	low, high := r.Value, r.Value
	if r.Low != nil {
		low = *r.Low
	}
	if r.High != nil {
		high = *r.High
	}
	if r.Low == nil {
		low = min(r.Value, high) - max(1, abs(high-r.Value))
	}
	if r.High == nil {
		high = max(r.Value, low) + max(1, abs(r.Value-low))
	}
	if low > high {
		low, high = high, low
	}
	room := max(high-low, 1e-9) / 4
	const across = 176
	at := func(v float64) float64 { return across * min(1, max(0, (v-low+room)/(high-low+2*room))) }
	from, to := at(low), at(high)
	if r.Low == nil {
		from = 0
	}
	if r.High == nil {
		to = across
	}
	mark := "mark"
	if r.Outside {
		mark = "out"
	}
	from2, to2 := at(r.Value), at(r.Value)
	if r.Of != nil {
		from2, to2 = at(r.Of.Low), at(r.Of.High)
	}
	return fmt.Sprintf(`<svg class="range" viewBox="0 0 %d 22" role="img" aria-label="%s"><rect class="track" y="9" width="%d" height="4"/><rect class="band" x="%.1f" y="5" width="%.1f" height="12"/><rect class="%s" x="%.1f" y="9.5" width="%.1f" height="3"/><path class="%s" d="M%.1f 4 l4 7 l-4 7 l-4 -7 z"/></svg>`,
		across, html.EscapeString(r.Label), across, from, to-from, mark, from2, to2-from2, mark, min(across-4, max(4, at(r.Value))))
}

func abs(v float64) float64 { return max(v, -v) }
