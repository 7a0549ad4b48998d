package phrasebook

import (
	"encoding/json"
	"fmt"
	"strings"

	"uparrot/core/pattern"
	"uparrot/core/source"
)

// Phrase is heard text by which something is known: a prompt, a final result, a
// refusal. It holds no values to compare with.
type Phrase struct{ *pattern.Pattern }

// ParsePhrase reads a phrase. Errors are a *source.Problem.
func ParsePhrase(text string) (Phrase, error) {
	const mend = "Write what the module shows, with ... for what may vary."
	p, err := pattern.Compile(strings.TrimSpace(text))
	switch {
	case err != nil:
		return Phrase{}, &source.Problem{What: err.Error(), Mend: mend}
	case strings.TrimSpace(text) == "":
		return Phrase{}, &source.Problem{What: "there is nothing to hear", Mend: mend}
	case len(p.Exprs()) > 0:
		return Phrase{}, &source.Problem{What: "there are no values here to compare with", Mend: mend}
	}
	return Phrase{p}, nil
}

// UnmarshalText is ParsePhrase.
func (p *Phrase) UnmarshalText(text []byte) (err error) {
	*p, err = ParsePhrase(string(text))
	return err
}

// MarshalText is the phrase as written.
func (p Phrase) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// Phrases are those of one kind. In a file they are one text or a list of texts.
type Phrases []Phrase

// Patterns are the phrases as patterns.
func (p Phrases) Patterns() []*pattern.Pattern {
	var all []*pattern.Pattern
	for _, one := range p {
		all = append(all, one.Pattern)
	}
	return all
}

// UnmarshalText reads one phrase; no text says nothing.
func (p *Phrases) UnmarshalText(text []byte) error {
	if *p = nil; len(text) == 0 {
		return nil
	}
	one, err := ParsePhrase(string(text))
	if err == nil {
		*p = Phrases{one}
	}
	return err
}

// MarshalJSON is one text, or a list where there are several.
func (p Phrases) MarshalJSON() ([]byte, error) {
	if len(p) == 1 {
		return json.Marshal(p[0].String())
	}
	return json.Marshal([]Phrase(p))
}

// UnmarshalJSON reads one text or a list of texts. What is no phrase is left out: what
// a record tells of it in words is read all the same.
func (p *Phrases) UnmarshalJSON(b []byte) error {
	var one string
	list := []string{}
	if json.Unmarshal(b, &one) == nil {
		list = append(list, one)
	} else if err := json.Unmarshal(b, &list); err != nil {
		return fmt.Errorf("read phrases: %w", err)
	}
	*p = nil
	for _, text := range list {
		if ph, err := ParsePhrase(text); err == nil {
			*p = append(*p, ph)
		}
	}
	return nil
}

// Spoken is text to say that holds no values.
type Spoken struct{ *pattern.Said }

// ParseSpoken reads it. Errors are a *source.Problem.
func ParseSpoken(text string) (Spoken, error) {
	const mend = "Write what is said then, bytes by name, such as {cr}."
	s, err := pattern.CompileSaid(text)
	switch {
	case err != nil:
		return Spoken{}, &source.Problem{What: err.Error(), Mend: mend}
	case len(s.Exprs()) > 0:
		return Spoken{}, &source.Problem{What: "there are no values here", Mend: mend}
	}
	return Spoken{s}, nil
}

// UnmarshalText is ParseSpoken.
func (s *Spoken) UnmarshalText(text []byte) (err error) {
	*s, err = ParseSpoken(string(text))
	return err
}

// MarshalText is the text as written.
func (s Spoken) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Bytes are what the text stands for.
func (s Spoken) Bytes() string {
	b, _ := s.Fill(nil) // it has no values that could fail
	return b
}
