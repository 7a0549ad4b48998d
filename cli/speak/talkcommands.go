package speak

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"uparrot/core/phrasebook"
	"uparrot/core/text"
	"uparrot/core/uart"
)

// viewKey is one key of the view.
type viewKey struct {
	keys  string // as the terminal library names them
	shown string
	does  string
	do    func(*screenView, *pane) tea.Cmd
}

// viewKeys are the keys of the view. Whatever a function key does Ctrl-X and its number do
// too, 0 for F10: not every keyboard and not every terminal has those. They are set when
// the program begins, since the help among them names them all.
var viewKeys []viewKey

// otherKeys are those that the input itself knows, for the help.
var otherKeys = [][2]string{
	{"Alt-1 ... Alt-9", "say what is pinned there"},
	{"@", "all phrases of the phrasebook; what is typed on searches names and meanings"},
	{"Ctrl-X 1 ... Ctrl-X 0", "as F1 ... F10"},
	{"{ctrl-z} {hex 04}", "bytes by name, within a line; {secret NAME} is a secret"},
}

// note has the key do something that takes no time.
func note(f func(*screenView, *pane)) func(*screenView, *pane) tea.Cmd {
	return func(v *screenView, p *pane) tea.Cmd {
		f(v, p)
		return nil
	}
}

func init() {
	viewKeys = []viewKey{
		{"enter", "Enter", "say the line, after the answer to the one before", func(v *screenView, p *pane) tea.Cmd { return v.enter(p) }},
		{"ctrl+g", "Ctrl-G", "wait no longer for the answer: the next line goes out", note(func(_ *screenView, p *pane) { p.Hurry() })},
		{"esc", "Esc", "drop the lines that wait; back to the input and the end", note((*screenView).escape)},
		{"tab", "Tab", "take the phrase that is marked after @; go to the next field of it", note((*screenView).tab)},
		{"up", "Up, Down", "lines said before; after @ the phrase before, the next", note(func(v *screenView, p *pane) { v.up(p, true) })},
		{"down", "", "", note(func(v *screenView, p *pane) { v.up(p, false) })},
		{"ctrl+b", "Ctrl-B", "pin the phrase that is marked, or what is typed, or take its pin away", note((*screenView).pin)},
		{"pgup", "PgUp, PgDn", "scroll", note(func(v *screenView, p *pane) { p.scroll = min(p.scroll+v.bodyHigh()-1, max(0, len(p.log.Lines)-1)) })},
		{"pgdown", "", "", note(func(v *screenView, p *pane) { p.scroll = max(0, p.scroll-v.bodyHigh()+1) })},
		{"f1", "F1", "these keys", note(func(v *screenView, _ *pane) { v.nextHelp() })},
		{"f2", "F2", "key by key: each goes out as it is typed; F12 or Ctrl-] comes back", func(v *screenView, p *pane) tea.Cmd { return v.keys(p) }},
		{"f3", "F3", "line ending: cr, lf, crlf, none", note(func(_ *screenView, p *pane) { p.SetEnding(ending(p)%phrasebook.NoEnding + 1) })},
		{"f4", "F4", "text, hex, both", note(func(v *screenView, _ *pane) { v.as = v.as.Next() })},
		{"f5", "F5", "times: clock, since the last line, none", note(func(v *screenView, _ *pane) { v.times = v.times.Next() })},
		{"f6", "F6", "speed, frame or both, such as 9600 7E1", note(func(v *screenView, _ *pane) { v.ask(forSpeed) })},
		{"f7", "F7, F8", "DTR, RTS on and off", func(v *screenView, p *pane) tea.Cmd { return v.do(func() error { return p.Toggle(uart.DTR) }) }},
		{"f8", "", "", func(v *screenView, p *pane) tea.Cmd { return v.do(func() error { return p.Toggle(uart.RTS) }) }},
		{"f9", "F9", "break", func(v *screenView, p *pane) tea.Cmd { return v.do(p.Break) }},
		{"f10", "F10", "what the module says by itself: all lines, a line of each kind, changes only", note(func(v *screenView, _ *pane) { v.chatter = v.chatter.Next() })},
		{"ctrl+l", "Ctrl-L", "only lines with some words; none shows all", note(func(v *screenView, _ *pane) { v.ask(forFilter) })},
		{"ctrl+f", "Ctrl-F", "search backwards; Enter again goes on", note(func(v *screenView, _ *pane) { v.ask(forSearch) })},
		{"ctrl+t", "Ctrl-T", "dialect: lines, at, console, bytes", note(func(_ *screenView, p *pane) {
			p.SetDialect(max(p.Station.Setup.Dialect, phrasebook.Lines)%phrasebook.Bytes + 1)
		})},
		{"ctrl+r", "Ctrl-R", "keep the record under a name of your own too", note(func(v *screenView, _ *pane) { v.ask(forRecord) })},
		{"ctrl+e", "Ctrl-E", "show what is said, or not", note(func(v *screenView, _ *pane) { v.echo = !v.echo })},
		{"ctrl+p", "Ctrl-P", "the next line is a secret", note(func(v *screenView, p *pane) {
			if v.hint = "the next line is no secret"; p.Secret() {
				v.hint = "the next line is a secret: it is not shown, nor kept"
			}
		})},
		{"ctrl+n", "Ctrl-N", "the next port", note(func(v *screenView, _ *pane) { v.active = (v.active + 1) % len(v.panes) })},
		{"ctrl+c", "Ctrl-C", "leave", func(*screenView, *pane) tea.Cmd { return tea.Quit }},
	}
}

func (v *screenView) key(k tea.KeyPressMsg) tea.Cmd {
	v.hint = ""
	name := k.String()
	if v.second {
		if v.second = false; len(name) == 1 && strings.Contains("1234567890", name) {
			name = "f" + strings.Replace(name, "0", "10", 1)
		}
	} else if name == "ctrl+x" {
		v.second, v.hint = true, "Ctrl-X and a number: as the function key of that number, 0 for F10"
		return nil
	}
	if digit, ok := strings.CutPrefix(name, "alt+"); ok && len(digit) == 1 && digit >= "1" && digit <= "9" {
		return v.sayPinned(v.pane(), int(digit[0]-'1'))
	}
	for _, one := range viewKeys {
		if one.keys == name {
			return one.do(v, v.pane())
		}
	}
	if k.Text != "" && v.asks == forText {
		v.fill()
	}
	var cmd tea.Cmd
	v.input, cmd = v.input.Update(k)
	return cmd
}

// escape gives up what is being asked, looked at, or waits to be said.
func (v *screenView) escape(p *pane) {
	if n := p.Drop(); n > 0 {
		v.hint = text.Count(n, "line") + " dropped that waited to be said"
		return
	}
	v.asks, p.scroll, p.found, v.help = forText, 0, -1, 0
	v.input.SetValue(v.kept)
	v.kept = ""
}
