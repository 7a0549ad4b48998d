package procedure

import (
	"fmt"
	"hash/crc32"
	"math/bits"
	"slices"
	"strings"

	"github.com/expr-lang/expr/ast"

	"uparrot/core/pattern"
	"uparrot/core/source"
	"uparrot/core/text"
)

// Functions for packets: numbers as bytes both ways, and what proves a packet whole.
func init() {
	for _, typ := range pattern.Packings() {
		ourFunctions[typ] = function{func(args ...any) (any, error) { return packOf(typ, args[0]) }, []any{new(func(int) string), new(func(string) int)}}
	}
	for name, f := range map[string]function{
		"sum8": {func(args ...any) (any, error) {
			return bytewise("sum8", args[0], sum8)
		}, []any{new(func(string) int)}},
		"xor8": {func(args ...any) (any, error) {
			return bytewise("xor8", args[0], xor8)
		}, []any{new(func(string) int)}},
		"crc16": {crc16Of, []any{new(func(string, string) int)}},
		"crc32": {crc32Of, []any{new(func(string) int), new(func(string, string) int)}},
		"bits":  {bitsOf, []any{new(func(int, int, int) int)}},
	} {
		ourFunctions[name] = f
	}
}

// packOf is a number as bytes, or bytes as a number.
func packOf(typ string, v any) (any, error) {
	switch v := v.(type) {
	case int:
		return pattern.Pack(typ, v)
	case string:
		return pattern.Unpack(typ, v)
	}
	return nil, fmt.Errorf("%s takes a whole number or bytes, not %v", typ, v)
}

func bytewise(name string, v any, sum func([]byte) uint32) (any, error) {
	text, ok := v.(string)
	if !ok {
		return nil, fmt.Errorf("%s takes bytes, not %v", name, v)
	}
	return int(sum([]byte(text))), nil
}

// crc16s are the cyclic redundancy checks with the polynomial x^16+x^12+x^5+1, by the
// standards that define them: what the register holds at first, whether each byte goes in
// with its lowest bit first, and what the result is combined with.
var crc16s = map[string]struct {
	begin   uint16
	lowest  bool
	combine uint16
}{
	"v.41":      {0, false, 0},           // ITU-T V.41
	"v.42":      {0xffff, true, 0xffff},  // ITU-T V.42, 8.1.1.6.1
	"iso13239":  {0xffff, true, 0xffff},  // ISO/IEC 13239, 4.2.5.2
	"iso14443a": {0xc6c6, true, 0},       // ISO/IEC 14443-3, annex B, type A
	"iso14443b": {0xffff, true, 0xffff},  // ISO/IEC 14443-3, annex B, type B
	"iso18000":  {0xffff, false, 0xffff}, // ISO/IEC 18000-63, annex F
}

// standards are the names that the second value of a check may have, by its function.
var standards = map[string][]string{"crc16": keys(crc16s), "crc32": {"v.42", "iso13239"}}

// bareFunction is a function of ours that stands in a tree without its parentheses; "" if none does.
func bareFunction(node ast.Node) string {
	v := &bareSeeker{called: map[ast.Node]bool{}}
	ast.Walk(&node, v)
	for _, id := range v.named {
		if !v.called[id] && isFunction(id.Value) {
			return id.Value
		}
	}
	return ""
}

type bareSeeker struct {
	called map[ast.Node]bool
	named  []*ast.IdentifierNode
}

func (v *bareSeeker) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.CallNode:
		v.called[n.Callee] = true
	case *ast.IdentifierNode:
		v.named = append(v.named, n)
	}
}

// unknownStandard finds a check by a standard that there is not, as far as its name stands
// there.
func unknownStandard(node ast.Node) (what string, mend string) {
	v := &standardSeeker{}
	ast.Walk(&node, v)
	return v.what, v.mend
}

type standardSeeker struct{ what, mend string }

func (v *standardSeeker) Visit(node *ast.Node) {
	call, ok := (*node).(*ast.CallNode)
	if !ok || len(call.Arguments) != 2 {
		return
	}
	name, _ := call.Callee.(*ast.IdentifierNode)
	by, _ := call.Arguments[1].(*ast.StringNode)
	if name == nil || by == nil || standards[name.Value] == nil || slices.Contains(standards[name.Value], strings.ToLower(by.Value)) {
		return
	}
	v.what, v.mend = fmt.Sprintf("%s knows no standard %q", name.Value, by.Value), source.DidYouMean(by.Value, standards[name.Value])
}

// Sum is a way to prove bytes whole: a check that the language works out too.
type Sum struct {
	Call  string // in the language, of bytes that stand as %s
	Bytes int    // that the check has
	Of    func(b []byte) uint32
}

// Sums are the checks that the language knows, each standard by itself.
func Sums() []Sum {
	all := []Sum{{"sum8(%s)", 1, sum8}, {"xor8(%s)", 1, xor8}}
	for _, by := range standards["crc16"] {
		all = append(all, Sum{fmt.Sprintf("crc16(%%s, %q)", by), 2, func(b []byte) uint32 { return uint32(CRC16(by, b)) }})
	}
	return append(all, Sum{"crc32(%s)", 4, crc32.ChecksumIEEE})
}

func sum8(b []byte) uint32 {
	sum := byte(0)
	for _, c := range b {
		sum += c
	}
	return uint32(sum)
}

func xor8(b []byte) uint32 {
	sum := byte(0)
	for _, c := range b {
		sum ^= c
	}
	return uint32(sum)
}

// crc16Of is the check of bytes by a standard.
func crc16Of(args ...any) (any, error) {
	text, ok1 := args[0].(string)
	by, ok2 := args[1].(string)
	_, known := crc16s[strings.ToLower(by)]
	if !ok1 || !ok2 || !known {
		return nil, fmt.Errorf("crc16 takes bytes and the name of a standard: %s", source.DidYouMean(by, keys(crc16s)))
	}
	return int(CRC16(by, []byte(text))), nil
}

// CRC16 is the check of bytes by a standard, one of Standards.
func CRC16(by string, b []byte) uint16 {
	c := crc16s[strings.ToLower(by)]
	reg := c.begin
	for _, one := range b {
		if c.lowest {
			one = bits.Reverse8(one)
		}
		reg = step16(reg, one)
	}
	if c.lowest {
		reg = bits.Reverse16(reg)
	}
	return reg ^ c.combine
}

// Standards are the names of the standards by which a check is worked out: crc16 or crc32.
func Standards(check string) []string { return standards[check] }

func step16(reg uint16, b byte) uint16 {
	reg ^= uint16(b) << 8
	for range 8 {
		if reg&0x8000 != 0 {
			reg = reg<<1 ^ 0x1021
		} else {
			reg <<= 1
		}
	}
	return reg
}

// crc32Of is the check of 32 bits of ITU-T V.42 (8.1.1.6.2) and ISO/IEC 13239.
func crc32Of(args ...any) (any, error) {
	text, ok := args[0].(string)
	by := "v.42"
	if len(args) > 1 {
		by, _ = args[1].(string)
	}
	if !ok || !slices.Contains(standards["crc32"], strings.ToLower(by)) {
		return nil, fmt.Errorf("crc32 takes bytes, and v.42 or iso13239, which are the same")
	}
	return pattern.Int(int64(crc32.ChecksumIEEE([]byte(text))))
}

// bitsOf is so many bits of a number, from one on; bit 0 is the lowest.
func bitsOf(args ...any) (any, error) {
	n, ok1 := args[0].(int)
	from, ok2 := args[1].(int)
	count, ok3 := args[2].(int)
	if !ok1 || !ok2 || !ok3 || from < 0 || count < 1 || from+count > 63 {
		return nil, fmt.Errorf("bits takes a whole number, the lowest bit from 0 and how many, 63 at most: not %v", args)
	}
	return n >> from & (1<<count - 1), nil
}

// OfBytes reports whether an expression makes its number out of bytes, or writes one in
// hexadecimal.
func (e *Expr) OfBytes() bool { return ofBytes().MatchString(e.Source) }

var ofBytes = text.Regexp(`\b(?:byte|uint|bits|sum8|xor8|crc16|crc32|[ui](?:8|16|32)(?:le)?)\(|\b0x`)
