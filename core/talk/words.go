package talk

import (
	"fmt"
	"strings"

	"uparrot/core/pattern"
	"uparrot/core/text"
)

// Parse turns what a person typed into what is to be said. Braces name bytes, as
// in a procedure ({ctrl-z}, {hex 04 A4}), or a secret, {secret NAME}, that lookup knows;
// a phrase becomes the module's own words; @@ is a plain @. The words are whole if a
// control byte ends them: no line ending is to follow then.
func Parse(all []Phrase, typed string, lookup func(name string) (string, error)) (w Words, err error) {
	if rest, ok := strings.CutPrefix(typed, "@@"); ok {
		typed = "@" + rest
	} else if c, ok := command(all, strings.TrimPrefix(typed, "@")); ok && strings.HasPrefix(typed, "@") {
		return Parse(all, c, lookup)
	} else if strings.HasPrefix(typed, "@") {
		w.Text, err = phrase(all, typed[1:])
		return w, err
	}
	typed, values, err := takeSecrets(typed, lookup)
	if err == nil {
		err = filled(typed)
	}
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

// ParseAt is Parse of what answers the talker's module. What it asks for is a secret may be
// any text, and no message tells what of it is no name of a byte.
func (t *Talker) ParseAt(all []Phrase, typed string, lookup func(name string) (string, error)) (Words, error) {
	w, err := Parse(all, typed, lookup)
	if err != nil && t.Hides() && !namesSecret().MatchString(typed) {
		return Words{Text: typed}, nil
	}
	return w, err
}

// namesSecret is the name of a secret within what is typed.
var namesSecret = text.Regexp(`\{secret ([A-Za-z_][A-Za-z0-9_]*)\}`)

// takeSecrets puts a name in the place of each {secret NAME}, and gives the secrets by
// those.
func takeSecrets(typed string, lookup func(string) (string, error)) (string, map[string]string, error) {
	values := map[string]string{}
	var first error
	typed = namesSecret().ReplaceAllStringFunc(typed, func(found string) string {
		name := namesSecret().FindStringSubmatch(found)[1]
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
