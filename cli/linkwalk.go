package cli

import (
	"bufio"
	"fmt"
	"math"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"uparrot/core/link"
)

// walker guides a range walk: one live line, a bell when the link goes or comes
// back, and a mark for each line that is typed.
type walker struct {
	app    *app
	walk   *link.Walk
	every  time.Duration
	stop   chan struct{}
	silent bool
	told   time.Time
}

// endWord is typed to end a walk.
const endWord = "end"

func (a *app) newWalker(every time.Duration) *walker {
	w := &walker{app: a, walk: link.NewWalk(time.Now()), every: every, stop: make(chan struct{})}
	a.err.line("Walk. Enter sets a mark, with a name if one is typed before it; %s and Enter ends the walk.", endWord)
	go func() {
		n := 0
		for s := bufio.NewScanner(a.in); s.Scan(); {
			name := strings.TrimSpace(s.Text())
			if name == endWord {
				close(w.stop)
				return
			}
			if n++; name == "" {
				name = fmt.Sprintf("mark %d", n)
			}
			w.walk.Mark(name, time.Now())
			a.err.line("%s", safe(name))
		}
	}()
	return w
}

// silence is how long nothing may come before the link counts as gone.
func (w *walker) silence() time.Duration { return max(time.Second, 4*w.every) }

// observe draws the live line.
func (w *walker) observe(all []link.Progress) {
	p := all[0]
	gone := p.Last.IsZero() || time.Since(p.Last) > w.silence()
	if p.Sent > 5 && gone != w.silent {
		w.silent = gone
		if w.app.err.terminal {
			fmt.Fprint(w.app.err.w, "\a")
		}
		w.app.err.line("%s  %s", time.Now().Format("15:04:05"), map[bool]string{true: "SILENT", false: "heard again"}[gone])
	}
	text := fmt.Sprintf("  heard %d  missed %d", p.Received, p.Missed)
	if !math.IsNaN(p.Strength) {
		text += fmt.Sprintf("  %.0f dBm %s", p.Strength, p.Trend)
	}
	if !p.Last.IsZero() {
		text += fmt.Sprintf("  last %.1f s ago", time.Since(p.Last).Seconds())
	}
	text += "  [" + safe(w.walk.Name()) + "]"
	state, colour := "  HEARING  ", "2"
	if gone {
		state, colour = "  SILENT   ", "1"
	}
	style := lipgloss.NewStyle().Bold(true)
	w.app.err.draw("%s%s", w.app.err.style(style.Background(lipgloss.Color(colour)).Foreground(lipgloss.Color("15")), state), w.app.err.style(style, text))
	if !w.app.err.terminal && time.Since(w.told) > 10*time.Second {
		w.told = time.Now()
		w.app.err.line("%s%s", strings.TrimSpace(state), text)
	}
}
