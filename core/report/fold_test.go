package report

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"uparrot/core/verdict"
)

// However what is heard falls between the rounds of a watch, and however long one is, what a page
// shows and what it says that there is more of is all that was heard.
func TestFoldedTellsAll(t *testing.T) {
	for seed := range uint64(300) {
		dice := rand.New(rand.NewPCG(seed, 35))
		shown, told := 0, 0
		f := &folded{}
		f.emit = func(l dialogueLine) error {
			var n int
			var what string
			switch c, _ := fmt.Sscanf(l.Text, "%d %s", &n, &what); {
			case l.Word == "heard":
				shown++
			case l.Word == "folded" && c == 2:
				told += n
			default:
				t.Fatalf("%+v is emitted", l)
			}
			return nil
		}
		put := func(l dialogueLine) {
			if err := f.line(l); err != nil {
				t.Fatal(err)
			}
		}
		heard, counted := 0, 0
		hear := func(n int) {
			for range n {
				put(dialogueLine{Word: "heard"})
			}
			heard += n
		}
		hear(dice.IntN(3))
		rounds := 8 + dice.IntN(40)
		for k := range rounds {
			// A reading may be counted in a later round than the one in which its line came.
			n := dice.IntN(heard - counted + 1)
			counted += n
			l := dialogueLine{Word: roundWord, Round: k + 1, Readings: n}
			if dice.IntN(9) == 0 {
				l.Verdict = verdict.Failed
			}
			put(l)
			switch dice.IntN(40) {
			case 0:
				hear(mostHeld + dice.IntN(50))
			case 1: // many of them are in no round
			default:
				hear(1 + dice.IntN(2))
			}
		}
		if put(dialogueLine{Word: roundWord, Readings: heard - counted}); dice.IntN(2) == 0 {
			hear(2)
		}
		if heard != shown+told && counted > 0 {
			t.Errorf("seed %d: of %d lines %d are shown and %d told", seed, heard, shown, told)
		}
	}
}
