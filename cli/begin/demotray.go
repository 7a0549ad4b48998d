package begin

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"

	"github.com/charmbracelet/x/ansi"

	"uparrot/cli/run"
	"uparrot/cli/shell"
	"uparrot/core/ledger"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

// badInTray are the units of the tray whose modules take a power and do not keep it.
var badInTray = map[string]bool{"LK-0007": true, "LK-0018": true}

// tray begins to commission a tray of radios on four slots, without a word: a hand puts the next
// module into each. It returns what waits for that and tells of it.
func (d *demonstration) tray() (wait func() error) {
	over := make(chan error, 1)
	var board string
	var out, told bytes.Buffer
	go func() {
		over <- func() error {
			b, err := wakeWorkshop(d.in("tray.toml"), "")
			if err != nil {
				return err
			}
			c := &run.RunCommand{Streams: &shell.Streams{In: strings.NewReader(""), Out: &out, Err: shell.NewScreen(&told)}, Still: func(screen string) { board = screen }}
			var mu sync.Mutex
			var swapped []error
			c.Begun = func(slot, unit string) {
				settings := map[string]string{"serial": "DL-24" + unit[len(unit)-4:]}
				if badInTray[unit] {
					settings["loses"] = "power"
				}
				if err := b.live.Swap("place"+slot, settings); err != nil {
					mu.Lock()
					swapped = append(swapped, err)
					mu.Unlock()
				}
			}
			cmd := c.Command()
			cmd.SilenceErrors, cmd.SilenceUsage = true, true
			cmd.SetArgs([]string{d.in("anyradio.parrot"), "--units", d.in("tray.csv"), "--bench", d.in("tray.toml"), "--slots", "all", "--next", "answer", "--operator", "none", "--ledger", d.keep.Ledger, "--by", d.keep.By, "--out", d.in(filepath.Join(demoEvidence, "tray.csv"))})
			err = cmd.ExecuteContext(d.ctx)
			if _, judged := errors.AsType[shell.VerdictError](err); judged {
				err = nil // it is told below
			}
			return errors.Join(err, b.live.End(), errors.Join(swapped...))
		}()
	}()
	return func() error {
		if err := <-over; err != nil {
			return fmt.Errorf("the tray: %w: %s", err, told.String())
		}
		return d.toldTray(board)
	}
}

// toldTray tells what came of the tray, as the ledger has it.
func (d *demonstration) toldTray(board string) error {
	where, err := session.LedgerPlace(d.keep.Ledger)
	if err != nil {
		return err
	}
	l, err := ledger.Open(d.ctx, where)
	if err != nil {
		return err
	}
	defer l.Close()
	passed, failed := 0, []string{}
	var bad [][]string
	s := shell.NewScreen(d.Out)
	err = l.Runs(d.ctx, ledger.Filter{Title: "Commission a radio of any family"}, func(r ledger.Run) error {
		if r.Verdict == string(verdict.Passed) {
			passed++
			return nil
		}
		failed = append(failed, r.Unit)
		steps, err := l.Steps(d.ctx, r.Run)
		why := r.Why
		for _, st := range steps {
			if st.Verdict == string(verdict.Failed) {
				why = st.Title + ": " + st.Why
			}
		}
		bad = append(bad, []string{r.Unit, s.Verdict(verdict.Verdict(r.Verdict), 0), shell.OneLine(why)})
		return err
	})
	if err != nil {
		return err
	}
	if !shell.Drawable(d.Out) {
		board = ansi.Strip(board)
	}
	fmt.Fprintf(d.Out, "24 radios on four slots, from tray.csv; the board half way:\n\n%s\n\n", board)
	shell.Table(d.Out, bad)
	fmt.Fprintf(d.Out, "%d passed; those that failed take a power and do not keep it, as it should be\n", passed)
	for _, unit := range failed {
		if !badInTray[unit] {
			d.came(verdict.Failed)
		}
	}
	if passed != 24-len(badInTray) || len(failed) != len(badInTray) {
		d.came(verdict.Failed)
		fmt.Fprintf(d.Out, "wanted %d passed and %d failed\n", 24-len(badInTray), len(badInTray))
	}
	return nil
}
