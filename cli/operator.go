package cli

import (
	"bufio"
	"context"
	"strings"

	"uparrot/core/perform"
	"uparrot/core/verdict"
)

// person is the operator in front of this program.
type person struct {
	app   *app
	lines chan string // what is typed; closed at its end
}

// Tell shows what to do.
func (p *person) Tell(_ context.Context, text string) error {
	p.app.err.line("   %s     %s", p.app.err.bold("do"), safe(text))
	return nil
}

// Confirm asks until yes or no is typed.
func (p *person) Confirm(ctx context.Context, question string) (bool, error) {
	return askOnce(p.ask).confirm(ctx, question, p.wrong)
}

// Value asks until a value is typed that fits.
func (p *person) Value(ctx context.Context, question string, check func(string) error) (string, error) {
	return askOnce(p.ask).value(ctx, question, check, p.wrong)
}

// wrong tells why an answer will not do.
func (p *person) wrong(why string) { p.app.err.line("          %s", safe(why)) }

// askOnce asks a person once.
type askOnce func(ctx context.Context, question string) (string, error)

// confirm asks until yes or no is typed.
func (a askOnce) confirm(ctx context.Context, question string, wrong func(string)) (bool, error) {
	for {
		answer, err := a(ctx, question+" [yes/no]")
		if err != nil {
			return false, err
		}
		switch strings.ToLower(answer) {
		case "y", "yes":
			return true, nil
		case "n", "no":
			return false, nil
		}
		wrong("type yes or no")
	}
}

// value asks until a value is typed that fits.
func (a askOnce) value(ctx context.Context, question string, check func(string) error, wrong func(string)) (string, error) {
	for {
		answer, err := a(ctx, question)
		if err != nil {
			return "", err
		}
		why := check(answer)
		if why == nil {
			return answer, nil
		}
		wrong(why.Error())
	}
}

func (p *person) ask(ctx context.Context, question string) (string, error) {
	if p.lines == nil {
		p.lines = make(chan string)
		go func() {
			defer close(p.lines)
			for s := bufio.NewScanner(p.app.in); s.Scan(); {
				p.lines <- strings.TrimSpace(s.Text())
			}
		}()
	}
	p.app.err.line("   %s    %s", p.app.err.bold("ask"), safe(question))
	select {
	case answer, ok := <-p.lines:
		if !ok {
			return "", &perform.Left{Verdict: verdict.Untested, Why: "nobody answered: " + question}
		}
		return answer, nil
	case <-ctx.Done():
		return "", context.Cause(ctx)
	}
}
