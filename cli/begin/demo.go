package begin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/measure"
	"uparrot/cli/run"
	"uparrot/cli/shell"
	"uparrot/cli/write"
	"uparrot/core/bench"
	"uparrot/core/link"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/verdict"
	"uparrot/examples"
)

// What the demo leaves in its folder, beside the examples themselves.
const (
	demoFrames  = "frames.csv"
	demoSummary = "link.json"
	demoTruth   = "truth.json"

	demoEvidence   = "evidence" // a folder
	demoLedgerFile = "ledger.sqlite"
)

var demoRecords = []string{"valley.record", "summit.record", "greeting.record", "link.record"}

// Demo is the command demo. What it does by other commands it calls as a person would: root makes all of
// them anew.
func Demo(sh *shell.Streams, root func(*shell.Streams) *cobra.Command) *cobra.Command {
	var dir string
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Do the whole job on simulated hardware and leave a folder of results",
		Long: `Rehearses a procedure, brings up two simulated radios of the Larkfell cableway, puts
both into service, proves a message each way, and measures the link between them; then a
module of each other family, a tray of 24 radios from a table, and a procedure learned
from what was said by hand. Leaves records, a ledger and reports of all of it. Takes
about twenty seconds and needs no hardware.`,
		Example: "uparrot demo --dir larkfell",
		Args:    shell.Args(0, 0, "no arguments"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return doDemo(sh, cmd.Context(), root, dir)
		},
	}
	cmd.Flags().StringVar(&dir, "dir", "larkfell", "folder for the results")
	return cmd
}

func doDemo(sh *shell.Streams, ctx context.Context, root func(*shell.Streams) *cobra.Command, dir string) error {
	began := time.Now()
	if err := demoFolder(dir); err != nil {
		return err
	}
	in := func(name string) string { return filepath.Join(dir, name) }
	head := func(text string) { sh.Err.Line("\n%s", sh.Err.Bold("== "+text)) }
	sh.Err.Line("The Larkfell cableway: two simulated radios, one in the valley, one at the summit.")

	head("Files")
	if err := checkFiles(sh, in); err != nil {
		return err
	}

	head("Bench")
	b, err := shell.ReadBench(in("larkfell.toml"))
	if err != nil {
		return err
	}
	live, err := session.Wake(b, b.LinkDir(), nil)
	if err != nil {
		return err
	}
	ended := false
	defer func() {
		if !ended {
			_ = live.End() // the demo has failed already; that is what is told
		}
	}()
	for _, p := range b.Standins() {
		sh.Err.Line("%s is at %s (%s, %s)", p.Name, live.At(p), p.Standin.Family, p.Setup.Line())
	}
	d := &demonstration{Streams: sh, ctx: ctx, root: root, dir: dir, ports: &session.Ports{Bench: b}, live: live, outcome: verdict.Passed}
	d.keep = sh.Keep(shell.EvidenceFlags{})
	d.keep.Ledger, d.keep.By = in(filepath.Join(demoEvidence, demoLedgerFile)), "A. Rigger"
	workshop, tray := d.workshop(), d.tray() // beside all else
	for _, part := range []struct {
		head string
		do   func() error
	}{
		{"Rehearsed first: would a procedure catch a bad radio?", d.rehearse},
		{"Commission the radio: valley", func() error { return d.commission("valley", "DL-0017", 1) }},
		{"Commission the radio: summit", func() error { return d.commission("summit", "DL-0018", 2) }},
		{"A message each way", func() error { return d.perform("greeting.parrot", "", nil) }},
		{"The link, both ways at once", d.link},
		{"By hand, and again", d.learn},
		{"The truth of the air", func() error { ended = true; return d.end(in(demoTruth)) }},
		{"A module of each other family, all at once", workshop},
		{"A tray of radios from a table", tray},
		{"Reports", func() error { return demoReports(sh, dir) }},
		{"The ledger", func() error { return demoLedger(sh, ctx, root, dir) }},
	} {
		head(part.head)
		if err := part.do(); err != nil {
			return errors.Join(err, d.stop())
		}
	}
	demoEnd(sh, dir, d.outcome, time.Since(began))
	return shell.NotPassed(d.outcome)
}

// checkFiles checks the files of the two radios.
func checkFiles(sh *shell.Streams, in func(string) string) error {
	for _, f := range []string{"larkfell.toml", "dunlin.toml", "commission.parrot", "greeting.parrot"} {
		d, err := write.ReadDoc(sh, in(f), "")
		if err != nil {
			return err
		}
		if err := d.Mistakes.Err(); err != nil {
			return err
		}
		sh.Warn(d.Warnings)
		sh.Err.Line("%s: %s, no mistakes", in(f), d.Words())
	}
	return nil
}

// demonstration is the demo at work: the bench of the two radios, and where its
// evidence goes.
type demonstration struct {
	*shell.Streams
	ctx     context.Context
	root    func(*shell.Streams) *cobra.Command
	dir     string
	ports   *session.Ports
	live    *session.Live
	keep    session.Keep
	outcome verdict.Verdict
	stop    func() error // ends the workshop
}

// rehearse rehearses a procedure that was written in a hurry, so that something is missed.
func (d *demonstration) rehearse() error {
	root := d.root(&shell.Streams{In: d.Streams.In, Out: d.Out, Err: d.Streams.Err})
	root.SilenceErrors, root.SilenceUsage = true, true
	root.SetArgs([]string{"rehearse", d.in("hasty.parrot")})
	err := root.ExecuteContext(d.ctx)
	if v, judged := errors.AsType[shell.VerdictError](err); judged && v.Verdict == verdict.Failed {
		return nil // as it should
	}
	if err == nil {
		err = errors.New("the hurried procedure has caught every bad radio, and should not")
	}
	return err
}

func (d *demonstration) in(name string) string { return filepath.Join(d.dir, name) }

// came takes the verdict of a part in.
func (d *demonstration) came(v verdict.Verdict) { d.outcome = verdict.Worse(d.outcome, v) }

// procedure is one of the demo's, ready to be performed without a person.
func (d *demonstration) procedure(ports *session.Ports, file, record, unit string, set ...string) (*session.Procedure, error) {
	f, err := procedure.Read(file)
	if err != nil {
		return nil, err
	}
	p := &session.Procedure{File: f, Ports: ports, Keep: d.keep}
	p.Keep.Record, p.Keep.Unit = record, unit
	p.Values, err = session.Inputs{Set: set}.Values(f)
	return p, err
}

// perform performs one procedure, told as the command run tells it.
func (d *demonstration) perform(file, unit string, at map[string]string, set ...string) error {
	name := strings.TrimSuffix(file, ".parrot")
	if radio := at["radio"]; radio != "" {
		name = radio
	}
	p, err := d.procedure(d.ports, d.in(file), d.in(name+".record"), unit, set...)
	if err != nil {
		return err
	}
	p.At = at
	p.Watch = func(stations map[string]*bench.Station) func(record.Event) {
		return account.Account(d.Streams, p.File, stations, p.Values).Event
	}
	res, err := run.Perform(d.Streams, d.ctx, p)
	d.came(res.Verdict)
	return err
}

func (d *demonstration) commission(radio, unit string, address int) error {
	return d.perform("commission.parrot", unit, map[string]string{"radio": radio}, fmt.Sprintf("address=%d", address))
}

// end ends the bench of the radios and keeps what its air did.
func (d *demonstration) end(truth string) error {
	err := d.live.End()
	if err == nil {
		err = d.live.KeepTruth(truth)
	}
	for _, t := range d.live.Truth() {
		fmt.Fprintf(d.Out, "the air itself, %s to %s since the start: %d sent, %d lost (%d of them damaged), %d duplicated, %d reordered, delay %.1f ms\n",
			t.From, t.To, t.Sent, t.Lost, t.Damaged, t.Duplicated, t.Reordered, t.DelayMS)
	}
	return err
}

// demoFolder makes the folder, or takes one that holds a demo and nothing else,
// and puts the examples into it.
func demoFolder(dir string) error {
	ours := map[string]bool{demoFrames: true, demoSummary: true, demoTruth: true, "link-time.png": true, "link-distribution.png": true, "link-strength.png": true, "larkfell.ports": true, "workshop.ports": true, "station.ports": true, "ropeway.ports": true, "tray.ports": true, demoEvidence: true}
	for _, r := range demoRecords {
		ours[r] = true
	}
	names, err := fs.ReadDir(examples.Files, ".")
	if err != nil {
		return fmt.Errorf("read the examples in the program: %w", err)
	}
	for _, n := range names {
		ours[n.Name()] = true
	}
	there, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return &session.Misuse{What: fmt.Sprintf("read the folder: %v", err), Example: "uparrot demo --dir larkfell"}
	}
	for _, e := range there {
		if !ours[e.Name()] {
			return &session.Misuse{What: fmt.Sprintf("the folder %s holds other files, such as %s: the demo writes only into a folder of its own", dir, e.Name()), Example: "uparrot demo --dir larkfell-2"}
		}
	}
	// What an earlier demo has left goes: records would not be overwritten.
	for _, old := range append([]string{demoEvidence}, demoRecords...) {
		if err := os.RemoveAll(filepath.Join(dir, old)); err != nil {
			return fmt.Errorf("take away what an earlier demo has left: %w", err)
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, demoEvidence), 0o755); err != nil {
		return fmt.Errorf("make the folder for the demo: %w", err)
	}
	for _, n := range names {
		text, err := examples.Files.ReadFile(n.Name())
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, n.Name()), text, 0o644)
		}
		if err != nil {
			return fmt.Errorf("write the example %s: %w", n.Name(), err)
		}
	}
	return nil
}

// link measures the link and leaves its files.
func (d *demonstration) link() error {
	loss := 0.08 // of frames lost or late: wide enough for a machine that is busy with other things
	t := &link.Test{Plan: link.Plan{
		Count: 200, Every: 50 * time.Millisecond, Size: 24, Both: true, Deadline: 2 * time.Second,
		Limits: link.Limits{MaxLoss: &loss},
	}}
	ends, err := d.ports.Stations("valley", "summit")
	if err != nil {
		return err
	}
	t.A, t.B = ends[0], ends[1]
	c := &measure.LinkTestCommand{Streams: d.Streams, Files: demoFiles, Frames: d.in(demoFrames), Plot: d.in("link.png")}
	c.Keeps.Keep = d.keep
	c.Keeps.Record = d.in(demoRecords[3])
	sum, err := c.Do(d.ctx, d.ports, t)
	if err != nil {
		return err
	}
	text, err := json.MarshalIndent(sum, "", "  ")
	if err == nil {
		err = os.WriteFile(d.in(demoSummary), append(text, '\n'), 0o600)
	}
	if err != nil {
		return fmt.Errorf("write the summary: %w", err)
	}
	d.came(sum.Verdict)
	measure.PrintSummary(d.Out, sum)
	return nil
}

func demoEnd(sh *shell.Streams, dir string, v verdict.Verdict, d time.Duration) {
	s := shell.NewScreen(sh.Out)
	fmt.Fprintf(sh.Out, "\n%s in %s. In the folder %s:\n", s.Verdict(v, 0), shell.Took(d), dir)
	shell.Table(sh.Out, [][]string{
		{"  commission.parrot, greeting.parrot", "the procedures"},
		{"  larkfell.toml, dunlin.toml", "the bench and the phrasebook of its radios"},
		{"  " + strings.Join(demoRecords, ", "), "everything said and heard"},
		{"  link.json, frames.csv", "the link test: its summary, and one row a frame"},
		{"  link-time.png, link-distribution.png, link-strength.png", "the link drawn"},
		{"  truth.json", "what the simulated air really did"},
		{"  evidence/*.html", "a page of each record, to open in a browser"},
		{"  evidence/valley.*", "one record in every other form: JUnit, CSV, text, hex, pcapng, Markdown"},
		{"  evidence/ledger.sqlite", "the ledger of all runs; evidence/*.record the records of the other families"},
		{"  evidence/by-hand.parrot", "the procedure learned from what was said by hand"},
		{"  hasty.parrot", "a weak procedure; uparrot rehearse tells what it lets through"},
		{"  tray.toml, tray.csv, evidence/tray.csv", "a tray of radios: the bench, the table, and what came of it"},
		{"  workshop.toml, ropeway.toml", "benches with a module of each other family; a procedure for each stands beside them"},
		{"  station.toml, boards.parrot, curlew.parrot", "another bench: a modem set otherwise than its guide says, two relay boards"},
	})
	fmt.Fprintf(sh.Out, `
Try next, in that folder:
  uparrot standin larkfell.toml
      keeps the two radios running; the rest goes into another terminal
  uparrot run commission.parrot --bench larkfell.toml --port valley --set address=1
  uparrot run commission.parrot --bench larkfell.toml --port summit --set address=2
  uparrot link test valley summit --bench larkfell.toml --both --max-loss 8%%
  uparrot results --ledger evidence/ledger.sqlite
  uparrot report valley.record --verify
  uparrot talk valley summit --bench larkfell.toml
      speaks with both by hand; F1 lists the keys
`)
}
