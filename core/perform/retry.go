package perform

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// Choice is what a person wants once a step has failed.
type Choice int

// The choices.
const (
	Stop  Choice = iota // as if nobody had been asked, and also where a procedure keeps going
	GoOn                // with the next step, although this one has failed
	Again               // a further try of this step
)

// Mended is a procedure as it has been mended meanwhile, which Adoptable has found good.
type Mended struct {
	File *procedure.File
	Sums map[string]record.Digest // SHA-256 of its files, by path
}

// Retry asks what is to be done about a step that has failed. With Again it may hand out
// a mended procedure; else nil.
type Retry func(ctx context.Context, failed StepResult) (Choice, *Mended)

// Adoptable says why a procedure cannot take the place of one that is being performed: only
// what stands in its steps and routines may differ. The ports are open as they were said to
// be, the inputs have their values, and what was let before the first step has been.
func Adoptable(now, mended *procedure.File) error {
	was, is := declared(now), declared(mended)
	for _, d := range is {
		if !slices.Contains(was, d) {
			return fmt.Errorf("%s is new: what stands outside the steps holds for a whole run, so stop, and run it anew", d)
		}
	}
	if !slices.Equal(was, is) {
		return errors.New("something that stands outside the steps, or a step, is gone or in another place: stop, and run it anew")
	}
	return nil
}

// declared is all of a procedure but what its steps and routines do, as it is written.
func declared(f *procedure.File) []string {
	all := []string{fmt.Sprintf("procedure %q", f.Title), fmt.Sprintf("answers within %v", f.Answers), fmt.Sprintf("keep going %v", f.KeepGoing)}
	line := func(at procedure.Pos) { all = append(all, strings.TrimSpace(f.Text(at))) }
	for _, p := range f.Ports {
		line(p.Pos)
	}
	for _, in := range f.Inputs {
		line(in.Pos)
	}
	for _, s := range f.Secrets {
		line(s.Pos)
	}
	for _, l := range f.Lets {
		line(l.Pos)
	}
	for _, s := range f.Steps {
		all = append(all, "step "+s.Title)
	}
	return all
}

// adopt goes on by a procedure that was mended.
func (p *performer) adopt(mended *procedure.File) {
	steps := p.run.Procedure.Steps // which is being gone through
	copy(steps, mended.Steps)
	ports := p.run.Procedure.Ports // which are open
	*p.run.Procedure = *mended
	p.run.Procedure.Steps, p.run.Procedure.Ports = steps, ports
	for _, s := range steps {
		if s.Title == p.step.Title {
			p.step = s
		}
		if p.last != nil && s.Title == p.last.Title {
			p.last = s
		}
	}
}

// second asks a person about a failed step, as often as it fails, and tries it again. It
// returns what came of the last try.
func (p *performer) second(ctx context.Context, err error, limits int) error {
	for outcome(err) == verdict.Failed && p.run.OnFailure != nil && ctx.Err() == nil && !p.interrupted {
		began := time.Now()
		choice, mended := p.run.OnFailure(ctx, StepResult{Title: p.step.Title, Verdict: verdict.Failed, Tries: p.try, Why: p.mask.Hide(err.Error()), Err: err})
		p.pondered += time.Since(began)
		if p.choice = choice; choice != Again {
			return err
		}
		further := record.Further{ByHand: true}
		if mended != nil {
			further.Mended = mended.Sums
		}
		p.emit(record.Event{Kind: record.Try, Step: p.step.Title, Try: p.try, Verdict: verdict.Failed, Why: err.Error(), Err: err, Value: further})
		if mended != nil {
			p.adopt(mended.File)
		}
		p.res.Limits = p.res.Limits[:limits] // they are measured again
		p.tidyUp(ctx)
		p.try++
		p.byHand++
		err = p.bodyWithin(ctx)
	}
	return err
}

// bodyWithin performs the step once, within its own limit.
func (p *performer) bodyWithin(ctx context.Context) error {
	if s := p.step; s.Within > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, s.Within, &stepTimeout{s.Within})
		defer cancel()
	}
	return p.body(ctx)
}
