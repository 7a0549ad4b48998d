package speak

import (
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"uparrot/cli/shell"
	"uparrot/cli/view"
	"uparrot/core/phrasebook"
	"uparrot/core/talk"
	"uparrot/core/text"
)

// column is one port: how it is set, its signal lines, what was said and heard.
func (v *screenView) column(p *pane, active bool, w int) []string {
	mark := "  "
	if active && len(v.panes) > 1 {
		mark = "▶ "
	}
	life := "quiet"
	if !p.came.IsZero() {
		if since := time.Since(p.came); since < 2*view.Beat {
			life = "● bytes are coming"
		} else {
			life = "quiet for " + shell.Took(since.Round(100*time.Millisecond))
		}
	}
	if p.odd.Much() && v.as == talk.AsText {
		life += "  not readable: another speed or frame may help (F6)"
	}
	rows := []string{
		view.BarStyle.Render(shell.Pad(mark+shell.OneLine(p.name)+"  "+p.Line().String()+"  ending "+ending(p).String()+"  "+max(p.Station.Setup.Dialect, phrasebook.Lines).String(), w)),
		shell.Pad("  "+p.signals()+"  "+life+p.errors(), w),
	}
	if gap := p.log.Gap; gap > 0 {
		words := "  packets: bytes with less than " + shell.Took(gap) + " of silence between"
		if gap == p.least {
			words += "; shorter silences are joined by the adapter"
		}
		rows[1] = shell.Pad("  "+p.signals()+"  "+life+words+p.errors(), w)
	}
	pinned := v.pinned(p, w)
	rows = append(rows, pinned...)
	high := v.bodyHigh() - len(pinned)
	var body []string
	for i := len(p.log.Lines) - 1 - p.scroll; i >= 0 && len(body) < high; i-- {
		if !v.leavesOut(p.log.Lines[i]) {
			body = append(v.rows(p, i, w), body...)
		}
	}
	body = body[max(0, len(body)-high):]
	for len(body) < high {
		body = append(body, shell.Pad("", w))
	}
	return append(rows, body...)
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
func (v *screenView) rows(p *pane, i, w int) []string {
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
	style := [...]lipgloss.Style{lipgloss.NewStyle(), view.SaidStyle, view.NoteStyle}[l.Kind]
	if p.found == p.log.Gone+i {
		style = view.FindStyle
	}
	var rows []string
	shown := v.as.Rows(l)
	if v.as == talk.AsText && l.Kind == talk.Heard {
		shown[0] += strings.Repeat("·", min(l.TrailingBlanks(), 20))
	}
	if l.Lapse {
		shown[len(shown)-1] += "   (no answer)"
	}
	for _, r := range shown {
		rest := max(8, w-len(stamp)-2)
		for first := true; first || r != ""; first = false {
			head := shell.Cut(r, rest)
			r = strings.TrimPrefix(r, head)
			text := stamp + mark + head
			styled := text
			if l.Kind != talk.Heard || p.found == p.log.Gone+i {
				styled = style.Render(text)
			}
			rows = append(rows, styled+strings.Repeat(" ", max(0, w-shell.Width(text))))
			stamp, mark = strings.Repeat(" ", len(stamp)), "  "
			if head == "" {
				break
			}
		}
	}
	return rows
}

// shows is how the view shows things and what it leaves out, in words.
func (v *screenView) shows() string {
	words := "view " + v.as.String() + "  times " + v.times.String()
	if !v.echo {
		words += "  what is said is not shown"
	}
	if v.chatter != talk.AllLines {
		words += "  " + v.chatter.String()
	}
	if v.filter != "" {
		words += fmt.Sprintf("  only lines with %q", v.filter)
	}
	return words
}

// leavesOut reports whether a line is not shown.
func (v *screenView) leavesOut(l talk.Row) bool {
	return v.chatter.Hides(l) || v.filter != "" && l.Kind != talk.Note && !strings.Contains(strings.ToLower(text.Shown(l.Bytes)), v.filter)
}

// pinned are the rows of what the module says by itself: the latest line of each kind, with
// what has changed in it, how often it came and how long ago.
func (v *screenView) pinned(p *pane, w int) []string {
	if v.chatter != talk.Folded {
		return nil
	}
	var rows []string
	most := max(1, v.bodyHigh()/3)
	for i, f := range p.log.Folds.List {
		if i == most-1 && len(p.log.Folds.List) > most {
			rows = append(rows, view.NoteStyle.Render(shell.Pad(fmt.Sprintf("  and %d kinds of line more", len(p.log.Folds.List)-i), w)))
			break
		}
		tail := fmt.Sprintf("  ×%d  %s ago", f.Count, text.Took(time.Since(f.Time).Round(100*time.Millisecond)))
		room := max(8, w-2-lipgloss.Width(tail))
		from, to := f.Changed()
		words := shell.Cut(f.Text, room)
		from, to = min(from, len(words)), min(to, len(words))
		row := "▪ " + words[:from] + view.SaidStyle.Underline(true).Render(words[from:to]) + words[to:]
		rows = append(rows, row+strings.Repeat(" ", max(0, w-lipgloss.Width(row)-lipgloss.Width(tail)))+view.NoteStyle.Render(tail))
	}
	return rows
}
