package perform

import (
	"context"
	"fmt"
	"sync"

	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/source/toml"
	"uparrot/core/verdict"
)

// Operator is the person at the bench, or what stands in for one.
type Operator interface {
	// Tell says what to do; it does not wait.
	Tell(ctx context.Context, text string) error
	// Confirm asks a question that yes or no answers.
	Confirm(ctx context.Context, question string) (bool, error)
	// Value asks for a value until check takes it.
	Value(ctx context.Context, question string, check func(text string) error) (string, error)
}

func (p *performer) tell(ctx context.Context, n *procedure.Tell) error {
	text, err := p.fill(ctx, n.Text)
	if err != nil {
		return err
	}
	if text = p.mask.Hide(text); p.wordsOfSecret(n.Text) {
		text = p.shownSaid(text)
	}
	p.told(text, "")
	p.acts("")
	return p.run.Operator.Tell(ctx, text)
}

// wordsOfSecret reports whether a text holds a secret, or what was made of one.
func (p *performer) wordsOfSecret(w *procedure.Wording) bool {
	for _, e := range w.Exprs {
		if p.ofSecret(e) {
			return true
		}
	}
	return false
}

// told notes what the operator was told or asked, and the answer.
func (p *performer) told(text, answer string) {
	p.emit(record.Event{Kind: record.Told, Text: text, Value: Answer{p.mask.Hide(answer)}})
}

func (p *performer) ask(ctx context.Context, n *procedure.Ask) error {
	text, err := p.fill(ctx, n.Text)
	if err != nil {
		return err
	}
	if text = p.mask.Hide(text); p.wordsOfSecret(n.Text) {
		text = p.shownSaid(text)
	}
	if n.Input == nil {
		return p.confirm(ctx, text)
	}
	ctx, asked := p.asking(ctx)
	answer, err := p.run.Operator.Value(ctx, text, func(s string) error {
		_, err := n.Input.Value(s)
		return err
	})
	asked()
	if err != nil {
		return err
	}
	v, err := n.Input.Value(answer)
	if err != nil {
		return err
	}
	p.told(text, answer)
	p.give(n.Input.Name, v, false)
	p.comes(n.Input.Name, "answered")
	return nil
}

// confirm asks the operator, and fails unless the answer is yes.
func (p *performer) confirm(ctx context.Context, question string) error {
	ctx, asked := p.asking(ctx)
	yes, err := p.run.Operator.Confirm(ctx, question)
	asked()
	if err != nil {
		return err
	}
	p.told(question, map[bool]string{true: "yes", false: "no"}[yes])
	if !yes {
		return fmt.Errorf("the operator's answer to %q is no", question)
	}
	return nil
}

// shownKey is the key of what is done when a question is shown.
type shownKey struct{}

// Shown notes that a question stands before the person now, who may have had others to answer first: what
// modules say from then on is newer. An Operator that asks a person calls it.
func Shown(ctx context.Context) {
	if shown, ok := ctx.Value(shownKey{}).(func()); ok {
		shown()
	}
}

// asking is ctx for a question, and what is done once it is answered: an operator that shows nothing has
// asked at once.
func (p *performer) asking(ctx context.Context) (context.Context, func()) {
	var once sync.Once
	shown := func() { once.Do(func() { p.acts("") }) }
	return context.WithValue(ctx, shownKey{}, shown), shown
}

// Answers answer an operator's questions out of a file.
type Answers struct {
	file    string
	answers map[string]any
	given   map[string]int // how many of a list were given
}

// ReadAnswers reads a TOML file of questions, as the procedure words them with
// their values filled in, and answers: text, a number, true or false, or a list
// of these to be given one after the other.
func ReadAnswers(path string) (*Answers, error) {
	a := &Answers{file: path, answers: map[string]any{}, given: map[string]int{}}
	doc, err := toml.Read(path, &a.answers)
	if err != nil {
		return nil, fmt.Errorf("read the answers: %w", err)
	}
	for question, v := range a.answers {
		list, ok := v.([]any)
		if !ok {
			list = []any{v}
		}
		for _, one := range list {
			switch one.(type) {
			case string, int64, float64, bool:
			default:
				doc.Add(question, "an answer is a text, a number, true or false, or a list of these", "")
			}
		}
	}
	return a, doc.Mistakes.Err()
}

func (a *Answers) next(question string) (string, error) {
	v, ok := a.answers[question]
	if !ok {
		return "", &Left{verdict.Untested, fmt.Sprintf("%s has no answer to %q", a.file, question)}
	}
	if list, ok := v.([]any); ok {
		i := a.given[question]
		if i >= len(list) {
			return "", &Left{verdict.Untested, fmt.Sprintf("%s has no more answers to %q", a.file, question)}
		}
		a.given[question]++
		v = list[i]
	}
	switch v {
	case true:
		return "yes", nil
	case false:
		return "no", nil
	}
	return fmt.Sprint(v), nil
}

// Tell needs nobody.
func (a *Answers) Tell(context.Context, string) error { return nil }

// Confirm looks the question up.
func (a *Answers) Confirm(_ context.Context, question string) (bool, error) {
	text, err := a.next(question)
	if err != nil {
		return false, err
	}
	if text != "yes" && text != "no" {
		return false, &Left{verdict.Untested, fmt.Sprintf("the answer to %q in %s is %q, neither yes nor no", question, a.file, text)}
	}
	return text == "yes", nil
}

// Value looks the question up.
func (a *Answers) Value(_ context.Context, question string, check func(string) error) (string, error) {
	text, err := a.next(question)
	if err != nil {
		return "", err
	}
	if err := check(text); err != nil {
		return "", &Left{verdict.Untested, fmt.Sprintf("the answer to %q in %s does not fit: %v", question, a.file, err)}
	}
	return text, nil
}

// Agreeable says yes to every question; it has no values to give.
type Agreeable struct{}

// Tell needs nobody.
func (Agreeable) Tell(context.Context, string) error { return nil }

// Confirm says yes.
func (Agreeable) Confirm(context.Context, string) (bool, error) { return true, nil }

// Value leaves the step untested.
func (Agreeable) Value(_ context.Context, question string, _ func(string) error) (string, error) {
	return "", &Left{verdict.Untested, fmt.Sprintf("nobody is there to answer %q", question)}
}
