package procedure

import (
	"fmt"
	"regexp"
	"regexp/syntax"

	"uparrot/core/pattern"
	"uparrot/core/text"
)

// exprWords put what the library of expressions says into words for who has written one. The first
// that fits counts; what none fits is told as it is.
var exprWords = []struct {
	says func() *regexp.Regexp
	what func(found []string) string
	mend string
}{
	{text.Regexp(`^unexpected token EOF`), said("it ends too early"), "Something is missing at its end: a value, or a bracket that closes."},
	{text.Regexp(`^unexpected token Operator\("="\)`), said("a single = compares nothing"), "Compare with =="},
	{text.Regexp(`^unexpected token Operator\("(.+)"\)`), func(f []string) string { return f[1] + " stands where a value belongs" }, "Write a value before and behind it."},
	{text.Regexp(`^unexpected token (?:Identifier|Number|String)\("(.*)"\)`), func(f []string) string {
		return f[1] + " stands behind a value, with nothing between them"
	}, "Write what joins the two, such as ==, + or and."},
	{text.Regexp(`^unexpected token Bracket\("(.+)"\)`), func(f []string) string { return "the bracket " + f[1] + " has no other half here" }, "Close each bracket that was opened, in its turn."},
	{text.Regexp(`^literal not terminated`), said("a text has no end"), `Close it with ".`},
	{text.Regexp(`^unrecognized character: .*'(.+)'`), func(f []string) string { return f[1] + " means nothing in an expression" }, "A text stands in double quotes."},
	{text.Regexp(`^invalid operation: (\S+) \(mismatched types (\S+) and (\S+)\)`), func(f []string) string {
		return fmt.Sprintf("%s does not go between %s and %s", f[1], typeWords(f[2]), typeWords(f[3]))
	}, "Make both the same, with int(...), float(...) or string(...)."},
	{text.Regexp(`^not enough arguments to call (\S+)`), func(f []string) string { return f[1] + "(...) wants more than is given to it" }, "docs/language.md tells what each function takes."},
	{text.Regexp(`^too many arguments to call (\S+)`), func(f []string) string { return f[1] + "(...) wants less than is given to it" }, "docs/language.md tells what each function takes."},
	{text.Regexp(`^type (\w+)\[\w+\] is undefined`), func(f []string) string { return typeWords(f[1]) + " has no parts to be taken out" }, ""},
	{text.Regexp(`^type (\w+) has no field (\w+)`), func(f []string) string { return fmt.Sprintf("%s has no part %s", typeWords(f[1]), f[2]) }, ""},
}

// regexpSaid are the messages of the library of regular expressions, which come as text alone.
var regexpSaid = text.Regexp("^error parsing regexp: ([^:]+)")

func said(text string) func([]string) string { return func([]string) string { return text } }

// typeWords is a type as people call it.
func typeWords(name string) string {
	switch name {
	case "int", "float64", "integer", "float":
		return "a number"
	case "string":
		return "a text"
	case "bool":
		return "something true or false"
	}
	return "a list"
}

// inWords is what a message of the library says, and how to mend it.
func inWords(message string) (what, mend string) {
	for _, w := range exprWords {
		if found := w.says().FindStringSubmatch(message); found != nil {
			return w.what(found), w.mend
		}
	}
	if found := regexpSaid().FindStringSubmatch(message); found != nil {
		return "the regular expression cannot be read: " + pattern.RegexpWords(&syntax.Error{Code: syntax.ErrorCode(found[1])}), "The syntax is RE2's: no look-around, no back-references."
	}
	return message, ""
}
