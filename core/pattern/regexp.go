package pattern

import (
	"errors"
	"regexp/syntax"
)

// regexpWords is what is wrong with a regular expression, by what the library calls it.
var regexpWords = map[syntax.ErrorCode]string{
	syntax.ErrMissingParen:          "a parenthesis is not closed",
	syntax.ErrUnexpectedParen:       "a parenthesis closes what none has opened",
	syntax.ErrMissingBracket:        "a bracket [ is not closed",
	syntax.ErrInvalidCharClass:      "what stands in brackets is no set of characters",
	syntax.ErrInvalidCharRange:      "a range of characters is the wrong way round",
	syntax.ErrInvalidEscape:         "a backslash stands before what it cannot",
	syntax.ErrTrailingBackslash:     "a backslash stands at its end",
	syntax.ErrMissingRepeatArgument: "*, + or ? has nothing before it to repeat",
	syntax.ErrInvalidRepeatOp:       "two signs that repeat stand behind each other",
	syntax.ErrInvalidRepeatSize:     "it is to repeat something too often",
	syntax.ErrInvalidNamedCapture:   "a group has no name that can be used, or one twice: (?P<name>...)",
	syntax.ErrInvalidPerlOp:         "there is no such group: look-around is none of it",
	syntax.ErrInvalidUTF8:           "it is not UTF-8",
	syntax.ErrLarge:                 "it is too large",
	syntax.ErrNestingDepth:          "it is nested too deeply",
}

// RegexpWords is why a regular expression cannot be read, in words.
func RegexpWords(err error) string {
	if e, ok := errors.AsType[*syntax.Error](err); ok && regexpWords[e.Code] != "" {
		return regexpWords[e.Code]
	}
	return "it has a mistake"
}
