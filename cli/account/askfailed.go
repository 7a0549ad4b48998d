package account

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"uparrot/cli/shell"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/source"
)

// Asker asks the person at the terminal what is to be done about a step that has failed.
type Asker struct {
	*Person
	Account *Run
	File    *procedure.File          // as it is being performed
	Most    time.Duration            // so long it is asked
	Books   map[string]record.Digest // of the phrasebooks, which hold for a whole run
}

// Phrasebooks are the files of those that a procedure names.
func Phrasebooks(f *procedure.File) (paths []string) {
	for _, p := range f.Ports {
		if p.Phrasebook != nil {
			paths = append(paths, p.Phrasebook.File)
		}
	}
	return paths
}

// Sums are those of files as they are now; one that cannot be read has none.
func Sums(paths []string) map[string]record.Digest {
	all := map[string]record.Digest{}
	for _, path := range paths {
		if text, err := source.ReadFile(path); err == nil {
			all[path] = record.Sum(text)
		}
	}
	return all
}

// AskHowToGoOn asks until it is told what to do; where nobody answers it stops.
func (q *Asker) AskHowToGoOn(ctx context.Context, failed perform.StepResult) (perform.Choice, *perform.Mended) {
	s := q.App.Err
	s.Line("   %s", s.Verdict(failed.Verdict, 0))
	explain(q.App, failed.Err, q.Account.stations)
	q.Account.explained = failed.Err
	ctx, cancel := context.WithTimeout(ctx, q.Most)
	defer cancel()
	for {
		answer, err := q.Ask(ctx, fmt.Sprintf("again, go on, or stop? [a/g/s; it stops after %v]", q.Most))
		if err != nil {
			if errors.Is(err, context.DeadlineExceeded) {
				s.Line("          nobody answered for %v: it stops", q.Most)
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
		s.Line("          type again, go on or stop")
	}
}

// reread reads the procedure anew, and tells what has changed. It is not ok where it cannot
// be gone on with as it is now; the mended one is nil where nothing has changed.
func (q *Asker) reread() (mended *perform.Mended, ok bool) {
	s := q.App.Err
	books := map[string]*phrasebook.Phrasebook{} // those that only the bench names
	for _, decl := range q.File.Ports {
		if st := q.Account.stations[decl.Name]; st != nil && decl.Phrasebook == nil {
			books[decl.Name] = st.Phrasebook
		}
	}
	now, err := procedure.ReadWith(q.File.Path, books)
	if are := Sums(Phrasebooks(q.File)); err == nil && !maps.Equal(are, q.Books) {
		err = errors.New("a phrasebook has changed, which holds for a whole run: stop, and run it anew")
	}
	if err == nil && !changed(q.File, now) {
		return nil, true
	}
	if err == nil {
		err = perform.Adoptable(q.File, now)
	}
	if err != nil {
		s.Line("          %s", shell.Safe(strings.ReplaceAll(err.Error(), "\n", "\n          ")))
		return nil, false
	}
	for _, path := range slices.Sorted(maps.Keys(now.Texts)) {
		q.changes(path, q.File.Texts[path], now.Texts[path])
	}
	kept := *now // the one handed out is the performer's from then on
	q.File = &kept
	return &perform.Mended{File: now, Sums: Sums(slices.Collect(maps.Keys(now.Texts)))}, true
}

// changed reports whether a procedure is written otherwise now.
func changed(was, now *procedure.File) bool {
	return !maps.EqualFunc(was.Texts, now.Texts, func(a, b source.Lines) bool { return slices.Equal(a, b) })
}

// mostChanges is how many lines are told that have changed.
const mostChanges = 10

// changes tells which lines of a file are new, and which are gone.
func (q *Asker) changes(path string, was, now source.Lines) {
	gone := map[string]int{}
	for _, l := range was {
		gone[l]++
	}
	told := 0
	tell := func(mark string, line int, text string) {
		if told++; told <= mostChanges {
			q.App.Err.Line("          %s:%d %s %s", shell.Safe(path), line, mark, shell.Safe(strings.TrimSpace(text)))
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
		q.App.Err.Line("          and %s more", shell.Count(told-mostChanges, "line"))
	}
}
