// Package secret keeps values that must not be shown out of text.
package secret

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"sort"
	"strconv"
	"strings"

	"uparrot/core/text"
)

// Hidden stands where a secret was.
const Hidden = "[secret]"

// Shortest is how many bytes a secret has at least that is looked for everywhere. A
// shorter one would be found in any number and word: it is hidden where it is known to
// stand, in what is said and in its echo; see HideSaid.
const Shortest = 4

// leastLine is how many bytes a line of a secret of several lines has at least to be
// looked for by itself.
const leastLine = 8

// Mask replaces secrets: as they are, in other case, trimmed, line by line, in quotes, in
// JSON, as hexadecimal digits with what machines put between them, in base64, also of a
// longer text that holds them, and percent-encoded; also where line ends, escape sequences
// or erased characters stand within, as where a console has echoed them. The zero value
// knows none; it is not safe for use by several goroutines while Add is called.
type Mask struct {
	forms  []string      // what to look for, the longest first
	begins [256][]string // the same, by their first byte in either case
	short  []string      // those that are looked for only where they are known to stand
}

// Add makes a secret known. An empty one is no secret.
func (m *Mask) Add(s string) {
	if s == "" {
		return
	}
	trimmed := strings.TrimSpace(s)
	if len(trimmed) < Shortest {
		m.short = append(m.short, s)
		if trimmed != "" && trimmed != s {
			m.short = append(m.short, trimmed)
		}
		return
	}
	all := []string{s, trimmed}
	if lines := strings.FieldsFunc(trimmed, func(r rune) bool { return r == '\r' || r == '\n' }); len(lines) > 1 {
		for _, l := range lines {
			if l = strings.TrimSpace(l); len(l) >= leastLine {
				all = append(all, l)
			}
		}
	}
	for _, one := range all[:len(all):len(all)] {
		all = append(all, encodings(one)...)
	}
	m.forms = append(m.forms, all...)
	sort.SliceStable(m.forms, func(i, j int) bool { return len(m.forms[i]) > len(m.forms[j]) })
	m.begins = [256][]string{}
	known := map[string]bool{}
	kept := m.forms[:0]
	for _, f := range m.forms {
		if known[f] {
			continue
		}
		known[f] = true
		kept = append(kept, f)
		c := lower(f[0])
		m.begins[c] = append(m.begins[c], f)
	}
	m.forms = kept
}

// betweenBytes is what machines put between the hexadecimal digits of two bytes.
var betweenBytes = []string{"", " ", ":", "-", ",", ", ", " 0x", ",0x", ", 0x", `\x`, "%"}

// within64 is what a text makes of base64 (RFC 4648, section 4: three bytes are four
// characters) where it stands within a longer one, behind so many bytes of a group of
// three: without the characters at its ends that its neighbours have a part in.
func within64(coding *base64.Encoding, s string, before int) string {
	coded := coding.EncodeToString([]byte(strings.Repeat("x", before) + s))
	if (before+len(s))%3 > 0 {
		coded = coded[:len(coded)-1]
	}
	if before > 0 {
		coded = coded[before+1:]
	}
	return coded
}

// encodings are the forms in which machines write a text.
func encodings(s string) []string {
	quoted := strconv.Quote(s)
	list := []string{quoted[1 : len(quoted)-1], url.QueryEscape(s), url.PathEscape(s)}
	pairs := make([]string, len(s))
	for i := range pairs {
		pairs[i] = hex.EncodeToString([]byte{s[i]})
	}
	for _, between := range betweenBytes {
		list = append(list, strings.Join(pairs, between))
	}
	for _, coding := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		list = append(list, coding.EncodeToString([]byte(s)))
		for before := range 3 {
			list = append(list, within64(coding, s, before))
		}
	}
	if b, err := json.Marshal(s); err == nil {
		list = append(list, string(b[1:len(b)-1]))
	}
	return list
}

// Any reports whether there are secrets at all.
func (m *Mask) Any() bool { return len(m.forms) > 0 || len(m.short) > 0 }

// Hide is text without the secrets.
func (m *Mask) Hide(text string) string {
	if len(m.forms) == 0 {
		return text
	}
	var out strings.Builder
	from := 0
	for i := 0; i < len(text); i++ {
		if strings.HasPrefix(text[i:], Hidden) { // it is hidden already
			i += len(Hidden) - 1
			continue
		}
		for _, f := range m.begins[lower(text[i])] {
			end, whole := match(text, i, f)
			if !whole {
				continue
			}
			out.WriteString(text[from:i] + Hidden)
			from, i = end, end-1
			break
		}
	}
	if from == 0 {
		return text
	}
	return out.String() + text[from:]
}

// HideSaid is Hide of text that is said, or is known to be its echo: short secrets are
// hidden too. It returns how many of those it has hidden.
func (m *Mask) HideSaid(text string) (hidden string, short int) {
	if len(m.short) == 0 {
		return m.Hide(text), 0
	}
	var pairs []string
	for _, s := range m.short {
		short += strings.Count(text, s)
		pairs = append(pairs, s, Hidden)
	}
	return strings.NewReplacer(pairs...).Replace(m.Hide(text)), short
}

// Beginning is how many bytes at the end of b may begin a secret, the rest of
// which is still to come.
func (m *Mask) Beginning(b []byte) int {
	text := string(b)
	longest := 0
	if len(m.forms) > 0 {
		longest = spread * len(m.forms[0])
	}
	for i := max(0, len(text)-longest); i < len(text); i++ {
		for _, f := range m.begins[lower(text[i])] {
			if end, whole := match(text, i, f); !whole && end == len(text) {
				return len(text) - i
			}
		}
	}
	return 0
}

// spread is how many times as long a secret may be for what stands within it.
const spread = 4

// match holds a text from i on against a form, without regard to case and to what a
// console puts within. It returns where it stopped: behind the form if that is whole, at
// the end of the text if the form may go on behind that, else -1.
func match(s string, i int, form string) (end int, whole bool) {
	m := matching{s: s, form: form, limit: i + spread*len(form)}
	return m.from(i, 0)
}

// matching is one attempt. A byte before a backspace may be part of the form, or may be
// taken back: both are tried, each once.
type matching struct {
	s, form string
	limit   int
	tried   map[[2]int]bool // places in the text and in the form from which nothing matched
}

func (m *matching) from(i, j int) (end int, whole bool) {
	for j < len(m.form) {
		switch {
		case i >= len(m.s):
			return len(m.s), false
		case i > m.limit:
			return -1, false
		}
		if lower(m.s[i]) == lower(m.form[j]) {
			if i+1 < len(m.s) && m.s[i+1] == '\b' {
				return m.either(i, j)
			}
			i++
			j++
			continue
		}
		if j == 0 {
			return -1, false
		}
		n, all := within(m.s[i:])
		if !all {
			return len(m.s), false
		}
		if n == 0 {
			return -1, false
		}
		i += n
	}
	return i, true
}

// either tries a byte that fits and stands before a backspace.
func (m *matching) either(i, j int) (end int, whole bool) {
	at := [2]int{i, j}
	if m.tried[at] {
		return -1, false
	}
	back, whole := m.from(i+2, j)
	if j == 0 {
		back, whole = -1, false // what is taken back before the form is none of it
	}
	if whole {
		return back, true
	}
	end, whole = m.from(i+1, j+1)
	if whole || end >= 0 {
		return end, whole
	}
	if back < 0 {
		if m.tried == nil {
			m.tried = map[[2]int]bool{}
		}
		m.tried[at] = true
	}
	return back, false
}

// within is the length of what a console may put within an echo: a line end where it
// wraps, an escape sequence, a character that is taken back. If its end is still to
// come, all is false.
func within(s string) (n int, all bool) {
	switch {
	case s[0] == '\r' || s[0] == '\n' || s[0] == '\b':
		return 1, true
	case s[0] == 0x1b:
		n, all = text.Escape([]byte(s[:min(len(s), 64)]))
		return n, all
	case len(s) > 1 && s[1] == '\b':
		return 2, true
	case len(s) == 1:
		return 0, false // it may be taken back
	}
	return 0, true
}

func lower(c byte) byte {
	if c >= 'A' && c <= 'Z' {
		return c | 0x20
	}
	return c
}

// JSON is encoded JSON whose texts hold no secrets. Names of members, numbers and the
// structure stay as they are. What cannot be decoded is replaced whole.
func (m *Mask) JSON(data []byte) []byte {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	var v any
	err := d.Decode(&v)
	if err == nil {
		data, err = json.Marshal(m.Value(v))
	}
	if err != nil {
		return []byte(strconv.Quote(Hidden))
	}
	return data
}

// Value is a value whose texts hold no secrets, in lists and maps too.
func (m *Mask) Value(v any) any {
	switch v := v.(type) {
	case string:
		return m.Hide(v)
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = m.Value(v[i])
		}
		return out
	case []string:
		out := make([]string, len(v))
		for i := range v {
			out[i] = m.Hide(v[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k := range v {
			out[k] = m.Value(v[k])
		}
		return out
	}
	return v
}
