package cli

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/session"
	"uparrot/core/sim/families"
	"uparrot/core/source"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// portFlags say which ports a command speaks at and how.
type portFlags struct {
	bench      string
	speed      int
	frame      string
	phrasebook string
}

func (p *portFlags) add(cmd *cobra.Command) {
	p.addBench(cmd)
	cmd.Flags().IntVar(&p.speed, "speed", 0, "speed in baud, over what the files say")
	cmd.Flags().StringVar(&p.frame, "frame", "", "frame such as 8N1, over what the files say")
	cmd.Flags().StringVar(&p.phrasebook, "phrasebook", "", "phrasebook of the modules, over what the files say")
}

func (p *portFlags) addBench(cmd *cobra.Command) {
	cmd.Flags().StringVar(&p.bench, "bench", "", "bench file that names the ports")
}

// signFlags say by which texts it is known where an answer stands, over what the files say.
type signFlags struct {
	dialect                string
	finals, prompts, turns []string
	notices                []string
}

func (f *signFlags) add(cmd *cobra.Command) {
	fl := cmd.Flags()
	fl.StringVar(&f.dialect, "dialect", "", "how answers end: at, console, lines or bytes")
	fl.StringArrayVar(&f.finals, "final", nil, "a line that ends an answer, as in heard text, such as \"done ...\"")
	fl.StringArrayVar(&f.prompts, "prompt", nil, "what stands there when a command is waited for, such as \"tower> \"")
	fl.StringArrayVar(&f.notices, "notice", nil, "a line that the module sends by itself, such as \"wind ... m/s\"")
	fl.StringArrayVar(&f.turns, "pager", nil, "what waits within an answer to be told to go on, such as \"--more--\"")
}

// into adds what the flags say to a setup.
func (f *signFlags) into(cmd *cobra.Command, s *phrasebook.Setup) error {
	var err error
	if f.dialect != "" {
		if s.Dialect, err = phrasebook.ParseDialect(f.dialect); err != nil {
			return usage(cmd, "--dialect: %v", err)
		}
	}
	for _, kind := range []struct {
		flag  string
		texts []string
		into  *phrasebook.Phrases
	}{{"final", f.finals, &s.Final}, {"prompt", f.prompts, &s.Prompt}, {"pager", f.turns, &s.Pager}, {"notice", f.notices, &s.Notice}} {
		for _, text := range kind.texts {
			p, err := phrasebook.ParsePhrase(text)
			if err != nil {
				return usage(cmd, "--%s: %v", kind.flag, err)
			}
			*kind.into = append(*kind.into, p)
		}
	}
	return nil
}

// read reads the files that the flags name.
func (p *portFlags) read(cmd *cobra.Command) (*session.Ports, error) {
	ps := &session.Ports{}
	var err error
	if p.bench != "" {
		if ps.Bench, err = readBench(p.bench); err != nil {
			return nil, asUsage(err)
		}
	}
	if p.phrasebook != "" {
		if ps.Book, err = phrasebook.Read(p.phrasebook); err != nil {
			return nil, asUsage(err)
		}
	}
	if p.frame != "" {
		f, err := uart.ParseFrame(p.frame)
		if err != nil {
			return nil, usage(cmd, "--frame: %v", err)
		}
		ps.Over.Frame = &f
	}
	if p.speed != 0 && p.speed < uart.MinSpeed || p.speed > uart.MaxSpeed {
		return nil, usage(cmd, "--speed: %d is outside %d..%d baud", p.speed, uart.MinSpeed, uart.MaxSpeed)
	}
	ps.Over.Speed = p.speed
	return ps, nil
}

// one is the ports that the flags tell of, and the one named of them.
func (f *portFlags) one(cmd *cobra.Command, name string) (*session.Ports, *bench.Station, error) {
	ps, err := f.read(cmd)
	if err != nil {
		return nil, nil, err
	}
	stations, err := ps.Stations(name)
	if err != nil {
		return nil, nil, err
	}
	return ps, stations[0], nil
}

// readBench reads a bench whose stand-ins are of the families that there are.
func readBench(path string) (*bench.Bench, error) { return bench.Read(path, families.All.Names()) }

// asUsage makes a file that cannot be read wrong use; mistakes in it are that
// already.
func asUsage(err error) error {
	if _, ok := err.(source.Mistakes); ok {
		return err
	}
	return &session.Misuse{What: err.Error()}
}

// evidenceFlags say where a run leaves its evidence, and whose it is.
type evidenceFlags struct {
	session.Keep
	quiet bool     // where the record lies need not be told
	also  *outputs // what the record is to be copied to, once it is whole; may be nil
	cmd   *cobra.Command
}

func (f *evidenceFlags) add(cmd *cobra.Command) {
	f.addRecord(cmd)
	fl := cmd.Flags()
	addLedger(cmd, &f.Ledger)
	fl.BoolVar(&f.NoLedger, "no-ledger", false, "file nothing; a record only where --record says")
	fl.StringVar(&f.Unit, "unit", "", "the unit that this is done to, such as its serial number")
	fl.StringVar(&f.By, "by", "", "who does it; the login name unless given")
}

// addRecord is for what is no test of a unit: it has a record, and is not filed.
func (f *evidenceFlags) addRecord(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.Record, "record", "", "keep everything said and heard in this file; one that exists is refused without --keep-both (else it lies beside the ledger)")
	addKeepBoth(cmd)
	f.cmd = cmd
}

// keep is the evidence that the flags ask for; what a person must know of it is told
// on the screen.
func (a *app) keep(f evidenceFlags) session.Keep {
	k := f.Keep
	k.KeepBoth = f.cmd != nil && keepBoth(f.cmd)
	k.Tool = "uparrot " + versionText()
	k.Tell = func(text string) { a.err.line("%s", safe(text)) }
	return k
}

// told tells where a record lies that nobody has named.
func (a *app) told(f evidenceFlags, record string) {
	if record != "" && f.Record == "" && !f.quiet {
		a.err.line("%s", a.err.faint("record: "+safe(fromHome(record))))
	}
}

func addLedger(cmd *cobra.Command, where *string) {
	cmd.Flags().StringVar(where, "ledger", "", "the ledger: a file, or postgres://USER@HOST/DATABASE; "+session.LedgerVariable+" names another default")
}

// errEvidence says that all has been done, but that not all of it is on record.
// That has been told already.
var errEvidence = errQuiet{exitEvidence}

// withVerdict is the error of something done: its verdict goes before lost evidence,
// other errors before the verdict.
func withVerdict(v verdict.Verdict, err error) error {
	lost := errors.Is(err, session.ErrEvidence)
	if bad := verdictError(v); bad != nil && (err == nil || lost) {
		return bad
	}
	if lost {
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
