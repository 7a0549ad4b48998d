package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/source"
)

// asker asks the person at the terminal what is to be done about a step that has failed.
type asker struct {
	*person
	account *account
	file    *procedure.File          // as it is being performed
	most    time.Duration            // so long it is asked
	books   map[string]record.Digest // of the phrasebooks, which hold for a whole run
}

// secondAttempt is who is asked about failed steps; nil where nobody sits there.
func (c *runCommand) secondAttempt(file *procedure.File, operator perform.Operator) *asker {
	if !c.sits(operator) || c.askFor <= 0 || c.keeps.quiet {
		return nil
	}
	return &asker{person: operator.(*person), file: file, most: c.askFor, books: sums(phrasebooks(file))}
}

// sits reports whether the operator is a person who sits at a terminal.
func (c *runCommand) sits(operator perform.Operator) bool {
	_, isPerson := operator.(*person)
	return isPerson && isTerminal(c.in) && isTerminal(c.err.w)
}

// phrasebooks are the files of those that a procedure names.
func phrasebooks(f *procedure.File) (paths []string) {
	for _, p := range f.Ports {
		if p.Phrasebook != nil {
			paths = append(paths, p.Phrasebook.File)
		}
	}
	return paths
}

// sums are those of files as they are now; one that cannot be read has none.
func sums(paths []string) map[string]record.Digest {
	all := map[string]record.Digest{}
	for _, path := range paths {
		if text, err := source.ReadFile(path); err == nil {
			all[path] = record.Sum(text)
		}
	}
	return all
}

// second asks until it is told what to do; where nobody answers it stops.
func (q *asker) second(ctx context.Context, failed perform.StepResult) (perform.Choice, *perform.Mended) {
	s := q.app.err
	s.line("   %s", s.verdict(failed.Verdict, 0))
	q.app.explain(failed.Err, q.account.stations)
	q.account.explained = failed.Err
	ctx, cancel := context.WithTimeout(ctx, q.most)
	defer cancel()
	for {
		answer, err := q.ask(ctx, fmt.Sprintf("again, go on, or stop? [a/g/s; it stops after %v]", q.most))
		if err != nil {
			if errors.Is(err, context.DeadlineExceeded) {
				s.line("          nobody answered for %v: it stops", q.most)
			}
			return perform.Stop, nil
		}
		switch strings.ToLower(answer) {
		case "s", "stop":
			return perform.Stop, nil
		case "g", "go on", "go":
			return perform.GoOn, nil
		case "a", "again":
			if mended, ok := q.reread(); ok {
				return perform.Again, mended
			}
			continue
		}
		s.line("          type again, go on or stop")
	}
}

// reread reads the procedure anew, and tells what has changed. It is not ok where it cannot
// be gone on with as it is now; the mended one is nil where nothing has changed.
func (q *asker) reread() (mended *perform.Mended, ok bool) {
	s := q.app.err
	books := map[string]*phrasebook.Phrasebook{} // those that only the bench names
	for _, decl := range q.file.Ports {
		if st := q.account.stations[decl.Name]; st != nil && decl.Phrasebook == nil {
			books[decl.Name] = st.Phrasebook
		}
	}
	now, err := procedure.ReadWith(q.file.Path, books)
	if are := sums(phrasebooks(q.file)); err == nil && !maps.Equal(are, q.books) {
		err = errors.New("a phrasebook has changed, which holds for a whole run: stop, and run it anew")
	}
	if err == nil && !changed(q.file, now) {
		return nil, true
	}
	if err == nil {
		err = perform.Adoptable(q.file, now)
	}
	if err != nil {
		s.line("          %s", safe(strings.ReplaceAll(err.Error(), "\n", "\n          ")))
		return nil, false
	}
	for _, path := range slices.Sorted(maps.Keys(now.Texts)) {
		q.changes(path, q.file.Texts[path], now.Texts[path])
	}
	kept := *now // the one handed out is the performer's from then on
	q.file = &kept
	return &perform.Mended{File: now, Sums: sums(slices.Collect(maps.Keys(now.Texts)))}, true
}

// changed reports whether a procedure is written otherwise now.
func changed(was, now *procedure.File) bool {
	return !maps.EqualFunc(was.Texts, now.Texts, func(a, b source.Lines) bool { return slices.Equal(a, b) })
}

// mostChanges is how many lines are told that have changed.
const mostChanges = 10

// changes tells which lines of a file are new, and which are gone.
func (q *asker) changes(path string, was, now source.Lines) {
	gone := map[string]int{}
	for _, l := range was {
		gone[l]++
	}
	told := 0
	tell := func(mark string, line int, text string) {
		if told++; told <= mostChanges {
			q.app.err.line("          %s:%d %s %s", safe(path), line, mark, safe(strings.TrimSpace(text)))
		}
	}
	for i, l := range now {
		if gone[l]--; gone[l] < 0 {
			tell("now", i+1, l)
		}
	}
	for i, l := range was {
		if gone[l] > 0 {
			gone[l]--
			tell("was", i+1, l)
		}
	}
	if told > mostChanges {
		q.app.err.line("          and %s more", count(told-mostChanges, "line"))
	}
}
