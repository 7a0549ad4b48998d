package report

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/record"
)

// event is an event of a record, ms after its beginning.
func event(ms float64, kind record.Kind, port, text string, data any) record.Event {
	e := record.Event{Time: time.Unix(0, 0).Add(time.Duration(ms * float64(time.Millisecond))), Kind: kind, Port: port, Text: text}
	if data != nil {
		e.Data, _ = json.Marshal(data)
	}
	return e
}

// Of a port without lines, what came is cut where the line was silent, and stands in the
// order in which it began.
func TestSilences(t *testing.T) {
	opened := record.Opened{Dialect: phrasebook.Bytes}
	in := func(ms float64, text string) record.Event { return event(ms, record.In, "g", text, nil) }
	for _, c := range []struct {
		name   string
		opened record.Opened
		events []record.Event
		want   string
	}{
		{"joined", opened, []record.Event{in(1, "A"), in(20, "B"), in(39, "C")}, "open ; packets cut at silences of 20ms|heard 41 42 43  ABC"},
		{"cut", opened, []record.Event{in(1, "A"), in(21, "B\r\nC"), in(30, "D")}, "open ; packets cut at silences of 20ms|heard 41  A|heard 42 0D 0A 43 44  B..CD"},
		{"what is said cuts", opened, []record.Event{in(1, "A"), event(2, record.Out, "g", "x", nil), in(3, "B")}, "open ; packets cut at silences of 20ms|heard 41  A|said 78  x|heard 42  B"},
		{"a statement does not", opened, []record.Event{in(1, "A"), event(2, record.Note, "", "n", nil), in(3, "B"), event(4, record.Note, "", "o", nil)}, "open ; packets cut at silences of 20ms|heard 41 42  AB|note n|note o"},
		{"the adapter joins", record.Opened{Dialect: phrasebook.Bytes, HoldBackMS: 40}, []record.Event{in(1, "A"), in(40, "B"), in(81, "C")}, "open ; packets cut at silences of 40ms: those that are nearer are joined by the adapter|heard 41 42  AB|heard 43  C"},
		{"a gap of its own", record.Opened{Dialect: phrasebook.Bytes, Gap: phrasebook.Gap(3 * time.Millisecond)}, []record.Event{in(1, "A"), in(4, "B")}, "open ; packets cut at silences of 3ms|heard 41  A|heard 42  B"},
		{"lines", record.Opened{}, []record.Event{in(1, "A"), in(50, "B\r\n")}, "open |heard AB"},
		{"lines from here on", opened, []record.Event{in(1, "A"), event(30, record.Changed, "g", "dialect lines", record.ChangedLine{Dialect: phrasebook.Lines}), in(31, "wind"), in(90, " 3\r\n")}, "open ; packets cut at silences of 20ms|heard 41  A|changed dialect lines|heard wind 3"},
		{"bytes from here on", record.Opened{}, []record.Event{event(30, record.Changed, "g", "dialect bytes", record.ChangedLine{Dialect: phrasebook.Bytes}), in(31, "w\r\n"), in(90, "3")}, "open |changed dialect bytes|heard 77 0D 0A  w..|heard 33  3"},
		{"another port in between", opened, []record.Event{in(1, "A"), event(2, record.In, "h", "line\r\n", nil), in(3, "B")}, "open ; packets cut at silences of 20ms|heard 41 42  AB|heard line"},
	} {
		var got []string
		d := newDialogue(func(l dialogueLine) error {
			text := strings.TrimPrefix(l.Text, " ()")
			got = append(got, l.Word+" "+strings.TrimPrefix(text, "<nil> (<nil>)"))
			return nil
		})
		for _, e := range append([]record.Event{event(0, record.Open, "g", "", c.opened)}, c.events...) {
			if err := d.take(e); err != nil {
				t.Fatal(err)
			}
		}
		if err := d.flush(); err != nil || strings.Join(got, "|") != c.want {
			t.Errorf("%s: %v\ngot  %s\nwant %s", c.name, err, strings.Join(got, "|"), c.want)
		}
	}
}

// Whatever comes when, at ports of both kinds, no byte is lost nor told twice, and no line
// before one that began earlier.
func TestSilencesLoseNothing(t *testing.T) {
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 7))
		came, told := map[string]int{}, map[string]int{}
		var last time.Time
		d := newDialogue(func(l dialogueLine) error {
			if l.Word == "heard" || l.Word == "said" {
				told[l.Port] += strings.Count(l.Text, "70")
			}
			if l.Port != "l" && l.Time.Before(last) {
				return fmt.Errorf("%v after %v", l.Time, last)
			}
			last = l.Time
			return nil
		})
		ms := 0.0
		for _, name := range []string{"g", "h"} {
			if err := d.take(event(0, record.Open, name, "", record.Opened{Dialect: phrasebook.Bytes})); err != nil {
				t.Fatal(err)
			}
		}
		for range 3000 {
			ms += rng.ExpFloat64() * 8
			name := string("gh"[rng.IntN(2)])
			kind := []record.Kind{record.In, record.In, record.In, record.Out, record.Note}[rng.IntN(5)]
			n := 1 + rng.IntN(3)
			if kind != record.Note {
				came[name] += n
			}
			if err := d.take(event(ms, kind, name, strings.Repeat("p", n), nil)); err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
		}
		if err := d.flush(); err != nil || told["g"] != came["g"] || told["h"] != came["h"] {
			t.Fatalf("seed %d: %v, came %v, told %v", seed, err, came, told)
		}
	}
}
