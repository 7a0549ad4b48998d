package watch

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"uparrot/cli/shell"
	"uparrot/cli/view"
	"uparrot/core/perform"
	"uparrot/core/record"
	"uparrot/core/report/live"
	"uparrot/core/series"
)

// watchView is the terminal view of watch: a row a value, and a chart of the one that is
// chosen.
type watchView struct {
	*shell.Streams
	*live.Watched
	leave  func() // ends the watch in good order
	events *record.Stream
	began  time.Time

	chosen  int
	zoom    int       // place in zooms
	frozen  time.Time // what is shown ends here; zero is now
	marking bool      // a word for a mark is being typed
	input   textinput.Model
	help    bool
	leaving bool
	wide    int
	high    int
	view.Waker
	program *tea.Program
	after   []string // that was told of the evidence, to be told again when the view is gone
}

// zoomed is how much time a chart shows: so many stretches of a level of the rings, or with
// level -1 all that there is.
type zoomed struct {
	level, spans int
	name         string
}

var zooms = []zoomed{{0, 200, "10 s"}, {0, 600, "30 s"}, {0, 1200, "1 min"}, {1, 300, "5 min"}, {1, 1200, "20 min"}, {2, 480, "2 h"}, {2, 1200, "5 h"}, {3, 360, "24 h"}, {3, 1200, "80 h"}, {-1, 0, "all"}}

// firstZoom is the one that a view begins with.
const firstZoom = 2

func newWatchView(a *shell.Streams, m *live.Watched, leave func()) *watchView {
	v := &watchView{Streams: a, Watched: m, leave: leave, began: time.Now(), zoom: firstZoom, input: textinput.New(), wide: 80, high: 24}
	v.input.Prompt = "mark: "
	return v
}

// perform watches in the view until that is over.
func (v *watchView) perform(ctx context.Context, do func(context.Context) (perform.Result, error)) (perform.Result, error) {
	own, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	v.program = view.Program(own, v.Streams, v, 12, func() { cancel(shell.ErrInterrupted) })
	var res perform.Result
	var err error
	verr := view.During(v.program, v.leave, func() { res, err = do(own) })
	for _, text := range v.after {
		v.Err.Line("%s", shell.Safe(text))
	}
	return res, cmp.Or(err, verr)
}

// tell tells of something that keeps evidence from being kept, in the view and after it.
func (v *watchView) tell(text string) {
	v.Watched.Mu.Lock()
	v.Findings = append(v.Findings, live.ToldOf{At: time.Now(), Text: text})
	v.after = append(v.after, text)
	v.Watched.Mu.Unlock()
}

// event wakes the view where something has come.
func (v *watchView) event(e record.Event) {
	switch e.Kind {
	case record.Sampled, record.Note, record.Told:
		v.Wake(v.program)
	}
}

func (v *watchView) Init() tea.Cmd { return view.Tick() }

func (v *watchView) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		v.wide, v.high = msg.Width, msg.Height
	case view.WakeMsg:
		v.Woken()
	case view.TickMsg:
		return v, view.Tick()
	case tea.KeyPressMsg:
		if v.marking {
			return v, v.typed(msg)
		}
		if do, ok := watchKeys[msg.String()]; ok {
			do.does(v)
		}
	}
	return v, nil
}

// watchKey is what a key does.
type watchKey struct {
	shown string // in the help; "" where another key's row tells
	about string
	does  func(v *watchView)
}

var watchKeys = map[string]watchKey{
	"up":     {"Up, Down", "the value that the chart shows", func(v *watchView) { v.choose(-1) }},
	"down":   {"", "", func(v *watchView) { v.choose(1) }},
	"+":      {"+, -", "less and more time in the charts", func(v *watchView) { v.zoom = max(0, v.zoom-1) }},
	"=":      {"", "", func(v *watchView) { v.zoom = max(0, v.zoom-1) }},
	"-":      {"", "", func(v *watchView) { v.zoom = min(len(zooms)-1, v.zoom+1) }},
	"space":  {"Space", "the picture stands still, and goes on; values are read all the time", (*watchView).freeze},
	"left":   {"Left, Right", "an earlier and a later time, while it stands still", func(v *watchView) { v.pan(-1) }},
	"right":  {"", "", func(v *watchView) { v.pan(1) }},
	"m":      {"M", "mark this moment with a word, in the record and in the charts", (*watchView).mark},
	"f1":     {"F1", "these keys", func(v *watchView) { v.help = !v.help }},
	"q":      {"Q, Ctrl-C", "end the watch", (*watchView).end},
	"ctrl+c": {"", "", (*watchView).end},
}

// watchHelp is the order of the keys in the help.
var watchHelp = []string{"up", "+", "space", "left", "m", "q", "f1"}

func (v *watchView) choose(by int) {
	v.Watched.Mu.Lock()
	defer v.Watched.Mu.Unlock()
	v.chosen = max(0, min(len(v.Order)-1, v.chosen+by))
}

func (v *watchView) freeze() {
	if v.frozen.IsZero() {
		v.frozen = time.Now()
	} else {
		v.frozen = time.Time{}
	}
}

// pan shows an earlier or a later time: a quarter of what is shown.
func (v *watchView) pan(by int) {
	z := zooms[v.zoom]
	if v.frozen.IsZero() || z.level < 0 {
		return
	}
	step := time.Duration(z.spans) * series.Width(z.level) / 4
	if v.frozen = v.frozen.Add(time.Duration(by) * step); v.frozen.After(time.Now()) {
		v.frozen = time.Now()
	}
}

func (v *watchView) mark() {
	v.marking = true
	v.input.SetValue("")
	v.input.Focus()
}

func (v *watchView) end() {
	v.leaving = true
	v.leave()
}

// typed takes a key of the word for a mark.
func (v *watchView) typed(msg tea.KeyPressMsg) tea.Cmd {
	switch msg.String() {
	case "enter":
		v.marking = false
		if word := strings.TrimSpace(v.input.Value()); word != "" && v.events != nil {
			v.events.Emit(record.Event{Kind: record.Note, Text: "mark: " + word, Value: record.Mark{Word: word}})
		}
		return nil
	case "esc", "ctrl+c":
		v.marking = false
		return nil
	}
	var cmd tea.Cmd
	v.input, cmd = v.input.Update(msg)
	return cmd
}

// View is what stands on the screen.
func (v *watchView) View() tea.View {
	screen := tea.NewView(v.screen())
	screen.AltScreen = true
	return screen
}

func (v *watchView) screen() string {
	now := time.Now()
	until := now
	state := "● reading"
	if !v.frozen.IsZero() {
		until, state = v.frozen, "stands still at "+v.frozen.Format("15:04:05")+", values are read on"
	}
	if v.leaving {
		state = "ending"
	}
	v.Watched.Mu.Lock()
	defer v.Watched.Mu.Unlock()
	rows := []string{view.BarStyle.Render(shell.Pad(fmt.Sprintf(" watch   %s   %s since %s   charts show %s", state, shell.Took(now.Sub(v.began).Round(time.Second)), v.began.Format("15:04:05"), zooms[v.zoom].name), v.wide))}
	room := max(1, v.high-3)
	if v.help {
		rows = append(rows, v.helpRows()...)
	} else {
		rows = append(rows, v.table(now, until, room)...)
		if left := room - len(rows) + 1; len(v.Order) > 0 && left >= 5 {
			rows = append(rows, v.chart(v.Order[min(v.chosen, len(v.Order)-1)], until, left)...)
		}
	}
	for len(rows) < v.high-2 {
		rows = append(rows, "")
	}
	rows = append(rows[:max(1, v.high-2)], v.below(), view.BarStyle.Render(shell.Pad(" F1 keys  Up/Down value  +/- zoom  Space stand still  M mark  Q end", v.wide)))
	return strings.Join(rows, "\n")
}

// below is the word that is being typed, or the latest finding.
func (v *watchView) below() string {
	switch n := len(v.Findings); {
	case v.marking:
		v.input.SetWidth(max(1, v.wide-10))
		return v.input.View()
	case n > 0:
		f := v.Findings[n-1]
		return shell.Cut(f.At.Format("15:04:05")+"  "+shell.OneLine(f.Text), v.wide)
	}
	return ""
}

func (v *watchView) helpRows() []string {
	rows := []string{""}
	for _, name := range watchHelp {
		k := watchKeys[name]
		rows = append(rows, shell.Pad(fmt.Sprintf("   %-14s %s", k.shown, k.about), v.wide))
	}
	return rows
}

// tableColumns are the widths of the columns of the table behind the name, but for the small
// chart.
const tableForm = "%s %12s %10s %10s %10s %9s %8s %8s  "

// table is a row a value.
func (v *watchView) table(now, until time.Time, room int) []string {
	names := 8
	for _, w := range v.Order {
		names = max(names, shell.Width(w.Head()))
	}
	names = min(names, max(8, v.wide-88))
	small := v.wide - names - 84
	rows := []string{view.NoteStyle.Render(shell.Cut(fmt.Sprintf(tableForm, shell.Pad("  value", names+2), "now", "min", "mean", "max", "a second", "age", "outside"), v.wide))}
	if len(v.Order) == 0 {
		return append(rows, "", "  nothing has come yet")
	}
	most := max(1, room-8)
	from := max(0, min(v.chosen-most/2, len(v.Order)-most))
	for i, w := range v.Order[from:min(len(v.Order), from+most)] {
		s := w.Summary()
		mark := "  "
		if from+i == v.chosen {
			mark = "▶ "
		}
		outside := ""
		if w.Judged {
			outside = fmt.Sprint(s.Outside)
		}
		nowValue := w.Shown()
		if w.Bad {
			nowValue += " !"
		}
		row := fmt.Sprintf(tableForm, shell.Pad(mark+w.Head(), names+2), shell.Cut(nowValue, 12), shell.NumberOrNone(s.Least), shell.NumberOrNone(s.Mean), shell.NumberOrNone(s.Greatest), plainRate(s.Rate), age(now.Sub(s.Ended)), outside)
		if small > 4 {
			row += view.Spark(v.spans(w, until, small), small)
		}
		style := view.SaidStyle
		if !w.Bad {
			rows = append(rows, shell.Cut(row, v.wide))
			continue
		}
		rows = append(rows, style.Render(shell.Cut(row, v.wide)))
	}
	return rows
}

// plainRate is how often something comes, in few digits.
func plainRate(hz float64) string { return fmt.Sprintf("%.3g", hz) }

// age is a time in few letters.
func age(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds()/10*10)
	case d < 100*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

// spans are the stretches that a chart of so many columns shows, up to a time.
func (v *watchView) spans(w *live.WatchedSeries, until time.Time, columns int) []series.Span {
	z := zooms[v.zoom]
	all := w.Curve().Spans()
	if z.level >= 0 {
		all = w.Rings.Since(z.level, until, z.spans)
	}
	out := make([]series.Span, columns)
	if len(all) == 0 {
		return out
	}
	for i := range out {
		from := i * len(all) / columns
		for _, s := range all[from:max(from+1, (i+1)*len(all)/columns)] {
			out[i].Join(s)
		}
	}
	return out
}
