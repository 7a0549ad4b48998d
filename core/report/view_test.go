package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket/pcapgo"
	"golang.org/x/net/html"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/stats"
)

// hostile is what a module may say to harm whoever reads the report.
const hostile = "\x1b]0;owned\x07</script><script>alert(1)</script><img src=x onerror=alert(2)>&amp;\"'`|[x](javascript:alert(3)) \u202eabc ]]> @somebody #1 {{.}}"

var start = time.Date(2026, 11, 2, 12, 0, 0, 123456789, time.FixedZone("", 3600))

// larkfell is the record of a run with all that a record can hold.
func larkfell(t testing.TB) []byte {
	t.Helper()
	var buf bytes.Buffer
	w := record.New(&buf, record.Origin{Began: start, Tool: "uparrot test", Run: "0123456789abcdef", Command: "run", Unit: hostile, Operator: "=A. Rigger", Machine: "bench 2", Files: []record.File{{Path: hostile, SHA256: "ab"}}})
	at := start
	put := func(e record.Event, data any) {
		at = at.Add(1500 * time.Microsecond)
		e.Time = at
		if data != nil {
			e.Data, _ = json.Marshal(data)
		}
		w.Event(e)
	}
	sent := func(kind record.Kind, port, text string) {
		at = at.Add(time.Millisecond)
		w.Bytes(at, kind, port, []byte(text))
	}
	put(record.Event{Kind: record.Begin, Text: "Commission " + hostile}, map[string]any{"inputs": map[string]any{"address": hostile}})
	put(record.Event{Kind: record.Open, Port: "valley"}, map[string]any{"address": "/dev/ttyUSB0", "setup": "at, 115200 8N1, cr"})
	put(record.Event{Kind: record.Step, Step: "it answers " + hostile}, nil)
	sent(record.Out, "valley", "A")
	sent(record.In, "valley", "A")
	sent(record.Out, "valley", "T\r")
	sent(record.In, "valley", "\r\nO")
	sent(record.In, "valley", "K\r")
	sent(record.In, "valley", "\n> ")
	sent(record.Out, "valley", "text\x1a")
	sent(record.In, "valley", hostile+"\r\n=1+1\r\n\x00\xff\xfe\r\n")
	sent(record.Out, "valley", "\r")
	put(record.Event{Kind: record.Check, Text: "a == 1", Verdict: "failed", Why: hostile}, []map[string]any{{"name": "a", "value": hostile}})
	put(record.Event{Kind: record.Try, Step: "it answers " + hostile, Try: 1, Verdict: "failed", Why: hostile}, nil)
	put(record.Event{Kind: record.Step, Step: "it answers " + hostile, Try: 2, Verdict: "failed", Why: hostile, TookMS: 12}, nil)
	put(record.Event{Kind: record.Step, Step: "power"}, nil)
	put(record.Event{Kind: record.Limit, Step: "power", Try: 1, Verdict: "passed"}, map[string]any{"what": "power", "value": 12.5, "low": 0, "high": 14, "unit": "dBm", "step": "power", "verdict": "passed"})
	put(record.Event{Kind: record.Limit, Step: "power", Try: 1, Verdict: "failed"}, map[string]any{"what": "=cmd()" + hostile, "value": -110, "low": -90, "unit": "=dBm", "step": "power", "verdict": "failed"})
	put(record.Event{Kind: record.Passed, Port: "valley", Text: "spare\r\n"}, nil)
	put(record.Event{Kind: record.Kept, Text: "log.txt"}, map[string]any{"value": "log", "bytes": 3, "sha256": "cd"})
	put(record.Event{Kind: record.Result, Verdict: "passed"}, map[string]any{"bits_sent": 1_000_000, "ratio": map[string]any{"low": 1e-7}, "why": hostile})
	put(record.Event{Kind: record.Told, Text: "pull the lever"}, map[string]any{"answer": "done"})
	sum := link.Summary{Kind: link.Kind, Size: 24, EveryMS: 50, Verdict: "passed", Directions: []link.Direction{{From: "valley", To: hostile, Sent: 2, Lost: 1, Received: 1, Loss: stats.Wilson(1, 2), Verdict: "undecided", Why: []string{"more frames would tell"}}}}
	for i, row := range []link.Row{{Planned: at, Sent: at.Add(time.Microsecond), Arrived: at.Add(48 * time.Millisecond), State: link.OnTime, Strength: -110, SNR: 6.5}, {Number: 1, Planned: at, Sent: at.Add(time.Second), State: link.Lost, Strength: math.NaN(), SNR: math.NaN()}} {
		put(record.Event{Kind: record.Frame}, map[string]any{"from": "valley", "to": "summit", "number": i, "planned_ns": -1000, "latency_ns": latencyOf(row), "state": row.State})
	}
	put(record.Event{Kind: record.Link, Verdict: "undecided"}, sum)
	put(record.Event{Kind: record.Step, Step: "power", Try: 1, Verdict: "failed", Why: "too little"}, nil)
	put(record.Event{Kind: record.Step, Step: "later", Verdict: "untested"}, nil)
	put(record.Event{Kind: record.Verdict, Verdict: "failed", TookMS: 1234.5}, nil)
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return buf.Bytes()
}

func latencyOf(r link.Row) any {
	if r.State == link.Lost {
		return nil
	}
	return r.Arrived.Sub(r.Sent).Nanoseconds()
}

func made(t testing.TB, rec []byte, form, table string) string {
	t.Helper()
	var out bytes.Buffer
	if _, err := View(&out, bytes.NewReader(rec), form, table); err != nil {
		t.Fatalf("%s: %v", form, err)
	}
	return out.String()
}

// Every form is made of the record alone: twice the same bytes, whole, cut short
// or altered, and nothing in it can steer a terminal.
func TestForms(t *testing.T) {
	whole := larkfell(t)
	lines := bytes.SplitAfter(whole, []byte("\n"))
	for name, c := range map[string]struct {
		rec  []byte
		word string
	}{
		"whole":     {whole, "whole:"},
		"cut short": {bytes.Join(lines[:12], nil), "cut short:"},
		"torn":      {whole[:len(whole)/2], "cut short:"},
		"altered":   {bytes.Replace(whole, []byte("12.5"), []byte("13.5"), 1), "altered:"},
		"damaged":   {append(bytes.Join(lines[:20], nil), []byte("x\n")...), "altered:"},
	} {
		for _, form := range Forms() {
			if form == "csv" && name != "whole" && name != "altered" {
				continue // it has no rows yet
			}
			one := made(t, c.rec, form, "")
			if two := made(t, c.rec, form, ""); one != two {
				t.Errorf("%s, %s: made twice it differs", name, form)
			}
			if tells := form != "csv" && form != "hex" && form != "pcapng"; tells && !strings.Contains(one, c.word) {
				t.Errorf("%s, %s does not say that it is so", name, form)
			}
			if form == "pcapng" {
				continue
			}
			for _, r := range one {
				if r < ' ' && r != '\n' && r != '\t' && !(form == "csv" && r == '\r') || r == '\u202e' || r == 0xfffd {
					t.Errorf("%s, %s holds %q", name, form, r)
					break
				}
			}
		}
	}
	if _, err := View(io.Discard, bytes.NewReader([]byte("no record\n")), "text", ""); err == nil {
		t.Error("a report was made of no record")
	}
}

// The dialogue joins what came in pieces, and shows what was said first.
func TestText(t *testing.T) {
	text := made(t, larkfell(t), "text", "")
	at := 0
	for _, want := range []string{
		"Commission ", "FAILED: 0 of 3 steps passed, 2 failed, 1 untested", "operator ", "Times are +01:00", "2026-11-02\n",
		"valley  said    AT\n", "valley  heard   OK\n", "valley  heard   > \n", "valley  said    text\\x1a\n", "valley  heard   \\x1b]0;owned\\x07</script>",
		"heard   =1+1\n", "heard   \\x00\\xff\\xfe\n", "said    (the line ending alone)\n", "a == 1   with a = ", "try 1 failed", "limit   power: 12.5 dBm, wanted 0..14 dBm  passed",
		"ignored spare\n", "kept    log.txt, 3 bytes", "result  bits sent 1000000; ratio low 0.0000001; why ", "pull the lever  answer: done", "step: later: untested",
	} {
		i := strings.Index(text[at:], want)
		if i < 0 {
			t.Fatalf("missing %q behind:\n%s\n---\n%s", want, text[:at], text[at:])
		}
		at += i + len(want)
	}
}

func TestCSV(t *testing.T) {
	rec := larkfell(t)
	for table, want := range map[string]string{
		"":           "power,12.5,0,14,dBm,passed",
		measurements: "'=cmd()\\x1b]0;owned\\x07</script>",
		frameRows:    "valley,summit,0,0.000,0.001,48.000,47.999,received,0,false",
		stepRows:     "3,later,untested,0,0,",
	} {
		rows, err := csv.NewReader(strings.NewReader(made(t, rec, "csv", table))).ReadAll()
		if err != nil {
			t.Fatalf("%s: %v", table, err)
		}
		var all []string
		for _, r := range rows {
			all = append(all, strings.Join(r, ","))
			for _, c := range r {
				if c != "" && strings.ContainsAny(c[:1], "=+@|%") {
					t.Errorf("%s: the cell %q may be a formula", table, c)
				}
			}
		}
		if text := strings.Join(all, "\n"); !strings.Contains(text, want) {
			t.Errorf("%s: missing %q in\n%s", table, want, text)
		}
	}
	var empty bytes.Buffer
	w := record.New(&empty, record.Origin{})
	w.Close()
	if _, err := View(io.Discard, bytes.NewReader(empty.Bytes()), "csv", ""); err == nil || !strings.Contains(err.Error(), "no measurements") {
		t.Errorf("a table of nothing: %v", err)
	}
}

// The XML says what came of each step, and is valid by the common schema.
func TestJUnit(t *testing.T) {
	text := made(t, larkfell(t), "junit", "")
	var got struct {
		Suite struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
			Errors   int `xml:"errors,attr"`
			Cases    []struct {
				Name    string    `xml:"name,attr"`
				Failure *string   `xml:"failure"`
				Skipped *struct{} `xml:"skipped"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	if err := xml.Unmarshal([]byte(text), &got); err != nil {
		t.Fatal(err)
	}
	s := got.Suite
	if s.Tests != 3 || s.Failures != 2 || s.Errors != 0 || s.Cases[1].Failure == nil || *s.Cases[1].Failure != "too little" || s.Cases[2].Skipped == nil {
		t.Errorf("%+v", s)
	}
	if cut := made(t, larkfell(t)[:1500], "junit", ""); !strings.Contains(cut, `errors="2"`) {
		t.Errorf("a record that was cut short has no error:\n%s", cut)
	}
	lint, err := exec.LookPath("xmllint")
	if err != nil {
		t.Skip("NOT TESTED against the schema: xmllint is not installed (Debian: libxml2-utils)")
	}
	for _, rec := range [][]byte{larkfell(t), larkfell(t)[:1500]} {
		file := filepath.Join(t.TempDir(), "junit.xml")
		if err := os.WriteFile(file, []byte(made(t, rec, "junit", "")), 0o600); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command(lint, "--noout", "--schema", "testdata/junit.xsd", file).CombinedOutput(); err != nil {
			t.Errorf("%v\n%s", err, out)
		}
	}
}

// What goes into the packets comes out of a reader that is not ours.
func TestPcapng(t *testing.T) {
	packets := made(t, larkfell(t), "pcapng", "")
	r, err := pcapgo.NewNgReader(strings.NewReader(packets), pcapgo.DefaultNgReaderOptions)
	if err != nil {
		t.Fatal(err)
	}
	said, heard := "", ""
	for {
		data, ci, opts, err := r.ReadPacketDataWithOptions()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		if ci.Timestamp.Before(start) || ci.Timestamp.After(start.Add(time.Second)) {
			t.Errorf("a packet of %v", ci.Timestamp)
		}
		if opts.Flags.Direction == pcapgo.NgEpbFlagDirectionOutbound {
			said += string(data)
		} else {
			heard += string(data)
		}
	}
	if said != "AT\rtext\x1a\r" || heard != "A\r\nOK\r\n> "+hostile+"\r\n=1+1\r\n\x00\xff\xfe\r\n" {
		t.Errorf("said %q, heard %q", said, heard)
	}
	shark, err := exec.LookPath("tshark")
	if err != nil {
		t.Skip("NOT TESTED with a packet analyser: tshark is not installed (Debian: tshark)")
	}
	file := filepath.Join(t.TempDir(), "l.pcapng")
	if err := os.WriteFile(file, []byte(packets), 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(shark, "-r", file, "-T", "fields", "-e", "frame.interface_name", "-e", "frame.len", "-e", "frame.time_epoch").Output()
	if err != nil || !strings.HasPrefix(string(out), "valley\t1\t1793617200.128956789\n") {
		t.Errorf("%v\n%s", err, out)
	}
}

// The page is well formed, holds what a module said as text alone, and lets
// nothing else in.
func TestHTML(t *testing.T) {
	text := made(t, larkfell(t), "html", "")
	tokens := html.NewTokenizer(strings.NewReader(text))
	var open []string
	ids := map[string]bool{}
	void := map[string]bool{"meta": true, "img": true, "input": true, "rect": true, "path": true}
	seen, words := map[string]int{}, ""
	for {
		kind := tokens.Next()
		if kind == html.ErrorToken {
			break
		}
		tok := tokens.Token()
		switch kind {
		case html.StartTagToken, html.SelfClosingTagToken:
			seen[tok.Data]++
			for _, a := range tok.Attr {
				if strings.HasPrefix(a.Key, "on") || a.Key == "style" || (a.Key == "src" || a.Key == "href") && !strings.HasPrefix(a.Val, "#") && !strings.HasPrefix(a.Val, "data:image/svg+xml;base64,") {
					t.Errorf("<%s %s=%q>", tok.Data, a.Key, a.Val)
				}
				if a.Key == "id" && ids[a.Val] {
					t.Errorf("the id %s twice", a.Val)
				}
				ids[a.Val] = ids[a.Val] || a.Key == "id"
			}
			if kind == html.StartTagToken && !void[tok.Data] {
				open = append(open, tok.Data)
			}
		case html.EndTagToken:
			if len(open) == 0 || open[len(open)-1] != tok.Data {
				t.Fatalf("</%s> closes %v", tok.Data, open)
			}
			open = open[:len(open)-1]
		case html.TextToken:
			words += tok.Data
		}
	}
	if len(open) > 0 || seen["script"] != 1 || seen["h1"] != 1 || seen["details"] != 2 || seen["svg"] < 3 || seen["figure"] < 1 {
		t.Errorf("open at the end: %v; %v", open, seen)
	}
	for _, want := range []string{"FAILED", "0 of 3 steps passed", "too little", "</script><script>alert(1)</script>", "12.5 dBm", "more frames would tell", "=1+1", "bits sent"} {
		if !strings.Contains(strings.ToUpper(words), strings.ToUpper(want)) {
			t.Errorf("missing %q", want)
		}
	}
	if verdict, steps := strings.Index(text, `class="verdict"`), strings.Index(text, `id="steps"`); verdict < 0 || verdict > steps {
		t.Error("the verdict does not come first")
	}
	var policy bytes.Buffer
	for _, part := range []string{pageStyle, pageScript} {
		fmt.Fprintf(&policy, "%s ", policySum(part))
	}
	for _, sum := range strings.Fields(policy.String()) {
		if !strings.Contains(html.UnescapeString(text), "'"+sum+"'") {
			t.Errorf("the policy does not name %s", sum)
		}
	}
}

// In Markdown what a module said is code, where nothing is markup.
func TestMarkdown(t *testing.T) {
	text := made(t, larkfell(t), "markdown", "")
	for in, want := range map[string]string{
		"plain text, 5 %": "plain text, 5 %", "a|b": "`a\\|b`", "`x`": "`` `x` ``", "www.x.org": "`www.x.org`", "@you": "`@you`", "": "", "_x_": "`_x_`",
	} {
		if got := marked(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
	for _, bad := range []string{"\n<", "| <"} {
		if strings.Contains(text, bad) {
			t.Errorf("%q stands outside of code:\n%s", bad, text)
		}
	}
}

func FuzzView(f *testing.F) {
	f.Add(larkfell(f))
	f.Fuzz(func(t *testing.T, rec []byte) {
		for _, form := range Forms() {
			_, _ = View(io.Discard, bytes.NewReader(rec), form, "")
		}
	})
}
