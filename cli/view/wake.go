package view

import (
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
)

// WakeMsg tells that something has come, TickMsg is the beat that keeps signal lines and
// the sign of life fresh, HintMsg something to tell below the input.
type (
	WakeMsg struct{}
	TickMsg time.Time
	HintMsg string
)

// drawEvery bounds how often the screen is drawn anew for what comes.
const drawEvery = time.Second / 12

// Waker has a view drawn anew soon after something has come.
type Waker struct{ waking atomic.Bool }

// Wake may be called from any goroutine, and before the program runs.
func (w *Waker) Wake(program *tea.Program) {
	if program != nil && !w.waking.Swap(true) {
		time.AfterFunc(drawEvery, func() { program.Send(WakeMsg{}) })
	}
}

// Woken is called when the view is drawn.
func (w *Waker) Woken() { w.waking.Store(false) }

// Beat is how often a view is drawn anew where nothing comes.
const Beat = 200 * time.Millisecond

// Tick has the view beat.
func Tick() tea.Cmd { return tea.Tick(Beat, func(t time.Time) tea.Msg { return TickMsg(t) }) }

var (
	BarStyle  = lipgloss.NewStyle().Reverse(true)
	SaidStyle = lipgloss.NewStyle().Bold(true)
	NoteStyle = lipgloss.NewStyle().Faint(true).Italic(true)
	FindStyle = lipgloss.NewStyle().Underline(true).Bold(true)
)
