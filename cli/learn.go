package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"uparrot/core/learn"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/record/conversation"
	"uparrot/core/session"
	"uparrot/core/source"
)

func (a *app) learn() *cobra.Command {
	var out, title, book string
	files := &outputs{}
	cmd := &cobra.Command{
		Use:   "learn RECORD",
		Short: "Writes a procedure from what was said and heard by hand",
		Long: `Writes a procedure that does again what a record tells was done by hand, such as one
that "uparrot talk --record" has kept: what was said, and the answers that mattered.
Values that vary are captured, and one that came from an earlier answer is referred
to; repetitions become tries; what was refused is left out; settings that the
phrasebook knows become inputs. Read it before you rely on it.`,
		Example: "uparrot learn valley.record --out valley.parrot",
		Args:    args(1, 1, "one record"),
		RunE: func(cmd *cobra.Command, args []string) error {
			files.Inputs = append([]string{book}, args...)
			if err := files.plan(cmd, "out", out); err != nil {
				return err
			}
			return a.doLearn(files, args[0], out, title, book)
		},
	}
	files.add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&out, "out", "", "write to this file; without it to stdout")
	fl.StringVar(&title, "title", "", "the title of the procedure")
	fl.StringVar(&book, "phrasebook", "", "the phrasebook of the modules, where the record names none")
	return cmd
}

func (a *app) doLearn(files *outputs, path, out, title, book string) error {
	f, err := os.Open(path)
	if err != nil {
		return &session.Misuse{What: fmt.Sprintf("read the record: %v", err)}
	}
	defer f.Close()
	talks, state, err := conversation.Read(f)
	switch {
	case err != nil:
		return fmt.Errorf("%s: %w", path, err)
	case state.Altered != "":
		return &session.Misuse{What: fmt.Sprintf("%s is %s", path, state.Words())}
	}
	books, err := a.books(talks, state.Origin, path, book, out)
	if err != nil {
		return err
	}
	if title == "" {
		title = "As done by hand on " + state.Last.Format("2 January 2006")
	}
	about := "Learned from the record " + filepath.Base(path) + "."
	name := out
	if name == "" {
		name = "learned.parrot" // in the folder from which it would be performed
	}
	text, err := learn.Procedure(name, title, about, talks, books)
	if text == "" {
		return &session.Misuse{What: fmt.Sprintf("%s: %v", path, err)}
	}
	if out == "" {
		if _, werr := fmt.Fprint(a.out, text); werr != nil {
			return werr
		}
	} else if werr := a.save(files, out, func(w io.Writer) error { _, err := io.WriteString(w, text); return err }); werr != nil {
		return werr
	}
	if err != nil {
		a.err.line("uparrot: what was learned needs mending by hand:")
		return err
	}
	proc, err := procedure.Parse(name, text)
	if err != nil {
		return err
	}
	if len(proc.Warnings) > 0 {
		a.err.line("%s worth a look, such as values that are captured and not checked yet: uparrot check tells of them", count(len(proc.Warnings), "place"))
	}
	if out != "" {
		a.err.line("%s: a procedure of %s, no mistakes", safe(out), count(len(proc.Steps), "step"))
	}
	return nil
}

// books finds the phrasebooks of the recorded ports. One that is not there any
// more is told of and done without.
func (a *app) books(talks []*conversation.Talk, o record.Origin, recordFile, given, out string) (map[string]learn.Book, error) {
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
			return nil, asUsage(err)
		}
		if err != nil {
			a.err.line("the phrasebook %s, which %s had, cannot be read and is done without: name another with --phrasebook", safe(file), safe(t.Name))
			continue
		}
		from, err := filepath.Abs(filepath.Dir(out))
		if err != nil {
			return nil, err
		}
		path := file
		if rel, err := filepath.Rel(from, session.Absolute(file)); err == nil {
			path = filepath.ToSlash(rel)
		}
		books[t.Name] = learn.Book{Path: path, Phrasebook: pb}
	}
	return books, nil
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
