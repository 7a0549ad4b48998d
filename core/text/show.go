// Package text is what is done to text of modules, each in one place: lines are cut
// from bytes, escape sequences are taken out, and what is left is made safe to show,
// so that it can neither steer a terminal nor pass for something else.
package text

import (
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Text shows what a module sent: bytes that are no text become escapes, so that
// nothing can steer the terminal. Line ends and tabs stay.
func Text(s string) string {
	ok := true
	for _, r := range s {
		ok = ok && (r == '\n' || r == '\t' || Showable(r))
	}
	if ok && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	valid := utf8.ValidString(s) // else it is bytes, of which some look like a letter by chance
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		if r == '\n' || r == '\t' || Showable(r) && (valid || r < utf8.RuneSelf) {
			b.WriteString(s[:n])
		} else {
			for _, c := range []byte(s[:n]) {
				fmt.Fprintf(&b, `\x%02x`, c)
			}
		}
		s = s[n:]
	}
	return b.String()
}

// Showable leaves out what cannot be seen, and what turns the direction of text: control
// and format characters, those that Unicode has fonts ignore, private and unassigned
// ones.
func Showable(r rune) bool {
	if r < 0x7f {
		return r >= ' '
	}
	return unicode.IsGraphic(r) && !unicode.In(r, unicode.Other_Default_Ignorable_Code_Point, unicode.Variation_Selector)
}

// lineEnds are what would end a line.
var lineEnds = strings.NewReplacer("\r", `\r`, "\n", `\n`, "\t", `\t`)

// Line is Text for what must stay on its line.
func Line(s string) string {
	for i := range len(s) {
		if s[i] < ' ' || s[i] >= 0x7f {
			return Text(lineEnds.Replace(s))
		}
	}
	return s // most of what there is
}

// Shown is a line of a module for people: without its line end, colours and cursor
// moves, tabs as blanks, and what is left and is no text as escapes.
func Shown(line []byte) string {
	return Line(strings.ReplaceAll(string(Plain(Trim(line))), "\t", "    "))
}

// Took is a time for people: three digits are enough.
func Took(d time.Duration) string {
	switch {
	case d < time.Millisecond:
		return fmt.Sprintf("%d µs", d.Microseconds())
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

// FromMS is a time told in milliseconds.
func FromMS(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }

// Clip is a text of so many characters at most; a longer one ends with dots.
func Clip(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:max(0, most-4)]) + " ..."
	}
	return s
}

// Middle is a text of at most so many characters: a longer one is cut in the middle.
func Middle(s string, most int) string {
	const gap = " ... "
	r := []rune(s)
	if len(r) <= most {
		return s
	}
	left := max(0, most-len(gap))
	return string(r[:(left+1)/2]) + gap + string(r[len(r)-left/2:])
}

// Count is a number of things in words.
func Count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Wide is how many columns a line of a message has at most.
const Wide = 100

// Fold breaks a line of a message that is wider than Wide at blanks; what follows stands four columns
// in. A command that ends it keeps together.
func Fold(line string) string {
	const command = ": uparrot "
	indent := line[:len(line)-len(strings.TrimLeft(line, " "))]
	further := indent + "    "[min(4, len(indent)):]
	var out strings.Builder
	for utf8.RuneCountInString(line) > Wide {
		head := string([]rune(line)[:Wide+1])
		at := strings.LastIndexByte(head, ' ')
		if i := strings.LastIndex(head, command); i > len("uparrot") { // not what the program is called at the beginning
			at = i + 1
		}
		if at <= len(indent) {
			break // there is no blank: it stays whole
		}
		out.WriteString(strings.TrimRight(line[:at], " ") + "\n")
		rest := strings.TrimLeft(line[at:], " ")
		if line = further + rest; strings.HasSuffix(out.String(), ":\n") && strings.HasPrefix(rest, "uparrot ") {
			break
		}
		indent = further
	}
	return out.String() + line
}

// FoldAll folds each line of a message.
func FoldAll(message string) string {
	lines := strings.Split(message, "\n")
	for i, l := range lines {
		lines[i] = Fold(l)
	}
	return strings.Join(lines, "\n")
}
