package talk

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/text"
)

func TestLog(t *testing.T) {
	var l Log
	at := time.Date(2026, 11, 2, 7, 30, 0, 0, time.UTC)
	l.Add(at, Said, []byte("AT~NODE?\r"))
	for i, part := range []string{"\r\n~NO", "DE: 7\r", "\n\r\nOK\r\n> "} {
		l.Add(at.Add(time.Duration(i+1)*time.Millisecond), Heard, []byte(part))
	}
	l.Add(at.Add(time.Second), Note, []byte("speed is 9600"))
	l.Add(at.Add(2*time.Second), Heard, []byte("late"))
	var got []string
	for i, line := range l.Lines {
		var before *Row
		if i > 0 {
			before = &l.Lines[i-1]
		}
		got = append(got, fmt.Sprintf("%d %s|%s|open=%v", line.Kind, strings.TrimSpace(SinceLast.Stamp(line, before)), text.Shown(line.Bytes), line.Open))
	}
	want := "1 07:30:00.000|AT~NODE?|open=false,0 0.001s||open=false,0 0.000s|~NODE: 7|open=false,0 0.002s||open=false,0 0.000s|OK|open=false,0 0.000s|> |open=false,2 0.997s|speed is 9600|open=false,0 1.000s|late|open=true"
	if s := strings.Join(got, ","); s != want {
		t.Errorf("got\n%s\nwant\n%s", s, want)
	}
	for _, c := range []struct {
		words  string
		before int
		want   int
	}{{"node", 99, 2}, {"node", 2, 0}, {"node", 0, -1}, {"nothing", 99, -1}} {
		if got := l.Search(c.words, c.before); got != c.want {
			t.Errorf("%s before %d: %d, want %d", c.words, c.before, got, c.want)
		}
	}
	// A line end that comes in two halves, with something said between.
	var m Log
	m.Add(at, Heard, []byte("OK\r"))
	m.Add(at, Said, []byte("AT\r"))
	m.Add(at, Heard, []byte("\nOK"))
	m.Add(at, Note, []byte("gone"))
	m.Add(at, Heard, []byte("\n"))
	got = nil
	for _, line := range m.Lines {
		got = append(got, fmt.Sprintf("%q %v", line.Bytes, line.Open))
	}
	if s := strings.Join(got, ","); s != `"OK\r\n" false,"AT\r" false,"OK" false,"gone" false,"\n" false` {
		t.Errorf("got %s", s)
	}
	for range 3 * maxLines {
		l.Add(at, Heard, []byte("x\n"))
	}
	l.Add(at, Heard, make([]byte, 10*maxLine))
	if len(l.Lines) > maxLines || l.Gone < maxLines {
		t.Errorf("%d lines kept, %d gone", len(l.Lines), l.Gone)
	}
}

func TestViews(t *testing.T) {
	line := Row{Kind: Heard, Bytes: []byte("\x1b[31mAlarm\x1b[0m \x07\xff0123456789\r\n")}
	for v, want := range map[View]string{
		AsText: `Alarm \x07\xff0123456789`,
		AsHex:  "1B 5B 33 31 6D 41 6C 61 72 6D 1B 5B 30 6D 20 07|FF 30 31 32 33 34 35 36 37 38 39 0D 0A",
		AsBoth: "1B 5B 33 31 6D 41 6C 61 72 6D 1B 5B 30 6D 20 07  .[31mAlarm.[0m .|FF 30 31 32 33 34 35 36 37 38 39 0D 0A           .0123456789..",
	} {
		if got := strings.Join(v.Rows(line), "|"); got != want {
			t.Errorf("%v: %q, want %q", v, got, want)
		}
	}
	if AsBoth.Next() != AsText || NoTimes.Next() != Clock || NoTimes.Stamp(line, nil) != "" {
		t.Error("views and times do not go round")
	}
}

func TestWords(t *testing.T) {
	pb, err := phrasebook.Read("../../examples/dunlin.toml")
	if err != nil {
		t.Fatal(err)
	}
	all := Phrases(pb)
	lookup := func(name string) (string, error) {
		if name != "door" {
			return "", errors.New("there is no " + name)
		}
		return "snow{line}", nil
	}
	for _, c := range []struct {
		typed, text string
		whole       bool
		err         string
	}{
		{"AT~NODE?", "AT~NODE?", false, ""},
		{"", "", false, ""},
		{"hello{ctrl-z}", "hello\x1a", true, ""},
		{"{hex 04 A4}", "\x04\xa4", false, ""},
		{"{esc}", "\x1b", true, ""},
		{"{{json}}", "{json}", false, ""},
		{"{x", "", false, "not closed"},
		{"{name}", "", false, "no name of a byte"},
		{"@address", "AT~NODE?", false, ""},
		{"@1", "AT~NODE?", false, ""},
		{"@address=5", "AT~NODE=5", false, ""},
		{"@name=tower 1", `AT~NAME="tower 1"`, false, ""},
		{"@address=0", "", false, "from 1 to 65534"},
		{"@adress", "", false, `Did you mean "address"?`},
		{"@@home", "@home", false, ""},
		{"AT~KEY={secret door}", "AT~KEY=snow{line}", false, ""},
		{"{secret gate}", "", false, "there is no gate"},
	} {
		words, err := Parse(all, c.typed, lookup)
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%q: %v, want %q", c.typed, err, c.err)
			}
			continue
		}
		if err != nil || words.Text != c.text || words.Whole != c.whole {
			t.Errorf("%q: %+v %v, want %q %v", c.typed, words, err, c.text, c.whole)
		}
	}
	if _, err := Parse(nil, "@x", nil); err == nil || !strings.Contains(err.Error(), "no phrasebook") {
		t.Error(err)
	}
	for typed, want := range map[string]string{
		"@a": "address", "@p": "power", "@1": "address", "@x": "", "AT": "", "@address=5": "address", "@@a": "",
		"@transmitted": "power", "@output dbm": "", "@AT~RES": "AT~RESTART",
	} {
		got := ""
		if found := Matches(all, typed); len(found) > 0 {
			got = found[0].Name
		}
		if got != want {
			t.Errorf("%q is %q, want %q", typed, got, want)
		}
	}
	if got := len(Matches(all, "@")); got != len(pb.Settings)+len(pb.Commands) || len(Matches(all, "@3")) == 0 {
		t.Errorf("%d phrases", got)
	}
	// Fields are filled in one after the other.
	typed := Phrase{Name: withFields("AT~OPEN={socket},{length}{cr}")}.Typed()
	for _, want := range []string{"socket", "length"} {
		if _, err := Parse(all, typed, lookup); err == nil || !strings.Contains(err.Error(), want+" is still to be filled in") {
			t.Errorf("%q: %v", typed, err)
		}
		start, end, name, ok := NextField(typed, 0)
		if !ok || name != want {
			t.Errorf("%q: the next field is %q", typed, name)
		}
		if _, _, name, _ = NextField(typed, len(typed)); name != want { // round and round
			t.Errorf("%q: the field after the last is %q", typed, name)
		}
		typed = typed[:start] + "7" + typed[end:]
	}
	if words, err := Parse(all, typed, lookup); err != nil || words.Text != "AT~OPEN=7,7\r" {
		t.Errorf("%+v, %v", words, err)
	}
}

// BenchmarkToScreen is what a byte costs from the port's read to the row on the
// screen, beside copying it.
func BenchmarkToScreen(b *testing.B) {
	chunk := []byte(strings.Repeat("inputs 1011 relays 0010 board 7\r\n", 30))
	at := time.Now()
	b.Run("talk", func(b *testing.B) {
		var l Log
		b.SetBytes(int64(len(chunk)))
		for b.Loop() {
			from := l.Gone + len(l.Lines)
			l.Add(at, Heard, chunk)
			for i := max(0, from-l.Gone); i < len(l.Lines); i++ {
				Clock.Stamp(l.Lines[i], nil)
				AsText.Rows(l.Lines[i])
			}
		}
	})
	b.Run("bare", func(b *testing.B) {
		b.SetBytes(int64(len(chunk)))
		var keep []byte
		for b.Loop() {
			keep = append(keep[:0], chunk...)
		}
	})
}

// What a module says by itself is folded: notices that are known at once, other lines once
// three of them differ in their numbers alone; answers never, unless they are chatter too.
func TestFolds(t *testing.T) {
	l := Log{Folds: Folds{Notices: []*pattern.Pattern{pattern.Must("~GUST: {v:int}")}}}
	var shown [3]string
	add := func(answering bool, lines ...string) {
		l.Answering = answering
		for _, line := range lines {
			l.Add(time.Unix(0, 0), Heard, []byte(line+"\r\n"))
		}
	}
	add(false, "~GUST: 7", "volts 14.2 amps -3", "volts 14.2 amps 3", "ready")
	add(true, "volts 14.1 amps 2", "channel 7", "channel 8", "channel 9", "channel 10")
	add(false, "~GUST: 7", "volts 14.1 amps 3", "volts 14.1 amps 3", "volts 14.15 amps 3", "~GUST: 17")
	for _, r := range l.Lines {
		for c := range chatters {
			if !c.Hides(r) {
				shown[c] += text.Shown(r.Bytes) + "|"
			}
		}
	}
	early := "~GUST: 7|volts 14.2 amps -3|volts 14.2 amps 3|ready|volts 14.1 amps 2|channel 7|channel 8|channel 9|channel 10|"
	for c, want := range [3]string{
		early + "~GUST: 7|volts 14.1 amps 3|volts 14.1 amps 3|volts 14.15 amps 3|~GUST: 17|",
		strings.TrimPrefix(early, "~GUST: 7|"),
		early + "volts 14.1 amps 3|volts 14.15 amps 3|~GUST: 17|",
	} {
		if shown[c] != want {
			t.Errorf("%s: %s\nwant %s", Chatter(c), shown[c], want)
		}
	}
	if f := l.Folds.List; len(f) != 2 || f[0].Count != 3 || f[1].Count != 5 || f[1].Changes != 3 || !strings.HasPrefix(f[0].Text, "~GUST: 17") {
		t.Errorf("%+v", f)
	}
	for _, c := range [][3]string{{"a 10 b", "a 11 b", "1"}, {"a b", "a b", ""}, {"", "x", "x"}, {"aa", "aaa", "a"}, {"aaa", "aa", ""}} {
		f := Fold{Before: c[0], Text: c[1], Count: 2}
		if from, to := f.Changed(); f.Text[from:to] != c[2] {
			t.Errorf("%q after %q: %q changed", c[1], c[0], f.Text[from:to])
		}
	}
	for i := range 20_000 { // what is never said twice alike does not fill the memory
		add(false, strings.Repeat("x", i%2000)+string(rune('a'+i%26)))
	}
	if len(l.Folds.byShape) > mostShapes || len(l.Folds.List) > mostFolds {
		t.Errorf("%d shapes, %d folds", len(l.Folds.byShape), len(l.Folds.List))
	}
}

// Bytes at a wrong speed are told from text, in whatever language.
func TestUnreadable(t *testing.T) {
	for came, want := range map[string]bool{
		"Larkfell Works\r\n": false, "Gipfel: −4,5 °C, Böen aus Südwest\r\n": false, "山頂の駅です。風速は七メートルです。\r\n": false, "\x1b[1mtower\x1b[0m> \x1b[K": false,
		"\xe0\xfc\x1c\x1c\xfc\xe0\xfc\x1c": true, "\x00\x80\x00\x80\x78\x00\xf8\x80": true, "x\xffz": false,
	} {
		var u Unreadable
		if u.Take([]byte(came)); u.Much() != want {
			t.Errorf("%q: %v", came, u.Much())
		}
	}
}

// Packets are told apart by the silence between them, whatever stands in them.
func TestPackets(t *testing.T) {
	l := Log{Gap: 20 * time.Millisecond}
	at := time.Unix(0, 0)
	for _, c := range []struct {
		after time.Duration
		kind  Kind
		bytes string
	}{{0, Heard, "\xa7\x00"}, {19, Heard, "\n\x41"}, {20, Heard, "\xee"}, {1, Said, "W"}, {1, Heard, "\xa8"}, {500, Heard, "\x01\x02"}} {
		at = at.Add(c.after * time.Millisecond)
		l.Add(at, c.kind, []byte(c.bytes))
	}
	got := ""
	for _, r := range l.Lines {
		got += fmt.Sprintf("%d % x|", r.Time.UnixMilli(), r.Bytes)
	}
	if want := "0 a7 00 0a 41|39 ee|40 57|41 a8|541 01 02|"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

// A file of pins that holds nothing, or is none, ends no program and is not written over.
func TestPinsOfAnyFile(t *testing.T) {
	for text, fails := range map[string]bool{"null": false, "{}": false, "[]": true, "": true, `{"F": null}`: false} {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "phrases.json"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		pins, err := ReadPins(dir)
		if (err != nil) != fails {
			t.Errorf("%q: %v", text, err)
		}
		if digit, terr := pins.Toggle("F", "AT"); !fails && (terr != nil || digit != 1 || len(pins.Of("F")) != 1) {
			t.Errorf("%q: pinned at %d, %v", text, digit, terr)
		}
	}
}

// Keys owe no answer, and an answer to a question for a secret is said as it was typed,
// whatever stands in it.
func TestKeysAndPasswords(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := speak(t, phrasebook.Setup{Dialect: phrasebook.Lines}, nil)
		defer s.module.Close()
		go io.Copy(io.Discard, s.module)
		if err := s.Say(t.Context(), Words{Text: "\x03", Whole: true}); err != nil {
			t.Fatal(err)
		}
		if how, err := s.Answered(t.Context()); err != nil || s.Lapses() != 0 {
			t.Errorf("a key: %v, %v, %d lines without an answer", how, err, s.Lapses())
		}
		io.WriteString(s.module, "Password: ")
		synctest.Wait()
		words, err := s.ParseAt(nil, "a{b}c", nil)
		if err != nil || words.Text != "a{b}c" || words.Whole {
			t.Errorf("a password with braces is %+v, %v", words, err)
		}
		if words, err = s.ParseAt(nil, "{secret nothing}", func(string) (string, error) { return "", errors.New("no such secret") }); err == nil {
			t.Errorf("a secret that there is not is %+v", words)
		}
	})
}
