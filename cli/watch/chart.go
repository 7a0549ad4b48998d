package watch

import (
	"fmt"
	"math"
	"strings"
	"time"

	"uparrot/cli/shell"
	"uparrot/cli/view"
	"uparrot/core/report/chart"
	"uparrot/core/report/live"
	"uparrot/core/series"
)

// chart draws the value that is chosen: from the least to the greatest in each column, limits
// as broken lines, marks as upright ones.
func (v *watchView) chart(w *live.WatchedSeries, until time.Time, high int) []string {
	columns := max(10, v.wide-view.ScaleWide-2)
	body := max(2, high-4)
	spans := v.spans(w, until, columns)
	least, most := view.Bounds(spans)
	title := shell.Cut("  "+w.Head()+limitsOf(w), v.wide)
	if math.IsInf(least, 1) {
		return []string{"", view.SaidStyle.Render(title), "", "  nothing in this time"}
	}
	for _, limit := range []*float64{w.Low, w.High} {
		if limit != nil && *limit > least-2*(most-least)-1e-9 && *limit < most+2*(most-least)+1e-9 {
			least, most = min(least, *limit), max(most, *limit)
		}
	}
	if most <= least {
		room := math.Max(math.Abs(most)/100, 1e-6)
		least, most = least-room, most+room
	}
	cells := view.NewCells(columns, body)
	half := func(value float64) int { // rows of half the height, from the top
		return min(2*body-1, max(0, int((most-value)/(most-least)*float64(2*body-1)+0.5)))
	}
	for i, s := range spans {
		if s.N == 0 {
			continue
		}
		top, bottom := half(s.Greatest), half(s.Least)
		if i > 0 && spans[i-1].N > 0 { // joined to the one before
			top, bottom = min(top, half(spans[i-1].Least)), max(bottom, half(spans[i-1].Greatest))
		}
		cells.Bar(i, top, bottom)
	}
	for _, limit := range []*float64{w.Low, w.High} {
		if limit != nil && *limit >= least && *limit <= most {
			cells.Across(half(*limit)/2, '╌')
		}
	}
	from := v.from(w, until)
	for _, m := range v.Marks {
		if at := m.At.Sub(from).Seconds() / until.Sub(from).Seconds(); at >= 0 && at < 1 {
			cells.Down(int(at*float64(columns)), '┊', m.Word)
		}
	}
	rows := []string{"", view.SaidStyle.Render(title)}
	for i := range body {
		label := ""
		switch i {
		case 0:
			label = shell.PlainNumber(most)
		case body / 2:
			label = shell.PlainNumber((most + least) / 2)
		case body - 1:
			label = shell.PlainNumber(least)
		}
		rows = append(rows, fmt.Sprintf("%*s │%s", view.ScaleWide-1, shell.Cut(label, view.ScaleWide-1), string(cells[i])))
	}
	return append(rows, strings.Repeat(" ", view.ScaleWide)+"└"+strings.Repeat("─", columns), v.times(from, until, columns))
}

// limitsOf are the limits of a value in words.
func limitsOf(w *live.WatchedSeries) string {
	if !w.Judged {
		return ""
	}
	side := func(f *float64) string {
		if f == nil {
			return ""
		}
		return series.Number(*f).String()
	}
	return ", wanted " + side(w.Low) + ".." + side(w.High)
}

// from is when what the charts show begins.
func (v *watchView) from(w *live.WatchedSeries, until time.Time) time.Time {
	z := zooms[v.zoom]
	if z.level < 0 {
		return w.Curve().Start()
	}
	return until.Add(-time.Duration(z.spans) * series.Width(z.level))
}

// times are the labels of the axis of time.
func (v *watchView) times(from, until time.Time, columns int) string {
	if z := zooms[v.zoom]; z.level < 0 {
		c := v.Order[min(v.chosen, len(v.Order)-1)].Curve()
		until = c.Start().Add(time.Duration(len(c.Spans())) * c.Width())
	}
	out := []rune(strings.Repeat(" ", columns+view.ScaleWide+1))
	long := until.Sub(from).Seconds()
	free := 0
	for _, t := range chart.Clock(from)(0, max(long, 0.001)) {
		at := view.ScaleWide + 1 + int(t.At/max(long, 0.001)*float64(columns))
		label := []rune(t.Label)
		if start := at - len(label)/2; start >= free && start+len(label) <= len(out) {
			copy(out[start:], label)
			free = start + len(label) + 1
		}
	}
	return string(out)
}
