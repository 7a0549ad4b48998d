package watch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/report/live"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// watchCommand is the command watch with its flags.
type watchCommand struct {
	*shell.Streams
	ports   shell.PortFlags
	signs   shell.SignFlags
	keeps   shell.EvidenceFlags
	wanted  session.Watch
	files   shell.Outputs
	as, out string
	plot    string
	metrics string
	alarm   string // a program
	bell    bool
	plain   bool
	plan    bool
}

// WatchForms are the forms of values as they come.
var WatchForms = []string{"table", "csv", "jsonl"}

// Watch is the command watch.
func Watch(sh *shell.Streams) *cobra.Command {
	c := &watchCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "watch PORT [PORT...] [TEXT...]",
		Short: "Watch values that modules report: live, against limits, kept and drawn",
		Long: `Reads what modules tell by themselves, or with --poll when asked, and shows each value:
now, least, mean, greatest, how often it comes, how old it is, and how often it was
outside its limits. A TEXT is heard text, and holds braces: "volts {v:num}, amps {a:num}".
Without one the readings are those of the phrasebook.

A value may be an expression of what was heard, such as --value watts='v * a', or of whole
lines, --value volts='json(line).v' and 'number(xpath(line, "//volts"))'. A unit stands
behind: --value 'watts=v * a in W', --limit 'v=14..16 V'.

In a terminal a view shows charts; F1 lists its keys. In a pipe a row a second is printed,
or with --as csv or jsonl every value. What has stopped coming is told, and is a failure
where the value has limits or --within says how often it must come. Without limits what
comes is measured. Ctrl-C ends it in good order where nothing else says when it ends.`,
		Example: `uparrot watch gauge "wind {speed:num} m/s {from:int} deg" --bench workshop.toml --limit speed=0..30`,
		Args:    shell.Args(1, -1, "one port or more, and texts to hear"),
		RunE:    c.run,
	}
	c.ports.Add(cmd)
	c.signs.Add(cmd)
	c.keeps.Add(cmd)
	c.files.Add(cmd)
	fl := cmd.Flags()
	w := &c.wanted
	fl.StringArrayVar(&w.Readings, "reading", nil, "only this reading of the phrasebook")
	fl.StringArrayVar(&w.Packets, "packet", nil, "a packet of the phrasebook, each field a value")
	fl.StringArrayVar(&w.Values, "value", nil, "a value by an expression: NAME=EXPRESSION, with in UNIT behind it if you like")
	fl.StringArrayVar(&w.Limits, "limit", nil, "limits of a value: NAME=LOW..HIGH, with a unit behind it if you like; either side may be left out")
	fl.StringVar(&w.Poll, "poll", "", "say this at a pace, to modules that must be asked")
	fl.DurationVar(&w.Every, "every", 0, "how often that is said (default 1s)")
	fl.StringVar(&w.Start, "start", "", "say this once before, to modules whose values must be switched on")
	fl.StringVar(&w.Stop, "stop", "", "say this once in the end, however it ends")
	fl.DurationVar(&w.Within, "within", 0, "each reading must follow on the one before within this time")
	fl.DurationVar(&w.For, "for", 0, "end after this time")
	fl.IntVar(&w.Count, "count", 0, "end after so many readings")
	fl.StringVar(&w.Until, "until-true", "", "end when this is true, such as 'v > 15'")
	fl.BoolVar(&w.Reopen, "reopen", false, "go on when a port goes away, once it has come back")
	fl.StringVar(&w.Broken, "max-broken", "", "the share of readings that may be broken, such as 1%: a sum that is wrong, a value that is none")
	fl.BoolVar(&c.bell, "bell", false, "ring the terminal's bell when a value leaves its limits")
	fl.StringVar(&c.alarm, "on-outside", "", "run this program, without a shell, each time a value leaves its limits or returns; UPARROT_WATCH_NAME, _VALUE, _UNIT, _LIMITS, _STATE (outside, inside) and _TIME tell it which")
	fl.StringVar(&c.as, "as", "", "print values as they come: table (a row a second), csv or jsonl (every value)")
	fl.StringVar(&c.out, "out", "", "write the values to this file, as --as says (csv unless given)")
	fl.StringVar(&c.plot, "plot", "", "in the end draw the values to this file, .png or .svg")
	fl.StringVar(&c.metrics, "metrics", "", "keep this file up to date with the present values, in the OpenMetrics text format")
	fl.BoolVar(&c.plain, "plain", false, "no view")
	fl.BoolVar(&c.plan, "plan", false, "print the procedure that this comes to, and open no port")
	sh.AddJSON(cmd, "the result")
	return cmd
}

func (c *watchCommand) run(cmd *cobra.Command, args []string) error {
	ps, err := c.ports.Read(cmd)
	if err != nil {
		return err
	}
	if err := c.signs.Into(cmd, &ps.Over); err != nil {
		return err
	}
	if err := c.sort(cmd, ps, args); err != nil {
		return err
	}
	text, at, err := c.wanted.Text()
	if err != nil {
		return shell.WithExample(cmd, err)
	}
	if c.plan {
		fmt.Fprint(c.out0(), text)
		return nil
	}
	proc, err := procedure.Parse("", text)
	if err != nil {
		return c.mistakes(cmd, err)
	}
	if err := c.planAlarm(cmd, text); err != nil {
		return err
	}
	if err := c.planOutputs(cmd); err != nil {
		return err
	}
	c.keeps.Quiet = c.JSON
	return c.watchIt(cmd, &session.Procedure{File: proc, Ports: ps, At: at, Values: map[string]any{}, Keep: c.Keep(c.keeps), Command: "watch", Measures: true})
}

// out0 is where the result goes.
func (c *watchCommand) out0() io.Writer { return c.Streams.Out }

// sort tells ports from texts: a text holds braces.
func (c *watchCommand) sort(cmd *cobra.Command, ps *session.Ports, args []string) error {
	var names []string
	for _, a := range args {
		if strings.Contains(a, "{") {
			c.wanted.Heard = append(c.wanted.Heard, a)
		} else {
			names = append(names, a)
		}
	}
	w := &c.wanted
	switch {
	case len(names) == 0:
		return shell.Usage(cmd, "no port is named")
	case w.Every < 0 || w.Within < 0 || w.For < 0 || w.Count < 0:
		return shell.Usage(cmd, "--every, --within, --for and --count are above zero")
	case w.Every > 0 && w.Poll == "" && len(w.Heard)+len(w.Packets) > 0:
		return shell.Usage(cmd, "--every says how often to ask: say with --poll what")
	case strings.ContainsAny(w.Poll+w.Start+w.Stop+strings.Join(w.Heard, "")+w.Until+strings.Join(w.Values, ""), "\r\n"):
		return shell.Usage(cmd, "what is said and heard is one line: write a line end as {cr} or {lf}")
	}
	var err error
	w.Stations, err = ps.Stations(names...)
	return shell.WithExample(cmd, err)
}

// mistakes are those of the procedure that the flags come to, in the words of the flags.
func (c *watchCommand) mistakes(cmd *cobra.Command, err error) error {
	found, ok := errors.AsType[source.Mistakes](err)
	if !ok {
		return err
	}
	var all []string
	for _, m := range found {
		words := m.What
		if m.Mend != "" {
			words += ". " + m.Mend
		}
		all = append(all, fmt.Sprintf("%s: %s", strings.TrimSpace(m.Text), words))
	}
	return shell.Usage(cmd, "%s", strings.Join(all, "\n"))
}

// planAlarm looks whether there is something to be alarmed of, and by.
func (c *watchCommand) planAlarm(cmd *cobra.Command, text string) (err error) {
	if (c.bell || c.alarm != "") && !strings.Contains(text, "\n        limit ") {
		return shell.Usage(cmd, "--bell and --on-outside are of values with limits: give --limit")
	}
	if c.alarm != "" {
		if c.alarm, err = exec.LookPath(c.alarm); err != nil {
			return shell.Usage(cmd, "--on-outside: %v: it is one program, without arguments", err)
		}
	}
	return nil
}

// planOutputs looks whether what is to be written may be.
func (c *watchCommand) planOutputs(cmd *cobra.Command) error {
	switch {
	case c.as != "" && !slices.Contains(WatchForms, c.as):
		return shell.Usage(cmd, "--as: there is no form %q. %s", c.as, source.DidYouMean(c.as, WatchForms))
	case c.JSON && c.as != "" && c.out == "":
		return shell.Usage(cmd, "--json and --as both print to stdout: name a file with --out")
	}
	return errors.Join(c.files.PlanFile(cmd, "out", c.out), c.files.PlanPicture(cmd, "plot", c.plot), c.files.PlanFile(cmd, "metrics", c.metrics))
}

// watchIt performs the watch, with its view or without.
func (c *watchCommand) watchIt(cmd *cobra.Command, p *session.Procedure) error {
	ctx, enough := c.ending(cmd)
	p.Enough = enough.done
	m := live.NewWatched()
	sinks := []func(record.Event){m.Take}
	var view *watchView
	if c.as == "" && !c.plain && !c.JSON && shell.IsTerminal(c.In) && shell.Drawable(c.Streams.Out) {
		view = newWatchView(c.Streams, m, enough.now)
		sinks = append(sinks, view.event)
		p.Begun = func(events *record.Stream) { view.events = events }
		p.Keep.Tell = view.tell
	}
	end := func() error { return nil }
	if view == nil || c.out != "" {
		sink, ends, err := c.rows(m, p.Keep.Tell)
		if err != nil {
			return err
		}
		if end = ends; sink != nil {
			sinks = append(sinks, sink)
		}
	}
	if c.metrics != "" {
		sinks = append(sinks, live.NewMetrics(m, c.files.Free(c.metrics), p.Keep.Tell).Event)
	}
	if view == nil && (c.JSON || c.as == "csv" || c.as == "jsonl") { // what has stopped is told beside the values, too
		sinks = append(sinks, func(e record.Event) {
			if e.Kind == record.Note {
				c.Err.Line("%s  %s", e.Time.Format("15:04:05"), shell.Safe(e.Text))
			}
		})
	}
	if c.bell || c.alarm != "" {
		tell := p.Keep.Tell
		var ring func()
		if c.bell {
			ring = func() { fmt.Fprint(c.Err.W, "\a") }
		}
		a := newAlarm(m, ring, c.alarm, tell)
		sinks = append(sinks, a.event)
		rows := end
		end = func() error { return errors.Join(a.end(), rows()) }
	}
	p.Watch = func(map[string]*bench.Station) func(record.Event) { return account.Each1(sinks) }
	do := p.Do
	if view != nil {
		do = func(ctx context.Context) (perform.Result, error) { return view.perform(ctx, p.Do) }
	}
	res, err := do(ctx)
	c.Err.End()
	return c.ended(m, res, err, end())
}

// enough ends a watch in good order.
type enough struct {
	done chan struct{}
	once sync.Once
}

func (e *enough) now() { e.once.Do(func() { close(e.done) }) }

// ending is the context of a watch: where nothing says when it ends, an interruption ends it
// in good order.
func (c *watchCommand) ending(cmd *cobra.Command) (context.Context, *enough) {
	ctx, e := cmd.Context(), &enough{done: make(chan struct{})}
	if w := c.wanted; w.For == 0 && w.Count == 0 && w.Until == "" {
		own := ctx
		ctx = context.WithoutCancel(ctx)
		context.AfterFunc(own, e.now)
	}
	return ctx, e
}

// ended prints what a watch came to.
func (c *watchCommand) ended(m *live.Watched, res perform.Result, err, written error) error {
	if res.Run == "" {
		return err // it did not begin
	}
	if c.plot != "" {
		chart := report.OverTime(res.Procedure, m.Lines(), m.Marked())
		if chart == nil {
			c.Err.Line("no value was a number: there is nothing to draw")
		} else if derr := c.Draw(&c.files, c.plot, chart); derr != nil {
			written = errors.Join(written, derr)
		}
	}
	if c.JSON {
		err = errors.Join(err, c.PrintJSON(res))
	} else {
		c.show(res)
		c.Told(c.keeps, res.Record)
	}
	if err == nil {
		err = written
	}
	return shell.WithVerdict(res.Verdict, err)
}

// show prints the values of a watch as a table.
func (c *watchCommand) show(res perform.Result) {
	w := c.out0()
	if c.as == "csv" || c.as == "jsonl" {
		if c.out == "" {
			w = c.Err.W // stdout has the values
		}
	}
	s := shell.NewScreen(w)
	rows := [][]string{{"value", "readings", "a second", "min", "mean", "max", "last", "limits", "outside", "verdict"}}
	for _, l := range res.Limits {
		if l.Series == nil {
			rows = append(rows, []string{shell.Safe(l.What), "1", "", "", "", "", shell.OneLine(shell.Clip(l.Shown())), l.Wanted(), "", s.Verdict(l.Verdict, 0)})
			continue
		}
		m, outside := l.Series, ""
		if l.Judged() {
			outside = fmt.Sprint(m.Outside)
		}
		last := shell.NumberOrNone(m.Last)
		if m.Texts > 0 {
			last = shell.OneLine(shell.Clip(m.LastText))
		}
		rows = append(rows, []string{shell.Safe(l.What), fmt.Sprint(m.N), shell.PlainNumber(m.Rate), shell.NumberOrNone(m.Least), shell.NumberOrNone(m.Mean), shell.NumberOrNone(m.Greatest), shell.WithUnit(last, l.Unit), l.Wanted(), outside, s.Verdict(l.Verdict, 0)})
	}
	fmt.Fprintln(w)
	if len(rows) > 1 {
		shell.Table(w, rows)
		fmt.Fprintln(w)
	}
	fmt.Fprintf(w, "%s in %s\n", s.Verdict(res.Verdict, 0), shell.Took(shell.FromMS(res.TookMS)))
	for _, st := range res.Steps {
		if st.Err != nil {
			fmt.Fprintf(w, "%s\n", shell.Safe(whyOf(st)))
		}
	}
	if res.Verdict == verdict.Broken && res.Err != nil && res.Steps[0].Err == nil {
		fmt.Fprintf(w, "%s\n", shell.Safe(res.Err.Error()))
	}
}

// whyOf is why a watch failed, without the place in the procedure that the flags came to.
func whyOf(st perform.StepResult) string {
	if f, ok := errors.AsType[*perform.Failure](st.Err); ok {
		if inner := errors.Unwrap(f); inner != nil {
			return inner.Error()
		}
	}
	return st.Why
}

// rows is what prints values as they come, and its end.
func (c *watchCommand) rows(m *live.Watched, tell func(string)) (sink func(record.Event), end func() error, err error) {
	none := func() error { return nil }
	form := c.as
	if form == "" && c.out != "" {
		form = "csv"
	}
	if form == "" && c.JSON {
		return nil, none, nil
	}
	if form == "" || form == "table" {
		t := &live.ValueTable{Watched: m, Line: func(text string) { fmt.Fprintln(c.Streams.Out, text) }}
		if c.out == "" {
			return t.Event, none, nil
		}
	}
	var w io.Writer = c.Streams.Out
	var f *os.File
	if c.out != "" {
		path := c.files.Free(c.out)
		if err := c.files.Forget(path); err != nil {
			return nil, nil, err
		}
		if f, err = os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600); err != nil {
			return nil, nil, err
		}
		if w = f; path != c.out {
			tell("written to " + path)
		}
	}
	values := live.NewValueRows(w, form, m, func(err error) {
		tell("uparrot: the values cannot be written any more: " + err.Error() + ". The watch goes on")
	})
	return values.Event, func() error {
		err := values.Err
		if f != nil {
			err = errors.Join(err, f.Close())
		}
		if err != nil {
			err = session.ErrEvidence
		}
		return err
	}, nil
}
