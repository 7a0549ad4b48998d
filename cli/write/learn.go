package write

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/learn"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/record/conversation"
	"uparrot/core/session"
	"uparrot/core/source"
)

// LearnCommand is the command learn with its flags.
type LearnCommand struct {
	*shell.Streams
	Files            shell.Outputs
	signs            shell.SignFlags
	Out, Title, book string
	list, log        string // files of people
	columns, ways    string
	port, ending     string
}

// Learn is the command learn.
func Learn(sh *shell.Streams) *cobra.Command {
	c := &LearnCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "learn [RECORD...]",
		Short: "Write a procedure from what was said and heard by hand",
		Long: `Writes a procedure that does again what a record tells was done by hand, such as one
that "uparrot talk --record" has kept: what was said, and the answers that mattered.
Values that vary are captured, and one that came from an earlier answer is referred
to; repetitions become tries; what was refused is left out; settings that the
phrasebook knows become inputs. Read it before you rely on it. Of several records, of
the same done to several units, what differs becomes an input where it was said and a
capture where it was heard.

--from-list reads a plain list of commands, with or without their answers: lines that
begin with > and <, or blocks whose first line is said. --from-log reads another
program's log, whose lines --columns describes as heard text, with --ways naming what
stands for said and heard. --dialect, --ending, --final, --prompt and --phrasebook say
how the module speaks that these are about.`,
		Example: "uparrot learn valley.record --out valley.parrot",
		Args:    shell.Args(0, -1, "records, or none with --from-list or --from-log"),
		RunE:    c.run,
	}
	c.Files.Add(cmd)
	c.signs.Add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&c.Out, "out", "", "write to this file; without it to stdout")
	fl.StringVar(&c.Title, "title", "", "the title of the procedure")
	fl.StringVar(&c.book, "phrasebook", "", "the phrasebook of the modules, where the record names none")
	fl.StringVar(&c.list, "from-list", "", "a text file with commands, and their answers if they are known")
	fl.StringVar(&c.log, "from-log", "", "the log of another program")
	fl.StringVar(&c.columns, "columns", "{time:word} {way:word} {text}", "how a line of that log is made: time, port, way and text")
	fl.StringVar(&c.ways, "ways", ">,<", "what stands in way where a line was said, and where it was heard")
	fl.StringVar(&c.port, "port", "module", "the name of the port, where the log tells none")
	fl.StringVar(&c.ending, "ending", "", "line ending: cr, lf, crlf or none")
	return cmd
}

func (c *LearnCommand) run(cmd *cobra.Command, args []string) error {
	given := 0
	for _, from := range []string{strings.Join(args, ""), c.list, c.log} {
		if from != "" {
			given++
		}
	}
	if given != 1 {
		return shell.Usage(cmd, "wanted records, or one of --from-list FILE and --from-log FILE")
	}
	c.Files.Inputs = append([]string{c.book, c.list, c.log}, args...)
	if err := c.Files.PlanFile(cmd, "out", c.Out); err != nil {
		return err
	}
	if len(args) > 0 {
		return c.FromRecords(args)
	}
	return c.fromNotes(cmd)
}

// fromNotes learns from what people have before they have a record.
func (c *LearnCommand) fromNotes(cmd *cobra.Command) error {
	books, notes, err := c.notes(cmd)
	if err != nil {
		return err
	}
	path := c.list + c.log
	text, err := source.ReadFile(path)
	if err != nil {
		return &session.Misuse{What: err.Error()}
	}
	var from learn.Source
	if c.list != "" {
		from.Talks, from.Untold = notes.List(string(text))
	} else {
		said, heard, _ := strings.Cut(c.ways, ",")
		columns, err := learn.ParseColumns(c.columns, said, heard)
		if err != nil {
			return shell.Usage(cmd, "--columns %s, --ways %s: %v", c.columns, c.ways, err)
		}
		others := 0
		if from.Talks, others, err = notes.Log(string(text), columns); err != nil {
			return &session.Misuse{What: fmt.Sprintf("%s: %v", path, err)}
		}
		if others > 0 {
			c.Err.Line("%s of %s skipped: not as --columns says", shell.Count(others, "line"), shell.Safe(path))
		}
	}
	from.Books = books(from.Talks)
	return c.procedure(path, "As in "+filepath.Base(path), "Learned from "+filepath.Base(path)+".", from)
}

// notes is how the module speaks that a list or a log is about, and its phrasebook.
func (c *LearnCommand) notes(cmd *cobra.Command) (books func([]*conversation.Talk) map[string]learn.Book, n learn.Notes, err error) {
	n.Port = c.port
	if err = c.signs.Into(cmd, &n.Setup); err != nil {
		return nil, n, err
	}
	if c.ending != "" {
		if n.Setup.Ending, err = phrasebook.ParseEnding(c.ending); err != nil {
			return nil, n, shell.Usage(cmd, "--ending: %v", err)
		}
	}
	if c.book == "" {
		return func([]*conversation.Talk) map[string]learn.Book { return nil }, n, nil
	}
	pb, err := phrasebook.Read(c.book)
	if err != nil {
		return nil, n, shell.AsUsage(err)
	}
	n.Setup = n.Setup.Or(pb.Setup())
	path, err := besideOut(c.book, c.Out)
	return func(talks []*conversation.Talk) map[string]learn.Book {
		all := map[string]learn.Book{}
		for _, t := range talks {
			all[t.Name] = learn.Book{Path: path, Phrasebook: pb}
		}
		return all
	}, n, err
}

// name is where the procedure will lie, for messages.
func (c *LearnCommand) name() string {
	if c.Out == "" {
		return "learned.parrot" // in the folder from which it would be performed
	}
	return c.Out
}

// FromRecords learns from records of the same done to several units.
func (c *LearnCommand) FromRecords(paths []string) error {
	var from learn.Source
	var names []string
	title := ""
	for i, path := range paths {
		talks, state, err := readTalks(path)
		if err != nil {
			return err
		}
		names = append(names, filepath.Base(path))
		if i > 0 {
			from.More = append(from.More, learn.Unit{Name: filepath.Base(path), Talks: talks})
			continue
		}
		title = "As done by hand on " + state.Last.Format("2 January 2006")
		from.Talks = talks
		if from.Books, err = books(c.Streams, talks, state.Origin, path, c.book, c.Out); err != nil {
			return err
		}
	}
	about := "Learned from the record " + names[0] + "."
	if len(names) > 1 {
		about = "Learned from the records " + strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1] + "."
	}
	return c.procedure(strings.Join(paths, ", "), title, about, from)
}

// readTalks reads the conversations of a record.
func readTalks(path string) ([]*conversation.Talk, record.State, error) {
	f, err := source.Open(path)
	if err != nil {
		return nil, record.State{}, &session.Misuse{What: fmt.Sprintf("read the record: %v", err)}
	}
	defer f.Close()
	talks, state, err := conversation.Read(f)
	switch {
	case err != nil:
		err = fmt.Errorf("%s: %w", path, err)
	case state.Altered != "":
		err = &session.Misuse{What: fmt.Sprintf("%s is %s", path, state.Words())}
	}
	return talks, state, err
}

// procedure learns, hands the procedure out, and tells what it is worth. The title is that
// unless --title says another.
func (c *LearnCommand) procedure(path, title, about string, from learn.Source) error {
	if c.Title != "" {
		title = c.Title
	}
	text, err := learn.Procedure(c.name(), title, about, from)
	if text == "" {
		return &session.Misuse{What: fmt.Sprintf("%s: %v", path, err)}
	}
	if c.Out == "" {
		if _, werr := fmt.Fprint(c.Streams.Out, text); werr != nil {
			return werr
		}
	} else if werr := c.Save(&c.Files, c.Out, func(w io.Writer) error { _, err := io.WriteString(w, text); return err }); werr != nil {
		return werr
	}
	if err != nil {
		c.Err.Line("uparrot: what was learned needs mending by hand:")
		return err
	}
	proc, err := procedure.Parse(c.name(), text)
	if err != nil {
		return err
	}
	if len(proc.Warnings) > 0 {
		c.Err.Line("%s worth a look, such as values that are captured and not checked yet: uparrot check tells of them", shell.Count(len(proc.Warnings), "place"))
	}
	if c.Out != "" {
		c.Err.Line("%s: a procedure of %s, no mistakes", shell.Safe(c.Out), shell.Count(len(proc.Steps), "step"))
	}
	return nil
}

// books finds the phrasebooks of the recorded ports. One that is not there any
// more is told of and done without.
func books(sh *shell.Streams, talks []*conversation.Talk, o record.Origin, recordFile, given, out string) (map[string]learn.Book, error) {
	books := map[string]learn.Book{}
	for _, t := range talks {
		file := given
		if file == "" {
			file = whereNow(t.Opened.Phrasebook, o, recordFile)
		}
		if file == "" {
			continue
		}
		pb, err := phrasebook.Read(file)
		if err != nil && given != "" {
			return nil, shell.AsUsage(err)
		}
		if err != nil {
			sh.Err.Line("the phrasebook %s, which %s had, cannot be read and is done without: name another with --phrasebook", shell.Safe(file), shell.Safe(t.Name))
			continue
		}
		path, err := besideOut(file, out)
		if err != nil {
			return nil, err
		}
		books[t.Name] = learn.Book{Path: path, Phrasebook: pb}
	}
	return books, nil
}

// besideOut is a file as one that lies where out will names it.
func besideOut(file, out string) (string, error) {
	from, err := filepath.Abs(filepath.Dir(out))
	if err != nil {
		return "", err
	}
	if rel, err := filepath.Rel(from, session.Absolute(file)); err == nil {
		return filepath.ToSlash(rel), nil
	}
	return file, nil
}

// whereNow is where a file is now that a record has used: where it was, or by its
// name in the folder of the record, the one above or this one, if it is still the
// same file.
func whereNow(file string, o record.Origin, recordFile string) string {
	if _, err := os.Stat(file); err == nil || file == "" {
		return file
	}
	dir, name := filepath.Dir(recordFile), filepath.Base(file)
	for _, other := range []string{filepath.Join(dir, name), filepath.Join(dir, "..", name), name} {
		text, err := source.ReadFile(other)
		for _, f := range o.Files {
			if err == nil && f.Path == file && f.SHA256 == record.Sum(text) {
				return other
			}
		}
	}
	return file
}
