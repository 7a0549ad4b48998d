package run

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/cli/view"
	"uparrot/core/perform"
	"uparrot/core/verdict"
)

// board shows all slots at once: a tile each, what a person must do where, and how far it is.
type board struct {
	*batch
	began   time.Time
	input   textinput.Model
	focus   int       // the slot whose question is answered
	asked   *question // the one that what is typed is meant for
	stop    func()
	wide    int
	high    int
	program *tea.Program
	view.Waker
	told []string // the latest lines
}

// question is what a slot asks; the answer is sent to reply.
type question struct {
	text  string
	reply chan string
}

// boardPerson is the person as a slot asks on the board.
type boardPerson struct {
	*slot
	board *board
}

// Tell shows what to do until the next question or step.
func (p *boardPerson) Tell(_ context.Context, text string) error {
	p.mu.Lock()
	p.does = text
	p.mu.Unlock()
	p.board.Wake(p.board.program)
	return nil
}

// Confirm asks until yes or no is typed.
func (p *boardPerson) Confirm(ctx context.Context, question string) (bool, error) {
	return account.AskOnce(p.Ask).Confirm(ctx, question, p.wrong)
}

// Value asks until a value is typed that fits.
func (p *boardPerson) Value(ctx context.Context, question string, check func(string) error) (string, error) {
	return account.AskOnce(p.Ask).Value(ctx, question, check, p.wrong)
}

// wrong tells why an answer will not do.
func (p *boardPerson) wrong(why string) { p.say("%s", why) }

func (p *boardPerson) Ask(ctx context.Context, text string) (string, error) {
	q := &question{text, make(chan string, 1)}
	p.mu.Lock()
	p.asks = q
	p.mu.Unlock()
	p.board.Wake(p.board.program)
	defer func() {
		p.mu.Lock()
		p.asks = nil
		p.mu.Unlock()
		p.board.Wake(p.board.program)
	}()
	select {
	case answer := <-q.reply:
		return strings.TrimSpace(answer), nil
	case <-ctx.Done():
		return "", context.Cause(ctx)
	}
}

var _ perform.Operator = (*boardPerson)(nil)

// onBoard goes through the units with the board on the screen.
func (b *batch) onBoard(ctx context.Context) error {
	own, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	d := &board{batch: b, began: time.Now(), input: textinput.New(), wide: 80, high: 24}
	d.stop = func() { cancel(shell.ErrInterrupted) }
	d.input.Prompt = ""
	d.input.Focus()
	for _, s := range b.slots {
		s.board = d
		s.who = &boardPerson{s, d}
	}
	b.show(d)
	b.quietly = true
	in := b.In
	if f, ok := in.(*os.File); ok {
		in = &shell.WatchedInput{File: f, Gone: d.stop}
	}
	d.program = tea.NewProgram(d, tea.WithContext(own), tea.WithInput(in), tea.WithOutput(b.Streams.Out), tea.WithoutSignalHandler(), tea.WithFPS(12))
	var terminal shell.Handover
	terminal.By(d.program.ReleaseTerminal, d.program.RestoreTerminal)
	defer terminal.Heed()()
	var err error
	over := make(chan struct{})
	go func() {
		defer close(over)
		err = b.all(own)
		d.program.Quit()
	}()
	_, verr := d.program.Run()
	<-over
	b.show(nil)
	if verr != nil && !errors.Is(verr, tea.ErrProgramKilled) {
		err = errors.Join(err, verr)
	}
	return err
}

// show has what is told stand on a board; nil is on none.
func (b *batch) show(d *board) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.shown = d
}

// withStill goes through the units with a board that is on no screen, and hands out what it shows
// half way.
func (b *batch) withStill(ctx context.Context) error {
	d := &board{batch: b, began: time.Now(), input: textinput.New(), wide: 72}
	for _, s := range b.slots {
		s.board = d
	}
	b.quietly = true
	over := make(chan error, 1)
	go func() { over <- b.all(ctx) }()
	look := time.NewTicker(50 * time.Millisecond)
	defer look.Stop()
	shown := false
	for {
		select {
		case err := <-over:
			return err
		case <-look.C:
		}
		b.mu.Lock()
		half := len(b.over) >= len(b.table.Rows)/2
		b.mu.Unlock()
		if half && !shown {
			shown = true
			b.Still(d.tiles())
		}
	}
}

// line keeps a line that a slot tells.
func (d *board) line(text string) {
	d.batch.mu.Lock()
	if d.told = append(d.told, text); len(d.told) > 50 {
		d.told = d.told[1:]
	}
	d.batch.mu.Unlock()
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
		if d.slots[at].question() != nil {
			return at
		}
	}
	return from % len(d.slots)
}

// turnTo has the question of a slot answered next. What was typed for another is dropped.
func (d *board) turnTo(i int) {
	d.focus = i
	if q := d.slots[i].question(); q != d.asked {
		d.asked = q
		d.input.SetValue("")
	}
}

// answer answers the question that stands on the screen.
func (d *board) answer() {
	typed := strings.TrimSpace(d.input.Value())
	d.input.SetValue("")
	if q := d.asked; q != nil && q == d.slots[d.focus].question() {
		select {
		case q.reply <- typed:
		default: // it is answered already
		}
		d.turnTo(d.next(d.focus + 1)) // one slot that asks again must not keep the others waiting
	}
}

// question is what the slot asks; nil if nothing.
func (s *slot) question() *question {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.asks
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
	d.batch.mu.Lock()
	told := append([]string(nil), d.told...)
	d.batch.mu.Unlock()
	for i := max(0, len(told)-max(0, room-len(body)-1)); i < len(told) && len(body) < room; i++ {
		body = append(body, view.NoteStyle.Render(shell.Cut(told[i], d.wide)))
	}
	for len(body) < room {
		body = append(body, "")
	}
	prompt := "no question"
	if q := d.slots[d.focus].question(); q != nil {
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
	open := d.source.left()
	d.batch.mu.Lock()
	defer d.batch.mu.Unlock()
	done, passed, worked := len(d.over), 0, 0
	for _, r := range d.over {
		if r.verdict == verdict.Passed {
			passed++
		}
		if !r.before {
			worked++
		}
	}
	came := fmt.Sprintf("%d passed, %d not", passed, done-passed)
	if _, shared := d.source.(*batchUnits); shared {
		if came = fmt.Sprintf("%d units done here, %s", done, came); open >= 0 {
			came += fmt.Sprintf(", %d open", open)
		}
		return came
	}
	words := fmt.Sprintf("%d of %d units done, %s", done, len(d.table.Rows), came)
	if left := len(d.table.Rows) - done; worked > 0 && left > 0 {
		each := time.Since(d.began) / time.Duration(worked)
		words += ", about " + shell.Took((each * time.Duration(left)).Round(time.Second)) + " left"
	}
	return words
}

// tile is one slot.
func (d *board) tile(i, w int) string {
	s := d.slots[i]
	s.mu.Lock()
	defer s.mu.Unlock()
	inner := w - 4
	state, colour := "free", lipgloss.Color("8")
	lines := []string{"", "", ""}
	begun := s.unit != "" && s.step != ""
	switch {
	case s.last != "" && !begun: // what came of the unit before stays in sight, under its own name
		state, colour = strings.ToUpper(string(s.last)), lipgloss.Color(shell.VerdictColour[s.last])
		lines[0], lines[1] = s.latest, s.why
	case s.unit != "":
		state, colour = "AT WORK", lipgloss.Color("4")
		lines[0], lines[1] = s.unit+"  "+shell.Took(time.Since(s.since).Round(time.Second)), s.step
	}
	switch {
	case s.asks != nil:
		if lines[2] = s.asks.text; begun || s.last == "" {
			state, colour = "ASKS", lipgloss.Color("3")
		}
	case s.does != "":
		lines[2] = s.does
	case s.unit != "" && !begun && s.last != "":
		lines[2] = "next is " + s.unit
	}
	mark := "  "
	if i == d.focus && s.asks != nil {
		mark = "▶ "
	}
	band := lipgloss.NewStyle().Background(colour)
	if colour == lipgloss.Color("2") || colour == lipgloss.Color("3") { // bright on many screens
		band = band.Foreground(lipgloss.Color("0"))
	} else {
		band = band.Bold(true).Foreground(lipgloss.Color("15"))
	}
	blank := band.Render(shell.Pad("", inner))
	text := []string{mark + "slot " + shell.OneLine(s.Name) + fmt.Sprintf("   %d done", s.done), blank, band.Render(shell.Pad("  "+spaced(state), inner)), blank}
	for _, l := range lines {
		text = append(text, shell.Cut(shell.OneLine(l), inner))
	}
	return lipgloss.NewStyle().Border(lipgloss.NormalBorder()).Width(w).Height(tileHigh).Render(strings.Join(text, "\n"))
}

// spaced is a word in big letters, as far as a terminal has such.
func spaced(word string) string { return strings.Join(strings.Split(word, ""), " ") }
