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
	"strings"
	"testing"
	"time"

	"uparrot/core/series"
	"uparrot/core/verdict"
)

var at = time.Date(2026, 11, 2, 7, 30, 0, 0, time.UTC)

// A measurement in words, as docs/record.md and every report have it.
func TestMeasurementInWords(t *testing.T) {
	num := func(v float64) *float64 { return &v }
	txt := func(s string) *string { return &s }
	sum := func(s series.Summary) *series.Summary { return &s }
	spread := series.Number(0.123456)
	for i, c := range []struct {
		m                                   Measurement
		shown, bare, single, limits, wanted string
	}{
		{Measurement{Value: 12.5, Unit: "dBm", Low: num(0), High: num(14), Verdict: "passed"}, "12.5 dBm", "12.5", "12.5", "0..14", "0..14 dBm"},
		{Measurement{Value: 12.5, Low: num(-1.5), Verdict: "failed"}, "12.5", "12.5", "12.5", "-1.5..", "-1.5.."},
		{Measurement{Value: 12.5, Unit: "V", High: num(1e6), Verdict: "failed"}, "12.5 V", "12.5", "12.5", "..1000000", "..1000000 V"},
		{Measurement{Value: 3, Low: num(1), High: num(2), Unit: "V", Verdict: verdict.Measured}, "3 V", "3", "3", "", ""},
		{Measurement{Text: txt("DL-7"), Value: Number(math.NaN()), Verdict: verdict.Measured}, "DL-7", "DL-7", "DL-7", "", ""},
		{Measurement{Unit: "V", Low: num(0), Verdict: "passed", Series: sum(series.Summary{N: 1, Least: 2, Greatest: 2, Mean: 2})}, "1 value, all 2 V", "0", "2", "0..", "0.. V"},
		{Measurement{Unit: "V", Low: num(0), Verdict: "passed", Series: sum(series.Summary{N: 9, Moved: true, Least: 2, Greatest: 3, Mean: 2.3456789, Spread: &spread, Rate: 0.5})}, "9 values, 2 to 3, mean 2.34568 V, spread 0.123, 0.5 a second", "0", "2.34568", "", "limits that moved"},
		{Measurement{Unit: "V", Low: num(0), Verdict: "failed", Series: sum(series.Summary{N: 9, None: 2, Least: 2, Greatest: 3, Mean: 2.5, Rate: 0.49, Outside: 1, Worst: &series.Outside{Value: 3, At: at}})}, "9 values, 2 to 3, mean 2.5 V, one every 2.04 s, 2 no number; 1 outside, the first 3 at 07:30:00", "0", "2.5", "0..", "0.. V"},
		{Measurement{Series: sum(series.Summary{N: 3, None: 3, Mean: series.Number(math.NaN()), Outside: 2})}, "3 values, none of them a number; 2 outside", "0", "-", "..", ".."},
		{Measurement{Series: sum(series.Summary{N: 4, Texts: 2, LastText: "shut", Mean: series.Number(math.NaN())}), Verdict: verdict.Measured}, "4 values, 2 different, the last shut", "0", "-", "", ""},
		{Measurement{Series: sum(series.Summary{N: 4, Texts: 1, LastText: "shut"}), Verdict: verdict.Measured}, "4 values, 1 different, the last shut", "0", "0", "", ""},
		{Measurement{Series: sum(series.Summary{N: 4, None: 1, Least: 1, Greatest: 2, Mean: 1.5}), Verdict: verdict.Measured}, "4 values, 1 to 2, mean 1.5, 1 no number", "0", "1.5", "", ""},
		{Measurement{Series: sum(series.Summary{N: 4, Texts: series.MostTexts, LastText: "x"}), Verdict: verdict.Measured}, fmt.Sprintf("4 values, %d or more different, the last x", series.MostTexts), "0", "0", "", ""},
	} {
		if got := [5]string{c.m.Shown(), c.m.Bare(), c.m.Single(), c.m.Range(), c.m.Wanted()}; got != [5]string{c.shown, c.bare, c.single, c.limits, c.wanted} {
			t.Errorf("%d: %q", i, got)
		}
		c.m.What, c.m.Step = "power", "s"
		data, err := json.Marshal(c.m)
		if err != nil {
			t.Fatal(err)
		}
		again, err := MeasurementOf(Event{Time: at, Kind: Limit, Data: data})
		if c.m.At = at; err != nil || fmt.Sprintf("%+v", again.Bare()) != c.bare || !again.At.Equal(at) || again.Shown() != c.shown || again.Wanted() != c.wanted || (again.Text == nil) == strings.Contains(string(data), `"text"`) || (again.Text == nil) != strings.Contains(string(data), `"value"`) {
			t.Errorf("%d: %s became %+v, %v", i, data, again, err)
		}
	}
	if _, err := MeasurementOf(Event{Kind: Value, Data: []byte(`[]`)}); err == nil || err.Error() != "what the record says of a value cannot be read: json: cannot unmarshal array into Go value of type record.measurementJSON" {
		t.Error(err)
	}
	for kind := range kinds {
		if (Event{Kind: kind}).IsMeasurement() != (kind == Limit || kind == Value) {
			t.Errorf("%s is a measurement: %v", kind, kind != Limit)
		}
	}
}

// Samples as docs/record.md has them: microseconds since the one before, the last at the event's time.
func TestSamplesByHand(t *testing.T) {
	ms := func(n int) time.Time { return at.Add(time.Duration(n) * time.Millisecond) }
	for _, c := range []struct {
		s    Samples
		want string
	}{
		{Samples{Series: 12, At: []time.Time{ms(0), ms(3), ms(5)}, Values: []float64{1, 2.5, math.Inf(1)}, Outside: []int{0, 2}}, `{"series":12,"us":[0,3000,2000],"values":[1,2.5,"+Inf"],"outside":[0,2]}`},
		{Samples{Series: 1, At: []time.Time{ms(7)}, Values: []float64{-3}}, `{"series":1,"us":[0],"values":[-3]}`},
		{Samples{Series: 2, At: []time.Time{ms(1), ms(9)}, Texts: []string{"open", "\"shut\""}}, `{"series":2,"us":[0,8000],"texts":["open","\"shut\""]}`},
	} {
		data, err := json.Marshal(c.s)
		if err != nil || string(data) != c.want {
			t.Errorf("%s, %v, want %s", data, err, c.want)
		}
		again, err := SamplesOf(Event{Kind: Sampled, Time: c.s.At[len(c.s.At)-1], Data: data})
		if err != nil || !reflect.DeepEqual(again, c.s) {
			t.Errorf("%+v, %v, want %+v", again, err, c.s)
		}
	}
	for data, want := range map[string]string{
		`{"series":1,"us":[0,1],"values":[1]}`:              "a series has 2 times for 1 values",
		`{"series":1,"us":[0],"values":[1],"texts":["a"]}`:  "a series has 1 times for 1 values",
		`{"series":1,"us":[0],"texts":["a","b"]}`:           "a series has 1 times for 2 values",
		`{"series":1,"us":[0],"values":[1],"outside":[1]}`:  "a series has no value 1",
		`{"series":1,"us":[0],"values":[1],"outside":[-1]}`: "a series has no value -1",
		`{"series":"x"}`: "what the record says of a samples cannot be read",
	} {
		if _, err := SamplesOf(Event{Kind: Sampled, Time: at, Data: []byte(data)}); err == nil || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%s: %v, want %s", data, err, want)
		}
	}
}

// Settings of a file: of modules by name, or of one; what is none of both is told.
func TestSettingsOfFiles(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.toml")
	for text, want := range map[string]string{
		"power = 14\nname = \"tower 1\"\ngain = 1.5\n": "/ gain=1.5 name=tower 1 power=14",
		"[settings]\npower = 14\n":                     "/ power=14",
		"[radio]\nfamily = \"Dunlin\"\n[radio.identity]\nserial = \"7\"\n[radio.settings]\npower = 14.25\n[gate.settings]\n": "gate/; radio/Dunlin serial=7 power=14.25",
		"":                 "holds no settings",
		"[radio]\nx = 1\n": "the table [radio] has no settings: wanted [radio.settings], or NAME = VALUE without a table",
		"power = \n":       "a value cannot begin so",
		"{\"t\":\"2026-11-02T07:30:00Z\",\"kind\":\"record\",\"data\":{\"version\":4}}\n": "record",
	} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		mods, read, err := ReadSettings(path)
		got := []string{}
		for _, m := range mods {
			one := m.Name + "/" + m.Family
			for _, v := range append(m.Identity, m.Settings...) {
				one += " " + v.Name + "=" + v.Value
			}
			if got = append(got, one); m.When != "in "+path {
				t.Errorf("it is %s", m.When)
			}
		}
		if err != nil {
			got = []string{err.Error()}
		}
		if strings.Join(got, "; ") != want && (err == nil || !strings.Contains(err.Error(), want)) || read != text {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
	if _, _, err := ReadSettings(filepath.Join(t.TempDir(), "none")); err == nil {
		t.Error("a file that is not there was read")
	}
	var s Settings
	for _, c := range []struct {
		name, value string
		identity    bool
		added       bool
	}{{"serial", "1", true, true}, {"power", "2", false, true}, {"power", "3", false, false}, {"serial", "4", true, false}, {"serial", "5", false, true}} {
		if added := s.Add(SettingValue{Name: c.name, Value: c.value}, c.identity); added != c.added {
			t.Errorf("%+v was added: %v", c, added)
		}
	}
	if v, is := s.Setting("serial"); !is || v.Value != "4" || len(s.Settings) != 2 || s.Settings[0].Value != "3" {
		t.Errorf("%+v, %v of %+v", v, is, s)
	}
	if v, is := s.Setting("none"); is || v != (SettingValue{}) {
		t.Errorf("%+v is there", v)
	}
	if a, b := (SettingValue{Value: "3"}).Shown(), (SettingValue{Not: "a secret"}).Shown(); a != "3" || b != "(a secret)" {
		t.Error(a, b)
	}
}

// Who, where and with which files; a name that no other run has.
func TestOriginByHand(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f")
	if err := os.WriteFile(path, []byte("abc"), 0o600); err != nil {
		t.Fatal(err)
	}
	o, err := NewOrigin("uparrot test", "run", "", path, path)
	const abc = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad" // FIPS 180-4, the first example
	if err != nil || !reflect.DeepEqual(o.Files, []File{{path, abc}}) || o.Version != version || o.Tool != "uparrot test" || o.Command != "run" || len(o.Run) != 16 || o.Operator == "" || !strings.Contains(o.System, "/") {
		t.Errorf("%+v, %v", o, err)
	}
	if name, err := os.Hostname(); err == nil && o.Machine != name {
		t.Errorf("the machine is %q", o.Machine)
	}
	if other, err := NewOrigin("uparrot test", "run"); err != nil || other.Run == o.Run || other.Run == "0000000000000000" {
		t.Errorf("two runs are called %s, %v", o.Run, err)
	}
	if _, err := NewOrigin("", "", path+"none"); err == nil || !strings.HasPrefix(err.Error(), "take the checksum of "+path+"none") {
		t.Error(err)
	}
	for text, good := range map[string]bool{abc: true, "": true, "ab": true, abc + "a": false, "AB": false, "xy": false, abc[:63] + "g": false} {
		var d Digest
		if err := d.UnmarshalText([]byte(text)); (err == nil) != good || good && string(d) != text {
			t.Errorf("%s: %s, %v", text, d, err)
		}
	}
	for v, want := range map[string]any{
		`"NaN"`:                      math.NaN(),
		`1.5`:                        1.5,
		`[1,"+Inf"]`:                 []float64{1, math.Inf(1)},
		`["a",["-Inf"],{"b":"NaN"}]`: []any{"a", []any{math.Inf(-1)}, map[string]any{"b": math.NaN()}},
	} {
		if b, err := json.Marshal(Encodable(want)); err != nil || string(b) != v {
			t.Errorf("%s, %v, want %s", b, err, v)
		}
	}
}

// taken is what a record and a watcher have of what is done to a stream: kind, port and text.
func taken(t *testing.T, do func(s *Stream)) (kept, watched string) {
	t.Helper()
	var buf bytes.Buffer
	w := New(&buf, Origin{})
	do(NewStream(w, func(e Event) { watched += fmt.Sprintf("%s %s %q;", e.Kind, e.Port, e.Text+e.Why+e.Step) }))
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	state, err := Read(&buf, func(e Event) error {
		if b, err := e.Bytes(); err == nil && e.Kind != Head && e.Kind != End {
			kept += fmt.Sprintf("%s %s %q%s;", e.Kind, e.Port, string(b)+e.Why+e.Step, e.Data)
		}
		return nil
	})
	if err != nil || !state.Whole() {
		t.Errorf("%s, %v", state.Words(), err)
	}
	return kept, watched
}

// What is hidden, where, and until when: in the record, and before whoever watches.
func TestHiddenByHand(t *testing.T) {
	now := at
	say := func(s *Stream, text string) { s.Bytes(now, Out, "gate", []byte(text)) }
	hear := func(s *Stream, text string) { s.Bytes(now, In, "gate", []byte(text)) }
	passed := func(s *Stream, text string) { s.Emit(Event{Time: now, Kind: Passed, Port: "gate", Text: text}) }
	for name, c := range map[string]struct {
		do      func(s *Stream)
		kept    string
		watched string
	}{
		"a long one anywhere": {func(s *Stream) {
			s.Hide("snowline")
			say(s, "key snowline\r")
			hear(s, "snow")
			hear(s, "line\r\n")
			s.Emit(Event{Kind: Note, Text: "x snowline", Why: "snowline", Step: "snowline", Value: map[string]string{"a": "snowline"}})
			s.Bytes(now, In, "gate", []byte("\xffsnowline\r"))
		}, `out gate "key [secret]\r";in gate "[secret]\r\n";note  "x [secret][secret][secret]"{"a":"[secret]"};in gate "\xff[secret]\r";`, `note  "x [secret][secret][secret]";`},
		"a short one where it is said, and in the line after it": {func(s *Stream) {
			s.Hide("713")
			hear(s, "713 before\r\n")
			say(s, "pin 713\r")
			hear(s, "\r\npin 7")
			hear(s, "13\r\n713 again\r\n")
			hear(s, "713\r\n")
		}, `in gate "713 before\r\n";out gate "pin [secret]\r";in gate "\r\npin [secret]\r\n713 again\r\n";in gate "713\r\n";`, ``},
		"an echo that nobody took": {func(s *Stream) {
			s.Hide("713")
			passed(s, "713 before")
			say(s, "pin 713\r")
			hear(s, "pin 713\r\n")
			passed(s, "pin 713")
			s.Emit(Event{Kind: Note, Port: "gate", Text: "713"})
		}, `passed gate "713 before";out gate "pin [secret]\r";in gate "pin [secret]\r\n";passed gate "pin [secret]";note gate "713";`, `passed gate "[secret] before";passed gate "pin [secret]";note gate "713";`},
		"what is heard while a key is read": {func(s *Stream) {
			s.ConcealHeard("gate", true)
			hear(s, "")
			hear(s, "key 1\r\n")
			s.ConcealHeard("gate", true)
			hear(s, "key 2\r\n")
			passed(s, "key 1")
			s.Bytes(now, In, "hut", []byte("open\r\n"))
			s.Emit(Event{Kind: Passed, Port: "hut", Text: "open"})
			s.Emit(Event{Kind: Note, Port: "gate", Text: "seen"})
			say(s, "AT\r")
			s.ConcealHeard("gate", false)
			hear(s, "OK\r\n")
			passed(s, "OK")
		}, `in gate "[secret]";passed gate "[secret]";in hut "open\r\n";passed hut "open";note gate "seen";out gate "AT\r";in gate "OK\r\n";passed gate "OK";`,
			`passed gate "[secret]";passed hut "open";note gate "seen";passed gate "OK";`},
		"what is said while it is concealed": {func(s *Stream) {
			s.Conceal("gate", false)
			s.Conceal("gate", true)
			s.Conceal("gate", true)
			say(s, "a")
			s.Conceal("gate", false) // too late: something was said
			s.Conceal("gate", true)
			say(s, "b\rAT\r")
		}, `out gate "[secret]";out gate "\rAT\r";`, ``},
		"the beginning of one at the end": {func(s *Stream) {
			s.Hide("snowline")
			hear(s, "it is snow")
			s.Bytes(now, In, "hut", []byte("sn"))
		}, `in gate "it is ";in gate "[secret]";in hut "sn";`, ``},
	} {
		kept, watched := taken(t, c.do)
		if name == "the beginning of one at the end" && strings.HasPrefix(kept, `in gate "it is ";in hut "sn";`) { // in whichever order
			kept = c.kept
		}
		if kept != c.kept || watched != c.watched {
			t.Errorf("%s: kept\n%s\nwant\n%s\nwatched\n%s\nwant\n%s", name, kept, c.kept, watched, c.watched)
		}
	}
}

// Streams without a record, without watchers, and with more of them.
func TestStreamsByHand(t *testing.T) {
	var none *Stream
	none.Emit(Event{Kind: Note})
	none.Hide("x")
	none.Bytes(at, In, "gate", []byte("x"))
	none.Conceal("gate", true)
	none.ConcealHeard("gate", true)
	got := ""
	watch := func(name string) func(Event) {
		return func(e Event) {
			if got += name + e.Text; e.Time.IsZero() {
				t.Error("an event has no time")
			}
		}
	}
	var buf bytes.Buffer
	w := New(&buf, Origin{})
	s := NewStream(w, nil, watch("a"))
	s.With(watch("b")).Emit(Event{Kind: Note, Text: "1"})
	Only(s).Emit(Event{Kind: Note, Text: "2"})
	none.With(watch("c")).Emit(Event{Kind: Note, Text: "3"})
	if got != "b1a1c3" {
		t.Errorf("told %s", got)
	}
	for i, is := range []bool{none.Recording(), none.Watched(), s.Recording(), s.Watched(), NewStream(nil).Recording(), NewStream(w).Watched(), Only(none) != nil} {
		if is != (i == 2 || i == 3) {
			t.Errorf("%d: %v", i, is)
		}
	}
	if text := buf.String(); !strings.Contains(text, `"text":"1"`) || !strings.Contains(text, `"text":"2"`) || strings.Contains(text, `"t":"0001`) {
		t.Error(text)
	}
}

// A file's life: what Path and Sum say, what fails, and what is told of it once.
func TestWriterByHand(t *testing.T) {
	var none *Writer
	none.Event(Event{Kind: Note})
	none.Bytes(at, In, "gate", []byte("x"))
	none.Hide("x")
	none.Conceal("gate", true)
	none.ConcealHeard("gate", true)
	if none.Path() != "" || none.Sum() != "" || none.Close() != nil {
		t.Error("no writer says something")
	}
	path := filepath.Join(t.TempDir(), "r.record")
	w, err := Create(path, Origin{Began: at})
	if err != nil || w.Path() != path || w.Sum() != "" {
		t.Fatal(w, err)
	}
	w.Event(Event{Time: at, Kind: Step, Step: "s", Verdict: "passed", Text: "<&>"})
	w.Event(Event{Time: at, Kind: "unknown"})
	one := w.Sum()
	if err := w.Close(); err != nil || w.Path() != "" || len(one) != 64 || w.Sum() == one {
		t.Error(err, w.Path(), one, w.Sum())
	}
	text, err := os.ReadFile(path)
	if lines := strings.Split(string(text), "\n"); err != nil || !strings.HasPrefix(lines[0], `{"t":"2026-11-02T07:30:00Z","kind":"record","data":{"version":4`) || !strings.Contains(lines[1], `"text":"<&>"`) || !strings.Contains(lines[1], one) || !strings.Contains(lines[2], w.Sum()) || len(lines) != 4 {
		t.Errorf("%q, %v", lines, err)
	}
	var told []string
	w = New(full{}, Origin{})
	w.Trouble = func(err error) { told = append(told, err.Error()) }
	w.err = nil // the head is written before anybody can be told
	w.Event(Event{Kind: Note})
	w.Event(Event{Kind: Note})
	if strings.Join(told, ";") != "write the record: no space left" || w.Sum() != "" {
		t.Error(told, w.Sum())
	}
	w = New(&bytes.Buffer{}, Origin{})
	w.Event(Event{Kind: Note, Value: make(chan int)})
	if err := w.Close(); err == nil || !strings.HasPrefix(err.Error(), "write the record: a note: json: unsupported type") {
		t.Error(err)
	}
}

// lined is a record made by hand, with the checksums of the third and later formats.
func lined(lines ...string) string {
	text := ""
	for _, l := range lines {
		if own, is := strings.CutSuffix(l, `,"sum":"?"}`); is {
			before := sha256.Sum256([]byte(text))
			l = fmt.Sprintf(`%s,"sum":"%x"}`, own, sha256.Sum256(append(before[:], own+"}"...)))
		}
		text += l + "\n"
	}
	return text
}

// Lines of any length are read, and each kind of damage is told by the line that it is in.
func TestReadByHand(t *testing.T) {
	head := func(version int) string {
		return fmt.Sprintf(`{"t":"2026-11-02T07:30:00Z","kind":"record","data":{"version":%d}}`, version)
	}
	const end, sumless = `{"t":"2026-11-02T07:31:00Z","kind":"end","sum":"?"}`, `{"t":"2026-11-02T07:31:00Z","kind":"end"}`
	note := func(n int, more string) string {
		return `{"t":"2026-11-02T07:30:30Z","kind":"note","text":"` + strings.Repeat("x", n) + `"` + more + `}`
	}
	stop := errors.New("stop")
	for name, c := range map[string]struct {
		text  string
		at    int // where f stops
		words string
		err   string
		seen  int
	}{
		"long lines":               {lined(head(4), note(70_000, ""), note(10, ""), note(200_000, ""), note(64<<10-2, ""), end), -1, "whole: 6 lines", "", 6},
		"a long line that is torn": {lined(head(4)) + note(70_000, "")[:69_000], -1, "cut short: it ends with line 1,", "", 1},
		"a checksum within a text": {lined(head(4), `{"t":"2026-11-02T07:30:30Z","kind":"note","text":",\"sum\":\""}`, `{"t":"2026-11-02T07:30:30Z","kind":"step","verdict":"passed","why":",\"sum\":\"ab","sum":"?"}`, end), -1, "whole: 4 lines", "", 4},
		"of the second, without":   {lined(head(2), sumless), -1, "altered: line 2 has lost its checksum", "", 2},
		"of the first, without":    {lined(head(1), sumless), -1, "unprotected: 2 lines", "", 2},
		"of the third":             {lined(head(3), end), -1, "whole: 2 lines", "", 2},
		"empty":                    {"", -1, "cut short", "this is no record: it has no line", 0},
		"of another kind":          {"[[unit]]\n", -1, "altered: this is not a record", "this is not a record: its first line is no event", 0},
		"no head":                  {lined(note(1, "")), -1, "cut short", "this is no record: its first line is not a record's head", 0},
		"a later head":             {lined(head(5)), -1, "cut short", "the record is of a later version: it has format version 5, and this program reads versions up to 4; read it with the program that wrote it, or a later one", 0},
		"no kind":                  {lined(head(4), note(1, ""), `{"t":"2026-11-02T07:30:30Z"}`), -1, "altered: the record's line 3 is no event: it has no kind", "the record's line 3 is no event: it has no kind", 2},
		"no event":                 {lined(head(4), note(1, ""), "x"), -1, "altered: the record's line 3 is no event: it was cut or changed", "the record's line 3 is no event: it was cut or changed", 2},
		"one that is told to stop": {lined(head(4), note(1, ""), end), 1, "cut short: it ends with line 2,", "stop", 2},
		"two of later kinds":       {lined(head(4), `{"t":"2026-11-02T07:30:30Z","kind":"walk"}`, `{"t":"2026-11-02T07:30:30Z","kind":"run"}`, note(1, ""), end), -1, `of a later version: line 2 has an event of the kind "walk"`, `the record is of a later version: line 2 has an event of the kind "walk", which this program does not know; read it with the program that wrote it, or a later one`, 3},
	} {
		seen := 0
		state, err := Read(strings.NewReader(c.text), func(e Event) error {
			seen++
			if seen-1 == c.at {
				return stop
			}
			return nil
		})
		if err == nil && c.err != "" || err != nil && err.Error() != c.err || !strings.HasPrefix(state.Words(), c.words) || seen != c.seen || state.Whole() != strings.HasPrefix(c.words, "whole") {
			t.Errorf("%s: %s, %v, %d events", name, state.Words(), err, seen)
		}
	}
	if (State{Ended: true}).Whole() {
		t.Error("nothing is whole")
	}
	port := ""
	if _, err := Read(strings.NewReader(lined(head(4), `{"t":"2026-11-02T07:30:30Z","kind":"note","port":"a\u001b[31m"}`, end)), func(e Event) error { port += e.Port; return nil }); err != nil || strings.Contains(port, "\x1b") {
		t.Errorf("%q, %v", port, err)
	}
	far := func(v any) bool {
		_, err := NewGiven(v, func(s string) bool { return s == "4711" || s == "1.5" }).Value()
		return err == nil
	}
	long := func(n int) any { return strings.Repeat("x", n) }
	for i, is := range []bool{far(4711), far(1.5), far([]any{4711}), far(long(mostGiven - 7)), far(math.Inf(-1)), far([]float64{math.Inf(1)}), far(4712), far(long(mostGiven - 8)), far(1.25)} {
		if is != (i > 5) {
			t.Errorf("value %d is kept: %v", i, is)
		}
	}
}
