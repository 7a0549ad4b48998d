package dialog

import (
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
)

func TestConsole(t *testing.T) {
	type do = func(r *rig) string
	came := func(s string) do { return func(r *rig) string { r.says(s); return "" } }
	say := func(s string) do {
		return func(r *rig) string { _, err := r.Say(ctx, s, time.Second); return outcome(Heard{}, err) }
	}
	hear := func(p string) do { return func(r *rig) string { return r.hear(pattern.WholeLine, p) } }
	hearBytes := func(p string) do { return func(r *rig) string { return r.hear(pattern.AnyBytes, p) } }
	settle := func(r *rig) string { return outcome(Heard{}, r.Settle(ctx, time.Second)) }
	collect := func(u Until) do {
		return func(r *rig) string {
			s, err := r.Collect(ctx, u, time.Second)
			return strings.ReplaceAll(outcome(Heard{Text: s}, err), "\n", "/")
		}
	}
	asked := func(r *rig) string { r.Asked(); return "" }
	for _, c := range []struct {
		name string
		do   []do
		want string
	}{
		{"the prompt ends an exchange", []do{say("show"), came("show\r\nmask 24\r\npost> "), settle, hear("mask {n:int}")}, "|||mask 24"},
		{"without it an exchange stays open", []do{say("show"), came("mask 24\r\n"), settle}, "||missed, heard mask 24"},
		{"colours in the prompt", []do{say("show"), came("\x1b[32mpost>\x1b[0m "), settle}, "||"},
		{"a colour code cut in two", []do{say("show"), came("\x1b[32mpost>\x1b["), came("0m "), settle, came("\r\nA\r\n"), hear("A")}, "|||||A"},
		{"noise before the prompt", []do{say(""), came("\x00\xfe\x03post> "), settle}, "||"},
		{"a line with the prompt's words is a line", []do{say("x"), came("see post> and more\r\npost> "), settle, hear("see ...")}, "|||see post> and more"},
		{"an echo behind the prompt", []do{came("boot\r\npost> show"), say("show"), came("\r\nmask 24\r\npost> "), settle, hear("{x}")}, "||||mask 24"},
		{"an echo without line end", []do{say("show"), came("showmask 24\r\npost> "), hear("mask {n:int}")}, "||mask 24"},
		{"a refusal is told before the prompt", []do{say("shwo"), came("no such word\r\n"), hear("mask ...")}, "||refused shwo: no such word"},
		{"a wanted refusal", []do{say("shwo"), came("no such word\r\npost> "), hear("no such word"), settle}, "||no such word|"},
		{"an old answer is no new answer", []do{say("a"), came("mask 1\r\npost> "), say("a"), came("mask 2\r\npost> "), hear("mask {n:int}")}, "||||mask 2"},
		{"another prompt lets the next line be said", []do{say(""), came("name: "), hearBytes("name:"), asked, say("ops"), came("code: "), hearBytes("code:")}, "||name:||||code:"},
		{"collect until the prompt", []do{say("log"), came("log\r\na\r\nb\r\npost> "), collect(Until{Prompt: true}), settle}, "||a/b|"},
		{"collect until a line", []do{came("a\r\nEND 1\r\nb\r\n"), collect(Until{Line: pattern.Must("END {}")}), hear("b")}, "|a/END 1|b"},
		{"collect until quiet", []do{came("a\r\nb\r\n"), collect(Until{Quiet: 300 * time.Millisecond})}, "|a/b"},
		{"collect in vain", []do{came("a\r\n"), collect(Until{Prompt: true})}, "|missed, heard a"},
		{"collect meets a refusal", []do{say("lgo"), came("no such word\r\n"), collect(Until{Prompt: true})}, "||refused lgo: no such word"},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := newRig(t, Config{Dialect: phrasebook.Console, Prompts: patterns("post>"), Refusals: patterns("no such word")})
				var got []string
				for _, f := range c.do {
					got = append(got, f(r))
				}
				if s := strings.Join(got, "|"); s != c.want {
					t.Errorf("got  %q\nwant %q", s, c.want)
				}
			})
		})
	}
}

// Several things at several ports: the earliest decides, a line answers once,
// and nobody waits for what nobody wants.
func TestSeveral(t *testing.T) {
	type came struct {
		port  int
		after time.Duration
		text  string
	}
	type want struct {
		port    int
		form    pattern.Form
		pattern string
	}
	for _, c := range []struct {
		name  string
		came  []came
		wants []want
		first string
		all   string
	}{
		{"the earlier line, not the earlier case", []came{{0, 0, "B\r\nA\r\n"}}, []want{{0, pattern.WholeLine, "A"}, {0, pattern.WholeLine, "B"}}, "1:B", "A B"},
		{"whichever port", []came{{1, 200 * time.Millisecond, "A\r\n"}, {0, 400 * time.Millisecond, "A\r\n"}}, []want{{0, pattern.WholeLine, "A"}, {1, pattern.WholeLine, "A"}}, "1:A", "A A"},
		{"a line answers one only", []came{{0, 0, "A\r\n"}}, []want{{0, pattern.WholeLine, "A"}, {0, pattern.WholeLine, "{x}"}}, "0:A", "missed, heard "},
		{"bytes and lines", []came{{0, 0, "> "}, {0, 100 * time.Millisecond, "OK\r\n"}}, []want{{0, pattern.WholeLine, "OK"}, {0, pattern.AnyBytes, "> "}}, "1:> ", "OK > "},
		{"nothing", nil, []want{{0, pattern.WholeLine, "A"}, {1, pattern.WholeLine, "B"}}, "silence", "silence"},
	} {
		t.Run(c.name, func(t *testing.T) {
			for _, all := range []bool{false, true} {
				synctest.Test(t, func(t *testing.T) {
					rigs := []*rig{newRig(t, Config{}), newRig(t, Config{})}
					for _, m := range c.came {
						time.AfterFunc(m.after, func() { rigs[m.port].module.Write([]byte(m.text)) })
					}
					var asks []Ask
					for _, w := range c.wants {
						asks = append(asks, Ask{rigs[w.port].Dialog, Wait{Form: w.form, Pattern: pattern.Must(w.pattern)}})
					}
					began := time.Now()
					var got, wanted string
					if all {
						heard, err := All(ctx, asks, time.Second)
						if wanted = c.all; err != nil {
							got = outcome(Heard{}, err)
						} else {
							got = heard[0].Text + " " + heard[1].Text
						}
					} else {
						i, h, err := First(ctx, asks, time.Second)
						if wanted = c.first; err != nil {
							got = outcome(h, err)
						} else {
							got = fmt.Sprintf("%d:%s", i, h.Text)
						}
					}
					if got != wanted {
						t.Errorf("all %t: %q, want %q", all, got, wanted)
					}
					if time.Since(began) > time.Second {
						t.Error("waited beyond the limit")
					}
				})
			}
		})
	}
}

// BenchmarkAny is one line against an any with 10 and with 100 cases.
func BenchmarkAny(b *testing.B) {
	for _, n := range []int{10, 100} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			d := Open(endless{}, Config{})
			d.Close()
			var asks []Ask
			for i := range n {
				asks = append(asks, Ask{d, Wait{Pattern: pattern.Must(fmt.Sprintf("~VALUE%02d: {v:int}", i))}})
			}
			w, done := watch(asks)[0], make([]bool, n)
			line := []byte("~STATUS: 12,on,off,17.5,23.1,ok\r\n")
			now := time.Now()
			for b.Loop() {
				d.take(now, line)
				if f := w.look(asks, done); f.found {
					b.Fatal("found")
				}
			}
		})
	}
}
