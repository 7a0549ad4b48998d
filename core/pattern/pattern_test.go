package pattern

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"
)

func show(caps []Capture) string {
	var s []string
	for _, c := range caps {
		s = append(s, fmt.Sprintf("%s=%v", c.Name, c.Value))
	}
	return strings.Join(s, " ")
}

func TestMatch(t *testing.T) {
	const no = "no match"
	for _, c := range []struct{ pattern, line, want string }{
		{"OK", "OK", ""},
		{"OK", "OKAY", no},
		{"OK", "ok", no},
		{"DUNLIN UP ...", "DUNLIN UP 2.4.1", ""},
		{"...UP...", "DUNLIN UP 2.4.1", ""},
		{"...UP", "UP UP DOWN UP", ""},
		{"~NODE: {now:int}", "~NODE: 17", "now=17"},
		{"~NODE: {now:int}", "~NODE: -17", "now=-17"},
		{"~NODE: {now:int}", "~NODE: 17x", no},
		{"~NODE: {now:int}", "~NODE: ", no},
		{"~NODE: {now:int}", "~NODE: 1234567890123456789", no},
		{"{v:num}V {i:num}", "12.5V -3e2", "v=12.5 i=-300"},
		{"{v:num}", "5.", no},
		{"{mac:word}...", "0A:1B:2C up", "mac=0A:1B:2C"},
		{"{mac:word}...", "0A:1B:2C", "mac=0A:1B:2C"},
		{"{mac:word}...", " up", no},
		{"mac {mac:word}{rest}", "mac Türe 3", "mac=Türe rest= 3"},
		{"{mac:word}...up", "gateup", no},
		{"{mac:word}...up", "gate is up", "mac=gate"},
		{"...{mac:word}...end", "a bc end", "mac=a"},
		{"{v:hex}", "0xfE", "v=254"},
		{"{v:hex}", "xyz", no},
		{"{a:word} x {b:word}", "p x q x r", no},
		{"... x {b:word}", "p x q x r", "b=r"},
		{"{a},{b}", "1,2,3", "a=1 b=2,3"},
		{"{a},{b}", ",", "a= b="},
		{"{a:word},{b:word}", "1,2,3", "a=1 b=2,3"},
		{"{a:word}", "", no},
		{"~NAME: {n:quoted}", `~NAME: "tower, 1"`, "n=tower, 1"},
		{"~NAME: {n:quoted}", `~NAME: "tower`, no},
		{"{ip:ipv4}/{bits:int}", "10.20.255.1/24", "ip=10.20.255.1 bits=24"},
		{"{ip:ipv4}", "10.20.256.1", no},
		{"{n:int},{p:bytes(n)},{s:int}", "5,a,b,c,-80", "n=5 p=a,b,c s=-80"},
		{"{n:int},{p:bytes(n)},{s:int}", "5,a,b,-80", no},
		{"{n:int},{p:bytes(n)}", "9,abc", no},
		{"x...,{n:int},{p:bytes(n)}", "xx,2,ab", "n=2 p=ab"},
		{"{p:bytes(3)}{rest}", "abcd", "p=abc rest=d"},
		{"{{{x}}}", "{y}", "x=y"},
		{"a{tab}b{hex 21}", "a\tb!", ""},
		{"{}-{}", "a-b", ""},
		{"{x}", "bad \xff byte", no},
		{"...", "bad \xff byte", ""},
		{"bad ... byte", "bad \xff byte", ""},
		{"{x}é{y}", "aéb", "x=a y=b"},
		{"/(?P<a>[a-z]+)=(?P<b>\\d+)/", "abc=12", "a=abc b=12"},
		{"/abc/", "abcd", no},
		{"", "", ""},
		{"v1.2.3", "v1.2.3", ""},
	} {
		p, err := Compile(c.pattern)
		if err != nil {
			t.Errorf("%s: %v", c.pattern, err)
			continue
		}
		got := no
		if caps, ok := p.Match([]byte(c.line)); ok {
			got = show(caps)
		}
		if got != c.want {
			t.Errorf("%q on %q: %s, want %s", c.pattern, c.line, got, c.want)
		}
	}
}

func TestCompileMistakes(t *testing.T) {
	for _, c := range []struct {
		pattern string
		offset  int
		what    string
	}{
		{"a{b", 1, "not closed"},
		{"a}b", 1, "without an opening"},
		{"{n:itn}", 0, `no type "itn"`},
		{"{1n}", 0, "cannot be the name"},
		{"{a}{a}", 3, "captured twice"},
		{"{p:bytes}", 0, "needs a count"},
		{"{n} {p:bytes(n)}", 13, "needs an int"},
		{"{n}{p:bytes(n)}", 12, "needs an int"},
		{"{p:bytes(99999999)}", 0, "outside"},
		{"{hex 4}", 0, "hexadecimal"},
		{"{ctrl-1}", 0, "control byte"},
		{"{=}", 0, "no expression"},
		{"/(/", 0, "regular expression"},
	} {
		_, err := Compile(c.pattern)
		e, ok := errors.AsType[*SyntaxError](err)
		if !ok || e.Offset != c.offset || !strings.Contains(e.What, c.what) {
			t.Errorf("%s: %+v, want %q at %d", c.pattern, err, c.what, c.offset)
		}
	}
}

func TestBindAndSay(t *testing.T) {
	eval := func(e string) (string, error) {
		if e == "address" {
			return "3", nil
		}
		return "", errors.New("unknown " + e)
	}
	p := Must("~NODE: {=address}")
	if _, ok := p.Match([]byte("~NODE: 3")); ok {
		t.Error("an unbound pattern matched")
	}
	b, err := p.Bind(eval)
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := b.Match([]byte("~NODE: 3")); !ok {
		t.Error("the bound pattern did not match")
	}
	for _, c := range []struct{ pattern, count, line, want string }{
		{"{p:bytes(n)}", "3", "abc", "[{p abc abc}]"},
		{"R{p:bytes(n)},{s:int}", "3", "Ra,b,-7", "[{p a,b a,b} {s -7 -7}]"},
		{"{p:bytes(n)}", "3", "abcd", "[]"},
		{"{p:bytes(n)}", "0", "", "[{p  }]"},
		{"{p:bytes(n)}", "-1", "", "bytes(n): n is -1"},
		{"{p:bytes(n)}", "65537", "", "wanted a whole number from 0 to 65536"},
		{"{p:bytes(n)}", "x", "", "wanted a whole number"},
	} {
		open := Must(c.pattern)
		if _, ok := open.Match([]byte(c.line)); ok {
			t.Errorf("%s: matches before n is known", c.pattern)
		}
		if e := open.Exprs(); len(e) != 1 || e[0].Source != "n" || c.pattern[e[0].Offset:e[0].Offset+1] != "n" || !e[0].Count {
			t.Errorf("%s: %+v", c.pattern, e)
		}
		bound, err := open.Bind(func(string) (string, error) { return c.count, nil })
		if err != nil {
			if !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s with %s: %v", c.pattern, c.count, err)
			}
			continue
		}
		if caps, _ := bound.Match([]byte(c.line)); fmt.Sprint(caps) != c.want {
			t.Errorf("%s with %s: %v, want %s", c.pattern, c.count, caps, c.want)
		}
	}
	if _, err := Must("{=nothing}").Bind(eval); err == nil {
		t.Error("an unknown expression was bound")
	}
	s, err := CompileSaid("AT~NODE={address}{cr}{{x}}...")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := s.Fill(eval); err != nil || got != "AT~NODE=3\r{x}..." {
		t.Errorf("said %q, %v", got, err)
	}
}

func TestFind(t *testing.T) {
	for _, c := range []struct {
		pattern, bytes string
		start, end     int
		more           bool
	}{
		{"> ", "noise> rest", 5, 7, false},
		{"> ", "noise>", -1, -1, true},
		{"> ", "noise", -1, -1, false},
		{"{hex 02}{v:bytes(2)}{hex 03}", "\x02\x02ab\x03", 1, 5, false},
		{"{hex 02}{v:bytes(2)}{hex 03}", "x\x02a", -1, -1, true},
		{"P{n:int}", "aP12", 1, 4, true},
		{"P{n:int};", "aP12;", 1, 5, false},
		{"a...b", "xaabb", 1, 4, false},
		{"a...b", "xaac", -1, -1, true},
	} {
		start, end, _, more := Must(c.pattern).Find([]byte(c.bytes))
		if start != c.start || end != c.end || more != c.more {
			t.Errorf("%q in %q: %d..%d more=%v, want %d..%d more=%v", c.pattern, c.bytes, start, end, more, c.start, c.end, c.more)
		}
	}
}

func TestWants(t *testing.T) {
	p := Must("~HEARD: {from:int},{n:int},{payload:bytes(n)}")
	for line, want := range map[string]int{
		"~HEARD: 2,5,ab":   17,
		"~HEARD: 2,5,abcd": 17,
		"~HEARD: 2,5":      0,
		"~NODE: 5":         0,
	} {
		if got := p.Wants([]byte(line)); got != want {
			t.Errorf("%q: %d, want %d", line, got, want)
		}
	}
}

// A set must find exactly what trying each pattern finds.
func TestSetAgreesWithEach(t *testing.T) {
	words := []string{"A", "AB", "B", "BA", "~X: ", "...", "{:int}", "{}", ","}
	rng := rand.New(rand.NewPCG(1, 2))
	for round := range 300 {
		var patterns []*Pattern
		for range 20 {
			var s strings.Builder
			for range 1 + rng.IntN(4) {
				s.WriteString(words[rng.IntN(len(words))])
			}
			patterns = append(patterns, Must(s.String()))
		}
		set := NewSet(patterns)
		for range 20 {
			var l strings.Builder
			for range rng.IntN(6) {
				l.WriteString([]string{"A", "B", "~X: ", "7", ",", " "}[rng.IntN(6)])
			}
			var want, got []int
			for i, p := range patterns {
				if _, ok := p.Match([]byte(l.String())); ok {
					want = append(want, i)
				}
			}
			set.Match([]byte(l.String()), func(i int, _ []Capture) bool { got = append(got, i); return true })
			if fmt.Sprint(want) != fmt.Sprint(got) {
				t.Fatalf("round %d, line %q: set %v, each %v of %v", round, l.String(), got, want, patterns)
			}
		}
	}
}

// FuzzMatch holds the matcher against the regular expression that means the
// same, for patterns of literals, gaps and numbers.
func FuzzMatch(f *testing.F) {
	f.Add("~NODE: {a:int}", "~NODE: 5")
	f.Add("...x...{a:int}", "xx12")
	f.Add("{a}{b:word} {c:bytes(2)}", "one two three")
	f.Fuzz(func(t *testing.T, src, line string) {
		p, err := Compile(src)
		if err != nil {
			return
		}
		caps, ok := p.Match([]byte(line))
		p.Find([]byte(line))
		p.Wants([]byte(line))
		if p.re == nil && len(line) > 0 {
			p.NearMiss([]byte(line))
		}
		var re strings.Builder
		for _, q := range p.parts {
			switch q.kind {
			case literal:
				re.WriteString(regexp.QuoteMeta(q.lit))
			case gap:
				re.WriteString("(?s:.)*")
			default:
				return // other kinds have their own meaning
			}
		}
		if p.re != nil || !utf8.ValidString(line) || !utf8.ValidString(re.String()) {
			return // regexp reads bad UTF-8 its own way
		}
		if want := regexp.MustCompile("^" + re.String() + "$").MatchString(line); want != ok {
			t.Errorf("%q on %q: %v (%v), want %v", src, line, ok, caps, want)
		}
	})
}

func BenchmarkSet100(b *testing.B) {
	var patterns []*Pattern
	for i := range 100 {
		patterns = append(patterns, Must(fmt.Sprintf("~VALUE%02d: {v:int}", i)))
	}
	set := NewSet(patterns)
	line := []byte("~STATUS: 12,on,off,17.5,23.1,ok")
	b.Run("set", func(b *testing.B) {
		for b.Loop() {
			set.Match(line, func(int, []Capture) bool { return false })
		}
	})
	b.Run("each", func(b *testing.B) {
		for b.Loop() {
			for _, p := range patterns {
				p.Match(line)
			}
		}
	})
}

// An example is a line that its pattern takes, with the values asked for.
func TestExample(t *testing.T) {
	for _, c := range []struct {
		pattern string
		values  map[string]string
		want    string
	}{
		{"~NODE: {value:int}", map[string]string{"value": "7"}, "~NODE: 7"},
		{"~NODE: {value:int}", nil, "~NODE: 1"},
		{"name {value:quoted}!", map[string]string{"value": "lift 4"}, `name "lift 4"!`},
		{"~HEARD: {from:int},{n:int},{payload:bytes(n)}", map[string]string{"payload": "gondola"}, "~HEARD: 1,7,gondola"},
		{"~HEARD: {n:int},{payload:bytes(n)}", map[string]string{"n": "3"}, "~HEARD: 3,xxx"},
		{"{a:hex} {b:num} {c:word} {d:ipv4} {e} ...{{", nil, "1A 1.5 word 192.0.2.1 text {"},
		{"{hex 00 41}{x:bytes(2)}", nil, "\x00Axx"},
		{"/regular.*/", nil, ""},
	} {
		p := Must(c.pattern)
		got := p.Example(c.values)
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.pattern, got, c.want)
		}
		if p.re == nil {
			if _, ok := p.Match([]byte(got)); !ok {
				t.Errorf("%s does not take its own example %q", c.pattern, got)
			}
		}
	}
	if got := Must("a {x:int} ... b{=y}").Outline("_"); got != "a _ _ b_" {
		t.Errorf("outline %q", got)
	}
}
