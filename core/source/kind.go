package source

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"uparrot/core/text"
)

// Kind is what a file is, as far as its text shows it.
type Kind string

// The kinds of files.
const (
	Unknown    Kind = ""
	Procedure  Kind = "a procedure"
	Phrasebook Kind = "a phrasebook"
	Bench      Kind = "a bench"
	Settings   Kind = "a file of settings"
	Units      Kind = "a table of units"
	Record     Kind = "a record"
	Ledger     Kind = "a ledger"
	Wide       Kind = "UTF-16 text"
	Binary     Kind = "no text"
)

// reads is what takes a file of each kind.
var reads = map[Kind]string{
	Procedure: "Perform it with: uparrot run", Phrasebook: "Name it in the procedure, or give it with --phrasebook.", Bench: "Give it with --bench.", Settings: "uparrot settings apply and compare read it.",
	Units: "Give it with --units.", Record: "Read it with: uparrot report", Ledger: "Give it with --ledger.", Wide: "Save it as UTF-8.",
}

// begins are kinds that show at the very beginning.
var begins = []struct {
	kind Kind
	sign *regexp.Regexp
}{
	{Record, regexp.MustCompile(`\A\{"t":"[^"]*","kind":"record"`)},
	{Units, regexp.MustCompile(`\A(?:\x{feff})?(?:[^\n"=]*[,;\t])?unit[,;\t]|\A\{[^\n]*"unit":`)},
	{Settings, regexp.MustCompile(`\A# Settings of modules`)},
}

var (
	portLine = text.Regexp(`^port \w+:`)
	bookKey  = text.Regexp(`^family\s*=`)
)

// kindOfLine is the kind of file that a line shows; table says that some table stands before it.
func kindOfLine(line string, table bool) Kind {
	has := func(starts ...string) bool {
		return slices.ContainsFunc(starts, func(s string) bool { return strings.HasPrefix(line, s) })
	}
	switch {
	case has(`procedure "`, `step "`) || has("port ") && portLine().MatchString(line):
		return Procedure
	case has("[port.", "[air]", "[slot.", "[shared]"):
		return Bench
	case has("[[command]]", "[[setting]]", "[[notice]]", "[[identity]]", "[[packet]]", "[[reading]]"), !table && has("family") && bookKey().MatchString(line):
		return Phrasebook
	}
	return Unknown
}

// KindOf is what a text is; Unknown where it may be anything.
func KindOf(text string) Kind {
	head := text[:min(len(text), 64<<10)]
	switch {
	case strings.HasPrefix(text, "SQLite format 3\x00"):
		return Ledger
	case strings.HasPrefix(text, "\xff\xfe"), strings.HasPrefix(text, "\xfe\xff"):
		return Wide
	case strings.IndexByte(head, 0) >= 0 && (!utf8.ValidString(head) || strings.Count(head, "\x00") > 3):
		return Binary
	}
	for _, s := range begins {
		if s.sign.MatchString(head) {
			return s.kind
		}
	}
	table := false
	for line := range strings.SplitSeq(head, "\n") {
		if k := kindOfLine(line, table); k != Unknown {
			return k
		}
		table = table || strings.HasPrefix(line, "[")
	}
	return Unknown
}

// Other is what is wrong with a text that is of another kind than the one that is wanted; nil if it may
// be of that.
func Other(text string, wanted Kind) *Problem {
	is := KindOf(text)
	if is == wanted || is == Unknown {
		return nil
	}
	return &Problem{fmt.Sprintf("this is %s, not %s", is, wanted), reads[is]}
}

// Unfit is the mistake of a file that is of another kind than the one that is wanted; false if it may
// be of that.
func Unfit(path, text string, wanted Kind) (Mistake, bool) {
	p := Other(text, wanted)
	if p == nil {
		return Mistake{}, false
	}
	return Mistake{File: path, What: p.What, Mend: p.Mend}, true
}
