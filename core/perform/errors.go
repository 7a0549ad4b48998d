package perform

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// Failure is why a step did not pass, with the line of the procedure.
type Failure struct {
	File    string
	Line    int
	Text    string   // the statement
	From    []string // the routines it stands in and where they were done, the outermost first
	Meaning string   // what the phrasebook says of a refusal
	Counted string   // errors on the line that the port has counted, in words; "" if none
	Err     error
}

func (f *Failure) Error() string {
	s := fmt.Sprintf("line %d: %v", f.Line, f.Err)
	if len(f.From) > 0 {
		s = fmt.Sprintf("line %d (in %s): %v", f.Line, strings.Join(f.From, "; "), f.Err)
	}
	if f.Meaning != "" {
		s += " (" + f.Meaning + ")"
	}
	return s
}

func (f *Failure) Unwrap() error { return f.Err }

// CheckFailed is a check whose expression was false.
type CheckFailed struct {
	Expr   string
	Why    string
	Values []Value
	// Wanted and Is are the two sides of a setting that was read back, and of long texts the places where they
	// part; "" of others.
	Wanted, Is string
}

func (e *CheckFailed) Error() string {
	if e.Wanted != "" || e.Is != "" {
		why := e.Why
		if why == "" {
			why = "check " + text.Middle(e.Expr, mostShown) + " is false"
		}
		return fmt.Sprintf("%s: wanted %s, is %s", why, e.Wanted, e.Is)
	}
	s := "check " + text.Middle(e.Expr, mostShown) + " is false"
	var vs []string
	for _, v := range e.Values {
		vs = append(vs, v.Name+" is "+text.Middle(show(v.Value), mostShown)+v.InHex())
	}
	if len(vs) > 0 {
		s += ": " + strings.Join(vs, ", ")
	}
	if e.Why != "" {
		s += ": " + e.Why
	}
	return s
}

// mostShown is how many characters of an expression or a value a reason has at most.
const mostShown = 72

// parting is how two long texts differ, in words: what stands in each where they part, and from which
// character on; false if they are short, or no texts.
func parting(left, right any) (was, is string, long bool) {
	a, ok := left.(string)
	b, ok2 := right.(string)
	if ar, br := []rune(a), []rune(b); ok && ok2 && max(len(ar), len(br)) > mostShown {
		at := 0
		for at < len(ar) && at < len(br) && ar[at] == br[at] {
			at++
		}
		part := func(r []rune) string {
			from, to := max(0, at-12), min(len(r), at+24)
			return fmt.Sprintf("%q", string(r[min(from, len(r)):to]))
		}
		return fmt.Sprintf("%s (from character %d on)", part(br), at+1), part(ar), true
	}
	return "", "", false
}

// InHex is a number that was bytes once more, as people compare it, behind a blank; "" of
// others.
func (v Value) InHex() string {
	if n, ok := v.Value.(int); ok && v.Hex && n >= 0 {
		return fmt.Sprintf(" (0x%02X)", n)
	}
	return ""
}

func show(v any) string {
	if s, ok := v.(string); ok {
		return strconv.Quote(s)
	}
	return procedure.Text(v)
}

// LimitFailed is a value outside its limits.
type LimitFailed struct {
	Result record.Measurement
	More   []record.Measurement // others of the step, where it went on
	Then   string               // what went wrong in it besides
}

func (e *LimitFailed) Error() string {
	words := outside(e.Result)
	for _, r := range e.More {
		words += "; " + outside(r)
	}
	if e.Then != "" {
		words += "; then " + e.Then
	}
	return words
}

func outside(r record.Measurement) string {
	if !r.Value.Finite() {
		return fmt.Sprintf("%s is %s: no number to hold against %s", r.What, r.Value, record.WithUnit(r.Range(), r.Unit))
	}
	return fmt.Sprintf("%s is %s, wanted %s", r.What, record.WithUnit(r.Value.String(), r.Unit), record.WithUnit(r.Range(), r.Unit))
}

// Left is a step that a statement of its own has ended, or that needs a person
// where there is none.
type Left struct {
	Verdict verdict.Verdict // Failed, Skipped or Untested
	Why     string
}

func (e *Left) Error() string { return e.Why }

// unended is the line whose answer has not ended, where that is why a step has failed.
func unended(err error) (said string, ok bool) {
	if b, ok := errors.AsType[*dialog.Busy](err); ok {
		return b.With, true
	}
	m, ok := errors.AsType[*dialog.Missed](err)
	if !ok || !m.OfEnd {
		return "", false
	}
	return m.Said, true
}

// goes reports whether a line looks like a command after which a module is away for a while.
func goes(said string) bool {
	words := strings.FieldsFunc(strings.ToLower(said), func(r rune) bool { return r < 'a' || r > 'z' })
	return slices.ContainsFunc(words, func(w string) bool {
		return slices.Contains([]string{"reboot", "restart", "reset", "reload", "boot", "exit", "logout", "shutdown"}, w)
	})
}

// asPrompt is what to write where a prompt was not known.
func asPrompt(shown string) string {
	return fmt.Sprintf("%q stands at the end of what has come, as a prompt does, and is none that is known. If it is one, write at the port: prompt %q", shown, strings.NewReplacer("{", "{{", "}", "}}").Replace(shown))
}

type stepTimeout struct{ after time.Duration }

func (e *stepTimeout) Error() string { return fmt.Sprintf("the step took longer than %v", e.after) }

// Advice is what usually helps after such a failure, "" where there is nothing
// to say. ending is the port's line ending.
func Advice(err error, ending phrasebook.Ending) string {
	if said, ok := unended(err); ok && said == "" {
		return "Enter alone waits for the end of an answer, too. Where it is but a key, as in a menu, write: say PORT without answer:"
	} else if ok && goes(said) {
		return "If that restarts the module, or ends a session, write: say PORT restarts: " + said
	}
	if m, ok := errors.AsType[*dialog.Missed](err); ok {
		noise := m.Rest
		for _, h := range m.Heard {
			noise += h
		}
		switch {
		case m.Older != "":
			return "If the older one is meant, hear it before what was done next, or write hear earlier."
		case strings.Contains(noise, "\xff\xfb") || strings.Contains(noise, "\xff\xfd"):
			return "The other side negotiates in Telnet (RFC 854): write telnet:// in place of tcp://."
		case m.Blanks:
			return "The lines differ in blanks alone. Between words and numbers a blank stands for one or more; beside other open places, expressions and in quotes they are exact."
		case m.Hidden != "":
			return "Colours or cursor moves stand within what was wanted: write them too, or hear a line, which leaves them out."
		case m.NoEnd:
			return "What was wanted came, but without a line end, so it is no line: write hear bytes."
		case m.Prompt != "" && !m.Asked:
			return asPrompt(m.Prompt)
		case m.Asked:
			return "What was heard last may be a question. Name it at the port, such as prompt \"sure?\", and it ends the answer."
		case m.Ended != "" && m.Near < 0:
			return "If the module says it only after the end of its answer, write hear later."
		case m.Later:
			return "The answer may end later: wait for it in a step of its own, such as with: hear PORT within 60s: CONNECT"
		case m.Spoke && (m.Echo || m.Silent):
			return "It has answered before, so it may be busy still: give it more time, with within or answers within."
		case m.Echo:
			return fmt.Sprintf("Only the echo came: the module hears, but does not see the end of the command. Its line ending is probably another than %s.", ending)
		case m.Silent && m.Said == "":
			return "Is the module powered, and its TX joined to the adapter's RX?"
		case m.Silent:
			return fmt.Sprintf("Silence has few causes: power, TX and RX swapped, another speed, or another line ending than %s.", ending)
		case m.Near >= 0 && m.NearAt >= alike:
			return "Compare the two lines where they part; a blank or a letter's case counts."
		case len(m.Packets) > 0:
			return "These packets came, cut where the line was silent: hold them beside the guide, byte by byte."
		case unreadable(noise):
			return "What came cannot be read: the speed or the frame is probably another."
		case m.Near >= 0:
			return "Compare the two lines where they part; a blank or a letter's case counts."
		}
	}
	if n, ok := errors.AsType[*dialog.NotRestarted](err); ok {
		if len(n.Known) == 0 {
			return "Name by what a restart is known: a banner in its phrasebook, or at the port login \"...login:\". A port on USB that goes away and comes back is known by itself."
		}
		return "Does the command restart it? What it shows when it starts may be another: see what came."
	}
	if n, ok := errors.AsType[*dialog.NotLoggedIn](err); ok {
		return n.Mend
	}
	if b, ok := errors.AsType[*dialog.Busy](err); ok && b.Prompt != "" {
		return asPrompt(b.Prompt)
	}
	if b, ok := errors.AsType[*dialog.Busy](err); ok && !b.Silent {
		return "The line was not said. Give the one before more time, or interrupt it, such as with: say bytes PORT: {ctrl-c}. Or its answers end in another way."
	} else if ok {
		return "The line was not said, since its answer could not be told from a late one to the line before."
	}
	if r, ok := errors.AsType[*dialog.Refused](err); ok && r.Restarted {
		return "Look at its supply. If the command is to restart it, say so in the phrasebook: restart = true."
	}
	if u, ok := errors.AsType[*dialog.Refused](err); ok && strings.HasSuffix(u.Said, " ") {
		return "The line ends with a blank, which many modules refuse."
	}
	return ""
}

// alike is how many bytes must agree for a near miss to be no chance.
const alike = 4

// unreadable reports whether most of a text is not what modules print.
func unreadable(s string) bool {
	odd := 0
	for i := range len(s) {
		if s[i] < ' ' && s[i] != '\r' && s[i] != '\n' && s[i] != '\t' || s[i] >= 0x7f {
			odd++
		}
	}
	return odd*3 > len(s)
}

// masked is an error whose text held a secret.
type masked struct {
	text string
	err  error
}

func (e *masked) Error() string { return e.text }
func (e *masked) Unwrap() error { return e.err }

// scrub hides secrets in what an error quotes.
func (p *performer) scrub(err error) error {
	if !p.mask.Any() {
		return err
	}
	if m, ok := errors.AsType[*dialog.Missed](err); ok {
		for i, one := range m.Packets {
			m.Packets[i] = p.mask.Hide(one)
		}
		m.Said, m.Rest, m.Wanted, m.Hidden = p.shownSaid(m.Said), p.mask.Hide(m.Rest), p.mask.Hide(m.Wanted), p.mask.Hide(m.Hidden)
		for i, h := range m.Heard {
			m.Heard[i] = p.mask.Hide(h)
		}
	}
	if r, ok := errors.AsType[*dialog.Refused](err); ok {
		r.Said, r.Heard = p.shownSaid(r.Said), p.shownSaid(r.Heard)
	}
	if n, ok := errors.AsType[*dialog.NotLoggedIn](err); ok {
		n.Name, n.Heard = p.mask.Hide(n.Name), p.mask.Hide(n.Heard)
	}
	if b, ok := errors.AsType[*dialog.Busy](err); ok {
		b.With = p.shownSaid(b.With)
	}
	if u, ok := errors.AsType[*dialog.Unwanted](err); ok {
		u.Heard = p.mask.Hide(u.Heard)
	}
	if l, ok := errors.AsType[*Left](err); ok {
		l.Why = p.mask.Hide(l.Why)
	}
	if text := p.mask.Hide(err.Error()); text != err.Error() {
		return &masked{text, err}
	}
	return err
}

// locate says at which line of the procedure an error arose.
func (p *performer) locate(at procedure.Pos, err error) error {
	if f, ok := errors.AsType[*Failure](err); ok {
		return f // told already, nearer to where it arose
	}
	err = p.scrub(err)
	if r, ok := errors.AsType[*dialog.Refused](err); ok {
		for name, d := range p.dialogs { // what was refused is what was said
			if d.Port().Name() == r.Port && p.said[name].Line > 0 {
				at = p.said[name]
			}
		}
	}
	f := &Failure{File: at.File, Line: at.Line, Text: p.run.Procedure.Text(at), Err: err}
	for _, c := range p.calls {
		f.From = append(f.From, fmt.Sprintf("%s, from line %d", c.routine, c.at.Line))
	}
	if m, ok := errors.AsType[*dialog.Missed](err); ok {
		for _, d := range p.dialogs {
			if c, err := port.CountersOf(d.Port()); err == nil && c.Any() && d.Port().Name() == m.Port {
				f.Counted = c.String()
			}
		}
	}
	if r, ok := errors.AsType[*dialog.Refused](err); ok {
		for name, d := range p.dialogs {
			if d.Port().Name() == r.Port {
				if f.Meaning = p.run.Stations[name].Phrasebook.Explain(r.Heard); f.Meaning == "" && p.run.Stations[name].Setup.Dialect == phrasebook.AT {
					f.Meaning, _ = phrasebook.V250Number(r.Heard)
				}
			}
		}
	}
	p.byName(err)
	return f
}

// byName has an error name the port as the procedure does, not by its address.
func (p *performer) byName(err error) {
	var at *string
	if e, ok := errors.AsType[*dialog.Missed](err); ok {
		at = &e.Port
	} else if e, ok := errors.AsType[*dialog.Refused](err); ok {
		at = &e.Port
	} else if e, ok := errors.AsType[*dialog.Busy](err); ok {
		at = &e.Port
	} else if e, ok := errors.AsType[*dialog.Unwanted](err); ok {
		at = &e.Port
	} else if e, ok := errors.AsType[*dialog.NotLoggedIn](err); ok {
		at = &e.Port
	} else if e, ok := errors.AsType[*dialog.NotRestarted](err); ok {
		at = &e.Port
	}
	for name, d := range p.dialogs {
		if at != nil && d.Port().Name() == *at {
			*at = name
			return
		}
	}
}

// Reason is why a step has failed, in a line: what was wanted and what came, without the place in the
// procedure and, where that is known, without the port.
func Reason(err error) string {
	f, ok := errors.AsType[*Failure](err)
	if !ok {
		return err.Error()
	}
	words := f.Err.Error()
	if m, ok := errors.AsType[*dialog.Missed](f.Err); ok {
		words = m.Reason()
	}
	if f.Meaning != "" {
		words += " (" + f.Meaning + ")"
	}
	return words
}
