//go:build unix

package rehearse

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/sim"
	"uparrot/core/sim/families"
	"uparrot/core/verdict"
	"uparrot/tests/program"
)

var uparrot string // the program

func TestMain(m *testing.M) { program.Main(m, &uparrot) }

// play is a procedure at Dunlins.
func play(t testing.TB, text string, values map[string]any, settings ...map[string]string) *Play {
	t.Helper()
	f, err := procedure.Parse("../../examples/made.parrot", text)
	if err != nil {
		t.Fatal(err)
	}
	p := &Play{File: f, Values: values, Stations: map[string]*bench.Station{}, Modules: map[string]bench.Standin{}, Seed: 1}
	for i, d := range f.Ports {
		p.Stations[d.Name] = &bench.Station{Name: d.Name, Setup: d.Whole(), Phrasebook: d.Phrasebook}
		m := bench.Standin{Name: d.Name, Family: "dunlin", Line: d.Whole().Line(), Place: 100 * float64(i)}
		if i < len(settings) {
			m.Settings = settings[i]
		}
		p.Modules[d.Name] = m
	}
	return p
}

func rehearsed(t testing.TB, p *Play) *Report {
	t.Helper()
	r, err := p.Rehearse(t.Context(), 20)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

const head = "procedure \"Made\"\nport radio: dialect at, ending cr, phrasebook \"dunlin.toml\"\ninput address: int 1..65534\n"

// Each class of bad modules, at procedures that are known to catch, or to let through.
func TestClasses(t *testing.T) {
	set := "step \"set\" tries 2\n    say radio: AT~NODE={address}\n"
	for name, c := range map[string]struct {
		text, bad, about string
		class            Class
		at               string
	}{
		"not read back":          {set + "end\n", "not stored", "address", Missed, ""},
		"read back":              {set + "    say radio: AT~NODE?\n    hear radio: ~NODE: {=address}\nend\n", "not stored", "address", Caught, "set"},
		"read and not compared":  {set + "    say radio: AT~NODE?\n    hear radio: ~NODE: {n:int}\n    note n\nend\n", "stored wrong: the next value", "address", Missed, ""},
		"never written":          {set + "end\n", "not stored", "channel", NotTested, ""},
		"lies of it":             {set + "    say radio: AT~NODE?\n    hear radio: ~NODE: {=address}\nend\n", "stored and not used", "address", NotObservable, ""},
		"tried again":            {set + "    say radio: AT~NODE?\n    hear radio: ~NODE: {=address}\nend\n", "stored at the second try only", "address", Harmless, ""},
		"not looked at again":    {set + "    say radio: AT~NODE?\n    hear radio: ~NODE: {=address}\nend\nstep \"restart\"\n    say radio: AT~RESTART\n    hear radio within 5s: DUNLIN UP ...\nend\n", "lost at a restart", "address", Missed, ""},
		"looked at again":        {set + "end\nstep \"restart\"\n    say radio: AT~RESTART\n    hear radio within 5s: DUNLIN UP ...\n    say radio: AT~NODE?\n    hear radio: ~NODE: {=address}\nend\n", "lost at a restart", "address", Caught, "restart"},
		"firmware not asked for": {set + "end\n", "another firmware", "firmware", NotTested, ""},
		"firmware noted alone":   {set + "    say radio: ATI\n    hear radio: {a}\n    hear radio: {b}\n    hear radio: {firmware}\n    note firmware\nend\n", "another firmware", "firmware", Missed, ""},
		"firmware checked":       {set + "    say radio: ATI\n    hear radio: Larkfell Works\n    hear radio: Dunlin\n    hear radio: 2.4{}\nend\n", "another firmware", "firmware", Caught, "set"},
		"a refusal is wanted":    {set + "    say radio: AT~GROUP=999\n    hear radio: ~REFUSED: 32\nend\n", "a refusal answered with success", "AT~GROUP=999", Caught, "set"},
		"any answer will do":     {set + "    say radio: AT~GROUP={500 + address}\n    hear radio: {}\nend\n", "a refusal answered with success", "AT~GROUP=505", Missed, ""},
		"a stranger":             {set + "    say radio: AT~NODE?\n    hear radio: ~NODE: {=address}\nend\n", "is of another family", "another module", Caught, "set"},
		"nobody asks":            {"step \"s\" tries 2\n    say radio: AT\nend\n", "is of another family", "another module", Missed, ""},
		"says yes":               {set + "end\n", "says yes to everything", "another module", Missed, ""},
		"time":                   {"step \"s\"\n    say radio: AT~RESTART\n    hear radio within 5s took boot: DUNLIN UP ...\n    limit boot in 0..2 \"start\"\nend\n", "a time above its limit", "start", Caught, "s"},
		"not what is measured":   {set + "    say radio: AT~POWER?\n    hear radio: ~POWER: {p:int}\n    check p == 14\n    let q = 14\n    limit q in 0..14 \"power\"\nend\n", "a value outside its limits", "power", NotTested, ""},
		"limit":                  {set + "    say radio: AT~POWER?\n    hear radio: ~POWER: {p:int}\n    limit p in 0..14 dBm \"power\"\nend\n", "a value above its limit", "power", Caught, "set"},
	} {
		t.Run(name, func(t *testing.T) {
			r := rehearsed(t, play(t, head+c.text, map[string]any{"address": 5}))
			for _, b := range r.Bad {
				if b.Name != c.bad || b.About != c.about {
					continue
				}
				if b.Class != c.class || b.Step != c.at {
					t.Errorf("%s at %q (%s), wanted %s at %q", b.Class, b.Step, b.Why, c.class, c.at)
				}
				if c.class == Missed && c.about == "address" && (b.Mend == nil || strings.Join(b.Mend.Lines, "|") != "say radio: AT~NODE?|hear radio: ~NODE: {=address}") {
					t.Errorf("to mend it: %+v", b.Mend)
				}
				return
			}
			t.Errorf("there is no such module among %+v", r.Bad)
		})
	}
}

// The lines that are proposed catch what was missed, and what has them is a procedure still.
func TestMend(t *testing.T) {
	text := head + "input channel: int 0..79\nlet label = \"mast \" + string(address)\nstep \"set\"\n    say radio: AT~NODE={address}\n    say radio: AT~CHANNEL={channel}\n    say radio: AT~NAME=\"{label}\"\nend\nstep \"restart\"\n    say radio: AT~RESTART\n    hear radio within 5s: DUNLIN UP ...\nend\n"
	p := play(t, text, map[string]any{"address": 5, "channel": 41})
	r := rehearsed(t, p)
	if n := r.Count(Missed); n < 10 {
		t.Errorf("%d missed", n)
	}
	mended, put, err := r.Insert(p.File)
	if err != nil || put != 6 {
		t.Fatalf("%d put, %v", put, err)
	}
	again := rehearsed(t, play(t, mended, p.Values))
	if score, _ := again.Score(); score != 1 || again.Count(Missed) != 0 {
		t.Errorf("%v after this:\n%s", again.Bad, mended)
	}
}

// Values that are worked out, that come many times or in packets are brought to their limits, and
// outside them, as those are that stand in a line; what tells a damaged packet is known; the network
// answers late, or not at all.
func TestMadeValues(t *testing.T) {
	gauge := "procedure \"Wind\"\nport gauge: dialect bytes, speed 4800, frame 8E1, ending none, phrasebook \"plover.toml\"\nstep \"s\"\n    say bytes gauge: W\n"
	radio := head + "step \"s\"\n    say radio: AT~POWER?\n    hear radio: ~POWER: {p:int}\n"
	for _, c := range []struct{ text, caught, missed, accepted, not string }{
		{radio + "    limit 3 * p - 50 in -50..10 mW \"made\"\nend\n", "a value below its limit of made at s, a value above its limit of made at s", "", "made made of 0, at its limit; made made of 1, just inside its limit; made made of 20, at its limit; made made of 19, just inside its limit", "21,"},
		{radio + "    limit -p in -20..0 dBm \"turned\"\nend\n", "a value below its limit of turned at s, a value above its limit of turned at s", "", "turned made of 20, at its limit; turned made of 0, at its limit", ""},
		{radio + "    limit p * p in 0..400 \"squared\"\nend\n", "a value above its limit of squared at s", "", "squared made of 20, at its limit; squared made of 19, just inside its limit", ""},
		{head + "step \"s\"\n    repeat 3 times\n        say radio: AT~POWER?\n        hear radio: ~POWER: {p:int}\n        limit p in 0..15 dBm \"power\"\n    end\nend\n", "a value below its limit of power at s, a value above its limit of power at s", "", "power is 15, at its limit; power is 0, at its limit", "16,"},
		{gauge + "    hear packet gauge: wind\n    limit speed / 10 in 0..60 m/s \"wind\"\n    limit from in 0..359 deg \"direction\"\nend\n", "a value above its limit of wind at s, a value above its limit of direction at s, a byte of a packet is changed of wind at s", "", "wind made of 600, at its limit; direction is 359, at its limit", "made of -1"},
		{gauge + "    hear bytes gauge: {hex A7}{speed:u16}{from:u16}{sum:u8}\n    limit speed / 10 in 0..6553.5 m/s \"wind\"\nend\n", "", "a byte of a packet is changed of wind in s: hear packet gauge: wind", "", ""},
		// One measurement in two steps: each is brought outside by its own number; also one in a routine.
		{radio + "    limit p in 0..15 dBm \"power\"\nend\nstep \"t\"\n    say radio: AT~CHANNEL?\n    hear radio: ~CHANNEL: {c:int}\n    limit c in 0..79 \"power\"\nend\n", "a value above its limit of power at s, a value above its limit of power at t", "", "power is 15, at its limit; power is 79, at its limit", ""},
		{head + "routine asks(module)\n    say module: AT~POWER?\n    hear module: ~POWER: {p:int}\n    limit p in 0..15 dBm \"power\"\nend\nstep \"s\"\n    do asks(radio)\nend\n", "a value above its limit of power at s", "", "power is 15, at its limit", ""},
		{head + "step \"s\"\n    reach \"192.0.2.7\" tcp 80 within 5s\nend\n", "cannot be reached of what is to be reached at s", "", "it is reached as late as is allowed", ""},
	} {
		p := play(t, c.text, map[string]any{"address": 5})
		if _, is := p.Modules["gauge"]; is {
			p.Modules["gauge"] = bench.Standin{Name: "gauge", Family: "plover", Line: p.Stations["gauge"].Setup.Line()}
		}
		var caught, missed, accepted []string
		r := rehearsed(t, p)
		for _, b := range r.Bad {
			switch b.Class {
			case Caught:
				caught = append(caught, fmt.Sprintf("%s of %s at %s", b.Name, b.About, b.Step))
			case Missed:
				missed = append(missed, fmt.Sprintf("%s of %s in %s: %s", b.Name, b.About, b.In, strings.Join(b.Mend.Lines, "|")))
			}
		}
		for _, g := range r.Good {
			if !g.Alarm {
				accepted = append(accepted, g.Name)
			}
		}
		all := strings.Join(slices.Concat(caught, missed, accepted), "; ")
		for _, want := range []struct {
			list []string
			all  string
			by   string
		}{{caught, c.caught, ", "}, {missed, c.missed, "; "}, {accepted, c.accepted, "; "}} {
			for _, one := range strings.Split(want.all, want.by) {
				if one != "" && !slices.Contains(want.list, one) {
					t.Errorf("%s: %q is not among %q of\n%s", c.text, one, want.list, all)
				}
			}
		}
		if c.not != "" && strings.Contains(all, c.not) {
			t.Errorf("%s: %q is in %s", c.text, c.not, all)
		}
	}
}

// Good modules as they may come: who is refused, and where.
func TestHabits(t *testing.T) {
	alarms := func(text string) string {
		var all []string
		for _, g := range rehearsed(t, play(t, head+text, map[string]any{"address": 5})).Good {
			if g.Alarm {
				all = append(all, g.Name)
			}
		}
		return strings.Join(all, ", ")
	}
	for text, want := range map[string]string{
		"step \"s\" tries 3\n    say radio: AT\nend\n": "",
		"step \"s\"\n    say radio: AT\nend\n":         "the first command after power-up is refused",
		"step \"s\" tries 3\n    say radio: AT~NODE?\n    hear radio: {first}\n    check first == \"~NODE: 1\"\nend\n":                     "", // tried again it comes
		"step \"s\" tries 3\n    say radio: AT~POWER?\n    hear radio: ~POWER: {p:int}\n    limit p in 0..20 dBm\n    check p < 20\nend\n": "p is 20, at its limit",
	} {
		if got := alarms(text); got != want {
			t.Errorf("%s: refused %s; wanted %s", text, got, want)
		}
	}
}

// The same seed gives the same bytes; what does not pass at good modules tells so; secrets are
// shown nowhere.
func TestRehearsal(t *testing.T) {
	text := "procedure \"Pair\"\nport valley: dialect at, ending cr, phrasebook \"dunlin.toml\"\nport summit: dialect at, ending cr, phrasebook \"dunlin.toml\"\nsecret code\nstep \"set\" tries 3\n    say valley: AT~NAME=\"{code}\"\nend\nstep \"say\" tries 2\n    say valley: AT~TELL=2,2,hi\n    hear summit within 1s: ~HEARD: {},{},{},2,hi\nend\n"
	one := func() string {
		p := play(t, text, map[string]any{"code": "frost-and-rime"}, map[string]string{"node": "1"}, map[string]string{"node": "2"})
		p.Air = bench.Air{Loss: 0.3, Delay: 20 * time.Millisecond}
		text, err := json.Marshal(rehearsed(t, p))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	first := one()
	for range 4 {
		if again := one(); again != first {
			t.Fatalf("the same seed:\n%s\n%s", first, again)
		}
	}
	if strings.Contains(first, "frost") || !strings.Contains(first, "[secret]") {
		t.Error(first)
	}
	var r Report
	if err := json.Unmarshal([]byte(first), &r); err != nil || len(r.Chances) != 1 || r.Chances[0].Step != "say" || r.Chances[0].With < 4 || r.Chances[0].With > 9 {
		t.Errorf("%+v, %v", r.Chances, err)
	}
	_, err := play(t, head+"step \"s\"\n    say radio: AT~NODE?\n    hear radio: ~NODE: 77\nend\n", map[string]any{"address": 5}).Rehearse(t.Context(), 0)
	if _, ok := err.(*NotPassed); !ok {
		t.Error(err)
	}
	if err := inMadeUpTime(func() {
		forever := make(chan int)
		go func() { <-forever }()
	}); err == nil || !strings.Contains(err.Error(), "did not come to its end") {
		t.Error(err)
	}
	if err := inMadeUpTime(func() { panic("a fault") }); err == nil || !strings.Contains(err.Error(), "a fault") {
		t.Error(err)
	}
}

// What a rehearsal tells of a module is what the program finds when that module is at a
// pseudo-terminal, in real time.
func TestAgreesWithBench(t *testing.T) {
	for _, c := range []struct {
		file   string
		values map[string]any
		set    []string
	}{
		{"commission", map[string]any{"address": 5, "group": 7, "channel": 41}, []string{"--set", "address=5"}},
		{"hasty", map[string]any{"address": 5, "channel": 41}, []string{"--set", "address=5"}},
	} {
		f, err := procedure.Read("../../examples/" + c.file + ".parrot")
		if err != nil {
			t.Fatal(err)
		}
		p := play(t, head+"step \"s\"\n    pause 1ms\nend\n", c.values)
		p.File = f
		good, err := p.perform(t.Context(), trial{seed: 1})
		if err != nil {
			t.Fatal(err)
		}
		b := &baseline{outcome: good}
		if err := p.look(t.Context(), b); err != nil {
			t.Fatal(err)
		}
		type one struct {
			name  string
			scene func() trial
		}
		var all []one
		for _, m := range p.mutants(b) {
			if m.touched && m.make != nil {
				all = append(all, one{m.name + " of " + m.about, func() trial {
					var on *trigger
					return p.with(m, &on)
				}})
			}
		}
		for _, h := range append(p.habits(b), p.firstRefused(b)...) {
			if h.scene.style["radio"].delay == 0 { // that is a matter of a hundredth of a second
				all = append(all, one{h.name, func() trial { return h.scene }})
			}
		}
		t.Logf("%s: %d modules", c.file, len(all))
		if len(all) < 25 {
			t.Errorf("only %d modules", len(all))
		}
		var several sync.WaitGroup
		turn := make(chan struct{}, 4)
		for _, m := range all {
			several.Go(func() {
				turn <- struct{}{}
				defer func() { <-turn }()
				o, err := p.perform(t.Context(), m.scene())
				if err != nil {
					t.Error(err)
					return
				}
				step, _ := failedAt(o.res)
				was, at := p.atTerminal(t, m.scene(), "../../examples/"+c.file+".parrot", c.set)
				if string(o.res.Verdict) != was || o.res.Verdict != verdict.Passed && step != at {
					t.Errorf("%s, %s: %s at %q in a rehearsal, %s at %q by the program", c.file, m.name, o.res.Verdict, step, was, at)
				}
			})
		}
		several.Wait()
	}
}

// atTerminal has the program perform a procedure on a module at a pseudo-terminal.
func (p *Play) atTerminal(t *testing.T, s trial, file string, set []string) (came, at string) {
	m := p.Modules["radio"]
	if other, is := s.modules["radio"]; is {
		m = other
	}
	b, err := sim.New(sim.Config{Families: families.All, Modules: []bench.Standin{m}})
	if err != nil {
		t.Error(err)
		return
	}
	defer b.Close()
	pseudo, err := port.OpenPseudo()
	if err != nil {
		t.Error(err)
		return
	}
	defer pseudo.Close()
	l := &log{}
	var tm tamper
	if make := s.tampers["radio"]; make != nil {
		tm = make(l)
	}
	mid := newMiddle("radio", pseudo, true, tm, s.style["radio"], l)
	defer mid.close()
	if before := s.before["radio"]; before != nil {
		mid.give(before)
	}
	if _, err := b.Attach("radio", mid); err != nil {
		t.Error(err)
		return
	}
	out, _ := exec.Command(uparrot, append([]string{"run", file, "--port", "radio=" + pseudo.Path(), "--no-ledger", "--json", "--quiet", "--operator", "none"}, set...)...).Output() // the status is in the result
	var res struct {
		Verdict string
		Steps   []struct{ Title, Verdict string }
	}
	if err := json.Unmarshal(out, &res); err != nil {
		t.Errorf("%v: %s", err, out)
	}
	for _, st := range res.Steps {
		if st.Verdict == "failed" || st.Verdict == "broken" {
			return res.Verdict, st.Title
		}
	}
	return res.Verdict, ""
}

// How many rehearsals of the example of seven steps are done in a second, beside one of fifty steps.
func BenchmarkRehearsal(b *testing.B) {
	f, err := procedure.Read("../../examples/commission.parrot")
	if err != nil {
		b.Fatal(err)
	}
	long := head
	for i := range 50 {
		long += fmt.Sprintf("step \"%d\"\n    say radio: AT~NODE={address}\n    say radio: AT~NODE?\n    hear radio: ~NODE: {=address}\nend\n", i)
	}
	short := play(b, head+"step \"s\"\n    pause 1ms\nend\n", map[string]any{"address": 5, "group": 7, "channel": 41})
	short.File = f
	for name, p := range map[string]*Play{"seven steps": short, "fifty steps": play(b, long, map[string]any{"address": 5})} {
		b.Run(name, func(b *testing.B) {
			n := 0
			for b.Loop() {
				if o, err := p.perform(b.Context(), trial{seed: 1}); err != nil || o.res.Verdict != verdict.Passed {
					b.Fatal(o.res.Verdict, err)
				}
				n++
			}
			b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "rehearsals/s")
		})
	}
}

// A rehearsal that would go on for ever ends when it is told to, also within made-up time.
func TestEnded(t *testing.T) {
	t.Parallel()
	why := errors.New("somebody has had enough")
	ctx, cancel := context.WithCancelCause(t.Context())
	time.AfterFunc(200*time.Millisecond, func() { cancel(why) })
	p := play(t, head+"step \"s\" tries 3 within 10m\n    say radio: AT\n    repeat 1000000 times\n        repeat 1000000 times\n            let x = address\n        end\n    end\nend\nstep \"back\" always\n    say radio: AT\nend\n", map[string]any{"address": 7})
	if r, err := p.Rehearse(ctx, 20); !errors.Is(err, why) { // else the test itself does not end
		t.Errorf("%+v, %v", r, err)
	}
}

// What goes beyond a bound is cut: it is undecided, and has no score, whatever was found by then.
func TestCut(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		step string
		most time.Duration
		why  string
	}{
		"statements": {"repeat 1000000 times\n repeat 1000000 times\n let x = address\n end\n end", 0, "not over after 20000 statements"},
		"memory":     {"let t = \"0123456789\"\n repeat 16 times\n let t = t + t\n end\n repeat 100000 times\n say radio without answer: {t}\n end", 0, "takes more than 256 MB of memory"},
		"time":       {"repeat 1000000 times\n repeat 1000000 times\n let x = address\n end\n end", time.Millisecond, "it is not over after 1ms"},
		"some caught": {"say radio: AT~NODE={address}\n say radio: AT~NODE?\n hear radio: ~NODE: {n:int}\n if n != address\n repeat 1000000 times\n repeat 1000000 times\n let x = address\n end\n end\n end\n" +
			"check n == address", 0, "not over after 20000 statements"},
	} {
		p := play(t, head+"step \"s\"\n say radio: AT\n "+c.step+"\nend\n", map[string]any{"address": 7})
		p.For, p.Most = c.most, 20_000
		r, err := p.Rehearse(t.Context(), 0)
		if err != nil || !strings.Contains(r.Cut, c.why) || r.Verdict(0) != verdict.Undecided {
			t.Errorf("%s: %+v, %v", name, r, err)
			continue
		}
		if score, is := r.Score(); is {
			t.Errorf("%s has a score of %v", name, score)
		}
	}
}

// A table of units is bounded as a rehearsal is: cut, or ended when it is told to.
func TestBatchCut(t *testing.T) {
	t.Parallel()
	endless := head + "step \"s\"\n say radio: AT\n repeat 1000000 times\n repeat 1000000 times\n let x = address\n end\n end\nend\n"
	units := Batch{Slots: 2, Hands: 1, Units: []map[string]any{{"address": 1}, {"address": 2}, {"address": 3}}}
	p := play(t, endless, map[string]any{"address": 7})
	p.Most = 10_000
	if _, err := p.Batch(t.Context(), units); err == nil || !strings.Contains(err.Error(), "not over after 30000 statements") {
		t.Error(err)
	}
	p.Most, p.For = 1<<40, 50*time.Millisecond
	if _, err := p.Batch(t.Context(), units); err == nil || !strings.Contains(err.Error(), "not over after 50ms") {
		t.Error(err)
	}
	why := errors.New("somebody has had enough")
	ctx, cancel := context.WithCancelCause(t.Context())
	time.AfterFunc(100*time.Millisecond, func() { cancel(why) })
	p.For = 0
	if _, err := p.Batch(ctx, units); !errors.Is(err, why) { // else the test itself does not end
		t.Error(err)
	}
}
