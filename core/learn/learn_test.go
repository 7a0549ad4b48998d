package learn

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/record/conversation"
)

var noon = time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)

// hand records a conversation: each line begins with the port and > for what is
// said or < for what is heard. What is said ends with CR, but for what ends with a
// bar; what is heard is a line, but for what ends with a bar. A line with + lets
// time go by.
func hand(t testing.TB, setup string, lines ...string) []*conversation.Talk {
	t.Helper()
	var buf bytes.Buffer
	w := record.New(&buf, record.Origin{Began: noon})
	at := noon
	opened := map[string]bool{}
	for _, l := range lines {
		if wait, ok := strings.CutPrefix(l, "+"); ok {
			d, err := time.ParseDuration(wait)
			if err != nil {
				t.Fatal(err)
			}
			at = at.Add(d)
			continue
		}
		at = at.Add(10 * time.Millisecond)
		i := strings.IndexAny(l, "<>")
		port, text := l[:i], l[i+1:]
		if !opened[port] {
			opened[port] = true
			w.Event(record.Event{Time: at, Kind: record.Open, Port: port, Data: []byte(`{` + setup + `,"speed":9600,"frame":"8N1","ending":"cr"}`)})
		}
		kind, end := record.In, "\r\n"
		if l[i] == '>' {
			kind, end = record.Out, "\r"
		}
		if bare, ok := strings.CutSuffix(text, "|"); ok {
			text, end = bare, ""
		}
		w.Bytes(at, kind, port, []byte(text+end))
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	talks, _, err := conversation.Read(&buf)
	if err != nil {
		t.Fatal(err)
	}
	return talks
}

// What is learned from conversations of each sort: behind the header, the lines
// that must be there, and no others.
func TestProcedure(t *testing.T) {
	book, err := phrasebook.Parse("b.toml", `family = "Dunlin"
dialect = "at"
[refusal]
heard = ["~REFUSED: {number:int}"]
[[notice]]
name = "message"
heard = "~HEARD: {from:int},{strength:int},{length:int},{payload:bytes(length)}"
[[setting]]
name = "address"
type = "int"
range = [1, 99]
read = "AT~NODE?"
answer = "~NODE: {value:int}"
write = "AT~NODE={value}"
[carrier]
send = "AT~TELL={to},{length},{payload}"
arrives = "~HEARD: {from:int},{strength:int},{length:int},{payload:bytes(length)}"
address = "address"
broadcast = "0"
greatest = 90
allowed = "text"
`)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "w.toml")
	text := "family = \"Plover\"\ndialect = \"bytes\"\n[[packet]]\nname = \"wind\"\nbytes = \"{hex A7}{speed:u16}{from:u16}{sum:u8}\"\nmade = { sum = \"sum8(before)\" }\n" +
		"[[packet]]\nname = \"set\"\nbytes = \"S{value:u8}{letter:bytes(1)}\"\n"
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	wind, err := phrasebook.Read(path)
	if err != nil {
		t.Fatal(err)
	}
	const at, lines, console, raw = `"dialect":"at"`, `"dialect":"lines"`, `"dialect":"console","prompt":"B1>"`, `"dialect":"bytes"`
	for name, c := range map[string]struct {
		setup string
		book  *phrasebook.Phrasebook
		said  []string
		want  string
	}{
		"an answer and its end": {at, nil, []string{"v>ATI3", "v<ATI3", "v<2.4.1", "v<OK"},
			`step "say ATI3"; say v: ATI3; hear v: 2.4.1; end`},
		"tries until it answers": {at, nil, []string{"v>AT", "+2s", "v>AT", "+2s", "v>AT", "v<OK"},
			`step "say AT" tries 3 every 2s; say v: AT; end`},
		"refused, mistyped, and then right": {at, nil, []string{"v>AT~LAMP=9", "v<ERROR", "v>AT~LAMP=1", "v<OK"},
			`# Left out: AT~LAMP=9 (refused: ERROR); step "say AT~LAMP=1"; say v: AT~LAMP=1; end`},
		"an answer that came late": {at, nil, []string{"v>AT~MEET", "v<OK", "+3s", "v<joined", "v>AT", "v<OK"},
			`step "say AT~MEET"; say v: AT~MEET; hear later v within 9s: joined; end; step "say AT"; say v: AT; end`},
		"what varies": {at, nil, []string{"v>AT~AIR?", "v<rssi -71 count 5", "v<OK", "v>AT", "v<OK", "v>AT~AIR?", "v<rssi -72 count 6", "v<OK"},
			`step "say AT~AIR?"; say v: AT~AIR?; hear v: rssi {rssi:int} count {count:int}; end; step "say AT"; say v: AT; end; step "say AT~AIR? (2)"; say v: AT~AIR?; hear v: rssi {rssi_2:int} count {count_2:int}; end`},
		"made of an earlier answer": {at, nil, []string{"v>AT~SEEN?", "v<id: a1:b2:c3", "v<OK", "v>AT~USE=A1B2C3", "v<used A1B2C3", "v<OK"},
			`step "say AT~SEEN?"; say v: AT~SEEN?; hear v: id: {id:word}; end; step "say AT~USE=A1B2C3"; say v: AT~USE={upper(replace(id, ":", ""))}; hear v: used {=upper(replace(id, ":", ""))}; end`},
		"marks exchanged": {at, nil, []string{"v>AT~SEEN?", "v<id: a1:b2:c3", "v<OK", "v>AT~USE=a1-b2-c3", "v<OK"},
			`step "say AT~SEEN?"; say v: AT~SEEN?; hear v: id: {id:word}; end; step "say AT~USE=a1-b2-c3"; say v: AT~USE={replace(id, ":", "-")}; end`},
		"in hexadecimal digits": {at, nil, []string{"v>AT~SERIAL?", "v<serial 48657", "v<OK", "v>AT~LOCK=BE11", "v<OK"},
			`step "say AT~SERIAL?"; say v: AT~SERIAL?; hear v: serial {serial:word}; end; step "say AT~LOCK=BE11"; say v: AT~LOCK={hex(int(serial))}; end`},
		"from hexadecimal digits": {at, nil, []string{"v>AT~SERIAL?", "v<serial be11", "v<OK", "v>AT~LOCK=48657", "v<OK"},
			`step "say AT~SERIAL?"; say v: AT~SERIAL?; hear v: serial {serial:word}; end; step "say AT~LOCK=48657"; say v: AT~LOCK={unhex(serial)}; end`},
		"bytes with a sum": {raw, nil, []string{"v>W|", "v<\xa7\x00\x10\xb7|", "v>W|", "v<\xa7\x01\x11\xb9|"},
			`step "say W"; say bytes v: W; hear bytes v: {hex A7}{answer:bytes(2)}{sum:u8}; check sum == sum8(char(0xA7) + answer) "the sum of the answer"; end`},
		"a sum without the first byte": {raw, nil, []string{"v>W|", "v<\xa7\x00\x10\x10|", "v>W|", "v<\xa7\x01\x12\x13|"},
			`step "say W"; say bytes v: W; hear bytes v: {hex A7}{answer:bytes(2)}{sum:u8}; check sum == sum8(answer) "the sum of the answer"; end`},
		"a length and a check by a standard": {raw, nil, []string{"v>A|", "v<\xa5\x02hi\x47\x5f|", "v>A|", "v<\xa5\x03hey\xbb\x44|"},
			`step "say A"; say bytes v: A; hear bytes v: {hex A5}{length:u8}{answer:bytes(length)}{sum:u16}; check sum == crc16(char(0xA5) + u8(length) + answer, "v.41") "the sum of the answer"; end`},
		"one answer alone proves no sum": {raw, nil, []string{"v>W|", "v<\xa7\x00\x10\xb7|"},
			`step "say W"; say bytes v: W; hear bytes v: {hex A7}{answer:bytes(3)}; end`},
		"answers of other lengths that nothing counts": {raw, nil, []string{"v>W|", "v<\xa7\x00\x10|", "v>W|", "v<\xa7\x01|"},
			`step "say W"; say bytes v: W; hear bytes v: {hex A7}; end`},
		"packets of the phrasebook": {raw, wind, []string{"v>W|", "v<\xa7\x00\x41\x00\xd0\xb8|", "v>S\x05X|", "v<\xee|"},
			`step "say W"; say bytes v: W; hear packet v: wind; end; step "say S X"; say packet v: set(value = 5, letter = "X"); hear bytes v: {hex EE}; end`},
		"a packet whose sum is wrong is none": {raw, wind, []string{"v>W|", "v<\xa7\x00\x41\x00\xd0\xb9|"},
			`step "say W"; say bytes v: W; hear bytes v: {hex A7}{answer:bytes(5)}; end`},
		"one of several": {lines, nil, []string{"v>seek", "v<peer 00a1", "v<peer 00b2", "v>join 00b2", "v<done"},
			`input peer: text = "00b2" "which one is meant"; step "say seek"; say v: seek; hear v: peer {=peer}; end; step "say join 00b2"; say v: join {peer}; hear v: done; end`},
		"a setting, before and after": {at, book, []string{"v>AT~NODE?", "v<~NODE: 3", "v<OK", "v>AT~NODE=7", "v<OK", "v>AT~NODE?", "v<~NODE: 7", "v<OK"},
			`input address: int 1..99 = 7; step "address is as found"; say v: AT~NODE?; hear v: ~NODE: {address_found:int}; end; step "address is set"; say v: AT~NODE={address}; say v: AT~NODE?; hear v: ~NODE: {=address}; end`},
		"a message to the other end": {at, book, []string{"s>AT", "s<OK", "v>AT~TELL=2,5,hello", "v<OK", "s<~HEARD: 1,-110,5,hello"},
			`step "s: say AT"; say s: AT; end; step "v: a message is sent"; say v: AT~TELL=2,5,hello; hear s: ~HEARD: {from:int},{strength:int},5,hello; end`},
		"a prompt in the middle": {at, nil, []string{"v>AT~PASS=5", "v<> |", "v>hello|", "v<sent", "v<OK"},
			`step "say AT~PASS=5"; say v: AT~PASS=5; hear bytes v: >; say bytes v: hello; hear v: sent; end`},
		"a login": {console, nil, []string{"v>", "v<name: |", "v>ops", "v<ops", "v<code: |", "v>[secret]", "v<welcome", "v<B1> |"},
			`secret password "what was said here stands in no record"; step "Enter is answered"; say v:; hear bytes v: name:; say v: ops; hear bytes v: code:; say v: {password}; hear v: welcome; end`},
		"a long answer": {console, nil, []string{"v>help", "v<one", "v<two", "v<three", "v<four", "v<five", "v<six", "v<B1> |"},
			`step "say help"; say v: help; hear v: one; end`},
		"bytes": {raw, nil, []string{"v>I|", "v<\xa8\x02\x01\x07|", "v>W|", "v<\xa7\x00\x10|", "v>W|", "v<\xa7\x00\x11|"},
			`step "say I"; say bytes v: I; hear bytes v: {hex A8}{answer:bytes(3)}; end; step "say W"; say bytes v: W; hear bytes v: {hex A7 00}{answer_2:bytes(1)}; end`},
		"marks of the language": {lines, nil, []string{"v>a {b} \"c", "v</x/", "v< \x1b[31mred\x1b[0m ", "v>/y/", "v<\"q\""},
			`step "say a {b} \"c"; say v: a {{b}} "c; hear v: {hex 2F}x/; hear v: red; end; step "say /y/"; say v: {hex 2F}y/; hear v: {hex 22}q"; end`},
	} {
		books := map[string]Book{}
		if c.book != nil {
			books = map[string]Book{"v": {"", c.book}, "s": {"", c.book}}
			if c.book == wind { // its packets are known only where the procedure names it
				books = map[string]Book{"v": {path, c.book}}
			}
		}
		text, err := Procedure("p.parrot", "By hand", "Learned.", Source{Talks: hand(t, c.setup, c.said...), Books: books})
		if err != nil {
			t.Errorf("%s: %v\n%s", name, err, text)
			continue
		}
		var got []string
		for _, l := range strings.Split(text, "\n") {
			if l = strings.TrimSpace(l); l != "" && !strings.HasPrefix(l, "procedure") && !strings.HasPrefix(l, "about") && !strings.HasPrefix(l, "port ") {
				got = append(got, l)
			}
		}
		if got := strings.Join(got, "; "); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, c.want)
		}
	}
	if _, err := Procedure("p.parrot", "By hand", "", Source{Talks: hand(t, lines, "v<nothing was said")}); err == nil || !strings.Contains(err.Error(), "nothing to learn") {
		t.Errorf("of nothing: %v", err)
	}
}

// Of the same done to several units, what differs becomes an input where it was said, and
// a capture where it was heard; what only some were told is told.
func TestSeveralUnits(t *testing.T) {
	const at = `"dialect":"at"`
	unit := func(serial, id, node, more string) []*conversation.Talk {
		lines := []string{"v>ATI", "v<serial " + serial, "v<OK", "v>AT~BIND=" + strings.ToUpper(id), "v<bound", "v<OK", "v>AT~ID?", "v<id: " + id, "v<OK", "v>AT~NODE=" + node, "v<OK", "v>AT~NODE?", "v<node " + node, "v<OK",
			"v>AT~USE=" + strings.ToUpper(id), "v<OK"}
		if more != "" {
			lines = append(lines, "v>"+more, "v<OK")
		}
		return hand(t, at, lines...)
	}
	text, err := Procedure("p.parrot", "T", "t", Source{Talks: unit("LK-100", "a1b2", "3", "AT~LAMP=1"),
		More: []Unit{{"b.record", unit("LK-207", "c3d4", "12", "")}, {"c.record", unit("LK-300", "e5f6", "7", "AT~HORN=1")}}})
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		"input at_node: int = 3 \"another for each unit\"", "say v: AT~NODE={at_node}", "hear v: node {=at_node}", "hear v: serial {serial:word}",
		"input at_bind: text = \"A1B2\" \"another for each unit\"", "say v: AT~BIND={at_bind}", "hear v: id: {id:word}", "say v: AT~USE={at_bind}", "# Not said in b.record: AT~LAMP=1", "# Said only in c.record, and left out: AT~HORN=1",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("missing %s in\n%s", want, text)
		}
	}
	// What would make a word of one unit's answer does not for the others: it is no reference.
	made := func(serial, key string) []*conversation.Talk {
		return hand(t, at, "v>ATI", "v<serial "+serial, "v<OK", "v>AT~KEY="+key, "v<OK")
	}
	text, err = Procedure("p.parrot", "T", "t", Source{Talks: made("a1b2", "A1B2"), More: []Unit{{"b.record", made("c3d4", "FFFF")}}})
	if err != nil || strings.Contains(text, "upper(") || !strings.Contains(text, "input at_key") {
		t.Errorf("%v\n%s", err, text)
	}
	text, err = Procedure("p.parrot", "T", "t", Source{Talks: made("a1b2", "A1B2"), More: []Unit{{"b.record", made("c3d4", "C3D4")}}})
	if err != nil || !strings.Contains(text, "AT~KEY={upper(serial)}") {
		t.Errorf("%v\n%s", err, text)
	}
}

// Whatever a record holds, what is learned is in the standard layout and has no
// mistakes.
func FuzzProcedure(f *testing.F) {
	f.Add("at", "AT~SEEN?", "id: a1:b2", "AT~USE=a1b2", "{x} \"y\" /z/")
	f.Add("console", "", "name: ", "\x00\xff", "limit x in 1..2")
	f.Add("console", "", "0", " ", "")                          // nothing is answered
	f.Add("0", "\"\"", "\xda", "˸", "\xe9>;#S")                 // quotes round nothing
	f.Add("0", "0", "`v: a1:b2", "10BY1=a1b\x12", "7x8a c 0bB") // a value called as a port
	f.Add("lines", "0", "8"+strings.Repeat("\xab", 3000), "\x00\xff", "0 0 .")
	f.Add("bytes", "\x01", "\xa7\x00", "W", "…“”")
	f.Fuzz(func(t *testing.T, dialect, a, b, c, d string) {
		switch dialect {
		case "at", "console", "lines", "bytes":
		default:
			dialect = "lines"
		}
		for _, s := range []*string{&a, &b, &c, &d} {
			*s = strings.NewReplacer("\r", "", "\n", "", "|", "").Replace(*s)
		}
		talks := hand(t, `"dialect":"`+dialect+`"`, "v>"+a, "v<"+b, "v>"+c, "v<"+d, "w>"+b, "w<"+a+"|", "v>"+a, "v<"+d)
		text, err := Procedure("p.parrot", "By hand", "Learned.", Source{Talks: talks})
		if err != nil && strings.Contains(err.Error(), "nothing to learn") {
			return
		}
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		if again, err := procedure.Tidy("p.parrot", text); err != nil || again != text && again+"\n" != text {
			t.Fatalf("tidy: %v\n%s\n---\n%s", err, again, text)
		}
	})
}
