package dialog

import (
	"context"
	"fmt"
	"strings"
	"time"
)

// NotRestarted is the error of a module that was told to start again and was not seen to.
type NotRestarted struct {
	Port     string
	Said     string
	Within   time.Duration
	Known    []string // by what it would be known, in words
	Prompted bool     // its prompt came back, which alone proves nothing
}

func (e *NotRestarted) Error() string {
	s := fmt.Sprintf("%s: said %s, and was not seen to restart within %v", e.Port, e.Said, e.Within)
	switch {
	case e.Prompted:
		s += ": its prompt came back, which it shows without a restart, too"
	case len(e.Known) > 0:
		s += ": " + strings.Join(e.Known, " or ") + " has not come"
	}
	return s
}

// Restarted waits until the module that the line said last is to restart has done so: its banner comes, or the
// prompt for a name where a session was open before. Then it waits until a prompt stands there, where the
// module has any, or nothing has come for a while. A prompt for commands alone is no proof. Errors are
// *NotRestarted, *Refused, and the port's own, as where it goes away.
func (d *Dialog) Restarted(ctx context.Context, within time.Duration) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	x := &d.exchange
	x.open, x.loose, x.awaits, d.echo.latest = false, true, false, 0
	began := time.Now()
	timer := time.NewTimer(within)
	defer timer.Stop()
	for {
		proof, back := d.startedAgain()
		if proof && (back || len(d.prompts) == 0 || time.Since(d.lastCame) >= backAfter) {
			d.forgetEcho()
			return nil
		}
		if x.refused != "" {
			return d.refusal()
		}
		at := time.Time{}
		if proof {
			at = earlier(d.lastCame.Add(backAfter), began.Add(within))
		}
		late, err := d.waitTo(ctx, timer.C, at)
		if err != nil {
			return err
		}
		if !late || time.Since(began) < within {
			continue
		}
		if proof, _ := d.startedAgain(); proof {
			d.forgetEcho()
			return nil
		}
		e := &NotRestarted{Port: d.port.Name(), Said: x.said, Within: within}
		if d.cfg.Banner != nil {
			e.Known = append(e.Known, "the banner "+d.cfg.Banner.String())
		}
		if len(d.cfg.Login) > 0 {
			e.Known = append(e.Known, "the prompt "+d.cfg.Login[0].String())
		}
		for _, l := range d.lines[d.since(x.first):] {
			e.Prompted = e.Prompted || l.class == prompt
		}
		return e
	}
}

// backAfter is how long nothing must come behind a banner until a module that shows no prompt is back.
const backAfter = 2 * time.Second

// startedAgain reports whether what has come since the line said last proves a restart, and whether a prompt
// has come since.
func (d *Dialog) startedAgain() (proof, back bool) {
	for _, l := range d.lines[d.since(d.exchange.first):] {
		switch {
		case l.banner:
			proof, back = true, false
		case l.class == prompt:
			which := d.promptOf(l.Text)
			proof = proof || d.exchange.session && which >= d.login && which < d.password
			back = proof
		}
	}
	return proof, back
}

// Back waits, at a port that has come back, until a prompt stands there, where the module has any, or nothing
// has come for a while: the port's going has proved the restart.
func (d *Dialog) Back(ctx context.Context, within time.Duration) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	until := time.Now().Add(within)
	for len(d.prompts) > 0 && d.shown < 0 {
		at := later(d.opened, d.lastCame).Add(backAfter)
		if until.Before(at) {
			at = until
		}
		if !time.Now().Before(at) {
			return nil
		}
		if _, err := d.waitTo(ctx, nil, at); err != nil {
			return err
		}
	}
	return nil
}
