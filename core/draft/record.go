package draft

import (
	"bytes"
	"slices"
	"strings"

	"uparrot/core/phrasebook"
	"uparrot/core/record/conversation"
	"uparrot/core/text"
)

// Record are the entries that a conversation shows, how the module was spoken to, and how it said no.
func Record(t *conversation.Talk) (all []Entry, setup phrasebook.Setup, refusals []string) {
	setup = t.Opened.As()
	setup.Speed = t.Line.Speed
	heard := map[string][]string{} // by what was said, the first whole answer
	var order []string
	for _, turn := range t.Turns {
		said := turn.Text()
		if said == "" || !turn.Ending {
			continue
		}
		lines, no := answerOf(said, turn.Heard, setup.Dialect == phrasebook.AT)
		if no != "" {
			if no = number().ReplaceAllString(no, "{number:int}"); no != "ERROR" && !slices.Contains(refusals, no) {
				refusals = append(refusals, no)
			}
			continue
		}
		if _, seen := heard[said]; !seen {
			order = append(order, said)
			heard[said] = lines
		}
	}
	written := map[string]bool{}
	for _, said := range order {
		if e, value := wrote(said, order); value != "" {
			answer := strings.Join(heard[said], "\n")
			if answer != "" {
				e.Answer = strings.Replace(answer, value, "<value>", 1)
			}
			if !written[e.Say] {
				all = append(all, e)
			}
			written[e.Say] = true
			continue
		}
		all = append(all, Entry{Say: said, Answer: strings.Join(heard[said], "\n")})
	}
	return all, setup, refusals
}

var number = text.Regexp(`[0-9]+`)

// wrote is what was said with its value as what may vary, and that value: a value behind = or, of words,
// behind what is said alone elsewhere.
func wrote(said string, others []string) (Entry, string) {
	if head, value, ok := strings.Cut(said, "="); ok && value != "" && value != "?" && !strings.Contains(value, ",") {
		bare := strings.Trim(value, `"`)
		return Entry{Say: head + "=" + strings.Replace(value, bare, "<value>", 1)}, bare
	}
	for _, o := range others {
		if rest, ok := strings.CutPrefix(said, o+" "); ok && rest != "" && !strings.Contains(rest, " ") {
			return Entry{Say: o + " <value>"}, rest
		}
	}
	return Entry{}, ""
}

// answerOf are the lines of an answer without the echo and the result that ends it, and how it said no;
// "" if it did not.
func answerOf(said string, heard []conversation.Heard, at bool) (lines []string, no string) {
	var whole []byte
	for _, h := range heard {
		whole = append(whole, h.Bytes...)
	}
	for _, l := range bytes.FieldsFunc(whole, func(r rune) bool { return r == '\r' || r == '\n' }) {
		line := strings.TrimSpace(string(text.Plain(l)))
		if line != "" && line != said {
			lines = append(lines, line)
		}
	}
	if !at {
		return lines, ""
	}
	for i, l := range lines {
		if l == "OK" {
			return lines[:i], "" // what follows came by itself
		}
	}
	if n := len(lines); n > 0 {
		return nil, lines[n-1]
	}
	return lines, ""
}
