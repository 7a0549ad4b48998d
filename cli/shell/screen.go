package shell

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

// Clip keeps a long value from filling the screen; the record has it whole.
func Clip(s string) string { return text.Clip(s, 60) }

// Wide is how many columns a line of a list has at most.
const Wide = 96

// Wrapped is a list over as many lines as it takes.
func Wrapped(list []string, between, indent string) string {
	var out strings.Builder
	line := indent
	for i, word := range list {
		word = OneLine(Clip(word))
		if i < len(list)-1 {
			word += between
		}
		if Width(line)+Width(word) > Wide && line != indent {
			out.WriteString(strings.TrimRight(line, " ") + "\n")
			line = indent
		}
		line += word
	}
	return out.String() + strings.TrimRight(line, " ") + "\n"
}

// Screen is where a person reads along: lines, and one line that is drawn anew
// while something goes on. Colours are used as --color and the environment say, else
// where the other side is a terminal that wants them.
type Screen struct {
	W        io.Writer
	Terminal bool
	coloured bool

	mu    sync.Mutex
	drawn bool // the last line is one to be drawn over
}

// NewScreen is a screen that is coloured as --color and the environment say.
func NewScreen(w io.Writer) *Screen {
	s := &Screen{W: w, Terminal: Drawable(w)}
	s.Recolour()
	return s
}

// Colours are the values of --color.
var Colours = []string{"auto", "always", "never"}

// Colour is what --color says: it holds for the whole program, and is set before anything is shown.
var Colour = "auto"

// Recolour has the screen be coloured as --color and the environment say: NO_COLOR and FORCE_COLOR, if they
// are not empty, and CLICOLOR_FORCE, if it is not 0, go before what the terminal can do.
func (s *Screen) Recolour() {
	set := func(name string) bool { return os.Getenv(name) != "" && os.Getenv(name) != "0" }
	switch {
	case Colour == "always":
		s.coloured = true
	case Colour == "never", os.Getenv("NO_COLOR") != "":
		s.coloured = false
	case set("FORCE_COLOR"), set("CLICOLOR_FORCE"):
		s.coloured = true
	default:
		s.coloured = s.Terminal && colorprofile.Env(os.Environ()) >= colorprofile.ANSI // nothing is asked of the terminal
	}
}

// Drawable reports whether the other side is a terminal that can draw: one that calls itself dumb cannot.
func Drawable(w any) bool {
	f, ok := fileOf(w)
	return ok && IsTerminal(w) && os.Getenv("TERM") != "dumb" && readyConsole(f)
}

// Style gives a text a style, where the other side wants that.
func (s *Screen) Style(style lipgloss.Style, text string) string {
	if !s.coloured {
		return text
	}
	return style.Render(text)
}

// Line writes a line. Nobody listening is no reason to stop.
func (s *Screen) Line(format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.clear()
	fmt.Fprintf(s.W, format+"\n", args...)
}

// Draw writes a line that the next one replaces. Without a terminal it writes
// nothing.
func (s *Screen) Draw(format string, args ...any) {
	if !s.Terminal {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	text := fmt.Sprintf(format, args...)
	if wide := s.width(); utf8.RuneCountInString(text) >= wide {
		text = string([]rune(text)[:wide-1])
	}
	s.clear()
	fmt.Fprint(s.W, text)
	s.drawn = true
}

// width is how many columns the terminal has; 80 where it does not say.
func (s *Screen) width() int {
	if f, ok := fileOf(s.W); ok {
		if wide, _, err := term.GetSize(int(f.Fd())); err == nil && wide > 0 {
			return wide
		}
	}
	return 80
}

// End takes the drawn line away, before something is written elsewhere.
func (s *Screen) End() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.clear()
}

func (s *Screen) clear() {
	if s.drawn {
		fmt.Fprint(s.W, "\r\x1b[K")
		s.drawn = false
	}
}

// colours of verdicts; the word itself always stands beside them.
var VerdictColour = map[verdict.Verdict]string{
	verdict.Passed: "2", verdict.Failed: "1", verdict.Broken: "1", verdict.Undecided: "3", verdict.Untested: "8", verdict.Skipped: "8",
}

// Verdict is a verdict's word, padded and coloured.
func (s *Screen) Verdict(v verdict.Verdict, wide int) string {
	return s.Style(lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Color(VerdictColour[v])), fmt.Sprintf("%-*s", wide, v))
}

// Bold is a text in bold, where colours are wanted.
func (s *Screen) Bold(text string) string { return s.Style(lipgloss.NewStyle().Bold(true), text) }

// Faint is a text that stands back, where colours are wanted.
func (s *Screen) Faint(text string) string { return s.Style(lipgloss.NewStyle().Faint(true), text) }

// What a module or a file has in it is never printed but through one of these.

// Safe shows text of several lines. All but the first are set in, so that none can pass
// for a line of the program's own.
func Safe(s string) string { return strings.ReplaceAll(text.Text(s), "\n", "\n    ") }

// OneLine shows text on one line.
func OneLine(s string) string { return text.Line(s) }

var (
	Took   = text.Took
	FromMS = text.FromMS
	Count  = text.Count
)

// Table lays out rows in columns, two blanks apart. The first row is the head.
// Cells may hold colours.
func Table(w io.Writer, rows [][]string) {
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

// IsTerminal reports whether what is written to w, or read from it, is a person's at a
// terminal.
func IsTerminal(w any) bool {
	f, ok := fileOf(w)
	return ok && term.IsTerminal(int(f.Fd()))
}
