package pattern

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
)

// What Numbers finds is what Match finds, of whatever numbers and lines.
func TestNumbers(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	var into []float64
	for range 20_000 {
		a := []string{fmt.Sprint(rng.IntN(1e6) - 5e5), fmt.Sprintf("%.*f", rng.IntN(12), rng.NormFloat64()*1e4), fmt.Sprintf("%g", rng.NormFloat64()*math.Pow(10, float64(rng.IntN(40)-20))), "", "-", "+7", "1.2.3", ".5", "12345678901234567890", "NaN", "-0"}[rng.IntN(11)]
		line := []byte([]string{"m6 1 v=" + a, "m6 1 v=" + a + " w=2", "m v=1 v=" + a, " v=" + a + " w=" + a}[rng.IntN(4)])
		for _, text := range []string{"m{} {} v={v:num}", "{} v={v:num} w={w:num}", "...v={v:num}", "m{}{x:int} v={v:num}...", "{}={v:num}{}"} {
			p := Must(text)
			caps, ok := p.Match(line)
			got, found := p.Numbers(line, into)
			if ok != found {
				t.Fatalf("%s: %q matches %v, and as numbers %v", text, line, ok, found)
			}
			for i, c := range caps {
				want, isFloat := c.Value.(float64)
				if n, isInt := c.Value.(int); isInt {
					want, isFloat = float64(n), true
				}
				if !isFloat || math.Float64bits(got[i]) != math.Float64bits(want) && !(want == 0 && got[i] == 0) {
					t.Fatalf("%s: %q gives %v, and %v as a number", text, line, c.Value, got[i])
				}
			}
		}
	}
}

// Where the quick way through a pattern finds something, it is what the thorough one finds.
func TestEager(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 9))
	alphabet := "ab 1=,"
	pieces := []string{"a", "b", "=", ",", " ", "{}", "...", "{x:word}", "{y}", "{n:int}"}
	for range 30_000 {
		text := ""
		used := map[string]bool{}
		for range 1 + rng.IntN(6) {
			piece := pieces[rng.IntN(len(pieces))]
			if used[piece] && len(piece) > 1 {
				continue
			}
			used[piece] = true
			text += piece
		}
		p, err := Compile(text)
		if err != nil {
			continue
		}
		line := make([]byte, rng.IntN(12))
		for i := range line {
			line[i] = alphabet[rng.IntN(len(alphabet))]
		}
		quick, ok := p.eager(line, nil)
		if !ok {
			continue
		}
		thorough, found := p.tabled(line, nil)
		if !found || fmt.Sprint(quick) != fmt.Sprint(thorough) {
			t.Fatalf("%q on %q: %v, and with the table %v %v", text, line, quick, thorough, found)
		}
	}
}
