package procedure

import (
	"fmt"
	"slices"
	"strings"

	"uparrot/core/source"
)

// elsewhere are words that people bring from other languages, and what they are called here.
var elsewhere = map[string]string{
	"wait": "pause", "sleep": "pause", "delay": "pause",
	"send": "say", "write": "say", "transmit": "say", "tx": "say", "put": "say", "type": "say",
	"read": "hear", "receive": "hear", "match": "hear", "recv": "hear", "rx": "hear", "listen": "hear",
	"assert": "check", "verify": "check", "ensure": "check", "test": "check",
	"print": "note", "display": "note", "record": "note", "save": "keep",
	"loop": "repeat", "while": "repeat", "foreach": "for",
	"function": "routine", "def": "routine", "sub": "routine", "macro": "routine", "call": "do", "gosub": "do",
	"elif": "else if", "elseif": "else if", "switch": "any", "select": "any",
	"var": "let", "const": "let", "local": "let",
	"import": "include", "require": "include", "title": "procedure", "name": "procedure", "description": "about",
	"abort": "fail", "error": "fail", "exit": "fail",
	"prompt": "ask operator", "message": "tell operator", "login": "log in", "reboot": "power", "baud": "line",
}

// otherwise are those of them that are written otherwise than elsewhere.
var otherwise = map[string]string{
	"repeat": "repeat 3 times, or repeat for 10m every 1s", "any": "any, then case hear radio: OK",
	"power": "power radio cycle", "line": "line radio speed 57600", "log in": `log in console as "ops" with SECRET`, "keep": `keep NAME as "FILE"`,
}

// inBlocks and inHeader are the words of a block and of the header, those that are written most first.
var inBlocks = []string{
	"say", "hear", "check", "limit", "note", "pause", "set", "get", "not", "any", "case", "all", "if", "else", "repeat", "for", "do", "let", "collect", "keep", "ask", "tell",
	"power", "line", "link", "watch", "poll", "reading", "until", "rows", "row", "quiet", "identity", "settings", "reach", "log", "fail", "skip", "end",
}

var inHeader = []string{"procedure", "step", "port", "input", "secret", "let", "about", "include", "routine", "answers", "keep"}

// hint is what to write in place of a word that is not known: the own word for one from elsewhere, with
// the line as the person wrote it, the nearest, or those that there are, by use.
func hint(l *line, w string, words map[string]reader) string {
	order := inBlocks
	_, header := words["procedure"]
	if header {
		order = inHeader
	}
	if own, is := elsewhere[strings.ToLower(w)]; is {
		_, here := words[strings.Fields(own)[0]]
		switch {
		case here && otherwise[own] != "":
			return fmt.Sprintf("Here it is called %s: %s", own, otherwise[own])
		case here:
			return fmt.Sprintf("Here it is called %s: %s", own, strings.TrimSpace(strings.Replace(l.text, w, own, 1)))
		case header:
			return fmt.Sprintf("Here it is called %s, and belongs between step and end.", own)
		}
	}
	known := keys(words)
	slices.SortStableFunc(known, func(a, b string) int { return slices.Index(order, a) - slices.Index(order, b) })
	return source.DidYouMeanOf(w, known)
}
