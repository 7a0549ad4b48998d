package talk

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/source"
)

// Phrase is something to say that the phrasebook knows by name. It is typed as
// @NAME or @NUMBER, and with a value as @NAME=VALUE.
type Phrase struct {
	Number  int
	Name    string
	Meaning string

	setting phrasebook.Setting
}

// Phrases are the phrases of a phrasebook, which may be nil.
func Phrases(pb *phrasebook.Phrasebook) []Phrase {
	if pb == nil {
		return nil
	}
	var all []Phrase
	for i, s := range pb.Settings {
		meaning := s.Meaning
		if len(s.Range) == 2 {
			meaning += fmt.Sprintf(" (%v to %v)", s.Range[0], s.Range[1])
		}
		if s.Unit != "" {
			meaning += " in " + s.Unit
		}
		all = append(all, Phrase{i + 1, s.Name, meaning, s})
	}
	return all
}

// Matches are the phrases that what has been typed may become.
func Matches(all []Phrase, typed string) []Phrase {
	name, ok := strings.CutPrefix(typed, "@")
	if !ok || strings.HasPrefix(name, "@") {
		return nil
	}
	name, _, _ = strings.Cut(name, "=")
	var found []Phrase
	for _, p := range all {
		if strings.HasPrefix(strings.ToLower(p.Name), strings.ToLower(name)) || strconv.Itoa(p.Number) == name {
			found = append(found, p)
		}
	}
	return found
}

// Complete is what was typed, made longer as far as the phrases leave no doubt.
func Complete(all []Phrase, typed string) string {
	found := Matches(all, typed)
	if len(found) == 0 || strings.Contains(typed, "=") {
		return typed
	}
	common := found[0].Name
	for _, p := range found[1:] {
		for !strings.HasPrefix(p.Name, common) {
			common = common[:len(common)-1]
		}
	}
	if len(common) < len(typed)-1 {
		return typed
	}
	return "@" + common
}

// Words turns what a person typed into what is to be said. Braces name bytes, as
// in a procedure ({ctrl-z}, {hex 04 A4}); a phrase becomes the module's own
// words; @@ is a plain @. whole is true if a control byte ends the text, so that
// no line ending is to follow.
func Words(all []Phrase, typed string) (text string, whole bool, err error) {
	if rest, ok := strings.CutPrefix(typed, "@@"); ok {
		typed = "@" + rest
	} else if strings.HasPrefix(typed, "@") {
		text, err = phrase(all, typed[1:])
		return text, false, err
	}
	said, err := pattern.CompileSaid(typed)
	if err != nil {
		return "", false, err
	}
	for _, e := range said.Exprs() {
		return "", false, fmt.Errorf("{%s} is no name of a byte: there are {cr} {lf} {tab} {esc} {nul}, {ctrl-a} to {ctrl-z} and {hex 04 A4}; a brace itself is {{", e.Source)
	}
	text, err = said.Fill(func(string) (string, error) { return "", nil })
	return text, strings.HasSuffix(typed, "}") && !strings.HasSuffix(typed, "}}") && text != "" && text[len(text)-1] < ' ', err
}

func phrase(all []Phrase, typed string) (string, error) {
	name, v, write := strings.Cut(typed, "=")
	var names []string
	for _, p := range all {
		names = append(names, p.Name)
		if !strings.EqualFold(p.Name, name) && strconv.Itoa(p.Number) != name {
			continue
		}
		s := p.setting
		switch {
		case !write && s.Read == "":
			return "", fmt.Errorf("%s cannot be read", s.Name)
		case !write:
			return s.Read, nil
		case s.WriteSaid == nil:
			return "", fmt.Errorf("%s cannot be set", s.Name)
		}
		if err := s.Check(v); err != nil {
			return "", err
		}
		return s.WriteSaid.Fill(func(string) (string, error) { return v, nil })
	}
	if len(all) == 0 {
		return "", errors.New("no phrasebook is in use, so there are no phrases; a line that begins with @ itself is written @@")
	}
	return "", fmt.Errorf("there is no phrase %q. %s", name, source.DidYouMean(name, names))
}
