package procedure

import (
	"fmt"
	"strings"

	"uparrot/core/source"
)

// hint is what to write in place of a word that is not known: the own word for one of another language,
// with the line as the person wrote it, the nearest, or those that there are, by use.
func hint(l *line, w string, words []Word) string {
	own, whole := called(w)
	if own == nil {
		return source.DidYouMeanOf(w, names(words))
	}
	switch here := find(words, own.Name) != nil; {
	case here && own.example != "":
		return fmt.Sprintf("Here it is called %s: %s", whole, own.example)
	case here:
		return fmt.Sprintf("Here it is called %s: %s", whole, strings.TrimSpace(strings.Replace(l.text, w, whole, 1)))
	case find(words, "procedure") != nil:
		return fmt.Sprintf("Here it is called %s, and belongs between step and end.", whole)
	}
	return source.DidYouMeanOf(w, names(words))
}
