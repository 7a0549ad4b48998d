package rehearse

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/procedure"
	"uparrot/core/rehearse"
	"uparrot/core/report/rehearsal"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/stats"
)

// rehearseCommand is the command rehearse with its flags.
type rehearseCommand struct {
	*shell.Streams
	account.ProcedureFlags
	seed   uint64
	within time.Duration
	least  string
	times  int
	mend   bool
	yes    bool
	all    bool

	settings string        // a file of settings that are applied, in place of a procedure
	hand     time.Duration // that a person takes for the next module
	hands    int
}

// Rehearse is the command rehearse.
func Rehearse(sh *shell.Streams) *cobra.Command {
	c := &rehearseCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "rehearse PROCEDURE | --settings FILE PORT...",
		Short: "Check whether a procedure would catch a bad module and accept a good one",
		Long: `Performs a procedure on simulated modules, in simulated time: on normal variations
of good modules (slow, with an echo, with notices between), which it must accept, and on bad
ones (a setting that is not kept, a refusal that is told as a success), which it must
catch. No port is opened. The modules are the stand-ins of the bench, or made of the
phrasebooks. What was missed is told with the line that would catch it.

It fails where a bad module was missed or a good one was refused; with --min-caught, where
less was caught than that. A score of fewer than ten bad modules says little (status 4).`,
		Example: "uparrot rehearse commission.parrot --bench larkfell.toml --port valley",
		Args:    shell.Args(1, 64, "one procedure, or with --settings the ports"),
		RunE:    c.run,
	}
	c.Ports.Add(cmd)
	c.Files.Add(cmd)
	fl := cmd.Flags()
	fl.StringArrayVar(&c.Where, "port", nil, "where a port of the procedure is on the bench: NAME=NAME; with one port the name is enough")
	fl.StringArrayVar(&c.Inputs.Set, "set", nil, "value of an input: NAME=VALUE; some that fit are chosen for others")
	fl.StringVar(&c.Inputs.File, "set-file", "", "values of inputs from a TOML file of NAME = VALUE; --set takes precedence")
	fl.StringVar(&c.Keeps.Unit, "unit", "", "the unit that it is done to, where the procedure asks the module for it")
	fl.StringVar(&c.Operator, "operator", "none", "who answers questions: yes, or none (such steps are untested)")
	fl.StringVar(&c.Answers, "answers", "", "answers to questions from a TOML file of \"QUESTION\" = ANSWER")
	fl.Uint64Var(&c.seed, "seed", 1, "of all that is drawn: the same seed gives the same rehearsal")
	fl.IntVar(&c.times, "times", 200, "how often the air of the bench is tried; 0 leaves it out")
	fl.DurationVar(&c.within, "for", 10*time.Minute, "how long it may take in all; it is cut then, and undecided")
	fl.StringVar(&c.least, "min-caught", "", "pass where at least this share is caught, such as 90%")
	fl.BoolVar(&c.mend, "mend", false, "put the lines that would catch what was missed into the procedure, after asking")
	fl.BoolVar(&c.yes, "yes", false, "with --mend: without asking")
	fl.BoolVar(&c.all, "all", false, "list every bad and every good module")
	fl.StringVar(&c.OutFile, "out", "", "write the result to this file")
	fl.StringVar(&c.As, "as", "", "the form of that file: "+strings.Join(rehearsal.Forms, ", "))
	fl.StringVar(&c.Record, "from-record", "", "the modules are those of this record of the procedure, with its inputs: they answer as they did then")
	fl.StringVar(&c.settings, "settings", "", "rehearse \"settings apply\" with this file at the ports: would it notice a module that does not keep a value?")
	fl.StringVar(&c.Units, "units", "", "how long a whole table of units would take, and for what it would wait")
	fl.StringVar(&c.Slots, "slots", "", "with --units: at these slots of the bench: all, or names with commas between")
	fl.DurationVar(&c.hand, "hand", 20*time.Second, "with --units: how long a person takes to put the next module in")
	fl.IntVar(&c.hands, "hands", 1, "with --units: how many persons do that")
	sh.AddJSON(cmd, "the result")
	return cmd
}

func (c *rehearseCommand) run(cmd *cobra.Command, args []string) error {
	switch {
	case c.settings != "":
		return c.rehearseSettings(cmd, args)
	case len(args) > 1:
		return shell.Usage(cmd, "one procedure is rehearsed at a time")
	}
	file, err := procedure.Read(args[0])
	if err != nil {
		return shell.AsUsage(err)
	}
	if len(file.Steps) == 0 {
		return shell.Usage(cmd, "%s has routines but no steps: it is there to be included", args[0])
	}
	least, err := c.plan(cmd)
	if err != nil {
		return err
	}
	p := &session.Procedure{File: file, Keep: session.Keep{Unit: c.Keeps.Unit}}
	var chosen []string
	if p.Ports, err = c.Ports.Read(cmd); err != nil {
		return err
	}
	if c.Record != "" {
		if err := c.ofRecord(cmd, p.Ports, file); err != nil {
			return err
		}
	}
	if p.Values, chosen, err = c.Inputs.Chosen(file); err != nil {
		return shell.WithExample(cmd, err)
	}
	if p.At, err = c.Addresses(cmd, file); err != nil {
		return err
	}
	if p.Operator, err = c.Person(c.Streams, cmd); err != nil {
		return err
	}
	play, err := p.Play()
	if err != nil {
		return shell.WithExample(cmd, err)
	}
	play.Seed = c.seed
	if c.Units != "" {
		return c.rehearseUnits(cmd, p, play)
	}
	return c.rehearsed(cmd, args[0], file, play, p.Values, chosen, least)
}

// ofRecord has the modules be those of a record, and the inputs those of that run.
func (c *rehearseCommand) ofRecord(cmd *cobra.Command, ps *session.Ports, file *procedure.File) error {
	if ps.Bench != nil {
		return shell.Usage(cmd, "--from-record tells which modules there are, so --bench has no place here")
	}
	earlier, err := session.ReadEarlier(c.Record, file)
	if err != nil {
		return shell.WithExample(cmd, err)
	}
	if ps.Bench, err = bench.OfRecord(c.Record); err != nil {
		return shell.Usage(cmd, "%v", err)
	}
	for _, in := range file.Inputs {
		if v, ok := earlier.Input(in.Name); ok && !slices.ContainsFunc(c.Inputs.Set, func(s string) bool { return strings.HasPrefix(s, in.Name+"=") }) {
			c.Inputs.Set = append(c.Inputs.Set, in.Name+"="+v)
		}
	}
	return nil
}

// rehearsed rehearses something and tells what came of it.
func (c *rehearseCommand) rehearsed(cmd *cobra.Command, name string, file *procedure.File, play *rehearse.Play, values map[string]any, chosen []string, least float64) error {
	play.For = c.within
	r, err := play.Rehearse(cmd.Context(), c.times)
	if bad, ok := errors.AsType[*rehearse.NotPassed](err); ok {
		return &session.Unable{What: fmt.Sprintf("%s cannot be rehearsed: %v. Give a bench whose stand-ins are as it wants them, and --set what it needs", name, bad)}
	}
	if err != nil {
		return err
	}
	r.Values = map[string]string{}
	for _, in := range file.Inputs {
		r.Values[in.Name] = procedure.Text(values[in.Name])
	}
	if c.JSON {
		err = c.PrintJSON(rehearsal.Data(r))
	} else {
		c.tell(r, chosen)
	}
	if c.OutFile != "" {
		err = errors.Join(err, c.Save(&c.Files, c.OutFile, func(w io.Writer) error { return rehearsal.Write(w, c.As, shell.Version, file, r) }))
	}
	if err == nil && c.mend {
		err = c.mended(cmd.Context(), file, r)
	}
	if err != nil {
		return err
	}
	return shell.WithVerdict(r.Verdict(least), nil)
}

// plan looks whether what is asked for can be done.
func (c *rehearseCommand) plan(cmd *cobra.Command) (least float64, err error) {
	least = -1
	if c.least != "" {
		if least, err = stats.ParseShare(c.least); err != nil {
			return 0, shell.Usage(cmd, "--min-caught: %v", err)
		}
	}
	switch {
	case c.Operator == "ask":
		return 0, shell.Usage(cmd, "--operator: nobody is asked in a rehearsal: give yes, none, or --answers FILE")
	case c.As != "" && !slices.Contains(rehearsal.Forms, c.As):
		return 0, shell.Usage(cmd, "--as: there is no form %q. %s", c.As, source.DidYouMean(c.As, rehearsal.Forms))
	case c.As != "" && c.OutFile == "":
		return 0, shell.Usage(cmd, "--as %s: name the file with --out", c.As)
	case c.within <= 0:
		return 0, shell.Usage(cmd, "--for %v: wanted a time such as 10m", c.within)
	case c.times < 0 || c.times > 1_000_000:
		return 0, shell.Usage(cmd, "--times %d is outside 0..1000000", c.times)
	}
	c.Files.Inputs = append(slices.Clone(cmd.Flags().Args()), c.Inputs.File, c.Answers, c.Record, c.Units, c.settings, c.Ports.Bench, c.Ports.Phrasebook)
	return least, c.Files.PlanFile(cmd, "out", c.OutFile)
}

// tell prints what came of a rehearsal.
func (c *rehearseCommand) tell(r *rehearse.Report, chosen []string) {
	s := shell.NewScreen(c.Streams.Out)
	w := c.Streams.Out
	fmt.Fprintf(w, "%s: rehearsed %d times in %s of simulated time, seed %d\n", s.Bold(shell.OneLine(r.Procedure)), r.Runs, shell.Took(shell.FromMS(r.MadeUpS*1000)), r.Seed)
	for _, name := range chosen {
		fmt.Fprintf(w, "  %s is %s, chosen\n", name, shell.OneLine(r.Values[name]))
	}
	if r.Runs > 0 {
		fmt.Fprintln(w, "\ncaught of the bad modules that each step could have caught, and good ones refused:")
		shell.Table(w, rehearsal.Steps(r))
	}
	c.missed(s, r)
	for _, g := range r.Good {
		if g.Alarm {
			fmt.Fprintf(w, "\n%s at %q: a good module with %s (%s)\n   %s\n", s.Bold("false alarm"), shell.OneLine(g.Step), shell.OneLine(g.Name), g.Port, shell.Cut(shell.OneLine(g.Why), shell.Wide))
			if g.Accept != "" {
				fmt.Fprintf(w, "   to accept it: %s\n", g.Accept)
			}
		}
	}
	if c.all {
		rows := [][]string{{"module", "port", "of", "came", "at"}}
		for _, b := range r.Bad {
			rows = append(rows, []string{b.Name, b.Port, shell.OneLine(shell.Clip(b.About)), string(b.Class), shell.OneLine(b.Step)})
		}
		for _, g := range r.Good {
			came := "accepted"
			if g.Alarm {
				came = "false alarm"
			}
			rows = append(rows, []string{g.Name, g.Port, "", came, shell.OneLine(g.Step)})
		}
		c.Section(rows)
	}
	chances(w, r)
	notTested(w, r)
	if r.Cut != "" {
		fmt.Fprintf(w, "\n%s: %s.\nWhat it had not come to by then is not known\n", s.Bold("cut"), r.Cut)
	}
	fmt.Fprintf(w, "\nbad modules: %s\n", rehearsal.Summary(r))
	for _, class := range rehearse.Classes {
		if r.Count(class) > 0 {
			fmt.Fprintf(w, "   %s: %s\n", class, class.Means())
		}
	}
	fmt.Fprintf(w, "good modules: %d accepted, %s\n", len(r.Good)-r.Alarms(), shell.Count(r.Alarms(), "false alarm"))
	if len(r.Untested) > 0 {
		fmt.Fprintf(w, "not rehearsed, since they want a person: %s\n", shell.OneLine(strings.Join(r.Untested, "; ")))
	}
}

// missed tells of bad modules that passed, those that one line would catch together.
func (c *rehearseCommand) missed(s *shell.Screen, r *rehearse.Report) {
	told := map[string]bool{}
	for i, b := range r.Bad {
		if b.Class != rehearse.Missed || told[b.Port+b.About] {
			continue
		}
		told[b.Port+b.About] = true
		var names []string
		lines, mends := "", map[string]bool{}
		for _, other := range r.Bad[i:] {
			if other.Class != rehearse.Missed || other.Port != b.Port || other.About != b.About {
				continue
			}
			names = append(names, other.Name)
			if w := other.Mend; w != nil && !mends[w.Step+w.Lines[0]] {
				mends[w.Step+w.Lines[0]] = true
				where := fmt.Sprintf("at the end of step %q", shell.OneLine(w.Step))
				if w.After > 0 {
					where = fmt.Sprintf("after line %d", w.After)
				}
				lines += fmt.Sprintf("   %s:\n      %s\n", where, strings.Join(w.Lines, "\n      "))
			}
		}
		fmt.Fprintf(c.Streams.Out, "\n%s: %s at %s\n%s%s", s.Bold("missed"), shell.OneLine(b.About), b.Port, shell.Wrapped(names, "; ", "   "), lines)
	}
}

// chances tells how often steps fail by the air alone.
func chances(w io.Writer, r *rehearse.Report) {
	for _, x := range r.Chances {
		fmt.Fprintf(w, "\nby the air alone %q fails in %d of %d runs (%.1f to %.1f %%), with tries %d", shell.OneLine(x.Step), x.Failed, x.Runs, 100*x.Share[0], 100*x.Share[1], x.Tries)
		if x.With > x.Tries {
			fmt.Fprintf(w, "; tries %d would make that less than one in a thousand", x.With)
		}
		fmt.Fprintln(w)
	}
}

// notTested names what the procedure neither writes, reads nor measures, and what nothing could show.
func notTested(w io.Writer, r *rehearse.Report) {
	for _, class := range []rehearse.Class{rehearse.NotTested, rehearse.NotObservable} {
		var names []string
		for _, b := range r.Bad {
			name := b.About
			if b.Port != "" {
				name += " at " + b.Port
			}
			if b.Class == class && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		if len(names) > 0 {
			fmt.Fprintf(w, "\n%s:\n%s", class, shell.Wrapped(names, ", ", "   "))
		}
	}
}

// mended puts the lines into the procedure that would catch what was missed.
func (c *rehearseCommand) mended(ctx context.Context, file *procedure.File, r *rehearse.Report) error {
	text, put, err := r.Insert(file)
	if err != nil || put == 0 {
		if err == nil {
			c.Err.Line("there is nothing to mend")
		}
		return err
	}
	if !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	if _, err := procedure.Parse(file.Path, text); err != nil {
		return fmt.Errorf("the lines do not fit, and nothing was written: %w", err)
	}
	if !c.yes {
		yes, err := (&account.Person{App: c.Streams}).Confirm(ctx, fmt.Sprintf("put %s into %s?", shell.Count(put, "check"), file.Path))
		if err != nil || !yes {
			return err
		}
	}
	info, err := os.Stat(file.Path)
	if err == nil {
		err = os.WriteFile(file.Path, []byte(text), info.Mode())
	}
	if err != nil {
		return fmt.Errorf("mend %s: %w", file.Path, err)
	}
	c.Err.Line("%s in %s: rehearse it again", shell.Count(put, "check"), shell.Safe(file.Path))
	return nil
}
