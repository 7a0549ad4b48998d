package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/talk"
	"uparrot/core/text"
	"uparrot/core/uart"
)

// pane is one port in the view.
type pane struct {
	*talk.Talker
	name    string
	log     talk.Log
	phrases []talk.Phrase
	inputs  port.Inputs
	noLines bool // the port has no signal lines
	counts  port.Counters
	came    time.Time // when bytes last came
	scroll  int       // lines from the end
	found   int       // line that a search has found, counted from the very first; -1 if none
}

// asking is what the input line is for.
type asking int

const (
	forText asking = iota
	forSpeed
	forSearch
)

// view is the terminal view of talk.
type view struct {
	ctx   context.Context
	panes []*pane

	terminal handover
	secret   func(name string) (string, error) // for {secret NAME}

	active int
	input  textinput.Model
	asks   asking
	kept   string // what was typed before something else was asked for
	past   []string
	pastAt int
	as     talk.View
	times  talk.Times
	echo   bool // show what is said
	help   bool
	hint   string
	wide   int
	high   int
}

// cameMsg is an event of a port, tickMsg the beat that keeps signal lines and
// the sign of life fresh, hintMsg something to tell below the input.
type (
	cameMsg struct {
		pane int
		talk.Event
	}
	tickMsg time.Time
	hintMsg string
)

const beat = 200 * time.Millisecond

func tick() tea.Cmd { return tea.Tick(beat, func(t time.Time) tea.Msg { return tickMsg(t) }) }

// talkView speaks in a terminal view until the person leaves it.
func (a *talkCommand) talkView(ctx context.Context, talkers []*talk.Talker) error {
	ctx, gone := context.WithCancelCause(ctx)
	defer gone(nil)
	in := a.in
	if f, ok := in.(*os.File); ok {
		in = &watchedInput{f, func() { gone(errInterrupted) }}
	}
	v := &view{ctx: ctx, secret: a.secrets.Value, input: textinput.New(), echo: true, wide: 80, high: 24}
	v.input.Prompt = ""
	v.input.Focus()
	program := tea.NewProgram(v, tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(a.out), tea.WithoutSignalHandler())
	v.terminal.by(program.ReleaseTerminal, program.RestoreTerminal)
	defer v.terminal.heed()()
	var err error
	for i, t := range talkers {
		queue := make(chan talk.Event, 1024)
		t.Tell = func(e talk.Event) { queue <- e }
		go func() { // in order, and never holding up the port
			for e := range queue {
				program.Send(cameMsg{i, e})
			}
		}()
		v.panes = append(v.panes, &pane{Talker: t, name: t.Station.Name, phrases: talk.Phrases(t.Station.Phrasebook), found: -1})
		if err = t.Open(ctx); err != nil {
			talkers = talkers[:i]
			break
		}
	}
	if err == nil {
		_, err = program.Run()
		if errors.Is(err, tea.ErrProgramKilled) {
			err = context.Cause(ctx)
		}
	}
	for _, t := range talkers {
		if cerr := t.Close(); port.KindOf(cerr) != port.Vanished {
			err = errors.Join(err, cerr)
		}
	}
	return err
}

func (v *view) Init() tea.Cmd { return tea.Batch(textinput.Blink, tick()) }

func (v *view) pane() *pane { return v.panes[v.active] }

func (v *view) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		v.wide, v.high = msg.Width, msg.Height
		return v, nil
	case cameMsg:
		p := v.panes[msg.pane]
		if msg.Kind == talk.Heard {
			p.came = msg.Time
		}
		before := p.log.Gone + len(p.log.Lines)
		if msg.Kind != talk.Said || v.echo {
			p.log.Add(msg.Time, msg.Kind, msg.Bytes)
		}
		if p.scroll > 0 { // what is looked at stays where it is
			p.scroll += p.log.Gone + len(p.log.Lines) - before
		}
		return v, nil
	case tickMsg:
		for _, p := range v.panes {
			in, err := p.Inputs()
			p.inputs, p.noLines = in, err != nil
			p.counts, _ = p.Counters() // where a port keeps none there are none to show
		}
		return v, tick()
	case hintMsg:
		v.hint = string(msg)
		return v, nil
	case keysDoneMsg:
		if msg.err != nil {
			v.hint = msg.err.Error()
		}
		return v, nil
	case tea.KeyPressMsg:
		return v, v.key(msg)
	case tea.PasteMsg:
		if v.hint = ""; strings.ContainsAny(msg.Content, "\r\n") {
			return v, v.paste(msg.Content)
		}
	}
	var cmd tea.Cmd
	v.input, cmd = v.input.Update(msg)
	return v, cmd
}

// do does something that may take time, and tells what went wrong.
func (v *view) do(f func() error) tea.Cmd {
	return func() tea.Msg {
		if err := f(); err != nil {
			return hintMsg(err.Error())
		}
		return hintMsg("")
	}
}

// keyHelp is what the keys do, as F1 shows it.
var keyHelp = [][2]string{
	{"Enter", "say the line"}, {"Tab", "complete a phrase: @NAME, @NUMBER, @NAME=VALUE"}, {"Up, Down", "lines said before"},
	{"PgUp, PgDn", "scroll"}, {"Ctrl-F", "search backwards; Enter again goes on"}, {"F2", "keys: each goes out as it is typed; F12 comes back"},
	{"F3", "line ending: cr, lf, crlf, none"}, {"F4", "text, hex, both"}, {"F5", "times: clock, since the last line, none"},
	{"F6", "speed"}, {"F7, F8", "DTR, RTS on and off"}, {"F9", "break"}, {"Ctrl-E", "show what is said, or not"},
	{"Ctrl-P", "the next line is a secret"}, {"Ctrl-N", "the next port"}, {"Ctrl-G, Esc", "lines that wait for an answer: say the next now, drop them"}, {"{ctrl-z} {hex 04}", "bytes by name, within a line"}, {"Ctrl-C", "leave"},
}

func (v *view) key(k tea.KeyPressMsg) tea.Cmd {
	p := v.pane()
	v.hint = ""
	switch k.String() {
	case "ctrl+c":
		return tea.Quit
	case "f1":
		v.help = !v.help
	case "f2":
		return v.keys(p)
	case "f3":
		p.SetEnding(ending(p)%phrasebook.NoEnding + 1) // the next, round and round
	case "f4":
		v.as = v.as.Next()
	case "f5":
		v.times = v.times.Next()
	case "f6":
		v.ask(forSpeed)
	case "f7":
		return v.do(func() error { return p.Toggle(uart.DTR) })
	case "f8":
		return v.do(func() error { return p.Toggle(uart.RTS) })
	case "f9":
		return v.do(p.Break)
	case "ctrl+f":
		v.ask(forSearch)
	case "ctrl+e":
		v.echo = !v.echo
	case "ctrl+p":
		if v.hint = "the next line is no secret"; p.Secret() {
			v.hint = "the next line is a secret: it is not shown, nor kept"
		}
	case "ctrl+n":
		v.active = (v.active + 1) % len(v.panes)
	case "pgup":
		p.scroll = min(p.scroll+v.bodyHigh()-1, max(0, len(p.log.Lines)-1))
	case "pgdown":
		p.scroll = max(0, p.scroll-v.bodyHigh()+1)
	case "ctrl+g":
		p.Hurry()
	case "esc":
		if n := p.Drop(); n > 0 {
			v.hint = text.Count(n, "line") + " dropped that waited to be said"
			return nil
		}
		v.asks, p.scroll, p.found, v.help = forText, 0, -1, false
		v.input.SetValue(v.kept)
		v.kept = ""
	case "up", "down":
		v.recall(k.String() == "up")
	case "tab":
		v.input.SetValue(talk.Complete(p.phrases, v.input.Value()))
		v.input.CursorEnd()
	case "enter":
		return v.enter(p)
	default:
		var cmd tea.Cmd
		v.input, cmd = v.input.Update(k)
		return cmd
	}
	return nil
}

// ending is a port's line ending.
func ending(p *pane) phrasebook.Ending { return max(p.Station.Setup.Ending, phrasebook.CRLF) }

// ask has the input line ask for something else for a while.
func (v *view) ask(what asking) {
	if v.asks == forText {
		v.kept = v.input.Value()
	}
	v.asks = what
	v.input.SetValue("")
}

// recall goes through the lines said before.
func (v *view) recall(back bool) {
	v.past = slices.DeleteFunc(v.past, v.pane().Knows) // known for secrets only later
	v.pastAt = min(v.pastAt, len(v.past))
	if back {
		v.pastAt = max(0, v.pastAt-1)
	} else {
		v.pastAt = min(len(v.past), v.pastAt+1)
	}
	text := ""
	if v.pastAt < len(v.past) {
		text = v.past[v.pastAt]
	}
	v.input.SetValue(text)
	v.input.CursorEnd()
}

func (v *view) enter(p *pane) tea.Cmd {
	typed := v.input.Value()
	switch v.asks {
	case forSpeed:
		v.asks = forText
		v.input.SetValue(v.kept)
		v.kept = ""
		n, err := strconv.Atoi(strings.TrimSpace(typed))
		if err != nil {
			v.hint = fmt.Sprintf("%q is no speed", typed)
			return nil
		}
		return v.do(func() error { return p.SetSpeed(n) })
	case forSearch:
		from := p.log.Gone + len(p.log.Lines)
		if p.found >= 0 {
			from = p.found
		}
		if i := p.log.Search(typed, from-p.log.Gone); i >= 0 && typed != "" {
			p.found = p.log.Gone + i
			p.scroll = max(0, len(p.log.Lines)-1-i-v.bodyHigh()/2)
		} else {
			v.hint = fmt.Sprintf("no earlier line holds %q", typed)
			p.found = -1
		}
		return nil
	}
	words, err := talk.Parse(p.phrases, typed, v.secret)
	if err != nil {
		v.hint = err.Error()
		return nil
	}
	if typed != "" && !p.Hides() { // what is a secret does not come back with a key
		v.past = append(v.past, typed)
	}
	v.pastAt = len(v.past)
	v.input.SetValue("")
	p.scroll = 0
	p.Queue(words)
	return nil
}

// paste says several pasted lines, each after the last one's answer.
func (v *view) paste(text string) tea.Cmd {
	p := v.pane()
	lines := strings.Split(strings.TrimRight(strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\r", "\n"), "\n"), "\n")
	lines[0] = v.input.Value() + lines[0]
	v.input.SetValue("")
	var said []talk.Words
	for _, l := range lines {
		words, err := talk.Parse(p.phrases, strings.TrimRight(l, " \t"), v.secret)
		if err != nil {
			v.hint = err.Error()
			return nil
		}
		said = append(said, words)
	}
	p.Queue(said...)
	return nil
}

// bodyHigh is how many rows there are for what was said and heard.
func (v *view) bodyHigh() int { return max(1, v.high-5) }

var (
	barStyle  = lipgloss.NewStyle().Reverse(true)
	saidStyle = lipgloss.NewStyle().Bold(true)
	noteStyle = lipgloss.NewStyle().Faint(true).Italic(true)
	findStyle = lipgloss.NewStyle().Underline(true).Bold(true)
)

// View is what stands on the screen, which is given back as it was at the end.
func (v *view) View() tea.View {
	screen := tea.NewView(v.screen())
	screen.AltScreen = true
	return screen
}

func (v *view) screen() string {
	if len(v.panes) == 0 {
		return ""
	}
	each := v.wide / len(v.panes)
	var columns []string
	for i, p := range v.panes {
		w := each
		if i < len(v.panes)-1 {
			w-- // room between the two
		}
		columns = append(columns, v.column(p, i == v.active, w))
	}
	bar := strings.TrimRight(strings.Repeat("│\n", v.bodyHigh()+2), "\n")
	body := columns[0]
	for _, c := range columns[1:] {
		body = lipgloss.JoinHorizontal(lipgloss.Top, body, bar, c)
	}
	if v.help {
		body = v.helpPage()
	}
	prompt := map[asking]string{forText: "> ", forSpeed: "speed: ", forSearch: "search: "}[v.asks]
	if len(v.panes) > 1 {
		prompt = oneLine(v.pane().name) + " " + prompt
	}
	v.input.SetWidth(max(1, v.wide-len(prompt)-2))
	keys := "F1 keys  F2 key by key  F3 ending  F4 view  F5 times  F6 speed  F7 DTR  F8 RTS  F9 break  Ctrl-F search  Ctrl-C leave"
	return strings.Join([]string{body, prompt + v.input.View(), cut(oneLine(v.below()), v.wide), barStyle.Render(pad(keys, v.wide))}, "\n")
}

// below is what stands under the input: a message, or the phrases that fit.
func (v *view) below() string {
	if n := v.pane().Waiting(); n > 0 && v.hint == "" {
		return text.Count(n, "line") + " to be said once the answer has ended; Ctrl-G says the next now, Esc drops them"
	}
	if v.hint != "" || v.asks != forText {
		return v.hint
	}
	found := talk.Matches(v.pane().phrases, v.input.Value())
	if len(found) == 1 {
		return fmt.Sprintf("%d %s: %s", found[0].Number, found[0].Name, found[0].Meaning)
	}
	var names []string
	for _, p := range found {
		names = append(names, fmt.Sprintf("%d %s", p.Number, p.Name))
	}
	return strings.Join(names, "  ")
}

// column is one port: how it is set, its signal lines, what was said and heard.
func (v *view) column(p *pane, active bool, w int) string {
	mark := "  "
	if active && len(v.panes) > 1 {
		mark = "▶ "
	}
	life := "quiet"
	if !p.came.IsZero() {
		if since := time.Since(p.came); since < 2*beat {
			life = "● bytes are coming"
		} else {
			life = "quiet for " + took(since.Round(100*time.Millisecond))
		}
	}
	rows := []string{
		barStyle.Render(pad(mark+oneLine(p.name)+"  "+p.Line().String()+"  ending "+ending(p).String()+"  view "+v.as.String()+"  times "+v.times.String()+map[bool]string{false: "  what is said is not shown"}[v.echo], w)),
		pad("  "+p.signals()+"  "+life+p.errors(), w),
	}
	high := v.bodyHigh()
	var body []string
	for i := len(p.log.Lines) - 1 - p.scroll; i >= 0 && len(body) < high; i-- {
		body = append(v.rows(p, i, w), body...)
	}
	body = body[max(0, len(body)-high):]
	for len(body) < high {
		body = append(body, pad("", w))
	}
	return strings.Join(append(rows, body...), "\n")
}

// errors are what the port has counted, if anything.
func (p *pane) errors() string {
	if !p.counts.Any() {
		return ""
	}
	return "  " + p.counts.String()
}

// signals are the states of the signal lines.
func (p *pane) signals() string {
	if p.noLines {
		return "no signal lines"
	}
	dtr, rts := p.Outputs()
	var parts []string
	for _, s := range []struct {
		name string
		on   bool
	}{{"DTR", dtr}, {"RTS", rts}, {"CTS", p.inputs.CTS}, {"DSR", p.inputs.DSR}, {"DCD", p.inputs.DCD}, {"RI", p.inputs.RI}} {
		parts = append(parts, s.name+" "+onOff(s.on))
	}
	return strings.Join(parts, "  ")
}

func onOff(on bool) string {
	if on {
		return "on "
	}
	return "off"
}

// rows are the rows of one line of the log.
func (v *view) rows(p *pane, i, w int) []string {
	l := p.log.Lines[i]
	if l.Kind == talk.Heard && v.as == talk.AsText && text.Shown(l.Bytes) == "" && !l.Open {
		return nil // the blank lines round an answer
	}
	var before *talk.Row
	if i > 0 {
		before = &p.log.Lines[i-1]
	}
	stamp := v.times.Stamp(l, before)
	mark := [...]string{"< ", "> ", "# "}[l.Kind]
	style := [...]lipgloss.Style{lipgloss.NewStyle(), saidStyle, noteStyle}[l.Kind]
	if p.found == p.log.Gone+i {
		style = findStyle
	}
	var rows []string
	for _, r := range v.as.Rows(l) {
		rest := max(8, w-len(stamp)-2)
		for first := true; first || r != ""; first = false {
			head := cut(r, rest)
			r = strings.TrimPrefix(r, head)
			text := stamp + mark + head
			rows = append(rows, style.Render(text)+strings.Repeat(" ", max(0, w-lipgloss.Width(text))))
			stamp, mark = strings.Repeat(" ", len(stamp)), "  "
			if head == "" {
				break
			}
		}
	}
	return rows
}

func (v *view) helpPage() string {
	rows := []string{pad("", v.wide)}
	for _, k := range keyHelp {
		rows = append(rows, pad(fmt.Sprintf("   %-20s %s", k[0], k[1]), v.wide))
	}
	for len(rows) < v.bodyHigh()+2 {
		rows = append(rows, pad("", v.wide))
	}
	return strings.Join(rows[:v.bodyHigh()+2], "\n")
}

// cut is as much of a text as fits.
func cut(s string, w int) string {
	for lipgloss.Width(s) > w {
		r := []rune(s)
		s = string(r[:len(r)-max(1, (lipgloss.Width(s)-w)/2)])
	}
	return s
}

// pad makes a text exactly so wide.
func pad(s string, w int) string {
	s = cut(s, w)
	return s + strings.Repeat(" ", max(0, w-lipgloss.Width(s)))
}
