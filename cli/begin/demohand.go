package begin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/cli/write"
	"uparrot/core/bench"
	"uparrot/core/output"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/talk"
	"uparrot/core/verdict"
)

// demoFiles are the outputs of the demo, whose folder was looked at before.
var demoFiles = shell.Outputs{Files: output.Files{Overwrite: true}}

// demoByHand is what a person says to a radio in the demo, mistakes included.
var demoByHand = []string{"AT", "ATI", "AT~NODE?", "AT~GRUOP=7", "AT~GROUP=300", "AT~GROUP=7", "AT~GROUP?", "AT~POWER=10", "AT~POWER?"}

// learn speaks with a radio by hand, makes a procedure of that, performs it, and
// performs it once more at a stand-in made of the record.
func (d *demonstration) learn() error {
	recordFile := filepath.Join(d.dir, demoEvidence, "by-hand.record")
	learned := filepath.Join(d.dir, demoEvidence, "by-hand.parrot")
	stations, err := d.ports.Stations("valley")
	if err != nil {
		return err
	}
	hand := shell.EvidenceFlags{Keep: d.keep}
	hand.Record, hand.NoFiling = recordFile, true
	if _, err := d.Conduct(d.ctx, hand, shell.About("talk", "talk", d.ports, stations...), nil, func(events *record.Stream) (verdict.Verdict, error) {
		t := &talk.Talker{Station: stations[0], Events: events, Tell: func(talk.Event) {}}
		err := t.Open(d.ctx)
		if err == nil {
			for _, l := range demoByHand {
				if err = t.Say(d.ctx, talk.Words{Text: l}); err != nil {
					break
				}
				_, _ = t.Answered(d.ctx) // a refusal is an answer too
			}
			err = errors.Join(err, t.Close())
		}
		return verdict.Measured, err
	}); err != nil {
		return err
	}
	d.Err.Line("said by hand: %s", strings.Join(demoByHand, "  "))
	learner := &write.LearnCommand{Streams: d.Streams, Files: demoFiles, Out: learned, Title: "What was tried by hand"}
	if err := learner.FromRecords([]string{recordFile}); err != nil {
		return err
	}
	text, err := os.ReadFile(learned)
	if err != nil {
		return err
	}
	fmt.Fprintf(d.Out, "\n%s", text)
	again, err := bench.OfRecord(recordFile)
	if err != nil {
		return err
	}
	live, err := session.Wake(again, again.LinkDir(), nil)
	if err != nil {
		return err
	}
	for i, where := range []struct {
		at    string
		ports *session.Ports
	}{{"the radio itself", d.ports}, {"the radio as it was recorded", &session.Ports{Bench: again}}} {
		p, err := d.procedure(where.ports, learned, filepath.Join(d.dir, demoEvidence, []string{"learned.record", "answered-again.record"}[i]), "")
		if err != nil {
			return errors.Join(err, live.End())
		}
		res, err := p.Do(d.ctx)
		if err != nil {
			return errors.Join(err, live.End())
		}
		d.Err.Line("the learned procedure at %s: %s", where.at, res.Verdict)
		d.came(res.Verdict)
	}
	return live.End()
}

// demoReports makes a page of each record, and one record in every other form.
func demoReports(sh *shell.Streams, dir string) error {
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
		_, err = account.View(sh, f, p.form, "", p.out, &demoFiles)
		if err := errors.Join(err, f.Close()); err != nil {
			return fmt.Errorf("%s as %s: %w", p.record, p.form, err)
		}
	}
	sh.Err.Line("%s made, %d of them pages to open in a browser", shell.Count(len(pages), "report"), len(demoRecords)+len(found))
	return nil
}

// demoLedger shows what the ledger says of the demo.
func demoLedger(sh *shell.Streams, ctx context.Context, root func(*shell.Streams) *cobra.Command, dir string) error {
	for _, words := range [][]string{{"--last", "12"}, {"yield", "--procedure", "brake"}, {"trend", "transmitted power"}} {
		var out bytes.Buffer
		sub := &shell.Streams{In: strings.NewReader(""), Out: &out, Err: sh.Err}
		cmd := root(sub)
		cmd.SetArgs(append(append([]string{"results"}, words...), "--ledger", filepath.Join(dir, demoEvidence, demoLedgerFile)))
		if err := cmd.ExecuteContext(ctx); err != nil {
			return err
		}
		for i, w := range words {
			if strings.Contains(w, " ") {
				words[i] = strconv.Quote(w)
			}
		}
		sh.Err.Line("%s", sh.Err.Faint(strings.TrimSpace("uparrot results "+strings.TrimPrefix(strings.Join(words, " "), "--last 0"))))
		fmt.Fprintln(sh.Out, out.String())
	}
	return nil
}
