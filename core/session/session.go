// Package session is one thing done at a bench, from finding its ports to its sealed
// verdict: what the command line, the demo and the tests hold alike.
//
//	ports := &session.Ports{Bench: bench}                // which ports there are
//	run := &session.Procedure{File: file, Ports: ports}  // what is to be done
//	result, err := run.Do(ctx)                           // done, on record, filed
//
// What happens is told once, as events of one stream: the record, the ledger and
// whoever watches hear the same.
package session

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"
	"unicode"

	"uparrot/core/bench"
	"uparrot/core/ledger"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// Misuse is something asked for that cannot be done as it was asked: a name that
// there is not, a value that does not fit.
type Misuse struct {
	What    string
	Example string // a correct call; may be empty
	Own     string // the person's own call, mended in what is told here; "" if that cannot be told
	Lacks   string // what the person's own call lacks, as it is to be added; "" if it is not that
}

func (e *Misuse) Error() string {
	switch {
	case e.Own != "":
		return e.What + "\nDid you mean: " + e.Own // it may lack more than what is told here
	case e.Example != "":
		return e.What + "\nExample: " + e.Example
	}
	return e.What
}

func misuse(format string, args ...any) error { return &Misuse{What: fmt.Sprintf(format, args...)} }

// Unable is what keeps something from being done at all, such as a port that is not
// there.
type Unable struct{ What string }

func (e *Unable) Error() string { return e.What }

// ErrEvidence says that all has been done, but that not all of it is on record.
var ErrEvidence = errors.New("the evidence is not complete")

// ErrLater says that all is on record, and that the ledger, which does not have all of it yet,
// will get it by itself.
var ErrLater = fmt.Errorf("%w yet", ErrEvidence)

// Keep says which evidence is left, and whose it is.
type Keep struct {
	Record   string // file; "" keeps it beside the ledger
	KeepBoth bool   // where that file exists take the next free name; else it is refused
	Ledger   string // a file or postgres://USER@HOST/DATABASE; "" is the default
	NoLedger bool   // file nothing; a record only where Record says
	NoFiling bool   // a record, but no place in the ledger: it is no test of a unit
	Unit     string // that it is done to
	PoolKey  string // file of the key of secrets in pools; "" is the default
	// Through is that ledger, open already; nil opens it for each run.
	Through *ledger.Ledger
	Claim   *record.Claim // of the unit in a batch, which ends with the run; nil if it is of none
	By      string        // who does it; the login name if empty
	Tool    string        // the program and its version

	// Tell is told what a person must know, such as that evidence cannot be written;
	// may be nil.
	Tell func(text string)
}

// About says what is done.
type About struct {
	Command  string // such as "link test"
	Name     string // for the record's file
	Ports    *Ports // nil if there are none
	Stations []*bench.Station
	Files    []string // that are read for it, beside the bench and the phrasebooks
}

// Session is something being done, with the evidence that it leaves. What cannot be
// written is told at once, and what is done goes on.
type Session struct {
	Events *record.Stream // everything that happens
	Run    string         // names it for good
	Record string         // where the record lies; "" if there is none

	keep   Keep
	w      *record.Writer // nil keeps none
	filing *ledger.Filing
	ctx    context.Context // when it is done nothing is waited for at the end
	// unfiled is the note that the record is yet to be filed; "" if there is none.
	unfiled string
	lost    atomic.Bool // something could not be written; it is told from several sides
}

// Begin begins the record of something that is done, and files it. Watchers, which
// may be nil, are told of all that happens.
func Begin(ctx context.Context, k Keep, about About, watch ...func(record.Event)) (*Session, error) {
	s := &Session{ctx: ctx, keep: k}
	origin, err := about.origin(k)
	if err != nil {
		return nil, err
	}
	s.Run = origin.Run
	if k.Record != "" || !k.NoLedger {
		if err := s.evidence(origin, about.Name); err != nil {
			return nil, err
		}
	}
	s.Events = record.NewStream(s.w, watch...)
	return s, nil
}

// origin is what the record's head tells.
func (a About) origin(k Keep) (record.Origin, error) {
	files := append([]string{}, a.Files...)
	where := ""
	if a.Ports != nil && a.Ports.Bench != nil {
		where = a.Ports.Bench.File
		files = append(files, where)
	}
	for _, s := range a.Stations {
		if s.Phrasebook != nil {
			files = append(files, s.Phrasebook.File)
		}
	}
	o, err := record.NewOrigin(k.Tool, a.Command, files...)
	o.Unit, o.Bench, o.Claim = k.Unit, where, k.Claim
	if k.By != "" {
		o.Operator = k.By
	}
	return o, err
}

// evidence makes the record and begins the filing.
func (s *Session) evidence(o record.Origin, name string) error {
	k := s.keep
	where := ""
	if !k.NoLedger {
		var err error
		if where, err = LedgerPlace(k.Ledger); err != nil {
			return misuse("%v. Name one with --ledger, or give --no-ledger", err)
		}
		if err := ledger.Fit(where); err != nil && k.Through == nil {
			return misuse("%v. Name another with --ledger, or give --no-ledger", err)
		}
	}
	if info, err := os.Stat(k.Record); k.Record != "" && err == nil && info.IsDir() {
		return misuse("--record %s is a folder: name a file in it", k.Record)
	}
	path := k.Record
	if path == "" {
		var err error
		if path, err = recordPath(where, o, name); err != nil {
			s.trouble("the record cannot be made: " + err.Error())
		}
	}
	if info, err := os.Stat(k.Record); k.Record != "" && err == nil && info.Mode().IsRegular() && !k.KeepBoth {
		return misuse("--record %s: the file exists, and a record is never replaced. Choose another name, or give --keep-both to take the next free one", k.Record)
	}
	if path != "" {
		if err := s.create(where, o, path); err != nil {
			return err
		}
	}
	if s.w == nil {
		s.w = record.New(nil, o) // for the ledger alone
	} else if s.Record = s.w.Path(); k.Record != "" && s.Record != k.Record {
		s.tell(fmt.Sprintf("%s exists, so the record is %s", k.Record, s.Record))
	}
	s.w.Trouble = func(err error) { s.trouble(err.Error()) }
	if where != "" && !k.NoFiling {
		// What is not filed in the end counts, not what had to wait.
		trouble := func(err error) { s.tell("uparrot: " + err.Error() + ". The run goes on") }
		if k.Through != nil {
			s.filing = k.Through.Begin(o, s.Record, trouble)
		} else {
			s.filing = ledger.Begin(where, o, s.Record, trouble)
		}
		s.w.Tell = s.filing.Take
	}
	return nil
}

// create makes the record, and notes first that it is to be filed.
func (s *Session) create(where string, o record.Origin, path string) error {
	files := where != "" && !s.keep.NoFiling
	note := func(path string) {
		if err := s.notePending(where, o, path); err != nil {
			s.trouble(err.Error())
		}
	}
	if files {
		note(path)
	}
	var err error
	s.w, err = record.Create(path, o)
	switch {
	case err != nil && s.unfiled != "":
		_ = os.Remove(s.unfiled) // it says nothing without the record
		s.unfiled = ""
	case err == nil && files && s.w.Path() != path: // it has another name, since there was one of this
		note(s.w.Path())
	}
	if err != nil && s.keep.Record != "" || errors.Is(err, fs.ErrNotExist) { // a mistake in the name: nothing was done yet
		return misuse("%v", err)
	}
	if err != nil {
		s.trouble(err.Error())
	}
	return nil
}

func (s *Session) tell(text string) {
	if s.keep.Tell != nil {
		s.keep.Tell(text)
	}
}

// trouble tells of something that keeps evidence from being kept.
func (s *Session) trouble(text string) {
	s.lost.Store(true)
	s.tell("uparrot: " + text + ". The run goes on")
}

// Seal tells the verdict of something that is no procedure; what none was come to is
// broken. It must be told before End.
func (s *Session) Seal(v verdict.Verdict, err error, took time.Duration) {
	if v == "" { // it did not come so far
		v = verdict.Broken
	}
	e := record.Event{Kind: record.Verdict, Verdict: v, TookMS: float64(took.Microseconds()) / 1000}
	if err != nil {
		e.Why = err.Error()
	}
	s.Events.Emit(e)
}

// End closes the record and the filing. Where evidence was lost it returns
// ErrEvidence.
func (s *Session) End() error {
	err := s.w.Close()
	if err != nil {
		s.lost.Store(true)
		s.tell("uparrot: the record is not complete: " + err.Error())
	}
	if s.filing != nil {
		if later := s.filed(err == nil); later && !s.lost.Load() {
			return ErrLater
		}
	}
	if s.lost.Load() {
		return ErrEvidence
	}
	return nil
}

// filed ends the filing. Later is that all is noted, to be filed by itself; what else could
// not be filed is lost evidence.
func (s *Session) filed(whole bool) (later bool) {
	err := s.filing.End(s.ctx, s.w.Sum())
	if err == nil && s.unfiled != "" {
		if err := os.Remove(s.unfiled); err != nil {
			s.tell("uparrot: " + err.Error())
		}
	}
	if err == nil {
		s.catchUp()
		return false
	}
	s.tell("uparrot: the run could not be written to the ledger: " + err.Error())
	later = s.unfiled != "" && whole && s.Record != "" // without a record there is nothing to file
	if s.unfiled != "" {
		if err := free(s.unfiled); err != nil {
			s.tell("uparrot: " + err.Error())
			later = false
		}
	}
	switch {
	case later:
		s.tell("Its record is whole, and is filed by itself when the ledger can be written: " + s.Record)
	case s.Record != "" && whole:
		s.tell("Its record is whole. File it when the ledger can be written: uparrot results add " + s.Record)
	}
	if !later {
		s.lost.Store(true)
	}
	return later
}

// catchUp files what could not be filed before, now that the ledger takes what it is given. A batch does so itself.
func (s *Session) catchUp() {
	if s.keep.Through != nil || s.ctx.Err() != nil {
		return
	}
	where, err := LedgerPlace(s.keep.Ledger)
	if err != nil {
		return // it could not have been filed
	}
	TellCaughtUp(s.ctx, where, s.tell)
}

// TellCaughtUp files what could not be filed before in the ledger at a place, and tells of it.
func TellCaughtUp(ctx context.Context, where string, tell func(string)) {
	done, err := CatchUp(ctx, where)
	for _, path := range done {
		tell("filed that could not be before: " + path)
	}
	if err != nil && ctx.Err() == nil {
		tell("uparrot: " + err.Error())
	}
}

// Do does something in a session and ends it: it tells the verdict, closes the
// record and the filing. An error of what was done goes before lost evidence.
func (s *Session) Do(do func() (verdict.Verdict, error)) (verdict.Verdict, error) {
	began := time.Now()
	v, err := do()
	s.Seal(v, err, time.Since(began))
	if lost := s.End(); err == nil {
		err = lost
	}
	return v, err
}

// LedgerVariable names the ledger in the environment where nobody else does.
const LedgerVariable = "UPARROT_LEDGER"

// LedgerPlace is the ledger that is named, or that of the environment, or the
// custom's.
func LedgerPlace(named string) (string, error) {
	if named != "" {
		return named, nil
	}
	if where := os.Getenv(LedgerVariable); where != "" {
		return where, nil
	}
	return ledger.DefaultPath()
}

// recordPath is where a record lies that nobody has named: in a folder of its
// month beside the ledger, or in the data folder for a ledger that is no file.
func recordPath(where string, o record.Origin, name string) (string, error) {
	if ledger.IsDatabase(where) {
		var err error
		if where, err = ledger.DefaultPath(); err != nil {
			return "", err
		}
	}
	now := time.Now()
	dir := filepath.Join(filepath.Dir(where), "records", now.Format("2006-01"))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	parts := []string{now.Format("20060102-150405"), slug(name)}
	if o.Unit != "" {
		parts = append(parts, slug(o.Unit))
	}
	parts = append(parts, o.Run[:8])
	return filepath.Join(dir, strings.Join(parts, "-")+".record"), nil
}

// slug is text as part of a file's name: letters, digits and hyphens, whatever
// else stands in it.
func slug(text string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(text) {
		if b.Len() >= 40 {
			break
		}
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			b.WriteRune(r)
		} else if s := b.String(); s != "" && !strings.HasSuffix(s, "-") {
			b.WriteByte('-')
		}
	}
	if s := strings.Trim(b.String(), "-"); s != "" {
		return s
	}
	return "run"
}

// askWithin is how long the ledger is asked about earlier runs.
const askWithin = 3 * time.Second

// passed tells of the latest run of a unit with a title that has passed today; nil where
// nothing is filed.
func (s *Session) passed(title string) func(ctx context.Context, unit string) (string, error) {
	if s.filing == nil {
		return nil
	}
	return func(ctx context.Context, unit string) (string, error) {
		ctx, cancel := context.WithTimeout(ctx, askWithin)
		defer cancel()
		l, closeIt, err := s.keep.open(ctx)
		if err != nil {
			return "", fmt.Errorf("ask the ledger about unit %s: %w", unit, err)
		}
		defer closeIt() //nolint:errcheck // it was only read
		now := time.Now()
		said := ""
		err = l.Runs(ctx, ledger.Filter{Unit: unit, Title: title, Verdict: string(verdict.Passed), Results: true, Since: time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())}, func(r ledger.Run) error {
			if r.Title == title && r.Run != s.Run {
				said = "at " + r.Began.Local().Format("15:04:05")
			}
			return nil
		})
		return said, err
	}
}
