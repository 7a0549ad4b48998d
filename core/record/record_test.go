package record

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func TestWriteAndRead(t *testing.T) {
	path := filepath.Join(t.TempDir(), "r.jsonl")
	w, err := Create(path, "uparrot test")
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 11, 2, 7, 30, 0, 123456789, time.UTC)
	w.Bytes(at, Out, "north", []byte("AT~NODE?\r\n"))
	w.Bytes(at, In, "north", []byte("\x00\xff\xfe"))
	w.Event(Event{Time: at, Kind: Step, Step: "the radio <answers>", Verdict: "passed"})
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
	for _, torn := range []string{"", `{"t":"2026-`} {
		var got []string
		was, err := Read(strings.NewReader(string(text)+torn), func(e Event) error {
			b, err := e.Bytes()
			if e.Kind != Head && !e.Time.Equal(at) {
				t.Errorf("%s: time %v", e.Kind, e.Time)
			}
			got = append(got, e.Kind+" "+e.Step+string(b))
			return err
		})
		want := "record |out AT~NODE?\r\n|in \x00\xff\xfe|step the radio <answers>"
		if err != nil || was != (torn != "") || strings.Join(got, "|") != want {
			t.Errorf("torn %q: read %q, torn=%v, %v", torn, got, was, err)
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
		w := New(&buf, "uparrot test")
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

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no space left") }

func TestWriteErrorIsKept(t *testing.T) {
	if err := New(full{}, "uparrot test").Close(); err == nil || !strings.Contains(err.Error(), "no space left") {
		t.Errorf("got %v", err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("{\"t\":\"2026-11-02T07:30:00Z\",\"kind\":\"record\",\"data\":{\"version\":1}}\n{\"t\":\"2026-11-02T07:30:00Z\",\"kind\":\"in\",\"hex\":\"00\"}\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _ = Read(bytes.NewReader(b), func(e Event) error { _, err := e.Bytes(); return err })
	})
}
