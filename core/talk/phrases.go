package talk

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"uparrot/core/phrasebook"
	"uparrot/core/source"
	"uparrot/core/text"
)

// Phrase is something to say that the phrasebook knows: what reads and sets a setting,
// typed as @NAME and @NAME=VALUE, or a command, which is chosen out of the list of all.
type Phrase struct {
	Number  int
	Name    string // of a setting; else the words with their fields, as FieldOpen NAME FieldShut
	Meaning string

	setting *phrasebook.Setting // nil for a command
}

// Phrases are the phrases of a phrasebook, which may be nil: its settings, then its
// commands.
func Phrases(pb *phrasebook.Phrasebook) []Phrase {
	if pb == nil {
		return nil
	}
	var all []Phrase
	for i := range pb.Settings {
		s := &pb.Settings[i]
		meaning := s.Meaning
		if len(s.Range) == 2 {
			meaning += fmt.Sprintf(" (%v to %v)", s.Range[0], s.Range[1])
		}
		if s.Unit != "" {
			meaning += " in " + s.Unit
		}
		all = append(all, Phrase{len(all) + 1, s.Name, meaning, s})
	}
	for _, c := range pb.Commands {
		all = append(all, Phrase{len(all) + 1, withFields(c.Say), c.Meaning, nil})
	}
	return all
}

// What a field to be filled in stands between.
const (
	FieldOpen = "‹"
	FieldShut = "›"
)

var braced = text.Regexp(`\{([A-Za-z_][A-Za-z0-9_]*)\}`)

// withFields is a command with its captures as fields; the names of bytes stay.
func withFields(say string) string {
	return braced().ReplaceAllStringFunc(say, func(f string) string {
		switch name := f[1 : len(f)-1]; name {
		case "cr", "lf", "tab", "esc", "nul":
			return f
		default:
			return FieldOpen + name + FieldShut
		}
	})
}

var field = text.Regexp(FieldOpen + "([^" + FieldShut + "]*)" + FieldShut)

// NextField is where the first field at or behind a place in what is typed begins and ends,
// in bytes, and its name; behind the last one it begins anew.
func NextField(typed string, from int) (start, end int, name string, ok bool) {
	from = max(0, min(from, len(typed)))
	at := field().FindStringSubmatchIndex(typed[from:])
	if at == nil && from > 0 {
		return NextField(typed, 0)
	}
	if at == nil {
		return 0, 0, "", false
	}
	return from + at[0], from + at[1], typed[from+at[2] : from+at[3]], true
}

// Typed is what stands in the input once the phrase is chosen.
func (p Phrase) Typed() string {
	if p.setting != nil {
		return "@" + p.Name
	}
	return p.Name
}

// Matches are the phrases that what has been typed after an @ may mean: by number, by how
// a name begins, or by words in the name or the meaning, in this order.
func Matches(all []Phrase, typed string) []Phrase {
	name, ok := strings.CutPrefix(typed, "@")
	if !ok || strings.HasPrefix(name, "@") {
		return nil
	}
	name, _, _ = strings.Cut(strings.ToLower(name), "=")
	var first, begin, hold []Phrase
	for _, p := range all {
		text := strings.ToLower(p.Name + " " + p.Meaning)
		all := true
		for _, w := range strings.Fields(name) {
			all = all && strings.Contains(text, w)
		}
		switch {
		case strconv.Itoa(p.Number) == name:
			first = append(first, p)
		case strings.HasPrefix(strings.ToLower(p.Name), name):
			begin = append(begin, p)
		case all && strings.TrimSpace(name) != "":
			hold = append(hold, p)
		}
	}
	return append(append(first, begin...), hold...)
}

func phrase(all []Phrase, typed string) (string, error) {
	name, v, write := strings.Cut(typed, "=")
	var names []string
	for _, p := range all {
		names = append(names, p.Name)
		if p.setting == nil || !strings.EqualFold(p.Name, name) && strconv.Itoa(p.Number) != name {
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

// command is the command that is typed by its number.
func command(all []Phrase, typed string) (string, bool) {
	for _, p := range all {
		if p.setting == nil && strconv.Itoa(p.Number) == typed {
			return p.Name, true
		}
	}
	return "", false
}

// filled says which field of what is typed has nothing in it.
func filled(typed string) error {
	if _, _, name, ok := NextField(typed, 0); ok {
		return fmt.Errorf("%s is still to be filled in: Tab goes to it", name)
	}
	return nil
}
