package pattern

import (
	"encoding/hex"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"uparrot/core/source"
)

// use tells the two sides of a conversation apart: braces mean a value in said
// text and an open place in heard text.
type use int

const (
	saidText use = iota
	heardText
)

// scan cuts a text into parts.
func scan(src string, u use) ([]part, error) {
	var parts []part
	lit := func(at int, s string) { parts = append(parts, part{kind: literal, lit: s, at: at}) }
	for i := 0; i < len(src); {
		rest := src[i:]
		switch {
		case strings.HasPrefix(rest, "{{"):
			lit(i, "{")
			i += 2
		case strings.HasPrefix(rest, "}}"):
			lit(i, "}")
			i += 2
		case rest[0] == '}':
			return nil, &SyntaxError{i, 1, "a closing brace without an opening one", "A brace that the module itself sends is written twice: }}"}
		case rest[0] == '{':
			end := strings.IndexByte(rest, '}')
			if end < 0 {
				return nil, &SyntaxError{i, len(rest), "the brace is not closed", "Write } after the name, or {{ for a brace of the module's own."}
			}
			p, err := brace(rest[1:end], u)
			if err != nil {
				err.Offset, err.Width = i, end+1
				return nil, err
			}
			p.at = i
			if p.far = p.kind == exactly && p.from != "" && !hasName(parts, p.from); p.kind == exactly && p.from != "" && !p.far && !namesInt(parts, p.from) {
				at := i + strings.LastIndex(rest[:end], p.from)
				return nil, &SyntaxError{at, len(p.from), fmt.Sprintf("bytes(%s) needs an int named %q captured before it", p.from, p.from), source.DidYouMeanOr(p.from, ints(parts), "Capture the length first, such as {"+p.from+":int}.")}
			}
			if p.name != "" && hasName(parts, p.name) {
				return nil, &SyntaxError{i, end + 1, fmt.Sprintf("%q is captured twice", p.name), "Give each capture a name of its own."}
			}
			parts = append(parts, p)
			i += end + 1
		case u == heardText && strings.HasPrefix(rest, "..."):
			if n := len(parts); n == 0 || parts[n-1].kind != gap {
				parts = append(parts, part{kind: gap, at: i})
			}
			i += 3
		default:
			n := strings.IndexAny(rest[1:], "{}.")
			if n < 0 {
				n = len(rest) - 1
			}
			lit(i, rest[:n+1])
			i += n + 1
		}
	}
	return parts, nil
}

// ints are the names of parts that are whole numbers.
func ints(parts []part) (names []string) {
	for _, p := range parts {
		if namesInt([]part{p}, p.name) {
			names = append(names, p.name)
		}
	}
	return names
}

func hasName(parts []part, name string) bool {
	for _, p := range parts {
		if p.name == name {
			return true
		}
	}
	return false
}

func namesInt(parts []part, name string) bool {
	for _, p := range parts {
		if p.name == name {
			return p.kind == integer || p.pack != ""
		}
	}
	return false
}

var named = map[string]string{"cr": "\r", "lf": "\n", "tab": "\t", "esc": "\x1b", "nul": "\x00"}

// control reads the names of bytes, which both sides share.
func control(in string) (string, bool, *SyntaxError) {
	if s, ok := named[in]; ok {
		return s, true, nil
	}
	if c, ok := strings.CutPrefix(in, "ctrl-"); ok {
		if len(c) == 1 && c[0]|0x20 >= 'a' && c[0]|0x20 <= 'z' {
			return string(c[0] & 0x1f), true, nil
		}
		return "", true, &SyntaxError{What: fmt.Sprintf("there is no control byte %q", in), Mend: "Control bytes run from {ctrl-a} to {ctrl-z}."}
	}
	if h, ok := strings.CutPrefix(in, "hex "); ok {
		b, err := hex.DecodeString(strings.ReplaceAll(h, " ", ""))
		if err != nil || len(b) == 0 {
			return "", true, &SyntaxError{What: fmt.Sprintf("%q is not a row of bytes in hexadecimal", h), Mend: "Write two digits a byte, such as {hex 04 A4}."}
		}
		return string(b), true, nil
	}
	return "", false, nil
}

// brace reads what stands between two braces.
func brace(in string, u use) (part, *SyntaxError) {
	if s, ok, err := control(in); ok {
		return part{kind: literal, lit: s}, err
	}
	if u == saidText {
		if strings.TrimSpace(in) == "" {
			return part{}, &SyntaxError{What: "there is no value between the braces", Mend: "Write a name or an expression, such as {address}; {{ and }} are the braces themselves."}
		}
		e, typ := packedType(in)
		return part{kind: value, lit: e, pack: typ}, nil
	}
	if e, ok := strings.CutPrefix(in, "="); ok {
		if strings.TrimSpace(e) == "" {
			return part{}, &SyntaxError{What: "there is no expression after the =", Mend: "Write the name of the wanted value, such as {=address}."}
		}
		e, typ := packedType(e)
		return part{kind: value, lit: e, pack: typ}, nil
	}
	name, typ, typed := strings.Cut(in, ":")
	name, typ = strings.TrimSpace(name), strings.TrimSpace(typ)
	if name != "" && !IsName(name) {
		return part{}, &SyntaxError{What: fmt.Sprintf("%q cannot be the name of a capture", name), Mend: "A name is letters, digits and underscores, and begins with a letter; a wanted value is written {=expression}."}
	}
	p := part{kind: text, name: name}
	if !typed {
		return p, nil
	}
	if arg, ok := strings.CutPrefix(typ, "bytes"); ok {
		return sized(p, strings.TrimSpace(arg))
	}
	if n, ok := packings[typ]; ok {
		p.kind, p.size, p.pack = exactly, n.size, typ
		return p, nil
	}
	k, ok := kinds[typ]
	if !ok {
		return part{}, &SyntaxError{What: fmt.Sprintf("there is no type %q", typ), Mend: source.DidYouMeanOf(typ, typeNames)}
	}
	p.kind = k
	return p, nil
}

// packedType takes the type off an expression that is to be bytes of a number.
func packedType(e string) (expr, typ string) {
	i := strings.LastIndexByte(e, ':')
	if i < 0 {
		return e, ""
	}
	if typ = strings.TrimSpace(e[i+1:]); packings[typ].size == 0 {
		return e, ""
	}
	return e[:i], typ
}

func sized(p part, arg string) (part, *SyntaxError) {
	arg, open := strings.CutPrefix(arg, "(")
	arg, shut := strings.CutSuffix(arg, ")")
	arg = strings.TrimSpace(arg)
	bad := &SyntaxError{What: "bytes needs a count in parentheses", Mend: "Write a number or the name of an int captured before, such as {payload:bytes(length)}."}
	if !open || !shut {
		return part{}, bad
	}
	p.kind = exactly
	if n, err := strconv.Atoi(arg); err == nil {
		if n < 0 || n > MaxBytes {
			return part{}, &SyntaxError{What: fmt.Sprintf("bytes(%d) is outside 0..%d", n, MaxBytes)}
		}
		p.size = n
		return p, nil
	}
	if !IsName(arg) {
		return part{}, bad
	}
	p.from = arg
	return p, nil
}

// MaxBytes is the greatest count that bytes(n) takes.
const MaxBytes = 64 << 10

// IsName reports whether s can name a value: a letter, then letters, digits and
// underscores.
func IsName(s string) bool {
	for i, r := range s {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		if !letter && (i == 0 || r != '_' && (r < '0' || r > '9')) {
			return false
		}
	}
	return s != ""
}

// Said is compiled text to say: bytes with expressions between them.
type Said struct {
	source string
	parts  []part
}

// CompileSaid reads text to say, in which {expression} is its value. An error
// is a *SyntaxError.
func CompileSaid(src string) (*Said, error) {
	parts, err := scan(src, saidText)
	if err != nil {
		return nil, err
	}
	return &Said{src, parts}, nil
}

// String is the text as written.
func (s *Said) String() string { return s.source }

// Exprs are the expressions in the text, from the left.
func (s *Said) Exprs() []Expr {
	var out []Expr
	for _, p := range s.parts {
		if p.kind == value {
			out = append(out, Expr{Source: p.lit, Offset: p.at + 1})
		}
	}
	return out
}

// Fill is the text with every expression replaced by its value.
func (s *Said) Fill(eval func(expr string) (string, error)) (string, error) {
	var b strings.Builder
	for _, p := range s.parts {
		if p.kind != value {
			b.WriteString(p.lit)
			continue
		}
		v, err := eval(p.lit)
		if err != nil {
			return "", err
		}
		if p.pack != "" {
			if v, err = packValue(p.pack, v); err != nil {
				return "", err
			}
		}
		b.WriteString(v)
	}
	return b.String(), nil
}

// Template is a regular expression for what a said text can be, whatever its
// expressions come to, and the expressions in the order of its groups. Each takes
// the least that lets the rest match.
func (s *Said) Template() (*regexp.Regexp, []string) {
	var names []string
	expr := "(?s)^"
	for _, p := range s.parts {
		if p.kind == value {
			expr += "(.*?)"
			names = append(names, p.lit)
		} else {
			expr += regexp.QuoteMeta(p.lit)
		}
	}
	return regexp.MustCompile(expr + "$"), names
}
