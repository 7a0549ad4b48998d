package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/station"
	"uparrot/core/talk"
	"uparrot/core/verdict"
)

// family is a module of the workshop with its procedure. Each has ports of its
// own, so all are put into service at once.
type family struct {
	bench string // its file
	name  string // of the procedure and its record
	unit  string
	wants verdict.Verdict
	note  string
	hands perform.Operator // nil if it needs none
	set   []string
	where []string
	took  time.Duration
	came  verdict.Verdict
	err   error
}

// hands do what a procedure tells an operator, at a simulated bench.
type hands struct {
	live *liveBench
	do   map[string]func(*liveBench) error // by a part of what is told
}

func (h *hands) Tell(_ context.Context, text string) error {
	for part, do := range h.do {
		if strings.Contains(text, part) {
			return do(h.live)
		}
	}
	return nil
}

func (h *hands) Confirm(context.Context, string) (bool, error) { return true, nil }

func (h *hands) Value(context.Context, string, func(string) error) (string, error) {
	return "", errors.New("the demo has no value to give")
}

// demoWorkshop puts a module of each other family into service.
func (a *app) demoWorkshop(ctx context.Context, dir string, keep evidenceFlags) (verdict.Verdict, error) {
	service, err1 := freePort("tcp")
	server, err2 := freePort("tcp")
	listener, err3 := freePort("udp")
	if err := errors.Join(err1, err2, err3); err != nil {
		return "", err
	}
	lever := func(l *liveBench) error { return l.Hand("brakes", []string{"lever"}) }
	jumper := func(l *liveBench) error {
		return errors.Join(l.Hand("gauge", []string{"jumper", "on"}), l.Power("gauge", false), l.Power("gauge", true))
	}
	list := []*family{
		{name: "siskin", unit: "SK-0031"},
		{bench: "station.toml", name: "boards", unit: "RS-0005"},
		{bench: "ropeway.toml", name: "fieldfare", unit: "FF-0021", where: []string{"radio=valley"}},
		{name: "twite", unit: "TW-0008", set: []string{"server_port=" + server, "listener_port=" + listener}},
		{name: "bittern", unit: "BT-0002", set: []string{"service=" + service}},
		{name: "tower", unit: "BT-0014"},
		{name: "plover", unit: "PL-0103", hands: &hands{do: map[string]func(*liveBench) error{"jumper": jumper}}},
		{name: "brambling", unit: "BR-0044", wants: verdict.Failed, note: "as it should: its release time is out of its limits", hands: &hands{do: map[string]func(*liveBench) error{"lever": lever}}},
	}
	for name, v := range map[string]string{"UPARROT_NETWORK_KEY": "frost-and-rime", "UPARROT_CODE": "snowline"} {
		if err := os.Setenv(name, v); err != nil { // for this process alone
			return "", err
		}
	}
	benches := map[string]*liveDemo{}
	var errs []error
	for _, f := range list {
		if f.bench == "" {
			f.bench = "workshop.toml"
		}
		if benches[f.bench] == nil && len(errs) == 0 {
			d, err := wakeDemo(filepath.Join(dir, f.bench), service)
			if err != nil {
				errs = append(errs, err)
				break
			}
			benches[f.bench] = d
		}
		if h, ok := f.hands.(*hands); ok {
			h.live = benches[f.bench].live
		}
	}
	if len(errs) == 0 {
		var all sync.WaitGroup
		for _, f := range list {
			all.Go(func() { f.came, f.took, f.err = a.demoFamily(ctx, benches[f.bench].bench, dir, f, keep) })
		}
		all.Wait()
	}
	for _, d := range benches {
		errs = append(errs, d.live.end())
	}
	if err := errors.Join(errs...); err != nil {
		return "", err
	}
	return a.toldFamilies(list)
}

// liveDemo is a bench that was brought to life.
type liveDemo struct {
	bench *bench.Bench
	live  *liveBench
}

// wakeDemo brings a bench to life where nobody else is: at free ports of the
// network.
func wakeDemo(file, service string) (*liveDemo, error) {
	b, err := bench.Read(file)
	if err != nil {
		return nil, err
	}
	for _, p := range b.Standins() {
		if _, ok := p.Standin.Settings["service"]; ok {
			p.Standin.Settings["service"] = service
		}
		if scheme, _, ok := strings.Cut(p.At, "://"); ok {
			number, err := freePort("tcp")
			if err != nil {
				return nil, err
			}
			p.At = scheme + "://127.0.0.1:" + number
		}
	}
	live, err := wake(b, b.LinkDir(), nil)
	return &liveDemo{b, live}, err
}

// toldFamilies tells what came of the families, and whether it is what must come.
func (a *app) toldFamilies(list []*family) (verdict.Verdict, error) {
	s := newScreen(a.out)
	rows := [][]string{{"procedure", "unit", "verdict", "time", ""}}
	outcome := verdict.Passed
	for _, f := range list {
		if f.err != nil {
			return "", fmt.Errorf("%s: %w", f.name, f.err)
		}
		if f.wants == "" {
			f.wants = verdict.Passed
		}
		note := f.note
		if f.came != f.wants {
			note = "wanted " + string(f.wants)
			outcome = verdict.Worse(outcome, verdict.Failed)
		}
		rows = append(rows, []string{f.name + ".parrot", f.unit, s.verdict(f.came, 0), took(f.took), note})
	}
	table(a.out, rows)
	return outcome, nil
}

// demoFamily performs one procedure without a word.
func (a *app) demoFamily(ctx context.Context, b *bench.Bench, dir string, f *family, keep evidenceFlags) (verdict.Verdict, time.Duration, error) {
	quiet := &app{in: strings.NewReader(""), out: io.Discard, err: newScreen(io.Discard)}
	proc, err := procedure.Read(filepath.Join(dir, f.name+".parrot"))
	if err != nil {
		return "", 0, err
	}
	cmd := quiet.run()
	cmd.SetContext(ctx)
	keep.record, keep.unit = filepath.Join(dir, demoEvidence, f.name+".record"), f.unit
	flags := runFlags{set: f.set, where: f.where, evidence: keep, operator: "none", quiet: true, hands: f.hands}
	values, err := flags.values(cmd, proc)
	if err != nil {
		return "", 0, err
	}
	began := time.Now()
	res, err := quiet.perform(cmd, &ports{bench: b}, proc, flags, values, nil)
	return res.Verdict, time.Since(began), err
}

// freePort is a port number of this machine that nobody uses at the moment.
func freePort(network string) (string, error) {
	var at net.Addr
	if network == "udp" {
		c, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			return "", err
		}
		defer c.Close()
		at = c.LocalAddr()
	} else {
		c, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return "", err
		}
		defer c.Close()
		at = c.Addr()
	}
	_, port, err := net.SplitHostPort(at.String())
	return port, err
}

// demoByHand is what a person says to a radio in the demo, mistakes included.
var demoByHand = []string{"AT", "ATI", "AT~NODE?", "AT~GRUOP=7", "AT~GROUP=300", "AT~GROUP=7", "AT~GROUP?", "AT~POWER=10", "AT~POWER?"}

// demoLearn speaks with a radio by hand, makes a procedure of that, performs it,
// and performs it once more at a stand-in made of the record.
func (a *app) demoLearn(ctx context.Context, cmd *cobra.Command, ps *ports, dir string, keep evidenceFlags) (verdict.Verdict, error) {
	recordFile := filepath.Join(dir, demoEvidence, "by-hand.record")
	learned := filepath.Join(dir, demoEvidence, "by-hand.parrot")
	st, err := ps.station("valley", phrasebook.Setup{}, nil)
	if err != nil {
		return "", err
	}
	e, err := a.evidence(onlyRecord(recordFile), "talk", "talk", ps, []*station.Station{st})
	if err != nil {
		return "", err
	}
	t := &talk.Talker{Station: st, Record: e.w, Tell: func(talk.Event) {}}
	if err = t.Open(ctx); err == nil {
		for _, l := range demoByHand {
			if err = t.Say(ctx, false, l); err != nil {
				break
			}
			_ = t.Answered(ctx) // a refusal is an answer too
		}
		err = errors.Join(err, t.Close())
	}
	if err = e.end(err); err != nil {
		return "", err
	}
	a.err.line("said by hand: %s", strings.Join(demoByHand, "  "))
	if err := a.doLearn(cmd, recordFile, learned, "What was tried by hand", ""); err != nil {
		return "", err
	}
	text, err := os.ReadFile(learned)
	if err != nil {
		return "", err
	}
	fmt.Fprintf(a.out, "\n%s", text)
	again, err := bench.OfRecord(recordFile)
	if err != nil {
		return "", err
	}
	live, err := wake(again, again.LinkDir(), nil)
	if err != nil {
		return "", err
	}
	outcome := verdict.Passed
	for _, where := range []struct {
		at string
		ps *ports
	}{{"the radio itself", ps}, {"the radio as it was recorded", &ports{bench: again}}} {
		keep.record = filepath.Join(dir, demoEvidence, "learned.record")
		v, err := a.demoQuiet(ctx, where.ps, learned, keep)
		if err != nil {
			return "", errors.Join(err, live.end())
		}
		a.err.line("the learned procedure at %s: %s", where.at, v)
		outcome = verdict.Worse(outcome, v)
	}
	return outcome, live.end()
}

// demoQuiet performs a procedure without an account.
func (a *app) demoQuiet(ctx context.Context, ps *ports, file string, keep evidenceFlags) (verdict.Verdict, error) {
	quiet := &app{in: strings.NewReader(""), out: io.Discard, err: newScreen(io.Discard)}
	return quiet.demoRun(ctx, ps, file, nil, keep)
}

// demoReports makes a page of each record, and one record in every other form.
func (a *app) demoReports(dir string) error {
	type page struct{ record, form, out string }
	var pages []page
	in := func(name string) string { return filepath.Join(dir, demoEvidence, name) }
	for _, r := range demoRecords {
		pages = append(pages, page{filepath.Join(dir, r), "html", in(strings.TrimSuffix(r, ".record") + ".html")})
	}
	found, err := filepath.Glob(in("*.record"))
	if err != nil {
		return err
	}
	for _, r := range found {
		pages = append(pages, page{r, "html", strings.TrimSuffix(r, ".record") + ".html"})
	}
	for form, ending := range map[string]string{"junit": "junit.xml", "csv": "csv", "text": "txt", "hex": "hex.txt", "pcapng": "pcapng", "markdown": "md"} {
		pages = append(pages, page{filepath.Join(dir, demoRecords[0]), form, in("valley." + ending)})
	}
	for _, p := range pages {
		f, err := os.Open(p.record)
		if err != nil {
			return err
		}
		_, err = a.view(f, p.form, "", p.out)
		if err := errors.Join(err, f.Close()); err != nil {
			return fmt.Errorf("%s as %s: %w", p.record, p.form, err)
		}
	}
	a.err.line("%s made, %d of them pages to open in a browser", count(len(pages), "report"), len(demoRecords)+len(found))
	return nil
}

// demoLedger shows what the ledger says of the demo.
func (a *app) demoLedger(ctx context.Context, dir string) error {
	for _, words := range [][]string{{"--last", "0"}, {"yield", "--procedure", "brake"}, {"trend", "transmitted power"}} {
		var out bytes.Buffer
		sub := &app{in: strings.NewReader(""), out: &out, err: a.err}
		cmd := sub.root()
		cmd.SetArgs(append(append([]string{"results"}, words...), "--ledger", filepath.Join(dir, demoEvidence, demoLedgerFile)))
		if err := cmd.ExecuteContext(ctx); err != nil {
			return err
		}
		for i, w := range words {
			if strings.Contains(w, " ") {
				words[i] = strconv.Quote(w)
			}
		}
		a.err.line("%s", a.err.faint(strings.TrimSpace("uparrot results "+strings.TrimPrefix(strings.Join(words, " "), "--last 0"))))
		fmt.Fprintln(a.out, out.String())
	}
	return nil
}
