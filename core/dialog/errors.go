package dialog

import (
	"fmt"
	"strings"
	"time"

	"uparrot/core/text"
)

// Missed is the error of a wait that did not get what it wanted.
type Missed struct {
	Port    string
	Said    string // the last line said
	Wanted  string // the pattern
	Within  time.Duration
	Heard   []string // what came instead, oldest first, at most ten lines
	Packets []string // ... of a port that has no lines: packets, cut where the line was silent
	Rest    string   // bytes after the last line end
	NoEnd   bool     // Rest is what was wanted, but for its line end
	Ended   string   // what had ended the answer that alone could hold it, in words; "" if the time was up
	OfEnd   bool     // the end of the answer was wanted
	Prompt  string   // what stands at the end of what has come and looks like a prompt, where one was wanted
	Asked   bool     // the end of the answer was wanted, and what was heard last may be a question
	Silent  bool     // nothing at all came since the wait began or the last line was said
	Spoke   bool     // an answer at this port has ended before: the wires and the line ending are right
	Later   bool     // the answer may end later than the step
	Echo    bool     // nothing but the echo of what was said came
	Near    int      // which of Heard agrees longest with the pattern; -1 if none does
	NearAt  int      // bytes in which it agrees
	Blanks  bool     // the nearest differs in blanks alone
	Next    bool     // the very next line did not match
	Older   string   // a line that matches, and is older than what was done last
	Hidden  string   // bytes among which the pattern is found once colours and cursor moves are taken out: those are why it was not
}

func (e *Missed) Error() string { return e.Port + ": " + e.Reason() }

// Reason is what was wanted and what came, without the port.
func (e *Missed) Reason() string {
	switch {
	case e.Older != "":
		return fmt.Sprintf("wanted %s: %q had come before what was done last, and none has since", short(e.Wanted), short(e.Older))
	case e.Next:
		return fmt.Sprintf("wanted %s next, heard %s", e.around(e.Wanted), e.instead())
	case e.Ended != "":
		return fmt.Sprintf("wanted %s, heard %s before the answer ended", e.around(e.Wanted), e.instead())
	case e.Silent:
		return fmt.Sprintf("wanted %s, heard nothing within %v", short(e.Wanted), e.Within)
	}
	return fmt.Sprintf("wanted %s, heard %s within %v", e.around(e.Wanted), e.instead(), e.Within)
}

// instead is what came in the place of what was wanted: the nearest of it, else the last.
func (e *Missed) instead() string {
	switch {
	case e.Near >= 0 && e.Near < len(e.Heard):
		return e.around(e.Heard[e.Near])
	case len(e.Heard) > 0:
		return short(e.Heard[len(e.Heard)-1])
	case len(e.Packets) > 0:
		return text.Hexed([]byte(e.Packets[len(e.Packets)-1]), mostShown/3)
	case strings.TrimSpace(e.Rest) != "":
		return fmt.Sprintf("%s, without a line end", short(e.Rest))
	case e.Echo:
		return "only the echo"
	}
	return "nothing"
}

// around is a text as a reason has it: where it is long, that round the place where the two part.
func (e *Missed) around(s string) string {
	if len(s) <= mostShown || e.Near < 0 || e.NearAt < mostShown/2 || e.NearAt > len(s) {
		return short(s)
	}
	from, to := e.NearAt-mostShown/4, min(len(s), e.NearAt+mostShown/2)
	part := strings.ToValidUTF8(s[from:to], "") // no letter is cut
	if to < len(s) {
		part += " ..."
	}
	return "... " + part
}

// short is a text as a reason has it: where it is long, cut in the middle.
func short(s string) string { return text.Middle(s, mostShown) }

// mostShown is how many characters of each text a reason has at most.
const mostShown = 72

// Refused is the error of a said line that the module refused, or in whose answer it
// restarted without having been told to.
type Refused struct {
	Port      string
	Said      string
	Heard     string
	Restarted bool
}

func (e *Refused) Error() string {
	if e.Restarted {
		return fmt.Sprintf("%s: said %s, and the module restarted: heard %s", e.Port, e.Said, e.Heard)
	}
	return fmt.Sprintf("%s: said %s, was refused with %s", e.Port, e.Said, e.Heard)
}

// Busy is the error of a line that was not said, because the module has not ended
// its answer to the one before.
type Busy struct {
	Port   string
	With   string // the line that it still answers
	Wanted string // what ends the answer, in words
	Within time.Duration
	Silent bool   // nothing at all has come since that was said
	Prompt string // what stands at the end of what has come and looks like a prompt, where one was wanted
}

func (e *Busy) Error() string {
	s := fmt.Sprintf("%s: still busy with %q: %s has not come after %v more", e.Port, e.With, e.Wanted, e.Within)
	if e.Silent {
		s += ", nor anything else"
	}
	return s
}

// Unwanted is the error of Absent when what must not come came.
type Unwanted struct {
	Port    string
	Pattern string
	Heard   string
	After   time.Duration // since the wait began; below zero if it was there already
}

func (e *Unwanted) Error() string {
	return fmt.Sprintf("%s: heard %q, which must not come", e.Port, e.Heard)
}
