package dialog

import (
	"context"
	"fmt"
	"time"
)

// Login is a login: the prompts that it meets are those of Config.
type Login struct {
	Name     string
	Nameless bool    // no name is asked for, only the password
	Open     bool    // a session that is open already will do, whoever's it is
	Password *string // nil: none must be asked for
	Within   time.Duration
	Said     func(text string) // told of each line that is said; may be nil
}

// NotLoggedIn is the error of a login that came to another end.
type NotLoggedIn struct {
	Port  string
	Name  string
	What  string // what happened
	Heard string // by which that is known
	Mend  string
}

func (e *NotLoggedIn) Error() string {
	as := ""
	if e.Name != "" {
		as = " as " + e.Name
	}
	return fmt.Sprintf("%s: not logged in%s: %s: heard %q", e.Port, as, e.What, e.Heard)
}

// standing is what a prompt waits for.
type standing int

const (
	nothing standing = iota
	aName
	aPassword
	aCommand
)

// LogIn logs in: it waits for the prompt for a name, which it asks for with the line ending alone if none is
// shown, says the name and the password, and waits for the prompt for commands. It reports whether a session
// was open already, where that will do. Errors are *NotLoggedIn, and those of Settle.
func (d *Dialog) LogIn(ctx context.Context, l Login) (open bool, err error) {
	until := time.Now().Add(l.Within)
	d.Asked()
	if err := d.Settle(ctx, l.Within); err != nil {
		return false, err
	}
	at, shown, err := d.standing(ctx, untilShown)
	if err != nil {
		return false, err
	}
	wanted, missing := aName, "no name is asked for"
	if l.Nameless {
		wanted, missing = aPassword, "no password is asked for"
	}
	for tries := 0; at != wanted && tries < 2; tries++ { // a name that somebody has begun with is given up once
		switch {
		case at == aCommand && l.Open:
			return true, nil
		case at == aCommand:
			return false, d.notLoggedIn(l, "a session is open already", shown, "Log out first, since the session may be somebody else's; or write unless open, if any will do.")
		}
		if at, shown, err = d.answerPrompt(ctx, l, "", until); err != nil {
			return false, err
		}
	}
	if at == aCommand && l.Open {
		return true, nil
	}
	if at != wanted {
		return false, d.notLoggedIn(l, missing, shown, "")
	}
	if !l.Nameless {
		if at, shown, err = d.answerPrompt(ctx, l, l.Name, until); err != nil {
			return false, err
		}
	}
	switch {
	case l.Password == nil && at == aPassword:
		return false, d.notLoggedIn(l, "a password is asked for", shown, "Write: log in ... as ... with SECRET")
	case l.Password != nil && at == aCommand:
		return false, d.notLoggedIn(l, "no password is asked for", shown, "Whoever knows the name can log in. If that is meant so, leave out with and the secret.")
	case l.Password != nil && at == aPassword:
		if at, shown, err = d.answerPrompt(ctx, l, *l.Password, until); err != nil {
			return false, err
		}
	}
	if at != aCommand {
		return false, d.notLoggedIn(l, "it is asked for again", shown, "The name or the password is wrong.")
	}
	return false, nil
}

// answerPrompt says a line and waits for the next prompt. A refusal is told at once.
func (d *Dialog) answerPrompt(ctx context.Context, l Login, text string, until time.Time) (at standing, shown string, err error) {
	if l.Said != nil {
		l.Said(text)
	}
	began := time.Now()
	if _, err := d.Say(ctx, text, time.Until(until)); err != nil {
		return nothing, "", err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	for d.exchange.open && (d.exchange.refused == "" || text == "") {
		late, err := d.wait(ctx, timer.C)
		if err != nil {
			return nothing, "", err
		}
		if late {
			d.promptShown()
		}
		if late && d.exchange.open {
			d.exchange.late = true
			return nothing, "", d.missed(d.endOfAnswer(), nil, l.Within, began)
		}
	}
	heard := d.exchange.refused
	_ = d.refusal()                // it is told here
	if heard != "" && text != "" { // else it is about what somebody had begun with
		return nothing, "", d.notLoggedIn(l, "the module says no", heard, "The name or the password is wrong.")
	}
	for text == "" && time.Since(d.lastCame) < untilSure {
		if _, err := d.waitTo(ctx, nil, d.lastCame.Add(untilSure)); err != nil {
			return nothing, "", err
		}
	}
	return d.at(), d.prompted, nil
}

func (d *Dialog) notLoggedIn(l Login, what, heard, mend string) error {
	return &NotLoggedIn{d.port.Name(), l.Name, what, heard, mend}
}

// How long a login waits for a prompt to show, and whether another follows it: where
// a line end was said just when the module showed its prompt, it shows it twice.
const (
	untilShown = 300 * time.Millisecond
	untilSure  = 150 * time.Millisecond
)

// standing is what the prompt waits for that is shown now, or is within a time, and its
// text.
func (d *Dialog) standing(ctx context.Context, within time.Duration) (standing, string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	until := time.Now().Add(within)
	for d.shown < 0 {
		late, err := d.waitTo(ctx, nil, until)
		if err != nil {
			return nothing, "", err
		}
		if late {
			return nothing, "", nil
		}
	}
	return d.at(), d.prompted, nil
}

// at is what the prompt shown last waits for.
func (d *Dialog) at() standing {
	switch {
	case d.latest < 0:
		return nothing
	case d.latest < d.login:
		return aCommand
	case d.latest < d.password:
		return aName
	}
	return aPassword
}
