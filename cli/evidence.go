package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"
	"unicode"

	"github.com/spf13/cobra"

	"uparrot/core/ledger"
	"uparrot/core/record"
	"uparrot/core/station"
	"uparrot/core/verdict"
)

// evidenceFlags say where a run leaves its evidence, and whose it is.
type evidenceFlags struct {
	record   string
	ledger   string
	noLedger bool
	unit     string
	by       string
}

// onlyRecord is for what is no test of a unit: it is not filed, and has a record
// only where one is asked for.
func onlyRecord(path string) evidenceFlags { return evidenceFlags{record: path, noLedger: true} }

const recordHelp = "keep everything said and heard in this file; one that exists is not overwritten"

func (f *evidenceFlags) add(cmd *cobra.Command) {
	fl := cmd.Flags()
	fl.StringVar(&f.record, "record", "", recordHelp+" (else it lies beside the ledger)")
	addLedger(cmd, &f.ledger)
	fl.BoolVar(&f.noLedger, "no-ledger", false, "file nothing; a record only where --record says")
	fl.StringVar(&f.unit, "unit", "", "the unit that this is done to, such as its serial number")
	fl.StringVar(&f.by, "by", "", "who does it; the login name unless given")
}

// ledgerVariable names the ledger where no flag does.
const ledgerVariable = "UPARROT_LEDGER"

func addLedger(cmd *cobra.Command, where *string) {
	cmd.Flags().StringVar(where, "ledger", "", "the ledger: a file, or postgres://USER@HOST/DATABASE; "+ledgerVariable+" names another default")
}

// ledgerPlace is the ledger that a flag, the environment or the custom names.
func ledgerPlace(flag string) (string, error) {
	if flag != "" {
		return flag, nil
	}
	if where := os.Getenv(ledgerVariable); where != "" {
		return where, nil
	}
	return ledger.DefaultPath()
}

// evidence is what a run leaves behind: its record, and its place in the ledger.
// What cannot be written is told at once, and the run goes on.
type evidence struct {
	a      *app
	w      *record.Writer // nil keeps none
	origin record.Origin
	path   string // of the record; "" if there is none
	filing *ledger.Filing
	quiet  bool        // the path of the record need not be told
	lost   atomic.Bool // something could not be written; it is told from several sides
}

// evidence begins the record of a command and files the run, as the flags say.
// The stations' phrasebooks and the bench are among its files.
func (a *app) evidence(f evidenceFlags, command, about string, ps *ports, stations []*station.Station, files ...string) (*evidence, error) {
	e := &evidence{a: a, quiet: f.record != ""}
	if f.record == "" && f.noLedger {
		return e, nil
	}
	bench := ""
	if ps != nil && ps.bench != nil {
		bench = ps.bench.File
		files = append(files, bench)
	}
	for _, s := range stations {
		if s.Phrasebook != nil {
			files = append(files, s.Phrasebook.File)
		}
	}
	var err error
	if e.origin, err = record.NewOrigin("uparrot "+versionText(), command, files...); err != nil {
		return nil, err
	}
	e.origin.Unit, e.origin.Bench = f.unit, bench
	if f.by != "" {
		e.origin.Operator = f.by
	}
	where := ""
	if !f.noLedger {
		if where, err = ledgerPlace(f.ledger); err != nil {
			return nil, &errUsage{what: err.Error() + ". Name one with --ledger, or give --no-ledger"}
		}
	}
	path := f.record
	if path == "" {
		if path, err = recordPath(where, e.origin, about); err != nil {
			e.trouble("the record cannot be made: " + err.Error())
		}
	}
	if path != "" {
		e.w, err = record.Create(path, e.origin)
		if errors.Is(err, fs.ErrNotExist) { // a mistake in the name
			return nil, &errUsage{what: err.Error()}
		}
		if err != nil {
			e.trouble(err.Error())
		}
	}
	if e.w == nil {
		e.w = record.New(nil, e.origin) // for the ledger alone
	} else if e.path = e.w.Path(); f.record != "" && e.path != f.record {
		a.err.line("%s exists, so the record is %s", safe(f.record), safe(e.path))
	}
	e.w.Trouble = func(err error) { e.trouble(err.Error()) }
	if where != "" {
		e.filing = ledger.Begin(where, e.origin, e.path, func(err error) { e.trouble(err.Error()) })
		e.w.Tell = e.filing.Take
	}
	return e, nil
}

// trouble tells of something that keeps evidence from being kept.
func (e *evidence) trouble(text string) {
	e.lost.Store(true)
	e.a.err.line("uparrot: %s. The run goes on", safe(text))
}

// recordPath is where a record lies that nobody has named: in a folder of its
// month beside the ledger, or in the data folder for a ledger that is no file.
func recordPath(where string, o record.Origin, about string) (string, error) {
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
	parts := []string{now.Format("20060102-150405"), slug(about)}
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

// result puts what a test found into its record, where that is no link run.
func (e *evidence) result(v verdict.Verdict, found any) error {
	data, err := json.Marshal(found)
	if err != nil {
		return fmt.Errorf("write the result: %w", err)
	}
	e.w.Event(record.Event{Time: time.Now(), Kind: record.Result, Verdict: string(v), Data: data})
	return nil
}

// verdict puts the verdict of a command that has no procedure into its record.
func (e *evidence) verdict(v verdict.Verdict, why error, took time.Duration) {
	if v == "" { // it did not come so far
		v = verdict.Broken
	}
	ev := record.Event{Time: time.Now(), Kind: record.Verdict, Verdict: string(v), TookMS: float64(took.Microseconds()) / 1000}
	if why != nil {
		ev.Why = why.Error()
	}
	e.w.Event(ev)
}

// errEvidence says that all has been done, but that not all of it is on record.
// That has been told already.
var errEvidence = errQuiet{exitEvidence}

// end closes the record and the filing. Where evidence was lost, that becomes the
// error if there is no other.
func (e *evidence) end(err error) error {
	cerr := e.w.Close()
	if cerr != nil {
		e.lost.Store(true)
		e.a.err.line("uparrot: the record is not complete: %s", safe(cerr.Error()))
	}
	if e.filing != nil {
		if ferr := e.filing.End(e.w.Sum()); ferr != nil {
			e.lost.Store(true)
			e.a.err.line("uparrot: the run is not in the ledger as it was: %s", safe(ferr.Error()))
			if e.path != "" && cerr == nil {
				e.a.err.line("Its record is whole. File it when the ledger can be written: uparrot results add %s", safe(e.path))
			}
		}
	}
	if e.path != "" && !e.quiet {
		e.a.err.line("%s", e.a.err.faint("record: "+safe(fromHome(e.path))))
	}
	if e.lost.Load() && err == nil {
		return errEvidence
	}
	return err
}

// fromHome is a path as people write it, with ~ for the home folder.
func fromHome(path string) string {
	if home, err := os.UserHomeDir(); err == nil {
		if rest, ok := strings.CutPrefix(path, home+string(filepath.Separator)); ok {
			return filepath.Join("~", rest)
		}
	}
	return path
}

// withVerdict is the error of a run: its verdict goes before lost evidence, other
// errors before the verdict.
func withVerdict(v verdict.Verdict, err error) error {
	if bad := verdictError(v); bad != nil && (err == nil || errors.Is(err, errEvidence)) {
		return bad
	}
	return err
}
