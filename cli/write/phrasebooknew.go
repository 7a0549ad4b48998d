package write

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/draft"
	"uparrot/core/phrasebook"
	"uparrot/core/record"
	"uparrot/core/record/conversation"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/source/toml"
	"uparrot/core/verdict"
)

// newBook is the command phrasebook new with its flags.
type newBook struct {
	*shell.Streams
	ports   shell.PortFlags
	files   shell.Outputs
	table   string
	record  string
	port    string
	answers string
	out     string
	yes     bool
	known   map[string]string // answers of a file, by question
	taken   []string          // questions for which the proposal was taken
}

func phrasebookNew(sh *shell.Streams) *cobra.Command {
	c := &newBook{Streams: sh}
	cmd := &cobra.Command{
		Use:   "new FAMILY [PORT]",
		Short: "Begin a phrasebook: from a table of commands, a record, or the module itself",
		Long: `Begins a phrasebook of a module family. The commands come from a table as a guide prints
it (--table: text with columns, CSV, Markdown), from a record of somebody who spoke with a
module (--from-record), or from the module at a port itself, where it follows ITU-T V.250
and 3GPP TS 27.007: it is asked for its commands, and of each what it is set to and what
it takes. Only reading is done; what would do something else is asked first.

What none of them tells is asked at the terminal, with a proposal; --answers FILE answers
from a TOML file of "QUESTION" = ANSWER, and --yes takes the proposals for the rest.`,
		Example: "uparrot phrasebook new Dunlin --table guide.csv --out dunlin.toml",
		Args:    shell.Args(1, 2, "the name of the family, and a port if the module is to be asked"),
		RunE:    c.run,
	}
	c.ports.Add(cmd)
	c.files.Add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&c.table, "table", "", "file with a table of commands, - for standard input")
	fl.StringVar(&c.record, "from-record", "", "record in which the commands were said")
	fl.StringVar(&c.port, "port", "", "of which port of the record, where there are several")
	fl.StringVar(&c.answers, "answers", "", "answers to the questions from a TOML file of \"QUESTION\" = ANSWER")
	fl.BoolVar(&c.yes, "yes", false, "take what is proposed where nothing else answers")
	fl.StringVar(&c.out, "out", "", "write the phrasebook to this file")
	return cmd
}

func (c *newBook) run(cmd *cobra.Command, args []string) error {
	ctx := cmd.Context()
	switch {
	case c.table == "" && c.record == "" && len(args) == 1:
		return shell.Usage(cmd, "nothing tells the commands: give --table FILE, --from-record FILE, or the port of a module")
	case c.table == "-" && c.answers == "" && !c.yes:
		return shell.Usage(cmd, "a table from standard input leaves nobody to ask: give --answers FILE or --yes")
	}
	c.files.Inputs = append(c.files.Inputs, c.table, c.record, c.answers, c.ports.Bench)
	if err := c.files.PlanFile(cmd, "out", c.out); err != nil {
		return err
	}
	if c.answers != "" {
		if err := c.readAnswers(); err != nil {
			return shell.AsUsage(err)
		}
	}
	ask := c.asker()
	var entries []draft.Entry
	var known phrasebook.Setup
	var refusals []string
	if c.table != "" {
		text, err := textOf(c.Streams, c.table)
		if err != nil {
			return shell.Usage(cmd, "--table: %v", source.Unreadable(c.table, err))
		}
		if entries, err = draft.Table(ctx, text, ask); err != nil {
			return asTold(cmd, "--table "+c.table, err)
		}
	}
	if c.record != "" {
		told, setup, no, err := c.ofRecord(cmd)
		if err != nil {
			return err
		}
		entries, known, refusals = append(entries, told...), setup, no
	}
	if len(args) == 2 {
		told, setup, err := c.ofModule(cmd, args[1], entries, ask)
		if err != nil {
			return err
		}
		entries, known = append(told, entries...), setup
	}
	b, err := draft.Begin(ctx, args[0], entries, known, refusals, ask)
	if err != nil {
		return asTold(cmd, args[0], err)
	}
	text, err := b.Text(cmp.Or(c.out, strings.ToLower(args[0])+".toml"))
	if err != nil {
		return fmt.Errorf("what came of it has mistakes, and nothing was written:\n%w", err)
	}
	for _, q := range c.taken {
		c.Streams.Err.Line("taken as proposed: %s", shell.Safe(q))
	}
	if c.out == "" {
		_, err = io.WriteString(c.Streams.Out, text)
		return err
	}
	if err := c.Save(&c.files, c.out, func(w io.Writer) error { _, err := io.WriteString(w, text); return err }); err != nil {
		return err
	}
	settings, commands, identity := b.Counts()
	c.Streams.Err.Line("%s: %s, %s, %s by which it tells what it is. uparrot check tells what it lacks",
		shell.Safe(c.out), shell.Count(settings, "setting"), shell.Count(commands, "other command"), shell.Count(identity, "command"))
	return nil
}

// asTold is an error of what was given, with what that is.
func asTold(cmd *cobra.Command, what string, err error) error {
	if _, stopped := errors.AsType[*unanswered](err); stopped || cmd.Context().Err() != nil {
		return err
	}
	return shell.Usage(cmd, "%s: %v", what, err)
}

// readAnswers reads the file of answers.
func (c *newBook) readAnswers() error {
	var all map[string]any
	doc, err := toml.Read(c.answers, &all)
	if err != nil {
		return source.Unreadable(c.answers, err)
	}
	c.known = map[string]string{}
	for q, v := range all {
		switch v.(type) {
		case map[string]any, []any:
			doc.Add(q, "an answer is a text or a number", "")
		default:
			c.known[q] = fmt.Sprint(v)
		}
	}
	return doc.Mistakes.Err()
}

// unanswered are questions to which nobody has an answer.
type unanswered struct{ what string }

func (e *unanswered) Error() string { return e.what }

// asker answers questions: from the file, by a person, or as proposed.
func (c *newBook) asker() draft.Ask {
	who := &account.Person{App: c.Streams}
	return func(ctx context.Context, q draft.Question) (string, error) {
		if answer, ok := c.known[q.Text]; ok {
			if q.Check != nil {
				if err := q.Check(answer); err != nil {
					return "", &session.Misuse{What: fmt.Sprintf("--answers: %q: %q will not do: %v", q.Text, answer, err)}
				}
			}
			return answer, nil
		}
		switch {
		case c.yes:
			c.taken = append(c.taken, fmt.Sprintf("%q = %q", q.Text, q.Propose))
			return q.Propose, nil
		case c.answers != "" || !shell.IsTerminal(c.In):
			return "", &session.Misuse{What: fmt.Sprintf("nobody answers %q: proposed is %q. Write it into a file for --answers, or give --yes", q.Text, q.Propose)}
		}
		text := q.Text
		if q.Propose != "" {
			text += " [" + q.Propose + "]"
		}
		answer, err := who.Value(ctx, text, func(s string) error {
			if s = cmp.Or(s, q.Propose); q.Check != nil {
				return q.Check(s)
			}
			return nil
		})
		return cmp.Or(answer, q.Propose), err
	}
}

// ofRecord is what a record tells.
func (c *newBook) ofRecord(cmd *cobra.Command) ([]draft.Entry, phrasebook.Setup, []string, error) {
	f, err := source.Open(c.record)
	if err != nil {
		return nil, phrasebook.Setup{}, nil, shell.Usage(cmd, "--from-record: %v", source.Unreadable(c.record, err))
	}
	defer f.Close()
	talks, _, err := conversation.Read(f)
	if err != nil {
		return nil, phrasebook.Setup{}, nil, shell.Usage(cmd, "--from-record %s: %v", c.record, err)
	}
	var names []string
	for _, t := range talks {
		if names = append(names, t.Name); t.Name == c.port || c.port == "" && len(talks) == 1 {
			entries, setup, no := draft.Record(t)
			return entries, setup, no, nil
		}
	}
	if c.port != "" {
		return nil, phrasebook.Setup{}, nil, shell.Usage(cmd, "--port: %s has no port %q. %s", c.record, c.port, source.DidYouMean(c.port, names))
	}
	return nil, phrasebook.Setup{}, nil, shell.Usage(cmd, "%s has several ports: say which with --port: %s", c.record, strings.Join(names, ", "))
}

// ofModule is what the module at a port tells of itself.
func (c *newBook) ofModule(cmd *cobra.Command, name string, further []draft.Entry, ask draft.Ask) (entries []draft.Entry, setup phrasebook.Setup, err error) {
	ps, err := c.ports.Read(cmd)
	if err != nil {
		return nil, setup, err
	}
	stations, err := ps.Stations(name)
	if err != nil {
		return nil, setup, shell.WithExample(cmd, err)
	}
	st := stations[0]
	if st.Setup.Dialect == phrasebook.DialectNotSaid {
		st.Setup.Dialect = phrasebook.AT
	}
	if st.Setup.Ending == phrasebook.EndingNotSaid {
		st.Setup.Ending = phrasebook.CR
	}
	_, err = c.Conduct(cmd.Context(), shell.EvidenceFlags{Keep: session.Keep{NoFiling: true}}, shell.About("phrasebook new", "phrasebook new", ps, st), nil, c.asking(cmd.Context(), st, further, ask, &entries))
	setup = st.Setup
	setup.Speed = st.Wire().Speed
	return entries, setup, err
}

// asking asks the module at a port.
func (c *newBook) asking(ctx context.Context, st *bench.Station, further []draft.Entry, ask draft.Ask, entries *[]draft.Entry) func(*record.Stream) (verdict.Verdict, error) {
	return func(events *record.Stream) (verdict.Verdict, error) {
		d, err := st.Open(ctx, events, nil)
		if err != nil {
			return verdict.Broken, err
		}
		tell := draft.Speak(d, events, st.Name)
		*entries, err = draft.Module(ctx, func(ctx context.Context, said string, secret bool) ([]string, bool, error) {
			c.Streams.Err.Draw("   asking %s", shell.Safe(said))
			return tell(ctx, said, secret)
		}, further, ask)
		if err = errors.Join(err, st.Close(events, d)); err != nil {
			return verdict.Broken, err
		}
		return verdict.Passed, nil
	}
}
