package cli

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

	"uparrot/core/bench"
	"uparrot/core/link"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
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

func (a *app) demo() *cobra.Command {
	var dir string
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Does the whole job on simulated hardware and leaves a folder of results",
		Long: `Brings up two simulated radios of the Larkfell cableway, puts both into service,
proves a message each way, and measures the link between them; then a module of each
other family, and a procedure learned from what was said by hand. Leaves records, a
ledger and reports of all of it. Takes about twenty seconds and needs no hardware.`,
		Example: "uparrot demo --dir larkfell",
		Args:    args(0, 0, "no arguments"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.doDemo(cmd, dir)
		},
	}
	cmd.Flags().StringVar(&dir, "dir", "larkfell", "folder for the results")
	return cmd
}

func (a *app) doDemo(cmd *cobra.Command, dir string) error {
	ctx, began := cmd.Context(), time.Now()
	if err := demoFolder(dir); err != nil {
		return err
	}
	in := func(name string) string { return filepath.Join(dir, name) }
	head := func(text string) { a.err.line("\n%s", a.err.bold("== "+text)) }
	a.err.line("The Larkfell cableway: two simulated radios, one in the valley, one at the summit.")

	head("Files")
	for _, f := range []string{"larkfell.toml", "dunlin.toml", "commission.parrot", "greeting.parrot"} {
		what, warnings, err := checkFile(in(f))
		if err != nil {
			return err
		}
		a.warn(warnings)
		a.err.line("%s: %s, no mistakes", in(f), what)
	}

	head("Bench")
	b, err := bench.Read(in("larkfell.toml"))
	if err != nil {
		return err
	}
	live, err := wake(b, b.LinkDir(), nil)
	if err != nil {
		return err
	}
	ended := false
	defer func() {
		if !ended {
			_ = live.end() // the demo has failed already; that is what is told
		}
	}()
	for _, p := range b.Standins() {
		a.err.line("%s is at %s (%s, %s)", p.Name, p.At, p.Standin.Family, p.Setup.Line())
	}

	ps := &ports{bench: b}
	keep := evidenceFlags{ledger: in(filepath.Join(demoEvidence, demoLedgerFile)), by: "A. Rigger"}
	outcome := verdict.Passed
	for i, name := range []string{"valley", "summit"} {
		head("Commission the radio: " + name)
		keep.record, keep.unit = in(demoRecords[i]), []string{"DL-0017", "DL-0018"}[i]
		v, err := a.demoRun(ctx, ps, in("commission.parrot"), []string{"radio=" + name}, keep, fmt.Sprintf("address=%d", i+1))
		if err != nil {
			return err
		}
		outcome = verdict.Worse(outcome, v)
	}
	head("A message each way")
	keep.record, keep.unit = in(demoRecords[2]), ""
	v, err := a.demoRun(ctx, ps, in("greeting.parrot"), nil, keep)
	if err != nil {
		return err
	}
	outcome = verdict.Worse(outcome, v)

	head("The link, both ways at once")
	keep.record = in(demoRecords[3])
	sum, err := a.demoLink(ctx, ps, dir, keep)
	if err != nil {
		return err
	}
	outcome = verdict.Worse(outcome, sum.Verdict)
	a.truth(live, sum)
	head("By hand, and again")
	if v, err = a.demoLearn(ctx, cmd, ps, dir, keep); err != nil {
		return err
	}
	outcome = verdict.Worse(outcome, v)
	ended = true
	if err := live.end(); err != nil {
		return err
	}
	if err := live.KeepTruth(in(demoTruth)); err != nil {
		return err
	}
	head("A module of each other family, all at once")
	if v, err = a.demoWorkshop(ctx, dir, keep); err != nil {
		return err
	}
	outcome = verdict.Worse(outcome, v)
	head("Reports")
	if err := a.demoReports(dir); err != nil {
		return err
	}
	head("The ledger")
	if err := a.demoLedger(ctx, dir); err != nil {
		return err
	}
	a.demoEnd(dir, outcome, time.Since(began))
	return verdictError(outcome)
}

// demoFolder makes the folder, or takes one that holds a demo and nothing else,
// and puts the examples into it.
func demoFolder(dir string) error {
	ours := map[string]bool{demoFrames: true, demoSummary: true, demoTruth: true, "link-time.png": true, "link-distribution.png": true, "link-strength.png": true, "larkfell.ports": true, "workshop.ports": true, "station.ports": true, "ropeway.ports": true, demoEvidence: true}
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
		return &errUsage{what: fmt.Sprintf("read the folder: %v", err), example: "uparrot demo --dir larkfell"}
	}
	for _, e := range there {
		if !ours[e.Name()] {
			return &errUsage{what: fmt.Sprintf("the folder %s holds other files, such as %s: the demo writes only into a folder of its own", dir, e.Name()), example: "uparrot demo --dir larkfell-2"}
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

// demoRun performs one procedure as the command run would.
func (a *app) demoRun(ctx context.Context, ps *ports, file string, where []string, keep evidenceFlags, set ...string) (verdict.Verdict, error) {
	proc, err := procedure.Read(file)
	if err != nil {
		return "", err
	}
	cmd := a.run()
	cmd.SetContext(ctx)
	f := runFlags{where: where, set: set, evidence: keep, operator: "none"}
	values, err := f.values(cmd, proc)
	if err != nil {
		return "", err
	}
	res, err := a.perform(cmd, ps, proc, f, values, nil)
	return res.Verdict, err
}

// demoLink measures the link and leaves its files.
func (a *app) demoLink(ctx context.Context, ps *ports, dir string, keep evidenceFlags) (link.Summary, error) {
	in := func(name string) string { return filepath.Join(dir, name) }
	loss, p95 := 0.08, 1000.0 // wide enough for a machine that is busy with other things
	t := &link.Test{Plan: link.Plan{
		Count: 200, Every: 50 * time.Millisecond, Size: 24, Both: true, Deadline: 2 * time.Second,
		Limits: link.Limits{MaxLoss: &loss, MaxP95MS: &p95},
	}}
	var err error
	if t.A, err = ps.station("valley", phrasebook.Setup{}, nil); err != nil {
		return link.Summary{}, err
	}
	if t.B, err = ps.station("summit", phrasebook.Setup{}, nil); err != nil {
		return link.Summary{}, err
	}
	f := linkFlags{frames: in(demoFrames), evidence: keep, plot: in("link.png")}
	sum, err := a.doLinkTest(ctx, ps, t, f)
	if err != nil {
		return sum, err
	}
	text, err := json.MarshalIndent(sum, "", "  ")
	if err == nil {
		err = os.WriteFile(in(demoSummary), append(text, '\n'), 0o600)
	}
	if err != nil {
		return sum, fmt.Errorf("write the summary: %w", err)
	}
	printSummary(a.out, sum)
	return sum, nil
}

// truth holds the counts against what the simulated air really did.
func (a *app) truth(live *liveBench, sum link.Summary) {
	fmt.Fprintln(a.out)
	for _, t := range live.Truth() {
		for _, d := range sum.Directions {
			if d.From == t.From && d.To == t.To && d.LatencyMS != nil {
				fmt.Fprintf(a.out, "the air itself, %s to %s since the start: %d sent, %d lost (%d of them damaged), %d duplicated, %d reordered, delay %.1f ms\n",
					t.From, t.To, t.Sent, t.Lost, t.Damaged, t.Duplicated, t.Reordered, t.DelayMS)
			}
		}
	}
}

func (a *app) demoEnd(dir string, v verdict.Verdict, d time.Duration) {
	s := newScreen(a.out)
	fmt.Fprintf(a.out, "\n%s in %s. In the folder %s:\n", s.verdict(v, 0), took(d), dir)
	table(a.out, [][]string{
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
		{"  workshop.toml, ropeway.toml", "benches with a module of each other family; a procedure for each stands beside them"},
		{"  station.toml, boards.parrot", "another bench: a modem set otherwise than its guide says, two relay boards"},
	})
	fmt.Fprintf(a.out, `
Try next, in that folder:
  uparrot standin larkfell.toml
      keeps the two radios running; the rest goes into another terminal
  uparrot run commission.parrot --bench larkfell.toml --port valley --set address=1
  uparrot run commission.parrot --bench larkfell.toml --port summit --set address=2
  uparrot link test valley summit --bench larkfell.toml --both --max-loss 5%%
  uparrot results --ledger evidence/ledger.sqlite
  uparrot report valley.record --verify
  uparrot talk valley summit --bench larkfell.toml
      speaks with both by hand; F1 lists the keys
`)
}
