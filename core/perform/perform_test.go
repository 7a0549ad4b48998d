package perform

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/sim/simtest"
	"uparrot/core/verdict"
)

const head = "procedure \"T\"\nport north: dialect at, ending cr, phrasebook \"../../examples/dunlin.toml\"\nport south: dialect at, ending cr, phrasebook \"../../examples/dunlin.toml\"\n" +
	// Values that check cannot know, for what the phrasebook would not let pass.
	"input zero: int = 0\ninput odd: text = X\n"

// perform performs a procedure at two Dunlins in simulated time and returns the
// result, the events in short, and the record.
func perform(t *testing.T, ctx context.Context, text string) (Result, []string, string) {
	t.Helper()
	return performWith(t, ctx, text, func(*Run) {})
}

// performWith is perform of a run that adjust has changed.
func performWith(t *testing.T, ctx context.Context, text string, adjust func(*Run)) (Result, []string, string) {
	t.Helper()
	proc, err := procedure.Parse("t.parrot", text)
	if err != nil {
		t.Fatal(err)
	}
	b := simtest.New(t, bench.Air{Delay: 30 * time.Millisecond},
		bench.Standin{Name: "north", Family: "dunlin", Settings: map[string]string{"node": "1"}},
		bench.Standin{Name: "south", Family: "dunlin", Place: 200, Settings: map[string]string{"node": "2"}})
	defer b.Close()
	var rec bytes.Buffer
	var events []string
	w := record.New(&rec, record.Origin{Tool: "test"})
	run := &Run{Procedure: proc, Stations: map[string]*bench.Station{}, Values: map[string]any{}, Sleep: time.Sleep}
	for _, p := range proc.Ports {
		st := b.Station(p.Name, p.Phrasebook)
		st.Setup = p.Whole()
		run.Stations[p.Name] = st
	}
	for _, in := range proc.Inputs {
		var err error
		if run.Values[in.Name], err = in.Value(*in.Default); err != nil {
			t.Fatal(err)
		}
	}
	run.Events = record.NewStream(w, func(e record.Event) {
		switch {
		case e.Kind == record.Said:
			events = append(events, ">"+e.Text)
		case e.Kind == record.Heard:
			events = append(events, "<"+e.Text)
		case (e.Kind == record.Step || e.Kind == record.Try) && e.Verdict != "" && e.Try > 0:
			events = append(events, string(e.Verdict))
		}
	})
	adjust(run)
	res := run.Do(ctx)
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return res, events, rec.String()
}

func TestStatements(t *testing.T) {
	for _, c := range []struct {
		name, body, want string // want: the verdict, and words of the reason
	}{
		{"an answer", "say north: AT~NODE?\nhear north: ~NODE: {x:int}\ncheck x == 1", "passed"},
		{"a value into a command", "let x = 40 + 2\nsay north: AT~NODE={x}\nsay north: AT~NODE?\nhear north: ~NODE: {=x}", "passed"},
		{"a false check", "say north: AT~NODE?\nhear north: ~NODE: {x:int}\ncheck x == 9 \"the lid\"", "failed line 10: check x == 9 is false: x is 1: the lid"},
		{"a refusal", "say north: AT~NODE={zero}", "failed line 8: north: said AT~NODE=0, was refused with ~REFUSED: 32 (the value is out of range)"},
		{"a refusal that is wanted", "say north: AT~NODE={zero}\nhear north: ~REFUSED: {n:int}\ncheck n == 32", "passed"},
		{"a refusal instead of an answer", "say north: AT~NOED{odd}\nhear north within 1h: ~NODE: {x:int}\ncheck x > 0", "failed line 8: north: said AT~NOEDX, was refused with ~REFUSED: 31"},
		{"a refusal that the next line meets", "say north: AT~NODE={zero}\nsay north: AT", "failed line 8: north: said AT~NODE=0"},
		{"silence", "say bytes north: {lf}hello{cr}\nhear north within 300ms: OK", "failed line 9: north: wanted OK, heard nothing within 300ms"},
		{"bytes", "say bytes north: AT{cr}\nhear bytes north: OK{cr}{lf}", "passed"},
		{"the next line", "say north: ATI\nhear next north: Larkfell Works\nhear next north: Dunlin", "passed"},
		{"not the next line", "say north: ATI\nhear next north: Dunlin", `failed line 9: north: wanted Dunlin next, heard Larkfell Works`},
		{"a message arrives whole", "say north: AT~TELL=2,5,a,b,c\nhear south: ~HEARD: 1,{s:int},{n:num},5,{text}\ncheck text == \"a,b,c\" && s < 0 && n > 0", "passed"},
		{"nothing is lost between statements", "say north: AT~TELL=2,2,hi\npause 1s\nhear south within 1ms: ~HEARD: ...,hi", "passed"},
		{"what must not come", "say north: AT~TELL=2,2,hi\nnot hear south for 1s: ~HEARD: ...", "failed line 9: south: heard"},
		{"what does not come", "say north: AT~TELL=3,2,hi\nnot hear south for 1s: ~HEARD: ...", "passed"},
		{"a limit kept", "limit 5 in 1..9 V", "passed"},
		{"a limit broken", "limit 2.5 in 3.. V \"supply\"", "failed line 8: supply is 2.5 V, wanted 3.. V"},
		{"quiet", "say north: AT~RESTART\nquiet north 400ms\nhear north within 1ms: DUNLIN UP ...", "passed"},
		{"text functions", "check upper(\"ab\") == \"AB\" && len(\"abc\") == 3 && hex(255) == \"FF\" && number(\"2.5\") == 2.5", "passed"},
		{"packets", "let body = u16(513) + i8(-2) + u32le(1)\nsay north: AT~TELL=2,{len(body) + 3},{len(body):u8}{body}{crc16(body, \"v.42\"):u16le}\n" +
			"hear south: ~HEARD: {f:int},{s:int},{n:num},{c:int},{l:u8}{got:bytes(l)}{crc:u16le}\ncheck got == body && crc == crc16(got, \"v.42\") && u16(got[0:2]) == 513 && i8(got[2:3]) == -2 && l == 7", "passed"},
		{"a packet's number is shown as it is compared", "say north: AT~TELL=2,2,{41:u8}{7:u8}\nhear south: ~HEARD: {f:int},{s:int},{n:num},{c:int},{ch:u8}{=7:u8}\ncheck ch == 42", "failed line 10: check ch == 42 is false: ch is 41 (0x29)"},
		{"what proves packets whole", "check crc16(\"123456789\", \"v.41\") == 0x31C3 && crc16(\"123456789\", \"V.42\") == 0x906E && crc16(\"123456789\", \"iso14443a\") == 0xBF05 && crc16(\"123456789\", \"iso18000\") == 0xD64E && crc32(\"123456789\") == 0xCBF43926 && crc32(\"\", \"iso13239\") == 0\ncheck sum8(\"az\") == 219 && xor8(\"az\") == 27 && bits(0x29, 3, 3) == 5 && u32(\"abcd\") == 0x61626364 && u16le(i16le(-2)) == 65534", "passed"},
		{"a number that does not fit", "say bytes north: {300:u8}", "failed line 8: 300 does not fit into u8, which holds 0 to 255"},
		{"a division that cannot be done", "say north: AT~NODE?\nhear north: ~NODE: {x:int}\ncheck 7 % (x - 1) == 0", "failed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				res, _, _ := perform(t, t.Context(), head+"answers within 2s\nstep \"s\"\n"+c.body+"\nend\n")
				s := res.Steps[0]
				want, why, _ := strings.Cut(c.want, " ")
				if string(s.Verdict) != want || !strings.Contains(s.Why, why) || res.Verdict != s.Verdict {
					t.Errorf("%s: %s, want %s", s.Verdict, s.Why, c.want)
				}
			})
		})
	}
}

func TestSteps(t *testing.T) {
	refused := " say north: AT~{odd}\n"
	ok := " say north: AT\n"
	for _, c := range []struct{ name, text, steps, events string }{
		{"a failed step stops", "step \"a\"\n" + refused + "end\nstep \"b\"\n" + ok + "end\n", "failed untested", ">AT~X failed"},
		{"keep going", "keep going\nstep \"a\"\n" + refused + "end\nstep \"b\"\n" + ok + "end\n", "failed passed", ">AT~X failed >AT passed"},
		{"always", "step \"a\"\n" + refused + "end\nstep \"b\"\n" + ok + "end\nstep \"c\" always\n" + ok + "end\n", "failed untested passed", ">AT~X failed >AT passed"},
		{"tries", "step \"a\" tries 3 every 1s\n" + refused + "end\n", "failed", ">AT~X failed >AT~X failed >AT~X failed"},
		{"a late answer is not the next one's", "step \"a\" tries 2\n say north: AT~NODE?\n hear north: ~NODE: {x:int}\n check x == 2\nend\nstep \"b\" always\n say north: AT~GROUP?\n hear next north: ~GROUP: 0\nend\n", "failed passed",
			">AT~NODE? <~NODE: 1 failed >AT~NODE? <~NODE: 1 failed >AT~GROUP? <~GROUP: 0 passed"},
		{"within", "step \"a\" within 1s\n pause 1h\nend\n", "failed", "failed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				began := time.Now()
				res, events, rec := perform(t, t.Context(), head+c.text)
				var steps []string
				for _, s := range res.Steps {
					steps = append(steps, string(s.Verdict))
				}
				if got := strings.Join(steps, " "); got != c.steps {
					t.Errorf("steps %s, want %s", got, c.steps)
				}
				if got := strings.Join(events, " "); got != c.events {
					t.Errorf("events\n%s\nwant\n%s", got, c.events)
				}
				if d := time.Since(began); c.name == "tries" && (d < 2*time.Second || d > 2100*time.Millisecond) || c.name == "within" && d.Round(100*time.Millisecond) != time.Second {
					t.Errorf("took %v", d)
				}
				if n := strings.Count(rec, `"kind":"verdict"`); n != 1 {
					t.Errorf("%d verdicts in the record", n)
				}
			})
		})
	}
}

// Being stopped from outside makes a run broken: the step that was interrupted is
// broken, whatever the header says nothing more is performed but what must be, and
// that has all the time it needs.
func TestStopped(t *testing.T) {
	for header, text := range map[string]string{"": "", "keep going": "keep going\n"} {
		synctest.Test(t, func(t *testing.T) {
			why := errors.New("interrupted")
			ctx, cancel := context.WithCancelCause(t.Context())
			time.AfterFunc(time.Second, func() { cancel(why) })
			began := time.Now()
			res, events, _ := perform(t, ctx, strings.Replace(head, "input zero", text+"input zero", 1)+
				"step \"a\"\n pause 1h\nend\nstep \"b\"\n say north: AT\nend\nstep \"c\" always\n say north: AT\nend\nstep \"d\" always\n pause 5s\nend\nstep \"e\"\n say south: AT\nend\n")
			var steps []string
			for _, s := range res.Steps {
				steps = append(steps, string(s.Verdict))
			}
			if res.Verdict != verdict.Broken || !errors.Is(res.Err, why) || fmt.Sprint(events) != "[broken >AT passed passed]" || fmt.Sprint(steps) != "[broken untested passed passed untested]" {
				t.Errorf("%s: %s, %v, %v, %v", header, res.Verdict, res.Err, events, steps)
			}
			if d := time.Since(began); d > 7*time.Second {
				t.Errorf("took %v", d)
			}
		})
	}
}

// BenchmarkExchange is one command and its answer over a pseudo-terminal
// against an instant module, beside a bare write and read.
func BenchmarkExchange(b *testing.B) {
	p, err := port.OpenPseudo()
	if err != nil {
		b.Skip(err)
	}
	defer p.Close()
	go func() {
		buf := make([]byte, 100)
		for {
			if _, err := p.Read(buf); err != nil {
				return
			}
			if _, err := io.WriteString(p, "\r\nOK\r\n"); err != nil {
				return
			}
		}
	}()
	b.Run("perform", func(b *testing.B) {
		proc, err := procedure.Parse("b", "procedure \"B\"\nport a: dialect at, ending cr\nstep \"s\"\n say a: AT\nend\n")
		if err != nil {
			b.Fatal(err)
		}
		st := &bench.Station{Name: "a", Address: port.Address{Where: p.Path()}, Setup: proc.Ports[0].Setup}
		d, err := st.Open(b.Context(), nil, nil)
		if err != nil {
			b.Fatal(err)
		}
		defer d.Close()
		for b.Loop() {
			if _, err := d.Say(b.Context(), "AT", time.Second); err != nil {
				b.Fatal(err)
			}
			if err := d.Settle(b.Context(), time.Second); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("bare", func(b *testing.B) {
		h, err := port.Open(b.Context(), port.Address{Where: p.Path()}, phrasebook.Setup{}.Line())
		if err != nil {
			b.Fatal(err)
		}
		defer h.Close()
		buf := make([]byte, 100)
		for b.Loop() {
			if _, err := h.Write(b.Context(), []byte("AT\r")); err != nil {
				b.Fatal(err)
			}
			for got := 0; got < 6; {
				n, err := h.Read(buf)
				if err != nil {
					b.Fatal(err)
				}
				got += n
			}
		}
	})
}

// What a module or a person calls a file cannot lead out of its folder.
func TestFileName(t *testing.T) {
	for name, want := range map[string]string{"../../etc/x": "_.._etc_x", "a b\x1b[2J.log": "a_b__2J.log", "": "kept", "...": "kept", "tower-3.log": "tower-3.log", strings.Repeat("x", 300): strings.Repeat("x", 120)} {
		if got := fileName(name); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}
