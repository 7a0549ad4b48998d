package link

import (
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/port"
	"uparrot/core/sim"
	"uparrot/core/sim/simtest"
	"uparrot/core/stats"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// Sure tests stop early where the case is clear, and go on to the end where it is
// not.
func TestUntilSure(t *testing.T) {
	limit := 0.1
	for loss, want := range map[float64]struct {
		verdict verdict.Verdict
		most    int
	}{0: {verdict.Passed, 2200}, 0.4: {verdict.Failed, 400}, 0.1: {verdict.Undecided, 2500}} {
		synctest.Test(t, func(t *testing.T) {
			_, valley, summit := simtest.Radios(t, bench.Air{Seed: 4, Loss: loss, Delay: 5 * time.Millisecond}, "2")
			test := &Test{Plan: Plan{Count: 2500, Every: 50 * time.Millisecond, Sure: true, Deadline: time.Second, Limits: Limits{MaxLoss: &limit}}, A: valley, B: summit, Sleep: time.Sleep}
			if err := test.Check(); err != nil {
				t.Fatal(err)
			}
			sum, err := test.Do(t.Context())
			if d := sum.Directions[0]; err != nil || sum.Verdict != want.verdict || d.Sent > want.most {
				t.Errorf("loss %v: %s after %d, %v, %v", loss, sum.Verdict, d.Sent, d.Why, err)
			}
		})
	}
}

// A test that is ended in its midst and goes on from its checkpoint counts as one
// that ran through, the frames on their way at that moment apart.
func TestCheckpoint(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b, valley, summit := simtest.Radios(t, bench.Air{Seed: 6, Loss: 0.1, Delay: 30 * time.Millisecond, Enter: 0.02, Leave: 0.4}, "2")
		path := filepath.Join(t.TempDir(), "checkpoint.json")
		plan := Plan{Count: 2000, Every: 100 * time.Millisecond, Both: true, Deadline: time.Second}
		first := &Test{Plan: plan, A: valley, B: summit, Sleep: time.Sleep}
		if err := first.Check(); err != nil {
			t.Fatal(err)
		}
		stop := fmt.Errorf("killed")
		n := 0
		first.Checkpoint = func(c Checkpoint) error {
			if n++; n == 2 { // what comes after this one is lost with the program
				return stop
			}
			return c.Write(path)
		}
		if _, err := first.Do(t.Context()); err == nil {
			t.Fatal("was not ended")
		}
		before := map[string]sim.Truth{}
		for _, tr := range b.Truth() {
			before[tr.From] = tr
		}
		c, err := ReadCheckpoint(path)
		if err != nil {
			t.Fatal(err)
		}
		sum := c.Summary // as it was then
		if len(sum.Directions) != 2 || sum.Directions[0].Sent < 585 || sum.Directions[0].Sent > 600 {
			t.Fatalf("%+v", sum)
		}
		for what, change := range map[string]func(*Plan){
			"limits":       func(p *Plan) { p.Limits.MaxLoss = new(float64) },
			"waited":       func(p *Plan) { p.Deadline = time.Minute },
			"every 100 ms": func(p *Plan) { p.Every = time.Second },
			"bytes":        func(p *Plan) { p.Size = 40 },
			"directions":   func(p *Plan) { p.Both = false },
		} {
			other := &Test{Plan: first.Plan, A: valley, B: summit, Sleep: time.Sleep, Resume: c}
			if change(&other.Plan); c.Fits(other) == nil || !strings.Contains(c.Fits(other).Error(), what) {
				t.Errorf("%s: %v", what, c.Fits(other))
			}
		}
		second := &Test{Plan: plan, A: valley, B: summit, Sleep: time.Sleep, Resume: c}
		if err := second.Check(); err != nil {
			t.Fatal(err)
		}
		whole, err := second.Do(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for i, d := range whole.Directions {
			at := sum.Directions[i]
			after := truthOf(b, d.From)
			// The second part is exact; the first is what the checkpoint said.
			sent, lost := after.Sent-before[d.From].Sent, after.Lost-before[d.From].Lost
			if d.Sent != at.Sent+sent || d.Lost != at.Lost+lost || d.Received+d.Lost+d.UnderWay != d.Sent || d.UnderWay > 2 || whole.Run != sum.Run {
				t.Errorf("%s: %d sent, %d lost; first %d, %d, then %d, %d", d.From, d.Sent, d.Lost, at.Sent, at.Lost, sent, lost)
			}
			minutes := 0
			for _, m := range d.Minutes {
				minutes += m.Sent
			}
			bins, err := d.Latencies()
			if err != nil || minutes != d.Sent-d.UnderWay || total(bins) != d.Received || d.Bursts.Runs < at.Bursts.Runs {
				t.Errorf("%v, %d in minutes, %d in bins", err, minutes, total(bins))
			}
		}
		if err := os.WriteFile(path, []byte("{}"), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := ReadCheckpoint(path); err == nil {
			t.Error("took a file that is no checkpoint")
		}
	})
}

// truthOf is what the air did to what one radio sent.
func truthOf(b *simtest.Bench, from string) sim.Truth {
	for _, tr := range b.Truth() {
		if tr.From == from {
			return tr
		}
	}
	return sim.Truth{}
}

// Frames fall into the stretch in which they were sent, however late they settle.
func TestWalk(t *testing.T) {
	at := func(s int) time.Time { return time.Unix(int64(s), 0) }
	w := NewWalk(at(0))
	w.Mark("tower 1", at(10))
	w.Mark("nothing", at(20))
	w.Mark("tower 2", at(21))
	if w.Name() != "tower 2" {
		t.Error(w.Name())
	}
	for s := range 30 {
		r := Row{Sent: at(s), State: OnTime, Strength: float64(-80 - s)}
		if s%2 == 1 && s < 20 || s == 20 {
			r.State, r.Strength = Lost, math.NaN()
		}
		w.Row("a", "b", r)
	}
	got := ""
	for _, s := range w.Stretches() {
		got += fmt.Sprintf("%s %d/%d longest %d", s.Name, s.Lost, s.Sent, s.Longest)
		if s.Strength != nil {
			got += fmt.Sprintf(" %.1f", s.Strength.Mean)
		}
		got += "; "
	}
	if want := "start 5/10 longest 1 -84.0; tower 1 5/10 longest 1 -94.0; nothing 1/1 longest 1; tower 2 0/9 longest 0 -105.0; "; got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	var tr trend
	for i := range 40 {
		tr.add(-90 - float64(i)/2)
	}
	if tr.words() != "falling" {
		t.Error(tr)
	}
}

// Strength is judged by the interval of its mean, and the margin ends where loss
// begins.
func TestStrength(t *testing.T) {
	limit := func(v float64) Limits { return Limits{MinDBm: &v} }
	var s stats.Sample
	for i := range 100 {
		s.Add(-100 + float64(i%5) - 2)
	}
	d := Direction{Sent: 100, Received: 100, Strength: s.Spread()}
	if width := *d.Strength.High - *d.Strength.Low; math.Abs(width-2*2.2*math.Sqrt(200.0/99)/10) > 0.1 {
		t.Errorf("%+v is %v wide", d.Strength, width)
	}
	for dbm, want := range map[float64]verdict.Verdict{-101: verdict.Passed, -99: verdict.Failed, -100: verdict.Undecided} {
		if d.judge(limit(dbm), &outcomes{}, latched{}, false); d.Verdict != want {
			t.Errorf("against %v: %s, %v", dbm, d.Verdict, d.Why)
		}
	}
	for n := range 3 { // too few values have no interval of no width
		var few stats.Sample
		for range n {
			few.Add(-80)
		}
		d := Direction{Sent: 200, Received: max(1, n), Strength: few.Spread()}
		if d.judge(limit(-100), &outcomes{}, latched{}, false); d.Verdict != verdict.Undecided {
			t.Errorf("%d values: %s, %v", n, d.Verdict, d.Why)
		}
	}
	for _, c := range []struct {
		levels []Level
		want   string
	}{
		{nil, "<nil>"},
		{[]Level{{-120, 40, 20}, {-110, 40, 1}, {-100, 40, 0}}, "&{20 -120 true}"},
		{[]Level{{-121, 20, 10}, {-120, 20, 10}, {-110, 40, 1}}, "&{20.5 -120.5 true}"},
		{[]Level{{-120, 10, 9}, {-110, 40, 1}}, "&{2 -102 false}"},
	} {
		d.Levels = c.levels
		if got := fmt.Sprint(d.margin()); got != c.want {
			t.Errorf("%v: %s, want %s", c.levels, got, c.want)
		}
	}
	// Five of forty lost in one burst begin nothing.
	d.Levels, d.Effective = []Level{{-110, 40, 7}, {-100, 40, 0}}, 20
	if m := d.margin(); m.Seen {
		t.Errorf("a burst: %+v", m)
	}
	if d.Effective = 100; !d.margin().Seen {
		t.Error("seven of forty, by themselves")
	}
}

// A plan that the wire or the air cannot keep is told before the start, with the
// sum.
func TestWarnings(t *testing.T) {
	st := &bench.Station{Name: "a"}
	st.Setup.Speed = 9600
	for _, c := range []struct {
		plan Plan
		want []string
	}{
		{Plan{Count: 1, Every: 100 * time.Millisecond}, nil},
		{Plan{Count: 1, Every: 20 * time.Millisecond}, []string{"the wire of a: a frame takes 40.625ms (39 bytes at 9600 8N1), longer than the interval of 20ms"}},
		{Plan{Count: 1, Every: 50 * time.Millisecond, AirRate: 4800, Preamble: 10 * time.Millisecond}, []string{"the air: a frame takes 70ms (preamble of 10ms and 36 bytes at 4800 bit/s)"}},
		{Plan{Count: 1, Window: 2}, nil},
	} {
		test := &Test{Plan: c.plan, A: st}
		if err := test.Check(); err != nil {
			t.Fatal(err)
		}
		got := test.Warnings()
		if len(got) != len(c.want) {
			t.Errorf("%+v: %v", c.plan, got)
			continue
		}
		for i, want := range c.want {
			if !strings.Contains(got[i], want) {
				t.Errorf("%+v: %s, want %s", c.plan, got[i], want)
			}
		}
	}
}

// Ends whose speeds differ, and counts that cannot decide, are said before the start.
func TestWarnedOf(t *testing.T) {
	limit, none, p95 := 0.05, 0.0, 100.0
	end := func(speed int) *bench.Station {
		s := &bench.Station{Name: fmt.Sprint("at", speed)}
		s.Setup.Speed = speed
		return s
	}
	for _, c := range []struct {
		test Test
		want string // "" is no warning
	}{
		{Test{A: end(9600), B: end(9600)}, ""},
		{Test{A: end(9600), B: end(19200)}, "at9600 is at 9600 8N1 and at19200 at 19200 8N1"},
		{Test{A: end(9600), Plan: Plan{Count: 72, Limits: Limits{MaxLoss: &limit}}}, "with none lost it takes 73"},
		{Test{A: end(9600), Plan: Plan{Count: 73, Limits: Limits{MaxLoss: &limit, MaxP95MS: &p95}}}, ""},
		{Test{A: end(9600), Plan: Plan{Count: 60, Limits: Limits{MaxP95MS: &p95}}}, "cannot show where the 95th percentile is"},
		{Test{A: end(9600), Plan: Plan{Count: 1e6, Limits: Limits{MaxLoss: &none}}}, "no number of frames"},
		{Test{A: end(9600), Plan: Plan{Count: 200, Sure: true, Limits: Limits{MaxLoss: &limit}}}, "looking at each frame"},
	} {
		if got := strings.Join(c.test.Warnings(), "; "); !strings.Contains(got, c.want) || c.want == "" && got != "" {
			t.Errorf("%+v: %q, want %q", c.test.Plan, got, c.want)
		}
	}
}

// What cannot be tested is refused before anything is sent, in words.
func TestRefusedPlans(t *testing.T) {
	seven := uart.Frame{DataBits: 7, Parity: uart.Even}
	st := func() *bench.Station {
		s := &bench.Station{Name: "a", Dial: func() (port.Port, error) { t.Error("the port was opened"); return nil, nil }}
		s.Setup.Frame = &seven
		return s
	}
	least := -100.0
	for name, c := range map[string]struct {
		err  error
		want string
	}{
		"a sure test of strength alone": {(&Test{A: st(), Plan: Plan{Count: 1, Every: 1, Sure: true, Limits: Limits{MinDBm: &least}}}).Check(), "no limit to be sure of"},
		"a round trip both ways":        {(&Test{A: st(), Plan: Plan{Count: 1, Every: 1, Both: true}}).Check(), "goes both ways as it is"},
		"a size too great":              {(&Test{A: st(), Plan: Plan{Count: 1, Every: 1, Size: 9999}}).Check(), "too long: the most is 4096"},
		"a list with a size too small":  {(&Test{A: st(), Plan: Plan{Count: 1, Every: 1, Sizes: []int{24, 8}}}).Check(), "8 bytes is too short"},
		"sizes from a checkpoint":       {(&Test{A: st(), Plan: Plan{Count: 1, Every: 1, Sizes: []int{24, 48}}, Resume: &Checkpoint{}}).Check(), "cannot go on from a checkpoint"},
		"answers on seven bits":         {(&Answer{Station: st()}).Do(t.Context()), "needs 8 data bits"},
	} {
		if c.err == nil || !strings.Contains(c.err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, c.err, c.want)
		}
	}
}

// A link test that borrows open ports leaves nothing of its frames behind.
func TestBorrowedPorts(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, aModule := port.Pipe("a", uart.DefaultLine)
		b, bModule := port.Pipe("b", uart.DefaultLine)
		go io.Copy(bModule, aModule)
		da, db := dialog.Open(a, dialog.Config{}), dialog.Open(b, dialog.Config{})
		test := &Test{Plan: Plan{Count: 20, Every: 10 * time.Millisecond, Deadline: time.Second}, Sleep: time.Sleep,
			A: &bench.Station{Name: "a"}, B: &bench.Station{Name: "b"}, Dialogs: map[string]*dialog.Dialog{"a": da, "b": db}}
		if err := test.Check(); err != nil {
			t.Fatal(err)
		}
		if sum, err := test.Do(t.Context()); err != nil || sum.Directions[0].Received != 20 {
			t.Fatalf("%+v, %v", sum, err)
		}
		if _, err := bModule.Write([]byte("READY\r\n")); err != nil {
			t.Fatal(err)
		}
		h, err := db.Hear(t.Context(), dialog.Wait{Form: pattern.NextLine, Pattern: pattern.Must("{word}"), Within: time.Second})
		if err != nil || h.Text != "READY" {
			t.Errorf("heard %q, %v", h.Text, err)
		}
		for _, d := range []*dialog.Dialog{da, db} {
			if err := d.Close(); err != nil {
				t.Error(err)
			}
		}
		aModule.Close()
		bModule.Close()
	})
}

// Minutes and levels count every frame once, whatever the order of arrival.
func TestGathered(t *testing.T) {
	ta := newTally(0, time.Second, 0, nil)
	at := time.Unix(1000, 0)
	for i := range 300 {
		sent := at.Add(time.Duration(i) * time.Second)
		n := ta.sent(sent, sent)
		if i%10 != 3 {
			ta.arrived(uint32(n), sent.Add(20*time.Millisecond), 0, float64(-80-i/100), 9, 24)
		}
	}
	ta.close(time.Now().Add(time.Hour), false)
	d := ta.direction("a", "b")
	if fmt.Sprint(d.Minutes) != "[{0 60 6} {1 60 6} {2 60 6} {3 60 6} {4 60 6}]" {
		t.Error(d.Minutes)
	}
	if fmt.Sprint(d.Levels) != "[{-82 100 10} {-81 100 10} {-80 100 10}]" {
		t.Error(d.Levels)
	}
	bins, err := d.Latencies()
	if err != nil || total(bins) != 270 || math.Abs(bins[0].MS-20) > 0.01 {
		t.Errorf("%v, %v", bins, err)
	}
}

// total is how many values are in all bins.
func total(bins []stats.Bin) (n int) {
	for _, b := range bins {
		n += b.Count
	}
	return n
}
