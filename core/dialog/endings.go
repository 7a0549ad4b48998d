package dialog

import (
	"slices"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
)

// endings are the texts by which lines are sorted and the end of an answer is known,
// ready for use. The dialects are but defaults of them: dialect AT adds the results of
// V.250, dialect Console waits for a prompt, and dialect Lines has only what it is given.
type endings struct {
	set      *pattern.Set       // refusals, final results, banner, notices, in this order
	refusals int                // where the refusals end in it
	finals   int                // ... and the final results
	banner   int                // ... and the banner
	prompts  []*pattern.Pattern // at the end of what has come: commands, names and passwords are waited for
	login    int                // where the prompts for a name begin in them
	password int                // ... and those for a password
	pagers   []*pattern.Pattern
	held     bool               // answers have an end
	byPrompt bool               // and it is a prompt: results come before it
	long     []*pattern.Pattern // notices with a payload of stated length
}

// compile prepares what sorts the lines. The mutex is held, or nobody reads yet.
func (d *Dialog) compile() {
	c, e := &d.cfg, endings{}
	all := slices.Concat(c.Refusals, c.Denied)
	if c.Dialect == phrasebook.AT {
		all = append(all, phrasebook.V250Refusals()...)
	}
	e.refusals = len(all)
	all = append(all, c.Finals...)
	if c.Dialect == phrasebook.AT {
		all = append(all, phrasebook.V250Successes()...)
	}
	e.finals = len(all)
	if c.Banner != nil {
		all = append(all, c.Banner)
	}
	e.banner = len(all)
	all = append(all, c.Notices...)
	e.set = pattern.NewSet(all)
	for _, n := range c.Notices {
		if n.HasPayload() {
			e.long = append(e.long, n)
		}
	}
	if c.Dialect != phrasebook.Bytes {
		e.prompts = append(e.prompts, c.Prompts...)
		e.login = len(e.prompts)
		e.prompts = append(e.prompts, c.Login...)
		e.password = len(e.prompts)
		e.prompts = append(e.prompts, c.Password...)
		e.pagers = c.Pagers
		e.held = c.Dialect == phrasebook.AT || c.Dialect == phrasebook.Console || len(c.Finals) > 0 || len(e.prompts) > 0
		e.byPrompt = c.Dialect == phrasebook.Console || len(e.prompts) > 0 && e.finals == e.refusals
	}
	d.endings = e
}

// EndOfAnswer is what ends an answer, in words; "" if nothing tells.
func (d *Dialog) EndOfAnswer() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.held {
		return ""
	}
	return "wanted " + d.endOfAnswer()
}

// endOfAnswer is what ends an exchange, in words.
func (d *Dialog) endOfAnswer() string {
	switch {
	case d.byPrompt && len(d.cfg.Prompts) > 0:
		return "the prompt " + d.cfg.Prompts[0].String()
	case d.byPrompt:
		return "a prompt"
	case len(d.cfg.Finals) > 0:
		return "a final result, such as " + d.cfg.Finals[0].String()
	}
	return "a final result, such as OK"
}
