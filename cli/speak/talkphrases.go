package speak

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"uparrot/cli/shell"
	"uparrot/cli/view"
	"uparrot/core/talk"
)

// readPins reads the pinned phrases out of the person's configuration folder.
func readPins() (*talk.Pins, error) {
	folder, err := os.UserConfigDir()
	if err != nil {
		return nil, fmt.Errorf("find the folder of pinned phrases: %w", err)
	}
	return talk.ReadPins(filepath.Join(folder, "uparrot"))
}

// family is whose phrases a pane has; "" if there is no phrasebook.
func (p *pane) family() string {
	if p.Station.Phrasebook == nil {
		return ""
	}
	return p.Station.Phrasebook.Family
}

// offers are the phrases that what is typed may mean.
func (v *screenView) offers() []talk.Phrase {
	if v.asks != forText {
		return nil
	}
	return talk.Matches(v.pane().phrases, v.input.Value())
}

// marked is the phrase that is marked among those offered.
func (v *screenView) marked() (talk.Phrase, bool) {
	list := v.offers()
	if len(list) == 0 {
		return talk.Phrase{}, false
	}
	return list[min(v.mark, len(list)-1)], true
}

// up goes to the phrase before or after, or to a line said before or after.
func (v *screenView) up(_ *pane, back bool) {
	n := len(v.offers())
	switch {
	case n == 0:
		v.recall(back)
	case back:
		v.mark = max(0, min(v.mark, n-1)-1)
	default:
		v.mark = min(n-1, v.mark+1)
	}
}

// tab takes the phrase that is marked, or goes to its next field.
func (v *screenView) tab(*pane) {
	if v.asks != forText {
		return
	}
	typed := v.input.Value()
	if p, ok := v.marked(); ok && !strings.Contains(typed, "=") {
		v.choose(p.Typed())
		return
	}
	from := len(string([]rune(typed)[:v.input.Position()]))
	if strings.HasPrefix(typed[from:], talk.FieldOpen) { // it is there already
		from += len(talk.FieldOpen)
	}
	if start, _, _, ok := talk.NextField(typed, from); ok {
		v.input.SetCursor(len([]rune(typed[:start])))
	}
}

// choose puts a phrase into the input, ready to be filled in.
func (v *screenView) choose(typed string) {
	v.input.SetValue(typed)
	v.input.CursorEnd()
	v.mark = 0
	if start, _, _, ok := talk.NextField(typed, 0); ok {
		v.input.SetCursor(len([]rune(typed[:start])))
	}
}

// fill makes room for what is typed into a field.
func (v *screenView) fill() {
	typed := v.input.Value()
	at := v.input.Position()
	from := len(string([]rune(typed)[:at]))
	if start, end, _, ok := talk.NextField(typed, from); ok && start == from {
		v.input.SetValue(typed[:start] + typed[end:])
		v.input.SetCursor(at)
	}
}

// pin pins the phrase that is marked, or what is typed.
func (v *screenView) pin(p *pane) {
	typed := v.input.Value()
	if m, ok := v.marked(); ok && !strings.Contains(typed, "=") {
		typed = m.Typed()
	}
	switch {
	case v.pins == nil:
		v.hint = "phrases cannot be pinned: there is no folder to keep them in"
		return
	case typed == "" || v.asks != forText || p.Hides():
		v.hint = "type what is to be pinned first, or mark a phrase after @"
		return
	}
	digit, err := v.pins.Toggle(p.family(), typed)
	switch {
	case err != nil:
		v.hint = err.Error()
	case digit == 0:
		v.hint = typed + " is pinned no more"
	default:
		v.hint = fmt.Sprintf("Alt-%d says %s", digit, typed)
	}
}

// sayPinned says what is pinned, or puts it into the input where a field is to be filled in.
func (v *screenView) sayPinned(p *pane, place int) tea.Cmd {
	if v.pins == nil || place >= len(v.pins.Of(p.family())) || v.asks != forText {
		v.hint = fmt.Sprintf("nothing is pinned at %d: Ctrl-B pins what is typed", place+1)
		return nil
	}
	v.choose(v.pins.Of(p.family())[place])
	if _, _, _, ok := talk.NextField(v.input.Value(), 0); ok {
		return nil
	}
	return v.enter(p)
}

// mostOffers is how many phrases are shown at once.
const mostOffers = 12

// offered are the rows of the phrases that what is typed may mean, the marked one set off.
func (v *screenView) offered() []string {
	list := v.offers()
	if len(list) == 0 {
		return nil
	}
	mark := min(v.mark, len(list)-1)
	from := max(0, min(mark-mostOffers/2, len(list)-mostOffers))
	wide := 0
	for _, p := range list {
		wide = max(wide, min(40, shell.Width(p.Name)))
	}
	var rows []string
	for i := from; i < len(list) && len(rows) < min(mostOffers, v.bodyHigh()/2); i++ {
		p := list[i]
		row := shell.Pad(fmt.Sprintf(" %3d  %s  %s", p.Number, shell.Pad(shell.OneLine(p.Name), wide), shell.OneLine(p.Meaning)), v.wide)
		if i == mark {
			row = view.BarStyle.Render(row)
		}
		rows = append(rows, row)
	}
	if more := len(list) - len(rows); more > 0 {
		rows = append(rows, view.NoteStyle.Render(shell.Pad(fmt.Sprintf("      %d more", more), v.wide)))
	}
	return rows
}

// pinnedPhrases are what is pinned for a port, in one row; "" if nothing is.
func (v *screenView) pinnedPhrases(p *pane) string {
	if v.pins == nil {
		return ""
	}
	var parts []string
	for i, typed := range v.pins.Of(p.family()) {
		parts = append(parts, fmt.Sprintf("Alt-%d %s", i+1, typed))
	}
	return strings.Join(parts, "  ")
}
