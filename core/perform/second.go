package perform

import (
	"context"
	"errors"
	"fmt"
	"slices"

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

// Second asks what is to be done about a step that has failed. With Again it may hand out
// a mended procedure; else nil.
type Second func(ctx context.Context, failed StepResult) (Choice, *Mended)

// Adoptable says why a procedure cannot take the place of one that is being performed: it
// must have the same ports, inputs, secrets and steps, whose statements alone may differ.
func Adoptable(now, mended *procedure.File) error {
	names := func(f *procedure.File) (all []string) {
		for _, p := range f.Ports {
			all = append(all, "port "+p.Name)
		}
		for _, in := range f.Inputs {
			all = append(all, "input "+in.Name)
		}
		for _, s := range f.Secrets {
			all = append(all, "secret "+s.Name)
		}
		for _, s := range f.Steps {
			all = append(all, "step "+s.Title)
		}
		return all
	}
	was, is := names(now), names(mended)
	for _, n := range is {
		if !slices.Contains(was, n) {
			return fmt.Errorf("%s is new: what has other ports, inputs or steps is another run", n)
		}
	}
	if !slices.Equal(was, is) {
		return errors.New("a port, an input or a step is gone, or in another place: that is another run")
	}
	return nil
}

// adopt goes on by a procedure that was mended.
func (p *performer) adopt(mended *procedure.File) {
	steps := p.run.Procedure.Steps // which is being gone through
	copy(steps, mended.Steps)
	*p.run.Procedure = *mended
	p.run.Procedure.Steps = steps
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
	for outcome(err) == verdict.Failed && p.run.Second != nil && ctx.Err() == nil {
		choice, mended := p.run.Second(ctx, StepResult{Title: p.step.Title, Verdict: verdict.Failed, Tries: p.try, Why: p.mask.Hide(err.Error()), Err: err})
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
