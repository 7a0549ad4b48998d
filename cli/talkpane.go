package cli

import (
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"uparrot/core/phrasebook"
	"uparrot/core/talk"
	"uparrot/core/text"
)

// column is one port: how it is set, its signal lines, what was said and heard.
func (v *view) column(p *pane, active bool, w int) []string {
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
	if p.odd.Much() && v.as == talk.AsText {
		life += "  not readable: another speed or frame may help (F6)"
	}
	rows := []string{
		barStyle.Render(pad(mark+oneLine(p.name)+"  "+p.Line().String()+"  ending "+ending(p).String()+"  "+max(p.Station.Setup.Dialect, phrasebook.Lines).String(), w)),
		pad("  "+p.signals()+"  "+life+p.errors(), w),
	}
	if gap := p.log.Gap; gap > 0 {
		words := "  packets: bytes with less than " + took(gap) + " of silence between"
		if gap == p.least {
			words += "; shorter silences are joined by the adapter"
		}
		rows[1] = pad("  "+p.signals()+"  "+life+words+p.errors(), w)
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
		body = append(body, pad("", w))
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
			head := cut(r, rest)
			r = strings.TrimPrefix(r, head)
			text := stamp + mark + head
			styled := text
			if l.Kind != talk.Heard || p.found == p.log.Gone+i {
				styled = style.Render(text)
			}
			rows = append(rows, styled+strings.Repeat(" ", max(0, w-width(text))))
			stamp, mark = strings.Repeat(" ", len(stamp)), "  "
			if head == "" {
				break
			}
		}
	}
	return rows
}

// shows is how the view shows things and what it leaves out, in words.
func (v *view) shows() string {
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
func (v *view) leavesOut(l talk.Row) bool {
	return v.chatter.Hides(l) || v.filter != "" && l.Kind != talk.Note && !strings.Contains(strings.ToLower(text.Shown(l.Bytes)), v.filter)
}

// pinned are the rows of what the module says by itself: the latest line of each kind, with
// what has changed in it, how often it came and how long ago.
func (v *view) pinned(p *pane, w int) []string {
	if v.chatter != talk.Folded {
		return nil
	}
	var rows []string
	most := max(1, v.bodyHigh()/3)
	for i, f := range p.log.Folds.List {
		if i == most-1 && len(p.log.Folds.List) > most {
			rows = append(rows, noteStyle.Render(pad(fmt.Sprintf("  and %d kinds of line more", len(p.log.Folds.List)-i), w)))
			break
		}
		tail := fmt.Sprintf("  ×%d  %s ago", f.Count, text.Took(time.Since(f.Time).Round(100*time.Millisecond)))
		room := max(8, w-2-lipgloss.Width(tail))
		from, to := f.Changed()
		words := cut(f.Text, room)
		from, to = min(from, len(words)), min(to, len(words))
		row := "▪ " + words[:from] + saidStyle.Underline(true).Render(words[from:to]) + words[to:]
		rows = append(rows, row+strings.Repeat(" ", max(0, w-lipgloss.Width(row)-lipgloss.Width(tail)))+noteStyle.Render(tail))
	}
	return rows
}

// width is how many columns a text takes: mostly as many as it has bytes.
func width(s string) int {
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '~' {
			return lipgloss.Width(s)
		}
	}
	return len(s)
}

// cut is as much of a text as fits.
func cut(s string, w int) string {
	for n := width(s); n > w; n = width(s) {
		if n == len(s) {
			return s[:w]
		}
		r := []rune(s)
		s = string(r[:len(r)-max(1, (n-w)/2)])
	}
	return s
}

// pad makes a text exactly so wide.
func pad(s string, w int) string {
	s = cut(s, w)
	return s + strings.Repeat(" ", max(0, w-width(s)))
}
