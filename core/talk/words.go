package talk

import (
	"errors"
	"fmt"
	"regexp"
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

// Parse turns what a person typed into what is to be said. Braces name bytes, as
// in a procedure ({ctrl-z}, {hex 04 A4}), or a secret, {secret NAME}, that lookup knows;
// a phrase becomes the module's own words; @@ is a plain @. The words are whole if a
// control byte ends them: no line ending is to follow then.
func Parse(all []Phrase, typed string, lookup func(name string) (string, error)) (w Words, err error) {
	if rest, ok := strings.CutPrefix(typed, "@@"); ok {
		typed = "@" + rest
	} else if strings.HasPrefix(typed, "@") {
		w.Text, err = phrase(all, typed[1:])
		return w, err
	}
	typed, values, err := takeSecrets(typed, lookup)
	if err != nil {
		return w, err
	}
	said, err := pattern.CompileSaid(typed)
	if err != nil {
		return w, err
	}
	for _, e := range said.Exprs() {
		if _, known := values[e.Source]; !known {
			return w, fmt.Errorf("{%s} is no name of a byte: there are {cr} {lf} {tab} {esc} {nul}, {ctrl-a} to {ctrl-z}, {hex 04 A4} and {secret NAME}; a brace itself is {{", e.Source)
		}
	}
	w.Text, err = said.Fill(func(name string) (string, error) { return values[name], nil })
	w.Whole = strings.HasSuffix(typed, "}") && !strings.HasSuffix(typed, "}}") && w.Text != "" && w.Text[len(w.Text)-1] < ' '
	for _, v := range values {
		w.secrets = append(w.secrets, v)
	}
	return w, err
}

// namesSecret is the name of a secret within what is typed.
var namesSecret = regexp.MustCompile(`\{secret ([A-Za-z_][A-Za-z0-9_]*)\}`)

// takeSecrets puts a name in the place of each {secret NAME}, and gives the secrets by
// those.
func takeSecrets(typed string, lookup func(string) (string, error)) (string, map[string]string, error) {
	values := map[string]string{}
	var first error
	typed = namesSecret.ReplaceAllStringFunc(typed, func(found string) string {
		name := namesSecret.FindStringSubmatch(found)[1]
		key := "secret_" + name
		v, err := lookup(name)
		if err != nil && first == nil {
			first = err
		}
		values[key] = v
		return "{" + key + "}"
	})
	return typed, values, first
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
