package account

import (
	"bufio"
	"context"
	"strings"

	"uparrot/cli/shell"
	"uparrot/core/perform"
	"uparrot/core/verdict"
)

// Person is the operator in front of this program.
type Person struct {
	App   *shell.Streams
	lines chan string // what is typed; closed at its end
}

// Tell shows what to do.
func (p *Person) Tell(_ context.Context, text string) error {
	p.App.Err.Line("   %s     %s", p.App.Err.Bold("do"), shell.Safe(text))
	return nil
}

// Confirm asks until yes or no is typed.
func (p *Person) Confirm(ctx context.Context, question string) (bool, error) {
	return AskOnce(p.Ask).Confirm(ctx, question, p.Wrong)
}

// Value asks until a value is typed that fits.
func (p *Person) Value(ctx context.Context, question string, check func(string) error) (string, error) {
	return AskOnce(p.Ask).Value(ctx, question, check, p.Wrong)
}

// Wrong tells why an answer will not do.
func (p *Person) Wrong(why string) { p.App.Err.Line("          %s", shell.Safe(why)) }

// AskOnce asks a person once.
type AskOnce func(ctx context.Context, question string) (string, error)

// Confirm asks until yes or no is typed.
func (a AskOnce) Confirm(ctx context.Context, question string, wrong func(string)) (bool, error) {
	for {
		perform.Shown(ctx)
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

// Value asks until a value is typed that fits.
func (a AskOnce) Value(ctx context.Context, question string, check func(string) error, wrong func(string)) (string, error) {
	for {
		perform.Shown(ctx)
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

// Ask asks once, and waits for a line.
func (p *Person) Ask(ctx context.Context, question string) (string, error) {
	if p.lines == nil {
		p.lines = make(chan string)
		go func() {
			defer close(p.lines)
			for s := bufio.NewScanner(p.App.In); s.Scan(); {
				p.lines <- strings.TrimSpace(s.Text())
			}
		}()
	}
	p.App.Err.Line("   %s    %s", p.App.Err.Bold("ask"), shell.Safe(question))
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
