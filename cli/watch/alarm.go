package watch

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"uparrot/cli/shell"
	"uparrot/core/record"
	"uparrot/core/report/live"
	"uparrot/core/series"
	"uparrot/core/text"
)

// alarm tells, outside of the view, when a value leaves its limits and when it returns.
type alarm struct {
	*live.Watched
	ring    func() // nil rings nothing
	program string // run each time; "" runs none
	tell    func(string)

	out    map[int]bool // series whose latest value is outside, by number
	queue  chan change
	lost   int // changes for which the program was not run, since it took too long
	failed bool
	over   sync.WaitGroup
}

// change is a value that has left its limits, or returned.
type change struct {
	record.SeriesBegins
	at      time.Time
	value   string
	outside bool
}

// mostQueued is how many changes wait for the program at most, and longestAlarm how long it may take for each.
const (
	mostQueued   = 100
	longestAlarm = 30 * time.Second
)

// newAlarm begins an alarm; program is found already.
func newAlarm(m *live.Watched, ring func(), program string, tell func(string)) *alarm {
	a := &alarm{Watched: m, ring: ring, program: program, tell: tell, out: map[int]bool{}, queue: make(chan change, mostQueued)}
	a.over.Go(a.work)
	return a
}

// event looks for values that have changed sides. It comes behind the values' own sink.
func (a *alarm) event(e record.Event) {
	s, ok := e.Value.(record.Samples)
	if e.Kind != record.Sampled || !ok {
		return
	}
	begins, judged := a.Begins(s.Series)
	if !judged || !begins.Judged {
		return
	}
	rest := s.Outside
	for i, at := range s.At {
		outside := len(rest) > 0 && rest[0] == i
		if outside {
			rest = rest[1:]
		}
		if outside == a.out[s.Series] {
			continue
		}
		a.out[s.Series] = outside
		c := change{SeriesBegins: begins, at: at, outside: outside}
		if s.Texts != nil {
			c.value = s.Texts[i]
		} else {
			c.value = series.Number(s.Values[i]).String()
		}
		a.changed(c)
	}
}

func (a *alarm) changed(c change) {
	if a.ring != nil && c.outside {
		a.ring()
	}
	if a.program == "" {
		return
	}
	select {
	case a.queue <- c:
	default:
		a.lost++
	}
}

// work runs the program for each change, one after the other.
func (a *alarm) work() {
	for c := range a.queue {
		if err := a.run(c); err != nil && !a.failed {
			a.failed = true
			a.tell(fmt.Sprintf("uparrot: --on-outside %s: %v. The watch goes on", a.program, err))
		}
	}
}

// run runs the program once: not by a shell, so what a module sends is no command.
func (a *alarm) run(c change) error {
	ctx, cancel := context.WithTimeout(context.Background(), longestAlarm)
	defer cancel()
	state := map[bool]string{true: "outside", false: "inside"}[c.outside]
	cmd := exec.CommandContext(ctx, a.program)
	cmd.Env = append(os.Environ(), "UPARROT_WATCH_NAME="+c.What, "UPARROT_WATCH_VALUE="+c.value, "UPARROT_WATCH_UNIT="+c.Unit, "UPARROT_WATCH_STATE="+state,
		"UPARROT_WATCH_LIMITS="+record.Measurement{Low: c.Low, High: c.High}.Range(), "UPARROT_WATCH_TIME="+c.at.Format(time.RFC3339Nano))
	for i, v := range cmd.Env {
		cmd.Env[i] = strings.ReplaceAll(v, "\x00", "") // no environment holds one
	}
	out, err := cmd.CombinedOutput()
	if said := text.Line(strings.TrimSpace(string(out))); err != nil && said != "" {
		err = fmt.Errorf("%w: %s", err, text.Clip(said, 200))
	}
	return err
}

// end waits until the program has run for all changes.
func (a *alarm) end() error {
	close(a.queue)
	a.over.Wait()
	if a.lost > 0 {
		a.tell(fmt.Sprintf("uparrot: --on-outside %s: it was not run %s, since it takes longer than values change", a.program, shell.Count(a.lost, "time")))
	}
	if a.lost > 0 || a.failed {
		return errors.New("the alarm did not run each time")
	}
	return nil
}
