package measure

import (
	"bufio"
	"fmt"
	"math"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"uparrot/cli/shell"
	"uparrot/core/link"
)

// walker guides a range walk: one live line, a bell when the link goes or comes
// back, and a mark for each line that is typed.
type walker struct {
	app    *shell.Streams
	walk   *link.Walk
	every  time.Duration
	stop   chan struct{}
	silent bool
	told   time.Time
}

// endWord is typed to end a walk.
const endWord = "end"

func newWalker(sh *shell.Streams, every time.Duration) *walker {
	w := &walker{app: sh, walk: link.NewWalk(time.Now()), every: every, stop: make(chan struct{})}
	sh.Err.Line("Walk. Enter sets a mark, with a name if one is typed before it; %s and Enter ends the walk.", endWord)
	go func() {
		n := 0
		for s := bufio.NewScanner(sh.In); s.Scan(); {
			name := strings.TrimSpace(s.Text())
			if name == endWord {
				close(w.stop)
				return
			}
			if n++; name == "" {
				name = fmt.Sprintf("mark %d", n)
			}
			w.walk.Mark(name, time.Now())
			sh.Err.Line("%s", shell.Safe(name))
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
		if w.app.Err.Terminal {
			fmt.Fprint(w.app.Err.W, "\a")
		}
		w.app.Err.Line("%s  %s", time.Now().Format("15:04:05"), map[bool]string{true: "SILENT", false: "heard again"}[gone])
	}
	text := fmt.Sprintf("  heard %d  missed %d", p.Received, p.Missed)
	if !math.IsNaN(p.Strength) {
		text += fmt.Sprintf("  %.0f dBm %s", p.Strength, p.Trend)
	}
	if !p.Last.IsZero() {
		text += fmt.Sprintf("  last %.1f s ago", time.Since(p.Last).Seconds())
	}
	text += "  [" + shell.Safe(w.walk.Name()) + "]"
	state, colour := "  HEARING  ", "2"
	if gone {
		state, colour = "  SILENT   ", "1"
	}
	style := lipgloss.NewStyle().Bold(true)
	w.app.Err.Draw("%s%s", w.app.Err.Style(style.Background(lipgloss.Color(colour)).Foreground(lipgloss.Color("15")), state), w.app.Err.Style(style, text))
	if !w.app.Err.Terminal && time.Since(w.told) > 10*time.Second {
		w.told = time.Now()
		w.app.Err.Line("%s%s", strings.TrimSpace(state), text)
	}
}
