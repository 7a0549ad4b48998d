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

// Count is a number of things in words.
func Count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
