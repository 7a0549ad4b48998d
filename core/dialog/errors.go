package dialog

import (
	"fmt"
	"time"
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

func (e *Missed) Error() string {
	switch {
	case e.Older != "":
		return fmt.Sprintf("%s: %q had come before what was done last, and %s has not come since", e.Port, e.Older, e.Wanted)
	case e.Next && len(e.Heard) > 0:
		return fmt.Sprintf("%s: the next line was %q, wanted %s", e.Port, e.Heard[len(e.Heard)-1], e.Wanted)
	case e.Ended != "":
		return fmt.Sprintf("%s: %s, and %s has not come before it", e.Port, e.Ended, e.Wanted)
	case e.Silent:
		return fmt.Sprintf("%s: nothing came within %v, wanted %s", e.Port, e.Within, e.Wanted)
	}
	return fmt.Sprintf("%s: %s did not come within %v", e.Port, e.Wanted, e.Within)
}

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
