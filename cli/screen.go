package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"unicode/utf8"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"golang.org/x/term"

	"uparrot/core/text"
	"uparrot/core/verdict"
)

// screen is where a person reads along: lines, and one line that is drawn anew
// while something goes on. Colours are used as --color and the environment say, else
// where the other side is a terminal that wants them.
type screen struct {
	w        io.Writer
	terminal bool
	coloured bool

	mu    sync.Mutex
	drawn bool // the last line is one to be drawn over
}

func newScreen(w io.Writer) *screen {
	s := &screen{w: w, terminal: drawable(w)}
	s.recolour()
	return s
}

// colours are the values of --color.
var colours = []string{"auto", "always", "never"}

// colour is what --color says: it holds for the whole program, and is set before anything is shown.
var colour = "auto"

// recolour has the screen be coloured as --color and the environment say: NO_COLOR and FORCE_COLOR, if they
// are not empty, and CLICOLOR_FORCE, if it is not 0, go before what the terminal can do.
func (s *screen) recolour() {
	set := func(name string) bool { return os.Getenv(name) != "" && os.Getenv(name) != "0" }
	switch {
	case colour == "always":
		s.coloured = true
	case colour == "never", os.Getenv("NO_COLOR") != "":
		s.coloured = false
	case set("FORCE_COLOR"), set("CLICOLOR_FORCE"):
		s.coloured = true
	default:
		s.coloured = s.terminal && colorprofile.Env(os.Environ()) >= colorprofile.ANSI // nothing is asked of the terminal
	}
}

// drawable reports whether the other side is a terminal that can draw: one that calls itself dumb cannot.
func drawable(w any) bool {
	f, ok := w.(*os.File)
	return ok && isTerminal(w) && os.Getenv("TERM") != "dumb" && readyConsole(f)
}

// style gives a text a style, where the other side wants that.
func (s *screen) style(style lipgloss.Style, text string) string {
	if !s.coloured {
		return text
	}
	return style.Render(text)
}

// line writes a line. Nobody listening is no reason to stop.
func (s *screen) line(format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.clear()
	fmt.Fprintf(s.w, format+"\n", args...)
}

// draw writes a line that the next one replaces. Without a terminal it writes
// nothing.
func (s *screen) draw(format string, args ...any) {
	if !s.terminal {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	text := fmt.Sprintf(format, args...)
	if wide := s.width(); utf8.RuneCountInString(text) >= wide {
		text = string([]rune(text)[:wide-1])
	}
	s.clear()
	fmt.Fprint(s.w, text)
	s.drawn = true
}

// width is how many columns the terminal has; 80 where it does not say.
func (s *screen) width() int {
	if f, ok := s.w.(*os.File); ok {
		if wide, _, err := term.GetSize(int(f.Fd())); err == nil && wide > 0 {
			return wide
		}
	}
	return 80
}

// end takes the drawn line away, before something is written elsewhere.
func (s *screen) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.clear()
}

func (s *screen) clear() {
	if s.drawn {
		fmt.Fprint(s.w, "\r\x1b[K")
		s.drawn = false
	}
}

// colours of verdicts; the word itself always stands beside them.
var verdictColour = map[verdict.Verdict]string{
	verdict.Passed: "2", verdict.Failed: "1", verdict.Broken: "1", verdict.Undecided: "3", verdict.Untested: "8", verdict.Skipped: "8",
}

// verdict is a verdict's word, padded and coloured.
func (s *screen) verdict(v verdict.Verdict, wide int) string {
	return s.style(lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Color(verdictColour[v])), fmt.Sprintf("%-*s", wide, v))
}

func (s *screen) bold(text string) string  { return s.style(lipgloss.NewStyle().Bold(true), text) }
func (s *screen) faint(text string) string { return s.style(lipgloss.NewStyle().Faint(true), text) }

// What a module or a file has in it is never printed but through one of these.

// safe shows text of several lines. All but the first are set in, so that none can pass
// for a line of the program's own.
func safe(s string) string { return strings.ReplaceAll(text.Text(s), "\n", "\n    ") }

// oneLine shows text on one line.
func oneLine(s string) string { return text.Line(s) }

var (
	took   = text.Took
	fromMS = text.FromMS
	count  = text.Count
)

// table lays out rows in columns, two blanks apart. The first row is the head.
// Cells may hold colours.
func table(w io.Writer, rows [][]string) {
	wide := map[int]int{}
	for _, r := range rows {
		for i, c := range r {
			wide[i] = max(wide[i], lipgloss.Width(c))
		}
	}
	for _, r := range rows {
		var b strings.Builder
		for i, c := range r {
			b.WriteString(c)
			if i < len(r)-1 {
				b.WriteString(strings.Repeat(" ", wide[i]-lipgloss.Width(c)+2))
			}
		}
		fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
	}
}

// isTerminal reports whether what is written to w, or read from it, is a person's at a
// terminal.
func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}
