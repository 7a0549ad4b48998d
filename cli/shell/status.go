package shell

import (
	"errors"

	"uparrot/core/output"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// QuietError ends with a status after all has been said.
type QuietError struct{ Status int }

func (e QuietError) Error() string { return "" }

// The exit statuses.
const (
	ExitPassed      = 0
	ExitFailed      = 1
	ExitUsage       = 2 // wrong use, or a file with mistakes
	exitBroken      = 3 // could not run: port missing, held or lost
	ExitUndecided   = 4 // too few frames to tell, or steps that needed a person
	ExitEvidence    = 5 // passed, but its record or its place in the ledger could not be written
	exitInterrupted = 130
)

// VerdictError carries a verdict that is not passed to the exit status. All has
// been said already.
type VerdictError struct{ verdict.Verdict }

func (e VerdictError) Error() string { return string(e.Verdict) }

// NotPassed is nil for what passed.
func NotPassed(v verdict.Verdict) error {
	if v == verdict.Passed || v == verdict.Measured || v == verdict.Skipped || v == "" {
		return nil
	}
	return VerdictError{v}
}

// ErrInterrupted is the cause of a context that the person ended.
var ErrInterrupted = errors.New("interrupted")

// ExitStatus is the exit status of an error; see docs/status.md.
func ExitStatus(err error) int {
	if v, ok := errors.AsType[VerdictError](err); ok {
		return map[verdict.Verdict]int{verdict.Failed: ExitFailed, verdict.Undecided: ExitUndecided, verdict.Untested: ExitUndecided, verdict.Broken: exitBroken}[v.Verdict]
	}
	if q, ok := errors.AsType[QuietError](err); ok {
		return q.Status
	}
	_, wrongUse := errors.AsType[*session.Misuse](err)
	_, mistakes := errors.AsType[source.Mistakes](err)
	_, noRecord := errors.AsType[*record.Damaged](err)
	_, later := errors.AsType[*record.Later](err)
	_, lost := errors.AsType[*output.Lost](err)
	switch {
	case errors.Is(err, ErrInterrupted):
		return exitInterrupted
	case lost:
		return ExitEvidence
	case wrongUse || mistakes || noRecord || later:
		return ExitUsage
	}
	return exitBroken
}
