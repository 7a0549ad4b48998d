package record

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"
)

func TestWriteAndRead(t *testing.T) {
	path := filepath.Join(t.TempDir(), "r.jsonl")
	w, err := Create(path, Origin{Tool: "uparrot test", Unit: "17"})
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 11, 2, 7, 30, 0, 123456789, time.UTC)
	w.Bytes(at, Out, "north", []byte("AT~NODE?\r\n"))
	w.Bytes(at, In, "north", []byte("\x00\xff\xfe"))
	w.Event(Event{Time: at, Kind: Step, Step: "the radio <answers>", Verdict: "passed"})
	w.Event(Event{Time: at, Kind: Note, Text: "put aside"})
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the record's mode is %v, %v", info.Mode(), err)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	whole := string(text)
	lines := strings.SplitAfter(whole, "\n")
	bare := sumIn.ReplaceAllString(whole, "")
	cut := func(n int) string { return strings.Join(lines[:n], "") }
	for name, c := range map[string]struct{ text, words string }{
		"whole":                {whole, "whole: 6 lines"},
		"without its end":      {cut(5), "cut short: it ends with line 5, 2026-11-02 07:30:00.123 +00:00, without a closing line; up to line 4 the checksums are right"},
		"before any verdict":   {cut(2), "cut short: it ends with line 2, 2026-11-02 07:30:00.123 +00:00, without a closing line; no checksum stands"},
		"torn":                 {cut(3) + `{"t":"2026-`, "cut short: it ends with line 3"},
		"a byte changed":       {strings.Replace(whole, "NODE", "MODE", 1), "altered: the checksum in line 4 is not that of the lines up to it; the change lies in lines 1 to 4"},
		"a verdict changed":    {strings.Replace(whole, `"passed"`, `"failed"`, 1), "altered: the checksum in line 4 is not that of the lines up to it; the change lies in lines 1 to 4"},
		"the end's time":       {lines[0] + strings.Join(lines[1:5], "") + strings.Replace(lines[5], `{"t":"2`, `{"t":"3`, 1), "altered: the checksum in line 6"},
		"forged without sums":  {strings.Replace(strings.Replace(bare, `"version":4`, `"version":1`, 1), `"passed"`, `"failed"`, 1), "unprotected: 6 lines to the closing line, without checksums"},
		"of another version":   {strings.Replace(whole, `"version":4`, `"version":2`, 1), "altered: the checksum in line 4"},
		"of the second":        {second(lines), "whole: 6 lines"},
		"a line gone":          {cut(1) + strings.Join(lines[2:], ""), "altered: the checksum in line 3"},
		"a checksum gone":      {bare, "altered: line 4 has lost its checksum"},
		"a line behind":        {whole + lines[1], "altered: line 7 stands behind the closing line"},
		"torn behind its end":  {whole + "{", "altered: something stands behind the closing line"},
		"of a later version":   {later(lines), `of a later version: line 5 has an event of the kind "walk", which this program does not know; 2 checksums up to line 6 are right`},
		"later, and altered":   {strings.Replace(later(lines), "put aside", "put away", 1), "altered: the checksum in line 6"},
		"of the first version": {strings.Replace(cut(2), `"version":4`, `"version":1`, 1), "first format, which has no checksums"},
	} {
		state, err := Read(strings.NewReader(c.text), func(e Event) error { _, err := e.Bytes(); return err })
		if _, is := errors.AsType[*Later](err); is != strings.HasPrefix(c.words, "of a later version") || err != nil && !is || !strings.Contains(state.Words(), c.words) || state.Whole() != strings.HasPrefix(c.words, "whole") {
			t.Errorf("%s: %q, whole=%v, %v", name, state.Words(), state.Whole(), err)
		}
	}
	var got []string
	state, err := Read(strings.NewReader(whole), func(e Event) error {
		b, err := e.Bytes()
		got = append(got, string(e.Kind)+" "+e.Step+string(b))
		return err
	})
	want := "record |out AT~NODE?\r\n|in \x00\xff\xfe|step the radio <answers>|note put aside|end "
	if err != nil || strings.Join(got, "|") != want || state.Origin.Unit != "17" {
		t.Errorf("read %q, %+v, %v", got, state, err)
	}
}

var sumIn = regexp.MustCompile(`,"sum":"[0-9a-f]*"`)

// second is a record in the form of the second version, whose checksums were of the
// lines before alone.
func second(lines []string) string {
	text := ""
	for _, l := range lines {
		l = strings.Replace(l, `"version":4`, `"version":2`, 1)
		text += sumIn.ReplaceAllString(l, fmt.Sprintf(`,"sum":"%x"`, sha256.Sum256([]byte(text))))
	}
	return text
}

// later is a record as a later version would write it, with a kind of event of its own.
func later(lines []string) string {
	text := strings.Join(lines[:4], "") + strings.Replace(lines[4], `"kind":"note"`, `"kind":"walk"`, 1)
	own, _, _ := strings.Cut(lines[5], sumKey)
	before := sha256.New()
	before.Write([]byte(text))
	return text + own + sumKey + sumWith(before, []byte(own+"}")) + "\"}\n"
}

// A record never takes the place of another.
func TestNothingIsOverwritten(t *testing.T) {
	path := filepath.Join(t.TempDir(), "r.record")
	for _, want := range []string{"r.record", "r-2.record", "r-3.record"} {
		w, err := Create(path, Origin{})
		if err != nil || filepath.Base(w.Path()) != want {
			t.Errorf("%v, %v, want %s", w.Path(), err, want)
		}
		if err := w.Close(); err != nil {
			t.Error(err)
		}
	}
}

func TestReadRefuses(t *testing.T) {
	for text, want := range map[string]string{
		"{\"kind\":\"in\"}\n": "first line",
		"{\"t\":\"2026-11-02T07:30:00Z\",\"kind\":\"record\",\"data\":{\"version\":99}}\n":                                            "version 99",
		"{\"t\":\"2026-11-02T07:30:00Z\",\"kind\":\"record\",\"data\":{\"version\":1}}\nnot json\n{\"t\":\"2026-11-02T07:30:00Z\"}\n": "line 2",
	} {
		_, err := Read(strings.NewReader(text), func(Event) error { return nil })
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// A secret never reaches the record, whole or cut over several reads, while
// everything around it does.
func TestSecretsStayOut(t *testing.T) {
	const secret = "gr4nite-key"
	for cut := 1; cut < len(secret); cut++ {
		var buf bytes.Buffer
		w := New(&buf, Origin{Tool: "uparrot test"})
		w.Hide(secret)
		now := time.Now()
		w.Bytes(now, In, "north", []byte("echo "+secret[:cut]))
		w.Bytes(now, Out, "north", []byte("between"))
		w.Bytes(now, In, "north", []byte(secret[cut:]+" \xff"+secret+"\r\n"))
		w.Event(Event{Kind: Note, Why: "said " + secret, Data: []byte(`{"v":"` + secret + `"}`)})
		w.Bytes(now, In, "north", []byte(secret[:cut]))
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		var in []byte
		if _, err := Read(&buf, func(e Event) error {
			b, err := e.Bytes()
			if e.Kind == In {
				in = append(in, b...)
			}
			if strings.Contains(string(b)+e.Why+string(e.Data), secret) {
				t.Errorf("cut at %d: the secret is in %+v", cut, e)
			}
			return err
		}); err != nil {
			t.Fatal(err)
		}
		if bytes.Contains(in, []byte(secret)) || !bytes.Contains(in, []byte("echo [secret] \xff[secret]\r\n")) {
			t.Errorf("cut at %d: %q", cut, in)
		}
	}
}

// What is said in secret is told of once, up to its line end; an echo of it
// is another matter.
func TestConceal(t *testing.T) {
	for name, c := range map[string]struct {
		pieces []string
		off    bool
		want   string
	}{
		"a line at once":   {[]string{"snowline\r", "logs\r"}, false, "[secret]\rlogs\r"},
		"key by key":       {[]string{"s", "n", "o", "w", "\r\n", "logs\r"}, false, "[secret]\r\nlogs\r"},
		"nothing":          {[]string{"\r", "logs\r"}, false, "\rlogs\r"},
		"it was no prompt": {[]string{"logs\r"}, true, "logs\r"},
	} {
		var buf bytes.Buffer
		w := New(&buf, Origin{})
		w.Conceal("tower", true)
		if c.off {
			w.Conceal("tower", false)
		}
		w.Bytes(time.Now(), Out, "gate", []byte("other port\r"))
		for _, p := range c.pieces {
			w.Bytes(time.Now(), Out, "tower", []byte(p))
			w.Bytes(time.Now(), In, "tower", []byte("*"))
		}
		w.Close()
		said := ""
		if _, err := Read(&buf, func(e Event) error {
			if e.Kind == Out && e.Port == "tower" {
				said += e.Text
			}
			return nil
		}); err != nil || said != c.want {
			t.Errorf("%s: %q, %v, want %q", name, said, err, c.want)
		}
	}
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no space left") }

func TestWriteErrorIsKept(t *testing.T) {
	w := New(full{}, Origin{})
	var told []string
	w.Tell = func(e Event) { told = append(told, string(e.Kind)) }
	w.Event(Event{Kind: Verdict, Verdict: "passed"})
	if err := w.Close(); err == nil || !strings.Contains(err.Error(), "no space left") || strings.Join(told, " ") != "verdict end" {
		t.Errorf("got %v, told %v", err, told)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("{\"t\":\"2026-11-02T07:30:00Z\",\"kind\":\"record\",\"data\":{\"version\":1}}\n{\"t\":\"2026-11-02T07:30:00Z\",\"kind\":\"in\",\"hex\":\"00\"}\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _ = Read(bytes.NewReader(b), func(e Event) error { _, err := e.Bytes(); return err })
	})
}

// A value that a step gave is the same again when it is read, or it is said why not.
func TestGiven(t *testing.T) {
	secret := func(text string) bool { return strings.Contains(text, "hush") }
	for _, v := range []any{"", "41", "a\r\nb", "\x00\xff", 41, -1, 0, 41.0, 0.1, true, false, []string{}, []string{"a", "b"}, []float64{1, 2.5}, []any{}, []any{"a", 1, 1.0, []any{true}}, map[string]any{"volts": 24.5, "list": []any{1}}} {
		b, err := json.Marshal(NewGiven(v, secret))
		if err != nil {
			t.Fatal(err)
		}
		var g Given
		if err := json.Unmarshal(b, &g); err != nil {
			t.Fatal(err)
		}
		if again, err := g.Value(); err != nil || !reflect.DeepEqual(again, v) {
			t.Errorf("%#v became %s, and %#v, %v", v, b, again, err)
		}
	}
	for _, c := range []struct {
		v    any
		want string
	}{
		{"hush", "a secret"}, {[]any{1, "x hush"}, "a secret"}, {map[string]any{"hush": 1}, "a secret"}, {[]string{"a", "hush"}, "a secret"},
		{math.NaN(), "no number"}, {[]any{math.Inf(1)}, "no number"}, {[]float64{math.NaN()}, "is none"}, {strings.Repeat("x", mostGiven+1), "longer than 64 KiB"},
		{strings.Repeat("x", mostGiven+1) + "hush", "a secret"}, {[]string{"\xff"}, "not UTF-8"}, {struct{}{}, "keeps no"}, {nil, "keeps no"},
	} {
		if _, err := NewGiven(c.v, secret).Value(); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%.20v: %v, want %q", c.v, err, c.want)
		}
	}
	if _, err := (Given{}).Value(); err == nil {
		t.Error("a value of no kind was taken")
	}
}
