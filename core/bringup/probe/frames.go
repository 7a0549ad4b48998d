package probe

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"uparrot/core/phrasebook"
	"uparrot/core/uart"
)

// hinted are the speeds at which something came, the most readable first, with each frame
// that may be why it was not readable or no answer.
func (p *Probe) hinted() []uart.Line {
	best := map[int]float64{}
	for _, h := range p.result.Heard {
		if h.Text != "" {
			best[h.Speed] = max(best[h.Speed], h.Readable)
		}
	}
	speeds := slices.SortedFunc(maps.Keys(best), func(a, b int) int { return cmp.Or(cmp.Compare(best[b], best[a]), cmp.Compare(a, b)) })
	var all []uart.Line
	for _, s := range speeds[:min(mostHints, len(speeds))] {
		for _, f := range frames {
			all = append(all, uart.Line{Speed: s, Frame: f})
		}
	}
	return all
}

// mostHints is at how many speeds the frames are tried.
const mostHints = 4

// frames are those beside 8N1.
var frames = []uart.Frame{{DataBits: 8, Parity: uart.Even, Stop: 2}, {DataBits: 8, Parity: uart.Odd, Stop: 2}, {DataBits: 7, Parity: uart.Even, Stop: 2}, {DataBits: 7, Parity: uart.Odd, Stop: 2}, {DataBits: 7, Parity: uart.None, Stop: 4}}

// doubtful reports whether something at a speed could not be read, although most can.
func (p *Probe) doubtful(l uart.Line) bool {
	return slices.ContainsFunc(p.result.Heard, func(h Heard) bool { return h.Speed == l.Speed && h.Text != "" && h.Readable < 0.95 })
}

// surer looks whether another frame at the same speed makes it sure, or more of it readable:
// what is read with a wrong one may look like a few letters of an answer.
func (p *Probe) surer(ctx context.Context, l uart.Line) error {
	best, most := p.result, p.legible(l, 0)
	if p.result.Sure {
		most++
	}
	for _, f := range frames {
		from := len(p.result.Heard)
		p.result.Kind, p.result.Why, p.result.Prompt, p.result.Final, p.result.Notices, p.shapes = "", []string{}, "", "", nil, nil
		found, err := p.pass(ctx, []uart.Line{{Speed: l.Speed, Frame: f}}, false)
		if err != nil {
			return err
		}
		share := p.legible(l, from)
		if p.result.Sure && found {
			share++
		}
		if found && share > most {
			best, most = p.result, share
		}
		if most == 2 {
			break
		}
	}
	best.Heard = p.result.Heard
	p.result = best
	if err := p.Port.SetLine(best.Line()); err != nil || best.Ending != phrasebook.CR {
		return err
	}
	_, err := p.ask(ctx, best.Line(), "\r") // no LF of the questions since may stay in its buffer
	return err
}

// legible is how readable what came at a speed was, on average, from a place in what was
// heard on.
func (p *Probe) legible(l uart.Line, from int) float64 {
	sum, n := 0.0, 0
	for _, h := range p.result.Heard[from:] {
		if h.Speed == l.Speed && h.Text != "" {
			sum, n = sum+h.Readable, n+1
		}
	}
	return sum / float64(max(1, n))
}
