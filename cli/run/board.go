package run

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"uparrot/cli/shell"
	"uparrot/cli/view"
	"uparrot/core/batch"
)

// board shows all slots at once: a tile each, what a person must do where, and how far it is.
type board struct {
	run     *unitsRun
	slots   []*batch.Slot
	began   time.Time
	input   textinput.Model
	focus   int       // the slot whose question is answered
	asked   *question // the one that what is typed is meant for
	stop    func()
	wide    int
	high    int
	program *tea.Program
	view.Waker

	mu    sync.Mutex
	wants map[*batch.Slot]want
	told  []string // the latest lines
}

// want is what a slot wants of a person.
type want struct {
	asks *question // nil if it asks nothing
	do   string    // what is to be done
}

// question is what a slot asks; the answer is sent to reply.
type question struct {
	text  string
	reply chan string
}

func (u *unitsRun) newBoard(wide int) *board {
	return &board{run: u, slots: u.Working(), began: time.Now(), input: textinput.New(), wide: wide, high: 24, wants: map[*batch.Slot]want{}}
}

// want is what a slot wants now.
func (d *board) want(s *batch.Slot) want {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.wants[s]
}

// does shows what a person is to do at a slot; "" takes that away.
func (d *board) does(s *batch.Slot, text string) {
	d.mu.Lock()
	w := d.wants[s]
	w.do = text
	d.wants[s] = w
	d.mu.Unlock()
	d.Wake(d.program)
}

// ask asks at a slot, until it is answered or ctx is done.
func (d *board) ask(ctx context.Context, s *batch.Slot, text string) (string, error) {
	q := &question{text, make(chan string, 1)}
	asks := func(q *question) {
		d.mu.Lock()
		w := d.wants[s]
		w.asks = q
		d.wants[s] = w
		d.mu.Unlock()
		d.Wake(d.program)
	}
	asks(q)
	defer asks(nil)
	select {
	case answer := <-q.reply:
		return strings.TrimSpace(answer), nil
	case <-ctx.Done():
		return "", context.Cause(ctx)
	}
}

// onBoard goes through the units with the board on the screen.
func (u *unitsRun) onBoard(ctx context.Context) error {
	own, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	d := u.newBoard(80)
	d.stop = func() { cancel(shell.ErrInterrupted) }
	d.input.Prompt = ""
	d.input.Focus()
	d.program = view.Program(own, u.Streams, d, 12, d.stop)
	u.setBoard(d)
	defer u.setBoard(nil)
	var err error
	verr := view.During(d.program, func() {}, func() { err = u.Do(own) })
	return errors.Join(err, verr)
}

// withStill goes through the units with a board that is on no screen, and hands out what it shows
// half way.
func (u *unitsRun) withStill(ctx context.Context) error {
	d := u.newBoard(72)
	u.setBoard(d)
	over := make(chan error, 1)
	go func() { over <- u.Do(ctx) }()
	look := time.NewTicker(50 * time.Millisecond)
	defer look.Stop()
	shown := false
	for {
		select {
		case err := <-over:
			return err
		case <-look.C:
		}
		if p := u.Progress(); !shown && p.Done >= p.Of/2 {
			shown = true
			u.Still(d.tiles())
		}
	}
}

// line keeps a line that a slot tells.
func (d *board) line(text string) {
	d.mu.Lock()
	if d.told = append(d.told, text); len(d.told) > 50 {
		d.told = d.told[1:]
	}
	d.mu.Unlock()
	d.Wake(d.program)
}

func (d *board) Init() tea.Cmd { return view.Tick() }

func (d *board) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		d.wide, d.high = msg.Width, msg.Height
	case view.WakeMsg:
		d.Woken()
	case view.TickMsg:
		return d, view.Tick()
	case tea.KeyPressMsg:
		switch msg.String() {
		case "ctrl+c":
			d.stop()
			return d, nil
		case "tab":
			d.turnTo(d.next(d.focus + 1))
			return d, nil
		case "enter":
			d.answer()
			return d, nil
		}
	}
	var cmd tea.Cmd
	d.input, cmd = d.input.Update(msg)
	return d, cmd
}

// next is the slot from a place on that asks; the place itself if none does.
func (d *board) next(from int) int {
	for i := range d.slots {
		at := (from + i) % len(d.slots)
		if d.want(d.slots[at]).asks != nil {
			return at
		}
	}
	return from % len(d.slots)
}

// turnTo has the question of a slot answered next. What was typed for another is dropped.
func (d *board) turnTo(i int) {
	d.focus = i
	if q := d.want(d.slots[i]).asks; q != d.asked {
		d.asked = q
		d.input.SetValue("")
	}
}

// answer answers the question that stands on the screen.
func (d *board) answer() {
	typed := strings.TrimSpace(d.input.Value())
	d.input.SetValue("")
	if q := d.asked; q != nil && q == d.want(d.slots[d.focus]).asks {
		select {
		case q.reply <- typed:
		default: // it is answered already
		}
		d.turnTo(d.next(d.focus + 1)) // one slot that asks again must not keep the others waiting
	}
}

// View is what stands on the screen.
func (d *board) View() tea.View {
	screen := tea.NewView(d.screen())
	screen.AltScreen = true
	return screen
}

// tileWide and tileHigh are the least room of a tile.
const (
	tileWide = 30
	tileHigh = 9
)

func (d *board) screen() string {
	d.turnTo(d.next(d.focus))
	body := strings.Split(d.tiles(), "\n")
	room := max(1, d.high-2)
	d.mu.Lock()
	told := append([]string(nil), d.told...)
	d.mu.Unlock()
	for i := max(0, len(told)-max(0, room-len(body)-1)); i < len(told) && len(body) < room; i++ {
		body = append(body, view.NoteStyle.Render(shell.Cut(told[i], d.wide)))
	}
	for len(body) < room {
		body = append(body, "")
	}
	prompt := "no question"
	if q := d.want(d.slots[d.focus]).asks; q != nil {
		prompt = "slot " + shell.OneLine(d.slots[d.focus].Name) + ": " + shell.OneLine(q.text) + " > "
	}
	prompt = shell.Cut(prompt, max(10, d.wide-16))
	d.input.SetWidth(max(1, d.wide-shell.Width(prompt)-2))
	return strings.Join(append(body[:room], prompt+d.input.View(), view.BarStyle.Render(shell.Pad(" Enter answers  Tab the next question  Ctrl-C stops", d.wide))), "\n")
}

// tiles are how far all is, and the slots.
func (d *board) tiles() string {
	across := max(1, min(len(d.slots), d.wide/tileWide))
	w := d.wide / across
	rows := []string{view.BarStyle.Render(shell.Pad(" "+d.tally(), d.wide))}
	for i := 0; i < len(d.slots); i += across {
		var tiles []string
		for j := i; j < min(len(d.slots), i+across); j++ {
			tiles = append(tiles, d.tile(j, w))
		}
		rows = append(rows, lipgloss.JoinHorizontal(lipgloss.Top, tiles...))
	}
	return strings.Join(rows, "\n")
}

// tally is how far all is: units done, passed, and the time left as it has gone until now, or how
// many units are open where several stations share them.
func (d *board) tally() string {
	p := d.run.Progress()
	came := fmt.Sprintf("%d passed, %d not", p.Passed, p.Done-p.Passed)
	if d.run.Stored() {
		if came = fmt.Sprintf("%d units done here, %s", p.Done, came); p.Open >= 0 {
			came += fmt.Sprintf(", %d open", p.Open)
		}
		return came
	}
	words := fmt.Sprintf("%d of %d units done, %s", p.Done, p.Of, came)
	if left := p.Of - p.Done; p.Worked > 0 && left > 0 {
		each := time.Since(d.began) / time.Duration(p.Worked)
		words += ", about " + shell.Took((each * time.Duration(left)).Round(time.Second)) + " left"
	}
	return words
}

// tile is one slot.
func (d *board) tile(i, w int) string {
	return tile(d.slots[i].Name, d.slots[i].State(), d.want(d.slots[i]), i == d.focus, w)
}

func tile(name string, s batch.State, wants want, focused bool, w int) string {
	inner := w - 4
	state, colour := "free", lipgloss.Color("8")
	lines := []string{"", "", ""}
	begun := s.Unit != "" && s.Step != ""
	switch {
	case s.Last != "" && !begun: // what came of the unit before stays in sight, under its own name
		state, colour = strings.ToUpper(string(s.Last)), lipgloss.Color(shell.VerdictColour[s.Last])
		lines[0], lines[1] = s.Latest, s.Why
	case s.Unit != "":
		state, colour = "AT WORK", lipgloss.Color("4")
		lines[0], lines[1] = s.Unit+"  "+shell.Took(time.Since(s.Since).Round(time.Second)), s.Step
	}
	switch {
	case wants.asks != nil:
		if lines[2] = wants.asks.text; begun || s.Last == "" {
			state, colour = "ASKS", lipgloss.Color("3")
		}
	case wants.do != "":
		lines[2] = wants.do
	case s.Unit != "" && !begun && s.Last != "":
		lines[2] = "next is " + s.Unit
	}
	mark := "  "
	if focused && wants.asks != nil {
		mark = "▶ "
	}
	band := lipgloss.NewStyle().Background(colour)
	if colour == lipgloss.Color("2") || colour == lipgloss.Color("3") { // bright on many screens
		band = band.Foreground(lipgloss.Color("0"))
	} else {
		band = band.Bold(true).Foreground(lipgloss.Color("15"))
	}
	blank := band.Render(shell.Pad("", inner))
	text := []string{mark + "slot " + shell.OneLine(name) + fmt.Sprintf("   %d done", s.Done), blank, band.Render(shell.Pad("  "+spaced(state), inner)), blank}
	for _, l := range lines {
		text = append(text, shell.Cut(shell.OneLine(l), inner))
	}
	return lipgloss.NewStyle().Border(lipgloss.NormalBorder()).Width(w).Height(tileHigh).Render(strings.Join(text, "\n"))
}

// spaced is a word in big letters, as far as a terminal has such.
func spaced(word string) string { return strings.Join(strings.Split(word, ""), " ") }
