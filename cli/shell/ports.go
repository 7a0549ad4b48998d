package shell

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

// IsPhrasebook tells a phrasebook from a bench, as far as the file can be read.
func IsPhrasebook(path string) bool {
	text, err := source.ReadFile(path)
	return err != nil || source.KindOf(string(text)) != source.Bench
}

// PortFlags say which ports a command speaks at and how.
type PortFlags struct {
	Bench      string
	Speed      int
	Frame      string
	Phrasebook string
}

// Add lays the flags on.
func (p *PortFlags) Add(cmd *cobra.Command) {
	p.AddBench(cmd)
	cmd.Flags().IntVar(&p.Speed, "speed", 0, "speed in baud; overrides bench and phrasebook")
	cmd.Flags().StringVar(&p.Frame, "frame", "", "frame such as 8N1; overrides bench and phrasebook")
	cmd.Flags().StringVar(&p.Phrasebook, "phrasebook", "", "phrasebook of the modules; overrides the bench")
}

// AddBench lays on the flag of the bench alone.
func (p *PortFlags) AddBench(cmd *cobra.Command) {
	cmd.Flags().StringVar(&p.Bench, "bench", "", "bench file that names the ports")
}

// SignFlags say by which texts it is known where an answer stands, over what the files say.
type SignFlags struct {
	dialect                                   string
	finals, refusals, prompts, turns, notices []string
}

// Add lays the flags on.
func (f *SignFlags) Add(cmd *cobra.Command) {
	fl := cmd.Flags()
	fl.StringVar(&f.dialect, "dialect", "", "how answers end: at, console, lines or bytes")
	fl.StringArrayVar(&f.finals, "final", nil, "a line that ends an answer, as in heard text, such as \"done ...\"")
	fl.StringArrayVar(&f.refusals, "refusal", nil, "a line that says no, as in heard text, such as \"what? ...\"")
	fl.StringArrayVar(&f.prompts, "prompt", nil, "the prompt, such as \"tower> \"")
	fl.StringArrayVar(&f.notices, "notice", nil, "a line that the module sends by itself, such as \"wind ... m/s\"")
	fl.StringArrayVar(&f.turns, "pager", nil, "pager prompt, such as \"--more--\"")
}

// Into adds what the flags say to a setup.
func (f *SignFlags) Into(cmd *cobra.Command, s *phrasebook.Setup) error {
	var err error
	if f.dialect != "" {
		if s.Dialect, err = phrasebook.ParseDialect(f.dialect); err != nil {
			return Usage(cmd, "--dialect: %v", err)
		}
	}
	for _, kind := range []struct {
		flag  string
		texts []string
		into  *phrasebook.Phrases
	}{{"final", f.finals, &s.Final}, {"refusal", f.refusals, &s.Refusal}, {"prompt", f.prompts, &s.Prompt}, {"pager", f.turns, &s.Pager}, {"notice", f.notices, &s.Notice}} {
		for _, text := range kind.texts {
			p, err := phrasebook.ParsePhrase(text)
			if err != nil {
				return Usage(cmd, "--%s: %v", kind.flag, err)
			}
			*kind.into = append(*kind.into, p)
		}
	}
	return nil
}

// Read reads the files that the flags name.
func (p *PortFlags) Read(cmd *cobra.Command) (*session.Ports, error) {
	ps := &session.Ports{}
	var err error
	if p.Bench != "" {
		if ps.Bench, err = ReadBench(p.Bench); err != nil {
			return nil, AsUsage(err)
		}
	}
	if p.Phrasebook != "" {
		if ps.Book, err = phrasebook.Read(p.Phrasebook); err != nil {
			return nil, AsUsage(err)
		}
	}
	if p.Frame != "" {
		f, err := uart.ParseFrame(p.Frame)
		if err != nil {
			return nil, Usage(cmd, "--frame: %v", err)
		}
		ps.Over.Frame = &f
	}
	if p.Speed != 0 && p.Speed < uart.MinSpeed || p.Speed > uart.MaxSpeed {
		return nil, Usage(cmd, "--speed: %d is outside %d..%d baud", p.Speed, uart.MinSpeed, uart.MaxSpeed)
	}
	ps.Over.Speed = p.Speed
	return ps, nil
}

// One is the ports that the flags tell of, and the one named of them.
func (f *PortFlags) One(cmd *cobra.Command, name string) (*session.Ports, *bench.Station, error) {
	ps, err := f.Read(cmd)
	if err != nil {
		return nil, nil, err
	}
	stations, err := ps.Stations(name)
	if err != nil {
		return nil, nil, err
	}
	return ps, stations[0], nil
}

// ReadBench reads a bench whose stand-ins are of the families that there are.
func ReadBench(path string) (*bench.Bench, error) { return bench.Read(path, families.All.Names()) }

// AsUsage makes a file that cannot be read wrong use; mistakes in it are that
// already.
func AsUsage(err error) error {
	if _, ok := err.(source.Mistakes); ok {
		return err
	}
	return &session.Misuse{What: err.Error()}
}

// EvidenceFlags say where a run leaves its evidence, and whose it is.
type EvidenceFlags struct {
	session.Keep
	Quiet bool     // where the record lies need not be told
	Also  *Outputs // what the record is to be copied to, once it is whole; may be nil
	cmd   *cobra.Command
}

// Add lays the flags on.
func (f *EvidenceFlags) Add(cmd *cobra.Command) {
	f.AddRecord(cmd)
	fl := cmd.Flags()
	AddLedger(cmd, &f.Ledger)
	fl.BoolVar(&f.NoLedger, "no-ledger", false, "do not write to the ledger; a record only where --record says")
	fl.StringVar(&f.Unit, "unit", "", "the unit that this is done to, such as its serial number")
	fl.StringVar(&f.By, "by", "", "operator (default: login name)")
}

// AddRecord is for what is no test of a unit: it has a record, and is not filed.
func (f *EvidenceFlags) AddRecord(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.Record, "record", "", "keep everything said and heard in this file; one that exists is refused without --keep-both (else it lies beside the ledger)")
	addKeepBoth(cmd)
	f.cmd = cmd
}

// Keep is the evidence that the flags ask for; what a person must know of it is told
// on the screen.
func (a *Streams) Keep(f EvidenceFlags) session.Keep {
	k := f.Keep
	k.KeepBoth = f.cmd != nil && KeepBoth(f.cmd)
	k.Tool = "uparrot " + VersionText()
	k.Tell = func(text string) { a.Err.Line("%s", Safe(text)) }
	return k
}

// Told tells where a record lies that nobody has named.
func (a *Streams) Told(f EvidenceFlags, record string) {
	if record != "" && f.Record == "" && !f.Quiet {
		a.Err.Line("%s", a.Err.Faint("record: "+Safe(FromHome(record))))
	}
}

// AddPoolKey lays on the flag that names the key of secrets in pools.
func AddPoolKey(cmd *cobra.Command, file *string) {
	cmd.Flags().StringVar(file, "pool-key", "", "file of the key that secrets of pools are encrypted under; pools.key of the configuration folder unless given")
}

// AddLedger lays on the flag that names the ledger.
func AddLedger(cmd *cobra.Command, where *string) {
	cmd.Flags().StringVar(where, "ledger", "", "the ledger: a file, or postgres://USER@HOST/DATABASE; "+session.LedgerVariable+" names another default")
}

// ErrEvidence says that all has been done, but that not all of it is on record.
// That has been told already.
var ErrEvidence = QuietError{ExitEvidence}

// WithVerdict is the error of something done: its verdict goes before lost evidence,
// other errors before the verdict.
func WithVerdict(v verdict.Verdict, err error) error {
	lost := errors.Is(err, session.ErrEvidence)
	if bad := NotPassed(v); bad != nil && (err == nil || lost) {
		return bad
	}
	if lost {
		return ErrEvidence
	}
	return err
}

// FromHome is a path as people write it, with ~ for the home folder.
func FromHome(path string) string {
	if home, err := os.UserHomeDir(); err == nil {
		if rest, ok := strings.CutPrefix(path, home+string(filepath.Separator)); ok {
			return filepath.Join("~", rest)
		}
	}
	return path
}
