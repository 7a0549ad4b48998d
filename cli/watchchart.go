package cli

import (
	"fmt"
	"math"
	"strings"
	"time"

	"uparrot/core/report/chart"
	"uparrot/core/series"
)

// sparks are the steps of a small chart.
var sparks = []rune("▁▂▃▄▅▆▇█")

// spark is stretches as one row: the mean of each, a blank where nothing came.
func spark(spans []series.Span, wide int) string {
	least, most := bounds(spans)
	out := make([]rune, 0, wide)
	for _, s := range spans {
		switch {
		case s.N == 0:
			out = append(out, ' ')
		case most <= least:
			out = append(out, sparks[len(sparks)/2])
		default:
			out = append(out, sparks[min(len(sparks)-1, int((s.Mean()-least)/(most-least)*float64(len(sparks))))])
		}
	}
	return string(out)
}

// bounds are the least and the greatest of stretches.
func bounds(spans []series.Span) (least, most float64) {
	least, most = math.Inf(1), math.Inf(-1)
	for _, s := range spans {
		if s.N > 0 {
			least, most = min(least, s.Least), max(most, s.Greatest)
		}
	}
	return least, most
}

// scaleWide is how many columns the numbers beside a chart take.
const scaleWide = 10

// chart draws the value that is chosen: from the least to the greatest in each column, limits
// as broken lines, marks as upright ones.
func (v *watchView) chart(w *watchedSeries, until time.Time, high int) []string {
	columns := max(10, v.wide-scaleWide-2)
	body := max(2, high-4)
	spans := v.spans(w, until, columns)
	least, most := bounds(spans)
	title := cut("  "+w.head()+limitsOf(w), v.wide)
	if math.IsInf(least, 1) {
		return []string{"", saidStyle.Render(title), "", "  nothing in this time"}
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
	cells := newCells(columns, body)
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
		cells.bar(i, top, bottom)
	}
	for _, limit := range []*float64{w.Low, w.High} {
		if limit != nil && *limit >= least && *limit <= most {
			cells.across(half(*limit)/2, '╌')
		}
	}
	from := v.from(w, until)
	for _, m := range v.marks {
		if at := m.At.Sub(from).Seconds() / until.Sub(from).Seconds(); at >= 0 && at < 1 {
			cells.down(int(at*float64(columns)), '┊', m.Word)
		}
	}
	rows := []string{"", saidStyle.Render(title)}
	for i := range body {
		label := ""
		switch i {
		case 0:
			label = plainNumber(most)
		case body / 2:
			label = plainNumber((most + least) / 2)
		case body - 1:
			label = plainNumber(least)
		}
		rows = append(rows, fmt.Sprintf("%*s │%s", scaleWide-1, cut(label, scaleWide-1), string(cells[i])))
	}
	return append(rows, strings.Repeat(" ", scaleWide)+"└"+strings.Repeat("─", columns), v.times(from, until, columns))
}

// limitsOf are the limits of a value in words.
func limitsOf(w *watchedSeries) string {
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
func (v *watchView) from(w *watchedSeries, until time.Time) time.Time {
	z := zooms[v.zoom]
	if z.level < 0 {
		return w.Curve().Start()
	}
	return until.Add(-time.Duration(z.spans) * series.Width(z.level))
}

// times are the labels of the axis of time.
func (v *watchView) times(from, until time.Time, columns int) string {
	if z := zooms[v.zoom]; z.level < 0 {
		c := v.order[min(v.chosen, len(v.order)-1)].Curve()
		until = c.Start().Add(time.Duration(len(c.Spans())) * c.Width())
	}
	out := []rune(strings.Repeat(" ", columns+scaleWide+1))
	long := until.Sub(from).Seconds()
	free := 0
	for _, t := range chart.Clock(from)(0, max(long, 0.001)) {
		at := scaleWide + 1 + int(t.At/max(long, 0.001)*float64(columns))
		label := []rune(t.Label)
		if start := at - len(label)/2; start >= free && start+len(label) <= len(out) {
			copy(out[start:], label)
			free = start + len(label) + 1
		}
	}
	return string(out)
}

// cells are the rows of a chart, of half blocks.
type cells [][]rune

func newCells(columns, rows int) cells {
	c := make(cells, rows)
	for i := range c {
		c[i] = []rune(strings.Repeat(" ", columns))
	}
	return c
}

// bar fills a column between two half rows.
func (c cells) bar(column, top, bottom int) {
	for h := top; h <= bottom; h++ {
		own := '▀'
		if h%2 == 1 {
			own = '▄'
		}
		if at := &c[h/2][column]; *at == ' ' {
			*at = own
		} else if *at != own {
			*at = '█'
		}
	}
}

// across draws a line where nothing stands.
func (c cells) across(row int, r rune) {
	for i := range c[row] {
		if c[row][i] == ' ' {
			c[row][i] = r
		}
	}
}

// down draws an upright line where nothing stands, with a word at its top.
func (c cells) down(column int, r rune, word string) {
	for i := range c {
		if c[i][column] == ' ' || c[i][column] == '╌' {
			c[i][column] = r
		}
	}
	label := []rune(oneLine(word))
	for i, l := range label {
		if at := column + 1 + i; at < len(c[0]) && c[0][at] != '▀' && c[0][at] != '▄' && c[0][at] != '█' {
			c[0][at] = l
		}
	}
}
