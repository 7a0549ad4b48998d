package find

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/bringup/probe"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

// probeCommand is the command probe with its flags.
type probeCommand struct {
	*shell.Streams
	ports       shell.PortFlags
	keeps       shell.EvidenceFlags
	speeds      []string
	write, name string
	breaks      string
	plan        bool
	probe       probe.Probe
}

// Probe is the command probe.
func Probe(sh *shell.Streams) *cobra.Command {
	c := &probeCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "probe PORT",
		Short: "Find speed, frame and line ending of a module",
		Long: `Listens, then asks over speeds, frames and line endings, and judges what comes
back by how readable it is. It sends only what --wake allows: Enter alone and AT
unless you say otherwise. --plan tells what would be sent.`,
		Example: "uparrot probe " + port.Example + " --into larkfell.toml --name valley",
		Args:    shell.Args(1, 1, "one port"),
		RunE:    c.run,
	}
	c.ports.AddBench(cmd)
	c.keeps.Add(cmd)
	fl := cmd.Flags()
	fl.StringArrayVar(&c.probe.Wake, "wake", nil, `a text that may be sent, in place of Enter and AT; "" is Enter alone`)
	fl.StringSliceVar(&c.speeds, "speeds", nil, "speeds to try, in this order, such as 9600,76800")
	fl.StringVar(&c.ports.Phrasebook, "phrasebook", "", "phrasebook of the module: what stops it while it starts is taken from there")
	fl.StringVar(&c.write, "into", "", "write what was found into this bench file")
	fl.StringVar(&c.name, "name", "", "the port's name there (default: made from the address)")
	fl.StringVar(&c.breaks, "interrupt", "", "what stops a module while it starts, at its prompt, such as {ctrl-c}: said until it does (default: what the phrasebook names)")
	fl.DurationVar(&c.probe.Within, "within", 0, "how long an answer may take to begin (default: 220ms, and later twice that)")
	fl.BoolVar(&c.plan, "plan", false, "tell what would be sent, and touch nothing")
	sh.AddJSON(cmd, "the result")
	return cmd
}

func (c *probeCommand) run(cmd *cobra.Command, args []string) (err error) {
	if c.probe.Speeds, err = readSpeeds(cmd, c.speeds); err != nil {
		return err
	}
	if c.probe.Speeds == nil {
		c.probe.Speeds = probe.Speeds
	}
	ps, st, err := c.ports.One(cmd, args[0])
	if err != nil {
		return err
	}
	if err := c.stops(cmd, st); err != nil {
		return err
	}
	if c.probe.NoLine = !st.Address.Serial(); c.probe.NoLine && cmd.Flags().Changed("speeds") {
		return &session.Misuse{What: fmt.Sprintf("%s has no line of its own, so there are no speeds to try: leave out --speeds", st.Address)}
	}
	if c.plan {
		c.printPlan()
		return nil
	}
	if c.name == "" {
		c.name = benchName(args[0])
	}
	if c.write != "" {
		if err := canWrite(c.write, c.name); err != nil {
			return err
		}
	}
	if !c.probe.NoLine {
		st.Setup.Speed, st.Setup.Frame = c.probe.Speeds[0], nil
	}
	var res probe.Result
	v, err := c.OnPort(cmd.Context(), c.keeps, shell.About(probe.Name, args[0], ps, st), c.watch, func(dev port.Port, events *record.Stream) (_ verdict.Verdict, err error) {
		c.probe.Port, c.probe.Events = dev, events
		res, err = c.probe.Run(cmd.Context())
		return res.Verdict, err
	})
	if err != nil && !errors.Is(err, session.ErrEvidence) {
		return err
	}
	if c.JSON {
		err = errors.Join(err, c.PrintJSON(res))
	} else {
		c.print(res)
	}
	if res.Kind == probe.Found && c.write != "" {
		if werr := writeEntry(c.write, c.name, st.Address, res); werr != nil {
			return errors.Join(err, werr)
		}
		c.Err.Line("written to %s as port %s", c.write, c.name)
	}
	return shell.WithVerdict(v, err)
}

// stops says what stops the module while it starts: the flag, or what is known of the port.
func (c *probeCommand) stops(cmd *cobra.Command, st *bench.Station) error {
	by := st.Setup.Interrupt
	if c.breaks != "" {
		words, err := phrasebook.ParseSpoken(c.breaks)
		if err != nil {
			return shell.Usage(cmd, "--interrupt: %v", err)
		}
		by = &words
	}
	if by != nil {
		c.breaks, c.probe.Break = by.String(), by.Bytes()
	}
	return nil
}

// watch shows which setting is tried, and what is heard at it.
func (c *probeCommand) watch(e record.Event) {
	if t, ok := e.Live.(probe.Trying); ok && t.Line.Speed > 0 {
		c.Err.Draw("trying %s, %d of %d", t.Line, t.Nth, t.Of)
	}
	if h, ok := e.Live.(probe.Heard); ok && h.Text != "" {
		c.Err.Draw("heard%s: %s", atSpeed(h), shell.OneLine(h.Text))
	}
}

// atSpeed is where something was heard, if that was at a speed.
func atSpeed(h probe.Heard) string {
	if h.Speed == 0 {
		return ""
	}
	return " at " + h.Line().String()
}

func (c *probeCommand) printPlan() {
	wake := c.probe.Wake
	if wake == nil {
		wake = probe.Wake
	}
	var say []string
	for _, w := range wake {
		if w == "" {
			w = "Enter alone"
		}
		say = append(say, w)
	}
	var list []string
	for _, s := range c.probe.Speeds {
		list = append(list, strconv.Itoa(s))
	}
	if c.probe.NoLine {
		fmt.Fprintln(c.Out, "The port has no line of its own: no speed and no frame would be tried.")
	} else {
		fmt.Fprintf(c.Out, "At each of these speeds, until there is a readable answer: %s baud.\n", strings.Join(list, ", "))
	}
	fmt.Fprintf(c.Out, "It would listen, then send: %s; each with CR before and CR LF at the end.\nWhere nothing answers, at the commonest speeds again with CR LF, and with LF, before and at the end.\n", strings.Join(say, ", then "))
	if c.breaks != "" {
		fmt.Fprintf(c.Out, "At the first of them it would say %s again and again, until a prompt stands there, before all that.\n", shell.Safe(c.breaks))
	}
	if !c.probe.NoLine {
		fmt.Fprintln(c.Out, "Where something comes that is not readable, and at the commonest speeds, the same with 8E1, 8O1, 7E1, 7O1 and 7N2.")
	}
	fmt.Fprintln(c.Out, "Where an answer is readable, the same again with CR, with LF and with the frame that was found, and CR or CR LF alone between. Nothing else.")
}

func (c *probeCommand) print(r probe.Result) {
	s := shell.NewScreen(c.Out)
	if r.Kind == probe.Found {
		how := "sure"
		if !r.Sure {
			how = "likely, not sure"
		}
		line := ""
		if !c.probe.NoLine {
			line = r.Line().String() + ", "
		}
		dialect := r.Dialect.String()
		if r.Prompt != "" {
			dialect += ", prompt " + strconv.Quote(shell.Safe(r.Prompt))
		}
		if r.Final != "" {
			dialect += ", final " + strconv.Quote(shell.Safe(r.Final))
		}
		for _, n := range r.Notices {
			dialect += ", notice " + strconv.Quote(shell.Safe(n))
		}
		ending := "not known"
		if r.Ending != phrasebook.EndingNotSaid {
			ending = r.Ending.String()
		}
		fmt.Fprintf(c.Out, "%s  %sending %s, dialect %s (%s, in %s)\n", s.Bold(r.Port), line, ending, dialect, how, shell.Took(shell.FromMS(r.TookMS)))
	} else {
		fmt.Fprintf(c.Out, "%s  no setting was found (in %s)\n", s.Bold(r.Port), shell.Took(shell.FromMS(r.TookMS)))
		c.printHeard(r.Heard)
	}
	for _, w := range r.Why {
		fmt.Fprintf(c.Out, "  %s\n", shell.Safe(w))
	}
	for _, u := range r.Untried {
		fmt.Fprintf(c.Out, "  not tried: %s\n", u)
	}
	for _, p := range r.Points {
		fmt.Fprintf(c.Out, "  look at: %s\n", p)
	}
}

// printHeard prints what was heard, each text once, with the settings at which it came.
func (c *probeCommand) printHeard(all []probe.Heard) {
	var texts []string
	at := map[string][]string{}
	for _, h := range all {
		text := shell.OneLine(h.Text[:min(60, len(h.Text))])
		if h.Text == "" {
			continue
		}
		if _, seen := at[text]; !seen {
			texts = append(texts, text)
		}
		if where := h.Line().String(); h.Speed > 0 && !slices.Contains(at[text], where) {
			at[text] = append(at[text], where)
		} else if h.Speed == 0 {
			at[text] = nil
		}
	}
	const most = 8
	for _, text := range texts[:min(most, len(texts))] {
		where := ""
		if n := len(at[text]); n > 3 {
			where = fmt.Sprintf(" at %s and %d more", strings.Join(at[text][:3], ", "), n-3)
		} else if n > 0 {
			where = " at " + strings.Join(at[text], ", ")
		}
		fmt.Fprintf(c.Out, "  heard%s: %s\n", where, text)
	}
	if n := len(texts) - most; n > 0 {
		fmt.Fprintf(c.Out, "  heard %d more that differ; the record has them\n", n)
	}
}

// benchName makes a port's name out of its address.
func benchName(address string) string {
	name := strings.ToLower(filepath.Base(address))
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '_' || r == '-' {
			return r
		}
		return '_'
	}, name)
}

// canWrite reports whether a bench can take a new entry, before the port is
// touched.
func canWrite(file, name string) error {
	if _, err := os.Stat(file); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	b, err := bench.Read(file, nil)
	if err != nil {
		return shell.AsUsage(err)
	}
	if _, ok := b.Port(name); ok {
		return &session.Misuse{What: fmt.Sprintf("the bench %s has a port %s already: choose another name with --name", file, name)}
	}
	return nil
}

// writeEntry adds a port to a bench file and leaves the rest as it is.
func writeEntry(file, name string, at port.Address, r probe.Result) error {
	if abs, err := filepath.Abs(at.Where); err == nil && at.Path() {
		at.Where = abs
	}
	entry := fmt.Sprintf("[port.%s]\nat = %q\ndialect = %q\n", name, at.String(), r.Dialect.String())
	if r.Ending != phrasebook.EndingNotSaid {
		entry += fmt.Sprintf("ending = %q\n", r.Ending.String())
	}
	if r.Speed > 0 {
		entry += fmt.Sprintf("speed = %d\nframe = %q\n", r.Speed, r.Frame.String())
	}
	heard := func(text string) string {
		return strconv.Quote(strings.NewReplacer("{", "{{", "}", "}}").Replace(text))
	}
	for _, sign := range [][2]string{{"prompt", r.Prompt}, {"final", r.Final}} {
		if sign[1] != "" {
			entry += sign[0] + " = " + heard(sign[1]) + "\n"
		}
	}
	if len(r.Notices) > 0 {
		var all []string
		for _, n := range r.Notices {
			all = append(all, heard(n))
		}
		entry += "notice = [" + strings.Join(all, ", ") + "]\n"
	}
	if !r.Sure {
		entry = "# likely, not sure\n" + entry
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	if err != nil {
		return fmt.Errorf("write the bench: %w", err)
	}
	if info, serr := f.Stat(); serr == nil && info.Size() > 0 {
		entry = "\n" + entry
	}
	_, err = f.WriteString(entry)
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("write the bench: %w", err)
	}
	return nil
}
