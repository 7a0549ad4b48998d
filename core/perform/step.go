package perform

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"strings"
	"time"

	"uparrot/core/pace"
	"uparrot/core/perform/reach"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

func (p *performer) doStep(ctx context.Context) (sr StepResult) {
	s, outside := p.step, ctx
	if p.run.Uses != nil && len(s.Uses) > 0 {
		over := p.waiting("", strings.Join(s.Uses, ", ")+", which others use now", 0)
		release, err := p.run.Uses(ctx, s.Uses)
		if over(); err != nil {
			p.try = 1
			return p.neverBegan(s, err)
		}
		defer release()
	}
	began := time.Now()
	defer func() {
		if fault := recover(); fault != nil { // the module must still be put back
			sr = p.faulted(fault, began)
		}
	}()
	p.try = 1
	p.begins()
	if s.Within > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, s.Within, &stepTimeout{s.Within})
		defer cancel()
	}
	var err error
	p.choice, p.byHand, p.gave = Stop, 0, map[string]bool{}
	p.pondered = 0
	limits := len(p.res.Limits)
	for ; ; p.try++ {
		tryBegan := time.Now()
		if err = p.body(ctx); err == nil || p.try == s.Tries || isBroken(err) || isLeft(err) || ctx.Err() != nil {
			break
		}
		p.res.Limits = p.res.Limits[:limits] // they are measured again
		p.emit(record.Event{Kind: record.Try, Step: s.Title, Try: p.try, Verdict: verdict.Failed, Why: err.Error(), TookMS: ms(time.Since(tryBegan)), Err: err})
		if stop := pace.For(ctx, time.Until(tryBegan.Add(s.Every))); stop != nil {
			err = stop
			break
		}
		p.tidyUp(ctx)
		for _, d := range p.dialogs {
			if p.run.Afresh {
				d.GiveUp()
			}
		}
	}
	err = p.second(outside, err, limits)
	if v := outcome(err); v == verdict.Skipped || v == verdict.Untested {
		err = p.owedBefore(ctx, err)
	}
	if err != nil && !isBroken(err) {
		p.tidyUp(ctx)
	}
	return p.stepEnds(outside, err, time.Since(began)-p.pondered)
}

// stepEnds is what came of the step, and tells of it.
func (p *performer) stepEnds(outside context.Context, err error, took time.Duration) StepResult {
	sr := StepResult{Title: p.step.Title, Verdict: verdict.Passed, Tries: p.try, ByHand: p.byHand, TookMS: ms(took), Err: err}
	if err != nil {
		sr.Verdict, sr.Why, sr.Failure = outcome(err), p.mask.Hide(err.Error()), p.facts(err)
		if outside.Err() != nil { // whatever it has found, it did not come to its end
			sr.Verdict = verdict.Broken
		}
	}
	e := record.Event{Kind: record.Step, Step: p.step.Title, Try: p.try, Verdict: sr.Verdict, Why: sr.Why, TookMS: sr.TookMS, Err: err}
	if values := p.given(); values != nil && (sr.Verdict == verdict.Passed || sr.Verdict == verdict.Skipped) {
		e.Value = record.StepEnd{Values: values}
	}
	p.emit(e)
	return sr
}

// neverBegan files a step that was interrupted while it waited for what it shares.
func (p *performer) neverBegan(s *procedure.Step, err error) StepResult {
	sr := StepResult{Title: s.Title, Verdict: verdict.Broken, Tries: 1, Why: err.Error(), Err: err}
	p.begins()
	p.emit(record.Event{Kind: record.Step, Step: s.Title, Try: 1, Verdict: sr.Verdict, Why: sr.Why, Err: err})
	return sr
}

// owedBefore is what has come of answers that may end after the step of their line, in a
// step that was left: that step passed, so nobody else tells of a refusal, nor, after the
// last step, that one never came. Otherwise it is why the step was left.
func (p *performer) owedBefore(ctx context.Context, left error) error {
	for _, decl := range p.run.Procedure.Ports {
		d := p.dialogs[decl.Name]
		if d == nil || p.saidIn[decl.Name] == p.step || d.OwesLater() && p.step != p.last {
			continue
		}
		if err := p.settle(ctx, decl.Name); err != nil {
			return p.locate(p.said[decl.Name], err)
		}
	}
	return left
}

// fault is a failure of the program itself, with no values on its way out.
func (p *performer) fault(what any) error {
	return fmt.Errorf("the program itself failed; please report this: %s\n%s", p.mask.Hide(fmt.Sprint(what)), p.mask.Hide(string(debug.Stack())))
}

// faulted is the result of a step in which the program itself failed. Whoever watches
// may be at fault, so the record alone is told from then on.
func (p *performer) faulted(what any, began time.Time) StepResult {
	p.run.Events = record.Only(p.run.Events)
	err := p.fault(what)
	sr := StepResult{Title: p.step.Title, Verdict: verdict.Broken, Tries: p.try, TookMS: ms(time.Since(began)), Why: err.Error(), Err: err}
	p.emit(record.Event{Kind: record.Step, Step: sr.Title, Try: p.try, Verdict: sr.Verdict, Why: sr.Why, TookMS: sr.TookMS, Err: err})
	return sr
}

// tidyUp clears away what a failed try has left: it lets an open exchange end,
// unless that has been waited for already, and passes over what nobody has taken.
// Where the end is still owed, the next line that is said waits for it.
func (p *performer) tidyUp(ctx context.Context) {
	for _, d := range p.dialogs {
		if !d.Late() && !d.OwesLater() {
			_ = d.Settle(ctx, p.run.Procedure.Answers) // the failure itself has been told
		}
		d.PassAll()
	}
}

// isBroken tells what kept a step from running at all from what it found.
func isBroken(err error) bool {
	if _, unreached := errors.AsType[*reach.Error](err); unreached {
		return false // refused or not answered: it was looked for and not found
	}
	pe, lost := errors.AsType[*port.Error](err)
	return lost && pe.Kind != port.Unconfirmed || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
}

// isLeft tells whether a step was left by a statement of its own, so that
// another try would do the same.
func isLeft(err error) bool {
	_, left := errors.AsType[*Left](err)
	return left
}

// outcome is the verdict that an error stands for.
func outcome(err error) verdict.Verdict {
	if err == nil {
		return verdict.Passed
	}
	if left, ok := errors.AsType[*Left](err); ok {
		return left.Verdict
	}
	if isBroken(err) {
		return verdict.Broken
	}
	return verdict.Failed
}

// body performs the statements of the step once.
func (p *performer) body(ctx context.Context) error {
	p.calls, p.asked, p.question, p.broke = nil, "", "", nil
	p.tryBegan, p.saidAt = time.Now(), map[string]time.Time{}
	p.beginSeries()
	defer p.endSeries()
	if err := p.statements(ctx, p.step.Body); err != nil {
		if first, ok := errors.AsType[*LimitFailed](p.broke); ok && outcome(err) != verdict.Broken && ctx.Err() == nil {
			if !isLeft(err) { // that it was left makes no broken limit good
				first.Then = err.Error()
			}
			return p.broke
		}
		return err
	}
	for _, decl := range p.run.Procedure.Ports {
		d := p.dialogs[decl.Name]
		if d == nil || p.step != p.last && (d.OwesLater() || p.question == decl.Name && d.EndsWithQuestion(ctx)) {
			continue
		}
		if err := p.settle(ctx, decl.Name); err != nil {
			return p.locate(p.said[decl.Name], err)
		}
	}
	return p.broke
}

// settle waits for the open exchange at a port to end.
func (p *performer) settle(ctx context.Context, port string) error {
	defer p.waiting(port, "the end of the answer", p.run.Procedure.Answers)()
	err := p.dialogs[port].Settle(ctx, p.run.Procedure.Answers)
	if with, took, ok := p.dialogs[port].Result(); ok && err == nil {
		p.emit(record.Event{Kind: record.Ended, Port: port, Text: with, Live: took})
	}
	if p.dialogs[port].EchoStopped() {
		p.emit(record.Event{Kind: record.Note, Port: port, Text: port + " no longer repeats what it is told"})
	}
	return err
}

// statements performs statements one after the other.
func (p *performer) statements(ctx context.Context, list []procedure.Node) error {
	for _, n := range list {
		if err := ctx.Err(); err != nil {
			return p.locate(n.At(), context.Cause(ctx))
		}
		if p.run.Halt != nil {
			if err := p.run.Halt(); err != nil {
				return p.locate(n.At(), err)
			}
		}
		if err := p.statement(ctx, n); err != nil {
			return p.locate(n.At(), err)
		}
	}
	return nil
}
