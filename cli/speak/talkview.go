package speak

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/cli/view"
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
	odd     talk.Unreadable
	least   time.Duration // so long the adapter may hold bytes back

	mu      sync.Mutex
	pending []talk.Event // that have not been taken into the log
	missed  int          // events that are not shown any more
}

// mostPending is how many events wait for a view that is not shown.
const mostPending = 20_000

// asking is what the input line is for.
type asking int

const (
	forText asking = iota
	forSpeed
	forSearch
	forFilter
	forRecord
)

// prompts are what stands before the input.
var prompts = map[asking]string{forText: "> ", forSpeed: "speed, frame: ", forSearch: "search: ", forFilter: "only lines with: ", forRecord: "also keep the record as: "}

// screenView is the terminal view of talk.
type screenView struct {
	ctx   context.Context
	panes []*pane

	terminal shell.TerminalState
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
	help   int  // page of the keys that is shown, from 1; 0 is none
	hint   string
	wide   int
	high   int

	chatter talk.Chatter
	filter  string // only lines that hold this are shown
	second  bool   // Ctrl-X has been pressed
	mark    int    // which of the phrases that are offered is marked
	pins    *talk.Pins
	view.Waker
	keep func(path string) error // keeps the record there too, in the end
}

// talkView speaks in a terminal view until the person leaves it.
func (a *talkCommand) talkView(cmd *cobra.Command, talkers []*talk.Talker) error {
	ctx, gone := context.WithCancelCause(cmd.Context())
	defer gone(nil)
	v := &screenView{ctx: ctx, secret: a.secrets.Value, input: textinput.New(), echo: true, wide: 80, high: 24}
	v.keep = func(path string) error {
		a.keeps.Also.Know(cmd)
		err := a.keeps.Also.Plan("its copy", path)
		if err == nil {
			a.keeps.Also.Copy = path
		}
		return err
	}
	v.input.Prompt = ""
	v.input.Focus()
	pins, err := readPins()
	if v.pins = pins; err != nil {
		v.pins, v.hint = nil, err.Error() // a file that cannot be read is not written over
	}
	program := view.Program(ctx, a.Streams, v, 30, func() { gone(shell.ErrInterrupted) })
	v.terminal.Set(program.ReleaseTerminal, program.RestoreTerminal)
	defer v.terminal.RestoreOnStop()()
	err = nil // it has been told
	for i, t := range talkers {
		p := newPane(t)
		t.Tell = func(e talk.Event) {
			p.pend(e)
			v.Wake(program)
		}
		v.panes = append(v.panes, p)
		if err = t.Open(ctx); err != nil {
			talkers = talkers[:i]
			break
		}
		a.packets(p)
	}
	if v.as = firstView(v.panes); err == nil {
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

// newPane is the pane of a port that will speak.
func newPane(t *talk.Talker) *pane {
	p := &pane{Talker: t, name: t.Station.Name, phrases: talk.Phrases(t.Station.Phrasebook), found: -1}
	if pb := t.Station.Phrasebook; pb != nil {
		for _, n := range pb.Notices {
			p.log.Folds.Notices = append(p.log.Folds.Notices, n.Pattern)
		}
	}
	p.log.Folds.Notices = append(p.log.Folds.Notices, t.Station.Setup.Notice.Patterns()...)
	return p
}

// pend keeps what happened until the view takes it. Where it is not shown, as key by key, no
// more is kept than the log would.
func (p *pane) pend(e talk.Event) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.pending) >= mostPending {
		p.missed += mostPending / 2
		p.pending = append(p.pending[:0], p.pending[mostPending/2:]...)
	}
	p.pending = append(p.pending, e)
}

// packets has a port that speaks in bytes shown in packets, cut where the line was silent.
func (c *talkCommand) packets(p *pane) {
	p.least, p.log.Gap = p.LeastGap(), c.gapOf(p.Talker)
}

// firstView is how bytes are shown at first: as they are, where all that speak do so in
// bytes.
func firstView(panes []*pane) talk.View {
	for _, p := range panes {
		if p.Station.Setup.Dialect != phrasebook.Bytes {
			return talk.AsText
		}
	}
	return talk.AsBoth
}

// take takes what has happened at a port into its log.
func (v *screenView) take(p *pane) {
	p.mu.Lock()
	events, missed := p.pending, p.missed
	p.pending, p.missed = nil, 0
	p.mu.Unlock()
	before := p.log.Gone + len(p.log.Lines)
	p.log.Answering = p.Answering()
	if missed > 0 {
		p.log.Add(time.Now(), talk.Note, fmt.Appendf(nil, "%d pieces that came before this are not shown; the record has them", missed))
	}
	for _, e := range events {
		if e.Kind == talk.Heard {
			p.came = e.Time
			p.odd.Take(e.Bytes)
		}
		if e.Kind != talk.Said || v.echo {
			p.log.Add(e.Time, e.Kind, e.Bytes)
		}
		if e.Lapse {
			p.log.Lapse()
		}
	}
	if p.scroll > 0 { // what is looked at stays where it is
		p.scroll += p.log.Gone + len(p.log.Lines) - before
	}
}

func (v *screenView) Init() tea.Cmd { return tea.Batch(textinput.Blink, view.Tick()) }

func (v *screenView) pane() *pane { return v.panes[v.active] }

func (v *screenView) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		v.wide, v.high = msg.Width, msg.Height
		return v, nil
	case view.WakeMsg:
		v.Woken()
		for _, p := range v.panes {
			v.take(p)
		}
		return v, nil
	case view.TickMsg:
		for _, p := range v.panes {
			in, err := p.Inputs()
			p.inputs, p.noLines = in, err != nil
			p.counts, _ = p.Counters() // where a port keeps none there are none to show
		}
		v.mask()
		return v, view.Tick()
	case view.HintMsg:
		v.hint = string(msg)
		return v, nil
	case keysDoneMsg:
		if msg.err != nil {
			v.hint = msg.err.Error()
		}
		return v, nil
	case tea.KeyPressMsg:
		cmd := v.key(msg)
		v.mask()
		return v, cmd
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
func (v *screenView) do(f func() error) tea.Cmd {
	return func() tea.Msg {
		if err := f(); err != nil {
			return view.HintMsg(err.Error())
		}
		return view.HintMsg("")
	}
}

// ending is a port's line ending.
func ending(p *pane) phrasebook.Ending { return max(p.Station.Setup.Ending, phrasebook.CRLF) }

// ask has the input line ask for something else for a while.
func (v *screenView) ask(what asking) {
	if v.asks == forText {
		v.kept = v.input.Value()
	}
	v.asks = what
	v.input.SetValue("")
}

// recall goes through the lines said before.
func (v *screenView) recall(back bool) {
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

func (v *screenView) enter(p *pane) tea.Cmd {
	typed := v.input.Value()
	if v.asks != forText {
		return v.answer(p, typed)
	}
	words, err := p.ParseAt(p.phrases, typed, v.secret)
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

// answer takes what was typed for something else than the module.
func (v *screenView) answer(p *pane, typed string) tea.Cmd {
	if v.asks == forSearch {
		v.search(p, typed)
		return nil
	}
	what := v.asks
	v.asks = forText
	v.input.SetValue(v.kept)
	v.kept = ""
	switch what {
	case forFilter:
		v.filter = strings.ToLower(typed)
	case forRecord:
		if typed = strings.TrimSpace(typed); typed == "" {
			return nil
		}
		if err := v.keep(typed); err != nil {
			v.hint = err.Error()
			return nil
		}
		v.hint = "the record, from its beginning, will also lie at " + typed
	case forSpeed:
		line, err := lineOf(p.Line(), typed)
		if err != nil {
			v.hint = err.Error()
			return nil
		}
		return v.do(func() error { return p.SetLine(line) })
	}
	return nil
}

// lineOf is a speed, a frame or both, over what is set.
func lineOf(now uart.Line, typed string) (uart.Line, error) {
	for _, word := range strings.Fields(typed) {
		if n, err := strconv.Atoi(word); err == nil {
			now.Speed = n
			continue
		}
		f, err := uart.ParseFrame(word)
		if err != nil {
			return now, fmt.Errorf("%q is no speed and no frame: wanted such as 9600, 7E1 or 9600 7E1", word)
		}
		now.Frame = f
	}
	return now, nil
}

// search goes back to the line before that holds some words.
func (v *screenView) search(p *pane, typed string) {
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
}

// mask has what is typed shown as stars while it is to be a secret.
func (v *screenView) mask() {
	v.input.EchoMode = textinput.EchoNormal
	if v.asks == forText && v.pane().Hides() {
		v.input.EchoMode, v.input.EchoCharacter = textinput.EchoPassword, '*'
	}
}

// paste says several pasted lines, each after the last one's answer.
func (v *screenView) paste(text string) tea.Cmd {
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
func (v *screenView) bodyHigh() int { return max(1, v.high-5) }

// View is what stands on the screen, which is given back as it was at the end.
func (v *screenView) View() tea.View {
	screen := tea.NewView(v.screen())
	screen.AltScreen = true
	return screen
}

func (v *screenView) screen() string {
	if len(v.panes) == 0 {
		return ""
	}
	each := v.wide / len(v.panes)
	var columns [][]string
	for i, p := range v.panes {
		w := each
		if i < len(v.panes)-1 {
			w-- // room between the two
		}
		columns = append(columns, v.column(p, i == v.active, w))
	}
	rows := columns[0]
	for _, c := range columns[1:] {
		for i := range rows {
			rows[i] += "│" + c[i]
		}
	}
	offered := v.offered()
	rows = append(rows[:len(rows)-len(offered):len(rows)-len(offered)], offered...)
	body := strings.Join(rows, "\n")
	if v.help > 0 {
		body = v.helpPage()
	}
	prompt := prompts[v.asks]
	if len(v.panes) > 1 {
		prompt = shell.OneLine(v.pane().name) + " " + prompt
	}
	v.input.SetWidth(max(1, v.wide-len(prompt)-2))
	keys := "F1 keys  F2 key by key  F3 ending  F4 view  F5 times  F6 speed  F7 DTR  F8 RTS  F9 break  F10 chatter  Ctrl-F search  Ctrl-C leave"
	return strings.Join([]string{body, prompt + v.input.View(), shell.Cut(shell.OneLine(v.below()), v.wide), view.BarStyle.Render(shell.Pad(keys, v.wide))}, "\n")
}

// below is what stands under the input: a message, or the phrases that fit.
func (v *screenView) below() string {
	if n := v.pane().Waiting(); n > 0 && v.hint == "" {
		return text.Count(n, "line") + " to be said once the answer has ended; Ctrl-G says the next now, Esc drops them"
	}
	if v.hint != "" || v.asks != forText {
		return v.hint
	}
	if _, _, name, ok := talk.NextField(v.input.Value(), len(string([]rune(v.input.Value())[:v.input.Position()]))); ok {
		return "fill in: " + name + "; Tab goes to the next"
	}
	if pinned := v.pinnedPhrases(v.pane()); pinned != "" {
		return v.shows() + "   " + pinned
	}
	return v.shows()
}

// helpRows are all keys with what they do, and how many fit on a page.
func (v *screenView) helpRows() (rows []string, room int) {
	for _, k := range viewKeys {
		if k.shown != "" { // else another key's row names it
			rows = append(rows, shell.Pad(fmt.Sprintf("   %-22s %s", k.shown, k.does), v.wide))
		}
	}
	for _, k := range otherKeys {
		rows = append(rows, shell.Pad(fmt.Sprintf("   %-22s %s", k[0], k[1]), v.wide))
	}
	return rows, max(1, v.bodyHigh()+1)
}

// nextHelp shows the keys, page by page, and then no more.
func (v *screenView) nextHelp() {
	rows, room := v.helpRows()
	if v.help++; (v.help-1)*room >= len(rows) {
		v.help = 0
	}
}

func (v *screenView) helpPage() string {
	rows, room := v.helpRows()
	from := min((v.help-1)*room, len(rows))
	page := append([]string(nil), rows[from:min(len(rows), from+room)]...)
	for len(page) < room {
		page = append(page, shell.Pad("", v.wide))
	}
	more := "   F1 goes back"
	if from+room < len(rows) {
		more = "   F1 shows more"
	}
	return strings.Join(append(page, view.NoteStyle.Render(shell.Pad(more, v.wide))), "\n")
}
